// Stepping a plant and reading it by name.
#pragma once

#include <string>

#include <gtest/gtest.h>

#include "zavrek/emt.hpp"

namespace zavrek::emt {

inline double value(const Plant& plant, const std::string& name) { return plant.value(plant.signal(name)); }

inline void run(Plant& plant, double seconds) {
  const double until = plant.time_s() + seconds;
  while (plant.time_s() < until) ASSERT_EQ(plant.step(), Status::running) << plant.culprit();
}

}  // namespace zavrek::emt
