// The logbook under its lock, recovered.
#include <bayswap/cart_store.hpp>
#include <bayswap/session.hpp>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

Result<FileLock> lock_home(const Home& home, const SessionOptions& options, int wait_seconds) {
  return FileLock::acquire(join_path(home.data, "lock"), wait_seconds, options.events.waits);
}

Result<void> settle_open_entries(const SessionOptions& options, Logbook& book) {
  AnyStore files;
  BAYSWAP_TRY(const auto recovered, book.recover(files));
  if (options.events.recovered)
    for (const Recovered& one : recovered) options.events.recovered(one);
  return {};
}

Result<bool> has_records(const Home& home) {
  LocalStore disk;
  BAYSWAP_TRY(const auto records, disk.stat(join_path(home.data, "records")));
  return records.has_value();
}

}  // namespace

Result<std::unique_ptr<LockedLogbook>> LockedLogbook::open(const Home& home, SessionOptions options) {
  if (!options.clock) options.clock = system_clock();
  BAYSWAP_TRY(FileLock lock, lock_home(home, options, options.lock_seconds));
  std::unique_ptr<LockedLogbook> locked(new LockedLogbook(home));
  locked->lock_.emplace(std::move(lock));
  BAYSWAP_TRY(Logbook book,
              Logbook::open(locked->store_, join_path(home.data, "index.sqlite"), options.clock));
  locked->book_ = std::move(book);
  locked->options_ = std::move(options);
  BAYSWAP_CHECK(settle_open_entries(*locked->options_, *locked->book_));
  return locked;
}

Result<std::unique_ptr<LockedLogbook>> LockedLogbook::open_to_read(const Home& home, SessionOptions options) {
  const auto is_copy = options.events.is_copy;
  auto locked = open(home, std::move(options));
  if (locked || locked.error().code == ErrorCode::busy) return locked;
  // A folder that can't be written still has the records.
  const auto records = has_records(home);
  if (!records || !*records || LocalStore().may_write(home.data)) return locked;
  BAYSWAP_TRY(auto copy, look(home));
  if (is_copy) is_copy(home.data);
  return copy;
}

Result<std::unique_ptr<LockedLogbook>> LockedLogbook::look(const Home& home) {
  const auto records = has_records(home);
  if (!records || !*records) return std::unique_ptr<LockedLogbook>{};
  std::unique_ptr<LockedLogbook> copy(new LockedLogbook(home));
  BAYSWAP_TRY(Logbook book, Logbook::open_copy(copy->store_));
  copy->book_ = std::move(book);
  return copy;
}

Result<void> LockedLogbook::rest() {
  if (!lock_) return {};
  BAYSWAP_CHECK(book_->release());
  lock_.reset();
  return {};
}

Result<void> LockedLogbook::resume() {
  if (!options_ || lock_) return {};
  constexpr int patience_seconds = 120;  // half of what this process has to do is done
  BAYSWAP_TRY(FileLock lock, lock_home(home_, *options_, patience_seconds));
  lock_.emplace(std::move(lock));
  BAYSWAP_CHECK(book_->reacquire());
  return settle_open_entries(*options_, *book_);  // of one that died meanwhile
}

}  // namespace bayswap
