// What blocks give: its meaning, and its unit from what they read.
#include <algorithm>
#include <cctype>
#include <cmath>
#include <map>
#include <utility>

#include "zavrek/control.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {
namespace {

/// "kW" is shown in W, "rpm" in rad/s; "" for what is none.
std::string in_si(const std::string& unit) {
  if (unit.empty()) return {};
  Unit given;
  try {
    given = parse_unit(unit);
  } catch (const Error&) {
    return {};
  }
  if (given.dimension == Dimension{}) return {};
  if (given.scale == 1) return unit;
  std::vector<std::string> others{unit.substr(1), "rad/s", "rad", "s", "kg", "m"};
  for (const std::string& other : others) {
    try {
      const Unit base = parse_unit(other);
      if (base.scale == 1 && base.dimension == given.dimension) return other;
    } catch (const Error&) {
    }
  }
  return {};
}

class UnitsOf {
 public:
  UnitsOf(const Description& description, const std::vector<std::string>& outputs,
          const std::function<std::string(const std::string&)>& of_signal)
      : of_signal_(of_signal) {
    const Description all = expand(description);
    std::map<std::string, const Block*> blocks;
    for (const Block& block : all.blocks) blocks[name_of(block)] = &block;
    for (const std::string& name : outputs) units_[name];
    // First what follows from units that are all known; then, where something is wired in a circle through a
    // delay or has none, from those that are.
    constexpr int most_passes = 50;
    for (const bool all_known : {true, false}) {
      all_known_ = all_known;
      bool is_new = true;
      for (int pass = 0; pass < most_passes && std::exchange(is_new, false); ++pass) {
        for (auto& [name, unit] : units_) {
          if (!unit.empty()) continue;
          unit = found(name, blocks);
          is_new = is_new || !unit.empty();
        }
      }
    }
  }
  [[nodiscard]] const std::string& of_output(const std::string& name) const { return units_.at(name); }

 private:
  static bool is_number(const std::string& wire) {
    const std::size_t at = wire.starts_with('-') ? 1 : 0;
    return wire.size() == at || std::isdigit(static_cast<unsigned char>(wire[at])) != 0 || wire[at] == '.';
  }
  /// Of an output, as far as it is known, of a signal, or of a number.
  std::string of(const std::string& wire) {
    if (is_number(wire)) return {};
    const std::string name = wire.starts_with('-') ? wire.substr(1) : wire;
    const auto known = units_.find(name);
    return known != units_.end() ? known->second : of_signal_(name);
  }
  std::string found(const std::string& name, const std::map<std::string, const Block*>& blocks) {
    if (const auto whole = blocks.find(name); whole != blocks.end()) return of_block(*whole->second, "");
    const std::size_t dot = name.rfind('.');
    const auto block = blocks.find(name.substr(0, dot == std::string::npos ? 0 : dot));
    return block == blocks.end() ? std::string() : of_block(*block->second, name.substr(dot + 1));
  }
  std::string of_block(const Block& block, const std::string& part) {
    return std::visit(
        [&](const auto& b) {
          if (!b.unit.empty()) return in_si(b.unit);
          return deduced(b, part);
        },
        block);
  }
  std::string same_of_all(const std::vector<std::string>& wires) {
    std::string unit;
    for (const std::string& wire : wires) {
      if (is_number(wire)) continue;
      const std::string one = of(wire);
      if (one.empty() && all_known_) return {};
      if (!unit.empty() && !one.empty() && one != unit) return {};
      if (unit.empty()) unit = one;
    }
    return unit;
  }

  // What each kind gives; what has no line gives a plain number, or one that nobody knows.
  template <class Kind>
  std::string deduced(const Kind& /*block*/, const std::string& /*part*/) {
    return {};
  }
  std::string deduced(const Sum& b, const std::string&) {
    return std::abs(b.gain) == 1 ? same_of_all(b.inputs) : std::string();
  }
  std::string deduced(const LowPass& b, const std::string&) { return of(b.input); }
  std::string deduced(const Limiter& b, const std::string&) { return of(b.input); }
  std::string deduced(const Delay& b, const std::string&) { return of(b.input); }
  std::string deduced(const Sensor& b, const std::string&) { return of(b.input); }
  std::string deduced(const Rms& b, const std::string&) { return of(b.input); }
  std::string deduced(const Select& b, const std::string&) { return same_of_all({b.then, b.otherwise}); }
  std::string deduced(const ToDq& b, const std::string&) { return of(b.a); }
  std::string deduced(const FromDq& b, const std::string&) { return of(b.d); }
  std::string deduced(const ToAlphaBeta& b, const std::string&) { return of(b.a); }
  std::string deduced(const FromAlphaBeta& b, const std::string&) { return of(b.alpha); }
  std::string deduced(const Separation& b, const std::string&) { return of(b.a); }
  std::string deduced(const Rotor&, const std::string&) { return "rad"; }
  std::string deduced(const Power&, const std::string& part) { return part == "q" ? "var" : "W"; }
  std::string deduced(const PhaseLock& b, const std::string& part) { return of_lock(part, b.a); }
  std::string deduced(const IntegratorLock& b, const std::string& part) { return of_lock(part, b.input); }
  std::string deduced(const PowerTracker&, const std::string& part) { return part == "power" ? "W" : "V"; }
  std::string deduced(const Plan& b, const std::string& part) {
    return part.empty() ? same_of_all({b.input, b.otherwise}) : std::string();
  }
  std::string deduced(const LoadShedding&, const std::string& part) { return part == "kept" ? "W" : ""; }
  std::string deduced(const Synchroniser&, const std::string& part) {
    return part == "angle" ? "rad" : part == "slip" ? "Hz" : "";
  }
  std::string deduced(const Vehicle&, const std::string& part) {
    if (part.empty()) return "m/s";
    if (part == "distance") return "m";
    if (part == "acceleration") return "m/s2";
    return part.ends_with("_speed") ? "rad/s" : "";
  }
  std::string of_lock(const std::string& part, const std::string& input) {
    if (part.empty() || part == "angle") return "rad";
    return part == "frequency" ? "Hz" : of(input);
  }

  const std::function<std::string(const std::string&)>& of_signal_;
  std::map<std::string, std::string> units_;
  bool all_known_ = true;
};

}  // namespace

std::string meaning_of(const Description& expanded, std::string_view output) {
  const auto meaning = [&](std::string_view name, std::string_view behind) {
    std::string found;
    for (const Block& block : expanded.blocks) {
      if (name_of(block) == name)
        found = std::visit(
            [&](const auto& b) {
              const std::string doc = table(&b).meaning_of(behind);
              return doc.empty() ? doc : table(&b).kind + ": " + doc;
            },
            block);
    }
    return found;
  };
  if (std::string whole = meaning(output, ""); !whole.empty()) return whole;
  const std::size_t dot = output.rfind('.');
  return dot == std::string_view::npos ? "" : meaning(output.substr(0, dot), output.substr(dot + 1));
}

std::vector<std::string> output_units(const Description& description, const std::vector<std::string>& outputs,
                                      const std::function<std::string(const std::string&)>& of_signal) {
  const UnitsOf units(description, outputs, of_signal);
  std::vector<std::string> all;
  for (const std::string& output : outputs) all.push_back(units.of_output(output));
  return all;
}

}  // namespace zavrek::control
