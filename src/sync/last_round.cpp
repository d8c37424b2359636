// What the last round left open, for who asks later.
#include <bayswap/sync.hpp>

#include <algorithm>

#include "base/try.hpp"
#include "sync/wire.hpp"

namespace bayswap {
namespace {

constexpr std::uint8_t last_round_form = 1;
const std::string open_rows_name = "open-rows";
constexpr std::size_t max_open_rows_bytes = std::size_t{16} << 20;
constexpr std::size_t max_open_rows = 10000;

bool is_open(const SyncRow& row) {
  return row.outcome == SyncRow::Outcome::waits || row.outcome == SyncRow::Outcome::asked ||
         row.outcome == SyncRow::Outcome::conflict || row.outcome == SyncRow::Outcome::failed;
}

Blob rows_as_bytes(const std::vector<SyncRow>& rows) {
  std::vector<const SyncRow*> open;
  for (const SyncRow& row : rows)
    if (is_open(row) && open.size() < max_open_rows) open.push_back(&row);
  WireWriter out;
  out.u32(static_cast<std::uint32_t>(open.size()));
  for (const SyncRow* row : open) {
    out.u8(static_cast<std::uint8_t>(row->outcome));
    for (const std::string_view text :
         {std::string_view(row->save), std::string_view(row->bay), tag(row->platform),
          std::string_view(row->path), std::string_view(row->why)})
      out.text(text.substr(0, 4000));
  }
  return out.blob();
}

}  // namespace

Result<OpenRows> open_rows(Store& own) {
  OpenRows found;
  BAYSWAP_TRY(const auto file, own.read_if_there(open_rows_name, max_open_rows_bytes));
  if (!file) return found;
  WireReader in(file->view());
  if (in.u8() != last_round_form) return found;
  found.since = in.i64();
  const std::uint32_t count = in.count(6);
  for (std::uint32_t i = 0; i < count && in.ok(); ++i) {
    SyncRow row;
    const std::uint8_t outcome = in.u8();
    row.save = in.text();
    row.bay = in.text();
    const auto platform = platform_from_tag(in.text(16));
    row.path = in.text();
    row.why = in.text();
    if (!in.ok() || outcome > static_cast<std::uint8_t>(SyncRow::Outcome::failed) || !platform) break;
    row.outcome = static_cast<SyncRow::Outcome>(outcome);
    row.platform = *platform;
    found.rows.push_back(std::move(row));
  }
  return found;
}

Result<void> keep_open_rows(Store& own, const std::vector<SyncRow>& rows, std::int64_t now) {
  constexpr std::size_t head = 9;
  const Blob body = rows_as_bytes(rows);
  BAYSWAP_TRY(const auto file, own.read_if_there(open_rows_name, max_open_rows_bytes));
  // As it was: nothing to write, and since when is known.
  if (file ? file->size() > head && std::ranges::equal(file->view().subspan(head), body.view())
           : std::ranges::none_of(rows, is_open))
    return {};
  WireWriter out;
  out.u8(last_round_form);
  out.i64(now);
  out.raw(body.view());
  return own.replace(open_rows_name, out.view());
}

}  // namespace bayswap
