#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "layout/inference_state.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_fields = 48;

class Surroundings {
 public:
  explicit Surroundings(InferenceState& lesson) : lesson_(lesson) {}

  // Outside of the slots: what is filler, what is always the same, what changes.
  void settle_rest() {
    Layout& layout = lesson_.result.layout;
    const ByteView plain = lesson_.readings.front().plain.view();
    std::vector<std::size_t> outside;
    std::size_t at = 0;
    for (const Slot& slot : layout.slots) {
      for (; at < slot.at; ++at) outside.push_back(at);
      at = slot.at + slot.file_sizes.front();
    }
    for (; at < plain.size(); ++at) outside.push_back(at);
    std::array<std::size_t, 256> counts{};
    for (const std::size_t i : outside) ++counts.at(plain[i]);
    const auto most = std::ranges::max_element(counts);
    if (outside.size() >= 16 && *most > outside.size() / 2)
      layout.fill = static_cast<Byte>(most - counts.begin());

    std::vector<Byte> run;
    std::size_t run_at = 0;
    const auto end_run = [&] {
      while (!run.empty() && run.back() == layout.fill) run.pop_back();
      if (!run.empty() && layout.fields.size() < max_fields) {
        layout.fields.push_back({run_at, false, run, 0, {}, 0});
      } else {
        lesson_.result.guessed_bytes += run.size();
      }
      run.clear();
    };
    std::size_t changing = 0;
    for (std::size_t k = 0; k < outside.size(); ++k) {
      const std::size_t i = outside[k];
      const bool follows = k > 0 && outside[k - 1] + 1 == i && run_at + run.size() == i;
      if (!run.empty() && (!follows || run.size() >= 4000)) end_run();
      if (const std::size_t width = size_field_at(i, outside, k); width > 0) {
        end_run();
        layout.fields.push_back({i, false, {}, width, {}, 0});
        k += width - 1;
        continue;
      }
      bool constant = true;
      for (std::size_t e = 1; e < lesson_.examples.size(); ++e)
        constant = constant && lesson_.byte_of(e, i) == plain[i];
      if (!constant) {
        ++changing;
        end_run();
        Field* last = layout.fields.empty() ? nullptr : &layout.fields.back();
        if (last != nullptr && last->unknown_bytes > 0 && last->at + last->unknown_bytes == i) {
          ++last->unknown_bytes;
        } else if (layout.fields.size() < max_fields) {
          layout.fields.push_back({i, false, {}, 0, {}, 1});
        }
        continue;
      }
      if (run.empty()) {
        if (plain[i] == layout.fill) continue;
        run_at = i;
      }
      run.push_back(plain[i]);
    }
    end_run();
    lesson_.result.guessed_bytes += changing;
    lesson_.outside_bytes = outside.size();
    lesson_.changing_bytes = changing;
    if (lesson_.elastic_role) move_behind();
  }

  // What is before and after a compressed stream. Where that changes, the first example's stands for it.
  void settle_stream() {
    Stream& stream = lesson_.result.layout.stream;
    if (stream.kind == Compression::none) return;
    constexpr std::size_t max_kept = 4096;
    bool same = true;
    for (std::size_t i = 0; i < lesson_.examples.size(); ++i) {
      const Blob& file = lesson_.examples[i].file;
      const auto inside = read_stream(stream.kind, file.slice(stream.at, file.size()));
      if (!inside) continue;  // it was read before
      const ByteView head = file.view().first(stream.at);
      const ByteView tail = file.view().subspan(stream.at + inside->stream.size());
      if (i == 0 && head.size() <= max_kept) stream.head.assign(head.begin(), head.end());
      if (i == 0 && tail.size() <= max_kept) stream.tail.assign(tail.begin(), tail.end());
      same = same && std::ranges::equal(head, stream.head) && std::ranges::equal(tail, stream.tail);
    }
    const std::size_t around = stream.head.size() + stream.tail.size();
    if (around == 0) return;
    if (!same || lesson_.examples.size() == 1) {
      lesson_.result.open.push_back(fmt::format(
          "{} bytes around the stream {}", around,
          same ? "could be always the same, or change with each save; a second pair, of another save, would "
                 "settle it"
               : "change from example to example, and what they mean is not known: convert with a base"));
    } else {
      lesson_.result.certain.push_back(
          fmt::format("{} bytes around the stream are the same in all examples", around));
    }
  }

  // Four bytes that are the part's size in every example, and there are several lesson_.sizes.
  [[nodiscard]] std::size_t size_field_at(std::size_t at, const std::vector<std::size_t>& outside,
                                          std::size_t k) const {
    constexpr std::size_t width = 4;
    if (!lesson_.elastic_role || k + width > outside.size() || outside[k + width - 1] != at + width - 1)
      return 0;
    for (std::size_t e = 0; e < lesson_.examples.size(); ++e) {
      std::size_t value = 0;
      for (std::size_t i = width; i-- > 0;) value = value << 8 | lesson_.byte_of(e, at + i);
      const auto slot = std::ranges::find(lesson_.result.layout.slots, *lesson_.elastic_role, &Slot::role);
      const Slot* own = e == 0 ? &*slot : lesson_.counterpart(*slot, e);
      if (own == nullptr || value != own->part_size(own->file_sizes.front())) return 0;
    }
    return width;
  }

  // From offsets in the first example to the layout's own: what is after the part of several lesson_.sizes
  // counts from there.
  void move_behind() {
    Layout& layout = lesson_.result.layout;
    for (Slot& slot : layout.slots)
      if (slot.role == *lesson_.elastic_role) {
        slot.file_sizes = lesson_.sizes;
        slot.chip_sizes = slot.part_sizes();
      } else if (slot.at >= lesson_.elastic_end) {
        slot.at -= lesson_.elastic_end;
        slot.after_variable = true;
      }
    for (Field& field : layout.fields)
      if (field.at >= lesson_.elastic_end) {
        field.at -= lesson_.elastic_end;
        field.after_variable = true;
      }
  }

 private:
  InferenceState& lesson_;
};

}  // namespace

void settle_surroundings(InferenceState& lesson) {
  Surroundings surroundings(lesson);
  surroundings.settle_rest();
  surroundings.settle_stream();
}

}  // namespace bayswap
