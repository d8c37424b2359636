// How the work on a slow line is shown.
#pragma once

#include <bayswap/cart_store.hpp>

#include <chrono>

#include "answer/json.hpp"
#include "cli/commands.hpp"

namespace bayswap::cli {

/// Progress of a slow line: a bar with rate and time left on a terminal, plain lines elsewhere, events as
/// JSON, one a line.
class CartProgressView {
 public:
  /// With --json: events, or nothing where one document is to be printed.
  enum class Json { events, nothing };
  CartProgressView(const Globals& globals, Json json) : globals_(globals), json_(json) {}
  /// Shows what `store` does from now on, as long as both live.
  void watch(CartStore& store);
  void show(const CartProgress& progress);
  void attempt(int attempt, std::size_t differing);
  /// Ends the line that the bar is in.
  void end();

 private:
  using Time = std::chrono::steady_clock::time_point;
  void call_out_slow(double rate, double seconds);
  void draw(const CartProgress& progress, double rate) const;

  const Globals& globals_;
  Json json_;
  std::uint32_t usual_rate_ = 0;
  std::string what_;
  std::uint64_t total_ = 0;
  Time begun_;
  Time shown_;
  bool drawn_ = false;
  bool called_out_ = false;
};

/// One event of the cart commands: a line of JSON.
void print_event(const Json& event);

}  // namespace bayswap::cli
