// A file for each entry beside the blobs: what the index says of it, so that a lost index can be made again.
#pragma once

#include <bayswap/logbook.hpp>

namespace bayswap {

[[nodiscard]] std::string record_text(const Entry& entry);
/// `damaged` where it is none.
[[nodiscard]] Result<Entry> entry_from_record(std::string_view text, const std::string& origin);

[[nodiscard]] Result<void> write_record(Store& store, const Entry& entry);
/// Writes the records of new entries, all or none of them. Fails with `unsafe` if there is a record of one of
/// their numbers already.
[[nodiscard]] Result<void> create_records(Store& store, const std::vector<Entry>& entries);
/// Returns the highest number that a record has; 0 if there are none.
[[nodiscard]] Result<std::int64_t> highest_record(Store& store);
/// One that is not there is fine.
[[nodiscard]] Result<void> remove_record(Store& store, std::int64_t id);
/// All that can be read, by id; what can't goes to `problems`, a sentence each.
[[nodiscard]] Result<std::vector<Entry>> read_records(Store& store, std::vector<std::string>& problems);

}  // namespace bayswap
