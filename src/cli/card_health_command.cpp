// Cards that are not well: check, repair, rescue.
#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/card_job.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

void print_problems(const std::vector<CardProblem>& problems) {
  for (const CardProblem& problem : problems)
    fmt::print("{:>8}  {}{}\n", fmt::format("{:#x}", problem.at), printable(problem.text),
               problem.repairable ? toned(Tone::dim, "  (can be repaired)") : "");
}

// What became of each problem.
void print_repaired(const std::vector<CardProblem>& before, const std::vector<CardProblem>& after) {
  std::size_t repaired = 0;
  for (const CardProblem& problem : before) {
    const bool remains = std::ranges::any_of(
        after, [&](const CardProblem& one) { return one.at == problem.at && one.text == problem.text; });
    repaired += remains ? 0 : 1;
    if (!remains)
      fmt::print("{:>8}  {}{}\n", fmt::format("{:#x}", problem.at), printable(problem.text),
                 toned(Tone::good, "  (repaired)"));
  }
  print_problems(after);
  fmt::print("{} repaired, {}\n", repaired,
             after.empty()       ? "none remain"
             : after.size() == 1 ? "1 remains"
                                 : fmt::format("{} remain", after.size()));
}

Result<int> check(CardJob& job) {
  BAYSWAP_TRY(const auto opened, job.open(job.options.image));
  const auto problems = opened.card->check();
  const bool repair = job.options.repair && std::ranges::any_of(problems, [](const CardProblem& problem) {
                        return problem.repairable;
                      });
  if (job.globals.json && !repair)
    print_json({{"kind", to_text(opened.card->kind())}, {"problems", to_json(problems)}});
  if (!job.globals.json) {
    if (!repair) print_problems(problems);
    if (problems.empty()) fmt::print("{}: good\n", printable(job.options.image));
    for (const std::string& note : opened.card->notes()) say(job.globals.quiet, "bayswap: note: " + note);
  }
  if (repair) {
    BAYSWAP_TRY(const int code,
                job.change(job.options.image, "card check --repair", [](Card& damaged) -> Result<void> {
                  damaged.repair();
                  return {};
                }));
    if (code != exit_done) return code;
    BAYSWAP_TRY(const auto repaired, job.open(job.options.image));
    const auto remaining = repaired.card->check();
    if (!job.globals.json) print_repaired(problems, remaining);
    return remaining.empty() ? exit_done : exit_problems;
  }
  if (!problems.empty() && !job.options.repair)
    say(job.globals.quiet,
        "`bayswap card check --repair` repairs what can be repaired without guessing; `card rescue` gets "
        "saves "
        "off a broken card.");
  return problems.empty() ? exit_done : exit_problems;
}

Json found_json(CardKind kind, const FoundSave& found, bool on_card) {
  Json entry = to_json(kind, describe(found.save));
  entry.erase("blocks");
  entry.erase("state");
  entry["confidence"] = to_text(found.confidence);
  entry["deleted"] = found.deleted;
  entry["on_card"] = on_card;
  entry["notes"] = found.notes;
  return entry;
}

void print_found(const Rescue& rescue) {
  std::vector<std::vector<std::string>> rows;
  rows.reserve(rescue.saves.size());
  for (const FoundSave& found : rescue.saves) {
    const CardEntry entry = describe(found.save);
    rows.push_back({printable(found.save.name), printable(entry.title), fmt::format("{}", entry.size_bytes),
                    std::string(to_text(found.confidence)), found.deleted ? "deleted" : "",
                    printable(found.notes.empty() ? "" : found.notes.front())});
  }
  if (!rows.empty())
    print_table({"save", "title", "bytes", "how sure", "", "what is missing or was guessed"}, rows, {2});
  for (const FoundSave& found : rescue.saves)
    for (std::size_t i = 1; i < found.notes.size(); ++i)
      fmt::print("{}: {}\n", printable(found.save.name), printable(found.notes[i]));
  if (rescue.missing_bytes > 0)
    fmt::print("The file ends {} bytes before the card does.\n", rescue.missing_bytes);
  if (rescue.at > 0) fmt::print("The card begins {} bytes into the file.\n", rescue.at);
}

Result<int> rescue(CardJob& job) {
  const CardOptions& options = job.options;
  std::optional<CardKind> kind;
  if (!options.kind.empty()) {
    kind = card_kind_from_text(options.kind);
    if (!kind)
      return fail(ErrorCode::bad_usage, fmt::format("no card is called '{}'", printable(options.kind)),
                  "kinds are ps1, ps2, gc, n64, dc, sat, pce, scd");
  }
  BAYSWAP_TRY(const Blob file, job.disk.read(options.image, std::size_t{80} << 20));
  auto found = rescue_card(file, kind, options.slot, options.doubtful);
  if (!found)
    return fail(found.error().code, fmt::format("{}: {}", options.image, found.error().message),
                found.error().hint);
  BAYSWAP_TRY(const auto there, job.disk.stat(options.out));
  const bool folder = options.out.ends_with('/') || (there && there->kind == FileInfo::Kind::folder);
  if (options.doubtful && folder)
    return fail(ErrorCode::bad_usage,
                "--doubtful is about the fresh card; a folder gets what is doubtful anyway",
                "leave it out, or name a file with --out");
  std::vector<NewFile> files;
  if (folder) {
    for (const FoundSave& one : found->saves) {
      if (one.save.size_bytes() == 0) continue;  // its entry is all there is
      const std::string stem = join_path(options.out, file_name_for(one.save.name));
      const std::string sure = one.confidence == FoundSave::Confidence::doubtful ? ".doubtful"
                               : one.deleted                                     ? ".deleted"
                                                                                 : "";
      // Without an entry there is nothing to make a parcel of.
      const char* extension = one.save.entry.empty() ? ".raw" : ".parcel";
      std::string path = stem + sure + extension;
      const auto taken = [&] {
        return std::ranges::any_of(files, [&](const auto& other) { return other.path == path; });
      };
      for (int i = 2; taken(); ++i) path = fmt::format("{}{}-{}{}", stem, sure, i, extension);
      files.push_back({path, one.save.entry.empty() ? one.save.payload : to_parcel(one.save)});
    }
  } else if (!found->saves.empty()) {
    files.push_back({options.out, found->card->image()});
  }
  const auto put_on = static_cast<std::size_t>(std::ranges::count(found->on_card, true));
  if (!job.globals.json) print_found(*found);
  std::size_t doubtful = 0;
  for (std::size_t i = 0; i < found->saves.size(); ++i)
    doubtful += found->on_card[i] && found->saves[i].confidence == FoundSave::Confidence::doubtful ? 1 : 0;
  if (doubtful > 0 && !options.yes) {
    if (!has_terminal())
      return fail(ErrorCode::unsafe, "nothing was written: there is no terminal to ask on",
                  "pass --yes to put the doubtful ones on the card as well, or leave out --doubtful");
    if (!ask(fmt::format("Put {} doubtful saves onto the fresh card as well?", doubtful))) {
      say(false, "Nothing was written.");
      return exit_refused;
    }
  }
  BAYSWAP_TRY(const int code, job.write_new("card rescue", files));
  if (job.globals.json) {
    Json saves = Json::array();
    for (std::size_t i = 0; i < found->saves.size(); ++i)
      saves.push_back(found_json(found->kind, found->saves[i], found->on_card[i] && !folder));
    Json written = Json::array();
    for (const NewFile& one : files)
      written.push_back({{"path", one.path}, {"size_bytes", one.bytes.size()}});
    print_json({{"kind", to_text(found->kind)},
                {"begins_at", found->at},
                {"missing_bytes", found->missing_bytes},
                {"saves", std::move(saves)},
                {"files", std::move(written)}});
  }
  if (code != exit_done) return code;
  if (found->saves.empty()) {
    say(job.globals.quiet,
        options.kind.empty()
            ? "bayswap: no save was found on it; nothing was written. Pass --kind if you know its console."
            : "bayswap: no save was found on it; nothing was written.");
    return exit_problems;
  }
  if (!folder && put_on < found->saves.size())
    say(job.globals.quiet,
        fmt::format(
            "bayswap: {} of {} saves are on the fresh card; {}`--out FOLDER/` writes the others too, as "
            "parcels.",
            put_on, found->saves.size(),
            options.doubtful ? "" : "--doubtful puts what is doubtful there as well, "));
  bool whole = true;
  for (std::size_t i = 0; i < found->saves.size(); ++i)
    whole = whole &&
            (found->saves[i].deleted ||
             (found->saves[i].confidence == FoundSave::Confidence::certain && (folder || found->on_card[i])));
  return whole && found->missing_bytes == 0 ? exit_done : exit_problems;
}

}  // namespace

int card_check_command(const Globals& globals, const CardOptions& options) {
  CardJob job{globals, options};
  return finished(check(job));
}
int card_rescue_command(const Globals& globals, const CardOptions& options) {
  CardJob job{globals, options};
  return finished(rescue(job));
}

}  // namespace bayswap::cli
