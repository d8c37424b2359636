#include "simport/reader.hpp"

#include <algorithm>

namespace bayswap::simport {
namespace {

using cart::Trouble;

cart::Refusal refusal(Trouble why, std::uint32_t detail = 0, std::string text = {}) {
  return {why, detail, std::move(text)};
}

// How far the number of a question is ahead of the last one's: half of the circle is new, the other half old.
bool is_new(Byte number, Byte last) {
  const auto ahead = static_cast<Byte>(number - last);
  return ahead != 0 && ahead < 128;
}

}  // namespace

void Reader::take(ByteView bytes) {
  frames_.take(bytes);
  while (const auto frame = frames_.next()) answer_to(*frame);
}

void Reader::send(Byte kind, Byte number, std::vector<Byte> body) {
  send_(cart::encoded({kind, number, std::move(body)}));
}

void Reader::still_at_it() {
  if (last_question_) send(cart::tell_busy, last_question_->number, {});
}

void Reader::answer_to(const cart::Frame& question) {
  if (question.kind >= cart::answer) return;  // an echo
  // The same question again: the answer did not arrive. Nothing is done twice.
  if (last_question_ && *last_question_ == question && question.kind != cart::ask_read) {
    send(last_answer_.kind, last_answer_.number, last_answer_.body);
    return;
  }
  if (question.kind == cart::ask_hello) {
    const auto hello = cart::hello_in(question.body);
    if (!hello) return;
    session_ = hello->session;
    max_body_ = std::clamp<std::size_t>(hello->max_body, cart::least_max_body, cart::usual_max_body);
    selected_.reset();
  } else if (!session_ || !last_question_ || !is_new(question.number, last_question_->number)) {
    return;  // nobody said hello; or it was on the way for long, and means what has been done since
  }
  reading_.reset();
  last_question_ = question;
  Refused refused;
  std::vector<Byte> body = act(question, refused);
  if (reading_ && !refused) return;  // answered piece by piece
  last_answer_ = refused ? cart::Frame{cart::tell_error, question.number, cart::body_of(*refused)}
                         : cart::Frame{static_cast<Byte>(question.kind | cart::answer), question.number,
                                       std::move(body)};
  send(last_answer_.kind, last_answer_.number, last_answer_.body);
}

Refused Reader::same_cartridge(std::uint32_t counter) {
  const cart::LookAnswer look = slot_->look();
  if (look.seat == cart::LookAnswer::Seat::none) return refusal(Trouble::no_cartridge);
  if (look.counter != counter) return refusal(Trouble::changed, look.counter);
  if (!selected_) return refusal(Trouble::not_selected);
  if (look.millivolts == 0) return refusal(Trouble::no_power);
  return std::nullopt;
}

std::vector<Byte> Reader::act(const cart::Frame& question, Refused& refused) {
  const ByteView body = question.body;
  const auto within = [&](std::uint64_t at, std::uint64_t bytes) -> Refused {
    if (bytes == 0 || at + bytes > selected_->bytes)
      return refusal(Trouble::out_of_range,
                     static_cast<std::uint32_t>(std::min<std::uint64_t>(at + bytes, 0xffffffff)));
    return std::nullopt;
  };
  refused = refusal(Trouble::malformed);
  switch (question.kind) {
    case cart::ask_hello: {
      refused.reset();
      const auto hello = cart::hello_in(body);
      cart::HelloAnswer said;
      if (cart::version < hello->lowest || cart::version > hello->highest)
        refused = refusal(Trouble::unsupported, cart::version, "version");
      said.max_body = static_cast<std::uint16_t>(max_body_);
      said.usual_rate = usual_rate;
      said.silence_ms = silence_ms;
      said.name = name_;
      return cart::body_of(said);
    }
    case cart::ask_look:
      if (!body.empty()) return {};
      refused.reset();
      return cart::body_of(slot_->look());
    case cart::ask_power:
      if (const auto millivolts = cart::voltage_in(body)) {
        refused = slot_->power(*millivolts);
        selected_.reset();
        return cart::body_of_voltage(*millivolts);
      }
      return {};
    case cart::ask_select:
      if (const auto what = cart::select_in(body)) {
        cart::SelectAnswer said;
        refused = slot_->select(*what, said);
        selected_ = refused ? std::nullopt : std::optional(said);
        return cart::body_of(said);
      }
      return {};
    case cart::ask_read:
      if (const auto range = cart::range_in(body)) {
        refused = same_cartridge(range->counter);
        if (!refused) refused = within(range->at, range->bytes);
        if (!refused) reading_ = Reading{question.number, *range};
      }
      return {};
    case cart::ask_write:
      if (const auto write = cart::write_in(body)) {
        const auto& [counter, piece] = *write;
        refused = same_cartridge(counter);
        if (!refused) refused = within(piece.at, piece.bytes.size());
        if (!refused && (selected_->write_bytes == 0 || piece.at % selected_->write_bytes != 0 ||
                         piece.bytes.size() % selected_->write_bytes != 0))
          refused = refusal(Trouble::unsupported, selected_->write_bytes, "writes have another size");
        if (!refused) refused = slot_->write(piece.at, piece.bytes);
      }
      return {};
    case cart::ask_erase:
      if (const auto range = cart::range_in(body)) {
        refused = same_cartridge(range->counter);
        if (!refused) refused = within(range->at, range->bytes);
        if (!refused && (selected_->sector_bytes == 0 || range->at % selected_->sector_bytes != 0 ||
                         range->bytes % selected_->sector_bytes != 0))
          refused = refusal(Trouble::unsupported, selected_->sector_bytes, "sectors have another size");
        if (!refused) refused = slot_->erase(range->at, range->bytes);
      }
      return {};
    case cart::ask_settle:
      if (!body.empty()) return {};
      refused = slot_->settle();
      return {};
    default:
      refused = refusal(Trouble::unknown_question, question.kind);
      return {};
  }
}

bool Reader::go_on() {
  if (!reading_) return false;
  cart::Range& left = reading_->left;
  const Byte number = reading_->number;
  Refused refused = same_cartridge(left.counter);
  const std::size_t count = std::min<std::size_t>(left.bytes, max_body_ - 4);
  std::vector<Byte> bytes(count);
  if (!refused) refused = slot_->read(left.at, bytes);
  if (refused) {
    reading_.reset();
    send(cart::tell_error, number, cart::body_of(*refused));
    return false;
  }
  send(cart::tell_data, number, cart::body_of_data(left.at, bytes));
  left.at += static_cast<std::uint32_t>(count);
  left.bytes -= static_cast<std::uint32_t>(count);
  if (left.bytes > 0) return true;
  reading_.reset();
  send(cart::ask_read | cart::answer, number, {});
  return false;
}

}  // namespace bayswap::simport
