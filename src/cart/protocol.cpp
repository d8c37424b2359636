#include "cart/protocol.hpp"

#include "base/endian.hpp"

namespace bayswap::cart {
namespace {

class Writer {
 public:
  Writer& number(std::uint64_t value, std::size_t bytes) {
    for (std::size_t i = 0; i < bytes; ++i) out_.push_back(static_cast<Byte>(value >> (8 * i)));
    return *this;
  }
  Writer& raw(ByteView bytes) {
    out_.insert(out_.end(), bytes.begin(), bytes.end());
    return *this;
  }
  Writer& rest(std::string_view text) {
    return raw({reinterpret_cast<const Byte*>(text.data()), text.size()});
  }
  // With its length in a byte before it.
  Writer& text(std::string_view text) {
    text = text.substr(0, 255);
    return number(text.size(), 1).rest(text);
  }
  std::vector<Byte> done() { return std::move(out_); }

 private:
  std::vector<Byte> out_;
};

// Everything reads as nought once the body has ended too early.
class Reader {
 public:
  explicit Reader(ByteView body) : body_(body) {}
  template <class Number>
  Number number() {
    std::uint64_t value = 0;
    const ByteView own = take(sizeof(Number));
    for (std::size_t i = 0; i < own.size(); ++i) value |= std::uint64_t{own[i]} << (8 * i);
    return static_cast<Number>(value);
  }
  std::string text() { return as_text(take(number<std::uint8_t>())); }
  std::string rest_text() { return as_text(rest()); }
  ByteView rest() { return take(body_.size()); }
  [[nodiscard]] bool is_whole() const { return good_ && body_.empty(); }

 private:
  static std::string as_text(ByteView bytes) {
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
  }
  ByteView take(std::size_t bytes) {
    if (bytes > body_.size()) {
      good_ = false;
      body_ = {};
      return {};
    }
    const ByteView own = body_.first(bytes);
    body_ = body_.subspan(bytes);
    return own;
  }

  ByteView body_;
  bool good_ = true;
};

template <class Value>
std::optional<Value> if_whole(const Reader& reader, Value value, bool means_something = true) {
  return reader.is_whole() && means_something ? std::optional(std::move(value)) : std::nullopt;
}

}  // namespace

std::vector<Byte> body_of(const Hello& hello) {
  return Writer()
      .number(hello.lowest, 1)
      .number(hello.highest, 1)
      .number(hello.max_body, 2)
      .number(hello.session, 4)
      .done();
}
std::optional<Hello> hello_in(ByteView body) {
  Reader reader(body);
  Hello hello;
  hello.lowest = reader.number<Byte>();
  hello.highest = reader.number<Byte>();
  hello.max_body = reader.number<std::uint16_t>();
  hello.session = reader.number<std::uint32_t>();
  return if_whole(reader, hello, hello.lowest <= hello.highest && hello.max_body >= least_max_body);
}

std::vector<Byte> body_of(const HelloAnswer& hello) {
  return Writer()
      .number(hello.version, 1)
      .number(hello.max_body, 2)
      .number(hello.usual_rate, 4)
      .number(hello.silence_ms, 2)
      .rest(hello.name)
      .done();
}
std::optional<HelloAnswer> hello_answer_in(ByteView body) {
  Reader reader(body);
  HelloAnswer hello;
  hello.version = reader.number<Byte>();
  hello.max_body = reader.number<std::uint16_t>();
  hello.usual_rate = reader.number<std::uint32_t>();
  hello.silence_ms = reader.number<std::uint16_t>();
  hello.name = reader.rest_text();
  return if_whole(reader, hello, hello.max_body >= least_max_body && hello.silence_ms > 0);
}

std::vector<Byte> body_of(const LookAnswer& look) {
  Writer writer;
  writer.number(static_cast<Byte>(look.seat), 1)
      .number(look.counter, 4)
      .number(look.millivolts, 2)
      .number(look.wanted, 2)
      .number(look.offered.size(), 1);
  for (const std::uint16_t one : look.offered) writer.number(one, 2);
  return writer.rest(look.platforms).done();
}
std::optional<LookAnswer> look_answer_in(ByteView body) {
  Reader reader(body);
  LookAnswer look;
  const auto seat = reader.number<Byte>();
  look.counter = reader.number<std::uint32_t>();
  look.millivolts = reader.number<std::uint16_t>();
  look.wanted = reader.number<std::uint16_t>();
  for (std::size_t left = reader.number<std::uint8_t>(); left > 0; --left)
    look.offered.push_back(reader.number<std::uint16_t>());
  look.platforms = reader.rest_text();
  look.seat = static_cast<LookAnswer::Seat>(seat);
  return if_whole(reader, look, seat <= static_cast<Byte>(LookAnswer::Seat::badly));
}

std::vector<Byte> body_of(const Select& select) {
  return Writer()
      .number(static_cast<Byte>(select.space), 1)
      .text(select.platform)
      .text(select.chip)
      .number(select.bytes, 4)
      .number(select.board, 2)
      .done();
}
std::optional<Select> select_in(ByteView body) {
  Reader reader(body);
  Select select;
  const auto space = reader.number<Byte>();
  select.platform = reader.text();
  select.chip = reader.text();
  select.bytes = reader.number<std::uint32_t>();
  select.board = reader.number<std::uint16_t>();
  select.space = static_cast<Select::Space>(space);
  return if_whole(reader, select, space <= static_cast<Byte>(Select::Space::clock));
}

std::vector<Byte> body_of(const SelectAnswer& select) {
  return Writer().number(select.bytes, 4).number(select.write_bytes, 4).number(select.sector_bytes, 4).done();
}
std::optional<SelectAnswer> select_answer_in(ByteView body) {
  Reader reader(body);
  SelectAnswer select;
  select.bytes = reader.number<std::uint32_t>();
  select.write_bytes = reader.number<std::uint32_t>();
  select.sector_bytes = reader.number<std::uint32_t>();
  return if_whole(reader, select);
}

std::vector<Byte> body_of(const Range& range) {
  return Writer().number(range.counter, 4).number(range.at, 4).number(range.bytes, 4).done();
}
std::optional<Range> range_in(ByteView body) {
  Reader reader(body);
  Range range;
  range.counter = reader.number<std::uint32_t>();
  range.at = reader.number<std::uint32_t>();
  range.bytes = reader.number<std::uint32_t>();
  return if_whole(reader, range);
}

std::vector<Byte> body_of(const Refusal& refusal) {
  return Writer()
      .number(static_cast<Byte>(refusal.why), 1)
      .number(refusal.detail, 4)
      .rest(refusal.text)
      .done();
}
std::optional<Refusal> refusal_in(ByteView body) {
  Reader reader(body);
  Refusal refusal;
  const auto why = reader.number<Byte>();
  refusal.detail = reader.number<std::uint32_t>();
  refusal.text = reader.rest_text();
  refusal.why = static_cast<Trouble>(why);
  return if_whole(reader, refusal, why >= 1 && why <= static_cast<Byte>(Trouble::not_selected));
}

std::vector<Byte> body_of_voltage(std::uint16_t millivolts) {
  return Writer().number(millivolts, 2).done();
}
std::optional<std::uint16_t> voltage_in(ByteView body) {
  Reader reader(body);
  const auto millivolts = reader.number<std::uint16_t>();
  return if_whole(reader, millivolts);
}

std::vector<Byte> body_of_data(std::uint32_t at, ByteView bytes) {
  return Writer().number(at, 4).raw(bytes).done();
}
std::optional<Piece> data_in(ByteView body) {
  Reader reader(body);
  Piece piece;
  piece.at = reader.number<std::uint32_t>();
  piece.bytes = reader.rest();
  return if_whole(reader, piece, !piece.bytes.empty());
}

std::vector<Byte> body_of_write(std::uint32_t counter, std::uint32_t at, ByteView bytes) {
  return Writer().number(counter, 4).number(at, 4).raw(bytes).done();
}
std::optional<std::pair<std::uint32_t, Piece>> write_in(ByteView body) {
  Reader reader(body);
  const auto counter = reader.number<std::uint32_t>();
  Piece piece;
  piece.at = reader.number<std::uint32_t>();
  piece.bytes = reader.rest();
  return if_whole(reader, std::pair(counter, piece), !piece.bytes.empty());
}

}  // namespace bayswap::cart
