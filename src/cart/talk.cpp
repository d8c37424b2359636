#include "cart/talk.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap::cart {
namespace {

constexpr int max_tries = 8;
constexpr std::size_t least_bytes_a_second = 100;
constexpr std::size_t max_at_once = std::size_t{256} << 10;
constexpr std::size_t max_frames = std::size_t{1} << 16;  // looked at for one question

tl::unexpected<Error> silent() {
  return fail(ErrorCode::io, "the reader does not answer",
              "check the cable, and that nothing else uses the port; unplug the reader and plug it in again");
}

}  // namespace

Error error_of(const Refusal& refusal) {
  const std::string said = refusal.text.empty() ? "" : fmt::format(" ({})", printable(refusal.text));
  const auto make = [&](ErrorCode code, const std::string& message, const char* hint) {
    return Error{code, message + said, hint, {}};
  };
  switch (refusal.why) {
    case Trouble::no_cartridge:
      return make(ErrorCode::not_found, "no cartridge is in the reader",
                  "put one in, straight and all the way");
    case Trouble::changed:
      return make(ErrorCode::busy, "another cartridge is in the reader than a moment ago",
                  "look what is in it, and start again");
    case Trouble::no_power:
      return make(ErrorCode::io, "the cartridge has no power", "look at the cartridge again first");
    case Trouble::voltage:
      return make(ErrorCode::unsafe,
                  fmt::format("the reader refuses {} mV for this cartridge", refusal.detail),
                  "set the switch of the reader to the cartridge's own voltage");
    case Trouble::out_of_range:
      return make(ErrorCode::does_not_fit, fmt::format("the chip has no byte {}", refusal.detail),
                  "look which chip the cartridge has");
    case Trouble::chip:
      return make(ErrorCode::io, fmt::format("the chip does not take what is written at {}", refusal.detail),
                  "clean the contacts and try again; a chip that never takes it is worn out");
    case Trouble::unsupported:
      return make(ErrorCode::unsupported, "the reader can't do that with this cartridge",
                  "look what the reader can do, and whether there is a newer program for it");
    case Trouble::not_selected:
    case Trouble::malformed:
    case Trouble::unknown_question:
      break;
  }
  return make(ErrorCode::unsupported, "the reader does not understand what it is asked",
              "look whether there is a newer program for the reader");
}

Result<void> Talk::check_cancelled() const {
  if (is_cancelled()) return fail(ErrorCode::io, "stopped", "");
  return {};
}

Result<std::optional<Frame>> Talk::receive(Byte number, Time end) {
  std::array<Byte, 4096> bytes{};
  int left_ms = 2 * silence_ms_;
  constexpr int step_ms = 50;  // so that a wish to stop is heard
  for (std::size_t seen = 0; seen < max_frames; ++seen) {
    if (auto frame = frames_.next()) {
      if (frame->number == number) return frame;
      continue;
    }
    BAYSWAP_CHECK(check_cancelled());
    if (std::chrono::steady_clock::now() >= end) return std::nullopt;
    BAYSWAP_TRY(const std::size_t count, line_->read(bytes, std::min(step_ms, left_ms)));
    if (count == 0) {
      left_ms -= step_ms;
      if (left_ms <= 0) return std::nullopt;
      continue;
    }
    frames_.take(ByteView(bytes).first(count));
  }
  return std::nullopt;
}

Result<std::vector<Byte>> Talk::ask(Byte kind, const std::vector<Byte>& body) {
  const Byte number = ++number_;
  const std::vector<Byte> question = encoded({kind, number, body});
  // Who was silent for eight questions is not asked eight times for each of the next ones.
  const int most = is_silent_ ? 1 : max_tries;
  const Time end = std::chrono::steady_clock::now() + longest_work;
  for (int tries = 0; tries < most; ++tries) {
    if (tries > 0) ++repeats_;
    BAYSWAP_CHECK(check_cancelled());
    if (is_silent_ && ++asked_in_vain_ > max_tries) return silent();
    BAYSWAP_CHECK(line_->write(question));
    for (;;) {
      BAYSWAP_TRY(auto frame, receive(number, end));
      if (!frame) break;
      is_silent_ = false;
      if (frame->kind == (kind | answer)) return std::move(frame->body);
      if (frame->kind != tell_error) continue;
      const auto refusal = refusal_in(frame->body);
      if (refusal) return tl::unexpected(error_of(*refusal));
    }
  }
  is_silent_ = true;
  return silent();
}

Result<HelloAnswer> Talk::hello(std::uint32_t session) {
  Hello hello;
  hello.session = session;
  is_silent_ = false;
  asked_in_vain_ = 0;
  number_ = 0xff;  // the question gets 0, as the first of a session has it
  BAYSWAP_TRY(const auto body, ask(ask_hello, body_of(hello)));
  const auto said = hello_answer_in(body);
  if (!said) return silent();
  if (said->version < hello.lowest || said->version > hello.highest)
    return fail(ErrorCode::unsupported,
                fmt::format("the reader speaks version {} of the line protocol, this program {}",
                            said->version, version),
                "use a newer program on the older side");
  max_body_ = std::min<std::size_t>(said->max_body, usual_max_body);
  silence_ms_ = std::clamp<int>(said->silence_ms, 10, 5000);
  return *said;
}

Result<std::size_t> Talk::read_once(const Range& range, std::vector<Gap>& gaps, const Take& take,
                                    Time until) {
  const Byte number = ++number_;
  BAYSWAP_CHECK(check_cancelled());
  BAYSWAP_CHECK(line_->write(encoded({ask_read, number, body_of(range)})));
  std::size_t came = 0;
  for (std::size_t seen = 0; seen < max_frames; ++seen) {
    BAYSWAP_TRY(auto frame, receive(number, until));
    if (!frame || frame->kind == (ask_read | answer)) return came;
    if (frame->kind == tell_error)
      if (const auto refusal = refusal_in(frame->body)) return tl::unexpected(error_of(*refusal));
    if (frame->kind != tell_data) continue;
    const auto piece = data_in(frame->body);
    if (!piece) continue;
    const std::size_t end = piece->at + piece->bytes.size();
    // Only what is still missing, each byte once.
    std::vector<Gap> left;
    for (const Gap& gap : gaps) {
      const std::size_t from = std::max<std::size_t>(gap.at, piece->at);
      const std::size_t to = std::min(gap.end, end);
      if (from >= to) {
        left.push_back(gap);
        continue;
      }
      take(from, piece->bytes.subspan(from - piece->at, to - from));
      came += to - from;
      if (gap.at < from) left.push_back({gap.at, from});
      if (to < gap.end) left.push_back({to, gap.end});
    }
    gaps = std::move(left);
  }
  return came;
}

Result<void> Talk::read(const Range& range, const Take& take) {
  for (std::size_t at = 0; at < range.bytes; at += max_at_once) {
    const std::size_t from = range.at + at;
    std::vector<Gap> gaps{{from, from + std::min<std::size_t>(max_at_once, range.bytes - at)}};
    int in_vain = 0;
    const Time end = std::chrono::steady_clock::now() + longest_work +
                     std::chrono::seconds((gaps.front().end - from) / least_bytes_a_second);
    for (bool first = true; !gaps.empty(); first = false) {
      if (!first) ++repeats_;
      const Gap gap = gaps.front();
      BAYSWAP_TRY(const std::size_t came, read_once({range.counter, static_cast<std::uint32_t>(gap.at),
                                                     static_cast<std::uint32_t>(gap.end - gap.at)},
                                                    gaps, take, end));
      in_vain = came > 0 ? 0 : in_vain + 1;
      if (in_vain >= max_tries || std::chrono::steady_clock::now() >= end) {
        is_silent_ = true;
        return silent();
      }
    }
  }
  return {};
}

tl::unexpected<Error> nonsense() {
  return fail(ErrorCode::io, "the reader's answer makes no sense",
              "unplug the reader and plug it in again; look whether there is a newer program for it");
}

}  // namespace bayswap::cart
