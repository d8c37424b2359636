#include <bayswap/picture.hpp>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/card_job.hpp"

namespace bayswap::cli {
namespace {

Result<int> picture(CardJob& job) {
  BAYSWAP_TRY(const auto opened, job.open(job.options.image));
  const Picture sheet = contact_sheet(*opened.card, printable(name_of(normalized(job.options.image))));
  BAYSWAP_TRY(const Blob png, to_png(sheet));
  BAYSWAP_TRY(const int code, job.write_new("card picture", {{job.options.out, png}}));
  if (job.globals.json)
    print_json({{"path", job.options.out},
                {"kind", to_text(opened.card->kind())},
                {"width", sheet.width},
                {"height", sheet.height}});
  return code;
}

}  // namespace

int card_picture_command(const Globals& globals, const CardOptions& options) {
  CardJob job{globals, options};
  return finished(picture(job));
}

}  // namespace bayswap::cli
