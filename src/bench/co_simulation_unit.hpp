// Units of the Functional Mock-up Interface as code of a user's own.
#pragma once

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/control.hpp"

namespace zavrek::bench::internal {

/// What a variable's calls are named after. A state is a number that is 0 or 1.
struct UnitVariable {
  std::string name, causality, type;  // type: as it stands in the description
  unsigned reference = 0;
};

/// What modelDescription.xml says, as far as it is wanted here.
struct UnitDescription {
  std::string version, token, identifier;
  std::vector<UnitVariable> variables;
  [[nodiscard]] bool third() const { return version == "3.0"; }
};
/// Of modelDescription.xml. Throws Error for what is no unit for co-simulation.
[[nodiscard]] UnitDescription read_unit_description(const std::string& text);

/// A folder for the files of a unit while it runs.
class UnitFolder {
 public:
  UnitFolder();
  UnitFolder(const UnitFolder&) = delete;
  UnitFolder& operator=(const UnitFolder&) = delete;
  ~UnitFolder();
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
};

/// A co-simulation unit (.fmu, version 2.0 or 3.0) unpacked into `folder` and loaded into this process. Its
/// inputs, outputs and parameters are those of an `own` block; texts, binaries and clocks are left alone.
/// Throws Error.
[[nodiscard]] std::unique_ptr<control::Own> load_unit(const std::filesystem::path& path,
                                                      std::shared_ptr<const UnitFolder> folder);

}  // namespace zavrek::bench::internal
