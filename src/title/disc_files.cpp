// ps1, ps2 and psp discs: a file of the disc's file system (ECMA-119) names the program.
#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

constexpr std::size_t sector_bytes = 2048;
constexpr std::size_t raw_sector_bytes = 2352;
constexpr std::size_t volume_sector = 16;
constexpr std::size_t root_record_at = 156;
constexpr std::size_t max_folder_bytes = 64 * sector_bytes;
constexpr std::size_t max_file_bytes = sector_bytes;

// Sectors of 2048 bytes, alone or within raw ones.
struct Sectors {
  const RomView& rom;
  std::size_t stride = sector_bytes;
  std::size_t lead = 0;

  [[nodiscard]] Blob read(std::uint64_t sector) const { return rom.at(sector * stride + lead, sector_bytes); }
};

bool is_volume(const Blob& sector) {
  constexpr std::string_view magic{
      "\x01"
      "CD001",
      6};
  return sector.size() == sector_bytes &&
         std::equal(magic.begin(), magic.end(), sector.view().begin(),
                    [](char a, Byte b) { return static_cast<Byte>(a) == b; });
}

std::optional<Sectors> sectors_of(const RomView& rom) {
  for (const auto& [stride, lead] : std::array<std::pair<std::size_t, std::size_t>, 3>{
           {{sector_bytes, 0}, {raw_sector_bytes, 16}, {raw_sector_bytes, 24}}}) {
    const Sectors sectors{rom, stride, lead};
    if (is_volume(sectors.read(volume_sector))) return sectors;
  }
  return std::nullopt;
}

// The first sector's worth of a file in the root folder.
std::string file_in_root(const Sectors& sectors, std::string_view name) {
  const Blob volume = sectors.read(volume_sector);
  const std::uint32_t folder = le32(volume.view(), root_record_at + 2);
  const std::size_t size = std::min<std::size_t>(le32(volume.view(), root_record_at + 10), max_folder_bytes);
  for (std::size_t i = 0; i * sector_bytes < size; ++i) {
    const Blob sector = sectors.read(folder + i);
    if (sector.empty()) break;
    const ByteView s = sector.view();
    for (std::size_t at = 0; at + 34 <= s.size() && s[at] >= 34 && at + s[at] <= s.size(); at += s[at]) {
      const std::size_t length = s[at + 32];
      if (33 + length > s[at]) break;
      std::string_view found(reinterpret_cast<const char*>(s.data()) + at + 33, length);
      found = found.substr(0, found.find(';'));
      if (found != name) continue;
      const Blob file = sectors.read(le32(s, at + 2));
      const Blob text = file.slice(0, std::min<std::size_t>(le32(s, at + 10), max_file_bytes));
      return {text.view().begin(), text.view().end()};
    }
  }
  return {};
}

// "SLES_990.01" as it is printed on the disc: "SLES-99001".
std::string printed_code(std::string_view file) {
  std::string code;
  for (const char c : file) {
    if (c == '_') {
      code += '-';
    } else if (c != '.') {
      code += c;
    }
  }
  return code;
}

std::optional<RomFacts> from_boot_line(const std::string& text) {
  const bool second = text.find("BOOT2") != std::string::npos;
  const auto boot = text.find("BOOT");
  if (boot == std::string::npos) return std::nullopt;
  const std::string line = text.substr(boot, text.find_first_of("\r\n", boot) - boot);
  const auto from = line.find_last_of("\\:/");
  if (from == std::string::npos) return std::nullopt;
  const std::string code = printed_code(line.substr(from + 1, line.find_first_of("; ", from) - from - 1));
  if (code.size() != 10 || code[4] != '-') return std::nullopt;
  RomFacts facts;
  facts.game.platform = second ? Platform::ps2 : Platform::ps1;
  facts.game.code = code;
  facts.evidence.emplace_back("the disc's SYSTEM.CNF names the program");
  return facts;
}

}  // namespace

std::optional<RomFacts> read_disc_files(const RomView& rom) {
  const auto sectors = sectors_of(rom);
  if (!sectors) return std::nullopt;
  std::optional<RomFacts> facts = from_boot_line(file_in_root(*sectors, "SYSTEM.CNF"));
  if (!facts) {
    // "ULES-99001|...": the folders of saves have the code without its dash.
    const std::string text = file_in_root(*sectors, "UMD_DATA.BIN");
    if (text.size() < 10 || text[4] != '-') return std::nullopt;
    facts.emplace();
    facts->game.platform = Platform::psp;
    facts->game.code = text.substr(0, 4) + text.substr(5, 5);
    facts->evidence.emplace_back("the disc's UMD_DATA.BIN has the product code");
  }
  if (!std::ranges::all_of(facts->game.code, [](char c) {
        return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-';
      }))
    return std::nullopt;
  facts->game.region = region_of_code(facts->game.platform, facts->game.code);
  facts->tells_chips = true;
  facts->confidence = 0.97;
  return facts;
}

}  // namespace bayswap
