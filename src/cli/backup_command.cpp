#include <bayswap/carry.hpp>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

Result<int> keep(const Globals& globals, BackupOptions options) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  if (const Address address = address_of(*books, options.bay);
      options.what.empty() && !address.place.empty()) {
    options.bay = address.place;
    options.what = address.what;
  }
  BAYSWAP_TRY(const auto opened, OpenedBay::open(*books, options.bay));
  const Bay& bay = opened->bay;
  BAYSWAP_TRY(const auto logbook, open_logbook(globals));
  LocalStore disk;
  BAYSWAP_TRY(const auto saves, backup_saves(*opened->view, disk, options.what, logbook->book()));
  std::size_t kept = 0;
  std::size_t same = 0;
  std::size_t failed = 0;
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  for (const BackedUpSave& save : saves) {
    kept += save.outcome == BackedUpSave::Outcome::kept ? 1 : 0;
    same += save.outcome == BackedUpSave::Outcome::same ? 1 : 0;
    failed += save.outcome == BackedUpSave::Outcome::failed ? 1 : 0;
    list.push_back(to_json(save));
    rows.push_back({printable(save.what), std::string(to_text(save.outcome)), std::to_string(save.size_bytes),
                    save.entry ? std::to_string(*save.entry) : "",
                    printable(save.why.empty() ? save.path : save.why)});
  }
  if (globals.json) {
    print_json(
        {{"bay", bay.name}, {"kept", kept}, {"same", same}, {"failed", failed}, {"saves", std::move(list)}});
  } else if (!globals.quiet) {
    if (!rows.empty()) print_table({"save", "outcome", "bytes", "version", "file"}, rows, {2, 3});
    fmt::print("{}\n", saves.empty()
                           ? fmt::format("{} has no saves and no states that its rules name.", bay.name)
                           : fmt::format("{} kept, {} the same already, {} failed.", kept, same, failed));
    if (kept > 0)
      say(false,
          "`bayswap restore WHAT --entry N` brings one back, with --all every one of them; `bayswap "
          "logbook "
          "export DIR` takes them to another disk.");
  }
  return failed > 0 ? exit_problems : exit_done;
}

}  // namespace

int backup_command(const Globals& globals, const BackupOptions& options) {
  return exit_code_of(keep(globals, options));
}

}  // namespace bayswap::cli
