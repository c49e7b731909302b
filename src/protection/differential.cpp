// Percentage differential.
//
//   place e   i_e = M(hour_e) I_e / rated_e; M turns by the hour and takes zero sequence out where it is
//   earthed operate   |sum i_e| > threshold(R), R = sum |i_e| / 2 (or that sum, or the largest), per phase;
//   unrestrained above its own level blocked   by the second or fifth harmonic's share of the differential
//   current
//
// M of hour h: rows of I/3 for even hours without zero sequence (2 -1 -1), of 1/sqrt3 (1 -1 0) for odd ones,
// shifted by the hour; even hours where zero sequence may pass are permutations (IEC 60076-1 clock figures).
#include "protection/function.hpp"

#include <numbers>

namespace zavrek::protection {

namespace {

/// Turns the phases of a place by its hour back onto those of the first.
Matching matching(int hour, bool earthed) {
  Matching m{};
  const double root = 1 / std::numbers::sqrt3;
  for (std::size_t row = 0; row < 3; ++row) {
    const auto at = [&](int column) -> double& {
      return m[row][(row + static_cast<std::size_t>(((column % 3) + 3) % 3)) % 3];
    };
    // The second winding lags by 30 deg an hour; a lag of h is undone by a lead of h: four hours are a phase
    // on, six an inversion.
    switch (hour % 12) {
      case 0:
        at(0) = 1;
        break;
      case 1:
        at(0) = root, at(1) = -root;
        break;
      case 2:
        at(1) = -1;
        break;
      case 3:
        at(2) = root, at(1) = -root;
        break;
      case 4:
        at(2) = 1;
        break;
      case 5:
        at(2) = root, at(0) = -root;
        break;
      case 6:
        at(0) = -1;
        break;
      case 7:
        at(1) = root, at(0) = -root;
        break;
      case 8:
        at(1) = 1;
        break;
      case 9:
        at(1) = root, at(2) = -root;
        break;
      case 10:
        at(2) = -1;
        break;
      default:
        at(0) = root, at(2) = -root;
        break;
    }
  }
  if (earthed && hour % 2 == 0) {
    for (auto& row : m) {
      const double mean = (row[0] + row[1] + row[2]) / 3;
      for (double& value : row) value -= mean;
    }
  }
  return m;
}

class PercentageDifferential : public DelayedFunction {
 public:
  PercentageDifferential(const Differential& settings, double current_scale)
      : settings_(settings),
        largest_(settings.restraint == "largest"),
        share_(settings.restraint == "sum" ? 1 : 0.5),
        all_phases_(settings.blocks == "all phases") {
    for (std::size_t e = 0; e < settings.rated_currents.size(); ++e)
      matching_.push_back(matching_of(settings, e, current_scale));
  }

  void run(const Inputs& in, std::span<char> own) noexcept override {
    std::array<Phasor, 3> sum{}, second{}, fifth{};
    std::array<double, 3> restraint{};
    for (std::size_t e = 0; e < matching_.size(); ++e) {
      const End& end = in.measured.ends[e];
      for (std::size_t k = 0; k < 3; ++k) {
        const Phasor i = row(e, k, end.current);
        sum[k] += i;
        restraint[k] = largest_ ? std::max(restraint[k], size_of(i)) : restraint[k] + share_ * size_of(i);
        second[k] += row(e, k, end.second);
        fifth[k] += row(e, k, end.fifth);
      }
    }
    std::array<bool, 3> held{}, over{};
    bool any_held = false, high = false;
    for (std::size_t k = 0; k < 3; ++k) {
      const double size = size_of(sum[k]);
      const double factor = over_before_[k] ? 0.95 : 1;
      over[k] = size > factor * settings_.threshold(restraint[k]);
      held[k] = over[k] && (exceeds(second[k], settings_.second_harmonic, size) ||
                            exceeds(fifth[k], settings_.fifth_harmonic, size));
      any_held = any_held || held[k];
      high = high || (network::is_set(settings_.unrestrained) && size > settings_.unrestrained);
    }
    bool operates = false;
    for (std::size_t k = 0; k < 3; ++k) {
      over_before_[k] = over[k] && !(all_phases_ ? any_held : held[k]);
      operates = operates || over_before_[k];
    }
    const bool delayed = wait(travel_, operates, settings_.delay_s, in.dt_s);
    own[0] = operates || high ? 1 : 0;
    own[1] = delayed || high ? 1 : 0;
    own[2] = any_held ? 1 : 0;
  }
  void rest() noexcept override {
    over_before_ = {};
    DelayedFunction::rest();
  }
  void visit_state(StateArchive& archive) override {
    DelayedFunction::visit_state(archive);
    archive(over_before_);
  }

 private:
  template <std::size_t n>
  [[nodiscard]] Phasor row(std::size_t e, std::size_t k, const std::array<Phasor, n>& phases) const noexcept {
    const auto& m = matching_[e][k];
    return m[0] * phases[0] + m[1] * phases[1] + m[2] * phases[2];
  }
  [[nodiscard]] static bool exceeds(const Phasor& harmonic, double share, double fundamental) noexcept {
    return network::is_set(share) && std::abs(harmonic) > share * fundamental;
  }

  Differential settings_;
  bool largest_;  // of the currents restrains, not their sum
  double share_;  // of the sum
  bool all_phases_;
  std::vector<Matching> matching_;
  std::array<bool, 3> over_before_{};
};

}  // namespace

double Differential::threshold(double restrained) const {
  if (restrained <= knee) return std::max(pickup, slope * restrained);
  return std::max(pickup, slope * knee) + second_slope * (restrained - knee);
}

std::unique_ptr<Function> make_function(const Differential& settings, const Surroundings& around) {
  return std::make_unique<PercentageDifferential>(settings, around.relay.current_scale());
}

Matching matching_of(const Differential& settings, std::size_t place, double current_scale) {
  const int hour = place < settings.hours.size() ? std::stoi(settings.hours[place]) : 0;
  const bool earthed = place < settings.earthed.size() && settings.earthed[place] == "yes";
  Matching m = matching(hour, earthed);
  const double rated = parse_quantity_as(settings.rated_currents[place], "A") * current_scale;
  for (auto& row : m) {
    for (double& value : row) value /= rated;
  }
  return m;
}

}  // namespace zavrek::protection
