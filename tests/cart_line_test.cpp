// The line protocol of cartridge readers: frames, bodies, and both ends over a line that loses, doubles,
// damages and reorders.
#include <algorithm>
#include <deque>

#include "cart/talk.hpp"
#include "simport/reader.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using namespace cart;

std::vector<Byte> hex(std::string_view digits) {
  std::vector<Byte> bytes;
  for (std::size_t i = 0; i + 1 < digits.size(); i += 2)
    bytes.push_back(static_cast<Byte>(std::stoi(std::string(digits.substr(i, 2)), nullptr, 16)));
  return bytes;
}

TEST(CartFrames, AreTheVectorsOfThePage) {
  // docs/cart-protocol.md; made by another program.
  EXPECT_EQ(encoded({ask_look, 1, {}}), hex("00070201eb40e80400"));
  EXPECT_EQ(encoded({ask_power, 2, body_of_voltage(3300)}), hex("00090302e40c5fded10300"));
  EXPECT_EQ(encoded({ask_hello, 0, body_of(Hello{1, 1, 4104, 0x12345678})}),
            hex("0002010d010108107856341243450f6400"));
  EXPECT_EQ(encoded({ask_write, 9, body_of_write(77, 4096, hex("0102030405"))}),
            hex("000406094d0101010210010a010203040542864c5c00"));
  EXPECT_EQ(encoded({tell_data, 4, body_of_data(0, hex("0000ff"))}), hex("0003fd04010101010106ff14d1f82800"));
  // A piece of 254 bytes has no 00 after it.
  std::vector<Byte> body = hex("01010101");
  body.resize(254, 0xaa);
  std::vector<Byte> line = hex("00fffd0501010101");
  line.resize(line.size() + 248, 0xaa);
  for (const Byte b : hex("07aaaa87e9783e00")) line.push_back(b);
  EXPECT_EQ(encoded({tell_data, 5, body}), line);
  EXPECT_EQ(encoded({tell_error, 3, body_of(Refusal{Trouble::voltage, 5000, "switch"})}),
            hex("0006ff03068813010b7377697463686d0f051300"));
}

TEST(CartFrames, ComeBackWholeOrNotAtAll) {
  expect_property("frames in pieces, between noise", [] {
    const std::size_t size = *rc::gen::element<std::size_t>(0, 1, 252, 253, 254, 255, 508, 600);
    Frame frame{*rc::gen::arbitrary<Byte>(), *rc::gen::arbitrary<Byte>(), {}};
    // Long stretches without a 00 are the hard part.
    const int zeros = *rc::gen::element(0, 1, 100);
    frame.body = *rc::gen::container<std::vector<Byte>>(
        size, rc::gen::map(rc::gen::inRange(0, 400),
                           [zeros](int x) { return static_cast<Byte>(x < zeros ? 0 : 1 + x % 255); }));
    const std::vector<Byte> line = encoded(frame);
    RC_ASSERT(std::count(line.begin(), line.end(), 0) == 2);
    FrameReader reader(1024);
    auto noise = *rc::gen::arbitrary<std::vector<Byte>>();
    noise.erase(std::remove(noise.begin(), noise.end(), Byte{0}), noise.end());
    reader.take(noise);
    const std::size_t cut = *rc::gen::inRange<std::size_t>(0, line.size());
    reader.take(ByteView(line).first(cut));
    reader.take(ByteView(line).subspan(cut));
    const auto came = reader.next();
    RC_ASSERT(came.has_value());
    RC_ASSERT(*came == frame);
    RC_ASSERT(!reader.next());
    // One byte changed: nothing comes, or, where a 00 was made or lost, nothing of this frame.
    auto damaged = line;
    const std::size_t at = *rc::gen::inRange<std::size_t>(0, damaged.size());
    damaged[at] = static_cast<Byte>(damaged[at] ^ *rc::gen::inRange(1, 256));
    FrameReader other(1024);
    other.take(damaged);
    while (const auto wrong = other.next()) RC_ASSERT(at == 0 || at + 1 == damaged.size());
    FrameReader small(size == 0 ? 0 : size - 1);
    small.take(line);
    RC_ASSERT(small.next().has_value() == (size == 0));
  });
}

TEST(CartBodies, ComeBackAndBadOnesAreNone) {
  LookAnswer look;
  look.seat = LookAnswer::Seat::in;
  look.counter = 77;
  look.millivolts = 3300;
  look.wanted = 5000;
  look.offered = {3300, 5000};
  look.platforms = "gb gba";
  auto body = body_of(look);
  const auto came = look_answer_in(body);
  ASSERT_TRUE(came);
  EXPECT_EQ(came->offered, look.offered);
  EXPECT_EQ(came->platforms, look.platforms);
  body[0] = 3;
  EXPECT_FALSE(look_answer_in(body)) << "no such seat";
  const auto select = body_of(Select{Select::Space::chip, "gba", "flash", 65536, 0});
  EXPECT_EQ(select_in(select)->chip, "flash");
  for (std::size_t size = 0; size < select.size(); ++size)
    EXPECT_FALSE(select_in(ByteView(select).first(size)));
  EXPECT_FALSE(data_in(hex("00000000"))) << "no data";
  EXPECT_FALSE(hello_in(body_of(Hello{2, 1, 4096, 0}))) << "the lowest over the highest";
  EXPECT_EQ(refusal_in(body_of(Refusal{Trouble::voltage, 5000, "switch"}))->detail, 5000U);
}

// Memory of one chip, and a count of what was really done to it.
class MemorySlot final : public simport::Slot {
 public:
  LookAnswer look() override {
    LookAnswer look;
    look.seat = LookAnswer::Seat::in;
    look.counter = counter;
    look.millivolts = millivolts;
    look.offered = {3300, 5000};
    look.platforms = "gb";
    return look;
  }
  simport::Refused power(std::uint16_t wanted) override {
    if (wanted != 0 && wanted != 5000) return Refusal{Trouble::voltage, wanted, {}};
    millivolts = wanted;
    return std::nullopt;
  }
  simport::Refused select(const Select& what, SelectAnswer& said) override {
    if (what.space != Select::Space::chip) return Refusal{Trouble::unsupported, 0, {}};
    said = {static_cast<std::uint32_t>(memory.size()), 16, 0};
    return std::nullopt;
  }
  simport::Refused read(std::uint32_t at, std::span<Byte> into) override {
    std::copy_n(memory.begin() + at, into.size(), into.begin());
    return std::nullopt;
  }
  simport::Refused write(std::uint32_t at, ByteView bytes) override {
    ++writes;
    std::copy(bytes.begin(), bytes.end(), memory.begin() + at);
    return std::nullopt;
  }
  simport::Refused erase(std::uint32_t /*at*/, std::uint32_t /*bytes*/) override {
    return Refusal{Trouble::unsupported, 0, {}};
  }
  simport::Refused settle() override { return std::nullopt; }

  std::vector<Byte> memory = std::vector<Byte>(40000);
  std::uint32_t counter = 5;
  std::uint16_t millivolts = 0;
  int writes = 0;
};

// Both ends in one process; time passes when nothing comes.
class BadLine final : public Line {
 public:
  explicit BadLine(simport::Slot& slot)
      : reader_(slot, "made up", [this](const std::vector<Byte>& bytes) { pass(bytes, to_host_); }) {}

  Result<void> write(ByteView bytes) override {
    std::deque<std::vector<Byte>> out;
    pass({bytes.begin(), bytes.end()}, out);
    for (const auto& one : out) reader_.take(one);
    return {};
  }
  Result<std::size_t> read(std::span<Byte> into, int /*timeout_ms*/) override {
    if (to_host_.empty()) reader_.go_on();
    if (to_host_.empty()) return std::size_t{0};
    std::vector<Byte>& first = to_host_.front();
    const std::size_t count = std::min(into.size(), first.size());
    std::copy_n(first.begin(), count, into.begin());
    first.erase(first.begin(), first.begin() + static_cast<std::ptrdiff_t>(count));
    if (first.empty()) to_host_.pop_front();
    return count;
  }

  // Of a hundred frames so many.
  int lost = 0;
  int doubled = 0;
  int damaged = 0;
  int late = 0;
  std::mt19937 dice{1};

 private:
  bool happens(int percent) { return static_cast<int>(dice() % 100) < percent; }
  void pass(std::vector<Byte> frame, std::deque<std::vector<Byte>>& out) {
    if (happens(lost)) return;
    if (happens(damaged)) frame[dice() % frame.size()] ^= static_cast<Byte>(1 + dice() % 255);
    if (happens(late) && held_.empty()) {
      held_ = frame;
      held_for_ = &out;
      return;
    }
    out.push_back(frame);
    if (happens(doubled)) out.push_back(frame);
    if (!held_.empty() && held_for_ == &out) {
      out.push_back(held_);
      held_.clear();
    }
  }

  simport::Reader reader_;
  std::deque<std::vector<Byte>> to_host_;
  std::vector<Byte> held_;
  std::deque<std::vector<Byte>>* held_for_ = nullptr;
};

Result<std::vector<Byte>> read_all(Talk& talk, std::uint32_t counter, std::uint32_t at, std::uint32_t bytes) {
  std::vector<Byte> got(bytes);
  std::vector<int> times(bytes);
  auto done = talk.read({counter, at, bytes}, [&](std::size_t where, ByteView piece) {
    for (std::size_t i = 0; i < piece.size(); ++i) {
      got.at(where - at + i) = piece[i];
      ++times.at(where - at + i);
    }
  });
  if (!done) return tl::unexpected(done.error());
  EXPECT_EQ(std::count(times.begin(), times.end(), 1), bytes) << "each byte once";
  return got;
}

TEST(CartLine, WhateverTheLineDoesAnAnswerIsTrue) {
  expect_property("of a line that loses, doubles, damages and delays", [] {
    MemorySlot slot;
    BadLine line(slot);
    line.lost = *rc::gen::inRange(0, 25);
    line.doubled = *rc::gen::inRange(0, 25);
    line.damaged = *rc::gen::inRange(0, 25);
    line.late = *rc::gen::inRange(0, 15);
    line.dice.seed(*rc::gen::arbitrary<std::uint32_t>());
    Talk talk(line);
    const auto hello = talk.hello(1);
    if (!hello) return;  // nobody could be heard
    RC_ASSERT(hello->name == "made up");
    if (!talk.ask(ask_power, body_of_voltage(5000))) return;
    RC_ASSERT(slot.millivolts == 5000);
    if (!talk.ask(ask_select, body_of(Select{Select::Space::chip, "gb", "sram", 0, 3}))) return;
    std::vector<Byte> model = slot.memory;
    for (int step = 0; step < 12; ++step) {
      const auto at = *rc::gen::inRange<std::uint32_t>(0, 2000) * 16;
      if (*rc::gen::arbitrary<bool>()) {
        std::vector<Byte> bytes(16 * *rc::gen::inRange<std::size_t>(1, 20), static_cast<Byte>(step + 1));
        const int before = slot.writes;
        const auto done = talk.ask(ask_write, body_of_write(slot.counter, at, bytes));
        RC_ASSERT(slot.writes <= before + 1);  // never twice
        if (!done) return;
        RC_ASSERT(slot.writes == before + 1);
        std::copy(bytes.begin(), bytes.end(), model.begin() + at);
        RC_ASSERT(slot.memory == model);
      } else {
        const auto bytes = *rc::gen::inRange<std::uint32_t>(1, 8000);
        const auto got = read_all(talk, slot.counter, at, bytes);
        if (!got) return;
        RC_ASSERT(std::equal(got->begin(), got->end(), model.begin() + at));
      }
    }
  });
}

// Readers that say for ever that they are still at it, or send anything but an answer.
TEST(CartLine, AReaderThatGoesOnForEverIsGivenUp) {
  class Endless final : public Line {
   public:
    explicit Endless(bool is_busy) : is_busy_(is_busy) {}
    Result<void> write(ByteView bytes) override {
      FrameReader frames(usual_max_body);
      frames.take(bytes);
      if (const auto frame = frames.next()) number_ = frame->number;
      return {};
    }
    Result<std::size_t> read(std::span<Byte> into, int /*timeout_ms*/) override {
      const std::vector<Byte> said =
          is_busy_ ? encoded({tell_busy, number_, {}}) : std::vector<Byte>(64, static_cast<Byte>(0x5a));
      const std::size_t count = std::min(into.size(), said.size());
      std::copy_n(said.begin(), count, into.begin());
      return count;
    }

   private:
    bool is_busy_;
    Byte number_ = 0;
  };
  for (const bool is_busy : {true, false}) {
    Endless line(is_busy);
    Talk talk(line);
    talk.longest_work = std::chrono::milliseconds(100);
    const auto begun = std::chrono::steady_clock::now();
    EXPECT_EQ(talk.ask(ask_look, {}).error().code, ErrorCode::io);
    EXPECT_EQ(talk.read({0, 0, 8}, [](std::size_t, ByteView) {}).error().code, ErrorCode::io);
    EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(5));
  }
}

TEST(CartLine, RefusalsComeThroughAndSilenceIsSaid) {
  MemorySlot slot;
  BadLine line(slot);
  Talk talk(line);
  ASSERT_TRUE(talk.hello(1));
  EXPECT_EQ(read_all(talk, slot.counter, 0, 16).error().code, ErrorCode::unsupported)
      << "nothing is selected";
  EXPECT_EQ(talk.ask(ask_power, body_of_voltage(3300)).error().code, ErrorCode::unsafe);
  EXPECT_EQ(slot.millivolts, 0) << "never applied";
  ASSERT_TRUE(talk.ask(ask_select, body_of(Select{Select::Space::chip, "gb", "sram", 0, 3})));
  EXPECT_EQ(read_all(talk, slot.counter, 0, 16).error().code, ErrorCode::io) << "no power";
  ASSERT_TRUE(talk.ask(ask_power, body_of_voltage(5000)));
  EXPECT_FALSE(read_all(talk, slot.counter, 0, 16)) << "power ends what was selected";
  ASSERT_TRUE(talk.ask(ask_select, body_of(Select{Select::Space::chip, "gb", "sram", 0, 3})));
  EXPECT_TRUE(read_all(talk, slot.counter, 0, 40000));
  EXPECT_EQ(read_all(talk, slot.counter, 39999, 2).error().code, ErrorCode::does_not_fit);
  EXPECT_EQ(talk.ask(ask_write, body_of_write(slot.counter, 8, Blob::filled(16, 1).view())).error().code,
            ErrorCode::unsupported);
  slot.counter = 6;
  EXPECT_EQ(read_all(talk, 5, 0, 16).error().code, ErrorCode::busy) << "another cartridge";
  EXPECT_EQ(talk.ask(ask_write, body_of_write(5, 0, Blob::filled(16, 1).view())).error().code,
            ErrorCode::busy);
  EXPECT_EQ(slot.writes, 0);
  EXPECT_EQ(talk.ask(0x70, {}).error().code, ErrorCode::unsupported);
  line.lost = 100;
  EXPECT_EQ(talk.ask(ask_look, {}).error().code, ErrorCode::io);
  line.lost = 0;
  talk.is_cancelled = [] { return true; };
  EXPECT_FALSE(talk.ask(ask_look, {}));
}

}  // namespace
}  // namespace bayswap::test
