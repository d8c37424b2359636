#include <bayswap/infer.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "base/try.hpp"
#include "layout/search.hpp"
#include "layout/transform.hpp"

namespace bayswap {
namespace {

constexpr std::size_t most_streams = 1024;
constexpr std::size_t most_plain_bytes = std::size_t{16} << 20;
constexpr std::size_t most_fields = 48;

bool same_way(const Slot& a, const Slot& b) {
  return a.order == b.order && a.form == b.form && a.lane == b.lane &&
         (a.spread == Spread::none) == (b.spread == Spread::none);
}

std::string in_words(const Slot& slot, bool knows_filler = true) {
  std::string text(in_words(slot.order));
  if (slot.form != Form::plain) text += fmt::format(", as {}", to_text(slot.form));
  if (slot.spread != Spread::none)
    text += fmt::format(", spread over {} addresses{}", to_text(slot.lane),
                        knows_filler ? fmt::format(" ({})", to_text(slot.spread)) : "");
  return text;
}

// Where the parts stand in one file, or in the stream that comes out of it.
struct Reading {
  Stream stream;
  Blob plain;
  std::map<std::string, std::vector<Slot>> ways;  // by role
};

Reading read_plain(const Example& example, const Stream& stream, const Blob& plain) {
  Reading reading{stream, plain, {}};
  for (const Part& part : example.save.parts)
    if (!is_blank(part))
      if (auto ways = find_part(part, plain.view()); !ways.empty())
        reading.ways[to_text(part.role)] = std::move(ways);
  return reading;
}

// The first compressed stream in the file that holds a part, or the file as it is. In this order: bytes that
// don't compress stand in their stream as they are.
Reading read_example(const Example& example) {
  const ByteView file = example.file.view();
  std::size_t tried = 0;
  for (std::size_t at = 0; at + 8 < file.size() && tried < most_streams; ++at) {
    const bool gzip = file[at] == 0x1f && file[at + 1] == 0x8b && file[at + 2] == 8;
    const bool zlib =
        (file[at] & 0x8f) == 8 && (file[at] * 256 + file[at + 1]) % 31 == 0 && (file[at + 1] & 0x20) == 0;
    const bool chunks = file[at] == '#' && file[at + 7] == '#';
    if (!gzip && !zlib && !chunks) continue;
    ++tried;
    const Compression kind = gzip ? Compression::gzip : zlib ? Compression::zlib : Compression::chunks;
    auto stream = read_stream(kind, example.file.slice(at, file.size()), most_plain_bytes);
    if (!stream || stream->plain.empty()) continue;
    Reading inside = read_plain(example, {kind, at}, stream->plain);
    if (!inside.ways.empty()) return inside;
    at += stream->stream.size() - 1;
  }
  return read_plain(example, {}, example.file);
}

// How close the two come where they don't hold the same: the share of equal bytes at the likeliest places.
std::string closest_in_words(const Example& example) {
  const ByteView file = example.file.view();
  double best = 0;
  std::string words;
  for (const Part& part : example.save.parts) {
    if (is_blank(part) || part.bytes.size() > file.size()) continue;
    std::vector<Byte> turned(part.bytes.size());
    for (const ByteOrder order : {ByteOrder::chip, ByteOrder::swap16, ByteOrder::swap32, ByteOrder::swap64}) {
      Slot slot{part.role, 0, false, {part.bytes.size()}, {part.bytes.size()}};
      slot.order = order;
      if (part.bytes.size() % 8 != 0 && order != ByteOrder::chip) continue;
      write_slot(slot, part.bytes.view(), turned, {});
      for (const std::size_t at : {std::size_t{0}, file.size() - turned.size()}) {
        std::size_t same = 0;
        std::size_t first = turned.size();
        for (std::size_t i = 0; i < turned.size(); ++i) {
          if (turned[i] == file[at + i]) {
            ++same;
          } else if (first == turned.size()) {
            first = i;
          }
        }
        const double share = static_cast<double>(same) / static_cast<double>(turned.size());
        if (share <= best) continue;
        best = share;
        words = fmt::format("at {}, {}, {} of {} bytes of {} are the same, the first other one is byte {}",
                            at, in_words(order), same, turned.size(), to_text(part.role), first);
      }
    }
  }
  constexpr double telling = 0.6;
  return best < telling ? "no order, spreading or compression that we know brings one into the other"
                        : "they come closest " + words;
}

class Learner {
 public:
  Learner(const std::vector<Example>& examples, const std::string& id) : examples_(examples) {
    result_.layout.id = id;
  }

  Result<Inferred> run() {
    BAYSWAP_CHECK(read());
    BAYSWAP_CHECK(choose_slots());
    BAYSWAP_CHECK(settle_sizes());
    settle_fillers();
    settle_rest();
    settle_stream();
    describe();
    // What was worked out goes by its own description from here on.
    const std::string toml = to_toml(result_.layout);
    BAYSWAP_TRY(result_.layout, parse_layout(toml, "worked out from examples"));
    BAYSWAP_CHECK(prove());
    return std::move(result_);
  }

 private:
  Result<void> read() {
    const Platform platform = examples_.front().save.platform;
    for (std::size_t i = 0; i < examples_.size(); ++i) {
      const Example& example = examples_[i];
      const std::string which = examples_.size() == 1 ? "" : fmt::format("pair {}: ", i + 1);
      if (example.save.platform != platform)
        return fail(ErrorCode::bad_usage, which + "it is of another platform than the first");
      if (example.file.empty() ||
          std::ranges::all_of(example.save.parts, [](const Part& part) { return part.bytes.empty(); }))
        return fail(ErrorCode::damaged,
                    which + "one of the files is empty: the copy was cut off before its first byte",
                    "copy it again from where it came from");
      if (example.save.is_blank())
        return fail(ErrorCode::bad_usage, which + "the known save is blank, so any place would do for it",
                    "save something in the game first, and take both files after that");
      Reading reading = read_example(example);
      if (reading.ways.empty())
        return fail(
            ErrorCode::not_recognised,
            fmt::format("{}the two files don't hold the same save: {}", which, closest_in_words(example)),
            "take both files after the same saving, without playing in between; if the known one is not in "
            "chip order, say its layout with --from");
      if (!readings_.empty() && (reading.stream.kind != readings_.front().stream.kind ||
                                 reading.stream.at != readings_.front().stream.at))
        return fail(ErrorCode::not_recognised, which + "it is stored in another way than the first pair",
                    "learn one form at a time");
      readings_.push_back(std::move(reading));
    }
    result_.layout.platform = saves_as(platform);
    result_.layout.stream = readings_.front().stream;
    return {};
  }

  // How much longer than in the first example the file is.
  [[nodiscard]] std::ptrdiff_t grown(std::size_t example) const {
    return static_cast<std::ptrdiff_t>(readings_[example].plain.size()) -
           static_cast<std::ptrdiff_t>(readings_.front().plain.size());
  }

  // The same way at the same place in another example; a place behind what grew has moved along.
  [[nodiscard]] const Slot* counterpart(const Slot& slot, std::size_t example) const {
    const auto ways = readings_[example].ways.find(to_text(slot.role));
    if (ways == readings_[example].ways.end()) return nullptr;
    for (const Slot& way : ways->second) {
      const auto moved = static_cast<std::ptrdiff_t>(way.at) - static_cast<std::ptrdiff_t>(slot.at);
      if (same_way(way, slot) &&
          (moved == 0 || (moved == grown(example) && way.file_sizes == slot.file_sizes)))
        return &way;
    }
    return nullptr;
  }

  [[nodiscard]] bool brings(std::size_t example, Role role) const {
    const Part* part = examples_[example].save.find(role);
    return part != nullptr && !is_blank(*part);
  }

  Result<void> choose_slots() {
    // Every part that some example shows, the largest first: it leaves the smaller ones less room for chance.
    std::map<std::string, Role> roles;
    for (const Example& example : examples_)
      for (const Part& part : example.save.parts) roles.emplace(to_text(part.role), part.role);
    std::vector<std::pair<Slot, std::vector<Slot>>> chosen;
    for (const auto& row : roles) {
      const std::string& name = row.first;
      const Role role = row.second;
      std::vector<Slot> ways;
      bool shown = false;
      for (std::size_t first = 0; first < examples_.size() && !shown; ++first) {
        if (!brings(first, role)) continue;
        shown = true;
        if (first == 0) {
          if (const auto found = readings_[0].ways.find(name); found != readings_[0].ways.end())
            ways = found->second;
        } else if (const auto found = readings_[first].ways.find(name);
                   found != readings_[first].ways.end() && grown(first) == 0) {
          ways = found->second;
        }
        std::erase_if(ways, [&](const Slot& slot) {
          for (std::size_t i = first + 1; i < examples_.size(); ++i)
            if (brings(i, role) && counterpart(slot, i) == nullptr) return true;
          return false;
        });
      }
      if (!shown) {
        result_.open.push_back(fmt::format(
            "{} is blank in every example, so its place is not known; an example with data in it would tell",
            name));
      } else if (ways.empty()) {
        result_.open.push_back(fmt::format("{} holds data, but does not stand in the other file", name));
      } else {
        chosen.emplace_back(ways.front(), ways);
      }
    }
    std::ranges::sort(chosen, std::greater<>{}, [](const auto& row) { return row.first.file_sizes.front(); });
    for (auto& [slot, ways] : chosen) {
      const auto free = std::ranges::find_if(ways, [&](const Slot& way) {
        return std::ranges::none_of(result_.layout.slots, [&](const Slot& taken) {
          return way.at < taken.at + taken.file_sizes.front() && taken.at < way.at + way.file_sizes.front();
        });
      });
      if (free == ways.end()) {
        result_.open.push_back(
            fmt::format("{} would stand where another part does; an example in which they differ "
                        "would tell",
                        to_text(slot.role)));
        continue;
      }
      say_alternatives(*free, ways);
      result_.layout.slots.push_back(*free);
    }
    if (result_.layout.slots.empty())
      return fail(
          ErrorCode::not_recognised, "the examples don't agree on any place for the save",
          "make sure that all of them are of one form; learn from one pair at a time to see which is not");
    std::ranges::sort(result_.layout.slots, {}, &Slot::at);
    return {};
  }

  void say_alternatives(const Slot& slot, const std::vector<Slot>& ways) {
    constexpr std::size_t most_named = 3;
    std::vector<std::string> others;
    for (const Slot& way : ways)
      if (&way != &slot && others.size() < most_named)
        others.push_back(fmt::format("at {}, {}", way.at, in_words(way)));
    if (!others.empty())
      result_.open.push_back(
          fmt::format("{} could as well stand {}; an example of another save, one that does not "
                      "repeat itself, would settle it",
                      to_text(slot.role), fmt::join(others, "; or ")));
  }

  Result<void> settle_sizes() {
    Layout& layout = result_.layout;
    const bool one_size = std::ranges::all_of(readings_, [&](const Reading& reading) {
      return reading.plain.size() == readings_.front().plain.size();
    });
    if (one_size) {
      layout.size = readings_.front().plain.size();
      const Slot& only = layout.slots.front();
      if (layout.slots.size() == 1 && only.at == 0 && only.file_sizes.front() == layout.size) layout.size = 0;
      return {};
    }
    Slot* elastic = nullptr;
    for (Slot& slot : layout.slots) {
      for (std::size_t i = 1; i < examples_.size(); ++i) {
        const Slot* other = brings(i, slot.role) ? counterpart(slot, i) : nullptr;
        if (other == nullptr || other->file_sizes == slot.file_sizes) continue;
        if (elastic != nullptr && elastic != &slot)
          return fail(ErrorCode::not_recognised,
                      "more than one part changes its size from example to example",
                      "learn from examples of one size at a time");
        elastic = &slot;
        sizes_.push_back(other->file_sizes.front());
      }
    }
    if (elastic == nullptr)
      return fail(ErrorCode::not_recognised,
                  "the files have several sizes, and no part of them explains that",
                  "learn from examples of one size at a time");
    sizes_.push_back(elastic->file_sizes.front());
    std::ranges::sort(sizes_);
    sizes_.erase(std::unique(sizes_.begin(), sizes_.end()), sizes_.end());
    elastic_role_ = elastic->role;
    elastic_end_ = elastic->at + elastic->file_sizes.front();
    const std::size_t own = elastic->file_sizes.front();
    for (const Reading& reading : readings_) {
      const auto grown_by = static_cast<std::ptrdiff_t>(reading.plain.size()) -
                            static_cast<std::ptrdiff_t>(readings_.front().plain.size());
      if (!std::ranges::binary_search(sizes_,
                                      static_cast<std::size_t>(static_cast<std::ptrdiff_t>(own) + grown_by)))
        return fail(ErrorCode::not_recognised, "the files' sizes don't go with the part's",
                    "learn from examples of one size at a time");
    }
    return {};
  }

  void settle_fillers() {
    for (Slot& slot : result_.layout.slots) {
      if (slot.spread == Spread::none) continue;
      Spread agreed =
          spread_of(slot, readings_.front().plain.view().subspan(slot.at, slot.file_sizes.front()));
      for (std::size_t i = 1; i < readings_.size(); ++i)
        if (const Slot* other = brings(i, slot.role) ? counterpart(slot, i) : nullptr)
          if (spread_of(*other, readings_[i].plain.view().subspan(other->at, other->file_sizes.front())) !=
              agreed)
            agreed = Spread::none;
      if (agreed == Spread::none) knows_fillers_ = false;
      if (agreed == Spread::none)
        result_.open.push_back(
            fmt::format("the bytes beside those of {} are neither 00, nor FF, nor the same again: they are "
                        "kept from a base, and "
                        "00 without one",
                        to_text(slot.role)));
      slot.spread = agreed == Spread::none ? Spread::zero : agreed;
    }
  }

  // The byte at offset `at` of the first example, in another one.
  [[nodiscard]] Byte byte_of(std::size_t example, std::size_t at) const {
    const bool moved = elastic_end_ != 0 && at >= elastic_end_;
    return readings_[example].plain.view()[static_cast<std::size_t>(static_cast<std::ptrdiff_t>(at) +
                                                                    (moved ? grown(example) : 0))];
  }

  // Outside of the slots: what is filler, what is always the same, what changes.
  void settle_rest() {
    Layout& layout = result_.layout;
    const ByteView plain = readings_.front().plain.view();
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
      if (!run.empty() && layout.fields.size() < most_fields) {
        layout.fields.push_back({run_at, false, run, 0, {}, 0});
      } else {
        result_.guessed_bytes += run.size();
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
      for (std::size_t e = 1; e < examples_.size(); ++e) constant = constant && byte_of(e, i) == plain[i];
      if (!constant) {
        ++changing;
        end_run();
        Field* last = layout.fields.empty() ? nullptr : &layout.fields.back();
        if (last != nullptr && last->unknown_bytes > 0 && last->at + last->unknown_bytes == i) {
          ++last->unknown_bytes;
        } else if (layout.fields.size() < most_fields) {
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
    result_.guessed_bytes += changing;
    outside_bytes_ = outside.size();
    changing_bytes_ = changing;
    if (elastic_role_) move_behind();
  }

  // What stands before and behind a compressed stream. Where that changes, the first example's stands for it.
  void settle_stream() {
    Stream& stream = result_.layout.stream;
    if (stream.kind == Compression::none) return;
    constexpr std::size_t most_kept = 4096;
    bool same = true;
    for (std::size_t i = 0; i < examples_.size(); ++i) {
      const Blob& file = examples_[i].file;
      const auto inside = read_stream(stream.kind, file.slice(stream.at, file.size()));
      if (!inside) continue;  // it was read before
      const ByteView head = file.view().first(stream.at);
      const ByteView tail = file.view().subspan(stream.at + inside->stream.size());
      if (i == 0 && head.size() <= most_kept) stream.head.assign(head.begin(), head.end());
      if (i == 0 && tail.size() <= most_kept) stream.tail.assign(tail.begin(), tail.end());
      same = same && std::ranges::equal(head, stream.head) && std::ranges::equal(tail, stream.tail);
    }
    const std::size_t around = stream.head.size() + stream.tail.size();
    if (around == 0) return;
    if (!same || examples_.size() == 1) {
      result_.open.push_back(fmt::format(
          "{} bytes around the stream {}", around,
          same ? "could be always the same, or change with each save; a second pair, of another save, would "
                 "settle it"
               : "change from example to example, and what they mean is not known: convert with --base"));
    } else {
      result_.certain.push_back(
          fmt::format("{} bytes around the stream are the same in all examples", around));
    }
  }

  // Four bytes that are the part's size in every example, and there are several sizes.
  [[nodiscard]] std::size_t size_field_at(std::size_t at, const std::vector<std::size_t>& outside,
                                          std::size_t k) const {
    constexpr std::size_t width = 4;
    if (!elastic_role_ || k + width > outside.size() || outside[k + width - 1] != at + width - 1) return 0;
    for (std::size_t e = 0; e < examples_.size(); ++e) {
      std::size_t value = 0;
      for (std::size_t i = width; i-- > 0;) value = value << 8 | byte_of(e, at + i);
      const auto slot = std::ranges::find(result_.layout.slots, *elastic_role_, &Slot::role);
      const Slot* own = e == 0 ? &*slot : counterpart(*slot, e);
      if (own == nullptr || value != own->part_size(own->file_sizes.front())) return 0;
    }
    return width;
  }

  // From offsets in the first example to the layout's own: what is behind the part of several sizes counts
  // from there.
  void move_behind() {
    Layout& layout = result_.layout;
    for (Slot& slot : layout.slots)
      if (slot.role == *elastic_role_) {
        slot.file_sizes = sizes_;
        slot.chip_sizes = slot.part_sizes();
      } else if (slot.at >= elastic_end_) {
        slot.at -= elastic_end_;
        slot.behind = true;
      }
    for (Field& field : layout.fields)
      if (field.at >= elastic_end_) {
        field.at -= elastic_end_;
        field.behind = true;
      }
  }

  void describe() {
    Layout& layout = result_.layout;
    layout.name = "learned from an example";
    if (layout.stream.kind != Compression::none)
      result_.certain.push_back(fmt::format("a {} stream begins at {}; {} bytes come out of it",
                                            to_text(layout.stream.kind), layout.stream.at,
                                            readings_.front().plain.size()));
    for (const Slot& slot : layout.slots)
      result_.certain.push_back(fmt::format(
          "{} of {} bytes stands {} {}, {}", to_text(slot.role), fmt::join(slot.part_sizes(), " or "),
          slot.behind ? "behind that by" : "at", slot.at, in_words(slot, knows_fillers_)));
    std::size_t known = 0;
    for (const Field& field : layout.fields) known += field.size_bytes() - field.unknown_bytes;
    if (outside_bytes_ > known + changing_bytes_)
      result_.certain.push_back(fmt::format("{} bytes around it are {:02X}",
                                            outside_bytes_ - known - changing_bytes_, layout.fill));
    if (known > 0 && examples_.size() > 1)
      result_.certain.push_back(fmt::format("{} bytes around it are the same in all examples", known));
    if (known > 0 && examples_.size() == 1)
      result_.open.push_back(
          fmt::format("{} bytes around it could be always the same, or change with each save; a second pair, "
                      "of another save, "
                      "would settle it",
                      known));
    if (changing_bytes_ > 0)
      result_.open.push_back(
          fmt::format("{} bytes around it change from example to example, and what they mean is not "
                      "known: they are kept from a base, so convert with --base",
                      changing_bytes_));
    layout.about = fmt::format("Learned from {} pair{} of files. {}.", examples_.size(),
                               examples_.size() == 1 ? "" : "s", fmt::join(result_.certain, "; "));
  }

  Result<void> prove() {
    const Catalog catalog;
    for (const Example& example : examples_) {
      ConvertRequest request;
      request.inputs.push_back(example.save);
      request.to = &result_.layout;
      request.base = &example.file;
      const auto converted = convert(catalog, request);
      if (!converted) return tl::unexpected(converted.error());
      if (converted->files.front().bytes == example.file) continue;
      return fail(ErrorCode::not_recognised, "what was worked out does not bring the file back bit for bit",
                  "please keep the two files and report this");
    }
    result_.certain.emplace_back("from each known save and its file as base, the file comes out bit for bit");
    return {};
  }

  const std::vector<Example>& examples_;
  std::vector<Reading> readings_;
  std::vector<std::size_t> sizes_;  // of the part that has several
  std::optional<Role> elastic_role_;
  std::size_t elastic_end_ = 0;  // in the first example; 0: no part has several sizes
  std::size_t outside_bytes_ = 0;
  std::size_t changing_bytes_ = 0;
  bool knows_fillers_ = true;
  Inferred result_;
};

}  // namespace

Result<Inferred> infer(const std::vector<Example>& examples, const std::string& id) {
  if (examples.empty())
    return fail(ErrorCode::bad_usage, "nothing to learn from", "give two files that hold the same save");
  return Learner(examples, id).run();
}

}  // namespace bayswap
