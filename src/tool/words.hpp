// The words of the command line: what each verb may be told, and where it goes.
#pragma once

#include <string>

#include <CLI/CLI.hpp>

#include "tool/verbs.hpp"

namespace zavrek::tool {

struct Words {
  CheckOptions check;
  SteadyOptions steady;
  RunOptions run;
  TestOptions test;
  PlotOptions plot;
  LineOptions line;
  JudgeOptions judge;
  StudyOptions study;
  CompareOptions compare;
  ExportOptions exported;
  SplitOptions split;
  DemoOptions demo;
  NewOptions begun;
  std::string manual_as = "page";
  RelayOptions relay;
  PanelOptions panel;
  PlcOptions plc;
  SlaveOptions slave;
  ServeOptions serve;
  TargetOptions target;
  LoadOptions load;
  ControllerOptions controller;
  WiringOptions wiring;
  SclOptions scl;
  ProveOptions prove;
  FitnessOptions fitness;
  SettingsOptions settings;
  InjectOptions inject;
  CurveOptions curve;
  ProgrammeOptions programme;
  MergeOptions merge;
  std::string kind;
};

// Each adds verbs to `app`, which fill `words` and leave their exit code in `code`.
void add_first_hour(CLI::App& app, Words& words, int& code);
void add_reading(CLI::App& app, Words& words, int& code);
void add_running(CLI::App& app, Words& words, int& code);
void add_judging(CLI::App& app, Words& words, int& code);
void add_handover(CLI::App& app, Words& words, int& code);
void add_programmes(CLI::App& app, Words& words, int& code);
void add_element_tests(CLI::App& app, Words& words, int& code);
void add_processes(CLI::App& app, Words& words, int& code);

// What several verbs are told alike.
inline constexpr const char* case_help = "folder of the case";
inline constexpr const char* cores_help = "cores that share each step, where the network falls into parts";
inline constexpr const char* place_help = "where all devices run, whatever the bench says";
inline constexpr const char* pace_help =
    "wall: locked to the clock; free: as fast as it goes, where nobody outside lives by the clock";
[[nodiscard]] inline CLI::IsMember places() { return CLI::IsMember({"plant", "process", "outside"}); }
[[nodiscard]] inline CLI::IsMember paces() { return CLI::IsMember({"wall", "free"}); }

}  // namespace zavrek::tool
