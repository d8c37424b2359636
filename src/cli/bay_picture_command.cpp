#include <bayswap/bay_picture.hpp>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

Result<int> picture(const Globals& globals, const BayPictureOptions& options) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  BAYSWAP_TRY(const auto opened, OpenedBay::open(*books, options.bay));
  BAYSWAP_TRY(const auto tiles, save_tiles(*opened->view));
  const std::string caption =
      printable(opened->is_place ? std::string(name_of(normalized(opened->bay.root))) : opened->bay.name);
  const Picture sheet = bay_sheet(tiles, caption, local_time);
  BAYSWAP_TRY(const Blob png, to_png(sheet));
  LocalStore disk;
  auto written =
      options.replace ? disk.replace(options.out, png.view()) : disk.create(options.out, png.view());
  if (!written && written.error().code == ErrorCode::unsafe)
    return fail(ErrorCode::unsafe, fmt::format("{} exists", options.out),
                "choose another name, or pass --replace");
  BAYSWAP_CHECK(written);
  std::size_t notices = 0;
  for (const SaveTile& tile : tiles) notices += tile.notice.empty() ? 0 : 1;
  if (globals.json)
    print_json({{"path", options.out},
                {"saves", tiles.size()},
                {"worth_a_look", notices},
                {"width", sheet.width},
                {"height", sheet.height}});
  else if (!globals.quiet)
    print_field("wrote", fmt::format("{}: {}{}", options.out, counted(tiles.size(), "save"),
                                     notices == 0 ? "" : fmt::format(", {} worth a look", notices)));
  return exit_done;
}

}  // namespace

int bay_picture_command(const Globals& globals, const BayPictureOptions& options) {
  return exit_code_of(picture(globals, options));
}

}  // namespace bayswap::cli
