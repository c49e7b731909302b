// Two sides in lockstep over a way that loses, doubles and delays; and what each refuses.
#include <gtest/gtest.h>

#include <cmath>
#include <deque>
#include <memory>
#include <random>

#include "zavrek/error.hpp"
#include "zavrek/wire/partner.hpp"

namespace zavrek::wire {
namespace {

/// What one side sends waits in a queue of the other.
class Lane final : public PartnerWay {
 public:
  std::deque<std::vector<std::uint8_t>> waits;
  Lane* other = nullptr;
  double lost_share = 0, doubled_share = 0, held_share = 0;
  bool send(Bytes message) noexcept override {
    std::vector<std::uint8_t> one(message.begin(), message.end());
    if (chance(lost_share)) return true;
    if (chance(doubled_share)) other->waits.push_back(one);
    if (chance(held_share) && !other->waits.empty())
      other->waits.insert(other->waits.end() - 1, std::move(one));
    else
      other->waits.push_back(std::move(one));
    return true;
  }
  std::size_t receive(std::span<std::uint8_t> into) noexcept override {
    if (waits.empty()) return 0;
    const std::vector<std::uint8_t> one = std::move(waits.front());
    waits.pop_front();
    std::copy(one.begin(), one.end(), into.begin());
    return one.size();
  }
  std::string description() const override { return "a test"; }

 private:
  bool chance(double share) { return std::uniform_real_distribution<>(0, 1)(random_) < share; }
  std::mt19937 random_{3};
};

struct Pair {
  Lane near_lane, far_lane;
  std::unique_ptr<PartnerTalk> near, far;
  Now now{1'000'000'000, 1'700'000'000'000'000'000};
  Pair() : Pair(settings(true), settings(false)) {}
  Pair(PartnerSettings of_near, PartnerSettings of_far) {
    near_lane.other = &far_lane;
    far_lane.other = &near_lane;
    near = std::make_unique<PartnerTalk>(near_lane, std::move(of_near));
    far = std::make_unique<PartnerTalk>(far_lane, std::move(of_far));
  }
  static PartnerSettings settings(bool leads, int delay) {
    return {.leads = leads, .step_s = 25e-6, .says = 2, .hears = 2, .names = "a\nb\n", .delay = delay};
  }
  static PartnerSettings settings(bool leads) { return settings(leads, 1); }
  void pass(double seconds = 25e-3) { now.steady_ns += static_cast<std::int64_t>(1e9 * seconds); }
  void meet() {
    for (int k = 0; k < 200 && !(near->met() && far->met()); ++k) {
      near->meet(now);
      far->meet(now);
      pass();
    }
  }
};

double value_of(bool near, std::int64_t step, std::size_t k) {
  return (near ? 1.0 : -1.0) * static_cast<double>(step) + 0.25 * static_cast<double>(k);
}

TEST(Partner, GoesInLockstepOverAWayThatLosesAndDoubles) {
  for (const int delay : {1, 3}) {
    Pair pair(Pair::settings(true, delay), Pair::settings(false, delay));
    for (Lane* lane : {&pair.near_lane, &pair.far_lane}) {
      lane->lost_share = 0.05;
      lane->doubled_share = 0.05;
      lane->held_share = 0.05;
    }
    pair.meet();
    ASSERT_TRUE(pair.near->met() && pair.far->met());
    constexpr std::int64_t steps = 20'000;
    struct Side {
      PartnerTalk& talk;
      bool near;
      std::int64_t done = 0;
      std::int64_t most_ahead = 0;
    };
    Side sides[2]{{*pair.near, true}, {*pair.far, false}};
    const auto say = [&](Side& side) {
      const std::array values{value_of(side.near, side.done, 0), value_of(side.near, side.done, 1)};
      side.talk.say(side.done, side.done < delay ? -1 : side.done - delay, values, pair.now);
    };
    for (Side& side : sides) say(side);
    for (long turns = 0; turns < 400 * steps && (sides[0].done < steps || sides[1].done < steps); ++turns) {
      Side &side = sides[turns % 2], &other = sides[1 - turns % 2];
      const std::int64_t wanted = side.done + 1 - delay;
      pair.pass(100e-6);
      if (side.done == steps) {
        (void)side.talk.look(steps, pair.now);  // it still answers who asks again
        continue;
      }
      if (wanted >= 0 && !side.talk.look(wanted, pair.now)) continue;
      ASSERT_EQ(side.talk.failure(), "");
      if (wanted >= 0) {
        ASSERT_EQ(side.talk.heard(wanted)[0], value_of(other.near, wanted, 0));
        ASSERT_EQ(side.talk.heard(wanted)[1], value_of(other.near, wanted, 1));
      }
      ++side.done;
      ASSERT_LE(std::abs(side.done - other.done), delay);
      say(side);
    }
    EXPECT_EQ(sides[0].done, steps);
    EXPECT_EQ(sides[1].done, steps);
    EXPECT_GT(pair.near->counts().asked_again, 100) << "something was lost";
    EXPECT_EQ(pair.near->counts().off, 0);
    EXPECT_EQ(pair.far->counts().malformed, 0);
  }
}

/// What one side says of the other once both have said hello, and why not.
std::string refusal(const PartnerSettings& near, const PartnerSettings& far) {
  Pair pair(near, far);
  pair.meet();
  return pair.near->failure();
}

TEST(Partner, RefusesWhoDoesNotFit) {
  PartnerSettings other = Pair::settings(false);
  EXPECT_EQ(refusal(Pair::settings(true), other), "");
  other.step_s = 50e-6;
  EXPECT_EQ(refusal(Pair::settings(true), other), "takes steps of 50 us, not of 25 us");
  other = Pair::settings(false);
  other.says = 3;
  EXPECT_EQ(refusal(Pair::settings(true), other), "says 3 values and hears 2; this side hears 2 and says 2");
  EXPECT_EQ(refusal(Pair::settings(true), Pair::settings(false, 2)), "has a delay of 2 steps, not of 1");
  EXPECT_EQ(refusal(Pair::settings(true), Pair::settings(true)), "leads too; one of the two follows");
  EXPECT_EQ(refusal(Pair::settings(false), Pair::settings(false)), "follows too; one of the two leads");
}

struct Forger {
  Pair& pair;
  PartnerMessage last;
  /// Takes what the far side said, changes it, and hands it on.
  template <class Change>
  void pass_on(Change&& change) {
    std::array<std::uint8_t, longest_partner_message> bytes{};
    ASSERT_FALSE(pair.near_lane.waits.empty());
    ASSERT_TRUE(decode(pair.near_lane.waits.back(), last));
    pair.near_lane.waits.clear();
    change(last);
    const std::size_t size = encode(last, bytes);
    pair.near_lane.waits.emplace_back(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(size));
  }
};

template <class Change>
std::string forged(Change&& change) {
  Pair pair;
  pair.meet();
  pair.near_lane.waits.clear();
  const std::array values{1.0, 2.0};
  pair.near->say(0, -1, values, pair.now);
  pair.far->say(0, -1, values, pair.now);
  Forger{pair, {}}.pass_on(change);
  (void)pair.near->look(0, pair.now);
  return pair.near->failure();
}

TEST(Partner, DoesNotGoOnWithWhatCannotBe) {
  EXPECT_EQ(forged([](PartnerMessage&) {}), "");
  EXPECT_EQ(forged([](PartnerMessage& m) { m.number = 7; }),
            "counts wrongly: its step 7 came before this side's step 6");
  EXPECT_EQ(forged([](PartnerMessage& m) { m.entered = 0; }),
            "counts wrongly: its step 0 took step 0 of this side, not -1");
  EXPECT_EQ(forged([](PartnerMessage& m) { m.values[1] = NAN; }),
            "says what is no number: value 2 of its step 0");
  EXPECT_EQ(forged([](PartnerMessage& m) { m.values.pop_back(); }), "says 1 values in step 0, not 2");
  EXPECT_EQ(forged([](PartnerMessage& m) { m.run += 1; }), "") << "of another run: not believed, and counted";
  EXPECT_EQ(forged([](PartnerMessage& m) {
              m.kind = PartnerKind::end;
              m.text = "the model diverged";
            }),
            "ended: the model diverged");
  EXPECT_EQ(forged([](PartnerMessage& m) {
              m.run += 1;
              m.kind = PartnerKind::hello;
              m.other_run = 0;
            }),
            "began anew, from the start");
}

TEST(Partner, IsGivenUpWhenItFallsSilent) {
  Pair pair;
  pair.meet();
  const std::array values{1.0, 2.0};
  pair.near->say(0, -1, values, pair.now);
  EXPECT_FALSE(pair.near->look(0, pair.now));
  pair.pass(1.9);
  EXPECT_FALSE(pair.near->look(0, pair.now));
  pair.pass(0.2);
  EXPECT_TRUE(pair.near->look(0, pair.now));
  EXPECT_EQ(pair.near->failure(), "says nothing any more; step 0 did not come within 2 s");
}

TEST(Partner, DatagramsCarryThereAndBack) {
  const auto one = make_partner_datagrams("127.0.0.1:17611", "127.0.0.1:17612"),
             other = make_partner_datagrams("127.0.0.1:17612", "127.0.0.1:17611");
  std::vector<std::uint8_t> said{1, 2, 3, 4, 5}, heard(longest_partner_message);
  for (int k = 0; k < 200; ++k) {
    said[0] = static_cast<std::uint8_t>(k);
    ASSERT_TRUE((k % 2 == 0 ? one : other)->send(said));
    std::size_t size = 0;
    for (int tries = 0; tries < 10'000 && size == 0; ++tries)
      size = (k % 2 == 0 ? other : one)->receive(heard);
    ASSERT_EQ(size, said.size());
    ASSERT_TRUE(std::equal(said.begin(), said.end(), heard.begin()));
  }
  EXPECT_THROW((void)make_partner_datagrams("127.0.0.1", "127.0.0.1:1"), Error);
  EXPECT_THROW((void)make_partner_datagrams("127.0.0.1:99999", "127.0.0.1:1"), Error);
}

/// The example of zavrek/wire/partner.hpp.
TEST(Partner, MessagesAreAsWritten) {
  PartnerMessage message;
  message.kind = PartnerKind::step;
  message.run = 0x0A;
  message.other_run = 0x0B;
  message.number = 2;
  message.entered = message.heard = 1;
  message.values = {1.5};
  std::array<std::uint8_t, longest_partner_message> bytes{};
  const std::size_t size = encode(message, bytes);
  ASSERT_EQ(size, 70U + 2 + 8 + 2);
  const std::array<std::uint8_t, 6> begins{0x5A, 0x56, 0x50, 0x58, 1, 2};
  EXPECT_TRUE(std::equal(begins.begin(), begins.end(), bytes.begin()));
  EXPECT_EQ(bytes[13], 0x0A);
  EXPECT_EQ(bytes[21], 0x0B);
  EXPECT_EQ(bytes[29], 2);
  EXPECT_EQ(bytes[71], 1);
  EXPECT_EQ(bytes[72], 0x3F);
  EXPECT_EQ(bytes[73], 0xF8);
  PartnerMessage back;
  ASSERT_TRUE(decode(Bytes(bytes).first(size), back));
  EXPECT_EQ(back.values, message.values);
  for (std::size_t cut = 0; cut < size; ++cut) EXPECT_FALSE(decode(Bytes(bytes).first(cut), back));
  message.values.assign(most_partner_values + 20, 0.0);
  EXPECT_EQ(encode(message, bytes), 0U) << "does not fit";
}

}  // namespace
}  // namespace zavrek::wire
