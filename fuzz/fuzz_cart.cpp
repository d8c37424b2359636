// Both ends of the line protocol: bytes as they come for the reader, answers as they come for the host, and
// frames made whole around the input, so that their bodies are looked at.
#include <algorithm>

#include "cart/talk.hpp"
#include "fuzz.hpp"
#include "simport/reader.hpp"

namespace {
using namespace bayswap;
using namespace bayswap::cart;

constexpr std::size_t chip_bytes = 4096;

class FuzzSlot final : public simport::Slot {
 public:
  LookAnswer look() override {
    LookAnswer look;
    look.seat = LookAnswer::Seat::in;
    look.millivolts = 3300;
    look.counter = 1;
    return look;
  }
  simport::Refused power(std::uint16_t /*millivolts*/) override { return std::nullopt; }
  simport::Refused select(const Select& /*what*/, SelectAnswer& said) override {
    said = {chip_bytes, 16, 256};
    return std::nullopt;
  }
  simport::Refused read(std::uint32_t at, std::span<Byte> into) override {
    fuzz::require(at <= chip_bytes && into.size() <= chip_bytes - at);
    std::fill(into.begin(), into.end(), Byte{7});
    return std::nullopt;
  }
  simport::Refused write(std::uint32_t at, ByteView bytes) override {
    fuzz::require(at <= chip_bytes && bytes.size() <= chip_bytes - at && at % 16 == 0);
    return std::nullopt;
  }
  simport::Refused erase(std::uint32_t at, std::uint32_t bytes) override {
    fuzz::require(at <= chip_bytes && bytes <= chip_bytes - at && at % 256 == 0);
    return std::nullopt;
  }
  simport::Refused settle() override { return std::nullopt; }
};

// Says what it is given, and then nothing.
class GivenLine final : public Line {
 public:
  explicit GivenLine(ByteView bytes) : bytes_(bytes) {}
  Result<void> write(ByteView /*bytes*/) override { return {}; }
  Result<std::size_t> read(std::span<Byte> into, int /*timeout_ms*/) override {
    const std::size_t count = std::min({into.size(), bytes_.size(), std::size_t{100}});
    std::copy_n(bytes_.begin(), count, into.begin());
    bytes_ = bytes_.subspan(count);
    return count;
  }

 private:
  ByteView bytes_;
};

void look_at_bodies(ByteView body) {
  const auto same = [&](const std::vector<Byte>& made) {
    fuzz::require(std::equal(made.begin(), made.end(), body.begin(), body.end()));
  };
  if (const auto one = hello_in(body)) same(body_of(*one));
  if (const auto one = hello_answer_in(body)) same(body_of(*one));
  if (const auto one = look_answer_in(body)) same(body_of(*one));
  if (const auto one = select_in(body)) same(body_of(*one));
  if (const auto one = select_answer_in(body)) same(body_of(*one));
  if (const auto one = range_in(body)) same(body_of(*one));
  if (const auto one = refusal_in(body)) same(body_of(*one));
  if (const auto one = voltage_in(body)) same(body_of_voltage(*one));
  if (const auto one = data_in(body)) same(body_of_data(one->at, one->bytes));
  if (const auto one = write_in(body)) same(body_of_write(one->first, one->second.at, one->second.bytes));
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const ByteView input(data, size);
  look_at_bodies(input);
  FrameReader frames(usual_max_body);
  frames.take(input);
  while (const auto frame = frames.next()) {
    FrameReader again(usual_max_body);
    again.take(encoded(*frame));
    fuzz::require(again.next() == frame);
  }
  // A session of whole frames: a kind, a length, the body.
  std::vector<Byte> line = encoded({ask_hello, 0, body_of(Hello{})});
  std::vector<Byte> answers;
  Byte number = 0;
  for (std::size_t at = 0; at + 2 <= size;) {
    const std::size_t length = std::min<std::size_t>(data[at + 1], size - at - 2);
    const Frame frame{
        data[at], static_cast<Byte>(number + data[at] % 3), {data + at + 2, data + at + 2 + length}};
    number = frame.number;
    const auto whole = encoded(frame);
    line.insert(line.end(), whole.begin(), whole.end());
    answers.insert(answers.end(), whole.begin(), whole.end());
    at += 2 + length;
  }
  FuzzSlot slot;
  std::size_t sent = 0;
  simport::Reader reader(slot, "fuzz", [&](const std::vector<Byte>& bytes) { sent += bytes.size(); });
  reader.take(line);
  for (int i = 0; i < 64 && reader.go_on(); ++i) {
  }
  reader.take(input);
  fuzz::require(sent < (std::size_t{1} << 22));
  for (const ByteView said : {ByteView(answers), input}) {
    GivenLine given(said);
    Talk talk(given);
    (void)talk.hello(1);
    std::size_t came = 0;
    (void)talk.read({1, 0, 5000}, [&](std::size_t at, ByteView bytes) {
      fuzz::require(at + bytes.size() <= 5000);
      came += bytes.size();
    });
    fuzz::require(came <= 5000);
    (void)talk.ask(ask_look, {});
  }
  return 0;
}
