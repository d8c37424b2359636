#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/read_field.hpp"

namespace bayswap::sheets {
namespace {

constexpr std::int64_t max_block = 1 << 20;
constexpr std::size_t max_blocks = 10;
constexpr std::size_t max_orders = 5040;

Result<void> read_units(TableReader& table, Scramble& scramble) {
  BAYSWAP_TRY(const auto unit, table.integer("unit"));
  if (unit && *unit != 1 && *unit != 2 && *unit != 4) return table.error("unit", "unit is 1, 2 or 4 bytes");
  scramble.unit_bytes = static_cast<std::size_t>(unit.value_or(1));
  BAYSWAP_TRY(const auto order, read_order(table, "order"));
  scramble.big_endian = order.value_or(false);
  return {};
}

Result<void> read_key(TableReader& table, Scramble& scramble) {
  BAYSWAP_TRY(auto key, read_expression(table, "key"));
  if (!key) return table.error("kind", "key is missing", "add key = \"a number or the name of a field\"");
  scramble.key = std::move(*key);
  return {};
}

Result<void> read_generator(TableReader& table, Scramble& scramble) {
  const auto number = [&](std::string_view key, std::int64_t otherwise) -> Result<std::uint64_t> {
    BAYSWAP_TRY(const auto value, table.integer(key));
    return static_cast<std::uint64_t>(value.value_or(otherwise));
  };
  BAYSWAP_TRY(scramble.multiply, number("multiply", 1));
  BAYSWAP_TRY(scramble.add, number("add", 0));
  BAYSWAP_TRY(const std::uint64_t bits, number("bits", 32));
  BAYSWAP_TRY(const std::uint64_t shift, number("shift", 0));
  if (bits < 8 || bits > 64 || shift >= bits)
    return table.error("bits", "a generator has 8 to 64 bits, and shift is less than that");
  scramble.state_bits = static_cast<unsigned>(bits);
  scramble.shift = static_cast<unsigned>(shift);
  BAYSWAP_TRY(const auto first, table.truth("step-first"));
  scramble.step_first = first.value_or(false);
  return {};
}

Result<void> read_substitution(TableReader& table, Scramble& scramble) {
  BAYSWAP_TRY(const std::string text, table.needed_text("table"));
  BAYSWAP_TRY(const auto bytes, read_hex(table, "table", text));
  if (bytes.size() != scramble.substitute.size())
    return table.error("table", fmt::format("a substitution has 256 bytes, not {}", bytes.size()));
  std::array<bool, 256> seen{};
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    if (seen.at(bytes[i]))
      return table.error("table",
                         fmt::format("{:02X} comes twice: the stored byte would be ambiguous", bytes[i]));
    seen.at(bytes[i]) = true;
    scramble.substitute.at(i) = bytes[i];
    scramble.substitute_back.at(bytes[i]) = static_cast<Byte>(i);
  }
  return {};
}

// orders = ["0123", "0132", ...]: a digit for each block, or all permutations in the order of a dictionary.
Result<void> read_orders(TableReader& table, Scramble& scramble) {
  BAYSWAP_TRY(const auto block, table.integer("block"));
  if (!block || *block < 1 || *block > max_block)
    return table.error("block", "block is missing or wrong, in bytes");
  scramble.block_bytes = static_cast<std::size_t>(*block);
  BAYSWAP_TRY(const auto count, table.integer("count"));
  if (!count || *count < 2 || *count > static_cast<std::int64_t>(max_blocks))
    return table.error("count", "count is missing or wrong: how many blocks, 2 to 10");
  const auto blocks = static_cast<std::size_t>(*count);
  if (scramble.kind == Scramble::Kind::rotate) {
    for (std::size_t turn = 0; turn < blocks; ++turn) {
      auto& order = scramble.orders.emplace_back(blocks);
      for (std::size_t i = 0; i < blocks; ++i) order[i] = (i + turn) % blocks;
    }
    return {};
  }
  BAYSWAP_TRY(const auto orders, table.texts("orders"));
  if (!orders) {
    std::vector<std::size_t> order(blocks);
    std::iota(order.begin(), order.end(), std::size_t{0});
    do scramble.orders.push_back(order);
    while (std::next_permutation(order.begin(), order.end()) && scramble.orders.size() < max_orders);
    return {};
  }
  for (const std::string& text : *orders) {
    std::vector<std::size_t> order;
    for (const char c : text) order.push_back(static_cast<std::size_t>(c) - '0');
    std::vector<std::size_t> sorted = order;
    std::ranges::sort(sorted);
    bool is_permutation = sorted.size() == blocks;
    for (std::size_t i = 0; is_permutation && i < blocks; ++i) is_permutation = sorted[i] == i;
    if (!is_permutation || scramble.orders.size() >= max_orders)
      return table.error("orders", fmt::format("'{}' does not order {} blocks", printable(text), blocks),
                         "write each block's number once, from 0: \"2013\"");
    scramble.orders.push_back(std::move(order));
  }
  return {};
}

struct ChecksumWord {
  std::string_view word;
  ChecksumForm::Kind kind;
};
constexpr std::array<ChecksumWord, 6> checksum_words{{{"sum", ChecksumForm::Kind::sum},
                                                      {"xor", ChecksumForm::Kind::exclusive_or},
                                                      {"crc", ChecksumForm::Kind::crc},
                                                      {"adler32", ChecksumForm::Kind::adler32},
                                                      {"md5", ChecksumForm::Kind::md5},
                                                      {"sha1", ChecksumForm::Kind::sha1}}};

Result<unsigned> read_bits(TableReader& table, std::int64_t otherwise) {
  BAYSWAP_TRY(const auto bits, table.integer("bits"));
  const std::int64_t said = bits.value_or(otherwise);
  if (said != 8 && said != 16 && said != 32 && said != 64)
    return table.error("bits", "bits is 8, 16, 32 or 64");
  return static_cast<unsigned>(said);
}

Result<void> read_checksum_form(TableReader& table, ChecksumDef& checksum) {
  BAYSWAP_TRY(const std::string kind, table.needed_text("kind"));
  ChecksumForm& form = checksum.form;
  const auto usual =
      std::ranges::find(usual_crcs(), kind, [](const auto& one) { return std::string(one.first); });
  const auto word = std::ranges::find(checksum_words, kind, &ChecksumWord::word);
  if (usual != usual_crcs().end()) {
    form.kind = ChecksumForm::Kind::crc;
    form.crc = usual->second;
    form.bits = form.crc.bits;
  } else if (word != checksum_words.end()) {
    form.kind = word->kind;
  } else {
    std::vector<std::string> known;
    known.reserve(checksum_words.size() + usual_crcs().size());
    for (const ChecksumWord& one : checksum_words) known.emplace_back(one.word);
    for (const auto& [name, crc] : usual_crcs()) known.emplace_back(name);
    return table.error("kind", fmt::format("unknown kind of checksum '{}'", printable(kind)),
                       "kinds are " + joined(known, ", "));
  }
  BAYSWAP_TRY(const auto complement, table.truth("complement"));
  form.complemented = complement.value_or(false);
  BAYSWAP_TRY(const auto negate, table.truth("negate"));
  form.negated = negate.value_or(false);
  const auto number = [&](std::string_view key) -> Result<std::uint32_t> {
    BAYSWAP_TRY(const auto value, table.integer(key));
    return static_cast<std::uint32_t>(value.value_or(0));
  };
  if (form.kind == ChecksumForm::Kind::crc && usual == usual_crcs().end()) {
    BAYSWAP_TRY(form.crc.bits, read_bits(table, 32));
    if (form.crc.bits == 64) return table.error("bits", "a CRC has 8, 16 or 32 bits");
    form.bits = form.crc.bits;
    BAYSWAP_TRY(form.crc.polynomial, number("polynomial"));
    if (form.crc.polynomial == 0) return table.error("kind", "polynomial is missing");
    BAYSWAP_TRY(form.crc.start, number("start"));
    BAYSWAP_TRY(form.crc.end, number("end"));
    BAYSWAP_TRY(const auto reflected, table.truth("reflected"));
    form.crc.reflected = reflected.value_or(false);
  }
  if (form.kind == ChecksumForm::Kind::sum || form.kind == ChecksumForm::Kind::exclusive_or) {
    BAYSWAP_TRY(form.bits, read_bits(table, 16));
    BAYSWAP_TRY(const auto unit, table.integer("unit"));
    if (unit && *unit != 1 && *unit != 2 && *unit != 4) return table.error("unit", "unit is 1, 2 or 4 bytes");
    form.unit_bytes = static_cast<unsigned>(unit.value_or(1));
    BAYSWAP_TRY(const auto order, read_order(table, "unit-order"));
    form.unit_big_endian = order.value_or(checksum.big_endian);
    BAYSWAP_TRY(const auto start, table.integer("start"));
    form.start = static_cast<std::uint64_t>(start.value_or(0));
  }
  return {};
}

// The complement or the negative of a checksum before it.
Result<bool> read_pair(TableReader& table, ChecksumDef& checksum, const std::vector<ChecksumDef>& before) {
  BAYSWAP_TRY(const auto complement, table.text("complement-of"));
  BAYSWAP_TRY(const auto negative, table.text("negative-of"));
  if (!complement && !negative) return false;
  const std::string& name = complement ? *complement : *negative;
  const auto other = std::ranges::find(before, name, &ChecksumDef::id);
  if (other == before.end())
    return table.error("id", fmt::format("unknown checksum '{}'", printable(name)),
                       "name a checksum above it");
  const std::size_t size = size_of(other->form);
  if (size > 4) return table.error("id", "only checksums of 1, 2 and 4 bytes come in pairs");
  checksum.form.kind = ChecksumForm::Kind::sum;
  checksum.form.bits = static_cast<unsigned>(8 * size);
  checksum.form.unit_bytes = static_cast<unsigned>(size);
  checksum.form.unit_big_endian = other->big_endian;
  checksum.form.complemented = complement.has_value();
  checksum.form.negated = !complement;
  const auto at = other->at.constant();
  Expression end = other->at;
  if (at) {
    end = constant_expression(*at + static_cast<SheetNumber>(size));
  } else {
    BAYSWAP_TRY(end, parse_expression(fmt::format("({}) + {}", other->at.source, size)));
  }
  checksum.ranges.emplace_back(other->at, std::move(end));
  return true;
}

}  // namespace

Result<std::vector<Scramble>> read_scrambles(TableReader& table) {
  static const std::vector<std::pair<std::string, Scramble::Kind>> words{
      {"xor", Scramble::Kind::xor_key},     {"xor-stream", Scramble::Kind::xor_stream},
      {"add", Scramble::Kind::add_key},     {"substitute", Scramble::Kind::substitute},
      {"permute", Scramble::Kind::permute}, {"rotate", Scramble::Kind::rotate}};
  std::vector<Scramble> scrambles;
  BAYSWAP_TRY(auto tables, table.tables("scramble"));
  for (TableReader& one : tables) {
    Scramble scramble;
    BAYSWAP_TRY(const std::string kind, one.needed_text("kind"));
    const auto word = std::ranges::find(words, kind, [](const auto& pair) { return pair.first; });
    if (word == words.end())
      return one.error("kind", fmt::format("unknown scramble '{}'", printable(kind)),
                       "kinds are xor, xor-stream, add, substitute, permute and rotate");
    scramble.kind = word->second;
    switch (scramble.kind) {
      case Scramble::Kind::xor_stream:
        BAYSWAP_CHECK(read_generator(one, scramble));
        [[fallthrough]];
      case Scramble::Kind::xor_key:
      case Scramble::Kind::add_key:
        BAYSWAP_CHECK(read_units(one, scramble));
        BAYSWAP_CHECK(read_key(one, scramble));
        break;
      case Scramble::Kind::substitute:
        BAYSWAP_CHECK(read_substitution(one, scramble));
        break;
      case Scramble::Kind::permute:
      case Scramble::Kind::rotate:
        BAYSWAP_CHECK(read_orders(one, scramble));
        BAYSWAP_CHECK(read_key(one, scramble));
        break;
    }
    BAYSWAP_CHECK(one.no_other_keys());
    scrambles.push_back(std::move(scramble));
  }
  return scrambles;
}

Result<ChecksumDef> read_checksum(TableReader& table, const ReadContext& context,
                                  const std::vector<ChecksumDef>& before) {
  ChecksumDef checksum;
  BAYSWAP_TRY(checksum.id, table.needed_text("id"));
  if (!is_sheet_name(checksum.id))
    return table.error("id", fmt::format("'{}' is not a valid checksum name", printable(checksum.id)));
  BAYSWAP_TRY(checksum.text, read_words(table, "text"));
  BAYSWAP_TRY(checksum.severity, read_severity(table));
  BAYSWAP_TRY(const auto order, read_order(table, "order"));
  checksum.big_endian = order.value_or(context.big_endian);
  BAYSWAP_TRY(auto at, read_expression(table, "at"));
  if (!at) return table.error("id", "at is missing", "add at = 0x10, from the record's beginning");
  checksum.at = std::move(*at);
  BAYSWAP_TRY(checksum.condition, read_expression(table, "if"));
  BAYSWAP_TRY(const bool is_pair, read_pair(table, checksum, before));
  if (!is_pair) {
    BAYSWAP_CHECK(read_checksum_form(table, checksum));
    if (table.is_table("over")) return table.error("over", "over is a list of ranges, [[0, 0x10]]");
    BAYSWAP_TRY(const auto ranges, table.rows("over"));
    for (const auto& range : ranges) {
      std::vector<Expression> ends;
      for (const auto& cell : range) {
        const auto* number = std::get_if<std::int64_t>(&cell);
        if (number != nullptr) {
          ends.push_back(constant_expression(*number));
          continue;
        }
        auto parsed = parse_expression(std::get<std::string>(cell));
        if (!parsed) return table.error("over", parsed.error().message);
        ends.push_back(std::move(*parsed));
      }
      if (ends.size() != 2) return table.error("over", "a range is [first, one past the last]");
      checksum.ranges.emplace_back(std::move(ends[0]), std::move(ends[1]));
    }
    BAYSWAP_TRY(const auto fields, table.texts("of"));
    if (fields) checksum.fields = *fields;
    if (checksum.ranges.empty() && checksum.fields.empty())
      return table.error("id", "the checksum is over nothing", "add over = [[0, 0x10]] or of = [\"field\"]");
    BAYSWAP_TRY(const auto own, table.integer("own"));
    if (own && (*own < 0 || *own > 0xff)) return table.error("own", "a byte is 0 to 255");
    checksum.own_bytes = static_cast<Byte>(own.value_or(0));
  }
  BAYSWAP_CHECK(table.no_other_keys());
  return checksum;
}

}  // namespace bayswap::sheets
