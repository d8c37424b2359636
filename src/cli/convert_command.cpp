#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/convert_package.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

struct Output {
  std::string path;
  const ConvertedFile* file = nullptr;
};

class Conversion {
 public:
  Conversion(const Globals& globals, const ConvertOptions& options) : globals_(globals), options_(options) {}

  Result<int> run() {
    BAYSWAP_TRY(catalog_, catalog_of(globals_));
    if (options_.to.empty() && options_.base.empty())
      return fail(ErrorCode::bad_usage, "convert to what?",
                  "name a layout with --to, or a file that has the wanted form with --base");
    if (!options_.from.empty() && options_.from.size() != 1 && options_.from.size() != options_.inputs.size())
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} times --from for {} files", options_.from.size(), options_.inputs.size()),
                  "say it once for all files, or once for each, in their order");
    BAYSWAP_CHECK(learn_game());
    ConvertRequest request;
    request.chips = hints_.chips;
    request.pak = options_.slot;
    if (options_.slot == 0 && options_.inputs.size() == 1)
      request.pak = pak_number_in_name(options_.inputs.front());
    Blob base;
    if (!options_.base.empty()) {
      BAYSWAP_TRY(base, disk_.read(options_.base));
      request.base = &base;
    }
    const Layout* to = nullptr;
    if (!options_.to.empty()) {
      BAYSWAP_TRY(to, catalog_.find(options_.to));
      hints_.platform = to->platform;
    } else if (!hints_.platform) {
      hints_.platform = platform_of_base(base);
    }
    for (std::size_t i = 0; i < options_.inputs.size(); ++i) {
      BAYSWAP_TRY(auto save, read_input(i));
      request.inputs.push_back(std::move(save));
    }
    DetectedLayout own;
    if (to == nullptr) {
      BAYSWAP_TRY(own, own_form(request, base));
      to = &own.layout;
    }
    request.to = to;
    BAYSWAP_TRY(const Converted converted, convert(catalog_, request));
    for (const std::string& warning : converted.warnings) warnings_.push_back(warning);
    const bool may_cut = std::ranges::find(options_.accept, "cut") != options_.accept.end();
    if (!converted.cuts.empty() && !may_cut)
      return fail(ErrorCode::unsafe, joined(converted.cuts, "; "),
                  "nothing was written; choose a layout with room for it, or say --accept cut");
    for (const std::string& cut : converted.cuts) warnings_.push_back(cut);
    for (const DumpDefect& ailment : converted.defects)
      warnings_.push_back(ailment.text + "; " + ailment.hint);
    if (converted.empty)
      warnings_.emplace_back(
          "everything that was brought is blank: an unused cartridge, a flat battery, or a dump that failed");
    if (converted.files.empty())
      return fail(
          ErrorCode::unsafe,
          fmt::format("{}: all parts are blank, so there is no file to write", options_.inputs.front()),
          "check that the save is the right one with `bayswap inspect`");
    BAYSWAP_TRY(const auto outputs, name_outputs(*to, converted));
    BAYSWAP_TRY(const auto entry, write(outputs));
    show(outputs, converted, entry);
    if (hints_.game) remember(globals_, *hints_.game, said_);
    return exit_done;
  }

 private:
  // What --rom and --chip say of the game, or the ROM beside the first file.
  Result<void> learn_game() {
    BAYSWAP_TRY(said_, chips_from_words(options_.chips));
    BAYSWAP_TRY(hints_, hints_for(globals_, options_.inputs.front(), options_.rom, said_));
    hints_.extension.clear();
    if (hints_.game) hints_.platform = hints_.game->platform;
    return {};
  }

  // Where the target's own file tells its platform, though nothing else does.
  [[nodiscard]] std::optional<Platform> platform_of_base(const Blob& base) {
    const Finding finding = inspect(catalog_, base, hints_beside(disk_, options_.base));
    return finding.platform;
  }

  Result<DetectedLayout> own_form(const ConvertRequest& request, const Blob& base) {
    Hints hints = hints_;
    hints.extension = lower(extension_of(options_.base));
    auto own = detect_layout(catalog_, request.inputs, base, hints);
    if (!own) {
      own.error().message = fmt::format("{}: {}", options_.base, own.error().message);
      return own;
    }
    base_evidence_ = own->evidence;
    constexpr double sure = 0.5;
    if (own->confidence < sure)
      warnings_.push_back(fmt::format("{} is taken as {}, with little to go by; say --to to be sure",
                                      options_.base, own->layout.id));
    return own;
  }

  Result<Save> read_input(std::size_t index) {
    const std::string& path = options_.inputs[index];
    BAYSWAP_TRY(const Blob bytes, disk_.read(path));
    const Layout* from = nullptr;
    if (!options_.from.empty()) {
      BAYSWAP_TRY(from, catalog_.find(options_.from[options_.from.size() == 1 ? 0 : index]));
      if (!hints_.platform) hints_.platform = from->platform;
    } else {
      BAYSWAP_TRY(from, tell(path, bytes));
    }
    auto opened = open_save(*from, bytes, hints_.chips);
    if (!opened) {
      opened.error().message = fmt::format("{}: {}", path, opened.error().message);
      return tl::unexpected(std::move(opened.error()));
    }
    for (const std::string& note : opened->notes) read_notes_.push_back(fmt::format("{}: {}", path, note));
    if (opened->fitted.fit == Fit::trimmed)
      warnings_.push_back(fmt::format("{}: {}", path, opened->fitted.in_words(*from)));
    used_.push_back(from);
    if (const int number = pak_number_in_name(path); number > 0 && options_.inputs.size() > 1)
      for (Part& part : opened->save.parts)
        if (part.role == Role{PartKind::pak, 0}) part.role.number = number;
    return std::move(opened->save);
  }

  Result<const Layout*> tell(const std::string& path, const Blob& bytes) {
    Hints hints = hints_;
    hints.extension = lower(extension_of(path));
    if (!hints.game) {
      if (const auto rom = rom_beside(disk_, path)) hints.game = rom->second.game;
    }
    auto file = unwrap(bytes);
    if (!file) {
      file.error().message = fmt::format("{}: {}", path, file.error().message);
      return tl::unexpected(std::move(file.error()));
    }
    const Recognition recognition = recognise(catalog_, file->plain, hints);
    if (recognition.matches.empty()) {
      const Finding finding = inspect(catalog_, bytes, hints);
      return fail(ErrorCode::not_recognised, fmt::format("{}: {}", path, joined(finding.evidence, "; ")),
                  finding.kind == FileKind::rom ? "that is the ROM; name the save"
                                                : "if you know better, say which layout it has with --from");
    }
    const LayoutMatch& best = recognition.matches.front();
    if (recognition.either()) {
      const auto save = open_save(*best.layout, bytes, hints.chips);
      if (save && !save->save.is_blank())
        warnings_.push_back(
            fmt::format("{} could be {} or {}: nothing in it tells which; taken as {} (say --from to choose)",
                        path, best.layout->id, recognition.matches[1].layout->id, best.layout->id));
    }
    return best.layout;
  }

  Result<std::vector<Output>> name_outputs(const Layout& to, const Converted& converted) {
    std::vector<Output> outputs;
    const std::string stem(stem_of(options_.rom.empty() ? options_.inputs.front() : options_.rom));
    BAYSWAP_TRY(const auto there, disk_.stat(options_.out));
    const bool folder = options_.out.ends_with('/') || (there && there->kind == FileInfo::Kind::folder);
    if (to.is_set() && there && !folder)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} is a file, but {} is written into a folder", options_.out, to.id),
                  "name a folder with --out, e.g. --out parts/");
    for (const ConvertedFile& file : converted.files) {
      if (to.is_set()) {
        outputs.push_back({join_path(options_.out, stem + set_suffix(*file.layout, file.role)), &file});
      } else {
        outputs.push_back({folder ? join_path(options_.out, stem + to.extension) : options_.out, &file});
      }
    }
    return outputs;
  }

  // A new file is simply made. Several, or one in the way of which is another, go through the logbook.
  Result<std::optional<std::int64_t>> write(const std::vector<Output>& outputs) {
    Plan plan;
    bool in_the_way = false;
    for (const Output& output : outputs) {
      FileChange change{output.path, {}, output.file->bytes};
      BAYSWAP_TRY(const auto info, disk_.stat(output.path));
      if (info) {
        if (info->kind == FileInfo::Kind::file && !options_.replace)
          return fail(ErrorCode::unsafe, fmt::format("{} exists already", output.path),
                      "choose another name, or say --replace: the old file is then kept in the logbook");
        BAYSWAP_TRY(change.before, disk_.read(output.path));
        in_the_way = true;
      }
      plan.changes.push_back(std::move(change));
    }
    if (in_the_way || plan.changes.size() > 1) {
      std::erase_if(plan.changes, [](const FileChange& change) { return change.before == change.after; });
      if (plan.changes.empty()) return std::nullopt;
      plan.kind = EntryKind::convert;
      plan.game = hints_.game;
      plan.reason = fmt::format("convert {} to {}", joined(options_.inputs, ", "),
                                options_.to.empty() ? "the form of " + options_.base : options_.to);
      for (const std::string& input : options_.inputs) plan.from_files.push_back(disk_.absolute_path(input));
      BAYSWAP_TRY(const auto logbook, LockedLogbook::open(globals_));
      BAYSWAP_CHECK(wait_until_idle(globals_, plan, disk_, logbook->book(), false, Recent::does_not_count));
      note_hard_links(plan, disk_);
      for (const PlanIssue& issue : plan.issues) warnings_.push_back(issue.text);
      BAYSWAP_TRY(const std::int64_t id, run_whole(plan, disk_, *logbook));
      return id;
    }
    for (const Output& output : outputs) BAYSWAP_CHECK(disk_.create(output.path, output.file->bytes.view()));
    return std::nullopt;
  }

  void show(const std::vector<Output>& outputs, const Converted& converted,
            const std::optional<std::int64_t>& entry) const {
    for (const std::string& warning : warnings_) say(globals_.quiet, "bayswap: warning: " + warning);
    if (globals_.json) {
      Json files = Json::array();
      for (const Output& output : outputs)
        files.push_back({{"path", output.path},
                         {"layout", output.file->layout->id},
                         {"size_bytes", output.file->bytes.size()}});
      Json inputs = Json::array();
      for (std::size_t i = 0; i < used_.size(); ++i)
        inputs.push_back({{"path", options_.inputs[i]}, {"layout", used_[i]->id}});
      print_json({{"inputs", inputs},
                  {"outputs", files},
                  {"read", read_notes_},
                  {"base", base_evidence_},
                  {"notes", converted.notes},
                  {"warnings", warnings_},
                  {"entry", entry ? Json(*entry) : Json(nullptr)}});
      return;
    }
    if (globals_.quiet) return;
    for (std::size_t i = 0; i < used_.size(); ++i)
      print_field(i == 0 ? "read" : "", fmt::format("{} as {}", options_.inputs[i], used_[i]->id));
    for (const std::string& note : read_notes_) print_field("", note);
    for (std::size_t i = 0; i < base_evidence_.size(); ++i)
      print_field(i == 0 ? "base" : "", base_evidence_[i]);
    for (std::size_t i = 0; i < converted.notes.size(); ++i)
      print_field(i == 0 ? "done" : "", converted.notes[i]);
    for (std::size_t i = 0; i < outputs.size(); ++i)
      print_field(i == 0 ? "wrote" : "",
                  fmt::format("{} ({}, {} bytes)", outputs[i].path, outputs[i].file->layout->id,
                              outputs[i].file->bytes.size()));
    if (entry)
      print_field(
          "kept",
          fmt::format("what was there before, in logbook entry {}; `bayswap undo` brings it back", *entry));
  }

  const Globals& globals_;
  const ConvertOptions& options_;
  Catalog catalog_;
  LocalStore disk_;
  Hints hints_;  // of the game
  std::vector<ChipFact> said_;
  std::vector<const Layout*> used_;
  std::vector<std::string> read_notes_;
  std::vector<std::string> base_evidence_;
  std::vector<std::string> warnings_;
};

}  // namespace

int convert_command(const Globals& globals, const ConvertOptions& options) {
  if (const auto package = convert_package(globals, options))
    return *package ? **package : report(package->error());
  const auto code = Conversion(globals, options).run();
  return code ? *code : report(code.error());
}

}  // namespace bayswap::cli
