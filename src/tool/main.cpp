#include <cstdio>

#include "tool/verbs.hpp"
#include "zavrek/error.hpp"

int main(int argc, char** argv) {
  using namespace zavrek;
  CLI::App app{"Zavrek: real-time models of power networks for testing relays and controllers", "zavrek"};
  app.require_subcommand(1);
  app.set_version_flag("--version", "zavrek 0.1.0");
  int exit_code = tool::done;
  tool::add_check(app, exit_code);
  tool::add_run(app, exit_code);
  tool::add_test(app, exit_code);
  tool::add_plot(app, exit_code);
  tool::add_line(app, exit_code);
  tool::add_relay(app, exit_code);
  tool::add_fitness(app, exit_code);
  tool::add_describe(app, exit_code);
  try {
    app.parse(argc, argv);
    return exit_code;
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? tool::done : tool::bad_input;
  } catch (const Error& error) {
    std::fprintf(stderr, "%s\n", error.what());
  } catch (const std::exception& error) {
    std::fprintf(stderr, "%s\n", error.what());
  }
  return tool::bad_input;
}
