#include "handover/fmu_description.hpp"

#include <array>
#include <set>
#include <sstream>

#include <fmt/format.h>
#include <pugixml.hpp>

#include "zavrek/quantity.hpp"

namespace zavrek::handover::internal {
namespace {

/// The few elements and attributes in which the two versions differ.
class Description {
 public:
  Description(const Described& what, const std::string& version)
      : what_(what), third_(version == "3.0"), root_(document_.append_child("fmiModelDescription")) {
    root_.append_attribute("fmiVersion") = version.c_str();
    root_.append_attribute("modelName") = what.name.c_str();
    root_.append_attribute(third_ ? "instantiationToken" : "guid") = what.token.c_str();
    root_.append_attribute("generationTool") = "Zavrek";
    root_.append_attribute("variableNamingConvention") = "flat";
  }

  std::string written() {
    add_abilities();
    add_units();
    add_experiment();
    variables_ = root_.append_child("ModelVariables");
    add_time();
    unsigned reference = 1;
    for (const auto& [list, causality] : {std::pair{&what_.model.inputs(), "input"},
                                          {&what_.model.parameters(), "parameter"},
                                          {&what_.model.outputs(), "output"}}) {
      for (const model::Variable& one : *list) add(one, reference++, causality);
    }
    add_structure();
    std::ostringstream text;
    document_.save(text, "  ");
    return text.str();
  }

 private:
  void add_abilities() {
    pugi::xml_node node = root_.append_child("CoSimulation");
    node.append_attribute("modelIdentifier") = what_.identifier.c_str();
    node.append_attribute("canHandleVariableCommunicationStepSize") = true;
    node.append_attribute(third_ ? "canGetAndSetFMUState" : "canGetAndSetFMUstate") = true;
    node.append_attribute(third_ ? "canSerializeFMUState" : "canSerializeFMUstate") = true;
    if (third_)
      node.append_attribute("fixedInternalStepSize") = fmt::format("{}", what_.model.step_s()).c_str();
  }
  /// In SI base units, as exponents.
  void add_units() {
    std::set<std::string> units;
    for (const auto* list : {&what_.model.inputs(), &what_.model.parameters(), &what_.model.outputs()}) {
      for (const model::Variable& one : *list) {
        if (!one.unit.empty()) units.insert(one.unit);
      }
    }
    if (units.empty()) return;
    constexpr std::array bases{"m", "kg", "s", "A", "K", "rad"};
    pugi::xml_node all = root_.append_child("UnitDefinitions");
    for (const std::string& name : units) {
      pugi::xml_node unit = all.append_child("Unit");
      unit.append_attribute("name") = name.c_str();
      pugi::xml_node base = unit.append_child("BaseUnit");
      const Dimension dimension = parse_unit(name).dimension;
      for (std::size_t k = 0; k < bases.size(); ++k) {
        if (dimension.exponents[k] != 0) base.append_attribute(bases[k]) = dimension.exponents[k];
      }
    }
  }
  void add_experiment() {
    pugi::xml_node node = root_.append_child("DefaultExperiment");
    node.append_attribute("startTime") = "0";
    node.append_attribute("stepSize") = fmt::format("{}", what_.model.step_s()).c_str();
  }
  void add_time() {
    pugi::xml_node node = variable("time", 0, "independent", "continuous", true);
    typed(node, true).append_attribute("unit") = "s";
    if (!root_.child("UnitDefinitions").find_child_by_attribute("name", "s")) {
      pugi::xml_node all = root_.child("UnitDefinitions");
      if (!all) all = root_.insert_child_before("UnitDefinitions", root_.child("DefaultExperiment"));
      pugi::xml_node unit = all.append_child("Unit");
      unit.append_attribute("name") = "s";
      unit.append_child("BaseUnit").append_attribute("s") = 1;
    }
  }
  void add(const model::Variable& one, unsigned reference, const std::string& causality) {
    const bool shows = causality == "output", tunable = causality == "parameter";
    const bool number = !one.is_switch;
    pugi::xml_node node = variable(one.name, reference, causality.c_str(),
                                   tunable  ? "tunable"
                                   : number ? "continuous"
                                            : "discrete",
                                   number);
    if (tunable) node.append_attribute("initial") = "exact";
    pugi::xml_node type = typed(node, number);
    if (number && !one.unit.empty()) type.append_attribute("unit") = one.unit.c_str();
    if (number && one.least > -1e299) type.append_attribute("min") = fmt::format("{}", one.least).c_str();
    if (number && one.most < 1e299) type.append_attribute("max") = fmt::format("{}", one.most).c_str();
    if (!shows)
      type.append_attribute("start") = number            ? fmt::format("{}", one.start).c_str()
                                       : one.start > 0.5 ? "true"
                                                         : "false";
  }
  pugi::xml_node variable(const std::string& name, unsigned reference, const char* causality,
                          const char* variability, bool number) {
    pugi::xml_node node = variables_.append_child(!third_  ? "ScalarVariable"
                                                  : number ? "Float64"
                                                           : "Boolean");
    node.append_attribute("name") = name.c_str();
    node.append_attribute("valueReference") = reference;
    node.append_attribute("causality") = causality;
    node.append_attribute("variability") = variability;
    return node;
  }
  /// Where the attributes of the type stand: an element within in 2.0, the variable's own in 3.0.
  pugi::xml_node typed(pugi::xml_node node, bool number) {
    return third_ ? node : node.append_child(number ? "Real" : "Boolean");
  }
  /// Outputs by index in 2.0, by value reference in 3.0. All are known at once: no output jumps with an
  /// input.
  void add_structure() {
    pugi::xml_node structure = root_.append_child("ModelStructure");
    const std::size_t ahead = what_.model.inputs().size() + what_.model.parameters().size();
    std::vector<std::size_t> references;
    for (std::size_t k = 0; k < what_.model.outputs().size(); ++k) references.push_back(1 + ahead + k);
    if (third_) {
      for (const std::size_t reference : references)
        structure.append_child("Output").append_attribute("valueReference") =
            static_cast<unsigned>(reference);
      return;
    }
    for (const char* const group : {"Outputs", "InitialUnknowns"}) {
      if (references.empty()) break;
      pugi::xml_node list = structure.append_child(group);
      for (const std::size_t reference : references)
        list.append_child("Unknown").append_attribute("index") = static_cast<unsigned>(reference + 1);
    }
  }

  const Described& what_;
  bool third_;
  pugi::xml_document document_;
  pugi::xml_node root_, variables_;
};

}  // namespace

std::string fmu_description(const Described& what, const std::string& version) {
  return Description(what, version).written();
}

}  // namespace zavrek::handover::internal
