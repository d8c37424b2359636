#include "cli/progress_store.hpp"

#include <fmt/format.h>

#include "base/text.hpp"
#include "cli/output.hpp"
#include "cli/progress_line.hpp"

namespace bayswap::cli {
namespace {

constexpr std::chrono::milliseconds before_first{1000};
constexpr std::chrono::milliseconds between{100};
constexpr std::size_t max_shown = 50;

}  // namespace

ProgressStore::ProgressStore(Store& below, const Globals& globals, std::string what)
    : ForwardingStore(below),
      what_(std::move(what)),
      is_shown_(!globals.quiet && !globals.json && has_terminal()),
      next_(Clock::now() + before_first) {}

void ProgressStore::show(const std::string& path) {
  if (!is_shown_) return;
  const std::scoped_lock lock(mutex_);
  if (path == last_path_) return;
  last_path_ = path;
  ++files_;
  const auto now = Clock::now();
  if (now < next_) return;
  next_ = now + between;
  is_drawn_ = true;
  draw_progress(fmt::format("{} {}: {}", what_, files_, printable(path.substr(0, max_shown))));
}

void ProgressStore::end() {
  is_shown_ = false;
  const std::scoped_lock lock(mutex_);
  if (!is_drawn_) return;
  is_drawn_ = false;
  draw_progress("");
}

}  // namespace bayswap::cli
