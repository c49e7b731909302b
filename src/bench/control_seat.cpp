#include "bench/control_seat.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "bench/own_library.hpp"
#include "zavrek/record.hpp"

namespace zavrek::bench {

control::OwnMaker own_maker(const Setup& setup, bool elsewhere) {
  const bool trusted = setup.bench.libraries == "trusted" && !elsewhere;
  return [&setup, trusted](const control::OwnCode& block) -> std::unique_ptr<control::Own> {
    if (block.library.empty()) return setup.own_code ? setup.own_code(block) : nullptr;
    if (setup.own_library) return setup.own_library(block);
    const std::filesystem::path path = setup.folder / block.library;
    return trusted ? internal::load_library(path) : internal::house_library(path);
  };
}

namespace internal {
namespace {

constexpr int answer_ms = 2000;  // that a run without pace waits
constexpr int again_ms = 10;     // from one question to the next, until the first answer
constexpr std::int64_t first_answer_ns = 5'000'000'000;
constexpr int most_at_once = 64;  // answers taken at an instant
constexpr std::uint32_t no_tick = 0xFFFFFFFF;
/// Turned knobs that may wait for the next period.
constexpr std::size_t most_turned = 256;

}  // namespace

ControlSeat::ControlSeat(const Setup& setup, const emt::Plant& plant, bool remote)
    : setup_(setup), controller_(setup.control, plant.signal_names(), own_maker(setup, remote)) {
  for (const std::string& name : controller_.reads()) reads_.push_back(plant.signal(name));
  for (const std::string& name : controller_.knobs()) knobs_.push_back(plant.knob(name));
  for (const std::string& name : controller_.gates()) gates_.push_back(plant.gate(name));
  for (const std::string& name : controller_.operables()) operables_.push_back(plant.operable(name));
  signals_.resize(reads_.size());
  knobs_sent_.assign(knobs_.size(), std::numeric_limits<double>::quiet_NaN());
  closes_sent_.assign(operables_.size(), 0);
  if (!remote) return;
  delay_ = setup.bench.control_delay;
  port_.emplace(0);
  bytes_.resize(wire::longest_control_message);
  answers_.resize(static_cast<std::size_t>(delay_) + 2);
  for (wire::ControlAnswer& answer : answers_) answer.tick = no_tick;
  shown_.resize(controller_.outputs().size());
  for (std::size_t k = 0; k < shown_.size(); ++k) shown_[k] = controller_.output(k);
  sent_ns_.assign(answers_.size(), 0);
  measure_.signals.resize(reads_.size());
  measure_.turned.reserve(most_turned);
  measure_.key = wire::random_key();
  account_.port = "control";
  account_.delay_of = "from its values to its answer";
}

std::optional<std::size_t> ControlSeat::output_named(const std::string& name) const {
  const auto& names = controller_.outputs();
  const auto at = std::find(names.begin(), names.end(), name);
  if (at == names.end()) return std::nullopt;
  return static_cast<std::size_t>(at - names.begin());
}

std::string ControlSeat::open(const Opening& how) {
  if (!port_) return {};
  paced_ = how.paced;
  int at = setup_.bench.control_port;
  if (setup_.bench.control == "process") {
    if (how.program.empty()) return "no program is known that could run the controller";
    if (at == 0) at = wire::ControlPort(0).port();  // free a moment ago
    process_.emplace(std::vector<std::string>{how.program.string(), "controller", setup_.folder.string(),
                                              "--port", std::to_string(at), "--key", "-", "--counts"},
                     pace::internal::Program::Options{.fed = true, .heard = true, .errors_shown = true});
    if (!process_->feed(wire::to_string(measure_.key) + "\n", answer_ms * 1e-3))
      return "the process of the controller did not take its key";
  } else if (!setup_.bench.control_key.empty()) {
    measure_.key = wire::parse_key(record::read_file(setup_.folder / setup_.bench.control_key));
  }
  account_.carries = fmt::format("values out, answers in, UDP port {}", at);
  port_->aim(at);
  return {};
}

void ControlSeat::set(std::size_t parameter, double value) noexcept {
  controller_.set(parameter, value);
  if (port_ && measure_.turned.size() < most_turned)
    measure_.turned.push_back({static_cast<std::uint16_t>(parameter), value});
}

void ControlSeat::visit_state(StateArchive& archive) {
  if (port_) return archive.miss();
  controller_.visit_state(archive);
  archive(knobs_sent_, closes_sent_, next_tick_, lost_edges_);
}

void ControlSeat::run_due(emt::ControlledPlant& plant) noexcept {
  const double slack = 1e-6 * plant.step_s();
  for (; static_cast<double>(next_tick_) * controller_.period_s() <= plant.time_s() + slack; ++next_tick_) {
    for (std::size_t k = 0; k < reads_.size(); ++k) signals_[k] = plant.value(reads_[k]);
    if (port_) {
      ask(next_tick_, plant);
      measure_.turned.clear();
      continue;
    }
    controller_.run(next_tick_, signals_);
    if (!controller_.failure().empty() && failure_.empty()) failure_ = controller_.failure();
    act_here(plant);
  }
}

void ControlSeat::act_here(emt::ControlledPlant& plant) noexcept {
  for (const control::Edge& edge : controller_.edges()) fire(plant, edge, 0);
  for (std::size_t k = 0; k < knobs_.size(); ++k) drive(plant, k, controller_.knob(k));
  for (std::size_t k = 0; k < operables_.size(); ++k) operate(plant, k, controller_.closes(k));
}

void ControlSeat::act(emt::ControlledPlant& plant, const wire::ControlAnswer& answer,
                      double shift_s) noexcept {
  for (const control::Edge& edge : answer.edges) {
    if (static_cast<std::size_t>(edge.gate) < gates_.size()) fire(plant, edge, shift_s);
  }
  for (std::size_t k = 0; k < std::min(knobs_.size(), answer.knobs.size()); ++k)
    drive(plant, k, answer.knobs[k]);
  for (std::size_t k = 0; k < std::min(operables_.size(), answer.closes.size()); ++k)
    operate(plant, k, answer.closes[k] == 1);
  for (std::size_t k = 0; k < std::min(shown_.size(), answer.outputs.size()); ++k)
    shown_[k] = answer.outputs[k];
}

void ControlSeat::fire(emt::ControlledPlant& plant, const control::Edge& edge, double shift_s) noexcept {
  if (!plant.fire(gates_[static_cast<std::size_t>(edge.gate)], edge.on, edge.at_s + shift_s)) ++lost_edges_;
}

void ControlSeat::drive(emt::ControlledPlant& plant, std::size_t knob, double wanted) noexcept {
  if (wanted == knobs_sent_[knob] || !std::isfinite(wanted)) return;
  plant.turn(knobs_[knob], wanted);
  knobs_sent_[knob] = wanted;
}

void ControlSeat::operate(emt::ControlledPlant& plant, std::size_t operable, bool closes) noexcept {
  if (closes == (closes_sent_[operable] != 0)) return;
  const emt::OperableId what = operables_[operable];
  closes ? plant.close(what, plant.time_s()) : plant.open(what, plant.time_s());
  closes_sent_[operable] = closes ? 1 : 0;
}

void ControlSeat::send_measure() noexcept {
  ++(port_->send({bytes_.data(), wire::encode(measure_, bytes_)}) ? account_.sent : account_.unsent);
}

/// Sends what the control reads now, and acts on the answer to what it read `delay` periods ago.
void ControlSeat::ask(long long tick, emt::ControlledPlant& plant) noexcept {
  measure_.tick = static_cast<std::uint32_t>(tick);
  measure_.time_s = plant.time_s();
  std::copy(signals_.begin(), signals_.end(), measure_.signals.begin());
  sent_ns_[measure_.tick % sent_ns_.size()] = pace::system_clock().now_ns();
  send_measure();
  const long long behind = tick - delay_;
  if (behind < 0) {
    // The first period has nothing behind it to act on: wait until the controller is there.
    if (tick == 0) await_first_answer();
    return;
  }
  const auto due = static_cast<std::uint32_t>(behind);
  wire::ControlAnswer& answer = answers_[due % answers_.size()];
  if (!paced_) {
    await_answer(due, plant.time_s());
  } else {
    for (int count = 0; count < most_at_once && take_answer(0); ++count) {
    }
    if (answer.tick != due) ++account_.late;
    if (process_ && account_.late > 0 && !process_->running() && failure_.empty())
      failure_ = "controller: " + process_->ended();
  }
  if (answer.tick == due) act(plant, answer, delay_ * controller_.period_s());
}

void ControlSeat::await_first_answer() noexcept {
  const std::int64_t until = pace::system_clock().now_ns() + first_answer_ns;
  while (answers_[0].tick != 0 && pace::system_clock().now_ns() < until) {
    if (take_answer(again_ms)) continue;
    if (process_ && !process_->running()) {
      failure_ = "controller: " + process_->ended();
      return;
    }
    pace::system_clock().sleep_until_ns(pace::system_clock().now_ns() + again_ms * 1'000'000LL);
    send_measure();  // it may not have listened yet
  }
  if (answers_[0].tick != 0 && failure_.empty()) failure_ = "the controller did not answer within 5 s";
}

void ControlSeat::await_answer(std::uint32_t due, double time_s) noexcept {
  const wire::ControlAnswer& answer = answers_[due % answers_.size()];
  const std::int64_t until = pace::system_clock().now_ns() + answer_ms * 1'000'000LL;
  while (answer.tick != due && failure_.empty() && pace::system_clock().now_ns() < until) {
    if (take_answer(100)) continue;
    if (process_ && !process_->running()) failure_ = "controller: " + process_->ended();
  }
  if (answer.tick != due && failure_.empty())
    failure_ = fmt::format("the controller gave no answer (t = {:.6g} s)", time_s);
}

bool ControlSeat::take_answer(int wait_ms) noexcept {
  const std::size_t size = port_->receive(bytes_, wait_ms);
  if (size == 0) return false;
  if (!wire::decode({bytes_.data(), size}, taken_)) {
    ++account_.malformed;
    return false;
  }
  if (taken_.key != measure_.key) {
    ++account_.conflicting;
    return false;
  }
  ++account_.received;
  const std::int64_t sent_ns = sent_ns_[taken_.tick % sent_ns_.size()];
  if (sent_ns > 0) account_.delay.add(pace::system_clock().now_ns() - sent_ns);
  if (!taken_.failure.empty() && failure_.empty()) failure_ = taken_.failure;
  std::swap(answers_[taken_.tick % answers_.size()], taken_);
  return true;
}

void ControlSeat::end() {
  if (!port_ || counted_) return;
  if (process_) {
    counted_ = Account{.port = account_.port, .carries = as_it_counts};
    take_lines(process_->end(), *counted_);
  } else {
    measure_.kind = wire::ControlAsk::leave;
    (void)port_->send({bytes_.data(), wire::encode(measure_, bytes_)});
  }
}

std::vector<Account> ControlSeat::accounts() const {
  if (!port_) return {};
  std::vector<Account> all{account_};
  all[0].lost = lost_edges();
  if (counted_) all.push_back(*counted_);
  return all;
}

std::vector<Path> ControlSeat::paths(double step_s) const {
  const double steps = port_ ? delay_ * controller_.period_s() / step_s : 0;
  return {{"its signals", port_ ? "the control in a process of its own" : "the control",
           "gates, knobs, switches", steps, ""}};
}

}  // namespace internal
}  // namespace zavrek::bench
