// Two simulators, one network: each step either side says what stands at its end, and hears the same of the
// other. Our own messages, in memory that both share, in datagrams over UDP or in Ethernet frames; all
// numbers big-endian, reals as IEEE 754 binary64.
//
//   offset  bytes   meaning
//   0       4       "ZVPX"
//   4       1       version, 1
//   5       1       1 hello, 2 step, 3 again, 4 end
//   6       8       run of the sender, drawn at random
//   14      8       run of the other side, 0 while it is not known
//   22      8       step: number of the step at whose end the values stand, 0 for the start; hello: 1 when it
//                   leads, 0 when it follows; again: number of the step that did not come; end: of the last
//   30      8       step: number of the latest step of the other side that entered these values, -1 for none
//   38      8       number of the latest step that has come from the other side, -1 for none
//   46      8       clock of the sender, ns, of no meaning to others
//   54      8       the same, of the message that brought that latest step
//   62      8       ns since it came
//   70      2 + 8n  step: values; hello: step in s, how many values it says and hears, its delay in steps
//   ..      2 + n   hello: what it says, a name a line; end: why, empty where all is in order
//
// By example, step 2 with one value, 1.5, of run 0x0A to run 0x0B, which heard step 1 and took step 1:
//   5A 56 50 58 01 02 | 00 .. 0A | 00 .. 0B | 00 .. 02 | 00 .. 01 | 00 .. 01 | sent | sent of it | since
//   00 01 3F F8 00 00 00 00 00 00 | 00 00
//
// Over frames this follows ethertype 0x88B5 (local experiments, IEEE 802), a channel (2) and its length (2).
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "zavrek/count.hpp"
#include "zavrek/wire/link.hpp"

namespace zavrek::wire {

enum class PartnerKind : std::uint8_t { hello = 1, step = 2, again = 3, end = 4 };
struct PartnerMessage {
  PartnerKind kind = PartnerKind::hello;
  std::uint64_t run = 0, other_run = 0;
  std::int64_t number = 0, entered = -1, heard = -1;
  std::int64_t sent_ns = 0, heard_sent_ns = 0, held_ns = 0;
  std::vector<double> values;
  std::string text;
};
inline constexpr std::size_t most_partner_values = 160, longest_partner_message = 1450;
/// Bytes written; 0 when it does not fit.
[[nodiscard]] std::size_t encode(const PartnerMessage& message, std::span<std::uint8_t> out) noexcept;
/// False, and nothing promised about the result, for what is no such message. Reals may be anything.
[[nodiscard]] bool decode(Bytes in, PartnerMessage& message) noexcept;

/// What carries messages to a partner and back; none of it waits.
class PartnerWay {
 public:
  PartnerWay() = default;
  PartnerWay(const PartnerWay&) = delete;
  PartnerWay& operator=(const PartnerWay&) = delete;
  virtual ~PartnerWay() = default;
  /// False when the medium did not take it.
  virtual bool send(Bytes message) noexcept = 0;
  /// Bytes received, 0 when nothing waits.
  [[nodiscard]] virtual std::size_t receive(std::span<std::uint8_t> into) noexcept = 0;
  [[nodiscard]] virtual std::string description() const = 0;
};
/// Memory under a name that both sides know, of one user of one computer; no system call when anything is
/// said or heard. Throws Error when the same side is already there.
[[nodiscard]] std::unique_ptr<PartnerWay> make_partner_memory(const std::string& name, bool leads);
/// UDP: "127.0.0.1:7001". Throws Error.
[[nodiscard]] std::unique_ptr<PartnerWay> make_partner_datagrams(const std::string& own,
                                                                 const std::string& other);
/// Ethernet frames on an interface. Throws Error.
[[nodiscard]] std::unique_ptr<PartnerWay> make_partner_frames(const std::string& interface, Medium medium,
                                                              int channel);

struct PartnerSettings {
  bool leads = true;
  double step_s = 0;
  std::size_t says = 0, hears = 0;  ///< values
  std::string names;                ///< of what it says, a line each
  int delay = 1;                    ///< steps from what is said to the step that it enters
  double silence_s = 2;             ///< after which a partner that says nothing is given up
};

/// One side of the exchange, in lockstep with the other: step n takes what stood at the end of step n - delay
/// there. What is lost on the way is asked for again. `look` and `say` do not allocate, throw or wait.
class PartnerTalk {
 public:
  PartnerTalk(PartnerWay& way, PartnerSettings settings);

  /// Ahead of the run: says hello, and looks whether the other side does. Who comes first does not matter.
  void meet(Now now) noexcept;
  [[nodiscard]] bool met() const noexcept { return met_; }

  /// What stands at the end of step `number`, in which what stood at the end of `entered` there came in.
  void say(std::int64_t number, std::int64_t entered, std::span<const double> values, Now now) noexcept;
  /// Looks at what has come; whether the other side has said `number`, or need not be waited for any more.
  [[nodiscard]] bool look(std::int64_t number, Now now) noexcept;
  /// Of a number that is there.
  [[nodiscard]] std::span<const double> heard(std::int64_t number) const noexcept;
  [[nodiscard]] bool has(std::int64_t number) const noexcept;

  /// Why it cannot go on; empty while it can.
  [[nodiscard]] const std::string& failure() const noexcept { return failure_; }
  /// The other side has ended its run, and all is in order.
  [[nodiscard]] bool left() const noexcept { return left_; }
  /// Says that this side ends, and why; empty where all is in order.
  void end(const std::string& why, Now now) noexcept;
  /// Behind that: answers who asks again for what was lost, until the other side has ended too.
  [[nodiscard]] bool linger(Now now) noexcept;

  /// ns from what was said here to the bench of the other side and back, what it was held there left out; of
  /// the latest step that came, once.
  [[nodiscard]] std::optional<std::int64_t> take_round_trip() noexcept;
  /// Steps from the values that went to the other side to the step here that knows what they did there.
  [[nodiscard]] int round_trip_steps() const noexcept { return 2 * settings_.delay; }

  struct Counts {
    Count sent, unsent, received, repeated, asked_again, malformed, foreign;
    Count lost;  ///< that a later one came before
    Count off;   ///< steps that did not take what they should have
  };
  [[nodiscard]] const Counts& counts() const noexcept { return counts_; }

 private:
  static constexpr std::size_t kept = 64;  // a power of two
  struct Said {
    std::int64_t number = -1;
    std::size_t size = 0;
    std::array<std::uint8_t, longest_partner_message> bytes;
  };
  struct Heard {
    std::int64_t number = -1;
    std::vector<double> values;
  };

  void hear(Now now) noexcept;
  void take(Now now) noexcept;
  void take_hello() noexcept;
  void say_hello(Now now) noexcept;
  void take_step(Now now) noexcept;
  void fail(std::string why) noexcept;
  void put(PartnerKind kind, std::int64_t number, Now now) noexcept;
  bool pass(Bytes message) noexcept;
  void stamp(PartnerMessage& message, Now now) const noexcept;

  PartnerWay& way_;
  PartnerSettings settings_;
  std::uint64_t run_, other_run_ = 0;
  bool met_ = false, left_ = false, ended_ = false;
  std::int64_t said_hello_ns_ = 0;
  std::int64_t said_ = -1, heard_ = -1;  // latest numbers
  std::int64_t heard_sent_ns_ = 0, heard_at_ns_ = 0;
  std::int64_t waits_for_ = -1, waits_since_ns_ = 0, asked_ns_ = 0;
  std::int64_t ended_ns_ = 0;
  std::optional<std::int64_t> round_trip_ns_;
  std::vector<Said> says_;
  std::vector<Heard> hears_;
  PartnerMessage out_, in_;
  std::array<std::uint8_t, longest_partner_message> buffer_{};
  std::string failure_;
  Counts counts_;
};

}  // namespace zavrek::wire
