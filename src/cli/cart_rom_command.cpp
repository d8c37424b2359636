// The ROM of a cartridge, straight to a file: it can be larger than one wants in memory.
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <bayswap/inspect.hpp>

#include <cerrno>
#include <cstring>

#include <filesystem>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/cart_job.hpp"

namespace bayswap::cli {
namespace {

// A file that is not there before it is whole: written beside its place, then moved.
class PartFile {
 public:
  PartFile() = default;
  PartFile(const PartFile&) = delete;
  PartFile& operator=(const PartFile&) = delete;
  ~PartFile() {
    if (fd_ < 0) return;
    close(fd_);
    unlink(path_.c_str());
  }

  Result<void> open(const std::string& target) {
    target_ = target;
    path_ = fmt::format("{}.{}.part", target, getpid());
    fd_ = ::open(path_.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
    if (fd_ < 0) return failed("can't be made");
    return {};
  }
  Result<void> write(std::uint64_t at, ByteView bytes) {
    while (!bytes.empty()) {
      const ssize_t done = pwrite(fd_, bytes.data(), bytes.size(), static_cast<off_t>(at));
      if (done < 0 && errno == EINTR) continue;
      if (done <= 0) return failed("can't be written");
      at += static_cast<std::uint64_t>(done);
      bytes = bytes.subspan(static_cast<std::size_t>(done));
    }
    return {};
  }
  Result<Blob> read(std::uint64_t at, std::size_t count) const {
    Buffer bytes(count);
    std::size_t done = 0;
    while (done < count) {
      const ssize_t came =
          pread(fd_, bytes.bytes().data() + done, count - done, static_cast<off_t>(at + done));
      if (came < 0 && errno == EINTR) continue;
      if (came < 0) return failed("can't be read");
      if (came == 0) break;
      done += static_cast<std::size_t>(came);
    }
    return std::move(bytes).freeze().slice(0, done);
  }
  /// Takes its place, where nothing is.
  Result<void> place() {
    if (fsync(fd_) != 0) return failed("can't be written");
    if (link(path_.c_str(), target_.c_str()) != 0) {
      // Some file systems have no links.
      struct stat there {};
      if (errno == EEXIST || stat(target_.c_str(), &there) == 0 ||
          ::rename(path_.c_str(), target_.c_str()) != 0)
        return failed("can't be put in place");
      close(std::exchange(fd_, -1));
    }
    const int folder = ::open(folder_of(target_).c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder >= 0) {
      (void)fsync(folder);
      close(folder);
    }
    return {};
  }

 private:
  [[nodiscard]] tl::unexpected<Error> failed(std::string_view what) const {
    return fail(ErrorCode::io, fmt::format("{} {}: {}", printable(target_), what, std::strerror(errno)),
                "is there room, and may you write there?");
  }
  std::string target_;
  std::string path_;
  int fd_ = -1;
};

class RomDump {
 public:
  RomDump(const Globals& globals, const CartOptions& options)
      : globals_(globals), options_(options), job_(globals, options) {}

  Result<int> run() {
    BAYSWAP_CHECK(job_.open());
    BAYSWAP_TRY(CartPort* const port, job_.store().port());
    BAYSWAP_TRY(const std::string name, job_.store().rom_name());
    if (name.empty())
      return fail(ErrorCode::not_found, "there is no ROM in the reader", "put a cartridge in");
    BAYSWAP_TRY(const std::string path, place_of(name));
    LocalStore disk;
    BAYSWAP_TRY(const auto there, disk.stat(path));
    PartFile file;
    BAYSWAP_CHECK(file.open(path));
    BAYSWAP_CHECK(port->read_whole_rom(
        job_.game(), "reading", [&](std::uint64_t at, ByteView bytes) { return file.write(at, bytes); }));
    std::size_t unstable = 0;
    std::uint64_t first = 0;
    BAYSWAP_CHECK(
        port->read_whole_rom(job_.game(), "checking", [&](std::uint64_t at, ByteView bytes) -> Result<void> {
          BAYSWAP_TRY(const Blob before, file.read(at, bytes.size()));
          for (std::size_t i = 0; i < bytes.size(); ++i) {
            if (i < before.size() && before.view()[i] == bytes[i]) continue;
            if (unstable++ == 0 || at + i < first) first = at + i;
          }
          return {};
        }));
    if (unstable > 0)
      return fail(
          ErrorCode::damaged,
          fmt::format("{} of the ROM differed between two readings, the first at {:X}; nothing was written",
                      counted(unstable, "byte"), first),
          "clean the contacts, put it in straight, and read it again");
    RomSource source;
    source.size_bytes = job_.game().rom_bytes;
    source.read = [&](std::uint64_t at, std::size_t count) { return file.read(at, count); };
    BAYSWAP_CHECK(check(source));
    bool same = false;
    if (there) {
      BAYSWAP_TRY(same, is_same(disk, path, source));
      if (!same)
        return fail(ErrorCode::unsafe, fmt::format("{} exists and holds something else", printable(path)),
                    "name another file with --out, or move that one away");
    } else {
      BAYSWAP_CHECK(file.place());
    }
    if (globals_.json)
      print_json({{"done", true},
                  {"path", path},
                  {"size_bytes", source.size_bytes},
                  {"same", same},
                  {"problems", problems_}});
    else if (!globals_.quiet)
      print_field(same ? "same" : "wrote", fmt::format("{} ({} bytes)", printable(path), source.size_bytes),
                  Tone::good);
    return problems_.empty() ? exit_done : exit_problems;
  }

 private:
  Result<std::string> place_of(const std::string& name) {
    if (options_.out.empty()) return name;
    LocalStore disk;
    BAYSWAP_TRY(const auto info, disk.stat(options_.out));
    const bool is_folder = info ? info->kind == FileInfo::Kind::folder : options_.out.ends_with('/');
    std::error_code failed;
    if (is_folder && !info) std::filesystem::create_directories(options_.out, failed);
    if (failed)
      return fail(ErrorCode::io,
                  fmt::format("the folder {} can't be made: {}", options_.out, failed.message()),
                  "name another with --out");
    return is_folder ? join_path(options_.out, name) : options_.out;
  }

  static Result<bool> is_same(LocalStore& disk, const std::string& path, const RomSource& rom) {
    constexpr std::size_t piece = std::size_t{1} << 20;
    BAYSWAP_TRY(const auto info, disk.stat(path));
    if (!info || info->size_bytes != rom.size_bytes) return false;
    for (std::uint64_t at = 0; at < rom.size_bytes; at += piece) {
      BAYSWAP_TRY(const Blob own, rom.read(at, piece));
      BAYSWAP_TRY(const Blob theirs, disk.read_range(path, at, piece));
      if (own != theirs) return false;
    }
    return true;
  }

  Result<void> check(const RomSource& rom) {
    const Platform platform = job_.game().rom.game.platform;
    BAYSWAP_TRY(const auto sums, check_rom(platform, rom));
    for (const RomSum& sum : sums) {
      const bool good = sum.stored == sum.computed;
      const std::string text = fmt::format(
          "{}: {:0{}X}{}", sum.what, sum.stored, sum.digits,
          good ? ", right" : fmt::format(", but the bytes have {:0{}X}", sum.computed, sum.digits));
      if (!globals_.json && !globals_.quiet) print_field("check", text, good ? Tone::good : Tone::warn);
      if (!good) problems_.push_back(text);
    }
    if (sums.empty() && !globals_.json && !globals_.quiet)
      print_field("check", fmt::format("{} headers have no sum that this program checks", tag(platform)));
    return {};
  }

  const Globals& globals_;
  const CartOptions& options_;
  CartJob job_;
  std::vector<std::string> problems_;
};

}  // namespace

int cart_rom_command(const Globals& globals, const CartOptions& options) {
  const auto code = RomDump(globals, options).run();
  if (code) return *code;
  return report(code.error());
}

}  // namespace bayswap::cli
