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
constexpr std::int64_t most_patience_ns = 20'000'000;  // of a paced run, with a process of its own
/// Turned knobs that may wait for the next period.
constexpr std::size_t most_turned = 256;

}  // namespace

ControlSeat::ControlSeat(const Setup& setup, const emt::Plant& plant, bool remote)
    : setup_(setup),
      controller_(setup.control, plant.signal_names(), own_maker(setup, remote)),
      at_plant_(controller_, plant),
      units_(control::output_units(setup.control, controller_.outputs(), [&](const std::string& signal) {
        return plant.unit(plant.signal(signal));
      })) {
  if (!remote) return;
  delay_ = setup.bench.control_delay;
  elsewhere_ = true;
  bytes_.resize(wire::longest_control_message);
  answers_.resize(static_cast<std::size_t>(delay_) + 2);
  for (wire::ControlAnswer& answer : answers_) answer.tick = no_tick;
  shown_.resize(controller_.outputs().size());
  for (std::size_t k = 0; k < shown_.size(); ++k) shown_[k] = controller_.output(k);
  sent_ns_.assign(answers_.size(), 0);
  measure_.signals.resize(at_plant_.reads());
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
  if (!elsewhere_) return {};
  paced_ = how.paced;
  try {
    return setup_.bench.control == "process" ? start_process(how) : find_outside();
  } catch (const Error& error) {
    return error.what();
  }
}

std::string ControlSeat::start_process(const Opening& how) {
  if (how.program.empty()) return "no program is known that could run the controller";
  auto memory = std::make_unique<wire::ControlMemory>(wire::ControlMemory::make());
  std::vector<std::string> words{how.program.string(),
                                 "controller",
                                 setup_.folder.string(),
                                 "--memory",
                                 memory->name(),
                                 "--key",
                                 "-",
                                 "--counts"};
  if (paced_) words.emplace_back("--paced");
  process_.emplace(std::move(words),
                   pace::internal::Program::Options{.fed = true, .heard = true, .errors_shown = true});
  if (!process_->feed(wire::to_string(measure_.key) + "\n", answer_ms * 1e-3))
    return "the process of the controller did not take its key";
  account_.carries = "values out, answers in, memory that both share";
  way_ = std::move(memory);
  return {};
}

std::string ControlSeat::find_outside() {
  const int at = setup_.bench.control_port;
  if (!setup_.bench.control_key.empty())
    measure_.key = wire::parse_key(record::read_file(setup_.folder / setup_.bench.control_key));
  account_.carries = fmt::format("values out, answers in, UDP port {}", at);
  auto port = std::make_unique<wire::ControlPort>(0);
  port->aim(at);
  way_ = std::move(port);
  return {};
}

void ControlSeat::meet(emt::ControlledPlant& plant) noexcept {
  if (!elsewhere_ || turns() > 0) return;
  fill_measure(0, plant);
  send_measure();
  await_first_answer();
}

void ControlSeat::set(std::size_t parameter, double value) noexcept {
  controller_.set(parameter, value);
  if (elsewhere_ && measure_.turned.size() < most_turned)
    measure_.turned.push_back({static_cast<std::uint16_t>(parameter), value});
}

void ControlSeat::visit_state(StateArchive& archive) {
  if (elsewhere_) return archive.miss();
  controller_.visit_state(archive);
  at_plant_.visit_state(archive);
}

void ControlSeat::run_due(emt::ControlledPlant& plant) noexcept {
  at_plant_.run_due(plant, [&](long long tick, std::span<const double> values) {
    if (elsewhere_) {
      ask(tick, plant);
      measure_.turned.clear();
      return;
    }
    controller_.run(tick, values);
    if (!controller_.failure().empty() && failure_.empty()) failure_ = controller_.failure();
    at_plant_.act(plant, controller_);
  });
}

void ControlSeat::act(emt::ControlledPlant& plant, const wire::ControlAnswer& answer,
                      double shift_s) noexcept {
  at_plant_.fire(plant, answer.edges, shift_s);
  for (std::size_t k = 0; k < std::min(at_plant_.knobs(), answer.knobs.size()); ++k)
    at_plant_.drive(plant, k, answer.knobs[k]);
  for (std::size_t k = 0; k < std::min(at_plant_.operables(), answer.closes.size()); ++k)
    at_plant_.operate(plant, k, answer.closes[k] == 1);
  for (std::size_t k = 0; k < std::min(shown_.size(), answer.outputs.size()); ++k)
    shown_[k] = answer.outputs[k];
}

void ControlSeat::fill_measure(long long tick, const emt::ControlledPlant& plant) noexcept {
  measure_.tick = static_cast<std::uint32_t>(tick);
  measure_.time_s = plant.time_s();
  const std::span<const double> values = at_plant_.read(plant);
  std::copy(values.begin(), values.end(), measure_.signals.begin());
}

void ControlSeat::send_measure() noexcept {
  ++(way_->send({bytes_.data(), wire::encode(measure_, bytes_)}, setup_.bench.control_port)
         ? account_.sent
         : account_.unsent);
}

/// Sends what the control reads now, and acts on the answer to what it read `delay` periods ago.
void ControlSeat::ask(long long tick, emt::ControlledPlant& plant) noexcept {
  fill_measure(tick, plant);
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
    if (process_ && answer.tick != due) await_own(answer, due);
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
    if (!way_->keeps()) send_measure();  // it may not have listened yet
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

/// A process of the run's own goes by its questions: the run waits for it, and is late where that takes long,
/// rather than go on without it.
void ControlSeat::await_own(const wire::ControlAnswer& answer, std::uint32_t due) noexcept {
  pace::Clock& clock = pace::system_clock();
  const std::int64_t until = clock.now_ns() + most_patience_ns;
  while (answer.tick != due && failure_.empty() && clock.now_ns() < until) (void)take_answer(0);
}

bool ControlSeat::take_answer(int wait_ms) noexcept {
  const std::size_t size = way_->receive(bytes_, wait_ms);
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
  if (!way_ || counted_) return;
  if (process_) {
    counted_ = Account{.port = account_.port, .carries = as_it_counts};
    take_lines(process_->end(), *counted_);
  } else {
    measure_.kind = wire::ControlAsk::leave;
    (void)way_->send({bytes_.data(), wire::encode(measure_, bytes_)}, setup_.bench.control_port);
  }
}

std::vector<Account> ControlSeat::accounts() const {
  if (!elsewhere_) return {};
  std::vector<Account> all{account_};
  all[0].lost = lost_edges();
  if (counted_) all.push_back(*counted_);
  return all;
}

std::vector<Path> ControlSeat::paths(double step_s) const {
  const double steps = elsewhere_ ? delay_ * controller_.period_s() / step_s : 0;
  return {{"its signals", elsewhere_ ? "the control in a process of its own" : "the control",
           "gates, knobs, switches", steps, ""}};
}

}  // namespace internal
}  // namespace zavrek::bench
