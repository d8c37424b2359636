#include "cli/cart_job.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap::cli {
Result<std::string> CartJob::find_device() const {
  if (!options_.port.empty()) return device_of_cart(options_.port);
  const auto ports = serial_ports();
  if (ports.size() == 1) return ports.front().first;
  if (ports.empty())
    return fail(ErrorCode::not_found, "no reader is plugged in",
                "plug it in, or name its line: --port /dev/ttyACM0");
  std::vector<std::string> names;
  names.reserve(ports.size());
  for (const auto& [name, about] : ports) names.push_back(name);
  return fail(ErrorCode::bad_usage, fmt::format("{} lines could be the reader's", ports.size()),
              fmt::format("name one: --port {}; there are {}", names.front(), joined(names, ", ")));
}

Result<void> CartJob::open() {
  std::optional<std::uint16_t> millivolts;
  if (options_.volts) {
    constexpr double max_volts = 12;
    if (*options_.volts <= 0 || *options_.volts > max_volts)
      return fail(ErrorCode::bad_usage, fmt::format("no cartridge runs at {} V", *options_.volts),
                  "most want 3.3 or 5");
    millivolts = static_cast<std::uint16_t>(std::lround(*options_.volts * 1000));
  }
  BAYSWAP_TRY(auto chips, chips_from_words(options_.chips));
  BAYSWAP_TRY(device_, find_device());
  store_ = std::make_unique<CartStore>(std::string(cart_prefix) + device_);
  store_->say(std::move(chips), millivolts);
  store_->set_attempts(options_.attempts);
  progress_.watch(*store_);
  BAYSWAP_TRY(game_, store_->game());
  return {};
}

Result<void> CartJob::open_bay() {
  BAYSWAP_TRY(books_, Books::load(globals_));
  BAYSWAP_TRY(bay_, bay_like("cartridge", "cartridge", store_->root()));
  view_ = std::make_unique<BayView>(books_->catalog, bay_, *store_, books_->view_options());
  return {};
}

namespace {

// What to say to have it all the same.
Remedy refusal_remedy(const PlanIssue& refusal) {
  if (refusal.remedy.kind != Remedy::Kind::none || !is_acceptable(refusal.code)) return refusal.remedy;
  return {Remedy::Kind::accept, {std::string(to_text(refusal.code))}};
}

}  // namespace

Result<bool> CartJob::refuse_or_show(const Plan& plan) const {
  if (const PlanIssue* refusal = plan.refusal()) {
    if (!globals_.json && !globals_.quiet) print_plan(plan, false);
    return tl::unexpected(Error{ErrorCode::unsafe, refusal->text, refusal->hint, refusal_remedy(*refusal)});
  }
  if (!options_.dry_run) return false;
  if (globals_.json) {
    print_json(to_json(plan));
  } else {
    print_plan(plan, false);
    say(globals_.quiet, "A dry run: nothing was changed.");
  }
  return true;
}

std::string CartJob::game_in_words() const {
  const GameId& game = game_.rom.game;
  if (game.title.empty() && game.code.empty())
    return fmt::format("a game without a name, {}", tag(game.platform));
  return fmt::format("{}, {}", in_words(game), tag(game.platform));
}

}  // namespace bayswap::cli
