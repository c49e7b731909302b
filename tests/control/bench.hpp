#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/control.hpp"
#include "zavrek/error.hpp"

namespace zavrek::control::test {

/// A controller over fixed or moving signals.
struct Bench {
  Description description;
  std::map<std::string, double> signals;
  std::unique_ptr<Controller> c{};
  long long tick = 0;

  template <class Kind>
  Kind& add(const std::string& name) {
    Kind& block = description.blocks.emplace_back().emplace<Kind>();
    block.name = name;
    return block;
  }
  void start(double period_s, const OwnMaker& own = {}) {
    description.period_s = period_s;
    std::vector<std::string> names;
    for (const auto& [name, value] : signals) names.push_back(name);
    c = std::make_unique<Controller>(description, names, own);
  }
  void run(int count = 1) {
    for (; count > 0; --count, ++tick) {
      std::vector<double> values;
      for (const std::string& name : c->reads()) values.push_back(signals.at(name));
      c->run(tick, values);
    }
  }
  double operator[](const std::string& name) const {
    for (std::size_t k = 0; k < c->outputs().size(); ++k) {
      if (c->outputs()[k] == name) return c->output(k);
    }
    throw Error("no output " + name);
  }
  std::string refusal_of_ready() {
    try {
      start(1e-3);
    } catch (const Error& error) {
      return error.what();
    }
    return "none";
  }
};

}  // namespace zavrek::control::test
