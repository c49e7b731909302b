// The fixed step as a study: samples of its signals at even instants.
#include "zavrek/emt/study.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zavrek::emt {
namespace {

struct Watched {
  std::vector<SignalId> ids;
  std::vector<double> before, now;
};

Series empty_series(Plant& plant, const Study& study, Watched& watched) {
  Series series;
  series.names = study.signals.empty() ? plant.signal_names() : study.signals;
  for (const std::string& name : series.names) {
    watched.ids.push_back(plant.signal(name));
    series.units.push_back(plant.unit(watched.ids.back()));
  }
  if (!study.signals.empty()) plant.watch(watched.ids);
  series.values.resize(series.names.size());
  watched.now.resize(watched.ids.size());
  return series;
}

}  // namespace

Commander::Commander(Plant& plant, const std::vector<ScheduledCommand>& commands) {
  for (const ScheduledCommand& command : commands) {
    if (!command.knob.empty()) {
      turns_.push_back({command.at_s, plant.knob(command.knob), command.value, {}, Failure::none});
      continue;
    }
    if (!command.fails.empty()) {
      turns_.push_back({command.at_s, {}, command.value, plant.gate(command.fails), command.how});
      continue;
    }
    turns_.push_back(
        {command.at_s, {}, 0, {}, Failure::none, plant.operable(command.operable), command.close});
  }
  std::stable_sort(turns_.begin(), turns_.end(),
                   [](const Turn& a, const Turn& b) { return a.at_s < b.at_s; });
}

void Commander::turn_due(Plant& plant) noexcept {
  const double until = plant.time_s() + plant.step_s() * (1 - 1e-9);
  for (; next_ < turns_.size() && turns_[next_].at_s < until; ++next_) {
    const Turn& turn = turns_[next_];
    if (turn.operable.index >= 0) {
      turn.close ? plant.close(turn.operable, turn.at_s) : plant.open(turn.operable, turn.at_s);
      continue;
    }
    turn.gate.index < 0 ? plant.turn(turn.knob, turn.value) : plant.fail(turn.gate, turn.how, turn.value);
  }
}

Series simulate(const Study& study, double step_s) {
  Plant plant = compile(study.network, step_s);
  Commander commander(plant, study.commands);
  Watched watched;
  Series series = empty_series(plant, study, watched);
  const auto read = [&] {
    watched.before = watched.now;
    for (std::size_t k = 0; k < watched.ids.size(); ++k) watched.now[k] = plant.value(watched.ids[k]);
  };
  const auto take = [&](double time, double share) {
    series.time_s.push_back(time);
    for (std::size_t k = 0; k < watched.ids.size(); ++k)
      series.values[k].push_back(watched.before[k] + share * (watched.now[k] - watched.before[k]));
  };
  read();
  read();
  take(0, 1);
  const double h = plant.step_s();
  const std::function<void(ControlledPlant&)> drive = study.drive ? study.drive() : nullptr;
  long long driven = 0;
  const auto count = static_cast<long long>(std::floor(study.duration_s / study.sample_s + 1e-9));
  for (long long sample = 1; sample <= count; ++sample) {
    const double due = static_cast<double>(sample) * study.sample_s;
    while (plant.time_s() < due - 1e-9 * h) {
      commander.turn_due(plant);
      for (; drive && static_cast<double>(driven) * study.drive_period_s <= plant.time_s() + 1e-6 * h;
           ++driven)
        drive(plant);
      if (plant.step() == Status::diverged) {
        throw Error(fmt::format("the model diverged at {} (t = {:.6g} s); take a smaller step",
                                plant.culprit(), plant.time_s()));
      }
      read();
    }
    take(due, 1 - (plant.time_s() - due) / h);
  }
  series.steps = plant.steps();
  return series;
}

}  // namespace zavrek::emt
