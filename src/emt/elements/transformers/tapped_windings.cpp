#include "emt/elements/transformers/tapped_windings.hpp"
#include "emt/solve/dense.hpp"

#include <algorithm>
#include <cmath>

#include <Eigen/Core>

namespace zavrek::emt::internal {
namespace {

/// Inverts a symmetric positive definite row-major matrix in place (Gauss-Jordan without pivots).
void invert(double* a, int n) noexcept {
  for (int k = 0; k < n; ++k) {
    const double pivot = 1 / a[k * n + k];
    a[k * n + k] = 1;
    for (int c = 0; c < n; ++c) a[k * n + c] *= pivot;
    for (int r = 0; r < n; ++r) {
      if (r == k) continue;
      const double factor = a[r * n + k];
      a[r * n + k] = 0;
      for (int c = 0; c < n; ++c) a[r * n + c] -= factor * a[k * n + c];
    }
  }
}

constexpr double smoothing_s = 0.05;  // of the mean square that the control sees
constexpr double blind_s = 1e-3;      // behind a move

}  // namespace

TappedWindings::TappedWindings(Eigen::MatrixXd resistance, Eigen::MatrixXd inductance,
                               std::vector<int> tapped, std::vector<int> measured, double step, int lowest,
                               int highest, int position, TapControl control, Slot knob)
    : n_(static_cast<int>(resistance.rows())),
      resistance_(std::move(resistance)),
      inductance_(std::move(inductance)),
      tapped_(std::move(tapped)),
      measured_(std::move(measured)),
      step_(step),
      lowest_(lowest),
      highest_(highest),
      control_(control),
      knob_(knob),
      position_(position),
      scratch_(static_cast<std::size_t>(n_ * n_)) {}

Eigen::MatrixXd TappedWindings::inductance_at(double position) const {
  Eigen::VectorXd turns = Eigen::VectorXd::Ones(n_);
  for (const int winding : tapped_) turns[winding] = 1 + step_ * position;
  return turns.asDiagonal() * inductance_ * turns.asDiagonal();
}

Eigen::MatrixXd TappedWindings::conductance(double step_s) const {
  return inverse(Eigen::MatrixXd(resistance_ + 2 / step_s * inductance_at(position_)));
}

std::optional<WrittenLaw> TappedWindings::law(double) const {
  Eigen::VectorXd has_taps = Eigen::VectorXd::Zero(n_), is_measured = has_taps;
  for (const int winding : tapped_) has_taps[winding] = 1;
  for (const int winding : measured_) is_measured[winding] = 1;
  std::vector<double> memory(static_cast<std::size_t>(1 + n_ * n_), 0.0);
  memory[0] = held_;
  return WrittenLaw{.kind = "tapped_" + std::to_string(n_),
                    .numbers = {{"step", step_},
                                {"lowest", static_cast<double>(lowest_)},
                                {"highest", static_cast<double>(highest_)},
                                {"target", control_.target_V},
                                {"band", control_.band_V},
                                {"delay", control_.delay_s},
                                {"travel", control_.travel_s},
                                {"drop_ohm", control_.drop_ohm},
                                {"drop_H", control_.drop_H},
                                {"raise_lifts", control_.raise_lifts ? 1.0 : 0.0},
                                {"measured_count", static_cast<double>(measured_.size())}},
                    .arrays = {{"has_taps", has_taps}, {"is_measured", is_measured}},
                    .matrices = {{"resistance", resistance_}, {"inductance", inductance_}},
                    .memory = std::move(memory),
                    .varies = true,
                    .jumps = true,
                    .leaps = true};
}

Eigen::MatrixXcd TappedWindings::admittance(std::complex<double> s, double) const {
  const Eigen::MatrixXcd z = resistance_.cast<std::complex<double>>() + s * inductance_at(position_);
  return inverse(z);
}

/// One position towards the band, until it is reached.
bool TappedWindings::revise(const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double omega) {
  if (!regulated()) return false;
  double square = 0;
  for (const int k : measured_) {
    const auto drop = std::complex<double>(control_.drop_ohm, omega * control_.drop_H) * -i[k];
    square += std::norm(v[k] - drop) / 2 / static_cast<double>(measured_.size());
  }
  const double excess = std::sqrt(square) - control_.target_V;
  if (std::abs(excess) <= control_.band_V / 2) return false;
  const int way = (excess < 0) == control_.raise_lifts ? 1 : -1;
  const double wanted = std::clamp<double>(position_ + way, lowest_, highest_);
  const bool moved = wanted != position_;
  position_ = wanted;
  return moved;
}

void TappedWindings::start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double,
                           double* values) {
  const double knob = values[places.knobs[0]];
  if (v.norm() == 0) position_ = std::clamp<double>(knob, lowest_, highest_);
  const Eigen::VectorXd current = i.real();
  const Eigen::VectorXd flux = inductance_at(position_) * current;
  double* slots = values + places.first;
  double square = 0;
  for (int k = 0; k < n_; ++k) {
    slots[k] = current[k];
    slots[n_ + k] = flux[k];
  }
  for (const int k : measured_) square += std::norm(v[k]) / 2 / static_cast<double>(measured_.size());
  values[places.knobs[0]] = position_;
  write({square, position_, 0, position_, 0}, places, values);
}

TappedWindings::Control TappedWindings::control_of(const double* values,
                                                   const Places& places) const noexcept {
  const double* slots = values + places.first + 2 * n_;
  return {slots[0], slots[1], slots[2], slots[3], slots[4]};
}

void TappedWindings::write(const Control& control, const Places& places, double* values) const noexcept {
  double* slots = values + places.first + 2 * n_;
  slots[0] = control.square;
  slots[1] = control.position;
  slots[2] = control.outside_s;
  slots[3] = control.knob;
  slots[4] = control.blind_s;
}

/// Where it stands, or what its knob was turned to since.
double TappedWindings::position_by(const Control& control, double knob) const noexcept {
  return knob != control.knob ? std::clamp<double>(std::round(knob), lowest_, highest_) : control.position;
}

/// Position after `length_s` more at that mean square: what the knob was turned to, or a move of the control.
/// Whether it changed.
bool TappedWindings::move(Control& control, double knob, double length_s) const noexcept {
  const double before = control.position;
  control.position = position_by(control, knob);
  control.knob = knob;
  if (regulated()) regulate(control, length_s);
  const bool moved = control.position != before;
  control.blind_s = moved ? blind_s : std::max(0.0, control.blind_s - length_s);
  return moved;
}

void TappedWindings::regulate(Control& control, double length_s) const noexcept {
  const double excess = std::sqrt(std::max(0.0, control.square)) - control_.target_V;
  control.outside_s = std::abs(excess) <= control_.band_V / 2 ? 0 : control.outside_s + length_s;
  if (control.outside_s > 0 && control.outside_s >= control_.delay_s) {
    const int way = (excess < 0) == control_.raise_lifts ? 1 : -1;
    control.position = std::clamp<double>(control.position + way, lowest_, highest_);
    control.outside_s = control_.delay_s - control_.travel_s;
  }
}

bool TappedWindings::act(const Places& places, double time_s, double* values) noexcept {
  Control control = control_of(values, places);
  const bool moved = move(control, values[places.knobs[0]], time_s - acted_s_);
  acted_s_ = time_s;
  write(control, places, values);
  return moved;
}

void TappedWindings::slopes(const Places& places, double* values, double* currents, double* slopes) noexcept {
  double* slots = values + places.first;
  const double change = 1 + step_ * slots[position_slot()];
  const auto turns = [&](int k) {
    return std::find(tapped_.begin(), tapped_.end(), k) == tapped_.end() ? 1.0 : change;
  };
  double* l = scratch_.data();
  for (int r = 0; r < n_; ++r) {
    for (int c = 0; c < n_; ++c) l[r * n_ + c] = inductance_(r, c) * turns(r) * turns(c);
  }
  invert(l, n_);
  for (int r = 0; r < n_; ++r) {
    currents[r] = 0;
    for (int c = 0; c < n_; ++c) currents[r] += l[r * n_ + c] * slots[n_ + c];
    slots[r] = currents[r];
  }
  for (int r = 0; r < n_; ++r) {
    slopes[r] = values[places.p[static_cast<std::size_t>(r)]] - values[places.q[static_cast<std::size_t>(r)]];
    for (int c = 0; c < n_; ++c) slopes[r] -= resistance_(r, c) * currents[c];
  }
  if (!regulated()) return;
  double square = 0;
  for (const int k : measured_) {
    const auto at = static_cast<std::size_t>(k);
    double rise = 0;  // of the current
    for (int c = 0; c < n_; ++c) rise += l[k * n_ + c] * slopes[c];
    const double v = values[places.p[at]] - values[places.q[at]] + control_.drop_ohm * currents[k] +
                     control_.drop_H * rise;
    square += v * v / static_cast<double>(measured_.size());
  }
  const Control control = control_of(values, places);
  slopes[n_] = control.blind_s > 0 ? 0 : (square - control.square) / smoothing_s;
}

void TappedWindings::put_conductance(double position, double step_s, double* conductance) noexcept {
  held_ = position;
  const double change = 1 + step_ * position;
  const auto turns = [&](int k) {
    return std::find(tapped_.begin(), tapped_.end(), k) == tapped_.end() ? 1.0 : change;
  };
  for (int r = 0; r < n_; ++r) {
    for (int c = 0; c < n_; ++c)
      conductance[r * n_ + c] = resistance_(r, c) + 2 / step_s * inductance_(r, c) * turns(r) * turns(c);
  }
  invert(conductance, n_);
}

bool TappedWindings::begin(const Interval& stretch, const Places& places, const double* old, double* history,
                           double* conductance) noexcept {
  const double* slots = old + places.first;
  const double position = std::round(position_by(control_of(old, places), old[places.knobs[0]]));
  const bool moved = position != held_;
  if (moved) put_conductance(position, stretch.step_s, conductance);
  const bool whole = stretch.rule == Rule::trapezoidal;
  for (int k = 0; k < n_; ++k) {
    double drive = slots[n_ + k] * 2 / stretch.step_s;
    if (whole) {
      drive += old[places.p[static_cast<std::size_t>(k)]] - old[places.q[static_cast<std::size_t>(k)]];
      for (int m = 0; m < n_; ++m) drive -= resistance_(k, m) * slots[m];
    }
    scratch_[static_cast<std::size_t>(k)] = drive;
  }
  for (int k = 0; k < n_; ++k) {
    history[k] = 0;
    for (int m = 0; m < n_; ++m)
      history[k] += conductance[k * n_ + m] * scratch_[static_cast<std::size_t>(m)];
  }
  return moved;
}

void TappedWindings::end(const Interval& stretch, const Places& places, const double* old, double* now,
                         const double* history, const double* conductance) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  const auto across = [&](const double* values, int k) {
    return values[places.p[static_cast<std::size_t>(k)]] - values[places.q[static_cast<std::size_t>(k)]];
  };
  double* slots = now + places.first;
  const double* before = old + places.first;
  for (int k = 0; k < n_; ++k) {
    slots[k] = history[k];
    for (int m = 0; m < n_; ++m) slots[k] += conductance[k * n_ + m] * across(now, m);
  }
  const double d = stretch.step_s / 2;
  for (int k = 0; k < n_; ++k) {
    double sum = across(now, k) + (whole ? across(old, k) : 0);
    for (int m = 0; m < n_; ++m) sum -= resistance_(k, m) * (slots[m] + (whole ? before[m] : 0));
    slots[n_ + k] = before[n_ + k] + d * sum;
  }
  stretch.beyond ? write(control_of(old, places), places, now) : control(stretch, places, old, now);
}

/// What the control sees, and does, at the end of the stretch.
void TappedWindings::control(const Interval& stretch, const Places& places, const double* old,
                             double* now) noexcept {
  const double length = stretch.length_s();
  Control after = control_of(old, places);
  double square = 0;
  for (const int k : measured_) {
    const auto at = static_cast<std::size_t>(k);
    const double into = -now[places.first + k], earlier = -old[places.first + k];
    const double drop = control_.drop_ohm * into + control_.drop_H * (into - earlier) / length;
    const double v = now[places.p[at]] - now[places.q[at]] - drop;
    square += v * v / static_cast<double>(measured_.size());
  }
  if (after.blind_s <= 0) after.square += (square - after.square) * length / smoothing_s;
  (void)move(after, old[places.knobs[0]], length);
  write(after, places, now);
}

}  // namespace zavrek::emt::internal
