// What the frames of the line protocol say (docs/cart-protocol.md): numbers, and bodies taken apart.
#pragma once

#include <optional>
#include <string>

#include "cart/frame.hpp"

namespace bayswap::cart {

constexpr Byte version = 1;
constexpr std::size_t least_max_body = 64;
constexpr std::size_t usual_max_body = 4096 + 8;

enum Kind : Byte {
  ask_hello = 0x01,
  ask_look = 0x02,
  ask_power = 0x03,
  ask_select = 0x04,
  ask_read = 0x05,
  ask_write = 0x06,
  ask_erase = 0x07,
  ask_settle = 0x08,
  answer = 0x80,  // with the question's kind
  tell_data = 0xfd,
  tell_busy = 0xfe,
  tell_error = 0xff,
};

enum class Trouble : Byte {
  unknown_question = 1,
  malformed = 2,
  no_cartridge = 3,
  changed = 4,  // another cartridge than the counter says
  no_power = 5,
  voltage = 6,
  unsupported = 7,
  out_of_range = 8,
  chip = 9,  // it does not take what is written
  not_selected = 10,
};

struct Hello {
  Byte lowest = version;
  Byte highest = version;
  std::uint16_t max_body = usual_max_body;
  std::uint32_t session = 0;
};
struct HelloAnswer {
  Byte version = cart::version;
  std::uint16_t max_body = usual_max_body;
  std::uint32_t usual_rate = 0;  // bytes a second
  std::uint16_t silence_ms = 0;  // within so long it answers, or says that it is busy
  std::string name;
};
struct LookAnswer {
  enum class Seat : Byte { none, in, badly } seat = Seat::none;
  std::uint32_t counter = 0;           // goes up whenever a cartridge is put in or taken out
  std::uint16_t millivolts = 0;        // that it has now
  std::uint16_t wanted = 0;            // as the slot can tell; 0: it can't
  std::vector<std::uint16_t> offered;  // in millivolts
  std::string platforms;               // tags that the slot fits, with spaces between
};
struct Select {
  enum class Space : Byte { rom, chip, clock } space = Space::rom;
  std::string platform;     // a tag
  std::string chip;         // "sram", "eeprom", "flash", "fram"; of Space::chip
  std::uint32_t bytes = 0;  // how large the host takes it to be; 0: the reader says
  std::uint16_t board = 0;  // as the ROM's header has it: a gb cartridge's type; otherwise 0
};
struct SelectAnswer {
  std::uint32_t bytes = 0;
  std::uint32_t write_bytes = 0;   // a write is so long and begins at a multiple of it; 0: read only
  std::uint32_t sector_bytes = 0;  // has to be erased before; 0: not at all
};
struct Range {
  std::uint32_t counter = 0;
  std::uint32_t at = 0;
  std::uint32_t bytes = 0;
};
struct Piece {  // data of a read; with a counter, of a write
  std::uint32_t at = 0;
  ByteView bytes;
};
struct Refusal {
  Trouble why{};
  std::uint32_t detail = 0;
  std::string text;
};

[[nodiscard]] std::vector<Byte> body_of(const Hello& hello);
[[nodiscard]] std::vector<Byte> body_of(const HelloAnswer& hello);
[[nodiscard]] std::vector<Byte> body_of(const LookAnswer& look);
[[nodiscard]] std::vector<Byte> body_of(const Select& select);
[[nodiscard]] std::vector<Byte> body_of(const SelectAnswer& select);
[[nodiscard]] std::vector<Byte> body_of(const Range& range);
[[nodiscard]] std::vector<Byte> body_of(const Refusal& refusal);
[[nodiscard]] std::vector<Byte> body_of_voltage(std::uint16_t millivolts);
[[nodiscard]] std::vector<Byte> body_of_data(std::uint32_t at, ByteView bytes);
[[nodiscard]] std::vector<Byte> body_of_write(std::uint32_t counter, std::uint32_t at, ByteView bytes);

/// All of these: nothing if the body is too short, too long, or has a value that means nothing.
[[nodiscard]] std::optional<Hello> hello_in(ByteView body);
[[nodiscard]] std::optional<HelloAnswer> hello_answer_in(ByteView body);
[[nodiscard]] std::optional<LookAnswer> look_answer_in(ByteView body);
[[nodiscard]] std::optional<Select> select_in(ByteView body);
[[nodiscard]] std::optional<SelectAnswer> select_answer_in(ByteView body);
[[nodiscard]] std::optional<Range> range_in(ByteView body);
[[nodiscard]] std::optional<Refusal> refusal_in(ByteView body);
[[nodiscard]] std::optional<std::uint16_t> voltage_in(ByteView body);
[[nodiscard]] std::optional<Piece> data_in(ByteView body);
[[nodiscard]] std::optional<std::pair<std::uint32_t, Piece>> write_in(ByteView body);

}  // namespace bayswap::cart
