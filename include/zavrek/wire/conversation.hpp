// A protocol over a stream of bytes as state machines: they are given bytes and the time, and give back
// bytes. Sockets, lines and threads stand elsewhere (wire/stream_driver.hpp), so that hours of traffic, loss
// and reconnection are a matter of moments in a test.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "zavrek/count.hpp"
#include "zavrek/wire/link.hpp"

namespace zavrek::wire {

/// What a station shows and what may be asked of it, whatever its protocol. Numbers are as they go over the
/// wire (scaled); what is on or off is 0 or 1.
class ProcessImage {
 public:
  enum class Outcome : std::uint8_t { waiting, done, refused };
  ProcessImage() = default;
  ProcessImage(const ProcessImage&) = delete;
  ProcessImage& operator=(const ProcessImage&) = delete;
  virtual ~ProcessImage() = default;
  /// All that is shown, in its order, and the instant of that, UTC since 1970; false when nothing is there
  /// yet.
  [[nodiscard]] virtual bool read(std::vector<double>& into, std::int64_t& utc_ns) = 0;
  /// Whether what is asked at `place` may be `value`.
  [[nodiscard]] virtual bool allows(std::size_t place, double value) const = 0;
  /// A ticket; 0 when there was no room.
  [[nodiscard]] virtual std::uint64_t ask(std::size_t place, double value) = 0;
  [[nodiscard]] virtual Outcome outcome(std::uint64_t ticket) const = 0;
};

/// What a party of a stream counts; read by any thread while it works.
struct Traffic {
  Count received, sent;  ///< messages
  Count refused;         ///< what was asked but not allowed
  Count malformed;       ///< not to be read
  Count lost;            ///< events that no buffer had room for, messages that nobody answered
  Count saturated;       ///< numbers beyond what their type holds
  Count late;            ///< answers that came when their time was over
  Count connections;     ///< that stood
  Count turned_away;     ///< that found no room, or were not wanted
};

/// One connection of a party.
class Conversation {
 public:
  Conversation() = default;
  Conversation(const Conversation&) = delete;
  Conversation& operator=(const Conversation&) = delete;
  virtual ~Conversation() = default;
  /// Any part of what the other side sent.
  virtual void receive(Bytes bytes, Now now) = 0;
  /// What time brings; call at least each 10 ms, better each millisecond.
  virtual void poll(Now now) = 0;
  /// Why it is over; empty while it goes on.
  [[nodiscard]] const std::string& over() const noexcept { return over_; }
  /// What is to be sent; whoever carries it takes away what he took.
  [[nodiscard]] std::vector<std::uint8_t>& out() noexcept { return out_; }

 protected:
  void end(std::string why) {
    if (over_.empty()) over_ = std::move(why);
  }
  void send(Bytes bytes) { out_.insert(out_.end(), bytes.begin(), bytes.end()); }

 private:
  std::string over_;
  std::vector<std::uint8_t> out_;
};

/// A station, a master: what outlives its connections.
class Party {
 public:
  Party() = default;
  Party(const Party&) = delete;
  Party& operator=(const Party&) = delete;
  virtual ~Party() = default;
  /// Null where no more are wanted.
  [[nodiscard]] virtual std::unique_ptr<Conversation> connected(Now now) = 0;
  /// What time brings, ahead of its conversations.
  virtual void poll(Now /*now*/) {}
  [[nodiscard]] virtual const Traffic& traffic() const noexcept = 0;
};

}  // namespace zavrek::wire
