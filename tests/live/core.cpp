#include "live/core.hpp"

#include <dlfcn.h>

#include <algorithm>
#include <cstdarg>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <map>

#include "support/folder.hpp"

namespace bayswap::test {
namespace {

// The part of the interface that is needed here: names, numbers and structures are the interface's own.
struct GameInfo {
  const char* path;
  const void* data;
  std::size_t size;
  const char* meta;
};
struct LogInterface {
  void (*log)(int level, const char* format, ...);
};
struct Variable {
  const char* key;
  const char* value;
};

enum : unsigned {
  ask_can_duplicate = 3,
  ask_system_folder = 9,
  say_pixel_format = 10,
  ask_variable = 15,
  say_variables = 16,
  ask_variables_changed = 17,
  ask_log = 27,
  ask_save_folder = 31,
};

void no_log(int /*level*/, const char* /*format*/, ...) {}

std::string scratch_folder;  // where cores may look for boot programs, in vain

// Of "what it is; first|second|third" the first.
std::map<std::string, std::string> variables;
void choose_defaults(const Variable* row) {
  for (; row->key != nullptr; ++row) {
    const std::string_view text(row->value);
    const auto from = std::min(text.find(';') + 2, text.size());
    variables[row->key] = text.substr(from, text.find('|', from) - from);
  }
}

bool environment(unsigned command, void* data) {
  switch (command) {
    case ask_can_duplicate:
      *static_cast<bool*>(data) = true;
      return true;
    case ask_system_folder:
    case ask_save_folder:
      *static_cast<const char**>(data) = scratch_folder.c_str();
      return true;
    case say_pixel_format:
      return true;
    case say_variables:
      choose_defaults(static_cast<const Variable*>(data));
      return true;
    case ask_variable: {
      auto* variable = static_cast<Variable*>(data);
      const auto known = variables.find(variable->key);
      variable->value = known == variables.end() ? nullptr : known->second.c_str();
      return known != variables.end();
    }
    case ask_variables_changed:
      *static_cast<bool*>(data) = false;
      return true;
    case ask_log:
      static_cast<LogInterface*>(data)->log = no_log;
      return true;
    default:
      return false;
  }
}
void video(const void* /*data*/, unsigned /*width*/, unsigned /*height*/, std::size_t /*pitch*/) {}
void sound(std::int16_t /*left*/, std::int16_t /*right*/) {}
std::size_t sounds(const std::int16_t* /*data*/, std::size_t frames) {
  return frames;
}
void poll() {}
std::int16_t input(unsigned /*port*/, unsigned /*device*/, unsigned /*index*/, unsigned /*id*/) {
  return 0;
}

}  // namespace

struct Core::Api {
  void* library = nullptr;
  Folder folder;
  std::string path;
  Blob rom;
  bool running = false;

  template <class Function>
  Function* get(const char* name) const {
    return reinterpret_cast<Function*>(dlsym(library, name));
  }
  template <class... Words>
  void call(const char* name, Words... words) const {
    get<void(Words...)>(name)(words...);
  }
};

std::optional<std::string> Core::find(const std::string& name) {
  std::error_code ignored;
  for (const auto& folder : std::filesystem::directory_iterator("/usr/lib", ignored)) {
    const auto path = folder.path() / "libretro" / (name + "_libretro.so");
    if (std::filesystem::exists(path, ignored)) return path.string();
  }
  return std::nullopt;
}

Core::Core(const std::string& library, const Blob& rom, const std::string& rom_name) : api_(new Api) {
  scratch_folder = api_->folder.path();
  api_->library = dlopen(library.c_str(), RTLD_NOW | RTLD_LOCAL);
  if (api_->library == nullptr) return;
  api_->rom = rom;
  // Some cores read the file themselves.
  api_->path = api_->folder / rom_name;
  std::ofstream(api_->path, std::ios::binary)
      .write(reinterpret_cast<const char*>(rom.data()), static_cast<std::streamsize>(rom.size()));
  api_->call("retro_set_environment", &environment);
  api_->call("retro_init");
  api_->call("retro_set_video_refresh", &video);
  api_->call("retro_set_audio_sample", &sound);
  api_->call("retro_set_audio_sample_batch", &sounds);
  api_->call("retro_set_input_poll", &poll);
  api_->call("retro_set_input_state", &input);
  const GameInfo game{api_->path.c_str(), api_->rom.data(), api_->rom.size(), nullptr};
  api_->running = api_->get<bool(const GameInfo*)>("retro_load_game")(&game);
}

Core::~Core() {
  if (api_->library == nullptr) return;
  if (api_->running) api_->call("retro_unload_game");
  api_->call("retro_deinit");
  dlclose(api_->library);
}

bool Core::is_running() const {
  return api_->running;
}

Blob Core::memory(CoreMemory which) const {
  const auto* bytes = static_cast<const Byte*>(
      api_->get<void*(unsigned)>("retro_get_memory_data")(static_cast<unsigned>(which)));
  const std::size_t size =
      api_->get<std::size_t(unsigned)>("retro_get_memory_size")(static_cast<unsigned>(which));
  return bytes == nullptr ? Blob() : Blob::copy_of({bytes, size});
}

bool Core::load(CoreMemory which, const Blob& file) {
  auto* bytes =
      static_cast<Byte*>(api_->get<void*(unsigned)>("retro_get_memory_data")(static_cast<unsigned>(which)));
  const std::size_t size =
      api_->get<std::size_t(unsigned)>("retro_get_memory_size")(static_cast<unsigned>(which));
  if (bytes == nullptr || size < file.size()) return false;
  std::ranges::copy(file.view(), bytes);
  return true;
}

void Core::run(int frames) {
  for (int i = 0; i < frames; ++i) api_->call("retro_run");
}

void Core::reset() {
  api_->call("retro_reset");
}

Blob Core::state() const {
  Buffer bytes(api_->get<std::size_t()>("retro_serialize_size")());
  std::ranges::fill(bytes.bytes(), Byte{0});
  const bool done =
      api_->get<bool(void*, std::size_t)>("retro_serialize")(bytes.bytes().data(), bytes.bytes().size());
  return done ? std::move(bytes).freeze() : Blob();
}

bool Core::load_state(const Blob& state) {
  return api_->get<bool(const void*, std::size_t)>("retro_unserialize")(state.data(), state.size());
}

}  // namespace bayswap::test
