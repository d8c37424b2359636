// Battery saves: chips in files of a layout, or of a set of layouts.
#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/detect_survey.hpp"
#include "bay/file_saves.hpp"
#include "bay/keeper.hpp"
#include "bay/places.hpp"

namespace bayswap {
namespace {

// The rule's layouts that are no sets.
std::vector<const Layout*> also_listed(const BayView& view, const PlatformRule& rule) {
  std::vector<const Layout*> listed;
  for (const std::string& id : rule.other_layouts)
    if (const auto layout = view.catalog().find(id); layout && !(*layout)->is_set())
      listed.push_back(*layout);
  return listed;
}

// A save is all of its files: what lies beside it, and no rule of the bay takes, may be the other half.
void note_missing_part(BayView& view, const HeldSave& save, const Content& content, IssueList& issues) {
  constexpr std::uint64_t largest_clock = 64;
  const auto is_clock = [](const Part& part) { return part.role.kind == PartKind::rtc; };
  const auto& parts = content.chips.parts;
  const bool clock_alone = !parts.empty() && std::ranges::all_of(parts, is_clock);
  if (!clock_alone && (std::ranges::any_of(parts, is_clock) || saves_as(save.rule->platform) != Platform::gb))
    return;
  for (const std::string& path : view.beside(save.path)) {
    const std::string extension = lower(extension_of(path));
    if (std::ranges::any_of(save.held, [&](const HeldFile& file) { return file.path == path; }) ||
        !is_save_extension(extension, view.catalog()))
      continue;
    const auto info = view.store().stat(path);
    if (!info || !*info || (*info)->kind != FileInfo::Kind::file || (*info)->size_bytes == 0) continue;
    const bool as_clock = extension == ".rtc" && (*info)->size_bytes <= largest_clock;
    if (as_clock == clock_alone) continue;
    issues.unless_accepted(
        IssueCode::part,
        fmt::format("{} beside it may be the {} of this save, and {} does not read it",
                    view.store().display_path(path), clock_alone ? "memory" : "clock", view.bay().name),
        "name in the bay's rule the layout of both files; alone, one would go without the other");
    return;
  }
}

Result<Content> load_file(BayView& view, const HeldSave& save, const Hints& hints, IssueList& issues) {
  Content content;
  content.kind = Content::Kind::chips;
  content.chips.platform = saves_as(save.rule->platform);
  for (const HeldFile& file : save.held) {
    BAYSWAP_TRY(const Blob bytes, view.store().read(file.path));
    OpenOptions options;
    options.said = file.layout;
    options.or_else = also_listed(view, *save.rule);
    options.hints = hints;
    options.hints.platform = save.rule->platform;
    options.role = file.role;
    options.display_path = view.store().display_path(file.path);
    options.origin = view.bay().origin;
    BAYSWAP_TRY(OpenedChips opened, open_chips(view.catalog(), bytes, options, issues));
    content.layouts.push_back(opened.layout);
    content.recognised = content.recognised || opened.recognised;
    for (Part& part : opened.save.parts) {
      if (content.chips.find(part.role) != nullptr) {
        if (is_blank(part)) continue;
        return fail(
            ErrorCode::bad_usage,
            fmt::format("{} and another file both hold the {}", options.display_path, to_text(part.role)),
            "name the file that is meant by its path");
      }
      content.chips.parts.push_back(std::move(part));
    }
  }
  note_missing_part(view, save, content, issues);
  return content;
}

// The chips that are known, and those that the save evidently has.
std::vector<ChipFact> chips_for(const Arrival& arrival) {
  std::vector<ChipFact> chips = arrival.chips;
  for (const Part& part : arrival.content.chips.parts)
    if (!is_blank(part)) add_chips(chips, {{part.role.kind, part.size_certain ? part.bytes.size() : 0, ""}});
  return chips;
}

// A lone controller pak of the source goes into the first numbered file.
bool belongs(const Part& part, Role role, const Save& all) {
  if (part.role == role) return true;
  return part.role == Role{PartKind::pak, 0} && role == Role{PartKind::pak, 1} && all.find(role) == nullptr;
}

// Where the bay keeps the save in that form. Of several extensions that the rule has, that of the file in
// place; of several files in place, the newest; of none, that of the saves around it.
Result<std::vector<SaveFile>> files_of(BayView& view, const Arrival& arrival, const Layout& form) {
  const PlatformRule& rule = *arrival.rule;
  BAYSWAP_TRY(auto files, places(view.catalog(), rule, arrival.facts, form));
  if (rule.extensions.size() < 2) return files;
  const auto memory = std::ranges::find_if(
      files, [&](const SaveFile& file) { return !form.is_set() || takes_extension(*file.layout); });
  if (memory == files.end()) return files;
  std::optional<std::int64_t> newest;
  for (const std::string& extension : rule.extensions) {
    NameFacts facts = arrival.facts;
    facts.extension = extension;
    BAYSWAP_TRY(const std::string path, rule.path.expand(facts));
    BAYSWAP_TRY(const auto info, view.store().stat(view.path_on_disk(path)));
    if (!info || info->kind != FileInfo::Kind::file || (newest && info->modified <= *newest)) continue;
    newest = info->modified;
    memory->path = path;
  }
  if (newest) return files;
  NameFacts facts = arrival.facts;
  facts.extension = view.extension_in_use(rule, folder_of(memory->path));
  if (!facts.extension.empty()) {
    BAYSWAP_TRY(memory->path, rule.path.expand(facts));
  }
  return files;
}

bool brings_clock(const Arrival& arrival) {
  return std::any_of(arrival.content.chips.parts.begin(), arrival.content.chips.parts.end(),
                     [](const Part& part) { return part.role.kind == PartKind::rtc && !is_blank(part); });
}

bool has_clock(const Layout& form) {
  return std::ranges::any_of(form.slots, [](const Slot& slot) { return slot.role.kind == PartKind::rtc; });
}

// Whether all that the save has finds room. Of a set, its members tell.
bool has_room(const Layout& form, const Save& save) {
  return form.is_set() || std::ranges::all_of(save.parts, [&](const Part& part) {
           if (is_blank(part) || part.role.kind == PartKind::rtc) return true;
           return std::ranges::any_of(form.slots, [&](const Slot& slot) {
             const auto sizes = slot.part_sizes();
             return belongs(part, slot.role, save) && !sizes.empty() && sizes.back() >= part.bytes.size();
           });
         });
}

// Of several forms that the bay can have: that of the file in place, that of most of its saves, or the first.
// What the game's own file has it keeps; the neighbours never give it a clock.
Result<const Layout*> form_for(BayView& view, const Arrival& arrival) {
  std::vector<ChipFact> chips = chips_for(arrival);
  if (!brings_clock(arrival))
    std::erase_if(chips, [](const ChipFact& chip) { return chip.kind == PartKind::rtc; });
  BAYSWAP_TRY(auto forms, layouts_for(view.catalog(), *arrival.rule, chips));
  if (forms.size() == 1) return forms.front();
  const auto listed = [&](const Layout* layout) {
    return std::find(forms.begin(), forms.end(), layout) != forms.end();
  };
  for (const Layout* form : forms) {
    BAYSWAP_TRY(const auto files, files_of(view, arrival, *form));
    for (const SaveFile& file : files) {
      const auto bytes = view.store().read_if_there(view.path_on_disk(file.path));
      if (!bytes || !*bytes || (*bytes)->empty()) continue;
      OpenOptions options;
      options.said = file.layout;
      options.or_else = forms;
      options.hints.platform = arrival.rule->platform;
      options.hints.game = arrival.facts.game;
      options.hints.chips = arrival.chips;
      options.display_path = file.path;
      IssueList ignored;
      const auto opened = open_chips(view.catalog(), **bytes, options, ignored);
      if (!opened || opened->save.is_blank()) continue;
      if (listed(opened->layout)) return opened->layout;
      if (opened->layout == file.layout) return form;  // of a set
    }
  }
  const bool timed = brings_clock(arrival) || std::ranges::any_of(arrival.chips, [](const ChipFact& chip) {
                       return chip.kind == PartKind::rtc;
                     });
  if (!timed && !std::ranges::all_of(forms, [](const Layout* form) { return has_clock(*form); }))
    std::erase_if(forms, [](const Layout* form) { return has_clock(*form); });
  const auto lacks_room = [&](const Layout* form) { return !has_room(*form, arrival.content.chips); };
  if (!std::ranges::all_of(forms, lacks_room)) std::erase_if(forms, lacks_room);
  for (const Layout* layout : view.layouts_in_use(*arrival.rule))
    if (listed(layout)) return layout;
  return forms.front();
}

void note_clock(const Arrival& arrival, const std::vector<SaveFile>& files, IssueList& issues) {
  const bool wanted = std::any_of(arrival.chips.begin(), arrival.chips.end(),
                                  [](const ChipFact& chip) { return chip.kind == PartKind::rtc; }) ||
                      std::any_of(files.begin(), files.end(), [](const SaveFile& file) {
                        return file.layout->slot({PartKind::rtc, 0}) != nullptr;
                      });
  if (wanted && !brings_clock(arrival))
    issues.note(IssueCode::conversion,
                "the cartridge has a clock, and the save brings none: it starts anew, or stays as the target "
                "has it",
                "set it in the game");
}

Result<std::vector<Spot>> spots_file(BayView& view, Arrival& arrival) {
  if (arrival.content.kind != Content::Kind::chips) return cannot_become(view, arrival);
  BAYSWAP_TRY(const Layout* form, form_for(view, arrival));
  BAYSWAP_TRY(const auto files, files_of(view, arrival, *form));
  note_clock(arrival, files, arrival.issues);
  std::vector<Spot> found;
  for (const SaveFile& file : files) {
    const bool numbered = files.size() > 1;
    const bool wanted = !numbered || std::ranges::any_of(arrival.content.chips.parts, [&](const Part& part) {
      return belongs(part, file.role, arrival.content.chips) && !is_blank(part);
    });
    if (wanted) found.push_back({view.path_on_disk(file.path), {}, file.layout, file.role, numbered});
  }
  return found;
}

class FileMerger {
 public:
  FileMerger(MergeContext& context, Arrival& arrival, const Spot& spot)
      : context_(context), arrival_(arrival), spot_(spot) {}

  Result<void> run() {
    Store& store = context_.view.store();
    Save save = arrival_.content.chips;
    if (spot_.of_set)
      std::erase_if(save.parts,
                    [&](const Part& part) { return !belongs(part, spot_.role, arrival_.content.chips); });
    BAYSWAP_TRY(const auto info, store.stat(spot_.path));
    std::optional<Blob> old;
    if (info) {
      BAYSWAP_TRY(old, store.read(spot_.path));
    }
    const auto base = base_from(save, old);
    ConvertRequest request;
    request.inputs.push_back(std::move(save));
    request.to = own_form_ ? &*own_form_ : spot_.layout;
    request.base = base ? &*base : nullptr;
    request.chips = chips_for(arrival_);
    request.pak = spot_.role.number > 0 ? 0 : arrival_.pak;
    BAYSWAP_TRY(Converted converted, convert(context_.view.catalog(), request));
    if (converted.empty || converted.files.empty()) return {};
    arrival_.brought = true;
    report(converted);
    if (old && *old == converted.files.front().bytes) return {};
    steps_of(converted, base.has_value());
    return place_file(context_, arrival_, spot_.path, converted.files.front().bytes, "");
  }

 private:
  // The target's own file as the shell of the new one, if it is what the bay says it is.
  std::optional<Blob> base_from(const Save& save, const std::optional<Blob>& old) {
    if (!old) return std::nullopt;
    // One that ends early is none: who knows what it is.
    if (const auto opened = open_save(*spot_.layout, *old, arrival_.chips);
        opened && opened->fitted.fit != Fit::trimmed)
      return old;
    const std::string shown = context_.view.store().display_path(spot_.path);
    Hints hints;
    hints.game = arrival_.facts.game;
    hints.chips = arrival_.chips;
    auto own = old->empty() || spot_.role.number > 0
                   ? fail(ErrorCode::not_recognised, "")
                   : detect_layout(context_.view.catalog(), {save}, *old, hints);
    if (own) {
      arrival_.issues.warn(
          IssueCode::odd_target,
          fmt::format("{} has {} bytes, which no {} file has; it is taken as {}: {}", shown, old->size(),
                      spot_.layout->id, own->layout.id, joined(own->evidence, "; ")),
          fmt::format("look at it in the game; if it is wrong, undo and {}", mended_layout()));
      own_form_ = std::move(own->layout);
      return old;
    }
    const std::string text =
        fmt::format("{} has {} bytes, which no {} file has", shown, old->size(), spot_.layout->id);
    if (old->empty())
      arrival_.issues.note(IssueCode::odd_target, text, "it is replaced by a new file");
    else
      arrival_.issues.unless_accepted(IssueCode::odd_target, text,
                                      mended_layout() + "; the old file is kept in the logbook");
    return std::nullopt;
  }

  // What makes the rule's layout right: a place that was only looked at has no file to correct.
  [[nodiscard]] std::string mended_layout() const {
    const std::string& origin = context_.view.bay().origin;
    return origin.ends_with(".toml") ? "correct layout in " + origin
                                     : "make a bay of the place and give it the layout of its files";
  }

  void report(Converted& converted) {
    for (std::string& warning : converted.warnings)
      arrival_.issues.warn(IssueCode::conversion, std::move(warning));
    for (std::string& cut : converted.cuts)
      arrival_.issues.unless_accepted(IssueCode::cut, std::move(cut), "use a bay that has room for it");
    for (DumpDefect& defect : converted.defects) {
      const IssueCode code = issue_code_from_text(defect.code).value_or(IssueCode::conversion);
      if (defect.certain)
        arrival_.issues.unless_accepted(code, std::move(defect.text), std::move(defect.hint));
      else
        arrival_.issues.warn(code, std::move(defect.text), std::move(defect.hint));
    }
  }

  void steps_of(const Converted& converted, bool grafted) {
    std::vector<std::string> sources;
    for (const Layout* layout : arrival_.content.layouts)
      if (std::ranges::any_of(layout->slots, [&](const Slot& slot) {
            return std::ranges::any_of(converted.files.front().brought,
                                       [&](Role role) { return role.kind == slot.role.kind; });
          }))
        if (std::ranges::find(sources, layout->id) == sources.end()) sources.push_back(layout->id);
    const std::string& to = own_form_ ? own_form_->id : spot_.layout->id;
    if (sources.size() != 1 || sources.front() != to)
      arrival_.steps.push_back({"convert", fmt::format("{} to {}", joined(sources, " + "), to),
                                fmt::format("{} keeps it so", context_.view.bay().name)});
    for (const std::string& note : converted.notes)
      arrival_.steps.push_back({grafted ? "graft" : "convert", note, ""});
  }

  MergeContext& context_;
  Arrival& arrival_;
  const Spot& spot_;
  std::optional<Layout> own_form_;  // of the target's file, where it is not what the bay says
};

Result<void> merge_file(MergeContext& context, std::span<Arrival* const> arrivals) {
  Arrival& arrival = *arrivals.front();
  for (const Spot& spot : arrival.spots) BAYSWAP_CHECK(FileMerger(context, arrival, spot).run());
  return {};
}

}  // namespace

const Keeper file_keeper{scan_file_saves, load_file, spots_file, merge_file, false, false};

}  // namespace bayswap
