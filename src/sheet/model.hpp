// A sheet as it is read: records with their fields, checksums and rules; tables; encodings of text.
#pragma once

#include <bayswap/save.hpp>
#include <bayswap/save_checksum.hpp>

#include <map>
#include <unordered_map>

#include "sheet/expression.hpp"

namespace bayswap::sheets {

/// A word or sentence in one language or several, by their two-letter codes; "" is the one for all others.
class Words {
 public:
  void add(std::string language, std::string text) {
    texts_.emplace_back(std::move(language), std::move(text));
  }
  [[nodiscard]] const std::string& in(std::string_view language) const;
  [[nodiscard]] bool empty() const { return texts_.empty(); }

 private:
  std::vector<std::pair<std::string, std::string>> texts_;
};

/// A table that ships with the sheet: rows under a key, cells of numbers or texts.
struct Table {
  std::string name;
  std::vector<std::string> columns;  // "name.de" is "name" in that language
  std::vector<bool> is_text;         // of each column
  std::vector<std::vector<SheetValue>> rows;
  std::map<SheetNumber, std::size_t> by_key;

  [[nodiscard]] std::optional<std::size_t> column(std::string_view column) const;
  /// Nothing where there is no such row or column.
  [[nodiscard]] SheetValue cell(SheetNumber key, std::string_view column) const;
  /// The row's name in a language; empty where the table has no column "name", or no such row.
  [[nodiscard]] std::string name_of(SheetNumber key, std::string_view language) const;
  /// The key of the row of that name, in any language and any case of letters. Nothing for several.
  [[nodiscard]] std::optional<SheetNumber> key_of(std::string_view name) const;
};

/// How characters are stored: a named encoding, or a table of the sheet.
struct TextForm {
  enum class Named { ascii, latin1, utf8, utf16_little, utf16_big, shift_jis, table };
  Named named = Named::ascii;
  std::size_t unit_bytes = 1;
  bool unit_big_endian = false;                            // of a table with two bytes a character
  std::unordered_map<std::uint32_t, std::string> to_text;  // of a table
  std::unordered_map<std::string, std::uint32_t> to_code;
  std::size_t longest = 1;  // text of one code, in bytes
};

struct Scramble {
  enum class Kind {
    xor_key,     // each unit with the same number
    xor_stream,  // each unit with the next number of a linear generator
    add_key,     // each unit plus a number; reading takes it away
    substitute,  // each byte by a table of 256
    permute,     // blocks in another order, which a number chooses
    rotate       // blocks turned by a number of places
  };
  Kind kind{};
  std::size_t unit_bytes = 1;  // 1, 2, 4
  bool big_endian = false;
  Expression key;  // the number, the generator's first state, the choice
  // Of the generator: state * multiply + add, modulo 2 to the `state_bits`; what counts is state >> shift.
  std::uint64_t multiply = 1;
  std::uint64_t add = 0;
  unsigned state_bits = 32;
  unsigned shift = 0;
  bool step_first = false;  // the first unit is taken after a step
  std::array<Byte, 256> substitute{};
  std::array<Byte, 256> substitute_back{};
  std::size_t block_bytes = 0;
  std::vector<std::vector<std::size_t>> orders;  // orders[choice][i]: which stored block is block i
};

/// A record's bytes that are put together of blocks, each of which has its own number.
struct Blocks {
  Expression at;  // where the first of them begins
  std::size_t block_bytes = 0;
  std::size_t count = 0;
  std::size_t data_bytes = 0;  // of each, from its beginning on
  std::size_t number_at = 0;   // within a block
  unsigned number_bits = 16;
  bool number_big_endian = false;
  SheetNumber first = 0;  // number of the first
};

enum class Show { plain, hex, time, duration, dos_time };
enum class CopyWrite { none, newest, other, all };  // which copy a change goes to
enum class FieldKind { number, truth, text, bytes, derived, record };

struct NumberForm {
  unsigned bits = 8;
  unsigned bit = 0;  // the lowest, counted from the lowest of the bytes that hold it
  bool has_bit = false;
  bool is_signed = false;
  bool is_bcd = false;
  bool big_endian = false;
  SheetNumber times = 1;  // the value is stored * times + plus
  SheetNumber plus = 0;
  SheetNumber per = 1;  // and is shown divided by this
  Show show = Show::plain;
  SheetNumber epoch = 0;  // of Show::time: seconds since 1970
  std::optional<SheetNumber> min;
  std::optional<SheetNumber> max;
  std::string table;               // names of values
  std::vector<std::string> flags;  // names of bits, from the lowest; empty ones are unused

  [[nodiscard]] std::size_t size_bytes() const { return (bit + bits + 7) / 8; }
};

struct FieldDef {
  std::string name;
  std::vector<std::string> was;  // its names in older versions of the record
  Words label;
  Words unit;
  FieldKind kind{};
  NumberForm number;          // of numbers and truths
  std::size_t text_form = 0;  // of texts: index in Sheet::text_forms
  Expression size;            // of texts and bytes: bytes; of records with bytes of their own
  std::optional<Byte> end;    // of texts: what ends them, where they are shorter than their place
  std::optional<Byte> fill;   // of texts: what is after the end
  SheetType derived_type = SheetType::number;
  Expression derived;
  std::size_t record = 0;  // of records: index in Sheet::records
  bool flat = false;       // its fields count as the outer record's
  std::vector<Scramble> scrambles;
  std::optional<Blocks> blocks;
  std::optional<Expression> condition;  // the field exists only where this holds
  std::optional<Expression> at;         // from the record's beginning; otherwise after the field before
  bool from_start = false;              // `at` counts from the beginning of the bytes around it
  bool is_unique = false;
  bool is_hidden = false;  // of no interest but to its author

  bool is_array = false;
  std::optional<Expression> count;
  std::vector<Expression> places;     // of each element; otherwise `stride` apart
  std::size_t stride = 0;             // 0: one after the other
  SheetNumber first = 1;              // the number of the first element
  std::string labels;                 // table that names the elements
  std::optional<Expression> free;     // which elements are unused
  std::string counter;                // of copies of one thing: the field that counts them up; may be empty
  CopyWrite write = CopyWrite::none;  // of copies
  std::string pattern;                // of a file
  bool is_optional = false;           // a file that may be missing

  /// Returns whether it has bytes of its own: scrambled, or put together.
  [[nodiscard]] bool has_space() const {
    return !scrambles.empty() || blocks.has_value() || !pattern.empty();
  }
  [[nodiscard]] bool is_copies() const { return write != CopyWrite::none; }
};

enum class Severity { error, warning, note };

struct ChecksumDef {
  std::string id;
  Words text;
  ChecksumForm form;
  std::vector<std::pair<Expression, Expression>> ranges;  // from the record's beginning
  std::vector<std::string> fields;                        // whose bytes it is over
  Expression at;
  bool big_endian = false;
  Byte own_bytes = 0;
  std::optional<Expression> condition;
  Severity severity = Severity::error;
};

struct RuleDef {
  std::string id;
  Words text;
  Expression require;
  std::optional<Expression> condition;
  Severity severity = Severity::error;
};

struct RecordDef {
  std::string name;
  std::int64_t version = 1;
  std::optional<std::size_t> size_bytes;  // otherwise up to the end of its last field
  bool own_file = false;                  // the console keeps one in a file of its own: its bytes and no more
  std::vector<FieldDef> fields;
  std::vector<ChecksumDef> checksums;
  std::vector<RuleDef> rules;
};

struct Magic {
  std::string file;  // pattern; empty: the only one
  std::size_t at = 0;
  std::vector<Byte> bytes;
};

/// Returns whether the bytes have the mark at its place.
[[nodiscard]] bool is_marked(const Magic& magic, ByteView bytes);

struct Sheet {
  std::string id;
  Words name;
  std::int64_t revision = 1;
  Platform platform{};
  std::vector<std::string> codes;
  std::vector<std::string> titles;
  std::vector<std::string> rom_digests;
  std::vector<std::size_t> sizes;
  std::vector<Magic> magics;
  std::map<std::string, Table, std::less<>> tables;
  std::vector<TextForm> text_forms;
  std::vector<RecordDef> records;  // the first is the whole save
  Words bound_to_card;             // what of the save holds something of its card; no words: nothing
  std::string origin;
};

/// Fails with `bad_usage`, and file and line, if a word, name, type or number is wrong.
[[nodiscard]] Result<Sheet> read_sheet(std::string_view toml, const std::string& origin);
/// Checks every name and type of every expression in every record, wherever it is used.
[[nodiscard]] Result<void> check_sheet(const Sheet& sheet);

/// Finds a field in a record, or in those that are flat in it.
struct FoundField {
  const FieldDef* field = nullptr;
  std::vector<const FieldDef*> through;  // the flat ones that lead there
};
[[nodiscard]] FoundField find_field(const Sheet& sheet, const RecordDef& record, std::string_view name);

}  // namespace bayswap::sheets
