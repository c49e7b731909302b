#include <cstdio>
#include <cstdlib>

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

/// Of this user, one for each port.
std::filesystem::path usual_store(int port) {
  const char* state = std::getenv("XDG_STATE_HOME");
  const char* home = std::getenv("HOME");
  const std::filesystem::path folder =
      state && *state ? std::filesystem::path(state)
                      : std::filesystem::path(home && *home ? home : "/tmp") / ".local" / "state";
  return folder / "zavrek" / fmt::format("engine-{}", port);
}

}  // namespace

int serve(const ServeOptions& options) {
  engine::EngineOptions how;
  for (const std::string& folder : options.folders) how.cases.emplace_back(folder);
  how.listen = options.listen;
  how.port = options.port;
  how.names = options.names;
  how.certificate = options.certificate;
  how.key = options.key;
  how.store = options.store.empty() ? usual_store(options.port) : std::filesystem::path(options.store);
  how.own_libraries = options.own_libraries;
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
