#include "c/handles.hpp"

#include <fmt/format.h>

#include <cstdlib>
#include <cstring>

#include "answer/answers.hpp"

namespace bayswap::c {
namespace {

std::string& last_error() {
  static thread_local std::string text = "{}";
  return text;
}

bsw_status status_of(ErrorCode code) {
  switch (code) {
    case ErrorCode::not_recognised:
      return BSW_NOT_RECOGNISED;
    case ErrorCode::damaged:
      return BSW_DAMAGED;
    case ErrorCode::does_not_fit:
      return BSW_DOES_NOT_FIT;
    case ErrorCode::wrong_region:
      return BSW_WRONG_REGION;
    case ErrorCode::unsafe:
      return BSW_UNSAFE;
    case ErrorCode::busy:
      return BSW_BUSY;
    case ErrorCode::not_found:
      return BSW_NOT_FOUND;
    case ErrorCode::io:
      return BSW_IO;
    case ErrorCode::bad_usage:
      return BSW_BAD_USAGE;
    case ErrorCode::unsupported:
      return BSW_UNSUPPORTED;
    case ErrorCode::cancelled:
      return BSW_CANCELLED;
  }
  return BSW_INTERNAL;
}

void keep_plain_error(std::string_view code, std::string_view message, std::string_view hint) noexcept {
  try {
    last_error() = Json{{"code", code},
                        {"message", message},
                        {"hint", hint},
                        {"remedy", {{"kind", "none"}, {"values", Json::array()}}}}
                       .line();
  } catch (...) {
    last_error().clear();
  }
}

}  // namespace

Result<std::unique_ptr<HomeUse>> HomeUse::begin(HomeState& home) {
  if (home.user.load() == std::this_thread::get_id())
    return fail(ErrorCode::busy, "this thread is within another call of the same home folder",
                "let its callback return first");
  return std::unique_ptr<HomeUse>(new HomeUse(home));
}
HomeUse::~HomeUse() {
  home_.user = std::thread::id();
}

bsw_status ended_with(const Error& error) {
  last_error() = error_json(error).line();
  return status_of(error.code);
}
bsw_status ended_out_of_memory() {
  keep_plain_error("no_memory", "there is not enough memory", "close other programs, or pass less at once");
  return BSW_NO_MEMORY;
}
bsw_status ended_with_mistake(const char* what) {
  keep_plain_error("internal", what, "this is a mistake of Bay Swap; nothing was left half written");
  return BSW_INTERNAL;
}

Result<void> needed(std::initializer_list<const void*> arguments) {
  for (const void* argument : arguments)
    if (argument == nullptr)
      return fail(ErrorCode::bad_usage, "an argument that is needed is NULL", "bayswap.h says which may be");
  return {};
}

Result<Blob> bytes_from(const uint8_t* data, std::size_t size) {
  if (data == nullptr && size > 0)
    return fail(ErrorCode::bad_usage, "the bytes are NULL, but their size is not 0", "pass both");
  return size == 0 ? Blob() : Blob::copy_of(ByteView(data, size));
}

char* text_out(const Json& json) {
  const std::string text = json.text();
  auto* out = static_cast<char*>(std::malloc(text.size() + 1));
  if (out == nullptr) throw std::bad_alloc();
  std::memcpy(out, text.c_str(), text.size() + 1);
  return out;
}

bsw_bytes bytes_out(Blob bytes) {
  auto owner = std::make_unique<Blob>(std::move(bytes));
  const ByteView view = owner->view();
  return {view.data(), view.size(), owner.release()};
}

Progress progress_from(bsw_event event, void* user) {
  if (event == nullptr) return {};
  return [event, user](const ProgressEvent& at) {
    const Json json{{"event", to_text(at.what)}, {"label", at.label}, {"done", at.done}, {"total", at.total}};
    return event(user, json.line().c_str()) != 0;
  };
}

}  // namespace bayswap::c

extern "C" {

uint32_t bsw_abi(void) {
  return BSW_ABI;
}
const char* bsw_version(void) {
  return BAYSWAP_VERSION;
}
const char* bsw_error(void) {
  return bayswap::c::last_error().empty() ? "{}" : bayswap::c::last_error().c_str();
}
void bsw_text_free(char* text) {
  std::free(text);
}
void bsw_bytes_free(bsw_bytes* bytes) {
  if (bytes == nullptr) return;
  delete static_cast<bayswap::Blob*>(bytes->owner);
  *bytes = {nullptr, 0, nullptr};
}

}  // extern "C"
