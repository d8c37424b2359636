#include <bayswap/infer.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/order.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "layout/inference_state.hpp"
#include "layout/search.hpp"

namespace bayswap {
namespace {

std::string in_words(const Slot& slot, bool knows_filler = true) {
  std::string text(in_words(slot.order));
  if (slot.encoding != Encoding::plain) text += fmt::format(", as {}", to_text(slot.encoding));
  if (slot.interleave != Interleave::none)
    text += fmt::format(", spread over {} addresses{}", to_text(slot.parity),
                        knows_filler ? fmt::format(" ({})", to_text(slot.interleave)) : "");
  return text;
}

class LayoutInferrer : private InferenceState {
 public:
  LayoutInferrer(const std::vector<Example>& given, const std::string& id) : InferenceState(given) {
    result.layout.id = id;
  }

  Result<Inferred> run() {
    BAYSWAP_CHECK(read());
    BAYSWAP_CHECK(choose_slots());
    BAYSWAP_CHECK(settle_sizes());
    settle_fillers();
    settle_surroundings(*this);
    describe();
    // What was worked out goes by its own description from here on.
    const std::string toml = to_toml(result.layout);
    BAYSWAP_TRY(result.layout, parse_layout(toml, "worked out from examples"));
    BAYSWAP_CHECK(prove());
    return std::move(result);
  }

 private:
  Result<void> choose_slots() {
    // Every part that some example shows, the largest first: it leaves the smaller ones less room for chance.
    std::map<std::string, Role> roles;
    for (const Example& example : examples)
      for (const Part& part : example.save.parts) roles.emplace(to_text(part.role), part.role);
    std::vector<std::pair<Slot, std::vector<Slot>>> chosen;
    for (const auto& row : roles) {
      const std::string& name = row.first;
      const Role role = row.second;
      std::vector<Slot> ways;
      bool shown = false;
      for (std::size_t first = 0; first < examples.size() && !shown; ++first) {
        if (!brings(first, role)) continue;
        shown = true;
        if (first == 0) {
          if (const auto found = readings[0].ways.find(name); found != readings[0].ways.end())
            ways = found->second;
        } else if (const auto found = readings[first].ways.find(name);
                   found != readings[first].ways.end() && grown(first) == 0) {
          ways = found->second;
        }
        std::erase_if(ways, [&](const Slot& slot) {
          for (std::size_t i = first + 1; i < examples.size(); ++i)
            if (brings(i, role) && counterpart(slot, i) == nullptr) return true;
          return false;
        });
      }
      if (!shown) {
        result.open.push_back(fmt::format(
            "{} is blank in every example, so its place is not known; an example with data in it would tell",
            name));
      } else if (ways.empty()) {
        result.open.push_back(fmt::format("{} holds data, but is not in the other file", name));
      } else {
        chosen.emplace_back(ways.front(), ways);
      }
    }
    sort_by_descending(chosen, [](const auto& row) { return row.first.file_sizes.front(); });
    for (auto& [slot, ways] : chosen) {
      const auto free = std::ranges::find_if(ways, [&](const Slot& way) {
        return std::ranges::none_of(result.layout.slots, [&](const Slot& taken) {
          return way.at < taken.at + taken.file_sizes.front() && taken.at < way.at + way.file_sizes.front();
        });
      });
      if (free == ways.end()) {
        result.open.push_back(
            fmt::format("{} would overlap another part; an example in which they differ "
                        "would tell",
                        to_text(slot.role)));
        continue;
      }
      say_alternatives(*free, ways);
      result.layout.slots.push_back(*free);
    }
    if (result.layout.slots.empty())
      return fail(
          ErrorCode::not_recognised, "the examples don't agree on any place for the save",
          "make sure that all of them are of one form; learn from one pair at a time to see which is not");
    sort_by(result.layout.slots, &Slot::at);
    return {};
  }

  void say_alternatives(const Slot& slot, const std::vector<Slot>& ways) {
    constexpr std::size_t max_named = 3;
    std::vector<std::string> others;
    for (const Slot& way : ways)
      if (&way != &slot && others.size() < max_named)
        others.push_back(fmt::format("at {}, {}", way.at, in_words(way)));
    if (!others.empty())
      result.open.push_back(
          fmt::format("{} could as well be {}; an example of another save, one that does not "
                      "repeat itself, would settle it",
                      to_text(slot.role), joined(others, "; or ")));
  }

  Result<void> settle_sizes() {
    Layout& layout = result.layout;
    const bool one_size = std::ranges::all_of(readings, [&](const Reading& reading) {
      return reading.plain.size() == readings.front().plain.size();
    });
    if (one_size) {
      layout.size = readings.front().plain.size();
      const Slot& only = layout.slots.front();
      if (layout.slots.size() == 1 && only.at == 0 && only.file_sizes.front() == layout.size) layout.size = 0;
      return {};
    }
    Slot* variable_slot = nullptr;
    for (Slot& slot : layout.slots) {
      for (std::size_t i = 1; i < examples.size(); ++i) {
        const Slot* other = brings(i, slot.role) ? counterpart(slot, i) : nullptr;
        if (other == nullptr || other->file_sizes == slot.file_sizes) continue;
        if (variable_slot != nullptr && variable_slot != &slot)
          return fail(ErrorCode::not_recognised,
                      "more than one part changes its size from example to example",
                      "learn from examples of one size at a time");
        variable_slot = &slot;
        sizes.push_back(other->file_sizes.front());
      }
    }
    if (variable_slot == nullptr)
      return fail(ErrorCode::not_recognised,
                  "the files have several sizes, and no part of them explains that",
                  "learn from examples of one size at a time");
    sizes.push_back(variable_slot->file_sizes.front());
    sort_by(sizes, std::identity{});
    sizes.erase(std::unique(sizes.begin(), sizes.end()), sizes.end());
    elastic_role = variable_slot->role;
    elastic_end = variable_slot->at + variable_slot->file_sizes.front();
    const std::size_t own = variable_slot->file_sizes.front();
    for (const Reading& reading : readings) {
      const auto grown_by = static_cast<std::ptrdiff_t>(reading.plain.size()) -
                            static_cast<std::ptrdiff_t>(readings.front().plain.size());
      if (!std::ranges::binary_search(sizes,
                                      static_cast<std::size_t>(static_cast<std::ptrdiff_t>(own) + grown_by)))
        return fail(ErrorCode::not_recognised, "the files' sizes don't go with the part's",
                    "learn from examples of one size at a time");
    }
    return {};
  }

  void settle_fillers() {
    for (Slot& slot : result.layout.slots) {
      if (slot.interleave == Interleave::none) continue;
      Interleave agreed =
          spread_of(slot, readings.front().plain.view().subspan(slot.at, slot.file_sizes.front()));
      for (std::size_t i = 1; i < readings.size(); ++i)
        if (const Slot* other = brings(i, slot.role) ? counterpart(slot, i) : nullptr)
          if (spread_of(*other, readings[i].plain.view().subspan(other->at, other->file_sizes.front())) !=
              agreed)
            agreed = Interleave::none;
      if (agreed == Interleave::none) knows_fillers_ = false;
      if (agreed == Interleave::none)
        result.open.push_back(
            fmt::format("the bytes beside those of {} are neither 00, nor FF, nor the same again: they are "
                        "kept from a base, and "
                        "00 without one",
                        to_text(slot.role)));
      slot.interleave = agreed == Interleave::none ? Interleave::zero : agreed;
    }
  }

  void describe() {
    Layout& layout = result.layout;
    layout.name = "learned from an example";
    if (layout.stream.kind != Compression::none)
      result.certain.push_back(fmt::format("a {} stream begins at {}; {} bytes come out of it",
                                           to_text(layout.stream.kind), layout.stream.at,
                                           readings.front().plain.size()));
    for (const Slot& slot : layout.slots)
      result.certain.push_back(
          fmt::format("{} of {} bytes is {} {}, {}", to_text(slot.role), joined(slot.part_sizes(), " or "),
                      slot.after_variable ? "after that by" : "at", slot.at, in_words(slot, knows_fillers_)));
    std::size_t known = 0;
    for (const Field& field : layout.fields) known += field.size_bytes() - field.unknown_bytes;
    if (outside_bytes > known + changing_bytes)
      result.certain.push_back(
          fmt::format("{} bytes around it are {:02X}", outside_bytes - known - changing_bytes, layout.fill));
    if (known > 0 && examples.size() > 1)
      result.certain.push_back(fmt::format("{} bytes around it are the same in all examples", known));
    if (known > 0 && examples.size() == 1)
      result.open.push_back(
          fmt::format("{} bytes around it could be always the same, or change with each save; a second pair, "
                      "of another save, "
                      "would settle it",
                      known));
    if (changing_bytes > 0)
      result.open.push_back(
          fmt::format("{} bytes around it change from example to example, and what they mean is not "
                      "known: they are kept from a base, so convert with a base",
                      changing_bytes));
    layout.about = fmt::format("Learned from {} pair{} of files. {}.", examples.size(),
                               examples.size() == 1 ? "" : "s", joined(result.certain, "; "));
  }

  Result<void> prove() {
    const Catalog catalog;
    for (const Example& example : examples) {
      ConvertRequest request;
      request.inputs.push_back(example.save);
      request.to = &result.layout;
      request.base = &example.file;
      const auto converted = convert(catalog, request);
      if (!converted) return tl::unexpected(converted.error());
      if (converted->files.front().bytes == example.file) continue;
      return fail(ErrorCode::not_recognised, "what was worked out does not bring the file back bit for bit",
                  "please keep the two files and report this");
    }
    result.certain.emplace_back("from each known save and its file as base, the file comes out bit for bit");
    return {};
  }

  bool knows_fillers_ = true;
};

}  // namespace

Result<Inferred> infer(const std::vector<Example>& examples, const std::string& id) {
  if (examples.empty())
    return fail(ErrorCode::bad_usage, "nothing to learn from", "give two files that hold the same save");
  return LayoutInferrer(examples, id).run();
}

}  // namespace bayswap
