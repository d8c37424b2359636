#include "inspect/states.hpp"

#include <bayswap/state.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "base/endian.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "inspect/look.hpp"

namespace bayswap {
namespace {

constexpr std::string_view what_it_is_good_for =
    "the battery save in it can be taken out and goes on anywhere; the state itself loads only in the kind "
    "of "
    "program that wrote it";
constexpr std::string_view what_it_is_not_good_for =
    "the state loads only in the kind of program that wrote it, and there is nothing in it to go on with "
    "elsewhere";

// The built-in maps, read once.
const StateMaps& built_in_maps() {
  static const StateMaps maps = [] {
    StateMaps read;
    (void)read.all();
    return read;
  }();
  return maps;
}

// More than a size speaks for the map: a battery save may have any size.
bool is_telling(const StateMap& map) {
  const bool marked = std::any_of(map.marks.begin(), map.marks.end(),
                                  [](const StateMark& mark) { return mark.bytes.size() >= 4; });
  const bool contained = std::any_of(map.envelope.begin(), map.envelope.end(), [](const EnvelopeStep& step) {
    return step.kind != EnvelopeStep::Kind::stream;
  });
  return marked || contained;
}

bool is_png(ByteView bytes) {
  constexpr std::array<Byte, 8> signature{0x89, 'P', 'N', 'G', '\r', '\n', 0x1a, '\n'};
  return bytes.size() > 64 && std::equal(signature.begin(), signature.end(), bytes.begin());
}

std::vector<Byte> bytes_of_hex(std::string_view hex) {
  std::vector<Byte> bytes;
  for (std::size_t i = 0; i + 1 < hex.size(); i += 2) {
    unsigned value = 0;
    (void)std::from_chars(hex.data() + i, hex.data() + i + 2, value, 16);
    bytes.push_back(static_cast<Byte>(value));
  }
  return bytes;
}

void say_parts(const Save& save, Finding& finding) {
  for (const Part& part : save.parts) finding.parts.push_back({part.role, part.bytes.size(), is_blank(part)});
}

// The game's title somewhere in the snapshot.
void look_for_title(const Blob& bytes, const Hints& hints, Finding& finding) {
  if (!hints.game || hints.game->title.size() < 4) return;
  const std::string& title = hints.game->title;
  for (const Layer& layer : find_layers(bytes)) {
    const ByteView view = layer.bytes.view();
    const auto at = std::search(view.begin(), view.end(), title.begin(), title.end(),
                                [](Byte a, char b) { return a == static_cast<Byte>(b); });
    if (at == view.end()) continue;
    finding.evidence.push_back(fmt::format("the ROM's title '{}' is in {} at {}", printable(title),
                                           to_text(layer.envelope), at - view.begin()));
    return;
  }
}

}  // namespace

bool find_mapped_state(const Blob& bytes, const Hints& hints, Finding& finding) {
  const StateFile file(bytes);
  const auto platform = platform_of(hints);
  const StateMap* found = nullptr;
  std::optional<Save> save;
  const auto ask = [&](const StateMaps& maps) {
    for (const StateMap* map : maps.all(platform)) {
      if (!is_telling(*map) || !is_state_of(*map, file)) continue;
      auto inside = battery_in_state(*map, file, hints.chips);
      if (found != nullptr && (!inside || save)) continue;
      found = map;
      if (inside) save = *std::move(inside);
    }
  };
  ask(built_in_maps());
  if (hints.states != nullptr && found == nullptr) ask(*hints.states);
  if (found == nullptr) return false;
  finding.kind = FileKind::save_state;
  finding.platform = found->platform;
  finding.confidence = 0.97;
  finding.state_map = found->id;
  finding.evidence.push_back(fmt::format("{}: {}", found->id, found->about));
  const auto reasons = is_state_of(*found, file).value_or(std::vector<std::string>{});
  finding.evidence.insert(finding.evidence.end(), reasons.begin(), reasons.end());
  if (is_png(bytes.view()))
    finding.evidence.emplace_back("it is a picture of the moment, which any viewer shows");
  look_for_title(bytes, hints, finding);
  if (!save) {
    finding.evidence.emplace_back("a battery save is in it; the ROM would tell how large it is");
    finding.evidence.emplace_back(what_it_is_good_for);
    return true;
  }
  say_parts(*save, finding);
  if (save->is_blank()) finding.evidence.emplace_back("no battery save is in it: the memory for it is blank");
  finding.evidence.emplace_back(save->is_blank() ? what_it_is_not_good_for : what_it_is_good_for);
  return true;
}

// Short lengths lead through any text from word to word, by chance to its end: that needs many of them.
bool is_clear(const std::vector<Layer>& layers, const Layer& chunk) {
  constexpr std::ptrdiff_t many = 8;
  const EnvelopeStep& step = chunk.envelope.back();
  return step.form.decimal || step.form.length_bytes > 2 ||
         std::ranges::count_if(layers, [&](const Layer& other) {
           return other.envelope.size() == chunk.envelope.size() && !other.envelope.empty() &&
                  other.envelope.back().kind == EnvelopeStep::Kind::chunk &&
                  other.envelope.back().form == step.form;
         }) >= many;
}

bool find_other_state(const Catalog& catalog, const Blob& bytes, const Hints& hints, Finding& finding) {
  constexpr std::size_t least = 1024;
  if (bytes.size() < least) return false;
  EnvelopeLimits limits;
  limits.max_bytes = std::size_t{64} << 20;
  const auto layers = find_layers(bytes, limits);
  std::string container;
  for (const Layer& layer : layers) {
    if (layer.envelope.empty()) continue;
    const EnvelopeStep& last = layer.envelope.back();
    // Archives and plain pictures hold anything; a stream in a picture's chunk, and chunks, a snapshot.
    const bool in_picture = layer.envelope.size() >= 2 && last.kind == EnvelopeStep::Kind::stream &&
                            layer.envelope[layer.envelope.size() - 2].kind == EnvelopeStep::Kind::png_chunk;
    if ((last.kind == EnvelopeStep::Kind::chunk && is_clear(layers, layer)) || in_picture) {
      container = to_text(layer.envelope);
      break;
    }
  }
  BatterySearch what;
  what.platform = platform_of(hints);
  what.chips = hints.chips;
  what.maps = hints.states != nullptr ? hints.states : &built_in_maps();
  const BatteryCandidate* inside = nullptr;
  BatteryFinds finds;
  if (what.platform && !what.chips.empty()) {
    finds = find_batteries(catalog, bytes, what);
    if (!finds.candidates.empty() && finds.candidates.front().certain) inside = &finds.candidates.front();
    // A file that is little but the memory is a battery save with something around it.
    if (inside != nullptr &&
        inside->map.layer_bytes.front() < inside->save.parts.front().bytes.size() * 5 / 4 &&
        container.empty())
      inside = nullptr;
  }
  if (container.empty() && inside == nullptr) return false;
  finding.kind = FileKind::save_state;
  finding.platform = what.platform;
  finding.confidence = inside != nullptr ? 0.8 : 0.5;
  finding.evidence.push_back(
      container.empty()
          ? "no map describes it"
          : fmt::format("a snapshot in chunks ({}, ...), which no map describes", printable(container)));
  look_for_title(bytes, hints, finding);
  if (inside == nullptr) {
    finding.evidence.emplace_back(what.chips.empty() ? "the game's ROM shows whether it has a battery save"
                                                     : "no place in it is clearly a battery save");
    return true;
  }
  finding.evidence.push_back(inside->evidence.front());
  say_parts(inside->save, finding);
  finding.evidence.emplace_back(what_it_is_good_for);
  return true;
}

void name_rom_inside(Store& store, const std::string& path, const Blob& bytes, Finding& finding) {
  constexpr std::uint64_t largest_rom = std::uint64_t{64} << 20;
  if (finding.kind != FileKind::save_state) return;
  for (const std::string& name : names_beside_state(path)) {
    const auto rom = rom_beside(store, name + ".state");
    if (!rom) continue;
    const auto source = rom_source(store, rom->first);
    if (!source || source->size_bytes > largest_rom) return;
    const auto layers = find_layers(bytes);
    std::vector<std::size_t> skips{0};
    if (rom->second.header_size_bytes != 0) skips.push_back(rom->second.header_size_bytes);
    for (const std::size_t skip : skips) {
      const auto digests = digest_rom(*source, skip);
      if (!digests) return;
      std::vector<Byte> crc(4);
      put_le(crc, 0, 4, digests->crc32);
      const std::vector<Byte> reversed(crc.rbegin(), crc.rend());
      for (const auto& [what, wanted] :
           {std::pair("CRC-32", crc), std::pair("CRC-32", reversed),
            std::pair("MD5", bytes_of_hex(digests->md5)), std::pair("SHA-1", bytes_of_hex(digests->sha1))})
        for (const Layer& layer : layers) {
          const ByteView view = layer.bytes.view();
          const auto at = std::search(view.begin(), view.end(), wanted.begin(), wanted.end());
          if (at == view.end()) continue;
          finding.evidence.push_back(fmt::format("the {} of {} is in {} at {}: the state is of this ROM",
                                                 what, name_of(rom->first), to_text(layer.envelope),
                                                 at - view.begin()));
          return;
        }
    }
    return;
  }
}

void compare_with_saves_beside(Store& store, const std::string& path, const Catalog& catalog,
                               const Hints& hints, const Blob& bytes, Finding& finding) {
  if (finding.kind != FileKind::save_state || !finding.platform || finding.parts.empty()) return;
  for (const std::string& name : names_beside_state(path))
    for (const char* extension : {".srm", ".sav", ".eep", ".fla", ".sra"}) {
      const auto info = store.stat(name + extension);
      if (!info || !*info || (*info)->kind != FileInfo::Kind::file) continue;
      const auto file = store.read(name + extension);
      if (!file) continue;
      Hints save_hints = hints;
      save_hints.platform = saves_as(*finding.platform);
      const Recognition recognition = recognise(catalog, *file, save_hints);
      if (recognition.matches.empty()) continue;
      const auto opened = open_save(*recognition.matches.front().layout, *file, hints.chips);
      if (!opened || opened->save.is_blank()) continue;
      BatterySearch what;
      what.platform = finding.platform;
      what.chips = hints.chips;
      what.known.push_back({opened->save, std::string(name_of(name)) + extension});
      const BatteryFinds finds = find_batteries(catalog, bytes, what);
      const std::string known = "of " + what.known.front().display_path;
      const std::string equal = "equals " + what.known.front().display_path;
      for (const BatteryCandidate& one : finds.candidates)
        for (const std::string& why : one.evidence)
          if (why.ends_with(equal) || why.find(known) != std::string::npos) {
            finding.evidence.push_back("the battery save in it is known: " + why);
            return;
          }
      finding.evidence.push_back(
          fmt::format("the battery save in it is another one than {}", what.known.front().display_path));
      return;
    }
}

}  // namespace bayswap
