#pragma once

#include <memory>
#include <string>
#include <vector>

#include "zavrek/bench/account.hpp"
#include "zavrek/bench/cards.hpp"
#include "zavrek/bench/exchange.hpp"
#include "zavrek/bench/frames.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::bench {

/// A way from what is shown to a device, or back, and the delay that the bench itself brings.
struct Path {
  std::string from, by, to;  ///< "CT1, VT0", "stream S1", "R1"
  double most_steps = 0;     ///< least is 0
  std::string further;       ///< what else takes time: "the wire"; empty when nothing does
};

/// How a run opens its ports.
struct Opening {
  Frames& frames;
  Cards& cards;
  std::filesystem::path program;  ///< that has the verbs `relay` and `controller`
  std::string place;              ///< of every device, when not empty
  bool paced = true;
  std::filesystem::path captures;  ///< folder for files that ports keep; none when empty
  bool captures_afresh = false;    ///< what such files a run before has left there goes
};

/// Carries some of what is shown out, and some of what is asked in. On the thread of the plant `take`,
/// `sample` and `give` are called; they do not allocate, throw, or wait.
class Port {
 public:
  Port() = default;
  Port(const Port&) = delete;
  Port& operator=(const Port&) = delete;
  virtual ~Port() = default;

  /// Before the run, of all ports before any is wired: the points that it owns.
  virtual void declare(Exchange& /*exchange*/) {}
  /// Before the run: the names that it uses become places. Throws Error.
  virtual void wire(Exchange& exchange) = 0;
  /// Identities that nobody else may have on the interface: those under which it, or what it starts, will
  /// speak, and, as `awaited`, those of whom it listens to.
  [[nodiscard]] virtual std::vector<wire::Identity> identities() const { return {}; }
  /// Opens what it talks through. Throws Error, or returns why it cannot go on.
  [[nodiscard]] virtual std::string open(const Opening& /*how*/) { return {}; }
  /// Whether whoever it must hear from was heard; called again and again, some seconds at most,
  [[nodiscard]] virtual bool ready() { return true; }
  /// or so long, where it may take longer to come.
  [[nodiscard]] virtual double patience_s() const noexcept { return 0; }
  /// Whether whoever it must hear from cannot be heard any more, or cannot be believed; `failure` says why.
  [[nodiscard]] virtual bool ended() { return false; }

  /// Right ahead of the first step of the run.
  virtual void begin(Exchange& /*exchange*/) {}
  /// Whether the other side gives the pace: a step of a paced run begins once `await` is back.
  [[nodiscard]] virtual bool gives_pace() const noexcept { return false; }
  /// Until the other side has what the step to come wants; false when it never will.
  [[nodiscard]] virtual bool await(Exchange& /*exchange*/) noexcept { return true; }
  /// How long the step at hand waited for the other side.
  [[nodiscard]] virtual std::int64_t waited_ns() const noexcept { return 0; }
  /// Which processor a paced run with it takes: -1 the last one, -2 the last but one.
  [[nodiscard]] virtual int processor() const noexcept { return -1; }

  /// Whether every step matters to it. Else the run may take several at once, and asks it neither `take` nor
  /// `well`.
  [[nodiscard]] virtual bool each_step() const noexcept { return true; }
  /// Ahead of each step: what came in is told, or asked for.
  virtual void take(Exchange& /*exchange*/) noexcept {}
  /// How often `sample` is called a second; 0 for 80 times a cycle, as relays see. Asked once, behind `wire`.
  [[nodiscard]] virtual double rate_Hz() const noexcept { return 0; }
  /// Whether somebody at its other end lives by the clock, so that a run with it keeps pace.
  [[nodiscard]] virtual bool by_the_clock() const noexcept { return false; }
  /// At each instant of its samples.
  virtual void sample(const Exchange& /*exchange*/) noexcept {}
  /// Behind each step.
  virtual void give(Exchange& /*exchange*/) noexcept {}
  /// Whether the run may go on.
  [[nodiscard]] virtual bool well() const noexcept { return true; }

  /// What it carries to forgets all that was, as when it began; false when it cannot be made to.
  virtual bool forget(Exchange& /*exchange*/) { return true; }

  /// All that it remembers from step to step. One that has somebody elsewhere to talk to cannot say what that
  /// one remembers.
  virtual void visit_state(StateArchive& archive) {
    if (each_step()) archive.miss();
  }

  /// Behind the run: ends what it started, and takes down what that counted.
  virtual void end() {}

  /// Why it may not, or why what it carried cannot be trusted; empty when all is well.
  [[nodiscard]] virtual std::string failure() { return {}; }
  /// "raw frames on lo", empty where nothing leaves this process.
  [[nodiscard]] virtual std::string medium() const { return {}; }
  [[nodiscard]] virtual std::vector<Account> accounts() const { return {}; }
  [[nodiscard]] virtual std::vector<Path> paths() const { return {}; }
};

}  // namespace zavrek::bench
