#include "cli/sync_job.hpp"

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/output.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {

std::string sync_folder(const Home& home) {
  return join_path(home.data, "sync");
}

Result<std::unique_ptr<SyncJob>> SyncJob::open(const Globals& globals, Mode mode) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  auto job = std::make_unique<SyncJob>(sync_folder(home));
  // Before anything is made: most who ask have not joined.
  if (const auto joined = Replica::open(job->disk); !joined) return tl::unexpected(joined.error());
  BAYSWAP_TRY(job->logbook, mode == Mode::look ? LockedLogbook::look(globals) : LockedLogbook::open(globals));
  if (mode == Mode::look) job->scratch.emplace(job->disk);
  job->clock = clock_of_process();
  BAYSWAP_TRY(Replica replica, Replica::open(job->own()));
  job->replica.emplace(std::move(replica));
  auto sea = open_remote(job->replica->device().url);
  if (!sea) {
    job->unreachable = sea.error();
    return job;
  }
  job->sea = *std::move(sea);
  auto lighthouse = Lighthouse::open(*job->sea);
  if (lighthouse)
    job->lighthouse.emplace(*std::move(lighthouse));
  else
    job->unreachable = lighthouse.error();
  return job;
}

Result<Lighthouse*> SyncJob::needed_light() {
  if (lighthouse) return &*lighthouse;
  return tl::unexpected(*unreachable);
}

std::string bytes_in_words(std::uint64_t bytes) {
  if (bytes < 1024) return counted(bytes, "byte");
  if (bytes < 1024 * 1024) return fmt::format("{:.1f} KB", static_cast<double>(bytes) / 1024);
  return fmt::format("{:.1f} MB", static_cast<double>(bytes) / (1024 * 1024));
}

Json to_json(const SyncConflict& conflict) {
  Json sides = Json::array();
  std::size_t number = 0;
  for (const SyncConflict::Side& side : conflict.sides) {
    const Version& version = side.version;
    sides.push_back({{"number", ++number},
                     {"version", version.id.hex()},
                     {"device", version.device_name},
                     {"deleted", version.is_deletion()},
                     {"blank", side.blank},
                     {"noted", utc_time(version.noted)},
                     {"modified", version.modified ? Json(utc_time(*version.modified)) : Json(nullptr)},
                     {"size_bytes", version.size_bytes},
                     {"like_last_common", side.like_ancestor},
                     {"bays", side.bays}});
  }
  return {{"save", conflict.save},
          {"platform", tag(conflict.platform)},
          {"last_common", conflict.ancestor ? Json(conflict.ancestor->id.hex()) : Json(nullptr)},
          {"difference", conflict.difference},
          {"sides", std::move(sides)}};
}

void print_conflicts(const std::vector<SyncConflict>& conflicts) {
  for (const SyncConflict& conflict : conflicts) {
    fmt::print("{}\n", toned(Tone::bold, printable(fmt::format(
                                             "{} ({}): {} versions, and none came from another",
                                             conflict.save, tag(conflict.platform), conflict.sides.size()))));
    std::vector<std::vector<std::string>> rows;
    for (std::size_t i = 0; i < conflict.sides.size(); ++i) {
      const SyncConflict::Side& side = conflict.sides[i];
      const Version& version = side.version;
      rows.push_back({std::to_string(i + 1), printable(version.device_name),
                      local_time(version.modified.value_or(version.noted)),
                      version.is_deletion() ? "deleted" : bytes_in_words(version.size_bytes),
                      side.blank ? "empty"
                      : conflict.ancestor && !version.is_deletion()
                          ? fmt::format("{:.1f} %", side.like_ancestor * 100)
                          : "",
                      joined(side.bays, ", ")});
    }
    print_table({"number", "device", "saved", "size", "as the last common version", "here in"}, rows, {0});
    if (!conflict.difference.empty()) fmt::print("{}\n", conflict.difference);
    if (conflict.ancestor)
      fmt::print("The last common version is of {}, from {}.\n",
                 local_time(conflict.ancestor->modified.value_or(conflict.ancestor->noted)),
                 printable(conflict.ancestor->device_name));
    fmt::print("\n");
  }
}

}  // namespace bayswap::cli
