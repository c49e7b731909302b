#include "emt/reference/continuous.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace zavrek::emt::internal {
namespace {

/// A conductance below this holds no node: an open switch, the flat piece of an arrester.
constexpr double weak_S = 1e-6;
/// The step at which the start is calculated: so short that its phasors are those of the continuous
/// equations.
constexpr double start_step_s = 1e-7;

double curve(const SegmentPart& part, double x) {
  const network::Points& c = part.corners;
  const double magnitude = std::abs(x);
  std::size_t k = 0;
  while (k + 1 < c.size() && c[k].x < magnitude) ++k;
  const double x0 = k == 0 ? 0 : c[k - 1].x, y0 = k == 0 ? 0 : c[k - 1].y;
  return std::copysign(y0 + (magnitude - x0) * (c[k].y - y0) / (c[k].x - x0), x);
}

constexpr double same_instant_s = 1e-12;

class RememberedSlots final : public Past {
 public:
  RememberedSlots(const Continuous& equations, std::size_t first) : equations_(&equations), first_(first) {}
  [[nodiscard]] double begins_s() const noexcept override { return equations_->kept_begins_s(); }
  [[nodiscard]] double at(int k, double time_s) const noexcept override {
    return equations_->kept_at(first_ + static_cast<std::size_t>(k), time_s);
  }

 private:
  const Continuous* equations_;
  std::size_t first_;
};

double curve_slope(const SegmentPart& part, double x) {
  const double d = 1e-7 * part.corners.front().x;
  return (curve(part, x + d) - curve(part, x - d)) / (2 * d);
}

}  // namespace

Continuous::Continuous(const network::Network& network)
    : network_(network), compiled_(compile_parts(network_, start_step_s)) {
  for (const ModelRow& row : core().models) {
    if (!row.model->states().known) {
      const auto k = static_cast<std::size_t>(&row - &core().models[0]);
      throw Error(Flaw{.file = {},
                       .place = compiled_.assembly->model_parts[k].owner,
                       .field = {},
                       .text = "has no continuous equations that the reference could solve"});
    }
  }
  values_.assign(core().at.present.begin(), core().at.present.end());
  place_unknowns();
}

int Continuous::unknown(NodeId n) const {
  return compiled_.layout
      .unknown[static_cast<std::size_t>(compiled_.layout.node_position[static_cast<std::size_t>(n)])];
}
double Continuous::node(NodeId n) const {
  return values_[static_cast<std::size_t>(compiled_.layout.node_position[static_cast<std::size_t>(n)])];
}
int Continuous::slot(Slot s) const {
  return compiled_.layout.slot_position[static_cast<std::size_t>(s.index)];
}

int Continuous::take(int count, const std::string& owner, double scale, bool differential) {
  const int first = size_;
  size_ += count;
  for (int k = 0; k < count; ++k) {
    owners_.push_back(owner);
    scales_.push_back(scale);
    fixed_differential_.push_back(differential ? 1 : 0);
  }
  return first;
}

bool Continuous::floats(const std::vector<Ends>& ends) const {
  return std::any_of(ends.begin(), ends.end(),
                     [&](const Ends& e) { return unknown(e.p) >= 0 && unknown(e.q) >= 0; });
}

void Continuous::mark_differential(const Ends& ends) {
  for (const NodeId n : {ends.p, ends.q}) {
    if (unknown(n) >= 0) fixed_differential_[static_cast<std::size_t>(unknown(n))] = 1;
  }
}

void Continuous::place_unknowns() {
  const Assembly& a = *compiled_.assembly;
  for (const SourceNode& source : core().sources.nodes()) {
    for (const auto& line : core().sources.waveform_of(source).lines(source.phase.angle_rad))
      voltage_scale_ = std::max(voltage_scale_, std::abs(line.amplitude));
  }
  const double v = voltage_scale_, i = std::max(1e-3, voltage_scale_ / 10);
  for (NodeId n = 1; n < a.node_count(); ++n) {
    if (unknown(n) < 0) continue;
    const std::string& name = a.node_name(n);
    take(1, name.substr(0, name.rfind('.')), v, false);
  }
  for (const SeriesPart& part : a.series_parts) {
    const int n = static_cast<int>(part.ends.size());
    series_at_.push_back(take(n, part.owner, i, part.inductance.norm() > 0));
    charge_at_.push_back(part.capacitive() ? take(n, part.owner, v, true) : -1);
  }
  for (const CapacitancePart& part : a.capacitance_parts) {
    const int n = static_cast<int>(part.ends.size());
    capacitance_at_.push_back(floats(part.ends) ? take(n, part.owner, v, true) : -1);
    if (floats(part.ends)) {
      take(n, part.owner, i, false);
      continue;
    }
    for (std::size_t k = 0; k < part.ends.size(); ++k) {
      if (part.capacitance.row(static_cast<Eigen::Index>(k)).norm() > 0) mark_differential(part.ends[k]);
    }
  }
  for (const PolePart& part : a.pole_parts) pole_at_.push_back(take(1, part.owner, i, false));
  first_bent_ = size_;
  const auto bends = [](const SegmentPart& part) { return !part.inductive; };
  if (std::any_of(a.segment_parts.begin(), a.segment_parts.end(), bends) ||
      std::any_of(core().models.begin(), core().models.end(),
                  [](const auto& row) { return row.model->varies(); }))
    first_bent_ = 0;
  for (const SegmentPart& part : a.segment_parts)
    segment_at_.push_back(part.inductive ? take(1, part.owner, part.corners.front().x, true) : -1);
  for (std::size_t k = 0; k < core().models.size(); ++k) {
    const auto states = core().models[k].model->states();
    const double* x = &values_[static_cast<std::size_t>(core().models[k].places.first + states.first)];
    model_at_.push_back(size_);
    for (int s = 0; s < states.count; ++s)
      take(1, a.model_parts[k].owner, std::max(0.1, std::abs(x[s])), true);
    const std::vector<Ends>& ends = a.model_parts[k].ends;
    const bool floating = states.capacitive && floats(ends);
    model_rates_at_.push_back(floating ? take(static_cast<int>(ends.size()), a.model_parts[k].owner, v, true)
                                       : -1);
    if (states.capacitive && !floating)
      std::for_each(ends.begin(), ends.end(), [&](const Ends& e) { mark_differential(e); });
  }
  for (const WavePart& part : a.wave_parts) {
    for (Eigen::Index m = 0; m < 2 * part.surge_ohm.size(); ++m) kept_.emplace_back();
    travel_times_s_.insert(travel_times_s_.end(), part.travel_s.begin(), part.travel_s.end());
  }
  for (const ModelRow& row : core().models) {
    remembered_at_.push_back(kept_.size());
    kept_.resize(kept_.size() + static_cast<std::size_t>(row.model->states().remembered));
    for (const double time : row.model->travel_times_s())
      shortest_travel_s_ = std::min(shortest_travel_s_, time);
  }
  for (const double time : travel_times_s_) shortest_travel_s_ = std::min(shortest_travel_s_, time);
}

void Continuous::arrange(bool replace) {
  const Assembly& a = *compiled_.assembly;
  const auto nodes = static_cast<std::size_t>(compiled_.layout.unknowns);
  std::vector<int> parent(nodes + 1);  // the last stands for ground and sources
  std::iota(parent.begin(), parent.end(), 0);
  const auto find = [&](int k) {
    while (parent[static_cast<std::size_t>(k)] != k) k = parent[static_cast<std::size_t>(k)];
    return k;
  };
  const int outside = static_cast<int>(nodes);
  const auto number = [&](NodeId n) { return unknown(n) < 0 ? outside : unknown(n); };
  const auto tie = [&](const Ends& ends) {
    parent[static_cast<std::size_t>(find(number(ends.p)))] = find(number(ends.q));
  };
  for (const ConductancePart& part : a.conductance_parts) {
    if (part.siemens >= weak_S) tie(part.ends);
  }
  for (std::size_t k = 0; k < a.pole_parts.size(); ++k) {
    if (core().poles[k].siemens() >= weak_S) tie(a.pole_parts[k].ends);
  }
  // A valve that is off counts as well: what an inductance drives through it tells which diode takes over.
  for (const ValvePart& part : a.valve_parts) tie(part.ends);
  for (const SeriesPart& part : a.series_parts) {
    if (part.inductance.norm() == 0) std::for_each(part.ends.begin(), part.ends.end(), tie);
  }
  for (const CapacitancePart& part : a.capacitance_parts)
    std::for_each(part.ends.begin(), part.ends.end(), tie);
  for (const SegmentPart& part : a.segment_parts) {
    if (!part.inductive && part.corners.front().y / part.corners.front().x >= weak_S) tie(part.ends);
  }
  for (std::size_t k = 0; k < a.model_parts.size(); ++k) {
    if (!core().models[k].model->states().inductive)
      std::for_each(a.model_parts[k].ends.begin(), a.model_parts[k].ends.end(), tie);
  }
  for (const WavePart& part : a.wave_parts) {
    for (const NodeId n : part.near) tie({n, ground_node});
    for (const NodeId n : part.far) tie({n, ground_node});
  }
  // Only inductances make a set worth replacing a row for; what hangs on open switches alone keeps its own.
  std::vector<bool> inductive(nodes + 1, false);
  const auto mark = [&](const Ends& ends) {
    for (const NodeId n : {ends.p, ends.q}) inductive[static_cast<std::size_t>(find(number(n)))] = true;
  };
  for (const SeriesPart& part : a.series_parts) {
    if (part.inductance.norm() > 0) std::for_each(part.ends.begin(), part.ends.end(), mark);
  }
  for (const SegmentPart& part : a.segment_parts) {
    if (part.inductive) mark(part.ends);
  }
  for (std::size_t k = 0; k < a.model_parts.size(); ++k) {
    if (core().models[k].model->states().inductive)
      std::for_each(a.model_parts[k].ends.begin(), a.model_parts[k].ends.end(), mark);
  }
  set_of_.assign(nodes, -1);
  replaced_.assign(nodes, -1);
  std::vector<int> set_at(nodes + 1, -1);
  int sets = 0;
  for (int k = 0; k < static_cast<int>(nodes); ++k) {
    const auto root = static_cast<std::size_t>(find(k));
    if (static_cast<int>(root) == find(outside) || !inductive[root] || !replace) continue;
    if (set_at[root] < 0) {
      set_at[root] = sets++;
      replaced_[static_cast<std::size_t>(k)] = set_at[root];
    }
    set_of_[static_cast<std::size_t>(k)] = set_at[root];
  }
  set_slopes_.assign(static_cast<std::size_t>(sets), 0.0);
  differential_ = fixed_differential_;
}

void Continuous::start(double* y) const {
  const Assembly& a = *compiled_.assembly;
  std::fill(y, y + size_, 0.0);
  for (NodeId n = 1; n < a.node_count(); ++n) {
    if (unknown(n) >= 0) y[unknown(n)] = node(n);
  }
  const auto copy = [&](int at, Slot first, std::size_t count) {
    for (std::size_t k = 0; k < count; ++k)
      y[at + static_cast<int>(k)] =
          values_[static_cast<std::size_t>(slot({first.index + static_cast<int>(k)}))];
  };
  for (std::size_t k = 0; k < a.series_parts.size(); ++k) {
    const SeriesPart& part = a.series_parts[k];
    copy(series_at_[k], part.first_current, part.ends.size());
    if (charge_at_[k] >= 0) copy(charge_at_[k], part.first_charge_voltage, part.ends.size());
  }
  for (std::size_t k = 0; k < a.capacitance_parts.size(); ++k) {
    if (capacitance_at_[k] < 0) continue;
    const CapacitancePart& part = a.capacitance_parts[k];
    for (std::size_t e = 0; e < part.ends.size(); ++e)
      y[capacitance_at_[k] + static_cast<int>(e)] = across(part.ends[e]);
    copy(capacitance_at_[k] + static_cast<int>(part.ends.size()), part.first_current, part.ends.size());
  }
  for (std::size_t k = 0; k < a.pole_parts.size(); ++k) copy(pole_at_[k], a.pole_parts[k].current, 1);
  for (std::size_t k = 0; k < a.segment_parts.size(); ++k) {
    if (segment_at_[k] >= 0) copy(segment_at_[k], a.segment_parts[k].state, 1);
  }
  for (std::size_t k = 0; k < core().models.size(); ++k) {
    const auto states = core().models[k].model->states();
    for (int s = 0; s < states.count; ++s)
      y[model_at_[k] + s] =
          values_[static_cast<std::size_t>(core().models[k].places.first + states.first + s)];
    for (std::size_t e = 0; model_rates_at_[k] >= 0 && e < a.model_parts[k].ends.size(); ++e)
      y[model_rates_at_[k] + static_cast<int>(e)] = across(a.model_parts[k].ends[e]);
  }
}

void Continuous::add_current(const Ends& ends, double current, double* f) const {
  if (const int p = unknown(ends.p); p >= 0) f[p] += current;
  if (const int q = unknown(ends.q); q >= 0) f[q] -= current;
}

void Continuous::add_slope(const Ends& ends, double slope) {
  const auto add = [&](NodeId n, double sign) {
    const int k = unknown(n);
    if (k >= 0 && set_of_[static_cast<std::size_t>(k)] >= 0)
      set_slopes_[static_cast<std::size_t>(set_of_[static_cast<std::size_t>(k)])] += sign * slope;
  };
  add(ends.p, 1);
  add(ends.q, -1);
}

double Continuous::node_slope(NodeId n, const double* dy, double t) const {
  if (unknown(n) >= 0) return dy[unknown(n)];
  if (n == ground_node) return 0;
  const int position = compiled_.layout.node_position[static_cast<std::size_t>(n)];
  constexpr double d = 1e-7;
  for (const SourceNode& source : core().sources.nodes()) {
    if (source.position != position) continue;
    const Waveform& w = core().sources.waveform_of(source);
    return (w.value(t + d, source.phase.angle_rad) - w.value(t - d, source.phase.angle_rad)) / (2 * d);
  }
  return 0;
}

void Continuous::residual(double t, const double* y, const double* dy, double* f) {
  const Assembly& a = *compiled_.assembly;
  read(t, y);
  std::fill(f, f + size_, 0.0);
  std::fill(set_slopes_.begin(), set_slopes_.end(), 0.0);
  for (std::size_t k = 0; k < a.series_parts.size(); ++k) {
    const SeriesPart& part = a.series_parts[k];
    const int at = series_at_[k], n = static_cast<int>(part.ends.size());
    for (int r = 0; r < n; ++r) {
      const Ends& ends = part.ends[static_cast<std::size_t>(r)];
      double sum = -across(ends);
      for (int c = 0; c < n; ++c)
        sum += part.inductance(r, c) * dy[at + c] + part.resistance(r, c) * y[at + c];
      if (charge_at_[k] >= 0) {
        sum += y[charge_at_[k] + r];
        f[charge_at_[k] + r] = dy[charge_at_[k] + r] - part.elastance[r] * y[at + r];
      }
      f[at + r] = sum;
      add_current(ends, y[at + r], f);
      add_slope(ends, dy[at + r]);
    }
  }
  for (std::size_t k = 0; k < a.capacitance_parts.size(); ++k) {
    const CapacitancePart& part = a.capacitance_parts[k];
    const int n = static_cast<int>(part.ends.size()), at = capacitance_at_[k];
    for (int r = 0; r < n; ++r) {
      double current = 0;
      for (int c = 0; c < n; ++c) {
        const Ends& other = part.ends[static_cast<std::size_t>(c)];
        const double slope = at >= 0 ? dy[at + c] : rate_across(other, dy, t);
        current += part.capacitance(r, c) * slope;
      }
      const Ends& ends = part.ends[static_cast<std::size_t>(r)];
      if (at >= 0) {
        f[at + r] = y[at + r] - across(ends);
        f[at + n + r] = current - y[at + n + r];
        current = y[at + n + r];
      }
      values_[static_cast<std::size_t>(slot({part.first_current.index + r}))] = current;
      add_current(ends, current, f);
    }
  }
  for (const ConductancePart& part : a.conductance_parts)
    add_current(part.ends, part.siemens * across(part.ends), f);
  for (std::size_t k = 0; k < a.pole_parts.size(); ++k) {
    const Pole& pole = core().poles[k];
    const double current = y[pole_at_[k]], v = across(a.pole_parts[k].ends);
    f[pole_at_[k]] = pole.closed ? current / pole.closed_S - v : current - pole.open_S * v;
    add_current(a.pole_parts[k].ends, current, f);
  }
  for (std::size_t k = 0; k < a.valve_parts.size(); ++k)
    add_current(a.valve_parts[k].ends, core().valves.current(k, across(a.valve_parts[k].ends)), f);
  for (std::size_t k = 0; k < a.segment_parts.size(); ++k) {
    const SegmentPart& part = a.segment_parts[k];
    const double v = across(part.ends);
    const double x = segment_at_[k] >= 0 ? y[segment_at_[k]] : v;
    add_current(part.ends, curve(part, x), f);
    if (segment_at_[k] < 0) continue;
    f[segment_at_[k]] = dy[segment_at_[k]] - v;
    add_slope(part.ends, curve_slope(part, x) * v);
  }
  for (std::size_t k = 0; k < core().models.size(); ++k) {
    ModelRow& row = core().models[k];
    const auto states = row.model->states();
    const auto ends = row.history.size();
    std::vector<double> currents(ends), later(ends), slopes(static_cast<std::size_t>(states.count));
    row.model->look_back(RememberedSlots(*this, remembered_at_[k]), t);
    if (states.capacitive) {
      const int at = model_rates_at_[k];
      std::vector<double> rates(ends);
      for (std::size_t e = 0; e < ends; ++e) {
        const Ends& between = a.model_parts[k].ends[e];
        const int own = at + static_cast<int>(e);
        rates[e] = at >= 0 ? dy[own] : rate_across(between, dy, t);
        if (at >= 0) f[own] = y[own] - across(between);
      }
      row.model->take_rates(rates.data());
    }
    row.model->slopes(row.places, values_.data(), currents.data(), slopes.data());
    for (int s = 0; s < states.count; ++s)
      f[model_at_[k] + s] = dy[model_at_[k] + s] - slopes[static_cast<std::size_t>(s)];
    for (std::size_t e = 0; e < ends; ++e) add_current(a.model_parts[k].ends[e], currents[e], f);
    if (!states.inductive) continue;
    // The derivative of its currents, along the way of its states.
    constexpr double ahead_s = 1e-7;
    double* x = &values_[static_cast<std::size_t>(row.places.first + states.first)];
    for (int s = 0; s < states.count; ++s) x[s] += ahead_s * dy[model_at_[k] + s];
    std::vector<double> unused(slopes.size());
    row.model->slopes(row.places, values_.data(), later.data(), unused.data());
    for (int s = 0; s < states.count; ++s) x[s] = y[model_at_[k] + s];
    row.model->slopes(row.places, values_.data(), currents.data(), unused.data());
    for (std::size_t e = 0; e < ends; ++e)
      add_slope(a.model_parts[k].ends[e], (later[e] - currents[e]) / ahead_s);
  }
  for (std::size_t k = 0; k < a.wave_parts.size(); ++k) {
    const WavePart& part = a.wave_parts[k];
    const std::size_t n = part.near.size();
    std::vector<double> near(n), far(n);
    line_currents(t, part, k, near.data(), far.data());
    for (std::size_t p = 0; p < n; ++p) {
      add_current({part.near[p], ground_node}, near[p], f);
      add_current({part.far[p], ground_node}, far[p], f);
    }
  }
  for (std::size_t k = 0; k < replaced_.size(); ++k) {
    // In the size of currents: a millisecond of them.
    if (replaced_[k] >= 0) f[k] = 1e-3 * set_slopes_[static_cast<std::size_t>(replaced_[k])];
  }
}

void Continuous::read(double t, const double* y) {
  const Assembly& a = *compiled_.assembly;
  for (const SourceNode& source : core().sources.nodes())
    values_[static_cast<std::size_t>(source.position)] =
        core().sources.waveform_of(source).value(t, source.phase.angle_rad);
  const auto put = [&](Slot first, const double* from, std::size_t count) {
    for (std::size_t k = 0; k < count; ++k)
      values_[static_cast<std::size_t>(slot({first.index + static_cast<int>(k)}))] = from[k];
  };
  for (NodeId n = 1; n < a.node_count(); ++n) {
    if (unknown(n) >= 0)
      values_[static_cast<std::size_t>(compiled_.layout.node_position[static_cast<std::size_t>(n)])] =
          y[unknown(n)];
  }
  for (std::size_t k = 0; k < a.series_parts.size(); ++k) {
    put(a.series_parts[k].first_current, y + series_at_[k], a.series_parts[k].ends.size());
    if (charge_at_[k] >= 0)
      put(a.series_parts[k].first_charge_voltage, y + charge_at_[k], a.series_parts[k].ends.size());
  }
  for (std::size_t k = 0; k < a.pole_parts.size(); ++k) {
    const Pole& pole = core().poles[k];
    values_[static_cast<std::size_t>(pole.current)] = y[pole_at_[k]];
    values_[static_cast<std::size_t>(pole.position)] = pole.closed ? 1 : 0;
  }
  if (!a.valve_parts.empty()) {
    core().valves.measure(values_.data(), true);
    core().valves.update(values_.data());
  }
  for (std::size_t k = 0; k < a.segment_parts.size(); ++k) {
    const SegmentPart& part = a.segment_parts[k];
    const double x = segment_at_[k] >= 0 ? y[segment_at_[k]] : across(part.ends);
    values_[static_cast<std::size_t>(slot(part.state))] = x;
    values_[static_cast<std::size_t>(slot(part.current))] = curve(part, x);
  }
  for (std::size_t k = 0; k < core().models.size(); ++k) {
    const auto states = core().models[k].model->states();
    for (int s = 0; s < states.count; ++s)
      values_[static_cast<std::size_t>(core().models[k].places.first + states.first + s)] =
          y[model_at_[k] + s];
  }
}

bool Continuous::fit_valves(double t, const double* y) {
  read(t, y);
  return core().valves.fit(values_.data(), [](std::size_t) {});
}

double Continuous::pole_voltage(const Pole& pole, const double* y) const {
  const auto voltage = [&](int position) {
    const int k = position < static_cast<int>(compiled_.layout.unknown.size())
                      ? compiled_.layout.unknown[static_cast<std::size_t>(position)]
                      : -1;
    return k >= 0 ? y[k] : values_[static_cast<std::size_t>(position)];
  };
  return voltage(pole.p) - voltage(pole.q);
}

bool Continuous::act(double t, const double* y) {
  read(t, y);
  bool changed = false;
  for (ModelRow& row : core().models) changed = row.model->act(row.places, t, values_.data()) || changed;
  return changed;
}

/// Modal waves w = v/Z + c i that leave the two ends, as in line.cpp, at an accepted instant.
void Continuous::remember(double t, const double* y, bool jump) {
  const Assembly& a = *compiled_.assembly;
  if (kept_.empty()) return;
  if (jump) kept_from_.push_back(kept_times_.size());
  read(t, y);
  std::size_t at = 0;
  for (std::size_t k = 0; k < a.wave_parts.size(); ++k) {
    const WavePart& part = a.wave_parts[k];
    const auto n = static_cast<Eigen::Index>(part.near.size());
    Eigen::VectorXd i_near(n), i_far(n), v_near(n), v_far(n);
    line_currents(t, part, k, i_near.data(), i_far.data());
    for (Eigen::Index p = 0; p < n; ++p) {
      v_near[p] = node(part.near[static_cast<std::size_t>(p)]);
      v_far[p] = node(part.far[static_cast<std::size_t>(p)]);
      values_[static_cast<std::size_t>(slot({part.first_near_current.index + static_cast<int>(p)}))] =
          i_near[p];
      values_[static_cast<std::size_t>(slot({part.first_far_current.index + static_cast<int>(p)}))] =
          i_far[p];
    }
    for (const auto& [v, i] : {std::pair{v_near, i_near}, std::pair{v_far, i_far}}) {
      const Eigen::VectorXd vm = part.currents.transpose() * v, im = part.voltages.transpose() * i;
      for (Eigen::Index m = 0; m < n; ++m) {
        const double quarter = part.resistance_ohm[m] / 4, z = part.surge_ohm[m] + quarter;
        kept_[at++].push_back(vm[m] / z + (part.surge_ohm[m] - quarter) / z * im[m]);
      }
    }
  }
  for (std::size_t k = 0; k < core().models.size(); ++k) remember_model(k, t);
  kept_times_.push_back(t);
}

/// Slots that depend on the instant: the equations write them.
void Continuous::remember_model(std::size_t k, double t) {
  ModelRow& row = core().models[k];
  const Model::States states = row.model->states();
  if (states.remembered == 0) return;
  std::vector<double> currents(row.history.size()), slopes(static_cast<std::size_t>(states.count));
  row.model->look_back(RememberedSlots(*this, remembered_at_[k]), t);
  row.model->slopes(row.places, values_.data(), currents.data(), slopes.data());
  const double* slots = &values_[static_cast<std::size_t>(row.places.first + states.first_remembered)];
  for (int s = 0; s < states.remembered; ++s)
    kept_[remembered_at_[k] + static_cast<std::size_t>(s)].push_back(slots[s]);
}

void Continuous::read_lines(double t) {
  const Assembly& a = *compiled_.assembly;
  for (std::size_t k = 0; k < a.wave_parts.size(); ++k) {
    const WavePart& part = a.wave_parts[k];
    std::vector<double> near(part.near.size()), far(part.near.size());
    line_currents(t, part, k, near.data(), far.data());
    for (std::size_t p = 0; p < near.size(); ++p) {
      values_[static_cast<std::size_t>(slot({part.first_near_current.index + static_cast<int>(p)}))] =
          near[p];
      values_[static_cast<std::size_t>(slot({part.first_far_current.index + static_cast<int>(p)}))] = far[p];
    }
  }
}

/// Before the first accepted instant, what the start makes of it.
double Continuous::wave_at(std::size_t line, Eigen::Index mode, int end, double t) const {
  if (kept_times_.empty() || t + same_instant_s < kept_times_.front())
    return core().lines.wave(line, static_cast<int>(mode), end, std::max(0.0, -t / start_step_s));
  std::size_t at = static_cast<std::size_t>(mode);
  for (std::size_t k = 0; k < line; ++k) at += 2 * compiled_.assembly->wave_parts[k].near.size();
  if (end == 1) at += compiled_.assembly->wave_parts[line].near.size();
  return kept_at(at, t);
}

double Continuous::kept_begins_s() const {
  return kept_times_.empty() ? 1e300 : kept_times_.front() - same_instant_s;
}

/// Third-order interpolation between accepted instants.
double Continuous::kept_at(std::size_t series, double t) const {
  const std::vector<double>& kept = kept_[series];
  const auto above = std::upper_bound(kept_times_.begin(), kept_times_.end(), t + same_instant_s);
  if (above == kept_times_.end()) return kept.back();
  const auto k = static_cast<std::size_t>(above - kept_times_.begin());
  // At most two points on either side, all of one smooth stretch.
  const auto stretch = std::upper_bound(kept_from_.begin(), kept_from_.end(), k - 1);
  const std::size_t begins = *(stretch - 1), ends = stretch == kept_from_.end() ? kept.size() : *stretch;
  const std::size_t last = std::min(k + 2, ends),
                    first = std::max(last - std::min<std::size_t>(4, last), begins);
  double sum = 0;
  for (std::size_t i = first; i < last; ++i) {
    double weight = 1;
    for (std::size_t m = first; m < last; ++m) {
      if (m != i) weight *= (t - kept_times_[m]) / (kept_times_[i] - kept_times_[m]);
    }
    sum += weight * kept[i];
  }
  return sum;
}

void Continuous::line_currents(double t, const WavePart& part, std::size_t index, double* near,
                               double* far) const {
  const auto n = static_cast<Eigen::Index>(part.near.size());
  Eigen::VectorXd v_near(n), v_far(n), i_near(n), i_far(n);
  for (Eigen::Index p = 0; p < n; ++p) {
    v_near[p] = node(part.near[static_cast<std::size_t>(p)]);
    v_far[p] = node(part.far[static_cast<std::size_t>(p)]);
  }
  const Eigen::VectorXd vm_near = part.currents.transpose() * v_near,
                        vm_far = part.currents.transpose() * v_far;
  for (Eigen::Index m = 0; m < n; ++m) {
    const double quarter = part.resistance_ohm[m] / 4, z = part.surge_ohm[m] + quarter;
    const double c = (part.surge_ohm[m] - quarter) / z, one = (1 + c) / 2, other = (1 - c) / 2;
    const double past = t - part.travel_s[m];
    const double from_near = wave_at(index, m, 0, past);
    const double from_far = wave_at(index, m, 1, past);
    i_near[m] = vm_near[m] / z - one * from_far - other * from_near;
    i_far[m] = vm_far[m] / z - one * from_near - other * from_far;
  }
  Eigen::Map<Eigen::VectorXd>(near, n) = part.currents * i_near;
  Eigen::Map<Eigen::VectorXd>(far, n) = part.currents * i_far;
}

}  // namespace zavrek::emt::internal
