#pragma once

#include <complex>
#include <string>
#include <vector>

#include "zavrek/emt.hpp"

namespace zavrek::emt {

/// Voltages of a bus with phases, rms to ground.
struct BusFlow {
  std::string bus;
  std::string phases;
  double nominal_V = 0;                     ///< to ground
  std::vector<std::complex<double>> volts;  ///< per phase
  /// Negative over positive sequence; 0 without all three phases or without voltage.
  [[nodiscard]] double unbalance() const;
  /// Between the phases a and b, b and c, c and a; a pair that is not there is left out.
  [[nodiscard]] std::vector<std::pair<std::string, std::complex<double>>> between_phases() const;
};

/// Currents into one end of an element, rms, and the power that they take there.
struct EndFlow {
  std::string element;
  std::string bus;
  std::string phases;
  std::vector<std::complex<double>> amperes;  ///< per phase
  std::complex<double> volt_amperes;          ///< W and var into the element, all phases together
  bool supplies = false;                      ///< its signals count out of it
};

/// The steady state that a plant starts in, as it is read off a one-line diagram.
struct Flow {
  std::vector<BusFlow> buses;
  std::vector<EndFlow> ends;  ///< of an element next to each other
  /// Tap positions: signal and value.
  std::vector<std::pair<std::string, double>> taps;

  /// What the ends of an element take together: its losses where it has two or more.
  [[nodiscard]] std::complex<double> taken_by(const std::string& element) const;
};

/// Of a plant just compiled from that network. An end is known where the element has signals of its phase
/// currents at a bus. All is zero for a network that starts at rest.
[[nodiscard]] Flow flow_of(const network::Network& network, const Plant& plant);

}  // namespace zavrek::emt
