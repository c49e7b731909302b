// A plant as C: its tables, kind by kind, each followed by the piece of the step that reads it (pieces/),
// then the step, then the interface.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "emt/compile/compile.hpp"
#include "emt/written/places.hpp"
#include "zavrek/emt/written.hpp"

namespace zavrek::emt::internal {

class Writer {
 public:
  Writer(const Compiled& compiled, const WritingOptions& options)
      : compiled_(compiled),
        core_(*compiled.core),
        assembly_(*compiled.assembly),
        options_(options),
        at_(compiled) {}

  [[nodiscard]] WrittenModel run();

 private:
  // --- writer.cpp --------------------------------------------------------------------------------------
  void refuse_what_cannot_be_written() const;
  void write_matrix();
  void write_start();
  void write_inputs(WrittenModel& model);
  void write_outputs();
  void write_control(WrittenModel& model);
  [[nodiscard]] const SignalRow* signal_named(const std::string& name) const;
  [[nodiscard]] const network::WrittenOutput* control_output(const std::string& name) const;
  /// Terms of signals, and where each begins.
  [[nodiscard]] std::string terms_of(const std::string& first, const std::string& term,
                                     const std::vector<std::string>& signals) const;
  void write_dispatch();
  [[nodiscard]] std::string header(const WrittenModel& model) const;
  [[nodiscard]] std::string source() const;
  [[nodiscard]] std::string place_names() const;

  // --- write_linear.cpp --------------------------------------------------------------------------------
  void write_sources();
  void write_series();
  void write_capacitances();
  void write_lines();

  // --- write_laws.cpp -----------------------------------------------------------------------------------
  void write_laws();
  [[nodiscard]] std::string law_row(std::size_t k, std::string& tables, std::size_t& inputs) const;

  // --- write_switching.cpp -------------------------------------------------------------------------------
  void write_poles();
  void write_segments();
  void write_valves();

  void count(const std::string& what, std::size_t number);
  void member(const std::string& text) { members_ += "  " + text + ";\n"; }
  /// A kind's table, its piece; instantiated for n of it where n > 0.
  void section(const std::string& title, const std::string& tables, std::string_view piece,
               std::size_t n = 0);
  [[nodiscard]] std::string points(const std::string& name, const network::Points& points);
  [[nodiscard]] std::vector<int> places_of(const std::vector<Ends>& ends, NodeId Ends::*side) const;

  const Compiled& compiled_;
  const Core& core_;
  const Assembly& assembly_;
  const WritingOptions& options_;
  WrittenPlaces at_;
  std::string counts_, members_, sections_, control_;
  std::vector<std::string> lists_of_parts_;              // series_3, capacitance_1: what has histories
  std::vector<std::string> lists_of_lines_;              // line_3
  std::vector<std::pair<int, int>> capacitor_currents_;  // places (first, count)
};

}  // namespace zavrek::emt::internal
