#include "cli/cart_progress.hpp"

#include <cmath>
#include <csignal>

#include "base/text.hpp"
#include "cli/output.hpp"
#include "cli/progress_line.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

constexpr double show_seconds = 0.1;      // between two looks of the bar
constexpr double slow_part = 0.1;         // of the usual rate
constexpr double slow_after_seconds = 1;  // a rate is one only after a while
constexpr int bar_cells = 30;
constexpr double told_seconds = 0.5;  // what takes no longer is not worth a line

double seconds_since(std::chrono::steady_clock::time_point then) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - then).count();
}

std::string size_words(double bytes) {
  constexpr double kib = 1024;
  if (bytes >= kib * kib) return fmt::format("{:.1f} MiB", bytes / kib / kib);
  if (bytes >= kib) return fmt::format("{:.0f} KiB", bytes / kib);
  return fmt::format("{:.0f} bytes", bytes);
}

std::string time_words(double seconds) {
  const auto whole = static_cast<int>(std::lround(seconds));
  return whole >= 60 ? fmt::format("{}:{:02} min", whole / 60, whole % 60) : fmt::format("{} s", whole);
}

}  // namespace

void print_event(const Json& event) {
  fmt::print(stderr, "{}\n", event.line());
  std::fflush(stderr);
}

void CartProgressView::watch(CartStore& store) {
  CartEvents events;
  events.progress = [this, &store](const CartProgress& progress) {
    if (const auto port = store.port()) usual_rate_ = (*port)->usual_rate();
    show(progress);
  };
  events.attempt = [this](int attempt, std::size_t differing) { this->attempt(attempt, differing); };
  // While a write holds Ctrl-C back it is heard between two attempts.
  events.is_cancelled = [] {
    sigset_t waiting{};
    sigpending(&waiting);
    return sigismember(&waiting, SIGINT) == 1 || sigismember(&waiting, SIGTERM) == 1;
  };
  store.set_events(std::move(events));
}

void CartProgressView::end() {
  if (drawn_) draw_progress("");
  drawn_ = false;
}

void CartProgressView::draw(const CartProgress& progress, double rate) const {
  const auto full = static_cast<std::size_t>(
      progress.total == 0 ? 0 : progress.done * static_cast<std::uint64_t>(bar_cells) / progress.total);
  const double left = rate > 0 ? static_cast<double>(progress.total - progress.done) / rate : 0;
  draw_progress(
      fmt::format("{:<8} [{}{}] {} of {}, {}/s, {} left", progress.what, std::string(full, '#'),
                  std::string(bar_cells - full, '-'), size_words(static_cast<double>(progress.done)),
                  size_words(static_cast<double>(progress.total)), size_words(rate), time_words(left)));
}

// Reading goes as fast as the line; a write waits for the chip.
void CartProgressView::call_out_slow(double rate, double seconds) {
  if (called_out_ || usual_rate_ == 0 || seconds < slow_after_seconds || rate >= usual_rate_ * slow_part ||
      what_ == "writing" || what_ == "erasing")
    return;
  called_out_ = true;
  const std::string text =
      fmt::format("the line is slow: {}/s, where this reader usually has {}/s; try another cable or port",
                  size_words(rate), size_words(usual_rate_));
  if (globals_.json)
    print_event({{"event", "slow"}, {"rate", static_cast<std::uint64_t>(rate)}, {"usual", usual_rate_}});
  else {
    end();
    say(globals_.quiet, "bayswap: warning: " + text);
  }
}

void CartProgressView::show(const CartProgress& progress) {
  if (globals_.json && json_ == Json::nothing) return;
  const bool is_new = what_ != progress.what || total_ != progress.total || progress.done == 0;
  if (is_new) {
    what_ = progress.what;
    total_ = progress.total;
    begun_ = std::chrono::steady_clock::now();
    shown_ = begun_;
  }
  const double seconds = seconds_since(begun_);
  const double rate = seconds > 0 ? static_cast<double>(progress.done) / seconds : 0;
  call_out_slow(rate, seconds);
  const bool is_over = progress.done >= progress.total;
  if (!is_new && !is_over && seconds_since(shown_) < show_seconds) return;
  shown_ = std::chrono::steady_clock::now();
  if (globals_.json) {
    print_event({{"event", "progress"},
                 {"what", what_},
                 {"done", progress.done},
                 {"total", progress.total},
                 {"rate", static_cast<std::uint64_t>(rate)}});
  } else if (!globals_.quiet && has_terminal()) {
    draw(progress, rate);
    drawn_ = true;
    if (is_over) end();
  } else if (!globals_.quiet && is_over && seconds >= told_seconds) {
    say(false, fmt::format("bayswap: {}: {} in {}, {}/s", what_, size_words(static_cast<double>(total_)),
                           time_words(seconds), size_words(rate)));
  }
}

void CartProgressView::attempt(int attempt, std::size_t differing) {
  if (globals_.json && json_ == Json::nothing) return;
  if (globals_.json) {
    print_event({{"event", "attempt"}, {"attempt", attempt}, {"differing", differing}});
    return;
  }
  end();
  if (globals_.quiet) return;
  if (attempt == 0)
    print_field("differing", fmt::format("{} to write", counted(differing, "byte")));
  else
    print_field(fmt::format("attempt {}", attempt),
                differing == 0
                    ? "all bytes read back as they were written"
                    : fmt::format("{} {}", counted(differing, "byte"), differing == 1 ? "differs" : "differ"),
                differing == 0 ? Tone::good : Tone::warn);
  std::fflush(stdout);
}

}  // namespace bayswap::cli
