// A plant that is none, and a medium in simulated time: what parties of field buses are tested with.
#pragma once

#include <array>
#include <map>
#include <memory>
#include <random>
#include <vector>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::test {

/// Shows some numbers; takes what is asked between bounds, at once, late or not at all.
class Desk : public wire::ProcessImage {
 public:
  std::vector<double> shown;
  std::int64_t utc_ns = 1'700'000'000'000'000'000;
  double low = -1e9, high = 1e9;
  Outcome answers = Outcome::done;
  bool full = false, there = true;
  std::map<std::size_t, double> asked;  // last, by place
  long long asks = 0;

  bool read(std::vector<double>& into, std::int64_t& at_ns) override {
    into = shown;
    at_ns = utc_ns;
    return there;
  }
  bool allows(std::size_t /*place*/, double value) const override { return value >= low && value <= high; }
  std::uint64_t ask(std::size_t place, double value) override {
    if (full) return 0;
    ++asks;
    asked[place] = value;
    return 1;
  }
  Outcome outcome(std::uint64_t /*ticket*/) const override { return answers; }
};

/// Two sides, one connection at a time: octets arrive in pieces, some are damaged, now and then it breaks.
class Line {
 public:
  Line(wire::Party& one, wire::Party& other) : parties_{&one, &other} {}
  double damaged_share = 0;  ///< of the pieces
  double breaks_per_s = 0;
  std::size_t most_waiting = 0;  ///< octets that ever waited on one side
  long long connections = 0;
  wire::Now now{1'000'000'000, 1'700'000'000'000'000'000};

  /// The time goes on by so much, and what there is is carried.
  void turn(double seconds) {
    const auto ns = static_cast<std::int64_t>(1e9 * seconds);
    now.steady_ns += ns;
    now.utc_ns += ns;
    if (talks_[0] && chance(breaks_per_s * seconds)) part();
    for (wire::Party* party : parties_) party->poll(now);
    if (!talks_[0]) connect();
    if (!talks_[0]) return;
    for (auto& talk : talks_) talk->poll(now);
    for (int k = 0; k < 4; ++k) {
      carry(0, 1);
      carry(1, 0);
    }
    if (!talks_[0]->over().empty() || !talks_[1]->over().empty()) part();
  }

 private:
  void part() {
    for (auto& talk : talks_) talk.reset();
  }
  void connect() {
    for (std::size_t k = 0; k < 2; ++k) talks_[k] = parties_[k]->connected(now);
    if (!talks_[0] || !talks_[1]) part();
    ++connections;
  }
  bool chance(double share) { return share > 0 && std::uniform_real_distribution<>(0, 1)(random_) < share; }
  void carry(std::size_t from, std::size_t to) {
    std::vector<std::uint8_t> out = std::move(talks_[from]->out());
    talks_[from]->out().clear();
    most_waiting = std::max(most_waiting, out.size());
    for (std::size_t at = 0; at < out.size();) {
      const std::size_t part = std::min<std::size_t>(1 + random_() % 200, out.size() - at);
      if (chance(damaged_share)) out[at + random_() % part] ^= static_cast<std::uint8_t>(1U << random_() % 8);
      talks_[to]->receive(wire::Bytes(out).subspan(at, part), now);
      at += part;
    }
  }

  std::array<wire::Party*, 2> parties_;
  std::array<std::unique_ptr<wire::Conversation>, 2> talks_;
  std::mt19937 random_{7};
};

}  // namespace zavrek::test
