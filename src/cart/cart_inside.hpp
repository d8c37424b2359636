// What is inside a CartPort.
#pragma once

#include <bayswap/cart.hpp>

#include "base/try.hpp"
#include "cart/talk.hpp"

namespace bayswap {

struct CartPort::Inside {
  explicit Inside(std::unique_ptr<cart::Line> opened) : line(std::move(opened)), talk(*line) {}
  std::unique_ptr<cart::Line> line;
  cart::Talk talk;
  cart::HelloAnswer reader;
  std::uint16_t board = 0;

  Result<cart::SelectAnswer> select(const cart::Select& what) {
    BAYSWAP_TRY(const auto body, talk.ask(cart::ask_select, body_of(what)));
    const auto said = cart::select_answer_in(body);
    if (!said) return cart::nonsense();
    // The largest of cartridges have 512 MiB of ROM; of what a game saves, none has a quarter of that.
    constexpr std::uint32_t most_rom = std::uint32_t{1} << 30;
    constexpr std::uint32_t most_chip = std::uint32_t{128} << 20;
    if (said->bytes > (what.space == cart::Select::Space::rom ? most_rom : most_chip))
      return cart::nonsense();
    return *said;
  }
};

}  // namespace bayswap
