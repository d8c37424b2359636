#include <fcntl.h>
#include <sys/stat.h>

#include "base/path.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/demo_world.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

Result<std::size_t> make_world(const std::string& out) {
  LocalStore disk;
  BAYSWAP_TRY(const auto there, disk.stat(out));
  if (there) {
    BAYSWAP_TRY(const auto entries, disk.list(out));
    if (!entries.empty())
      return fail(ErrorCode::unsafe, fmt::format("{} is not empty", out), "name an empty or a new folder");
  }
  const auto files = demo_world();
  for (const DemoFile& file : files) {
    const std::string path = join_path(out, file.path);
    BAYSWAP_CHECK(disk.create(path, file.bytes.view()));
    const timespec time{file.modified, 0};
    const timespec times[2] = {time, time};
    utimensat(AT_FDCWD, path.c_str(), times, 0);  // a file system without times still gives a good world
  }
  return files.size();
}

}  // namespace

int demo_command(const Globals& globals, const std::string& out) {
  const auto count = make_world(out);
  if (!count) return report(count.error());
  const std::string home = LocalStore().absolute_path(join_path(out, "home"));
  if (globals.json) {
    print_json({{"out", out}, {"files", *count}, {"home", home}});
    return exit_done;
  }
  say(globals.quiet, fmt::format("Made the lending arcade of Pell Harbour in {} ({} files). Try:\n"
                                 "  export BAYSWAP_HOME='{}'\n"
                                 "  bayswap bay show quay-tv\n"
                                 "  bayswap carry 'Lantern Skiff' --from bench --to quay-tv",
                                 out, *count, home));
  return exit_done;
}

}  // namespace bayswap::cli
