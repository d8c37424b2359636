// Converting loose files: which layouts, which outputs, which changes.
#include <fmt/format.h>
#include <bayswap/conversion.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

class ConversionPlanner {
 public:
  ConversionPlanner(const Catalog& catalog, Store& disk, const ConversionRequest& request)
      : catalog_(catalog), disk_(disk), request_(request), hints_(request.hints) {}

  Result<Conversion> run() {
    if (request_.inputs.empty()) return fail(ErrorCode::bad_usage, "convert what?", "name a file");
    if (request_.to.empty() && request_.base.empty())
      return fail(ErrorCode::bad_usage, "convert to what?",
                  "name a layout, or a file that has the wanted form", {Remedy::Kind::target_layout, {}});
    if (!request_.from.empty() && request_.from.size() != 1 && request_.from.size() != request_.inputs.size())
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} source layouts for {} files", request_.from.size(), request_.inputs.size()),
                  "pass it once for all files, or once for each, in their order");
    ConvertRequest request;
    request.chips = hints_.chips;
    request.pak = request_.slot;
    if (request_.slot == 0 && request_.inputs.size() == 1)
      request.pak = pak_number_in_name(request_.inputs.front());
    Blob base;
    if (!request_.base.empty()) {
      BAYSWAP_TRY(base, disk_.read(request_.base));
      request.base = &base;
    }
    const Layout* to = nullptr;
    if (!request_.to.empty()) {
      BAYSWAP_TRY(to, catalog_.find(request_.to));
      hints_.platform = to->platform;
    } else if (!hints_.platform) {
      hints_.platform = platform_of_base(base);
    }
    for (std::size_t i = 0; i < request_.inputs.size(); ++i) {
      BAYSWAP_TRY(auto save, read_input(i));
      request.inputs.push_back(std::move(save));
    }
    BAYSWAP_CHECK(take_clock_beside(to, request));
    DetectedLayout own;
    if (to == nullptr) {
      BAYSWAP_TRY(own, own_form(request, base));
      to = &own.layout;
    }
    request.to = to;
    BAYSWAP_TRY(const Converted converted, convert(catalog_, request));
    std::ranges::copy(converted.warnings, std::back_inserter(out_.warnings));
    if (!converted.cuts.empty() && !request_.may_cut)
      return fail(ErrorCode::unsafe, joined(converted.cuts, "; "),
                  "nothing was written; choose a layout with room for it",
                  {Remedy::Kind::accept, {std::string(to_text(IssueCode::cut))}});
    std::ranges::copy(converted.cuts, std::back_inserter(out_.warnings));
    for (const DumpDefect& defect : converted.defects)
      out_.warnings.push_back(defect.text + "; " + defect.hint);
    if (converted.empty)
      out_.warnings.emplace_back(
          "everything that was brought is blank: an unused cartridge, a flat battery, or a dump that failed");
    if (converted.files.empty())
      return fail(
          ErrorCode::unsafe,
          fmt::format("{}: all parts are blank, so there is no file to write", request_.inputs.front()),
          "check that the save is the right one", {Remedy::Kind::inspect, {}});
    out_.notes = converted.notes;
    BAYSWAP_CHECK(name_outputs(*to, converted));
    BAYSWAP_CHECK(plan_changes(converted));
    return std::move(out_);
  }

 private:
  // Where the target's own file tells its platform, though nothing else does.
  [[nodiscard]] std::optional<Platform> platform_of_base(const Blob& base) {
    const Finding finding = inspect(catalog_, base, hints_beside(disk_, request_.base));
    return finding.platform;
  }

  Result<DetectedLayout> own_form(const ConvertRequest& request, const Blob& base) {
    Hints hints = hints_;
    hints.extension = lower(extension_of(request_.base));
    auto own = detect_layout(catalog_, request.inputs, base, hints);
    if (!own) {
      own.error().message = fmt::format("{}: {}", request_.base, own.error().message);
      return own;
    }
    out_.base_evidence = own->evidence;
    constexpr double sure = 0.5;
    if (own->confidence < sure)
      out_.warnings.push_back(
          fmt::format("{} is taken as {}, with little to go by; name the layout to be sure", request_.base,
                      own->layout.id));
    return own;
  }

  Result<Save> read_input(std::size_t index) {
    const std::string& path = request_.inputs[index];
    BAYSWAP_TRY(const Blob bytes, disk_.read(path));
    const Layout* from = nullptr;
    if (!request_.from.empty()) {
      BAYSWAP_TRY(from, catalog_.find(request_.from[request_.from.size() == 1 ? 0 : index]));
      if (!hints_.platform) hints_.platform = from->platform;
    } else {
      BAYSWAP_TRY(from, detect_file(path, bytes));
    }
    auto opened = open_save(*from, bytes, hints_.chips);
    if (!opened) {
      opened.error().message = fmt::format("{}: {}", path, opened.error().message);
      return tl::unexpected(std::move(opened.error()));
    }
    for (const std::string& note : opened->notes)
      out_.read_notes.push_back(fmt::format("{}: {}", path, note));
    if (opened->fitted.fit == Fit::trimmed)
      out_.warnings.push_back(fmt::format("{}: {}", path, opened->fitted.in_words(*from)));
    out_.sources.push_back(from);
    if (const int number = pak_number_in_name(path); number > 0 && request_.inputs.size() > 1)
      for (Part& part : opened->save.parts)
        if (part.role == Role{PartKind::pak, 0}) part.role.number = number;
    return std::move(opened->save);
  }

  // A save may keep its clock in a file beside its memory. It goes along, or is named as what is left out.
  Result<void> take_clock_beside(const Layout* to, ConvertRequest& request) {
    if (request_.inputs.size() != 1 || !hints_.platform || request.inputs.front().find({PartKind::rtc, 0}))
      return {};
    const std::string& input = request_.inputs.front();
    const std::string path = input.substr(0, input.size() - extension_of(input).size()) + ".rtc";
    const auto bytes = path == input ? std::nullopt : disk_.read_if_there(path).value_or(std::nullopt);
    if (!bytes || bytes->empty()) return {};
    for (const Layout* layout : catalog_.all(saves_as(*hints_.platform))) {
      const bool is_clock = layout->slots.size() == 1 && layout->slots.front().role.kind == PartKind::rtc;
      if (!is_clock) continue;
      auto opened = open_save(*layout, *bytes, hints_.chips);
      if (!opened || opened->fitted.fit != Fit::exact || opened->save.is_blank()) continue;
      if (to != nullptr && !to->slot({PartKind::rtc, 0}) && !member_for(catalog_, *to, {PartKind::rtc, 0})) {
        out_.warnings.push_back(
            fmt::format("{} beside it, its clock, stays where it is: {} has no place for one", path, to->id));
        return {};
      }
      out_.read_notes.push_back(fmt::format("{}: the clock beside it, {}, goes along", path, layout->id));
      clock_beside_ = path;
      request.inputs.push_back(std::move(opened->save));
      return {};
    }
    out_.warnings.push_back(fmt::format("{} beside it was not taken along: it is no clock we know", path));
    return {};
  }

  Result<const Layout*> detect_file(const std::string& path, const Blob& bytes) {
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
                                                : "if you know better, name the layout it has",
                  {Remedy::Kind::source_layout, {}});
    }
    const LayoutMatch& best = recognition.matches.front();
    if (recognition.either()) {
      const auto save = open_save(*best.layout, bytes, hints.chips);
      if (save && !save->save.is_blank())
        out_.warnings.push_back(
            fmt::format("{} could be {} or {}: its bytes fit both; taken as {} (name its layout to choose)",
                        path, best.layout->id, recognition.matches[1].layout->id, best.layout->id));
    }
    return best.layout;
  }

  Result<void> name_outputs(const Layout& to, const Converted& converted) {
    const std::string stem(
        stem_of(request_.named_after.empty() ? request_.inputs.front() : request_.named_after));
    BAYSWAP_TRY(const auto there, disk_.stat(request_.out));
    const bool folder = request_.out.ends_with('/') || (there && there->kind == FileInfo::Kind::folder);
    if (to.is_set() && there && !folder)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} is a file, but {} is written into a folder", request_.out, to.id),
                  "name a folder");
    for (const ConvertedFile& file : converted.files) {
      const std::string path = to.is_set()
                                   ? join_path(request_.out, stem + set_suffix(*file.layout, file.role))
                               : folder ? join_path(request_.out, stem + to.extension)
                                        : request_.out;
      out_.outputs.push_back({path, file.layout->id, file.bytes.size()});
    }
    return {};
  }

  Result<void> plan_changes(const Converted& converted) {
    Plan& plan = out_.plan;
    for (std::size_t i = 0; i < converted.files.size(); ++i) {
      FileChange change{out_.outputs[i].path, {}, converted.files[i].bytes, std::nullopt};
      BAYSWAP_TRY(const auto info, disk_.stat(change.path));
      if (info) {
        if (info->kind == FileInfo::Kind::file && !request_.replace)
          return fail(ErrorCode::unsafe, fmt::format("{} exists already", change.path), "choose another name",
                      {Remedy::Kind::replace, {}});
        BAYSWAP_TRY(change.before, disk_.read(change.path));
      }
      if (change.before != change.after) plan.changes.push_back(std::move(change));
    }
    plan.kind = EntryKind::convert;
    plan.game = hints_.game;
    plan.reason = fmt::format("convert {} to {}", joined(request_.inputs, ", "),
                              request_.to.empty() ? "the form of " + request_.base : request_.to);
    for (const std::string& input : request_.inputs) plan.from_files.push_back(disk_.absolute_path(input));
    if (!clock_beside_.empty()) plan.from_files.push_back(disk_.absolute_path(clock_beside_));
    note_hard_links(plan, disk_);
    return {};
  }

  const Catalog& catalog_;
  Store& disk_;
  const ConversionRequest& request_;
  Hints hints_;               // of the game
  std::string clock_beside_;  // a file that nobody named and that goes along
  Conversion out_;
};

}  // namespace

Result<Conversion> plan_conversion(const Catalog& catalog, Store& disk, const ConversionRequest& request) {
  return ConversionPlanner(catalog, disk, request).run();
}

}  // namespace bayswap
