#include "emt/kinds/equations.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace zavrek::emt::internal {

std::size_t KeptValues::add(std::size_t count) {
  const std::size_t first = series_.size();
  series_.resize(first + count);
  return first;
}

void KeptValues::begin(bool jump) {
  if (jump) smooth_from_.push_back(times_s_.size());
}

double KeptValues::at(std::size_t series, double t) const {
  const std::vector<double>& kept = series_[series];
  const auto above = std::upper_bound(times_s_.begin(), times_s_.end(), t + same_instant_s);
  if (above == times_s_.end()) return kept.back();
  const auto k = static_cast<std::size_t>(above - times_s_.begin());
  // At most two points on either side, all of one smooth stretch.
  const auto stretch = std::upper_bound(smooth_from_.begin(), smooth_from_.end(), k - 1);
  const std::size_t begins = *(stretch - 1), ends = stretch == smooth_from_.end() ? kept.size() : *stretch;
  const std::size_t last = std::min(k + 2, ends),
                    first = std::max(last - std::min<std::size_t>(4, last), begins);
  double sum = 0;
  for (std::size_t i = first; i < last; ++i) {
    double weight = 1;
    for (std::size_t m = first; m < last; ++m) {
      if (m != i) weight *= (t - times_s_[m]) / (times_s_[i] - times_s_[m]);
    }
    sum += weight * kept[i];
  }
  return sum;
}

ContinuousFrame::ContinuousFrame(Core& the_core, const Assembly& the_assembly, const Layout& the_layout)
    : core(the_core),
      assembly(the_assembly),
      layout(the_layout),
      values(the_core.at.present.begin(), the_core.at.present.end()) {
  if (core.sources.hears() || core.lines.hears())
    throw Error(
        "what a partner says is not known ahead of a run: the continuous equations are solved of the whole "
        "network, not of one with a line_end or an imposed_voltage");
  for (const SourceNode& source : core.sources.nodes()) {
    for (const auto& line : core.sources.waveform_of(source).lines(source.phase.angle_rad))
      voltage_scale = std::max(voltage_scale, std::abs(line.amplitude));
  }
  current_scale = std::max(1e-3, voltage_scale / 10);
  for (NodeId n = 1; n < assembly.node_count(); ++n) {
    if (unknown(n) < 0) continue;
    const std::string& name = assembly.node_name(n);
    take(1, name.substr(0, name.rfind('.')), voltage_scale, {});
  }
}

int ContinuousFrame::take(int count, const std::string& owner, double scale, Unknowns what) {
  const int first = size();
  for (int k = 0; k < count; ++k) {
    owners.push_back(owner);
    scales.push_back(scale);
    differential.push_back(what.differential ? 1 : 0);
    bent_.push_back(what.bent ? 1 : 0);
  }
  return first;
}

bool ContinuousFrame::floats(const std::vector<Ends>& ends) const {
  return std::any_of(ends.begin(), ends.end(),
                     [&](const Ends& e) { return unknown(e.p) >= 0 && unknown(e.q) >= 0; });
}

void ContinuousFrame::mark_differential(const Ends& ends) {
  for (const NodeId n : {ends.p, ends.q}) {
    if (unknown(n) >= 0) differential[static_cast<std::size_t>(unknown(n))] = 1;
  }
}

void ContinuousFrame::read_nodes(double t, const double* y) {
  for (const SourceNode& source : core.sources.nodes())
    values[static_cast<std::size_t>(source.position)] = core.sources.value(source, t);
  for (NodeId n = 1; n < assembly.node_count(); ++n) {
    if (unknown(n) >= 0) values[node_position(n)] = y[unknown(n)];
  }
}

double ContinuousFrame::node_slope(NodeId n, const double* dy, double t) const {
  if (unknown(n) >= 0) return dy[unknown(n)];
  if (n == ground_node) return 0;
  constexpr double d = 1e-7;
  for (const SourceNode& source : core.sources.nodes()) {
    if (source.position != static_cast<int>(node_position(n))) continue;
    return (core.sources.value(source, t + d) - core.sources.value(source, t - d)) / (2 * d);
  }
  return 0;
}

void ContinuousFrame::add_current(const Ends& ends, double current, double* f) const {
  if (const int p = unknown(ends.p); p >= 0) f[p] += current;
  if (const int q = unknown(ends.q); q >= 0) f[q] -= current;
}

void ContinuousFrame::add_slope(const Ends& ends, double slope) {
  const auto add = [&](NodeId n, double sign) {
    const int k = unknown(n);
    if (k >= 0 && set_of_[static_cast<std::size_t>(k)] >= 0)
      set_slopes_[static_cast<std::size_t>(set_of_[static_cast<std::size_t>(k)])] += sign * slope;
  };
  add(ends.p, 1);
  add(ends.q, -1);
}

void ContinuousFrame::find_sets(const Held& held, bool replace) {
  const auto nodes = static_cast<std::size_t>(layout.unknowns);
  std::vector<int> parent(nodes + 1);  // the last stands for ground and sources
  std::iota(parent.begin(), parent.end(), 0);
  const auto find = [&](int k) {
    while (parent[static_cast<std::size_t>(k)] != k) k = parent[static_cast<std::size_t>(k)];
    return k;
  };
  const int outside = static_cast<int>(nodes);
  const auto number = [&](NodeId n) { return unknown(n) < 0 ? outside : unknown(n); };
  for (const Ends& ends : held.tied)
    parent[static_cast<std::size_t>(find(number(ends.p)))] = find(number(ends.q));
  std::vector<bool> inductive(nodes + 1, false);
  for (const Ends& ends : held.inductive) {
    for (const NodeId n : {ends.p, ends.q}) inductive[static_cast<std::size_t>(find(number(n)))] = true;
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
}

void ContinuousFrame::clear_slopes() { std::fill(set_slopes_.begin(), set_slopes_.end(), 0.0); }

void ContinuousFrame::put_replaced(double* f) const {
  for (std::size_t k = 0; k < replaced_.size(); ++k) {
    // In the size of currents: a millisecond of them.
    if (replaced_[k] >= 0) f[k] = 1e-3 * set_slopes_[static_cast<std::size_t>(replaced_[k])];
  }
}

}  // namespace zavrek::emt::internal
