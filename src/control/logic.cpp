// States and times; a state is on above 0.5.
#include <algorithm>

#include <fmt/format.h>

#include "control/formula.hpp"
#include "control/function.hpp"
#include "control/made_with.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {

template <>
Made make(const Comparator& b, double) {
  return {plain([&b](const Instant&, const double* in, double* out) {
            out[0] = in[0] > b.on_above ? 1 : in[0] < b.off_below ? 0 : out[0];
          }),
          {b.input},
          {""},
          {}};
}

namespace {
class TimerFunction final : public BlockFunction {
 public:
  TimerFunction(const Timer& b, double period) : b_(b), period_(period) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const bool wants = is_on(in[0]);
    since_ = wants == wanted_ ? since_ + period_ : 0;
    wanted_ = wants;
    if (since_ >= (wants ? b_.on_delay_s : b_.off_delay_s) - 1e-9 * period_) out[0] = wants ? 1 : 0;
  }
  void visit_state(StateArchive& archive) override { archive(since_, wanted_); }

 private:
  const Timer& b_;
  double period_, since_ = 0;
  bool wanted_ = false;
};
}  // namespace
template <>
Made make(const Timer& b, double period) {
  return {std::make_unique<TimerFunction>(b, period), {b.input}, {""}, {}};
}

template <>
Made make(const LatchBlock& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            if (is_on(in[0])) out[0] = 1;
            if (is_on(in[1])) out[0] = 0;
          }),
          {b.set, b.reset},
          {""},
          {}};
}

template <>
Made make(const LogicBlock& b, double) {
  return {plain([op = b.operation, n = b.inputs.size()](const Instant&, const double* in, double* out) {
            const auto on = static_cast<std::size_t>(std::count_if(in, in + n, is_on));
            out[0] = op == "and" ? on == n : op == "or" ? on > 0 : op == "not" ? on == 0 : on % 2 == 1;
          }),
          b.inputs,
          {""},
          {}};
}

template <>
Made make(const Select& b, double) {
  return {plain([](const Instant&, const double* in, double* out) { out[0] = is_on(in[0]) ? in[1] : in[2]; }),
          {b.when, b.then, b.otherwise},
          {""},
          {}};
}

namespace {
class CounterFunction final : public BlockFunction {
 public:
  explicit CounterFunction(const Counter& b) : b_(b) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const bool on = is_on(in[0]);
    if (on && !was_) out[0] = b_.wraps_at > 0 && out[0] + 1 >= b_.wraps_at ? 0 : out[0] + 1;
    if (is_on(in[1])) out[0] = 0;
    was_ = on;
  }
  void visit_state(StateArchive& archive) override { archive(was_); }

 private:
  const Counter& b_;
  bool was_ = false;
};
}  // namespace
template <>
Made make(const Counter& b, double) {
  return {std::make_unique<CounterFunction>(b), {b.input, b.reset}, {""}, {}};
}

namespace {
class ExpressionFunction final : public BlockFunction {
 public:
  explicit ExpressionFunction(Formula formula) : formula_(std::move(formula)) {}
  void step(const Instant& instant, const double* in, double* out) noexcept override {
    out[0] = formula_.value(in, instant.time_s);
  }
  void visit_state(StateArchive&) override {}

 private:
  Formula formula_;
};

/// Leaves its state by the first of its steps whose condition holds, for as long as that asks. A new state
/// shows a period later, so that conditions may depend on what the state itself decides.
class SequenceFunction final : public BlockFunction {
 public:
  struct Step : SequenceStep {
    std::size_t first_input;
    double held_s = 0;
  };

  SequenceFunction(std::vector<Step> steps, std::size_t states, double period)
      : steps_(std::move(steps)), states_(states), period_(period) {}
  [[nodiscard]] bool feeds_through() const override { return false; }
  void give(double* out) noexcept override {
    out[0] = static_cast<double>(state_);
    for (std::size_t k = 0; k < states_; ++k) out[k + 1] = k == state_ ? 1 : 0;
  }
  void step(const Instant& instant, const double* in, double*) noexcept override {
    for (Step& s : steps_) {
      const bool stands = s.from == SequenceStep::anywhere ? state_ != s.to : state_ == s.from;
      const bool holds = stands && is_on(s.condition.value(in + s.first_input, instant.time_s));
      s.held_s = holds ? s.held_s + period_ : 0;
      if (!holds || s.held_s < s.after_s + period_ * (1 - 1e-9)) continue;
      state_ = s.to;
      for (Step& other : steps_) other.held_s = 0;
      break;
    }
  }
  void visit_state(StateArchive& archive) override {
    archive(state_);
    for (Step& s : steps_) archive(s.held_s);
  }

 private:
  std::vector<Step> steps_;
  std::size_t states_, state_ = 0;
  double period_;
};

std::string trimmed(const std::string& text) {
  const std::size_t first = text.find_first_not_of(' '), last = text.find_last_not_of(' ');
  return first == std::string::npos ? std::string() : text.substr(first, last - first + 1);
}
}  // namespace
template <>
Made make(const Expression& b, double) {
  Formula formula = [&] {
    try {
      return Formula(b.formula);
    } catch (const Error& error) {
      reject("expression", b.name, "formula", error.flaws().front().text);
    }
  }();
  std::vector<std::string> names = formula.names();
  return {std::make_unique<ExpressionFunction>(std::move(formula)), std::move(names), {""}, {}};
}

std::vector<SequenceStep> steps_of(const Sequence& b) {
  const auto refuse = [&](const std::string& text, const std::string& why) {
    reject("sequence", b.name, "steps", fmt::format("\"{}\" {}", text, why));
  };
  const auto state_of = [&](const std::string& text, const std::string& name) {
    const auto at = std::find(b.states.begin(), b.states.end(), name);
    if (at == b.states.end())
      refuse(text, fmt::format("names no state \"{}\"{}", name, suggestion(name, b.states)));
    return static_cast<std::size_t>(at - b.states.begin());
  };
  std::vector<SequenceStep> steps;
  for (const std::string& text : b.steps) {
    const std::size_t arrow = text.find('>'), colon = text.find(':');
    if (arrow == std::string::npos || colon == std::string::npos || colon < arrow)
      refuse(text, "is no step; \"off > run: ready after 20 ms\" is wanted");
    const std::string from = trimmed(text.substr(0, arrow));
    const std::string to = trimmed(text.substr(arrow + 1, colon - arrow - 1));
    std::string condition = text.substr(colon + 1);
    double after = 0;
    try {
      if (const std::size_t at = condition.rfind(" after "); at != std::string::npos) {
        after = parse_quantity_as(trimmed(condition.substr(at + 7)), "s");
        condition.resize(at);
      }
      steps.push_back({from == "*" ? SequenceStep::anywhere : state_of(text, from), state_of(text, to),
                       Formula(condition), after});
    } catch (const Error& error) {
      if (!error.flaws().front().place.empty()) throw;
      refuse(text, ": " + error.flaws().front().text);
    }
  }
  return steps;
}

template <>
Made make(const Sequence& b, double period) {
  if (b.states.empty()) reject("sequence", b.name, "states", "at least one is wanted");
  Made m{nullptr, {}, {""}, {0}};
  std::vector<SequenceFunction::Step> steps;
  for (SequenceStep& step : steps_of(b)) {
    const std::size_t first = m.inputs.size();
    m.inputs.insert(m.inputs.end(), step.condition.names().begin(), step.condition.names().end());
    steps.push_back({{std::move(step)}, first});
  }
  for (const std::string& state : b.states) {
    m.outputs.push_back(state);
    m.start.push_back(m.start.size() == 1 ? 1 : 0);
  }
  m.function = std::make_unique<SequenceFunction>(std::move(steps), b.states.size(), period);
  return m;
}

}  // namespace zavrek::control
