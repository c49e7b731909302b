#include "zavrek/bench/stand_ins.hpp"

#include <memory>
#include <optional>

namespace zavrek::bench {

using namespace wire;

namespace {

/// A session that is silent for so long has left.
constexpr std::int64_t most_silent_ns = 2'000'000'000;

/// Whom a controller listens to.
class Session {
 public:
  explicit Session(const std::optional<ControlKey>& only) : only_(only) {}

  /// Whether `message` is of the one it follows, or of one that it follows from now on.
  bool take(const ControlMeasure& message, int port, std::int64_t now_ns) {
    const bool live = port_ != 0 && now_ns - last_ns_ < most_silent_ns;
    if (live && (message.key != key_ || port != port_)) return false;
    if (!live && message.kind != ControlAsk::measure) return false;
    if (!live && only_ && message.key != *only_) return false;
    key_ = message.key;
    port_ = port;
    last_ns_ = now_ns;
    return true;
  }
  void leave() { port_ = 0; }
  [[nodiscard]] const ControlKey& key() const { return key_; }

 private:
  std::optional<ControlKey> only_;
  ControlKey key_{};
  int port_ = 0;
  std::int64_t last_ns_ = 0;
};

void answer_from(const control::Controller& controller, std::uint32_t tick, ControlAnswer& answer) {
  answer.tick = tick;
  answer.knobs.resize(controller.knobs().size());
  for (std::size_t k = 0; k < answer.knobs.size(); ++k) answer.knobs[k] = controller.knob(k);
  answer.outputs.resize(controller.outputs().size());
  for (std::size_t k = 0; k < answer.outputs.size(); ++k) answer.outputs[k] = controller.output(k);
  answer.closes.resize(controller.operables().size());
  for (std::size_t k = 0; k < answer.closes.size(); ++k) answer.closes[k] = controller.closes(k) ? 1 : 0;
  answer.edges.assign(controller.edges().begin(), controller.edges().end());
  answer.failure = controller.failure();
}

}  // namespace

Account serve_controller(const std::function<control::Controller()>& make, ControlWay& way,
                         const std::atomic<bool>& stop, const std::optional<ControlKey>& only) {
  auto held = std::make_unique<control::Controller>(make());
  constexpr int patience_ms = 50;
  std::vector<std::uint8_t> bytes(longest_control_message);
  Session session(only);
  Account account;
  account.port = "control";
  ControlMeasure measure;
  ControlAnswer answer;
  std::uint32_t next = 0;
  while (!stop) {
    int from = 0;
    const std::size_t size = way.receive(bytes, patience_ms, &from);
    if (size == 0) continue;
    const bool measures = decode({bytes.data(), size}, measure);
    if (!measures ||
        (measure.kind == ControlAsk::measure && measure.signals.size() != held->reads().size())) {
      ++account.malformed;
      continue;
    }
    if (!session.take(measure, from, pace::system_clock().now_ns())) {
      ++account.conflicting;
      continue;
    }
    if (measure.kind == ControlAsk::end) break;
    if (measure.kind == ControlAsk::leave) {
      session.leave();
      continue;
    }
    if (measure.tick == 0 && next > 1) {
      held = std::make_unique<control::Controller>(make());
      next = 0;
    }
    control::Controller& controller = *held;
    // A repeated question gets the answer that it had; the control runs once a period.
    if (measure.tick >= next) {
      for (const auto& [number, value] : measure.turned) {
        if (number < controller.parameters().size()) controller.set(number, value);
      }
      controller.run(measure.tick, measure.signals);
      next = measure.tick + 1;
      ++account.received;
      answer_from(controller, measure.tick, answer);
    }
    answer.key = session.key();
    ++(way.send({bytes.data(), encode(answer, bytes)}, from) ? account.sent : account.unsent);
  }
  return account;
}

}  // namespace zavrek::bench
