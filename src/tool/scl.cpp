#include "zavrek/scl.hpp"

#include <filesystem>

#include <fmt/format.h>

#include "tool/verbs.hpp"
#include "zavrek/bench/substation.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {

int scl(const SclOptions& options) {
  if (!options.write.empty()) {
    const trial::Case all = casefile::read_case(options.what);
    const std::string& ied = options.ied.empty() ? all.bench.ied : options.ied;
    const zavrek::scl::Substation bench = bench::substation_of(all, ied.empty() ? "BENCH" : ied);
    record::write_file(options.write, zavrek::scl::write(bench));
    fmt::print("{}: {} streams and {} messages of IED {}\n", options.write, bench.streams.size(),
               bench.messages.size(), bench.ieds.front());
    return done;
  }
  if (std::filesystem::is_directory(options.what)) {
    const trial::Case all = casefile::read_case(options.what);
    if (all.bench.scl.empty())
      throw Error(fmt::format("{}: its bench names no configuration (scl)", options.what));
    fmt::print("{}",
               to_string(zavrek::scl::read(record::read_file(all.folder / all.bench.scl), all.bench.scl)));
    return done;
  }
  fmt::print("{}", to_string(zavrek::scl::read(record::read_file(options.what), options.what)));
  return done;
}

}  // namespace zavrek::tool
