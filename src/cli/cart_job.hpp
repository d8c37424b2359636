// What the cart commands share: the reader, the cartridge in it, and how its work is shown.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/cart_store.hpp>

#include "cart/verdict.hpp"
#include "cli/books.hpp"
#include "cli/cart_progress.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {

class CartJob {
 public:
  CartJob(const Globals& globals, const CartOptions& options) : globals_(globals), options_(options) {}

  /// Finds the reader, and looks what is in it.
  [[nodiscard]] Result<void> open();
  /// As a bay: for plans.
  [[nodiscard]] Result<void> open_bay();

  [[nodiscard]] CartStore& store() { return *store_; }
  [[nodiscard]] const CartIdentity& game() const { return game_; }
  [[nodiscard]] BayView& view() { return *view_; }
  [[nodiscard]] Books& books() { return *books_; }
  [[nodiscard]] CartProgressView& progress() { return progress_; }
  [[nodiscard]] const std::string& device() const { return device_; }
  /// Fails with what the plan is refused for. With --dry-run shows the plan, and returns true.
  [[nodiscard]] Result<bool> refuse_or_show(const Plan& plan) const;
  /// 'MOTH COURIER' (A99P, Europe), gba.
  [[nodiscard]] std::string game_in_words() const;

 private:
  [[nodiscard]] Result<std::string> find_device() const;

  const Globals& globals_;
  const CartOptions& options_;
  std::string device_;
  std::unique_ptr<CartStore> store_;
  CartIdentity game_;
  CartProgressView progress_{globals_, CartProgressView::Json::events};
  std::unique_ptr<Books> books_;
  Bay bay_;
  std::unique_ptr<BayView> view_;
};

}  // namespace bayswap::cli
