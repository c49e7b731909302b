// Stepping a plant and reading it by name.
#pragma once

#include <complex>
#include <string>

#include <gtest/gtest.h>

#include "zavrek/emt.hpp"

namespace zavrek::emt {

inline double value(const Plant& plant, const std::string& name) { return plant.value(plant.signal(name)); }

inline std::complex<double> phasor(const Plant& plant, const std::string& name) {
  return plant.phasor(plant.signal(name));
}

inline void run(Plant& plant, double seconds) {
  const double until = plant.time_s() + seconds;
  while (plant.time_s() < until) ASSERT_EQ(plant.step(), Status::running) << plant.culprit();
}

/// What an Error thrown by `call` says; "no error" when it throws none.
template <class Call>
std::string message_of(Call&& call) {
  try {
    call();
  } catch (const Error& error) {
    return error.what();
  }
  return "no error";
}

}  // namespace zavrek::emt
