#include "fs/os_error.hpp"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>

namespace bayswap {

tl::unexpected<Error> os_error(int number, const std::string& doing, const std::string& display_path) {
  switch (number) {
    case ENOENT:
      return fail(ErrorCode::not_found, fmt::format("{} does not exist", display_path), "check the path");
    case ENOTDIR:
      return fail(
          ErrorCode::not_found,
          fmt::format("{} does not exist: something on the way is a file, not a folder", display_path),
          "check the path");
    case EACCES:
    case EPERM:
      return fail(ErrorCode::io, fmt::format("{}: no permission ({})", display_path, doing),
                  "check who owns it and its permissions");
    case EROFS:
      return fail(ErrorCode::io, fmt::format("{} is on a read-only file system", display_path),
                  "nothing was changed; mount it writable (or unlock the card) and try again");
    case ENOSPC:
    case EDQUOT:
    case EFBIG:
      return fail(ErrorCode::io, fmt::format("{}: no space left ({})", display_path, doing),
                  "nothing was changed; make room there and try again");
    case ENAMETOOLONG:
      return fail(ErrorCode::io, fmt::format("{}: the name is too long for this file system", display_path),
                  "use a shorter name");
    case ELOOP:
      return fail(ErrorCode::io, fmt::format("{} is a link that leads in a circle", display_path),
                  "repair the link");
    case EMFILE:
    case ENFILE:
      return fail(ErrorCode::io, fmt::format("{}: too many files are open ({})", display_path, doing),
                  "close other programs and try again");
    default:
      return fail(ErrorCode::io, fmt::format("{}: {} failed: {}", display_path, doing, std::strerror(number)),
                  "nothing was changed; try again when the cause is repaired");
  }
}

}  // namespace bayswap
