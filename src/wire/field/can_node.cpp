#include <algorithm>
#include <cmath>

#include "wire/field/seconds.hpp"
#include "zavrek/wire/field/can.hpp"

namespace zavrek::wire {
namespace {

constexpr double cycles_until_gone = 3, gone_without_cycle_s = 1;

}  // namespace

class CanNode::Body {
 public:
  Body(CanNodeSettings given, ProcessImage& plant) : settings(std::move(given)), image(plant) {
    states.resize(settings.database.messages.size());
    for (std::size_t k = 0; k < settings.sends.size(); ++k)
      states[settings.sends[k].message].sends.push_back(k);
    for (std::size_t k = 0; k < settings.reads.size(); ++k)
      states[settings.reads[k].message].reads.push_back(k);
    for (const std::size_t message : settings.at_change) states[message].at_change = true;
    for (const CanNodeSettings::Check& check : settings.checks) states[check.message].checks.push_back(check);
    said.assign(settings.sends.size(), NAN);
    asked.assign(settings.reads.size(), NAN);
    for (std::size_t m = 0; m < states.size(); ++m) list_pages(m);
  }
  /// Values of the selecting signal for which something is sent.
  void list_pages(std::size_t m) {
    for (const std::size_t k : states[m].sends) {
      const CanSignal& signal = settings.database.messages[m].signals[settings.sends[k].signal];
      std::vector<unsigned>& pages = states[m].pages;
      if (signal.when && std::find(pages.begin(), pages.end(), *signal.when) == pages.end())
        pages.push_back(*signal.when);
    }
    std::sort(states[m].pages.begin(), states[m].pages.end());
  }

  struct Message {
    std::vector<std::size_t> sends, reads;
    std::vector<CanNodeSettings::Check> checks;
    std::vector<unsigned> pages;
    std::size_t page = 0;
    bool at_change = false, heard = false;
    std::uint64_t counter = 0;       // of the next that is sent
    std::uint64_t last_counter = 0;  // that was read
    std::int64_t next_ns = 0, sent_ns = 0, heard_ns = 0;
  };

  void send(std::size_t m, Now now) {
    const CanMessage& message = settings.database.messages[m];
    Message& state = states[m];
    CanFrame frame;
    frame.id = message.id;
    frame.extended = message.extended;
    frame.size = message.size;
    frame.more = message.size > 8;
    const std::span<std::uint8_t> data = std::span(frame.data).first(frame.size);
    const CanSignal* selector = message.selector();
    const bool paged = selector && !state.pages.empty();
    const unsigned page = paged ? state.pages[state.page] : 0;
    if (paged) {
      put_bits(data, *selector, page);
      state.page = (state.page + 1) % state.pages.size();
    }
    for (const std::size_t k : state.sends) {
      const CanSignal& signal = message.signals[settings.sends[k].signal];
      if (signal.when && (!paged || *signal.when != page)) continue;
      said[k] = values[settings.sends[k].place];
      put_signal(data, signal, said[k], traffic.saturated);
    }
    for (const CanNodeSettings::Check& check : state.checks) {
      if (!check.sum) put_bits(data, message.signals[check.signal], state.counter++);
    }
    for (const CanNodeSettings::Check& check : state.checks) {
      if (check.sum) put_bits(data, message.signals[check.signal], sum_of(message, check, data));
    }
    state.sent_ns = now.steady_ns;
    out.push_back(frame);
    ++traffic.sent;
  }
  [[nodiscard]] static std::uint8_t sum_of(const CanMessage& message, const CanNodeSettings::Check& check,
                                           Bytes data) {
    return can_checksum(*check.sum, data, static_cast<std::size_t>(message.signals[check.signal].start) / 8);
  }
  [[nodiscard]] bool moved(const Message& state) const {
    return std::any_of(state.sends.begin(), state.sends.end(), [&](std::size_t k) {
      const double value = values[settings.sends[k].place];
      return value != said[k] && !(std::abs(value - said[k]) <= settings.sends[k].within);
    });
  }

  /// Whether its sum is right, and its counter has moved; gaps in that count as lost.
  [[nodiscard]] bool stands(const CanMessage& message, Message& state, const CanFrame& frame) {
    for (const CanNodeSettings::Check& check : state.checks) {
      if (!check.sum ||
          take_bits(frame.bytes(), message.signals[check.signal]) == sum_of(message, check, frame.bytes()))
        continue;
      ++traffic.malformed;
      return false;
    }
    for (const CanNodeSettings::Check& check : state.checks) {
      if (check.sum) continue;
      const CanSignal& signal = message.signals[check.signal];
      const std::uint64_t is = take_bits(frame.bytes(), signal);
      const std::uint64_t mask =
          signal.length >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << signal.length) - 1;
      const std::uint64_t step = (is - state.last_counter) & mask;
      const bool first = !state.heard;
      state.last_counter = is;
      if (first) continue;
      if (step == 0) {
        ++traffic.late;  // the same again
        return false;
      }
      traffic.lost += static_cast<long long>(std::min<std::uint64_t>(step - 1, 1000));
    }
    return true;
  }

  CanNodeSettings settings;
  ProcessImage& image;
  Traffic traffic;
  std::vector<Message> states;
  std::vector<double> said, asked, values;
  std::int64_t utc_ns = 0, began_ns = 0;
  std::vector<CanFrame> out;
  bool all_alive = false;
};

CanNode::CanNode(CanNodeSettings settings, ProcessImage& image)
    : body_(std::make_unique<Body>(std::move(settings), image)) {}
CanNode::~CanNode() = default;

void CanNode::receive(const CanFrame& frame, Now now) {
  Body& body = *body_;
  for (std::size_t m = 0; m < body.states.size(); ++m) {
    const CanMessage& message = body.settings.database.messages[m];
    Body::Message& state = body.states[m];
    if (message.id != frame.id || message.extended != frame.extended || state.reads.empty()) continue;
    ++body.traffic.received;
    if (frame.size < message.size) {
      ++body.traffic.malformed;
      return;
    }
    if (!body.stands(message, state, frame)) return;
    state.heard = true;
    state.heard_ns = now.steady_ns;
    const CanSignal* selector = message.selector();
    const std::uint64_t page = selector ? take_bits(frame.bytes(), *selector) : 0;
    for (const std::size_t k : state.reads) {
      const CanNodeSettings::Signal& read = body.settings.reads[k];
      const CanSignal& signal = message.signals[read.signal];
      if (signal.when && *signal.when != page) continue;
      const double value = take_signal(frame.bytes(), signal);
      if (value == body.asked[k]) continue;
      body.asked[k] = value;
      if (!body.image.allows(read.place, value) || body.image.ask(read.place, value) == 0)
        ++body.traffic.refused;
    }
    return;
  }
}

void CanNode::poll(Now now) {
  Body& body = *body_;
  if (body.began_ns == 0) body.began_ns = now.steady_ns;
  body.all_alive = true;
  for (std::size_t m = 0; m < body.states.size(); ++m) {
    const Body::Message& state = body.states[m];
    if (state.reads.empty()) continue;
    const double cycle_s = body.settings.database.messages[m].cycle_s;
    const double most_s = body.settings.timeout_s > 0 ? body.settings.timeout_s
                          : cycle_s > 0               ? cycles_until_gone * cycle_s
                                                      : gone_without_cycle_s;
    body.all_alive =
        body.all_alive && state.heard && now.steady_ns - state.heard_ns <= internal::ns_of(most_s);
  }
  if (!body.image.read(body.values, body.utc_ns)) return;
  for (std::size_t m = 0; m < body.states.size(); ++m) {
    Body::Message& state = body.states[m];
    if (state.sends.empty()) continue;
    const std::int64_t cycle_ns = internal::ns_of(body.settings.database.messages[m].cycle_s);
    const bool due = cycle_ns > 0 && now.steady_ns >= state.next_ns;
    const bool told = state.at_change &&
                      now.steady_ns - state.sent_ns >= internal::ns_of(body.settings.least_gap_s) &&
                      body.moved(state);
    if (!due && !told) continue;
    // What was held up does not come in a burst behind it.
    if (due) state.next_ns = std::max(state.next_ns + cycle_ns, now.steady_ns + cycle_ns / 2);
    body.send(m, now);
  }
}

std::vector<CanFrame>& CanNode::out() noexcept { return body_->out; }
bool CanNode::alive() const noexcept { return body_->all_alive; }
const Traffic& CanNode::traffic() const noexcept { return body_->traffic; }

}  // namespace zavrek::wire
