#include <cstdio>

#include <fmt/format.h>

#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/engine.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {
namespace {

/// The first line of a file; empty where none is named.
std::string token_in(const std::string& file) {
  if (file.empty()) return {};
  std::string token = record::read_file(file);
  token.erase(std::min(token.find_first_of("\r\n"), token.size()));
  if (token.size() < 16)
    throw Error(Flaw{.file = file,
                     .place = {},
                     .field = {},
                     .text = "a token has 16 letters at least; make one with \"openssl rand -hex 16\""});
  return token;
}

}  // namespace

int serve(const ServeOptions& options) {
  engine::EngineOptions how;
  for (const std::string& folder : options.folders) how.cases.emplace_back(folder);
  how.port = options.port;
  how.viewer_token = token_in(options.viewer_token);
  how.operator_token = token_in(options.operator_token);
  how.program = std::filesystem::read_symlink("/proc/self/exe");
  engine::Engine engine(how);
  fmt::print("engine at {}\n", engine.address());
  std::fflush(stdout);
  engine.serve(stop_on_signal());
  return done;
}

}  // namespace zavrek::tool
