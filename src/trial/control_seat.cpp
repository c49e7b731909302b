#include "trial/control_seat.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "trial/own_library.hpp"

namespace zavrek::trial {

control::OwnMaker own_maker(const Case& all) {
  return [&all](const control::OwnCode& block) -> std::unique_ptr<control::Own> {
    if (block.library.empty()) return all.own_code ? all.own_code(block) : nullptr;
    return internal::load_library(all.folder / block.library);
  };
}

bool has_control(const Case& all) { return !all.control.blocks.empty() || !all.control.ready.empty(); }

void check_control(const Case& all, const emt::Plant& plant) {
  if (has_control(all)) (void)internal::ControlSeat(all, plant, false);
}

std::vector<std::string> control_knobs(const Case& all, const emt::Plant& plant) {
  std::vector<std::string> names;
  if (!has_control(all)) return names;
  const internal::ControlSeat seat(all, plant, false);
  for (std::size_t k = 0; k < seat.controller().parameters().size(); ++k) {
    const std::string& unit = seat.controller().unit(k);
    names.push_back(seat.controller().parameters()[k] + (unit.empty() ? "" : " " + unit));
  }
  return names;
}

double control_lateness_s(const Case& all, const emt::Plant& plant) {
  if (!has_control(all)) return 0;
  const double ratio = internal::ControlSeat(all, plant, false).controller().period_s() / plant.step_s();
  return std::abs(ratio - std::round(ratio)) > 1e-6 * ratio ? plant.step_s() : 0;
}

namespace internal {
namespace {

constexpr int answer_ms = 2000;  // that a run without pace waits
constexpr std::uint32_t no_tick = 0xFFFFFFFF;

}  // namespace

ControlSeat::ControlSeat(const Case& all, const emt::Plant& plant, bool remote)
    : case_(all), controller_(all.control, plant.signal_names(), own_maker(all)) {
  for (const std::string& name : controller_.reads()) reads_.push_back(plant.signal(name));
  for (const std::string& name : controller_.knobs()) knobs_.push_back(plant.knob(name));
  for (const std::string& name : controller_.gates()) gates_.push_back(plant.gate(name));
  for (const std::string& name : controller_.operables()) operables_.push_back(plant.operable(name));
  signals_.resize(reads_.size());
  knobs_sent_.assign(knobs_.size(), std::numeric_limits<double>::quiet_NaN());
  closes_sent_.assign(operables_.size(), 0);
  if (!remote) return;
  delay_ = all.bench.control_delay;
  port_.emplace(0);
  bytes_.resize(wire::longest_control_message);
  answers_.resize(static_cast<std::size_t>(delay_) + 2);
  for (wire::ControlAnswer& answer : answers_) answer.tick = no_tick;
  shown_.resize(controller_.outputs().size());
  for (std::size_t k = 0; k < shown_.size(); ++k) shown_[k] = controller_.output(k);
  measure_.signals.resize(reads_.size());
}

std::string ControlSeat::begin(const std::filesystem::path& program, bool paced) {
  if (!port_) return {};
  paced_ = paced;
  int at = case_.bench.control_port;
  if (case_.bench.control == "process") {
    if (program.empty()) return "no program is known that could run the controller";
    if (at == 0) at = wire::ControlPort(0).port();  // free a moment ago
    process_.emplace(std::vector<std::string>{program.string(), "controller", case_.folder.string(), "--port",
                                              std::to_string(at)},
                     pace::internal::Program::Options{.errors_shown = true});
  }
  port_->aim(at);
  return {};
}

void ControlSeat::turn_at(std::vector<ControlTurn> turns) {
  turns_ = std::move(turns);
  std::stable_sort(turns_.begin(), turns_.end(),
                   [](const ControlTurn& a, const ControlTurn& b) { return a.at_s < b.at_s; });
  measure_.turned.reserve(turns_.size());
}

void ControlSeat::run_due(emt::Drivable& plant) noexcept {
  const double slack = 1e-6 * plant.step_s();
  for (; static_cast<double>(next_tick_) * controller_.period_s() <= plant.time_s() + slack; ++next_tick_) {
    measure_.turned.clear();
    for (; next_turn_ < turns_.size() && turns_[next_turn_].at_s <= plant.time_s() + slack; ++next_turn_) {
      const ControlTurn& turn = turns_[next_turn_];
      controller_.set(turn.parameter, turn.value);
      measure_.turned.push_back({static_cast<std::uint16_t>(turn.parameter), turn.value});
    }
    for (std::size_t k = 0; k < reads_.size(); ++k) signals_[k] = plant.value(reads_[k]);
    if (port_) {
      ask(next_tick_, plant);
      continue;
    }
    controller_.run(next_tick_, signals_);
    if (!controller_.failure().empty() && failure_.empty()) failure_ = controller_.failure();
    act_here(plant);
  }
}

void ControlSeat::act_here(emt::Drivable& plant) noexcept {
  for (const control::Edge& edge : controller_.edges())
    plant.fire(gates_[static_cast<std::size_t>(edge.gate)], edge.on, edge.at_s);
  for (std::size_t k = 0; k < knobs_.size(); ++k) drive(plant, k, controller_.knob(k));
  for (std::size_t k = 0; k < operables_.size(); ++k) operate(plant, k, controller_.closes(k));
}

void ControlSeat::act(emt::Drivable& plant, const wire::ControlAnswer& answer, double shift_s) noexcept {
  for (const control::Edge& edge : answer.edges) {
    if (static_cast<std::size_t>(edge.gate) < gates_.size())
      plant.fire(gates_[static_cast<std::size_t>(edge.gate)], edge.on, edge.at_s + shift_s);
  }
  for (std::size_t k = 0; k < std::min(knobs_.size(), answer.knobs.size()); ++k)
    drive(plant, k, answer.knobs[k]);
  for (std::size_t k = 0; k < std::min(operables_.size(), answer.closes.size()); ++k)
    operate(plant, k, answer.closes[k] == 1);
  for (std::size_t k = 0; k < std::min(shown_.size(), answer.outputs.size()); ++k)
    shown_[k] = answer.outputs[k];
}

void ControlSeat::drive(emt::Drivable& plant, std::size_t knob, double wanted) noexcept {
  if (wanted == knobs_sent_[knob] || !std::isfinite(wanted)) return;
  plant.turn(knobs_[knob], wanted);
  knobs_sent_[knob] = wanted;
}

void ControlSeat::operate(emt::Drivable& plant, std::size_t operable, bool closes) noexcept {
  if (closes == (closes_sent_[operable] != 0)) return;
  const emt::OperableId what = operables_[operable];
  closes ? plant.close(what, plant.time_s()) : plant.open(what, plant.time_s());
  closes_sent_[operable] = closes ? 1 : 0;
}

/// Sends what the control reads now, and acts on the answer to what it read `delay` periods ago.
void ControlSeat::ask(long long tick, emt::Drivable& plant) noexcept {
  measure_.tick = static_cast<std::uint32_t>(tick);
  measure_.time_s = plant.time_s();
  std::copy(signals_.begin(), signals_.end(), measure_.signals.begin());
  (void)port_->send({bytes_.data(), wire::encode(measure_, bytes_)});
  const long long behind = tick - delay_;
  if (behind < 0) {
    // The first period has nothing behind it to act on: wait until the controller is there.
    for (int count = 0; tick == 0 && count < 25 && !take_answer(200); ++count)
      (void)port_->send({bytes_.data(), wire::encode(measure_, bytes_)});
    if (tick == 0 && answers_[0].tick != 0 && failure_.empty())
      failure_ = "the controller did not answer within 5 s";
    return;
  }
  const auto due = static_cast<std::uint32_t>(behind);
  wire::ControlAnswer& answer = answers_[due % answers_.size()];
  if (!paced_) {
    for (int waited = 0; answer.tick != due && waited < answer_ms && failure_.empty(); waited += 100) {
      (void)take_answer(100);
      if (process_ && answer.tick != due && !process_->running())
        failure_ = "controller: " + process_->ended();
    }
    if (answer.tick != due && failure_.empty())
      failure_ = fmt::format("the controller gave no answer (t = {:.6g} s)", plant.time_s());
  } else {
    while (take_answer(0)) {
    }
    if (answer.tick != due) ++late_;
    if (process_ && late_ > 0 && !process_->running() && failure_.empty())
      failure_ = "controller: " + process_->ended();
  }
  if (answer.tick == due) act(plant, answer, delay_ * controller_.period_s());
}

bool ControlSeat::take_answer(int wait_ms) noexcept {
  const std::size_t size = port_->receive(bytes_, wait_ms, false);
  if (size == 0 || !wire::decode({bytes_.data(), size}, taken_)) return false;
  if (!taken_.failure.empty() && failure_.empty()) failure_ = taken_.failure;
  std::swap(answers_[taken_.tick % answers_.size()], taken_);
  return true;
}

}  // namespace internal
}  // namespace zavrek::trial
