// A case as a model that others run: a shared library with a plain C interface, a Functional Mock-up Unit, or
// C99 source; or one half of it, with the other half elsewhere.
#pragma once

#include <array>
#include <filesystem>
#include <string>
#include <vector>

#include "zavrek/model.hpp"

namespace zavrek::handover {

struct ExportOptions {
  std::string as = "library";        ///< "library", "fmu" or "c"
  std::string fmi = "2.0";           ///< "2.0" or "3.0"
  std::vector<std::string> outputs;  ///< what the bench records when empty, else voltages and currents
  std::filesystem::path blank;       ///< the library that such models are made from: code without a model
  std::string trial;                 ///< of "c": whose faults are switches of the model, "fault" and on
  bool without_control = false;      ///< of "c": the network alone, gates and knobs being set from outside
  std::filesystem::path out;         ///< of "c" the source, beside which its header stands
};
struct Exported {
  std::filesystem::path file, header;  ///< `header` of "c" alone
  std::uintmax_t bytes = 0;
  std::size_t inputs = 0, parameters = 0, outputs = 0;
  double step_s = 0, step_cost_s = 0;  ///< the median of some thousand steps, here
};
/// Throws Error: what cannot leave the house is named (own code, sources that play records; of "c" what
/// emt::write_c names), and whatever the case's files have wrong. `step_cost_s` of "c" is 0: it
/// is not compiled here.
Exported export_model(const std::filesystem::path& folder, const ExportOptions& options);

struct SplitOptions {
  std::string at;  ///< a line; or a bus and the elements at it that the far half gets, "quay: Q1 Q2"
  std::array<std::string, 2> names{"near", "far"};
  int delay = 1;  ///< steps from what one half says to the step that it enters in the other
  std::filesystem::path out;
};
struct Halves {
  std::array<std::filesystem::path, 2> folders;
  std::vector<std::string> left_out;  ///< what names things of both halves, and stands in neither
  std::string judged;                 ///< of a bus: whether the loop through the cut is stable
};
/// A case in two, each with the other as its partner. Throws Error where it hangs together elsewhere than at
/// the cut.
Halves split_case(const std::filesystem::path& folder, const SplitOptions& options);

}  // namespace zavrek::handover
