#include "zavrek/wire/partner.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <random>
#include <utility>

#include <fmt/format.h>

#include "wire/bytes.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::wire {
namespace {

constexpr std::uint8_t partner_version = 1;
constexpr std::string_view begins_with = "ZVPX";
constexpr std::int64_t hello_every_ns = 20'000'000, ask_every_ns = 2'000'000;
constexpr std::int64_t lingers_ns = 1'000'000'000;
constexpr std::size_t most_text = 1000;
constexpr int most_at_once = 64;

std::uint64_t draw_run() {
  std::random_device random;
  for (;;) {
    const std::uint64_t run = static_cast<std::uint64_t>(random()) << 32U | random();
    if (run != 0) return run;
  }
}

}  // namespace

std::size_t encode(const PartnerMessage& message, std::span<std::uint8_t> out) noexcept {
  internal::Writer w(out);
  w.text(begins_with);
  w.byte(partner_version);
  w.byte(static_cast<std::uint8_t>(message.kind));
  w.number(message.run, 8);
  w.number(message.other_run, 8);
  for (const std::int64_t number : {message.number, message.entered, message.heard, message.sent_ns,
                                    message.heard_sent_ns, message.held_ns})
    w.number(static_cast<std::uint64_t>(number), 8);
  w.number(message.values.size(), 2);
  for (const double value : message.values) w.number(std::bit_cast<std::uint64_t>(value), 8);
  w.number(message.text.size(), 2);
  w.text(message.text);
  return w.size();
}

bool decode(Bytes in, PartnerMessage& message) noexcept {
  if (in.size() > longest_partner_message) return false;
  internal::Reader r(in);
  const Bytes start = r.take(begins_with.size());
  if (!r.good() || !std::equal(start.begin(), start.end(), begins_with.begin())) return false;
  if (r.number(1) != partner_version) return false;
  const auto kind = r.number(1);
  if (kind < 1 || kind > 4) return false;
  message.kind = static_cast<PartnerKind>(kind);
  message.run = r.number(8);
  message.other_run = r.number(8);
  for (std::int64_t* number : {&message.number, &message.entered, &message.heard, &message.sent_ns,
                               &message.heard_sent_ns, &message.held_ns})
    *number = static_cast<std::int64_t>(r.number(8));
  const auto values = static_cast<std::size_t>(r.number(2));
  if (!r.good() || values > most_partner_values) return false;
  message.values.resize(values);
  for (double& value : message.values) value = std::bit_cast<double>(r.number(8));
  const auto length = static_cast<std::size_t>(r.number(2));
  if (!r.good() || length > most_text) return false;
  const Bytes text = r.take(length);
  message.text.assign(text.begin(), text.end());
  return r.good() && r.done() && message.run != 0;
}

PartnerTalk::PartnerTalk(PartnerWay& way, PartnerSettings settings)
    : way_(way), settings_(std::move(settings)), run_(draw_run()), says_(kept), hears_(kept) {
  for (Heard& heard : hears_) heard.values.reserve(most_partner_values);
  for (PartnerMessage* message : {&in_, &out_}) {
    message->values.reserve(most_partner_values);
    message->text.reserve(most_text + 1);
  }
  failure_.reserve(512);
}

void PartnerTalk::stamp(PartnerMessage& message, Now now) const noexcept {
  message.run = run_;
  message.other_run = other_run_;
  message.heard = heard_;
  message.sent_ns = now.steady_ns;
  message.heard_sent_ns = heard_sent_ns_;
  message.held_ns = heard_ < 0 ? 0 : now.steady_ns - heard_at_ns_;
}

bool PartnerTalk::pass(Bytes message) noexcept {
  const bool taken = way_.send(message);
  ++(taken ? counts_.sent : counts_.unsent);
  return taken;
}

void PartnerTalk::put(PartnerKind kind, std::int64_t number, Now now) noexcept {
  out_.kind = kind;
  out_.number = number;
  out_.entered = -1;
  stamp(out_, now);
  if (const std::size_t size = encode(out_, buffer_); size > 0) pass(Bytes(buffer_).first(size));
}

void PartnerTalk::meet(Now now) noexcept {
  hear(now);
  if (!failure_.empty() || (said_hello_ns_ != 0 && now.steady_ns - said_hello_ns_ < hello_every_ns)) return;
  say_hello(now);
}

void PartnerTalk::say_hello(Now now) noexcept {
  said_hello_ns_ = now.steady_ns;
  out_.values.assign({settings_.step_s, static_cast<double>(settings_.says),
                      static_cast<double>(settings_.hears), static_cast<double>(settings_.delay)});
  out_.text.assign(settings_.names, 0, most_text);
  put(PartnerKind::hello, settings_.leads ? 1 : 0, now);
}

void PartnerTalk::say(std::int64_t number, std::int64_t entered, std::span<const double> values,
                      Now now) noexcept {
  said_ = number;
  out_.kind = PartnerKind::step;
  out_.number = number;
  out_.entered = entered;
  out_.values.assign(values.begin(), values.end());
  out_.text.clear();
  stamp(out_, now);
  Said& said = says_[static_cast<std::size_t>(number) % kept];
  said.number = number;
  said.size = encode(out_, said.bytes);
  pass(Bytes(said.bytes).first(said.size));
}

bool PartnerTalk::has(std::int64_t number) const noexcept {
  return number >= 0 && hears_[static_cast<std::size_t>(number) % kept].number == number;
}
std::span<const double> PartnerTalk::heard(std::int64_t number) const noexcept {
  return hears_[static_cast<std::size_t>(number) % kept].values;
}

bool PartnerTalk::look(std::int64_t number, Now now) noexcept {
  hear(now);
  if (has(number) || !failure_.empty()) return true;
  if (left_) return true;
  if (waits_for_ != number) {
    waits_for_ = number;
    waits_since_ns_ = asked_ns_ = now.steady_ns;
    return false;
  }
  if (now.steady_ns - waits_since_ns_ > static_cast<std::int64_t>(1e9 * settings_.silence_s)) {
    fail(fmt::format("says nothing any more; step {} did not come within {}", number,
                     print_quantity(settings_.silence_s, "s")));
    return true;
  }
  if (now.steady_ns - asked_ns_ < ask_every_ns) return false;
  asked_ns_ = now.steady_ns;
  ++counts_.asked_again;
  out_.values.clear();
  out_.text.clear();
  put(PartnerKind::again, number, now);
  return false;
}

void PartnerTalk::hear(Now now) noexcept {
  for (int k = 0; k < most_at_once; ++k) {
    const std::size_t size = way_.receive(buffer_);
    if (size == 0) return;
    if (size > buffer_.size() || !decode(Bytes(buffer_).first(size), in_)) {
      ++counts_.malformed;
      continue;
    }
    take(now);
  }
}

/// What is of an earlier run, or of somebody else, is counted and not believed.
void PartnerTalk::take(Now now) noexcept {
  const bool to_me = in_.other_run == run_;
  const bool first_hello = in_.kind == PartnerKind::hello && in_.other_run == 0;
  if (in_.run == run_ || !(to_me || first_hello)) {
    ++counts_.foreign;
    return;
  }
  if (other_run_ != 0 && in_.run != other_run_) {
    if (!met_) {
      other_run_ = 0;  // one that came before it, and is gone
    } else if (in_.kind == PartnerKind::hello) {
      return fail("began anew, from the start");
    } else {
      ++counts_.foreign;
      return;
    }
  }
  if (other_run_ == 0 && in_.kind == PartnerKind::hello) {
    take_hello();
    other_run_ = in_.run;
    if (!failure_.empty()) return say_hello(now);  // so that it finds what does not fit, too
    said_hello_ns_ = 0;                            // it is to know soon that it was heard
  }
  if (other_run_ == 0) {
    ++counts_.foreign;
    return;
  }
  met_ = met_ || to_me;
  switch (in_.kind) {
    case PartnerKind::hello:
      return;
    case PartnerKind::step:
      return take_step(now);
    case PartnerKind::again: {
      for (std::int64_t number = std::max<std::int64_t>(0, in_.number); number <= said_; ++number) {
        const Said& said = says_[static_cast<std::size_t>(number) % kept];
        if (said.number == number) pass(Bytes(said.bytes).first(said.size));
      }
      return;
    }
    case PartnerKind::end:
      left_ = true;
      if (!in_.text.empty()) fail(fmt::format("ended: {}", in_.text));
      return;
  }
}

void PartnerTalk::take_hello() noexcept {
  if (in_.values.size() != 4) return fail("says hello in another way than this version does");
  const double step_s = in_.values[0];
  if (!(std::abs(step_s - settings_.step_s) <= 1e-9 * settings_.step_s))
    return fail(fmt::format("takes steps of {}, not of {}", print_rounded(step_s, "s", 6),
                            print_rounded(settings_.step_s, "s", 6)));
  if (in_.values[1] != static_cast<double>(settings_.hears) ||
      in_.values[2] != static_cast<double>(settings_.says))
    return fail(fmt::format("says {} values and hears {}; this side hears {} and says {}", in_.values[1],
                            in_.values[2], settings_.hears, settings_.says));
  if (in_.values[3] != settings_.delay)
    return fail(fmt::format("has a delay of {} steps, not of {}", in_.values[3], settings_.delay));
  if ((in_.number == 1) == settings_.leads)
    return fail(settings_.leads ? "leads too; one of the two follows" : "follows too; one of the two leads");
}

void PartnerTalk::take_step(Now now) noexcept {
  const std::int64_t number = in_.number;
  if (has(number) || number < 0 || number <= heard_ - static_cast<std::int64_t>(kept)) {
    ++counts_.repeated;
    return;
  }
  // It cannot have stepped beyond what was said here.
  if (number > said_ + settings_.delay) {
    ++counts_.off;
    return fail(fmt::format("counts wrongly: its step {} came before this side's step {}", number,
                            number - settings_.delay));
  }
  const std::int64_t should = number < settings_.delay ? -1 : number - settings_.delay;
  if (in_.entered != should) {
    ++counts_.off;
    return fail(fmt::format("counts wrongly: its step {} took step {} of this side, not {}", number,
                            in_.entered, should));
  }
  if (in_.values.size() != settings_.hears)
    return fail(fmt::format("says {} values in step {}, not {}", in_.values.size(), number, settings_.hears));
  for (std::size_t k = 0; k < in_.values.size(); ++k) {
    if (!std::isfinite(in_.values[k]))
      return fail(fmt::format("says what is no number: value {} of its step {}", k + 1, number));
  }
  ++counts_.received;
  Heard& heard = hears_[static_cast<std::size_t>(number) % kept];
  heard.number = number;
  heard.values.assign(in_.values.begin(), in_.values.end());
  if (number <= heard_) return;
  for (std::int64_t missing = heard_ + 1; missing < number; ++missing) ++counts_.lost;
  heard_ = number;
  heard_sent_ns_ = in_.sent_ns;
  heard_at_ns_ = now.steady_ns;
  if (in_.heard >= 0) round_trip_ns_ = now.steady_ns - in_.heard_sent_ns - in_.held_ns;
}

std::optional<std::int64_t> PartnerTalk::take_round_trip() noexcept {
  return std::exchange(round_trip_ns_, std::nullopt);
}

void PartnerTalk::fail(std::string why) noexcept {
  if (failure_.empty()) failure_ = std::move(why);
}

void PartnerTalk::end(const std::string& why, Now now) noexcept {
  if (std::exchange(ended_, true)) return;
  ended_ns_ = now.steady_ns;
  out_.values.clear();
  out_.text.assign(why, 0, most_text);
  put(PartnerKind::end, said_, now);
}

bool PartnerTalk::linger(Now now) noexcept {
  hear(now);
  return met_ && !left_ && failure_.empty() && now.steady_ns - ended_ns_ < lingers_ns;
}

}  // namespace zavrek::wire
