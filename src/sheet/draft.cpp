#include <fmt/format.h>
#include <bayswap/sheet_draft.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

std::string order_word(bool big) {
  return big ? "big" : "little";
}

// Letters and digits that begin somewhere, as an encoding of the sheet.
std::string encoding_text(const std::string& name, const ValueFind& find) {
  std::string out = fmt::format("\n[encoding.{}]\n", name);
  if (find.unit_bytes == 2) out += fmt::format("unit = 2\norder = \"{}\"\n", order_word(find.big_endian));
  std::vector<std::string> rows;
  for (const auto& [first, code] : find.from)
    rows.push_back(fmt::format("[0x{:X}, \"{}\"]", code,
                               first == 'A'   ? "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
                               : first == 'a' ? "abcdefghijklmnopqrstuvwxyz"
                                              : "0123456789"));
  return out + fmt::format("from = [{}]\n", joined(rows, ", "));
}

struct FieldText {
  std::string field;  // goes before tables of other names
  std::string rest;   // encodings and records
};

Result<FieldText> field_text(const std::string& name, const ValueFind& find) {
  FieldText out;
  out.field = fmt::format("\n[[field]]  # {}\nname = {}\nat = 0x{:X}\n", find.encoding, toml_quoted(name),
                          find.offset);
  std::string looks;
  if (find.bit != 0) looks += fmt::format("bit = {}\n", find.bit);
  if (find.bits > 8) looks += fmt::format("order = \"{}\"\n", order_word(find.big_endian));
  if (find.times != 1) looks += fmt::format("times = {}\n", find.times);
  if (find.plus != 0) looks += fmt::format("plus = {}\n", find.plus);
  if (find.per != 1) looks += fmt::format("per = {}\n", find.per);
  switch (find.kind) {
    case ValueFind::Kind::number: {
      const std::string type = fmt::format("type = \"{}{}\"\n", find.is_signed ? 's' : 'u', find.bits);
      if (find.xor_with == 0) {
        out.field += type + looks;
        return out;
      }
      const std::size_t bytes = find.bits / 8;
      if (bytes != 1 && bytes != 2 && bytes != 4)
        return fail(ErrorCode::unsupported, fmt::format("{}: no scramble has units of {} bytes", name, bytes),
                    "leave it out");
      out.field += fmt::format(
          "record = \"{0}-stored\"\nsize = {1}\nflat = true\n[[field.scramble]]\nkind = \"xor\"\nunit = {1}\n"
          "order = \"{2}\"\nkey = 0x{3:X}\n",
          name, bytes, order_word(find.big_endian), find.xor_with);
      out.field.replace(out.field.find(toml_quoted(name)), toml_quoted(name).size(),
                        toml_quoted(name + "-place"));
      out.rest = fmt::format("\n[record.{}-stored]\n[[record.{}-stored.field]]\nname = {}\nat = 0\n{}{}",
                             name, name, toml_quoted(name), type, looks);
      return out;
    }
    case ValueFind::Kind::bcd:
      out.field += fmt::format("type = \"bcd{}\"\n", find.bits / 4) + looks;
      return out;
    case ValueFind::Kind::text:
      out.field += fmt::format("type = \"text\"\nsize = {}\n", find.bits / 8);
      if (find.from.empty()) {
        out.field += fmt::format("encoding = \"{}\"\n", find.unit_bytes == 1 ? "ascii"
                                                        : find.big_endian    ? "utf-16-big"
                                                                             : "utf-16-little");
      } else {
        out.field += fmt::format("encoding = \"{}-letters\"\n", name);
        out.rest = encoding_text(name + "-letters", find);
      }
      return out;
    case ValueFind::Kind::digits:
      break;
  }
  return fail(ErrorCode::unsupported,
              fmt::format("{}: sheets have no word for numbers of a byte a digit", name), "leave it out");
}

std::string checksum_text(const std::string& id, const Checksum& checksum) {
  const ChecksumForm& form = checksum.form;
  std::string kind;
  std::string more;
  switch (form.kind) {
    case ChecksumForm::Kind::sum:
    case ChecksumForm::Kind::exclusive_or:
      kind = form.kind == ChecksumForm::Kind::sum ? "sum" : "xor";
      more = fmt::format("bits = {}\nunit = {}\n", form.bits, form.unit_bytes);
      if (form.unit_bytes > 1) more += fmt::format("unit-order = \"{}\"\n", order_word(form.unit_big_endian));
      if (form.start != 0) more += fmt::format("start = 0x{:X}\n", form.start);
      break;
    case ChecksumForm::Kind::crc: {
      const auto usual =
          std::ranges::find(usual_crcs(), form.crc, [](const auto& one) { return one.second; });
      if (usual != usual_crcs().end()) {
        kind = usual->first;
      } else {
        kind = "crc";
        more =
            fmt::format("bits = {}\npolynomial = 0x{:X}\nstart = 0x{:X}\nend = 0x{:X}\nreflected = {}\n",
                        form.crc.bits, form.crc.polynomial, form.crc.start, form.crc.end, form.crc.reflected);
      }
      break;
    }
    case ChecksumForm::Kind::adler32:
      kind = "adler32";
      break;
    case ChecksumForm::Kind::md5:
      kind = "md5";
      break;
    case ChecksumForm::Kind::sha1:
      kind = "sha1";
      break;
  }
  std::string out = fmt::format("\n[[checksum]]  # {}\nid = \"{}\"\nkind = \"{}\"\n{}at = 0x{:X}\n",
                                to_text(form), id, kind, more, checksum.at);
  if (form.complemented) out += "complement = true\n";
  if (form.negated) out += "negate = true\n";
  if (size_of(form) > 1 && form.kind != ChecksumForm::Kind::md5 && form.kind != ChecksumForm::Kind::sha1)
    out += fmt::format("order = \"{}\"\n", order_word(checksum.big_endian));
  std::vector<std::string> ranges;
  for (const ChecksumRange& range : checksum.ranges)
    ranges.push_back(fmt::format("[0x{:X}, 0x{:X}]", range.from, range.to));
  out += fmt::format("over = [{}]\n", joined(ranges, ", "));
  if (checksum.own_bytes != 0) out += fmt::format("own = 0x{:X}\n", checksum.own_bytes);
  return out;
}

// Where the copies of one thing are, each as large as the first.
struct Copies {
  std::vector<std::size_t> places;
  std::size_t size_bytes = 0;

  // The largest, and further ones of it.
  static Copies of(const std::vector<CopyFind>& all) {
    Copies copies;
    const auto largest = std::ranges::max_element(all, {}, &CopyFind::size_bytes);
    if (largest == all.end()) return copies;
    copies.places = {largest->first, largest->second};
    copies.size_bytes = largest->size_bytes;
    for (bool grows = true; grows;) {
      grows = false;
      for (const CopyFind& one : all)
        if (one.first == copies.places.back() && one.size_bytes == copies.size_bytes) {
          copies.places.push_back(one.second);
          grows = true;
        }
    }
    return copies;
  }
  // The offset within a copy; nothing if it is in none of them.
  [[nodiscard]] std::optional<std::size_t> within(std::size_t from, std::size_t to) const {
    for (const std::size_t place : places)
      if (from >= place && to <= place + size_bytes) return from - place;
    return std::nullopt;
  }
};

// What is said of the save, said of a record.
std::string of_record(std::string text, const std::string& record) {
  for (const std::string_view word : {"[[field", "[[checksum"})
    for (std::size_t at = 0; (at = text.find(word, at)) != std::string::npos; at += word.size())
      text.insert(at + 2, fmt::format("record.{}.", record));
  return text;
}

std::string checksum_field(const std::string& id, const Checksum& checksum) {
  // A checksum can be seen as well.
  const std::size_t size = size_of(checksum.form);
  if (size <= 8)
    return fmt::format(
        "\n[[field]]\nname = \"{}\"\nat = 0x{:X}\ntype = \"u{}\"\norder = \"{}\"\nshow = \"hex\"\nhidden = "
        "true\n",
        id, checksum.at, 8 * size, order_word(checksum.big_endian));
  return fmt::format("\n[[field]]\nname = \"{}\"\nat = 0x{:X}\ntype = \"bytes\"\nsize = {}\nhidden = true\n",
                     id, checksum.at, size);
}

}  // namespace

std::string common_mark(std::span<const Blob> versions) {
  constexpr std::size_t longest = 16;
  constexpr std::size_t shortest = 4;
  std::string mark;
  if (versions.empty()) return mark;
  for (std::size_t i = 0; i < std::min(longest, versions[0].size()); ++i) {
    const Byte b = versions[0].view()[i];
    const bool is_common =
        std::ranges::all_of(versions, [&](const Blob& one) { return i < one.size() && one.view()[i] == b; });
    if (!is_common || b < 0x21 || b > 0x7e) break;
    mark += static_cast<char>(b);
  }
  return mark.size() < shortest ? std::string{} : mark;
}

Result<std::string> draft_sheet(const SheetDraft& draft) {
  std::string out = fmt::format(
      "# A draft, out of versions of a save. Correct it, and go on.\nsheet = 1\nid = {}\nname = {}\n",
      toml_quoted(draft.id), toml_quoted(draft.name));
  out += fmt::format("\n[game]\nplatform = \"{}\"\nsize = {}\n", tag(draft.game.platform), draft.size_bytes);
  if (!draft.game.code.empty())
    out += fmt::format("code = {}\n", toml_quoted(draft.game.code));
  else if (!draft.game.title.empty())
    out += fmt::format("title = {}\n", toml_quoted(draft.game.title));
  if (!draft.mark.empty()) out += fmt::format("[[game.magic]]\nat = 0\ntext = {}\n", toml_quoted(draft.mark));
  const Copies copies = Copies::of(draft.copies);
  constexpr const char* record = "copy";
  std::string rest;
  std::string inside;  // of the copies' record
  for (const auto& [name, find] : draft.fields) {
    ValueFind own = find;
    const auto at = copies.within(find.offset, find.offset + (find.bits + 7) / 8);
    if (at) own.offset = *at;
    BAYSWAP_TRY(const FieldText text, field_text(name, own));
    (at ? inside : out) += at ? of_record(text.field, record) : text.field;
    rest += text.rest;
  }
  for (const ChecksumFind& find : draft.checksums) {
    if (find.in_copy) continue;
    Checksum checksum = find.checksum;
    const auto at = copies.within(checksum.at, checksum.at + size_of(checksum.form));
    bool is_inside = at.has_value();
    std::vector<ChecksumRange> ranges;
    for (const ChecksumRange& range : checksum.ranges) {
      const auto from = copies.within(range.from, range.to);
      is_inside = is_inside && from;
      ranges.push_back({from.value_or(0), from.value_or(0) + range.to - range.from});
    }
    if (is_inside) {
      checksum.at = *at;
      checksum.ranges = std::move(ranges);
    }
    const std::string id = fmt::format("checksum-{:x}", checksum.at);
    if (is_inside) {
      inside += of_record(checksum_field(id, checksum) + checksum_text(id, checksum), record);
    } else {
      out += checksum_field(id, checksum);
      rest += checksum_text(id, checksum);
    }
  }
  if (!inside.empty()) {
    std::vector<std::string> places;
    for (const std::size_t place : copies.places) places.push_back(fmt::format("0x{:X}", place));
    out += fmt::format(
        "\n[[field]]  # the same, {} times: a change goes to all\nname = \"{}\"\nplaces = [{}]\n"
        "record = \"{}\"\nwrite = \"all\"\n",
        places.size(), record, joined(places, ", "), record);
    rest = fmt::format("\n[record.{}]\nsize = {}\n", record, copies.size_bytes) + inside + rest;
  }
  out += rest;
  if (draft.fields.empty() && draft.checksums.empty())
    out += fmt::format("\n[[field]]\nname = \"beginning\"\nat = 0\ntype = \"bytes\"\nsize = {}\n",
                       std::min<std::size_t>(16, draft.size_bytes));
  BAYSWAP_CHECK(Sheet::parse(out, "the draft"));
  return out;
}

Result<std::string> with_field(std::string_view sheet, const std::string& origin, const std::string& name,
                               const ValueFind& find) {
  BAYSWAP_TRY(const FieldText text, field_text(name, find));
  std::string out(sheet);
  if (!out.empty() && out.back() != '\n') out += '\n';
  out += text.field + text.rest;
  BAYSWAP_CHECK(Sheet::parse(out, origin));
  return out;
}

}  // namespace bayswap
