#include <bayswap/history.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "sync/wire.hpp"

namespace bayswap {
namespace {

constexpr std::uint8_t record_form = 1;
constexpr std::array<std::string_view, 5> kind_words{"battery", "card", "folder", "state", "config"};
constexpr std::size_t max_parents = 4096;
constexpr std::size_t max_code = 64;
constexpr std::size_t max_maker = 16;
constexpr std::size_t max_place = 256;
constexpr std::size_t max_text = 1024;

constexpr std::string_view digits = "0123456789abcdef";

// "", or the number of a slot that only bays with slots have: a bay without keeps the first.
int plain_slot(int slot) {
  return slot <= 1 ? 0 : slot;
}

std::string stem_for(const SaveIdentity& save) {
  return save.facts.rom_path ? normalized_title(stem_of(*save.facts.rom_path)) : std::string();
}

void write_game(WireWriter& out, const GameId& game) {
  out.text(tag(game.platform));
  out.text(game.code);
  out.text(game.title);
  out.text(game.region == Region::unknown ? std::string_view() : name(game.region));
  out.u32(static_cast<std::uint32_t>(game.revision));
  out.u64(game.title_id);
  out.text(game.maker);
}

GameId read_game(WireReader& in) {
  GameId game;
  const auto platform = platform_from_tag(in.text(16));
  if (!platform) in.give_up();
  game.platform = platform.value_or(Platform{});
  game.code = in.text(max_code);
  game.title = in.text(max_text);
  game.region = region_from_text(in.text(64)).value_or(Region::unknown);
  game.revision = static_cast<int>(in.u32() & 0x7FFFFFFF);
  game.title_id = in.u64();
  game.maker = in.text(max_maker);
  return game;
}

// Texts of a record have limits, which its reader insists on.
void cut_texts(Version& version) {
  NameFacts& facts = version.save.facts;
  const auto cut = [](std::string& text, std::size_t limit) {
    if (text.size() > limit) text.resize(limit);
  };
  cut(facts.game.code, max_code);
  cut(facts.game.maker, max_maker);
  cut(version.save.place, max_place);
  cut(version.device_name, max_place);
  for (std::string* text : {&facts.game.title, &facts.account, &facts.save_name, &facts.suffix, &facts.folder,
                            &version.save.name, &version.label})
    cut(*text, max_text);
  if (facts.rom_path) cut(*facts.rom_path, max_text);
}

}  // namespace

std::string VersionId::hex() const {
  std::string out;
  for (const Byte byte : bytes) {
    out += digits[byte >> 4];
    out += digits[byte & 15];
  }
  return out;
}

std::string_view to_text(Version::Kind kind) {
  return kind_words.at(static_cast<std::size_t>(kind));
}

std::optional<Version::Kind> version_kind_from_text(std::string_view text) {
  const auto* found = std::find(kind_words.begin(), kind_words.end(), text);
  if (found == kind_words.end()) return std::nullopt;
  return static_cast<Version::Kind>(found - kind_words.begin());
}

bool is_same_save(const SaveIdentity& a, const SaveIdentity& b) {
  if (saves_as(a.facts.game.platform) != saves_as(b.facts.game.platform) || a.place != b.place ||
      a.name != b.name || lower(a.facts.account) != lower(b.facts.account) ||
      plain_slot(a.slot) != plain_slot(b.slot))
    return false;
  switch (compare(a.facts.game, b.facts.game)) {
    case GameMatch::same:
    case GameMatch::other_revision:
      return true;
    case GameMatch::other_region:
    case GameMatch::other_game:
      return false;
    case GameMatch::unknown:
      break;
  }
  const std::string stem = stem_for(a);
  return !stem.empty() && stem == stem_for(b);
}

Blob record_of(const Version& version) {
  WireWriter out;
  out.u8(record_form);
  const NameFacts& facts = version.save.facts;
  write_game(out, facts.game);
  out.u8(facts.rom_path ? 1 : 0);
  out.text(facts.rom_path ? std::string(name_of(*facts.rom_path)) : std::string());
  out.u32(static_cast<std::uint32_t>(facts.slot));
  for (const std::string* text : {&facts.account, &facts.save_name, &facts.suffix, &facts.folder})
    out.text(*text);
  out.u32(facts.unique);
  out.u8(version.save.has_rom ? 1 : 0);
  out.text(version.save.name);
  out.text(version.save.place);
  out.u32(static_cast<std::uint32_t>(version.save.slot));
  out.text(to_text(version.kind));
  out.text(version.label);
  out.text(version.content);
  out.raw(version.bundle.bytes);
  out.u64(version.size_bytes);
  out.u32(static_cast<std::uint32_t>(version.parents.size()));
  for (const VersionId& parent : version.parents) out.raw(parent.bytes);
  out.text(version.device);
  out.text(version.device_name);
  out.i64(version.noted);
  out.u8(version.modified ? 1 : 0);
  out.i64(version.modified.value_or(0));
  return out.blob();
}

Version with_id(Version version) {
  cut_texts(version);
  std::ranges::sort(version.parents);
  version.parents.erase(std::unique(version.parents.begin(), version.parents.end()), version.parents.end());
  const Digest digest = sha256(record_of(version).view());
  std::copy_n(digest.bytes.begin(), version.id.bytes.size(), version.id.bytes.begin());
  return version;
}

Result<Version> version_from_record(ByteView record) {
  WireReader in(record);
  Version version;
  if (in.u8() != record_form) in.give_up();
  NameFacts& facts = version.save.facts;
  facts.game = read_game(in);
  const bool has_path = in.u8() != 0;
  std::string path = in.text(max_text);
  if (has_path) facts.rom_path = std::move(path);
  facts.slot = static_cast<int>(in.u32() & 0xFFFF);
  for (std::string* text : {&facts.account, &facts.save_name, &facts.suffix, &facts.folder})
    *text = in.text(max_text);
  facts.unique = in.u32();
  version.save.has_rom = in.u8() != 0;
  version.save.name = in.text(max_text);
  version.save.place = in.text(max_place);
  version.save.slot = static_cast<int>(in.u32() & 0xFFFF);
  const auto kind = version_kind_from_text(in.text(16));
  if (!kind) in.give_up();
  version.kind = kind.value_or(Version::Kind{});
  version.label = in.text(max_text);
  version.content = in.text(64);
  if (!version.content.empty() && !digest_from_hex(version.content)) in.give_up();
  const ByteView bundle = in.raw(version.bundle.bytes.size());
  std::ranges::copy(bundle, version.bundle.bytes.begin());
  version.size_bytes = in.u64();
  const std::uint32_t parents = in.count(16);
  if (parents > max_parents) in.give_up();
  for (std::uint32_t i = 0; i < parents && in.ok(); ++i) {
    VersionId parent;
    std::ranges::copy(in.raw(parent.bytes.size()), parent.bytes.begin());
    version.parents.push_back(parent);
  }
  version.device = in.text(64);
  version.device_name = in.text(max_place);
  version.noted = in.i64();
  const bool has_modified = in.u8() != 0;
  const std::int64_t modified = in.i64();
  if (has_modified) version.modified = modified;
  if (!in.at_end()) return fail(ErrorCode::damaged, "a version's record is damaged");
  version = with_id(std::move(version));
  // What does not come out the same again was not written by us.
  const Blob again = record_of(version);
  if (!std::ranges::equal(again.view(), record)) return fail(ErrorCode::damaged, "a version's record is odd");
  return version;
}

}  // namespace bayswap
