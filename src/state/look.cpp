// What is in a state, told by the maps.
#include <bayswap/state.hpp>

#include <algorithm>
#include <array>

#include "base/path.hpp"
#include "base/text.hpp"

namespace bayswap {
namespace {

constexpr std::array<Byte, 8> png_signature{0x89, 'P', 'N', 'G', '\r', '\n', 0x1a, '\n'};

bool is_png(ByteView bytes) {
  return bytes.size() > 64 && std::equal(png_signature.begin(), png_signature.end(), bytes.begin());
}

}  // namespace

std::optional<Blob> picture_in_state(const Blob& state) {
  if (is_png(state.view())) return state;
  EnvelopeLimits limits;
  limits.max_bytes = std::size_t{32} << 20;
  for (const Layer& layer : find_layers(state, limits))
    if (is_png(layer.bytes.view())) return layer.bytes;
  return std::nullopt;
}

StateLook look_at_state(const StateMaps& maps, const StateFile& state, std::optional<Platform> platform,
                        const std::vector<ChipFact>& chips) {
  StateLook look;
  look.picture = is_png(state.bytes().view());
  for (const StateMap* map : maps.all(platform)) {
    if (!is_state_of(*map, state)) continue;
    if (look.map.empty()) look.map = map->id;
    auto save = battery_in_state(*map, state, chips);
    if (!save) continue;
    look.map = map->id;
    look.battery = save->is_blank() ? StateLook::Battery::blank : StateLook::Battery::there;
    if (save->is_blank()) continue;
    look.save = *std::move(save);
    break;
  }
  return look;
}

std::vector<std::string> names_beside_state(const std::string& path) {
  constexpr int max_extensions = 3;  // ".state.auto", a digest
  std::vector<std::string> names;
  std::string name = path;
  for (int i = 0; i < max_extensions; ++i) {
    const std::size_t extension = extension_of(name).size();
    if (extension == 0) break;
    name.resize(name.size() - extension);
    names.push_back(name);
  }
  // A slot's number at the end of the stem: "Cog1", "Cog_slot_1".
  std::string stem = names.empty() ? path : names.front();
  const std::string whole = stem;
  while (!stem.empty() && stem.back() >= '0' && stem.back() <= '9' && whole.size() - stem.size() < 3) {
    stem.pop_back();
    if (stem_of(stem).empty()) break;
    names.push_back(stem);
    constexpr std::string_view word = "_slot_";
    if (lower(stem).ends_with(word)) names.push_back(stem.substr(0, stem.size() - word.size()));
  }
  return names;
}

}  // namespace bayswap
