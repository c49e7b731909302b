#include "emt/elements/lines/phase_line_model.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "emt/lines/phase_line_ports.hpp"
#include "emt/parts/discrete.hpp"

namespace zavrek::emt::internal {

PhaseLineModel::PhaseLineModel(PhaseLine line, double step_s, double network_omega)
    : line_(std::move(line)), n_(line_.conductors), step_(step_s), omega_(network_omega) {
  const auto n = static_cast<std::size_t>(n_);
  rows_.divide(filled_up(n_));
  const auto height = static_cast<std::size_t>(rows_.count());
  constant_.assign(n * height, 0.0);
  for (std::size_t k = 0; k < n * n; ++k) constant_[k % n * height + k / n] = line_.admittance.constant[k];
  add_poles(line_.admittance, 1);
  own_poles_ = static_cast<int>(poles_.size());
  own_reals_ = reals_;
  double longest = 0;
  for (const WaveFront& front : line_.fronts) {
    const int first = static_cast<int>(poles_.size());
    add_poles(front.propagation, -1);
    fronts_.push_back({first, static_cast<int>(poles_.size()), front.delay_s, front.delay_s / step_s});
    longest = std::max(longest, fronts_.back().delay_steps);
  }
  direct_ = constant_;
  for (int p = 0; p < own_poles_; ++p) {
    const Pole& pole = poles_[static_cast<std::size_t>(p)];
    const double* columns = &output_[static_cast<std::size_t>(pole.first) * height];
    for (std::size_t k = 0; k < direct_.size(); ++k) {
      direct_[k] += columns[k] * pole.gain.real();
      if (pole.pair) direct_[k] += columns[n * height + k] * pole.gain.imag();
    }
  }
  sent_ = SentWaves(2 * n_, longest);
  for (auto& ahead : ahead_) ahead.resize(static_cast<std::size_t>(reals_));
  for (auto* vector : {&v_, &i_, &own_, &zero_}) vector->assign(height, 0.0);
  arriving_.resize(fronts_.size() * n);
  arrived_.resize(2 * arriving_.size());
}

void PhaseLineModel::add_poles(const MatrixFit& fit, double sign) {
  const double d = step_ / 2;
  const auto n = static_cast<std::size_t>(n_), height = static_cast<std::size_t>(rows_.count());
  for (std::size_t k = 0; k < fit.poles.size(); ++k) {
    const Complex p = fit.poles[k], below = 1.0 - d * p;
    const bool pair = p.imag() != 0;
    poles_.push_back({p, (1.0 + d * p) / below, d / below, 1.0 / below, reals_, pair});
    const double weight = sign * (pair ? 2 : 1);
    for (int part = 0; part < (pair ? 2 : 1); ++part) {
      const auto first = static_cast<std::size_t>(reals_);
      reals_ += n_;
      output_.resize(static_cast<std::size_t>(reals_) * height, 0.0);
      for (std::size_t j = 0; j < n; ++j) {
        for (std::size_t r = 0; r < n; ++r) {
          const Complex residue = fit.residues[k][r * n + j];
          output_[(first + j) * height + r] = weight * (part == 0 ? residue.real() : -residue.imag());
        }
      }
    }
  }
}

double PhaseLineModel::largest_step_s() const {
  const std::vector<double> times = travel_times_s();
  return *std::min_element(times.begin(), times.end());
}

std::vector<double> PhaseLineModel::travel_times_s() const {
  std::vector<double> times;
  for (const Front& front : fronts_) times.push_back(front.delay_s);
  return times;
}

Eigen::MatrixXd PhaseLineModel::conductance(double) const {
  Eigen::MatrixXd g = Eigen::MatrixXd::Zero(2 * n_, 2 * n_);
  for (int r = 0; r < n_; ++r) {
    for (int c = 0; c < n_; ++c) {
      const auto at = [&](int row, int column) {
        return direct_[static_cast<std::size_t>(column * rows_.count() + row)];
      };
      g(r, c) = g(n_ + r, n_ + c) = (at(r, c) + at(c, r)) / 2;
    }
  }
  return g;
}

PhaseLineModel::Complex PhaseLineModel::delay(const Front& front, double omega) const {
  const double whole = std::floor(front.delay_steps), share = front.delay_steps - whole;
  return (1 - share) * std::polar(1.0, -omega * step_ * whole) +
         share * std::polar(1.0, -omega * step_ * (whole + 1));
}

Eigen::MatrixXcd PhaseLineModel::admittance(Complex s, double omega) const {
  Eigen::MatrixXcd h = Eigen::MatrixXcd::Zero(n_, n_);
  for (std::size_t f = 0; f < fronts_.size(); ++f) h += front_of(line_, f, s) * delay(fronts_[f], omega);
  const LinePorts ports = ports_of(admittance_of(line_, s), h);
  Eigen::MatrixXcd y(2 * n_, 2 * n_);
  y.topLeftCorner(n_, n_) = y.bottomRightCorner(n_, n_) = (ports.same + ports.opposed) / 2.0;
  y.topRightCorner(n_, n_) = y.bottomLeftCorner(n_, n_) = (ports.same - ports.opposed) / 2.0;
  return y;
}

void PhaseLineModel::start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i,
                           double step_s, double* values) {
  const Complex s = discrete_derivative(omega_, step_s);
  double* slots = values + places.first;
  for (int k = 0; k < 2 * n_; ++k) slots[k] = i[k].real();
  const Eigen::MatrixXcd yc = admittance_of(line_, s);
  Eigen::VectorXcd left[2];
  for (int end = 0; end < 2; ++end) {
    left[end] = i.segment(end * n_, n_);
    for (int r = 0; r < n_; ++r) {
      for (int c = 0; c < n_; ++c) left[end][r] += yc(r, c) * v[end * n_ + c];
    }
    for (int k = 0; k < n_; ++k) {
      slots[sent_slot() + end * n_ + k] = left[end][k].real();
      sent_.fill(end * n_ + k, left[end][k], omega_, step_s);
    }
  }
  // A state's share of a phasor; of a pair both members turn, so that their sum's real part is what counts.
  const auto fill = [&](const Pole& pole, int end, int k, Complex input) {
    const Complex forward = input / (s - pole.pole), backward = std::conj(input) / (std::conj(s) - pole.pole);
    const Complex x = (forward + backward) / 2.0;
    double* state = slots + state_slot() + end * reals_ + pole.first + k;
    *state = x.real();
    if (pole.pair) state[n_] = x.imag();
  };
  for (int end = 0; end < 2; ++end) {
    for (int k = 0; k < n_; ++k) {
      for (int p = 0; p < own_poles_; ++p) fill(poles_[static_cast<std::size_t>(p)], end, k, v[end * n_ + k]);
      for (const Front& front : fronts_) {
        for (int p = front.first_pole; p < front.end_pole; ++p)
          fill(poles_[static_cast<std::size_t>(p)], end, k, left[1 - end][k] * delay(front, omega_));
      }
    }
  }
}

std::optional<WrittenLaw> PhaseLineModel::law(double) const {
  if (n_ > most_written_conductors) return std::nullopt;
  WrittenLaw law{.kind = "phase_line",
                 .numbers = {{"conductors", static_cast<double>(n_)},
                             {"reals", static_cast<double>(reals_)},
                             {"own_poles", static_cast<double>(own_poles_)},
                             {"own_reals", static_cast<double>(own_reals_)},
                             {"poles", static_cast<double>(poles_.size())},
                             {"fronts", static_cast<double>(fronts_.size())},
                             {"length", static_cast<double>(sent_.length())}},
                 .memory = sent_.memory(),
                 .shares = "fitted_lines"};
  law.memory.resize(law.memory.size() + static_cast<std::size_t>(2 * reals_), 0.0);
  std::vector<double> a_re, a_im, c_re, c_im, e_re, e_im, first, pair, end_pole, wave_delay;
  for (const Pole& pole : poles_) {
    a_re.push_back(pole.advance.real());
    a_im.push_back(pole.advance.imag());
    c_re.push_back(pole.gain.real());
    c_im.push_back(pole.gain.imag());
    e_re.push_back(pole.euler.real());
    e_im.push_back(pole.euler.imag());
    first.push_back(pole.first);
    pair.push_back(pole.pair ? 1 : 0);
  }
  for (const Front& front : fronts_) {
    end_pole.push_back(front.end_pole);
    wave_delay.push_back(front.delay_steps);
  }
  // Columns without what fills up their lanes.
  const auto columns = [&](const std::vector<double>& filled) {
    const auto height = static_cast<std::size_t>(rows_.count()), n = static_cast<std::size_t>(n_);
    std::vector<double> all;
    for (std::size_t at = 0; at < filled.size(); at += height)
      all.insert(all.end(), filled.begin() + static_cast<std::ptrdiff_t>(at),
                 filled.begin() + static_cast<std::ptrdiff_t>(at + n));
    return all;
  };
  law.lists = {{"a_re", a_re},
               {"a_im", a_im},
               {"c_re", c_re},
               {"c_im", c_im},
               {"e_re", e_re},
               {"e_im", e_im},
               {"first", first},
               {"pair", pair},
               {"end_pole", end_pole},
               {"delay", wave_delay},
               {"output", columns(output_)},
               {"constant", columns(constant_)},
               {"direct", columns(direct_)}};
  return law;
}

void PhaseLineModel::read_voltages(const Places& places, const double* values, int end,
                                   double* into) const noexcept {
  for (int k = 0; k < n_; ++k) {
    const auto at = static_cast<std::size_t>(end * n_ + k);
    into[k] = values[places.p[at]] - values[places.q[at]];
  }
}

void PhaseLineModel::read_arriving(int end, double time_steps, double* into) const noexcept {
  for (const Front& front : fronts_) {
    for (int k = 0; k < n_; ++k) *into++ = sent_.at((1 - end) * n_ + k, time_steps - front.delay_steps);
  }
}

void PhaseLineModel::advance(const Interval& stretch, int end, const double* states, const double* v0,
                             double* ahead) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  const int n = n_;
  const auto go_on = [&](const Pole& pole, const double* input) {
    const Complex a = whole ? pole.advance : pole.euler;
    const double* x = states + pole.first;
    double* out = ahead + pole.first;
    if (!pole.pair) {
      for (int k = 0; k < n; ++k) out[k] = a.real() * x[k] + pole.gain.real() * input[k];
      return;
    }
    for (int k = 0; k < n; ++k) {
      out[k] = a.real() * x[k] - a.imag() * x[n + k] + pole.gain.real() * input[k];
      out[n + k] = a.imag() * x[k] + a.real() * x[n + k] + pole.gain.imag() * input[k];
    }
  };
  for (int p = 0; p < own_poles_; ++p) go_on(poles_[static_cast<std::size_t>(p)], whole ? v0 : zero_.data());
  read_arriving(end, stretch.until_s / step_, arriving_.data());
  if (whole) {
    read_arriving(end, (stretch.until_s - stretch.length_s()) / step_, arrived_.data());
    for (std::size_t k = 0; k < arriving_.size(); ++k) arriving_[k] += arrived_[k];
  }
  const double* arrives = arriving_.data();
  for (const Front& front : fronts_) {
    for (int p = front.first_pole; p < front.end_pole; ++p)
      go_on(poles_[static_cast<std::size_t>(p)], arrives);
    arrives += n;
  }
}

bool PhaseLineModel::begin(const Interval& stretch, const Places& places, const double* old, double* history,
                           double*) noexcept {
  sent_.begin(stretch, old + places.first + sent_slot());
  for (int end = 0; end < 2; ++end) {
    double* ahead = ahead_[end].data();
    read_voltages(places, old, end, v_.data());
    advance(stretch, end, old + places.first + state_slot() + end * reals_, v_.data(), ahead);
    rows_.multiply(output_.data(), zero_.data(), ahead, reals_, i_.data());
    std::copy_n(i_.data(), n_, history + end * n_);
  }
  return false;
}

void PhaseLineModel::end(const Interval& stretch, const Places& places, const double* /*old*/, double* now,
                         const double* history, const double*) noexcept {
  double* slots = now + places.first;
  for (int end = 0; end < 2; ++end) {
    double* ahead = ahead_[end].data();
    read_voltages(places, now, end, v_.data());
    for (int p = 0; p < own_poles_; ++p) {
      const Pole& pole = poles_[static_cast<std::size_t>(p)];
      for (int k = 0; k < n_; ++k)
        ahead[pole.first + k] += pole.gain.real() * v_[static_cast<std::size_t>(k)];
      if (!pole.pair) continue;
      for (int k = 0; k < n_; ++k)
        ahead[pole.first + n_ + k] += pole.gain.imag() * v_[static_cast<std::size_t>(k)];
    }
    std::copy_n(ahead, reals_, slots + state_slot() + end * reals_);
    rows_.multiply(direct_.data(), zero_.data(), v_.data(), n_, i_.data());
    for (int k = 0; k < n_; ++k)
      slots[end * n_ + k] = i_[static_cast<std::size_t>(k)] + history[end * n_ + k];
    // w = Yc v + i
    rows_.multiply(constant_.data(), zero_.data(), v_.data(), n_, own_.data());
    rows_.multiply(output_.data(), own_.data(), ahead, own_reals_, i_.data());
    for (int k = 0; k < n_; ++k)
      slots[sent_slot() + end * n_ + k] = i_[static_cast<std::size_t>(k)] + slots[end * n_ + k];
  }
  sent_.end(stretch, slots + sent_slot());
}

void PhaseLineModel::look_back(const Past& before, double time_s) noexcept {
  double* into = arrived_.data();
  for (int end = 0; end < 2; ++end) {
    for (const Front& front : fronts_) {
      const double left_at = time_s - front.delay_s;
      for (int k = 0; k < n_; ++k) {
        *into++ = left_at < before.begins_s() ? sent_.at((1 - end) * n_ + k, left_at / step_)
                                              : before.at((1 - end) * n_ + k, left_at);
      }
    }
  }
}

/// dx/dt = p x + u for each pole and conductor.
void PhaseLineModel::slopes(const Places& places, double* values, double* currents, double* slopes) noexcept {
  double* slots = values + places.first;
  const double* arrives = arrived_.data();
  for (int end = 0; end < 2; ++end) {
    const double* states = slots + state_slot() + end * reals_;
    double* const rates = slopes + end * reals_;
    read_voltages(places, values, end, v_.data());
    const auto rate = [&](const Pole& pole, const double* input) {
      const double *x = states + pole.first, re = pole.pole.real(), im = pole.pole.imag();
      double* out = rates + pole.first;
      for (int k = 0; k < n_; ++k) {
        out[k] = re * x[k] + input[k] - (pole.pair ? im * x[n_ + k] : 0);
        if (pole.pair) out[n_ + k] = im * x[k] + re * x[n_ + k];
      }
    };
    for (int p = 0; p < own_poles_; ++p) rate(poles_[static_cast<std::size_t>(p)], v_.data());
    for (const Front& front : fronts_) {
      for (int p = front.first_pole; p < front.end_pole; ++p)
        rate(poles_[static_cast<std::size_t>(p)], arrives);
      arrives += n_;
    }
    rows_.multiply(constant_.data(), zero_.data(), v_.data(), n_, i_.data());
    rows_.multiply(output_.data(), i_.data(), states, own_reals_, own_.data());
    rows_.multiply(&output_[static_cast<std::size_t>(own_reals_ * rows_.count())], own_.data(),
                   states + own_reals_, reals_ - own_reals_, i_.data());
    for (int k = 0; k < n_; ++k) {
      const auto at = static_cast<std::size_t>(k);
      currents[end * n_ + k] = slots[end * n_ + k] = i_[at];
      slots[sent_slot() + end * n_ + k] = own_[at] + i_[at];
    }
  }
}

}  // namespace zavrek::emt::internal
