// A case as a model that others run: a shared library with a plain C interface, or a Functional Mock-up Unit.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "zavrek/model.hpp"

namespace zavrek::handover {

struct ExportOptions {
  std::string as = "library";        ///< "library", or "fmu"
  std::string fmi = "2.0";           ///< "2.0" or "3.0"
  std::vector<std::string> outputs;  ///< what the bench records when empty, else voltages and currents
  std::filesystem::path blank;       ///< the library that such models are made from: code without a model
  std::filesystem::path out;
};
struct Exported {
  std::filesystem::path file;
  std::uintmax_t bytes = 0;
  std::size_t inputs = 0, parameters = 0, outputs = 0;
  double step_s = 0, step_cost_s = 0;  ///< the median of some thousand steps, here
};
/// Throws Error: what cannot leave the house is named (own code, sources that play records), and whatever the
/// case's files have wrong.
Exported export_model(const std::filesystem::path& folder, const ExportOptions& options);

}  // namespace zavrek::handover
