// Single saves in files of their own: parcels, and the console's directory entry before the data.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "card/kinds.hpp"

namespace bayswap {
namespace {

constexpr std::string_view parcel_magic = "PARCEL1\n";
constexpr std::size_t max_parcel_head = max_toml_size_bytes;

// ---- Parcels: magic, length of the head, the head as TOML, then entry and payload of the save and of each
// file ----

tl::unexpected<Error> damaged(const std::string& what) {
  return fail(ErrorCode::damaged, "the parcel is damaged: " + what, "copy it again from where it came from");
}

// The pieces after the head, one after the other.
class Pieces {
 public:
  Pieces(Blob file, std::size_t at) : file_(std::move(file)), at_(at) {}

  Result<Blob> next(TableReader& head, std::string_view what) {
    BAYSWAP_TRY(const auto size, head.integer(fmt::format("{}_bytes", what)));
    BAYSWAP_TRY(const std::string digest, head.needed_text(fmt::format("{}_sha256", what)));
    if (!size || *size < 0 || std::cmp_greater(*size, file_.size() - at_))
      return damaged(fmt::format("its {} is cut short", what));
    Blob piece = file_.slice(at_, static_cast<std::size_t>(*size));
    at_ += piece.size();
    if (sha256(piece.view()).hex() != digest)
      return damaged(fmt::format("the digest of its {} is wrong", what));
    return piece;
  }
  [[nodiscard]] std::size_t left() const { return file_.size() - at_; }

 private:
  Blob file_;
  std::size_t at_;
};

Result<CardSave> read_parcel(const Blob& file) {
  const ByteView bytes = file.view();
  if (bytes.size() < parcel_magic.size() + 4) return damaged("it ends in its head");
  const std::size_t head = le32(bytes, parcel_magic.size());
  const std::size_t from = parcel_magic.size() + 4;
  if (head > max_parcel_head || head > bytes.size() - from) return damaged("its head runs over the end");
  const std::string text(bytes.begin() + static_cast<std::ptrdiff_t>(from),
                         bytes.begin() + static_cast<std::ptrdiff_t>(from + head));
  BAYSWAP_TRY(const TomlFile root, parse_toml(text, "the parcel's head"));
  TableReader reader(root, "the parcel's head");
  CardSave save;
  BAYSWAP_TRY(const std::string kind, reader.needed_text("kind"));
  const auto known = card_kind_from_text(kind);
  if (!known)
    return fail(ErrorCode::not_recognised,
                fmt::format("a parcel of '{}', which is not a card we know", printable(kind)));
  save.kind = *known;
  BAYSWAP_TRY(save.name, reader.needed_text("name"));
  if (printable(save.name) != save.name) return damaged("its name has control characters in it");
  BAYSWAP_TRY(auto title, reader.text("title"));
  save.title = std::move(title).value_or("");
  Pieces pieces(file, from + head);
  BAYSWAP_TRY(save.entry, pieces.next(reader, "entry"));
  BAYSWAP_TRY(save.payload, pieces.next(reader, "payload"));
  BAYSWAP_TRY(auto files, reader.tables("file"));
  std::set<std::string> names;
  for (TableReader& one : files) {
    CardFile inside;
    BAYSWAP_TRY(inside.name, one.needed_text("name"));
    if (!is_safe_name(inside.name))
      return damaged(fmt::format("'{}' in it is not a file name", printable(inside.name)));
    if (!names.insert(inside.name).second) return damaged(fmt::format("it has {} twice", inside.name));
    BAYSWAP_TRY(inside.entry, pieces.next(one, "entry"));
    BAYSWAP_TRY(inside.bytes, pieces.next(one, "payload"));
    BAYSWAP_CHECK(one.no_other_keys());
    save.files.push_back(std::move(inside));
  }
  if (pieces.left() > 0) return damaged(fmt::format("{} bytes too many", pieces.left()));
  BAYSWAP_CHECK(reader.no_other_keys());
  return save;
}

std::string pieces_in_head(const Blob& entry, const Blob& payload) {
  return fmt::format("entry_bytes = {}\nentry_sha256 = \"{}\"\npayload_bytes = {}\npayload_sha256 = \"{}\"\n",
                     entry.size(), sha256(entry.view()).hex(), payload.size(), sha256(payload.view()).hex());
}

}  // namespace

Blob to_parcel(const CardSave& save) {
  std::string head =
      fmt::format("kind = {}\nname = {}\ntitle = {}\n{}", toml_quoted(to_text(save.kind)),
                  toml_quoted(save.name), toml_quoted(save.title), pieces_in_head(save.entry, save.payload));
  for (const CardFile& file : save.files)
    head += fmt::format("\n[[file]]\nname = {}\n{}", toml_quoted(file.name),
                        pieces_in_head(file.entry, file.bytes));
  std::vector<Blob> pieces{save.entry, save.payload};
  for (const CardFile& file : save.files) {
    pieces.push_back(file.entry);
    pieces.push_back(file.bytes);
  }
  std::size_t size = parcel_magic.size() + 4 + head.size();
  for (const Blob& piece : pieces) size += piece.size();
  Buffer parcel(size);
  put_le(parcel.bytes(), parcel_magic.size(), 4, head.size());
  std::ranges::copy(parcel_magic, parcel.bytes().begin());
  auto out = std::ranges::copy(head, parcel.bytes().subspan(parcel_magic.size() + 4).begin()).out;
  for (const Blob& piece : pieces) out = std::ranges::copy(piece.view(), out).out;
  return std::move(parcel).freeze();
}

Result<Blob> to_single_save(const CardSave& save) {
  const SaveFormat& format = card_format(save.kind).save;
  if (auto file = format.to_file != nullptr ? format.to_file(save) : std::nullopt) return *std::move(file);
  if (!format.usual_single)
    return fail(ErrorCode::unsupported,
                fmt::format("{} saves have no usual form of their own", to_text(save.kind)),
                "a parcel has everything");
  Buffer file(save.entry.size() + save.payload.size());
  std::ranges::copy(save.payload.view(), std::ranges::copy(save.entry.view(), file.bytes().begin()).out);
  return std::move(file).freeze();
}

Result<CardSave> single_save_from(const Blob& file) {
  if (file.size() >= parcel_magic.size() &&
      std::equal(parcel_magic.begin(), parcel_magic.end(), file.view().begin(),
                 [](char a, Byte b) { return a == static_cast<char>(b); }))
    return read_parcel(file);
  for (const CardFormat* format : card_formats()) {
    const std::size_t head = format->save.entry_bytes;
    if (format->save.from_file != nullptr)
      if (auto save = format->save.from_file(file)) return *std::move(save);
    if (!format->save.usual_single || file.size() <= head) continue;
    CardSave save = single_save(format->save.kind, file.slice(0, head), file.slice(head, file.size()));
    if (format->save.is_save(save)) return save;
  }
  return fail(ErrorCode::not_recognised, fmt::format("{} bytes that are no single save we know", file.size()),
              "a parcel, or the console's directory entry in front of the data");
}

}  // namespace bayswap
