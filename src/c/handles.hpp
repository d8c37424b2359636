// What is behind the handles of the C interface, and how its functions end.
#pragma once

#include <bayswap/session.hpp>

#include <bayswap.h>

#include <atomic>
#include <mutex>
#include <new>
#include <optional>
#include <thread>
#include <variant>

#include "answer/json.hpp"

namespace bayswap::c {

/// A home folder, kept open by its handle and by the plans made of it. Calls of several threads wait for each
/// other.
struct HomeState {
  std::unique_ptr<Session> session;
  std::string folder;  // empty: the user's own
  std::mutex mutex;
  std::atomic<std::thread::id> user;
};

/// The home folder for one call. Fails with `busy` for a call out of a callback of another one on the same
/// thread.
class HomeUse {
 public:
  [[nodiscard]] static Result<std::unique_ptr<HomeUse>> begin(HomeState& home);
  ~HomeUse();
  HomeUse(const HomeUse&) = delete;
  HomeUse& operator=(const HomeUse&) = delete;

 private:
  explicit HomeUse(HomeState& home) : home_(home), lock_(home.mutex) {
    home_.user = std::this_thread::get_id();
  }
  HomeState& home_;
  std::unique_lock<std::mutex> lock_;
};

/// Keeps the error for bsw_error() and returns its status.
bsw_status ended_with(const Error& error);
bsw_status ended_out_of_memory();
bsw_status ended_with_mistake(const char* what);

/// Runs what a function does: nothing is thrown beyond it.
template <class Work>
bsw_status guarded(Work&& work) noexcept {
  try {
    const Result<void> done = work();
    return done ? BSW_OK : ended_with(done.error());
  } catch (const std::bad_alloc&) {
    return ended_out_of_memory();
  } catch (const std::exception& mistake) {
    return ended_with_mistake(mistake.what());
  } catch (...) {
    return ended_with_mistake("something was thrown that is no exception");
  }
}

/// Fails with `bad_usage` if an argument that is needed is NULL.
[[nodiscard]] Result<void> needed(std::initializer_list<const void*> arguments);
/// `size` bytes at `data`, copied. Fails with `bad_usage` for NULL with a size.
[[nodiscard]] Result<Blob> bytes_from(const uint8_t* data, std::size_t size);
/// For the caller: a text that bsw_text_free() takes back.
[[nodiscard]] char* text_out(const Json& json);
/// For the caller: bytes that bsw_bytes_free() takes back.
[[nodiscard]] bsw_bytes bytes_out(Blob bytes);
/// The callback as the library's Progress; empty for NULL.
[[nodiscard]] Progress progress_from(bsw_event event, void* user);

}  // namespace bayswap::c

struct bsw_home {
  std::shared_ptr<bayswap::c::HomeState> state;
};
struct bsw_plan {
  std::shared_ptr<bayswap::c::HomeState> state;
  std::string from;  // of a batch
  std::string to;
  std::variant<bayswap::SessionPlan, bayswap::SessionBatch> what;
  bool has_run = false;
};
struct bsw_card {
  std::unique_ptr<bayswap::Card> card;
  int slots = 1;
};
