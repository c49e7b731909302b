#include "emt/reference/continuous.hpp"

#include <algorithm>

#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {

Continuous::Continuous(const network::Network& network)
    : network_(network),
      compiled_(compile_parts(network_, continuous_start_step_s)),
      frame_(*compiled_.core, *compiled_.assembly, compiled_.layout) {
  for (const PartKind* kind : part_kinds()) {
    if (auto equations = kind->equations(frame_)) equations_.push_back(std::move(equations));
  }
}

void Continuous::arrange(bool replace) {
  ContinuousFrame::Held held;
  for (const auto& equations : equations_) equations->hold(held);
  frame_.find_sets(held, replace);
}

void Continuous::start(double* y) const {
  std::fill(y, y + size(), 0.0);
  for (NodeId n = 1; n < frame_.assembly.node_count(); ++n) {
    if (frame_.unknown(n) >= 0) y[frame_.unknown(n)] = frame_.node(n);
  }
  for (const auto& equations : equations_) equations->start(y);
}

void Continuous::residual(double t, const double* y, const double* dy, double* f) {
  read(t, y);
  std::fill(f, f + size(), 0.0);
  frame_.clear_slopes();
  for (const auto& equations : equations_) equations->residual(t, y, dy, f);
  frame_.put_replaced(f);
}

void Continuous::read(double t, const double* y) {
  frame_.read_nodes(t, y);
  for (const auto& equations : equations_) equations->read(t, y);
}

void Continuous::read_rest(double t) {
  for (const auto& equations : equations_) equations->read_rest(t);
}

bool Continuous::fit_valves(double t, const double* y) {
  read(t, y);
  return core().valves.fit(frame_.values.data(), [](std::size_t) {});
}

double Continuous::pole_voltage(const Pole& pole, const double* y) const {
  const auto voltage = [&](int position) {
    const std::vector<int>& unknown = frame_.layout.unknown;
    const auto at = static_cast<std::size_t>(position);
    const int k = at < unknown.size() ? unknown[at] : -1;
    return k >= 0 ? y[k] : frame_.values[at];
  };
  return voltage(pole.p) - voltage(pole.q);
}

bool Continuous::act(double t, const double* y) {
  read(t, y);
  bool changed = false;
  for (const auto& equations : equations_) changed = equations->act(t) || changed;
  return changed;
}

void Continuous::keep(double t, const double* y, bool jump) {
  if (frame_.kept.empty()) return;
  frame_.kept.begin(jump);
  read(t, y);
  for (const auto& equations : equations_) equations->keep(t);
  frame_.kept.end(t);
}

double Continuous::shortest_travel_s() const {
  std::vector<double> all{1e300};
  for (const auto& equations : equations_) equations->add_travel_times(all);
  return *std::min_element(all.begin(), all.end());
}

std::vector<double> Continuous::jumps_arrive_s() const {
  std::vector<double> all;
  for (const auto& equations : equations_) equations->add_jump_arrivals(all);
  return all;
}

}  // namespace zavrek::emt::internal
