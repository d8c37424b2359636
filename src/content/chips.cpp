// Files of chips, taken apart: the bytes decide what they are.
#include <fmt/format.h>
#include <bayswap/content.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr double clear = 0.7;     // so sure of another layout than the bay says
constexpr double no_more = 0.15;  // and so little of the one it does say
constexpr double order_clear = 0.9;

class Opener {
 public:
  Opener(const Catalog& catalog, const Blob& bytes, const OpenOptions& options, IssueList& issues)
      : catalog_(catalog), bytes_(bytes), options_(options), issues_(issues) {}

  Result<OpenedChips> run() {
    BAYSWAP_TRY(const Layout* layout, choose());
    auto opened = open_save(*layout, bytes_, options_.hints.chips);
    if (!opened) {
      opened.error().code = ErrorCode::damaged;
      opened.error().message = fmt::format("{}: {}", options_.display_path, opened.error().message);
      return tl::unexpected(std::move(opened.error()));
    }
    if (options_.role.number > 0 && !opened->save.parts.empty())
      opened->save.parts.front().role = options_.role;
    judge_order(*layout, opened->fitted.bytes);
    if (opened->fitted.fit == Fit::trimmed) {
      std::string text = fmt::format("{}: {}", options_.display_path, opened->fitted.in_words(*layout));
      if (!issues_.is_accepted(IssueCode::short_file))
        return fail(ErrorCode::damaged, std::move(text),
                    "copy it again from where it came from, unless its end was blank and left out on purpose",
                    {Remedy::Kind::accept, {std::string(to_text(IssueCode::short_file))}});
      issues_.warn(IssueCode::short_file, std::move(text), "look at it in the game");
    }
    return OpenedChips{std::move(opened->save), layout, recognised_};
  }

 private:
  Result<const Layout*> choose() {
    const auto plain = unwrap(bytes_);
    const bool knows = plain.has_value();
    const Recognition told = knows ? recognise(catalog_, plain->plain, options_.hints) : Recognition{};
    if (!told.matches.empty() && !told.either()) {
      const Layout& best = *told.matches.front().layout;
      const bool has_size_field = std::any_of(best.fields.begin(), best.fields.end(), [](const Field& field) {
        return field.number_bytes > 0 || !field.by_size.empty();
      });
      recognised_ = told.matches.front().fit == Fit::exact && has_size_field;
    }
    if (options_.said != nullptr) return believed(*options_.said, told);
    if (!knows) return tl::unexpected(plain.error());
    if (told.matches.empty())
      return fail(ErrorCode::not_recognised,
                  fmt::format("{} ({} bytes) is not a {} save that we know", options_.display_path,
                              plain->plain.size(),
                              options_.hints.platform ? tag(*options_.hints.platform) : "battery"),
                  "inspect it to see what it could be");
    if (told.either() && differ(*told.matches[0].layout, *told.matches[1].layout))
      issues_.warn(IssueCode::either_layout,
                   fmt::format("{} could be {} as well as {}", options_.display_path,
                               told.matches[0].layout->id, told.matches[1].layout->id),
                   "look at it in the game; undo brings the old one back");
    if (turns(*told.matches.front().layout))
      issues_.note(IssueCode::conversion,
                   fmt::format("{} is read as {}, whose words are turned round: {}", options_.display_path,
                               told.matches.front().layout->id, joined(told.matches.front().evidence, "; ")),
                   "look at it in the game");
    return told.matches.front().layout;
  }

  // Whether the two read something else out of it: what is blank in both has no order.
  [[nodiscard]] bool differ(const Layout& one, const Layout& other) const {
    const auto a = open_save(one, bytes_, options_.hints.chips);
    const auto b = open_save(other, bytes_, options_.hints.chips);
    return !a || !b || a->save.parts.size() != b->save.parts.size() ||
           !std::equal(a->save.parts.begin(), a->save.parts.end(), b->save.parts.begin(),
                       [](const Part& left, const Part& right) {
                         return left.role == right.role && left.bytes == right.bytes;
                       });
  }
  static bool turns(const Layout& layout) {
    return std::ranges::any_of(layout.slots, [](const Slot& slot) {
      return slot.order == ByteOrder::swap32 && slot.role.kind != PartKind::eeprom;
    });
  }
  // How many kinds of evidence there are for the order that the layout has.
  [[nodiscard]] int kinds_for(const Layout& layout) const {
    const auto fitted = open_save(layout, bytes_, options_.hints.chips);
    int most = 0;
    for (const Slot& slot : layout.slots) {
      if (!fitted || (slot.role.kind != PartKind::sram && slot.role.kind != PartKind::flash)) continue;
      const auto at = layout.place(slot, fitted->fitted.bytes.size());
      const OrderVerdict verdict =
          judge_word_order(fitted->fitted.bytes.slice(at.at, at.size).view(), options_.hints.game);
      const bool agrees = (verdict.says == OrderVerdict::Says::reversed) == (slot.order == ByteOrder::swap32);
      if (verdict.says != OrderVerdict::Says::nothing && agrees) most = std::max(most, verdict.kinds);
    }
    return most;
  }
  // Nothing but the order of words tells them apart.
  static bool are_twins(const Layout& one, const Layout& other) {
    return one.platform == other.platform && one.slots.size() == other.slots.size() &&
           std::equal(one.slots.begin(), one.slots.end(), other.slots.begin(),
                      [](const Slot& a, const Slot& b) {
                        return a.role == b.role && a.at == b.at && a.file_sizes == b.file_sizes;
                      }) &&
           turns(one) != turns(other);
  }

  [[nodiscard]] const Layout* likeliest_listed(const Layout& said, const Recognition& told) const {
    constexpr double more_likely = 1.5;
    double own = 0;
    for (const LayoutMatch& match : told.matches)
      if (match.layout == &said) own = match.confidence;
    for (const LayoutMatch& match : told.matches) {
      if (std::find(options_.or_else.begin(), options_.or_else.end(), match.layout) == options_.or_else.end())
        continue;
      return match.confidence > more_likely * own ? match.layout : nullptr;
    }
    return nullptr;
  }

  const Layout* believed(const Layout& said, const Recognition& told) {
    // Of the layouts that the bay lists the likeliest; the first one if nothing decides.
    if (const Layout* listed = likeliest_listed(said, told)) return listed;
    if (told.matches.empty() || told.either() || told.matches.front().layout == &said) return &said;
    const LayoutMatch& best = told.matches.front();
    const auto own = std::find_if(told.matches.begin(), told.matches.end(),
                                  [&](const LayoutMatch& one) { return one.layout == &said; });
    if (best.confidence < clear || (own != told.matches.end() && own->confidence > no_more)) return &said;
    // Evidence of one kind alone is no reason to turn every word of a save: judge_order asks.
    if (are_twins(*best.layout, said) && kinds_for(*best.layout) < 2) return &said;
    issues_.note(IssueCode::other_layout,
                 fmt::format("{}: the bay calls it {}, but it is {}: {}", options_.display_path, said.id,
                             best.layout->id, joined(best.evidence, "; ")),
                 options_.origin.empty()
                     ? "it is read as what it is"
                     : fmt::format("it is read as what it is; correct layout in {}", options_.origin));
    return best.layout;
  }

  // The layout says in which order words are stored; the content may contradict.
  void judge_order(const Layout& layout, const Blob& bytes) {
    if (layout.platform != Platform::n64) return;
    for (const Slot& slot : layout.slots) {
      if (slot.role.kind != PartKind::sram && slot.role.kind != PartKind::flash) continue;
      const auto at = layout.place(slot, bytes.size());
      const OrderVerdict verdict = judge_word_order(bytes.slice(at.at, at.size).view(), options_.hints.game);
      const bool reversed = slot.order == ByteOrder::swap32;
      if (verdict.says == OrderVerdict::Says::nothing || verdict.confidence < order_clear ||
          reversed == (verdict.says == OrderVerdict::Says::reversed))
        continue;
      issues_.unless_accepted(
          IssueCode::byte_order,
          fmt::format("{}: {} {}, but its {} has the other byte order: {}", options_.display_path,
                      options_.said != nullptr ? "the bay calls it" : "it is taken as", layout.id,
                      to_text(slot.role), verdict.evidence),
          options_.origin.empty() ? "" : fmt::format("correct layout in {}", options_.origin));
    }
  }

  const Catalog& catalog_;
  const Blob& bytes_;
  const OpenOptions& options_;
  IssueList& issues_;
  bool recognised_ = false;  // a field of the file says how large its chip is
};

}  // namespace

Result<OpenedChips> open_chips(const Catalog& catalog, const Blob& bytes, const OpenOptions& options,
                               IssueList& issues) {
  return Opener(catalog, bytes, options, issues).run();
}

}  // namespace bayswap
