// The verbs of the tool: what each is told, and what it returns as the exit code. main.cpp alone knows
// the command line.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "zavrek/wire.hpp"

namespace zavrek::tool {

/// Of the tool, as its build says.
inline constexpr const char* tool_version = ZAVREK_VERSION;

inline constexpr int done = 0;
inline constexpr int failed_verdict = 1;
inline constexpr int incomplete = 3;     // all was run, and something could not be judged or kept
inline constexpr int interrupted = 130;  // as a shell says of what SIGINT ended
inline constexpr int bad_input = 2;

/// A time above zero; throws Error naming the option.
[[nodiscard]] double positive_time(const std::string& option, const std::string& text);
/// A share above `least` and up to `most`: "1 %", or "0.01". Throws Error naming the option, also for "1",
/// which might be either.
[[nodiscard]] double share(const std::string& option, const std::string& text, double least = 0,
                           double most = 1);

struct CheckOptions {
  std::string folder;
  bool json = false;
  bool signals = false;
  bool knobs = false;
  bool execute = false;
};
[[nodiscard]] int check(const CheckOptions& options);

struct SteadyOptions {
  std::string folder;
  bool between_phases = false;
  bool json = false;
};
/// Voltages, currents and powers that a case starts with.
[[nodiscard]] int steady(const SteadyOptions& options);

struct RunOptions {
  std::string folder;
  std::string duration = "1 s";
  bool until_stopped = false;
  std::string keep = "5 s";
  std::string pace = "wall";
  std::string place;
  std::vector<std::string> signals;  // recorded besides those of the bench
  std::vector<std::string> at;       // what is operated
  std::string record;
  std::string captures;  // folder for those of disturbance recorders
  std::string figure;
  int cores = 1;
  bool json = false;
  std::string on;  // target
};
[[nodiscard]] int run(const RunOptions& options);
/// On an engine.
[[nodiscard]] int run_on(const RunOptions& options);

struct TestOptions {
  std::string folder;
  std::string out;
  std::string only;
  std::string place;
  std::string interface;
  std::string encoding = "float32";
  std::string pace = "wall";
  bool json = false;
  bool no_figures = false;
  bool csv = false;
  bool pdf = false;
  std::string against;  // results of an earlier run
  int cores = 1;
  int repeats = 8;
};
[[nodiscard]] int test(const TestOptions& options);

struct JudgeOptions {
  std::string folder;
  std::string record;
  std::string trial;  // as the record says when empty
  bool json = false;
};
/// Judges a record again by the settings of a case.
[[nodiscard]] int judge(const JudgeOptions& options);

struct PlotOptions {
  std::string record;
  std::string figure;
  std::string title;
  std::string from, until;
  std::size_t panels = 4;
};
[[nodiscard]] int plot(const PlotOptions& options);

struct StudyOptions {
  std::string folder;
  std::string trial;
  std::string duration;
  std::string precision = "1e-8";
  std::string error = "1 %";
  std::vector<std::string> signals;
  std::string record;
  std::string figure;
  bool depths = false;
  std::string averaged_step;  // the network's when empty
  std::string figure_from = "0 s";
  bool json = false;
};
/// Solves the case with variable step and lays the fixed step over it.
[[nodiscard]] int reference(const StudyOptions& options);
/// The largest step that keeps the error, and the modes that limit it.
[[nodiscard]] int steps(const StudyOptions& options);

struct CompareOptions {
  std::string first;
  std::vector<std::string> others;
  std::vector<std::string> signals;
  std::string shift = "0 s";
  std::string band = "1 %";
  std::string figure;
  bool json = false;
};
[[nodiscard]] int compare(const CompareOptions& options);

struct ExportOptions {
  std::string folder;
  std::string as = "library";
  std::string fmi = "2.0";
  std::vector<std::string> outputs;
  std::string trial;
  bool without_control = false;
  std::string out;  // CASE.so, CASE.fmu or CASE.c when empty
  bool json = false;
};
[[nodiscard]] int export_case(const ExportOptions& options);

struct DemoOptions {
  std::string name;  // lists all when empty
};
/// Copies a demo to the present folder.
[[nodiscard]] int copy_demo(const DemoOptions& options);

struct NewOptions {
  std::string kind;
  std::string folder;  // the kind when empty
};
/// Writes a case to start from.
[[nodiscard]] int begin_case(const NewOptions& options);

struct SplitOptions {
  std::string folder;
  std::string at;
  std::vector<std::string> names{"near", "far"};
  int delay = 1;
  std::string out;
  bool json = false;
};
/// A case in two halves, each the other's partner.
[[nodiscard]] int split(const SplitOptions& options);

struct LineOptions {
  std::string geometry;
  std::string length;  // to fit, when given
  int poles = 14;
  bool in_phases = false;
  std::string figure;
  bool json = false;
};
[[nodiscard]] int line(const LineOptions& options);

struct ServeOptions {
  std::vector<std::string> folders;
  std::string listen = "127.0.0.1";
  int port = 41200;
  std::vector<std::string> names;                              // hosts
  std::string viewer_token, operator_token, certificate, key;  // files
  std::string store;                                           // folder
  bool own_libraries = false;
};
/// An engine that others watch and work, until it is interrupted.
[[nodiscard]] int serve(const ServeOptions& options);

struct TargetOptions {
  std::string at = "http://127.0.0.1:41200";
  std::string action;
  std::vector<std::string> words;
  std::string token, authority;  // files
  std::string duration, place, over, resistance, angle, lasts;
  std::string pace = "wall";
  bool json = false;
};
/// Works an engine.
[[nodiscard]] int target(const TargetOptions& options);
[[nodiscard]] std::vector<std::string> target_actions();
[[nodiscard]] std::string target_actions_help();

struct LoadOptions {
  std::string board = "board";
  std::size_t first_voltage = 0, first_current = 0, phases = 3;
  std::string resistance = "10 ohm", inductance = "0 H", capacitance = "0 F";
  std::string rate = "20 kHz";
};
/// A load at an amplifier, as a process of its own at a terminal board.
[[nodiscard]] int load(const LoadOptions& options);

struct PlcOptions {
  std::string interface, cycle = "1 ms", duration;
  std::vector<std::string> links, sets;
  bool scan = false, quiet = false;
};
[[nodiscard]] int plc(const PlcOptions& options);
struct SlaveOptions {
  std::string folder, name;
};
[[nodiscard]] int slave(const SlaveOptions& options);
struct PanelOptions {
  std::string folder;
  std::string name;  // the first of the bench when empty
  std::string interface;
};
/// An operator's panel that works a run in another process.
[[nodiscard]] int panel(const PanelOptions& options);

struct RelayOptions {
  std::string settings;
  std::string interface = "lo";
  std::string medium = "automatic";
  std::string frequency = "50 Hz";
  std::string name = "R1";
  std::vector<std::string> streams{"S1@16384"};  // "ID@APPID"
  std::vector<std::string> inputs;               // "NAME=PUBLISHER@APPID:ENTRY"
  std::vector<std::string> entries;              // as a bench writes them; empty: all outputs
  std::uint32_t revision = 1;
  std::string board;      // terminal board that it hangs on, in place of streams
  bool messages = false;  // both ways, though it hangs on a board
  std::string publishes;  // its samples, as "ID@APPID"
  std::string time_code;  // "irig=3@110"
  std::size_t tells_from = 0;
  std::vector<std::string> measures;      // "ia=0"
  std::vector<std::string> reads, gives;  // "block=3@110"
  std::uint16_t goose_appid = 1;
  std::string source;  // hardware address; empty: one at random
  bool counts = false;
};
[[nodiscard]] int relay(const RelayOptions& options);

struct SclOptions {
  std::string what;   // a file, or a case
  std::string write;  // file to write the bench of the case to
  std::string ied;
};
[[nodiscard]] int scl(const SclOptions& options);

struct WiringOptions {
  std::string folder;
  bool csv = false;
  bool json = false;
  std::string page;     // file of a page to write
  std::string compare;  // a list to compare
};
[[nodiscard]] int wiring(const WiringOptions& options);

struct ProveOptions {
  std::string folder;
  bool json = false;
  std::string tolerance = "2 %";
  std::string each = "0.4 s";
};
[[nodiscard]] int prove(const ProveOptions& options);

struct ControllerOptions {
  std::string folder;
  int port = 0;
  std::string key;  // a file; "-": standard input
  std::string memory;
  bool counts = false, paced = false;
};
[[nodiscard]] int controller(const ControllerOptions& options);

struct ReportOptions {
  bool json = false;
  bool no_figures = false;
  bool pdf = false;
};
struct ProgrammeOptions {
  std::string folder;
  std::string out;
  std::string only;
  std::string place;
  std::string shard;
  std::string keep = "failures";
  int workers = 0;
  std::string pace = "free";
  bool json = false;
  bool no_figures = false;
  bool pdf = false;
  bool coverage = false;
  std::string mistakes;        // with this in their name
  std::string least_coverage;  // that of the case when empty
  long long most_trials = 60;
  long long choose = 0;
};
/// Runs the sweeps of a case, and goes on where it was stopped.
[[nodiscard]] int programme(const ProgrammeOptions& options);

struct MergeOptions {
  std::string out;
  std::vector<std::string> from;
  std::string title;
  bool json = false;
  bool no_figures = false;
  bool pdf = false;
};
/// Puts the results of shards together.
[[nodiscard]] int merge(const MergeOptions& options);

struct InjectOptions {
  std::string settings;
  std::string approved;
  std::string place = "plant";
  std::string interface = "lo";
  std::string medium = "automatic";
  std::string name;
  int goose_appid = 1;
  int stream_appid = 0x4000;
  std::string frequency = "50 Hz";
  std::string only;
  std::string plan;
  std::vector<std::string> tolerance;
  std::string value_tolerance = "2 %";
  double judged_from = 1.2;
  std::string record;
  std::vector<std::string> currents, voltages;
  std::string model, serial, site, tested_by;  // for the report
  int loops = 1;
  int rays = 24;
  std::string out;
  bool json = false;
  bool no_figures = false;
  bool coverage = false;
  std::string least_coverage;
};
/// Element tests of a relay, proposed from its settings or planned by hand.
[[nodiscard]] int inject(const InjectOptions& options);

struct CurveOptions {
  std::vector<std::string> settings;
  std::string margin = "0.25 s";
  std::string against;  // other settings
  std::string figure;
  bool json = false;
};
/// The characteristics of settings files, and how they grade.
[[nodiscard]] int curve(const CurveOptions& options);

struct SettingsOptions {
  std::string file;  // settings, or a table of them (.csv)
  std::string map;   // what the table's names are
  std::string out;   // standard output when empty
};
/// Settings as a table, or a table as settings.
[[nodiscard]] int settings(const SettingsOptions& options);
/// What settings files have otherwise than another.
[[nodiscard]] int settings_against(const std::vector<std::string>& files, const std::string& other,
                                   bool json);

struct FitnessOptions {
  std::string step = "50 us";
  std::string duration = "3 s";
  std::string write;  // a script of what is advised
  bool json = false;
};
[[nodiscard]] int fitness(const FitnessOptions& options);

/// Lists all kinds when `kind` is empty.
[[nodiscard]] int describe(const std::string& kind);

}  // namespace zavrek::tool
