#include <filesystem>

#include <fmt/format.h>

#include "tool/json.hpp"
#include "tool/verbs.hpp"
#include "zavrek/handover.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::tool {
namespace {

/// Beside the tool where it was built, or where it was installed.
std::filesystem::path blank_library() {
  const std::filesystem::path own = std::filesystem::read_symlink("/proc/self/exe").parent_path();
  for (const char* const at : {"zavrek-model.so", ZAVREK_BLANK}) {
    if (std::filesystem::exists(own / at)) return own / at;
  }
  throw Error(fmt::format("{} is not there, from which models are made; build or install it with the tool",
                          (own / "zavrek-model.so").string()));
}

}  // namespace

int export_case(const ExportOptions& options) {
  handover::ExportOptions how{.as = options.as,
                              .fmi = options.fmi,
                              .outputs = options.outputs,
                              .trial = options.trial,
                              .without_control = options.without_control};
  if (options.as != "c") how.blank = blank_library();
  std::string name = std::filesystem::path(options.folder).lexically_normal().filename().string();
  if (name.empty() || name == "." || name == "..") name = "model";
  const std::string ending = options.as == "fmu" ? ".fmu" : options.as == "c" ? ".c" : ".so";
  how.out = std::filesystem::path(options.out.empty() ? name + ending : options.out);
  const handover::Exported made = handover::export_model(options.folder, how);
  const bool compiled = made.header.empty();
  if (options.json) {
    nlohmann::json told{{"file", made.file.string()},    {"bytes", made.bytes},     {"inputs", made.inputs},
                        {"parameters", made.parameters}, {"outputs", made.outputs}, {"step_s", made.step_s}};
    if (compiled)
      told["step_cost_s"] = made.step_cost_s;
    else
      told["header"] = made.header.string();
    fmt::print("{}\n", printed("export", told));
    return done;
  }
  if (!compiled) {
    fmt::print("{} and {}: {} inputs, {} outputs, a step of {}; it wants a C99 compiler and libm\n",
               made.file.string(), made.header.string(), made.inputs, made.outputs,
               print_rounded(made.step_s, "s"));
    return done;
  }
  fmt::print("{}: {:.1f} MB, {} inputs, {} parameters, {} outputs; a step of {} took {} here\n",
             made.file.string(), static_cast<double>(made.bytes) / 1e6, made.inputs, made.parameters,
             made.outputs, print_rounded(made.step_s, "s"), print_rounded(made.step_cost_s, "s", 3));
  if (options.as == "library")
    fmt::print("its interface: zavrek/model.h; its variables: zavrek_model_manifest()\n");
  return done;
}

}  // namespace zavrek::tool
