// A round of sync as a command, and what it shows.
#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/round_job.hpp"
#include "cli/sync_job.hpp"

namespace bayswap::cli {
namespace {

using Outcome = SyncRow::Outcome;

class RoundView {
 public:
  RoundView(const Globals& globals, const SyncOptions& options) : globals_(globals), options_(options) {}

  Result<int> run() {
    BAYSWAP_TRY(report_, make_round(globals_, options_, [this](const RoundReport& report) {
                  report_ = report;
                  return may_write();
                }));
    return finish();
  }

 private:
  bool may_write() {
    if (options_.yes) return true;
    if (!has_terminal()) {
      is_unasked_ = true;
      return false;
    }
    print_rows(true);
    std::fflush(stdout);
    is_shown_ = true;
    if (ask(fmt::format("Write {} into {}?", counted(report_.to_write(), "save"),
                        joined(report_.planned, ", "))))
      return true;
    say(false, "Nothing was written; what changed here is noted.");
    return false;
  }

  // ---- What is shown -------------------------------------------------------------------------------------

  [[nodiscard]] static std::string in_words(const SyncRow& row, bool as_plan) {
    if (as_plan && row.outcome == Outcome::written) return "write";
    if (as_plan && row.outcome == Outcome::removed) return "remove";
    return std::string(to_text(row.outcome));
  }

  static std::string why_in_words(const SyncRow& row) {
    std::string why = row.why;
    if (row.loss && *row.loss != Loss::damaged)
      why += fmt::format(" (--accept {}, or resolve)", to_text(*row.loss));
    if (row.loss == Loss::damaged) why += " (resolve)";
    if (row.entry) why += fmt::format(" (entry {})", *row.entry);
    return why;
  }

  void print_rows(bool as_plan) const {
    // What was only noted is nothing to decide: many of them are a number.
    constexpr std::size_t few = 12;
    const bool with_noted = report_.count(Outcome::noted) <= few;
    std::vector<std::vector<std::string>> rows;
    for (const SyncRow& row : report_.rows)
      if (with_noted || row.outcome != Outcome::noted)
        rows.push_back({printable(row.save), std::string(tag(row.platform)), row.bay, in_words(row, as_plan),
                        printable(why_in_words(row))});
    if (!rows.empty()) print_table({"save", "for", "bay", as_plan ? "plan" : "outcome", "why"}, rows);
  }

  [[nodiscard]] int exit_word() const { return is_unasked_ ? exit_refused : report_.exit_code(); }

  int finish() {
    const bool done = report_.done;
    if (globals_.json) {
      print_document(done);
      return exit_word();
    }
    if (!globals_.quiet && (!is_shown_ || done)) print_rows(!done);
    for (const auto& [bay, why] : report_.away)
      say(globals_.quiet, fmt::format("bayswap: {} is left as it was: {}", bay, printable(why)));
    for (const auto& [bay, why] : report_.busy)
      say(globals_.quiet, fmt::format("bayswap: {} is read and not written now: {}", bay, printable(why)));
    if (report_.unreachable)
      say(globals_.quiet,
          fmt::format("bayswap: the sync folder can't be reached: {}. What changed is kept here and "
                      "goes with the next round",
                      printable(report_.unreachable->message)));
    if (!report_.stopped_by.empty()) {
      return report(
          {ErrorCode::unsafe,
           fmt::format("more than a third of the saves of {} are gone or empty at once: nothing was written",
                       report_.stopped_by),
           "see that it is the right medium; --accept many goes on, and asks about each save"});
    }
    print_summary(done);
    if (is_unasked_)
      return report({ErrorCode::unsafe, "nothing was written: there is no terminal to ask on",
                     "pass --yes to go ahead, or --dry-run to see what would be done"});
    return exit_word();
  }

  void print_summary(bool done) const {
    if (globals_.quiet) return;
    const std::size_t written = report_.to_write();
    fmt::print("{} noted, {} {}, {} waiting, {} to be answered.\n", report_.count(Outcome::noted), written,
               done ? "written" : "to write", report_.count(Outcome::waits),
               report_.count(Outcome::asked) + report_.count(Outcome::conflict));
    if (report_.exchanged.sent > 0)
      fmt::print("{} sent to the sync folder.\n", bytes_in_words(report_.exchanged.sent_bytes));
    if (report_.unsent > 0)
      fmt::print("{} {} here for the sync folder.\n", counted(report_.unsent, "version"),
                 report_.unsent == 1 ? "waits" : "wait");
    if (report_.waiting_away > 0)
      fmt::print("{} for bays that are away.\n", counted(report_.waiting_away, "newer save"));
    if (report_.exchanged.rebuilt)
      fmt::print(
          "The sync folder had no report of this device: it was lost there, or the device was forgotten. "
          "What is known here was written again.\n");
    if (report_.count(Outcome::conflict) > 0)
      fmt::print(
          "`bayswap sync conflicts` shows both sides, `bayswap sync resolve GAME --keep N` decides.\n");
    if (std::ranges::any_of(report_.rows, [](const SyncRow& row) {
          return !row.loss && (row.outcome == Outcome::asked || row.outcome == Outcome::failed);
        }))
      fmt::print(
          "What is asked or failed stays as it is here: `bayswap carry` brings a save over by hand, `bayswap "
          "sync set BAY --leave PATTERN` leaves one out.\n");
    if (std::ranges::any_of(report_.rows, [](const SyncRow& row) { return row.loss.has_value(); }))
      fmt::print("`bayswap sync resolve GAME --keep back` puts a lost save back with the next round.\n");
    if (options_.dry_run) say(globals_.quiet, "A dry run: nothing was changed.");
    if (!done || written == 0) return;
    if (report_.exit_code() == exit_done)
      fmt::print("{}\n", toned(Tone::good, "Done. `bayswap undo` takes what was written into a bay back."));
    else
      fmt::print(
          "`bayswap undo` takes what was written into a bay back; `bayswap sync status` shows what is "
          "open.\n");
  }

  void print_document(bool done) const {
    Json rows = Json::array();
    for (const SyncRow& row : report_.rows)
      rows.push_back({{"save", row.save},
                      {"platform", tag(row.platform)},
                      {"bay", row.bay},
                      {"path", row.path},
                      {"outcome", to_text(row.outcome)},
                      {"why", row.why},
                      {"loss", row.loss ? Json(to_text(*row.loss)) : Json(nullptr)},
                      {"version", row.version ? Json(row.version->hex()) : Json(nullptr)},
                      {"entry", row.entry ? Json(*row.entry) : Json(nullptr)}});
    Json left = Json::array();
    for (const auto& [bay, why] : report_.away) left.push_back({{"bay", bay}, {"why", why}});
    const DeviceInfo& device = report_.device;
    print_json({{"device", device.name},
                {"sync_folder",
                 {{"url", device.url},
                  {"reached", !report_.unreachable},
                  {"why", report_.unreachable ? Json(report_.unreachable->message) : Json(nullptr)},
                  {"sent", report_.exchanged.sent},
                  {"sent_bytes", report_.exchanged.sent_bytes},
                  {"received", report_.exchanged.received},
                  {"missing", report_.exchanged.missing},
                  {"given", report_.exchanged.given},
                  {"rebuilt", report_.exchanged.rebuilt},
                  {"unsent", report_.unsent}}},
                {"waiting_away", report_.waiting_away},
                {"done", done},
                {"stopped_by", report_.stopped_by.empty() ? Json(nullptr) : Json(report_.stopped_by)},
                {"bays_left", std::move(left)},
                {"saves", std::move(rows)}});
  }

  const Globals& globals_;
  const SyncOptions& options_;
  RoundReport report_;
  bool is_unasked_ = false;
  bool is_shown_ = false;
};

}  // namespace

int sync_command(const Globals& globals, const SyncOptions& options) {
  if (options.watch || options.once) return sync_watch_command(globals, options);
  return exit_code_of(RoundView(globals, options).run());
}

}  // namespace bayswap::cli
