// Changing bay files: removed, renamed, edited. What was there before stays in a folder beside them.
#include <bayswap/bay.hpp>

#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "cli/bay_files.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

ByteView bytes_of(const std::string& text) {
  return {reinterpret_cast<const Byte*>(text.data()), text.size()};
}

Result<std::string> bay_file(const Home& home, const std::string& name) {
  BAYSWAP_TRY(const Bay bay, find_bay(home, name));
  return bay.origin;
}

// Bays that can't be read have a file, too.
Result<std::string> any_bay_file(const Home& home, const std::string& name) {
  LocalStore disk;
  const std::string path = join_path(home.bays, name + ".toml");
  if (is_bay_name(name)) {
    BAYSWAP_TRY(const auto info, disk.stat(path));
    if (info) return path;
  }
  return bay_file(home, name);
}

Result<int> remove(const Globals& globals, const BayFileOptions& options) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(const std::string path, any_bay_file(home, options.name));
  if (!options.yes) {
    if (!has_terminal())
      return fail(ErrorCode::unsafe, "nothing was changed: there is no terminal to ask on",
                  "pass --yes to go ahead");
    if (!ask(fmt::format("Remove the bay {}? Its saves stay where they are.", options.name))) {
      say(false, "Nothing was changed.");
      return exit_refused;
    }
  }
  BAYSWAP_TRY(const std::string kept, keep_old_bay_file(home, path));
  LocalStore disk;
  BAYSWAP_CHECK(disk.remove(path));
  if (globals.json)
    print_json({{"removed", options.name}, {"kept", kept}});
  else
    say(globals.quiet,
        fmt::format("Removed the bay {}. Its saves and the logbook are as they were; its file is kept "
                    "as {}.",
                    options.name, kept));
  return exit_done;
}

Result<int> rename(const Globals& globals, const BayFileOptions& options) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(Bay bay, find_bay(home, options.name));
  if (!is_bay_name(options.to))
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a name for a bay", printable(options.to)),
                "use lower-case letters, digits and dashes");
  LocalStore disk;
  const std::string path = join_path(home.bays, options.to + ".toml");
  if (normalized(path) == normalized(bay.origin))
    return fail(ErrorCode::bad_usage, fmt::format("the bay is called {} already", options.to),
                "choose another name");
  BAYSWAP_TRY(const Blob old, disk.read(bay.origin));
  // The logbook and what was remembered know the bay by its older names.
  bay.formerly.push_back(bay.name);
  std::erase(bay.formerly, options.to);
  std::string text(old.view().begin(), old.view().end());
  text = with_former_names(text, bay.formerly);
  BAYSWAP_CHECK(parse_bay(text, options.to, path, home.bays));
  InterruptsHeld held;
  auto written = disk.create(path, bytes_of(text));
  // One that was cut off after the first half goes on.
  const auto there = disk.read_if_there(path, max_toml_size_bytes);
  if (!written && there && *there && std::ranges::equal((*there)->view(), bytes_of(text))) written = {};
  if (!written && written.error().code == ErrorCode::unsafe)
    return fail(ErrorCode::unsafe, fmt::format("there is a bay called {} already ({})", options.to, path),
                "choose another name");
  BAYSWAP_CHECK(written);
  BAYSWAP_CHECK(disk.remove(bay.origin));
  if (globals.json)
    print_json({{"name", options.to}, {"formerly", bay.formerly}, {"file", path}});
  else
    say(globals.quiet,
        fmt::format("The bay {} is now called {}. Entries of the logbook under the old name are found "
                    "as before.",
                    bay.name, options.to));
  return exit_done;
}

// The editor's words may be several: "code --wait". The file's name goes in as a parameter, not as text.
int run_editor(const std::string& editor, const std::string& file) {
  const pid_t child = fork();
  if (child < 0) return -1;
  if (child == 0) {
    const std::string script = editor + " \"$1\"";
    execl("/bin/sh", "sh", "-c", script.c_str(), "sh", file.c_str(), static_cast<char*>(nullptr));
    _exit(127);
  }
  int status = 0;
  while (waitpid(child, &status, 0) < 0)
    if (errno != EINTR) return -1;
  return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

// A copy that is removed when nobody needs it any more.
class EditedCopy {
 public:
  explicit EditedCopy(std::string path) : path_(std::move(path)) {}
  ~EditedCopy() {
    if (!stays_) (void)LocalStore().remove(path_);
  }
  EditedCopy(const EditedCopy&) = delete;
  EditedCopy& operator=(const EditedCopy&) = delete;
  [[nodiscard]] const std::string& path() const { return path_; }
  void stay() { stays_ = true; }

 private:
  std::string path_;
  bool stays_ = false;
};

Result<int> edit(const Globals& globals, const BayFileOptions& options) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(const std::string path, any_bay_file(home, options.name));
  const char* editor = std::getenv("VISUAL");
  if (editor == nullptr || *editor == '\0') editor = std::getenv("EDITOR");
  if (editor == nullptr || *editor == '\0')
    return fail(ErrorCode::bad_usage, "neither VISUAL nor EDITOR is set",
                fmt::format("set one, e.g. EDITOR=nano, or edit {} yourself", path));
  LocalStore disk;
  BAYSWAP_TRY(const Blob before, disk.read(path));
  EditedCopy copy(join_path(folder_of(path), fmt::format(".edited-{}.toml.txt", stem_of(path))));
  BAYSWAP_CHECK(disk.replace(copy.path(), before.view()));
  for (;;) {
    if (run_editor(editor, copy.path()) != 0)
      return fail(ErrorCode::io,
                  fmt::format("the editor '{}' could not be run, or failed", printable(editor)),
                  "nothing was changed; set EDITOR to another one");
    BAYSWAP_TRY(const Blob after, disk.read(copy.path()));
    if (after == before) {
      say(globals.quiet, "Nothing was changed.");
      return exit_done;
    }
    const auto parsed = parse_bay({reinterpret_cast<const char*>(after.view().data()), after.size()},
                                  std::string(stem_of(path)), path, folder_of(path));
    if (!parsed) {
      if (has_terminal() && !globals.json) {
        report(parsed.error());
        if (ask("Edit it again?")) continue;
      }
      copy.stay();
      Error error = parsed.error();
      error.message += "; the bay is as it was";
      error.hint = fmt::format("what you wrote is kept as {}", copy.path());
      return tl::unexpected(std::move(error));
    }
    BAYSWAP_TRY(const std::string kept, keep_old_bay_file(home, path));
    BAYSWAP_CHECK(disk.replace(path, after.view()));
    if (globals.json)
      print_json({{"name", stem_of(path)}, {"file", path}, {"kept", kept}});
    else
      say(globals.quiet, fmt::format("Wrote {}; the old one is kept as {}.", path, kept));
    return exit_done;
  }
}

int finish(const Result<int>& code) {
  return exit_code_of(code);
}

}  // namespace

void make_bays_folder(const Home& home) {
  namespace fs = std::filesystem;
  std::error_code failed;
  fs::create_directories(home.bays, failed);
  fs::permissions(home.bays, fs::perms::group_all | fs::perms::others_all, fs::perm_options::remove, failed);
}

Result<std::string> keep_old_bay_file(const Home& home, const std::string& path) {
  LocalStore disk;
  BAYSWAP_TRY(const Blob old, disk.read(path));
  constexpr int max_kept = 100000;
  for (int number = 1; number < max_kept; ++number) {
    const std::string kept = join_path(home.bays, fmt::format("old/{}-{}.toml", stem_of(path), number));
    BAYSWAP_TRY(const auto info, disk.stat(kept));
    if (info) continue;
    BAYSWAP_CHECK(disk.create(kept, old.view()));
    return kept;
  }
  return fail(ErrorCode::unsafe, fmt::format("{} is full of old bay files", join_path(home.bays, "old")),
              "remove some");
}

std::string with_former_names(const std::string& toml, const std::vector<std::string>& names) {
  std::string line = "formerly = [";
  for (const std::string& name : names) line += (line.ends_with('[') ? "\"" : ", \"") + name + "\"";
  line += "]\n";
  std::string out = line;
  for (std::size_t at = 0; at < toml.size();) {
    const std::size_t end = std::min(toml.find('\n', at), toml.size() - 1) + 1;
    const std::string one = toml.substr(at, end - at);
    if (!one.starts_with("formerly")) out += one;
    at = end;
  }
  return out;
}

int bay_remove_command(const Globals& globals, const BayFileOptions& options) {
  return finish(remove(globals, options));
}
int bay_rename_command(const Globals& globals, const BayFileOptions& options) {
  return finish(rename(globals, options));
}
int bay_edit_command(const Globals& globals, const BayFileOptions& options) {
  return finish(edit(globals, options));
}

}  // namespace bayswap::cli
