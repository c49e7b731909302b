// What `programme --coverage` and `inject --coverage` have in common.
#pragma once

#include <filesystem>
#include <string>

#include "zavrek/trial/coverage.hpp"

namespace zavrek::tool {

/// `workers` 0: one for each processor.
[[nodiscard]] trial::CoverageOptions coverage_options(int workers, const std::string& only, bool json);
/// Writes coverage.html and coverage.csv, prints what was found; the exit code, a failure when less than the
/// share `least` was.
[[nodiscard]] int write_coverage(const trial::Coverage& coverage, const std::filesystem::path& folder,
                                 const std::string& title, double least, bool json);

/// Writes the trials chosen as a case of its own, in the folder "chosen", and says what they find.
[[nodiscard]] int write_choice(const trial::Choice& choice, const trial::Case& all,
                               const std::filesystem::path& folder, bool json);

}  // namespace zavrek::tool
