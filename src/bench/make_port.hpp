// What each kind of port in the registry gives, specialised in its source.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "zavrek/bench/port.hpp"

namespace zavrek::bench::internal {

/// What a port may want to know of the run that it is made for.
struct RunPlan {
  const Setup& setup;
  std::string place;  ///< of every device, when not empty
};

/// Null for one that carries nothing in this run.
template <class Kind>
[[nodiscard]] std::unique_ptr<Port> make_port(const Kind& settings, const RunPlan& plan);

/// The ports of a bench as its file has them, those of its devices, and, where somebody elsewhere reads what
/// this process knows, the message that tells it.
[[nodiscard]] std::vector<std::unique_ptr<Port>> make_ports(const RunPlan& plan);
/// What they own, for those who only look names up.
void declare_ports(const Setup& setup, Exchange& exchange);

/// What is wrong with a bench, each with its place.
struct Flaws {
  const Setup& setup;
  std::vector<Flaw> found;

  void report(std::string place, std::string field, std::string text);
  void need_one_of(const std::string& place, const std::string& field, const std::string& name,
                   const std::vector<std::string>& known, std::string_view what);
  /// A point: a switch, an output, a contact; with a dot, it may be a signal too, which shows when a run is
  /// made.
  void need_point(const std::string& place, const std::string& field, const std::string& name);
  /// Something that opens and closes; with a dot, it may be a gate or a knob, which shows when a run is made.
  void need_operable(const std::string& place, const std::string& field, const std::string& name);
  /// "WHAT: OUTPUT"
  void need_commands(const std::string& place, const std::string& field,
                     const std::vector<std::string>& texts, const std::vector<std::string>& outputs);
  /// A hardware address, or nothing.
  void need_address(const std::string& place, const std::string& field, const std::string& text);
  template <class... Kinds>
  [[nodiscard]] std::vector<std::string> elements_of() const {
    std::vector<std::string> names;
    for (const auto& element : setup.network.elements) {
      if ((std::holds_alternative<Kinds>(element) || ...)) names.push_back(network::name_of(element));
    }
    return names;
  }
};

template <class Kind>
void check(const Kind& settings, Flaws& flaws);

}  // namespace zavrek::bench::internal
