#include "cli/pipes.hpp"

#include <bayswap/fs.hpp>

#include <fmt/format.h>

#include <cstdio>
#include <cstdlib>
#include <filesystem>

#include "base/try.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {

Result<Blob> read_stdin() {
  constexpr std::size_t max_bytes = std::size_t{80} << 20;
  constexpr std::size_t piece = std::size_t{64} << 10;
  std::vector<Byte> bytes;
  for (;;) {
    const std::size_t before = bytes.size();
    bytes.resize(before + piece);
    const std::size_t count = std::fread(bytes.data() + before, 1, piece, stdin);
    bytes.resize(before + count);
    if (bytes.size() > max_bytes)
      return fail(ErrorCode::does_not_fit, "stdin: over 80 MiB", "no save is so large");
    if (count == 0) break;
  }
  if (std::ferror(stdin) != 0) return fail(ErrorCode::io, "stdin can't be read", "check where it comes from");
  return Blob::copy_of(bytes);
}

Pipes::~Pipes() {
  std::error_code ignored;
  if (!folder_.empty()) std::filesystem::remove_all(folder_, ignored);
}

Result<std::string> Pipes::folder() {
  if (!folder_.empty()) return folder_;
  const char* const temporary = std::getenv("TMPDIR");
  std::string pattern =
      (temporary != nullptr && *temporary != '\0' ? std::string(temporary) : "/tmp") + "/bayswap-XXXXXX";
  if (mkdtemp(pattern.data()) == nullptr)
    return fail(ErrorCode::io, fmt::format("no folder can be made as {}", pattern),
                "set TMPDIR to one that can be written");
  folder_ = pattern;
  return folder_;
}

Result<std::string> Pipes::input(const std::string& word) {
  if (word != "-") return word;
  if (is_read_) return fail(ErrorCode::bad_usage, "stdin is named twice", "name one file '-'");
  is_read_ = true;
  BAYSWAP_TRY(const Blob bytes, read_stdin());
  BAYSWAP_TRY(const std::string where, folder());
  const std::string path = where + "/stdin";
  BAYSWAP_CHECK(LocalStore().create(path, bytes.view()));
  return path;
}

Result<std::string> Pipes::output(const std::string& word) {
  if (word != "-") return word;
  BAYSWAP_TRY(const std::string where, folder());
  out_ = where + "/stdout";
  return out_;
}

Result<void> Pipes::flush() const {
  if (out_.empty()) return {};
  BAYSWAP_TRY(const Blob bytes, LocalStore().read(out_));
  print_document({reinterpret_cast<const char*>(bytes.data()), bytes.size()});
  return {};
}

}  // namespace bayswap::cli
