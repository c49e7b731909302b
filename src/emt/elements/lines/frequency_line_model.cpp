#include "emt/elements/lines/frequency_line_model.hpp"

#include <algorithm>
#include <cmath>

#include "emt/parts/discrete.hpp"

namespace zavrek::emt::internal {

FrequencyLineModel::FrequencyLineModel(FrequencyLine line, double step_s, double network_omega)
    : line_(std::move(line)), n_(line_.phases), step_(step_s), omega_(network_omega) {
  double longest = 0;
  for (const FittedMode& fitted : line_.modes) {
    Mode mode;
    mode.constant = mode.direct = fitted.admittance.constant;
    mode.admittance = function_of(fitted.admittance, step_s);
    mode.propagation = function_of(fitted.propagation, step_s);
    for (const Fraction& f : mode.admittance.fractions) mode.direct += f.weight * f.gain.real();
    mode.delay_steps = fitted.delay_s / step_s;
    longest = std::max(longest, mode.delay_steps);
    modes_.push_back(std::move(mode));
  }
  sent_ = SentWaves(2 * n_, longest);
  modal_history_.resize(static_cast<std::size_t>(2 * n_));
  arriving_.resize(modal_history_.size());
  before_.resize(modal_history_.size());
  behind_.resize(modal_history_.size());
}

FrequencyLineModel::Function FrequencyLineModel::function_of(const RationalFit& fit, double step_s) {
  Function f;
  f.first = states_;
  const double d = step_s / 2;
  for (std::size_t k = 0; k < fit.poles.size(); ++k) {
    const Complex p = fit.poles[k], below = 1.0 - d * p;
    f.fractions.push_back(
        {(1.0 + d * p) / below, d * fit.residues[k] / below, 1.0 / below, p.imag() == 0 ? 1.0 : 2.0});
  }
  states_ += static_cast<int>(fit.poles.size());
  return f;
}

Eigen::MatrixXd FrequencyLineModel::conductance(double) const {
  Eigen::MatrixXd g = Eigen::MatrixXd::Zero(2 * n_, 2 * n_);
  for (int r = 0; r < n_; ++r) {
    for (int c = 0; c < n_; ++c) {
      double sum = 0;
      for (int m = 0; m < n_; ++m) {
        sum += line_.currents[static_cast<std::size_t>(r * n_ + m)] *
               modes_[static_cast<std::size_t>(m)].direct *
               line_.currents[static_cast<std::size_t>(c * n_ + m)];
      }
      g(r, c) = g(n_ + r, n_ + c) = sum;
    }
  }
  return g;
}

/// The two-port of the discrete model: I_near = Yc (1 + H^2)/(1 - H^2) V_near - 2 H Yc/(1 - H^2) V_far.
Eigen::MatrixXcd FrequencyLineModel::admittance(Complex s, double omega) const {
  Eigen::VectorXcd self(n_), mutual(n_);
  for (int m = 0; m < n_; ++m) {
    const FittedMode& fitted = line_.modes[static_cast<std::size_t>(m)];
    const double steps = modes_[static_cast<std::size_t>(m)].delay_steps, whole = std::floor(steps);
    const Complex delay = (1 - (steps - whole)) * std::polar(1.0, -omega * step_ * whole) +
                          (steps - whole) * std::polar(1.0, -omega * step_ * (whole + 1));
    const Complex h = fitted.propagation(s) * delay, y = fitted.admittance(s);
    self[m] = y * (1.0 + h * h) / (1.0 - h * h);
    mutual[m] = -2.0 * h * y / (1.0 - h * h);
  }
  using Map = Eigen::Map<const Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>>;
  const Eigen::MatrixXcd t = Map(line_.currents.data(), n_, n_).cast<Complex>();
  Eigen::MatrixXcd y(2 * n_, 2 * n_);
  y.topLeftCorner(n_, n_) = y.bottomRightCorner(n_, n_) = t * self.asDiagonal() * t.transpose();
  y.topRightCorner(n_, n_) = y.bottomLeftCorner(n_, n_) = t * mutual.asDiagonal() * t.transpose();
  return y;
}

double FrequencyLineModel::modal(const std::vector<double>& transform, const double* phases,
                                 int mode) const noexcept {
  double sum = 0;
  for (int k = 0; k < n_; ++k) sum += transform[static_cast<std::size_t>(k * n_ + mode)] * phases[k];
  return sum;
}

void FrequencyLineModel::start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i,
                               double step_s, double* values) {
  const Complex s = discrete_derivative(omega_, step_s);
  double* slots = values + places.first;
  for (int k = 0; k < 2 * n_; ++k) slots[k] = i[k].real();
  for (int m = 0; m < n_; ++m) {
    const Mode& mode = modes_[static_cast<std::size_t>(m)];
    const FittedMode& fitted = line_.modes[static_cast<std::size_t>(m)];
    Complex vm[2], sent[2];
    for (int end = 0; end < 2; ++end) {
      Complex im = 0;
      vm[end] = 0;
      for (int k = 0; k < n_; ++k) {
        vm[end] += line_.currents[static_cast<std::size_t>(k * n_ + m)] * v[end * n_ + k];
        im += line_.voltages[static_cast<std::size_t>(k * n_ + m)] * i[end * n_ + k];
      }
      sent[end] = fitted.admittance(s) * vm[end] + im;
      slots[sent_slot() + end * n_ + m] = sent[end].real();
      sent_.fill(end * n_ + m, sent[end], omega_, step_s);
    }
    const double steps = mode.delay_steps, whole = std::floor(steps);
    const Complex delay = (1 - (steps - whole)) * std::polar(1.0, -omega_ * step_s * whole) +
                          (steps - whole) * std::polar(1.0, -omega_ * step_s * (whole + 1));
    // A state's share of a phasor; of a pair both members turn, so that their sum's real part is what counts.
    const auto fill = [&](const Function& f, const RationalFit& fit, int end, Complex input) {
      for (std::size_t k = 0; k < f.fractions.size(); ++k) {
        const Complex forward = fit.residues[k] / (s - fit.poles[k]) * input;
        const Complex backward = fit.residues[k] / (std::conj(s) - fit.poles[k]) * std::conj(input);
        const Complex x = (forward + backward) / 2.0;
        slots[slot_of(f, end, k)] = x.real();
        slots[slot_of(f, end, k) + 1] = x.imag();
      }
    };
    for (int end = 0; end < 2; ++end) {
      fill(mode.admittance, fitted.admittance, end, vm[end]);
      fill(mode.propagation, fitted.propagation, end, sent[1 - end] * delay);
    }
  }
}

std::optional<WrittenLaw> FrequencyLineModel::law(double) const {
  if (n_ > most_written_conductors) return std::nullopt;
  WrittenLaw law{.kind = "frequency_line",
                 .numbers = {{"phases", static_cast<double>(n_)},
                             {"states", static_cast<double>(states_)},
                             {"length", static_cast<double>(sent_.length())}},
                 .memory = sent_.memory(),
                 .shares = "fitted_lines"};
  std::vector<double> constant, delay, first, a_re, a_im, c_re, c_im, e_re, e_im, weight;
  for (const Mode& mode : modes_) {
    constant.push_back(mode.constant);
    delay.push_back(mode.delay_steps);
    for (const Function* f : {&mode.admittance, &mode.propagation}) {
      first.push_back(f->first);
      for (const Fraction& one : f->fractions) {
        a_re.push_back(one.advance.real());
        a_im.push_back(one.advance.imag());
        c_re.push_back(one.gain.real());
        c_im.push_back(one.gain.imag());
        e_re.push_back(one.euler.real());
        e_im.push_back(one.euler.imag());
        weight.push_back(one.weight);
      }
    }
  }
  first.push_back(states_);
  law.lists = {{"currents", line_.currents},
               {"constant", constant},
               {"delay", delay},
               {"first", first},
               {"a_re", a_re},
               {"a_im", a_im},
               {"c_re", c_re},
               {"c_im", c_im},
               {"e_re", e_re},
               {"e_im", e_im},
               {"weight", weight}};
  return law;
}

void FrequencyLineModel::read_voltages(const Places& places, const double* values,
                                       std::vector<double>& into) const noexcept {
  for (std::size_t k = 0; k < into.size(); ++k) into[k] = values[places.p[k]] - values[places.q[k]];
}

bool FrequencyLineModel::begin(const Interval& stretch, const Places& places, const double* old,
                               double* history, double*) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  sent_.begin(stretch, old + places.first + sent_slot());
  const double* slots = old + places.first;
  read_voltages(places, old, before_);
  for (int end = 0; end < 2; ++end) {
    for (int m = 0; m < n_; ++m) {
      const Mode& mode = modes_[static_cast<std::size_t>(m)];
      const double v0 = modal(line_.currents, &before_[static_cast<std::size_t>(end * n_)], m);
      double j = 0;
      for (std::size_t k = 0; k < mode.admittance.fractions.size(); ++k) {
        const Fraction& f = mode.admittance.fractions[k];
        const int at = slot_of(mode.admittance, end, k);
        const Complex x0(slots[at], slots[at + 1]);
        j += f.weight * (whole ? f.advance * x0 + f.gain * v0 : f.euler * x0).real();
      }
      const double u1 = sent_.at((1 - end) * n_ + m, stretch.until_s / step_ - mode.delay_steps);
      const double u0 =
          sent_.at((1 - end) * n_ + m, (stretch.until_s - stretch.length_s()) / step_ - mode.delay_steps);
      for (std::size_t k = 0; k < mode.propagation.fractions.size(); ++k) {
        const Fraction& f = mode.propagation.fractions[k];
        const int at = slot_of(mode.propagation, end, k);
        const Complex x0(slots[at], slots[at + 1]);
        j -= f.weight * (whole ? f.advance * x0 + f.gain * (u1 + u0) : f.euler * x0 + f.gain * u1).real();
      }
      modal_history_[static_cast<std::size_t>(end * n_ + m)] = j;
    }
    for (int k = 0; k < n_; ++k) {
      history[end * n_ + k] = 0;
      for (int m = 0; m < n_; ++m) {
        history[end * n_ + k] += line_.currents[static_cast<std::size_t>(k * n_ + m)] *
                                 modal_history_[static_cast<std::size_t>(end * n_ + m)];
      }
    }
  }
  return false;
}

void FrequencyLineModel::end(const Interval& stretch, const Places& places, const double* old, double* now,
                             const double*, const double*) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  const double* before = old + places.first;
  double* slots = now + places.first;
  read_voltages(places, old, before_);
  read_voltages(places, now, behind_);
  std::fill_n(slots, 2 * n_, 0.0);
  for (int end = 0; end < 2; ++end) {
    const double* const v0 = &before_[static_cast<std::size_t>(end * n_)];
    const double* const v1 = &behind_[static_cast<std::size_t>(end * n_)];
    for (int m = 0; m < n_; ++m) {
      const Mode& mode = modes_[static_cast<std::size_t>(m)];
      const double vm0 = modal(line_.currents, v0, m), vm1 = modal(line_.currents, v1, m);
      const auto advance = [&](const Function& f, double u0, double u1) {
        double sum = 0;
        for (std::size_t k = 0; k < f.fractions.size(); ++k) {
          const Fraction& part = f.fractions[k];
          const int at = slot_of(f, end, k);
          const Complex x0(before[at], before[at + 1]);
          const Complex x1 =
              whole ? part.advance * x0 + part.gain * (u1 + u0) : part.euler * x0 + part.gain * u1;
          slots[at] = x1.real();
          slots[at + 1] = x1.imag();
          sum += part.weight * x1.real();
        }
        return sum;
      };
      const double forced = mode.constant * vm1 + advance(mode.admittance, vm0, vm1);  // Yc * v
      const double u1 = sent_.at((1 - end) * n_ + m, stretch.until_s / step_ - mode.delay_steps);
      const double u0 =
          sent_.at((1 - end) * n_ + m, (stretch.until_s - stretch.length_s()) / step_ - mode.delay_steps);
      const double current = forced - advance(mode.propagation, u0, u1);
      slots[sent_slot() + end * n_ + m] = forced + current;
      for (int k = 0; k < n_; ++k)
        slots[end * n_ + k] += line_.currents[static_cast<std::size_t>(k * n_ + m)] * current;
    }
  }
  sent_.end(stretch, slots + sent_slot());
}

void FrequencyLineModel::look_back(const Past& before, double time_s) noexcept {
  for (int end = 0; end < 2; ++end) {
    for (int m = 0; m < n_; ++m) {
      const double left_at = time_s - line_.modes[static_cast<std::size_t>(m)].delay_s;
      arriving_[static_cast<std::size_t>(end * n_ + m)] = left_at < before.begins_s()
                                                              ? sent_.at((1 - end) * n_ + m, left_at / step_)
                                                              : before.at((1 - end) * n_ + m, left_at);
    }
  }
}

/// dx/dt = p x + r u for each partial fraction.
void FrequencyLineModel::slopes(const Places& places, double* values, double* currents,
                                double* slopes) noexcept {
  double* slots = values + places.first;
  std::fill(currents, currents + 2 * n_, 0.0);
  read_voltages(places, values, before_);
  for (int end = 0; end < 2; ++end) {
    const double* const v = &before_[static_cast<std::size_t>(end * n_)];
    for (int m = 0; m < n_; ++m) {
      const Mode& mode = modes_[static_cast<std::size_t>(m)];
      const FittedMode& fitted = line_.modes[static_cast<std::size_t>(m)];
      const auto sum_up = [&](const Function& f, const RationalFit& fit, double u) {
        double sum = 0;
        for (std::size_t k = 0; k < f.fractions.size(); ++k) {
          const int at = slot_of(f, end, k);
          const Complex x(slots[at], slots[at + 1]), slope = fit.poles[k] * x + fit.residues[k] * u;
          slopes[at - state_slot()] = slope.real();
          slopes[at - state_slot() + 1] = slope.imag();
          sum += f.fractions[k].weight * x.real();
        }
        return sum;
      };
      const double vm = modal(line_.currents, v, m);
      const double forced = mode.constant * vm + sum_up(mode.admittance, fitted.admittance, vm);
      const double arrived = arriving_[static_cast<std::size_t>(end * n_ + m)];
      const double current = forced - sum_up(mode.propagation, fitted.propagation, arrived);
      slots[sent_slot() + end * n_ + m] = forced + current;
      for (int k = 0; k < n_; ++k)
        currents[end * n_ + k] += line_.currents[static_cast<std::size_t>(k * n_ + m)] * current;
    }
  }
  std::copy(currents, currents + 2 * n_, slots);
}

}  // namespace zavrek::emt::internal
