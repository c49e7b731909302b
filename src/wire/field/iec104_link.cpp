#include <algorithm>
#include <array>

#include "wire/field/iec104_data.hpp"
#include "wire/field/seconds.hpp"

namespace zavrek::wire {
namespace {

// A frame: 0x68, length of what follows, four octets of control, data (104, 5). By example, the first
// acknowledgement of nothing:
//   68 04  start, length
//   07 00 00 00  STARTDT act
// and data number 0 that acknowledges up to 2: 68 0E 00 00 04 00 64 01 06 00 01 00 00 00 00 14.
constexpr std::uint8_t start_octet = 0x68;
constexpr std::size_t least_length = 4, most_length = 253;
constexpr unsigned numbers = 1U << 15U;
constexpr std::size_t most_in = 64 * 1024;

unsigned steps_between(unsigned from, unsigned to) { return (to + numbers - from) % numbers; }

}  // namespace

const std::vector<std::string>& iec104_kind_names() {
  static const std::vector<std::string> names{"single", "double", "normalised", "scaled", "float"};
  return names;
}

Iec104Link::Iec104Link(const Iec104Timing& timing, Traffic& traffic, bool controlling, Now now)
    : timing_(timing), traffic_(traffic), controlling_(controlling), last_heard_ns_(now.steady_ns) {
  if (!controlling_) return;
  send_unnumbered(Unnumbered::start);
  confirmation_due_ns_ = now.steady_ns + internal::ns_of(timing_.t1_s);
}

void Iec104Link::send_unnumbered(Unnumbered function) {
  send(std::array<std::uint8_t, 6>{start_octet, 4, static_cast<std::uint8_t>(function), 0, 0, 0});
  ++traffic_.sent;
}

void Iec104Link::send_supervisory() {
  const auto number = next_received_ << 1U;
  send(std::array<std::uint8_t, 6>{start_octet, 4, 1, 0, static_cast<std::uint8_t>(number),
                                   static_cast<std::uint8_t>(number >> 8U)});
  told_ = next_received_;
  ++traffic_.sent;
}

void Iec104Link::receive(Bytes bytes, Now now) {
  in_.insert(in_.end(), bytes.begin(), bytes.end());
  std::size_t at = 0;
  while (over().empty() && in_.size() - at >= 2) {
    const std::size_t length = in_[at + 1];
    if (in_[at] != start_octet || length < least_length || length > most_length) {
      ++traffic_.malformed;
      end("no frame of IEC 60870-5-104");
      break;
    }
    if (in_.size() - at < 2 + length) break;
    take_frame(Bytes(in_).subspan(at + 2, length), now);
    at += 2 + length;
  }
  in_.erase(in_.begin(), in_.begin() + static_cast<std::ptrdiff_t>(std::min(at, in_.size())));
  if (in_.size() > most_in) end("too much at once");
  if (over().empty()) send_waiting(now);
}

void Iec104Link::take_frame(Bytes frame, Now now) {
  last_heard_ns_ = now.steady_ns;
  ++traffic_.received;
  const unsigned sent = (frame[0] | frame[1] << 8U) >> 1U, received = (frame[2] | frame[3] << 8U) >> 1U;
  if ((frame[0] & 1U) == 0) {
    if (!started_ || frame.size() < least_length + internal::asdu_head_size) {
      ++traffic_.malformed;
      return end(started_ ? "data without a head" : "data before the start (104, 5.3)");
    }
    if (sent != next_received_) return end("a number of data is missing (104, 5.1)");
    if (!acknowledge(received)) return;
    if (next_received_ == told_) first_untold_ns_ = now.steady_ns;
    next_received_ = (next_received_ + 1) % numbers;
    take(frame.subspan(least_length), now);
    if (steps_between(told_, next_received_) >= static_cast<unsigned>(timing_.w)) send_supervisory();
    return;
  }
  if (frame.size() != least_length) {
    ++traffic_.malformed;
    return end("control with data");
  }
  if ((frame[0] & 3U) == 1)
    (void)acknowledge(received);
  else
    take_unnumbered(frame[0]);
}

bool Iec104Link::acknowledge(unsigned number) {
  const unsigned done = steps_between(acknowledged_, number);
  if (done > steps_between(acknowledged_, next_sent_)) {
    end("an acknowledgement of what was not sent (104, 5.1)");
    return false;
  }
  sent_ns_.erase(sent_ns_.begin(), sent_ns_.begin() + done);
  acknowledged_ = number;
  return true;
}

void Iec104Link::take_unnumbered(std::uint8_t function) {
  switch (static_cast<Unnumbered>(function)) {
    case Unnumbered::start:
      if (controlling_) return end("a controlled station that starts");
      started_ = true;
      return send_unnumbered(Unnumbered::start_confirmed);
    case Unnumbered::stop:
      if (controlling_) return end("a controlled station that stops");
      started_ = false;
      return send_unnumbered(Unnumbered::stop_confirmed);
    case Unnumbered::test:
      return send_unnumbered(Unnumbered::test_confirmed);
    case Unnumbered::start_confirmed:
      started_ = controlling_;
      confirmation_due_ns_ = 0;
      return;
    case Unnumbered::stop_confirmed:
    case Unnumbered::test_confirmed:
      confirmation_due_ns_ = 0;
      return;
  }
  ++traffic_.malformed;
  end("an unknown control function");
}

void Iec104Link::send_waiting(Now now) {
  while (started_ && !queue_.empty() && sent_ns_.size() < static_cast<std::size_t>(timing_.k)) {
    const std::vector<std::uint8_t>& asdu = queue_.front();
    const unsigned sent = next_sent_ << 1U, received = next_received_ << 1U;
    send(std::array<std::uint8_t, 6>{start_octet, static_cast<std::uint8_t>(least_length + asdu.size()),
                                     static_cast<std::uint8_t>(sent), static_cast<std::uint8_t>(sent >> 8U),
                                     static_cast<std::uint8_t>(received),
                                     static_cast<std::uint8_t>(received >> 8U)});
    send(asdu);
    queue_.pop_front();
    next_sent_ = (next_sent_ + 1) % numbers;
    sent_ns_.push_back(now.steady_ns);
    told_ = next_received_;
    ++traffic_.sent;
  }
}

void Iec104Link::poll(Now now) {
  if (!over().empty()) return;
  const bool unanswered =
      !sent_ns_.empty() && now.steady_ns - sent_ns_.front() >= internal::ns_of(timing_.t1_s);
  const bool unconfirmed = confirmation_due_ns_ != 0 && now.steady_ns >= confirmation_due_ns_;
  if (unanswered || unconfirmed) {
    ++traffic_.lost;
    return end("no answer within t1");
  }
  send_waiting(now);
  if (told_ != next_received_ && now.steady_ns - first_untold_ns_ >= internal::ns_of(timing_.t2_s))
    send_supervisory();
  if (confirmation_due_ns_ == 0 && now.steady_ns - last_heard_ns_ >= internal::ns_of(timing_.t3_s)) {
    send_unnumbered(Unnumbered::test);
    confirmation_due_ns_ = now.steady_ns + internal::ns_of(timing_.t1_s);
  }
}

}  // namespace zavrek::wire
