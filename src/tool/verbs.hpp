// The verbs of the tool. Each adds its options to `app` and, when it is the one called, sets `exit_code`.
#pragma once

#include <CLI/CLI.hpp>

namespace zavrek::tool {

inline constexpr int done = 0;
inline constexpr int failed_verdict = 1;
inline constexpr int bad_input = 2;

void add_check(CLI::App& app, int& exit_code);
void add_run(CLI::App& app, int& exit_code);
void add_test(CLI::App& app, int& exit_code);
void add_line(CLI::App& app, int& exit_code);
void add_plot(CLI::App& app, int& exit_code);
void add_relay(CLI::App& app, int& exit_code);
void add_fitness(CLI::App& app, int& exit_code);
void add_describe(CLI::App& app, int& exit_code);

}  // namespace zavrek::tool
