// The command line, and nothing else: words to options, options to a verb, its result to an exit code.
#include <algorithm>
#include <cstdio>

#include <fmt/format.h>
#include <CLI/CLI.hpp>

#include "tool/manual.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/error.hpp"
#include "zavrek/quantity.hpp"

namespace {

using namespace zavrek;

struct Words {
  tool::CheckOptions check;
  tool::SteadyOptions steady;
  tool::RunOptions run;
  tool::TestOptions test;
  tool::PlotOptions plot;
  tool::LineOptions line;
  tool::JudgeOptions judge;
  tool::StudyOptions study;
  tool::CompareOptions compare;
  tool::ExportOptions exported;
  tool::SplitOptions split;
  tool::DemoOptions demo;
  tool::NewOptions begun;
  std::string manual_as = "page";
  tool::RelayOptions relay;
  tool::PanelOptions panel;
  tool::PlcOptions plc;
  tool::SlaveOptions slave;
  tool::ServeOptions serve;
  tool::TargetOptions target;
  tool::LoadOptions load;
  tool::ControllerOptions controller;
  tool::WiringOptions wiring;
  tool::SclOptions scl;
  tool::ProveOptions prove;
  tool::FitnessOptions fitness;
  tool::SettingsOptions settings;
  tool::InjectOptions inject;
  tool::CurveOptions curve;
  tool::ProgrammeOptions programme;
  tool::MergeOptions merge;
  std::string kind;
};

const CLI::IsMember places({"plant", "process", "outside"});
const CLI::IsMember paces({"wall", "free"});
constexpr const char* pace_help =
    "wall: locked to the clock; free: as fast as it goes, where nobody outside lives by the clock";
constexpr const char* case_help = "folder of the case";
constexpr const char* cores_help = "cores that share each step, where the network falls into parts";
constexpr const char* place_help = "where all devices run, whatever the bench says";

void add_reading(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand("check", "read a case; report every fault, else what it compiles to");
  verb->add_option("case", words.check.folder, case_help)->required();
  verb->add_flag("--json", words.check.json, "print JSON");
  verb->add_flag("--signals", words.check.signals, "list the signals of the plant");
  verb->add_flag("--knobs", words.check.knobs, "list what may be set while it runs");
  verb->add_flag("--execute", words.check.execute, "load and start the libraries of `own` blocks too");
  verb->callback([&] { code = tool::check(words.check); });

  verb =
      app.add_subcommand("describe", "the manual of an element, a setting or a file, from its field table");
  verb->add_option("kind", words.kind,
                   "cable, breaker, stage, trial, ...; all kinds are listed when left out");
  verb->callback([&] { code = tool::describe(words.kind); });

  verb = app.add_subcommand(
      "scl", "what a configuration of a substation (IEC 61850-6) offers; or a bench written as one");
  verb->add_option("what", words.scl.what, "an SCD, CID, ICD or IID file, or the folder of a case")
      ->required();
  verb->add_option("--write", words.scl.write, "file to write the bench of the case to, such as bench.cid");
  verb->add_option("--ied", words.scl.ied,
                   "its name in it; that which the bench names, or BENCH, when left out");
  verb->callback([&] { code = tool::scl(words.scl); });
  verb = app.add_subcommand("slave",
                            "the description file (XML) of an EtherCAT slave of a case, for its master");
  verb->add_option("case", words.slave.folder, case_help)->required();
  verb->add_option("name", words.slave.name, "which of its slaves; the first when left out");
  verb->callback([&] { code = tool::slave(words.slave); });

  verb =
      app.add_subcommand("wiring", "the list of what is wired to the terminals of devices, and its faults");
  verb->add_option("case", words.wiring.folder, case_help)->required();
  verb->add_flag("--csv", words.wiring.csv, "print it for a spreadsheet");
  verb->add_flag("--json", words.wiring.json, "print JSON");
  verb->add_option("--page", words.wiring.page, "file of a page for the bench to write, such as wiring.html");
  verb->add_option("--compare", words.wiring.compare,
                   "such a list as it was changed by hand: what it says otherwise than the bench");
  verb->callback([&] { code = tool::wiring(words.wiring); });

  verb = app.add_subcommand("prove",
                            "known quantities on one channel of the terminals after the other, read back");
  verb->add_option("case", words.prove.folder, case_help)->required();
  verb->add_flag("--json", words.prove.json, "print JSON");
  verb->add_option("--tolerance", words.prove.tolerance, "of a quantity");
  verb->add_option("--each", words.prove.each, "how long one stands on a channel");
  verb->callback([&] { code = tool::prove(words.prove); });

  verb = app.add_subcommand("steady", "voltages, currents and powers of the steady state that runs start in");
  verb->add_option("case", words.steady.folder, case_help)->required();
  verb->add_flag("--between-phases", words.steady.between_phases,
                 "voltages between phases instead of to ground");
  verb->add_flag("--json", words.steady.json, "print JSON");
  verb->callback([&] { code = tool::steady(words.steady); });

  verb = app.add_subcommand("line", "constants of an overhead line or of cables from the cross-section");
  verb->add_option("geometry", words.line.geometry, "file with the wires; see `zavrek describe wire`")
      ->required();
  verb->add_option("--length", words.line.length, "fit the parameters over frequency for this length");
  verb->add_option("--poles", words.line.poles, "poles of each fitted function")->check(CLI::Range(2, 40));
  verb->add_flag("--in-phases", words.line.in_phases,
                 "fit in phases instead of in modes of one real transformation");
  verb->add_option("--figure", words.line.figure, "draw it over frequency, in modes: NAME.png or NAME.svg");
  verb->add_flag("--json", words.line.json, "print JSON");
  verb->callback([&] { code = tool::line(words.line); });
}

void add_running(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand("run", "run a case undisturbed, with its timing table");
  verb->add_option("case", words.run.folder, case_help)->required();
  verb->add_option("--for", words.run.duration, "simulated time, such as \"2 s\"");
  verb->add_flag("--until-stopped", words.run.until_stopped,
                 "go on until interrupted (Ctrl-C); the record holds the latest part")
      ->excludes("--for");
  verb->add_option("--keep", words.run.keep, "how much of a run until stopped is recorded, such as \"5 s\"")
      ->needs("--until-stopped");
  verb->add_option("--pace", words.run.pace, pace_help)->check(paces);
  verb->add_option("--place", words.run.place, place_help)->check(places);
  verb->add_option(
      "--signals", words.run.signals,
      "signals to record besides those of the bench; all voltages and currents when there are none");
  verb->add_option("--at", words.run.at,
                   "what is operated, such as \"0.2 s: open Q1\" or \"0.3 s: load.active = 2 MW\"; again for "
                   "more")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  verb->add_option("--record", words.run.record,
                   "write the record: NAME.cfg (COMTRADE), NAME.csv or NAME.h5 (HDF5)");
  verb->add_option("--captures", words.run.captures,
                   "folder in which the disturbance recorders of the bench keep their files");
  verb->add_option("--figure", words.run.figure, "draw the record: NAME.png or NAME.svg");
  verb->add_option("--cores", words.run.cores, cores_help)->check(CLI::Range(1, 64));
  verb->add_flag("--json", words.run.json, "print JSON");
  verb->add_option("--on", words.run.on,
                   "on an engine, by its name or address: the case is sent there and runs there");
  verb->callback([&] { code = words.run.on.empty() ? tool::run(words.run) : tool::run_on(words.run); });

  verb = app.add_subcommand("test", "run the trials of a case: verdicts, records, figures, report");
  verb->add_option("case", words.test.folder, case_help)->required();
  verb->add_option(
      "--out", words.test.out,
      "folder for records, figures and report; out/CASE when left out, out/CASE-WHAT with --only WHAT");
  verb->add_option("--only", words.test.only, "run only trials with this in their name");
  verb->add_option("--place", words.test.place, place_help)->check(places);
  verb->add_option("--interface", words.test.interface, "network interface, whatever the bench says");
  verb->add_option("--format", words.test.encoding, "data format of the COMTRADE records")
      ->check(CLI::IsMember({"ascii", "binary", "binary32", "float32"}));
  verb->add_option("--pace", words.test.pace, pace_help)->check(paces);
  verb->add_flag("--json", words.test.json, "print JSON");
  verb->add_flag("--no-figures", words.test.no_figures, "draw no PNG per trial");
  verb->add_flag("--csv", words.test.csv, "keep each record as CSV too");
  verb->add_flag("--pdf", words.test.pdf, "print the report as PDF too, with room for signatures");
  verb->add_option("--against", words.test.against,
                   "results.json of an earlier run, or its folder: what fails now, what got worse");
  verb->add_option("--cores", words.test.cores, cores_help)->check(CLI::Range(1, 64));
  verb->add_option("--repeats", words.test.repeats,
                   "how often a trial that this computer held back too far to be judged is run again")
      ->check(CLI::Range(0, 100));
  verb->callback([&] { code = tool::test(words.test); });

  verb = app.add_subcommand("judge", "judge a record that was kept again, by the settings of a case");
  verb->add_option("case", words.judge.folder, case_help)->required();
  verb->add_option("record", words.judge.record, "COMTRADE (.cfg, .dat)")->required();
  verb->add_option("--trial", words.judge.trial, "by whose expectations; the record's own when left out");
  verb->add_flag("--json", words.judge.json, "print JSON");
  verb->callback([&] { code = tool::judge(words.judge); });

  verb = app.add_subcommand("plot", "draw a record as PNG or SVG");
  verb->add_option("record", words.plot.record, "COMTRADE (.cfg, .dat), .csv or HDF5 (.h5)")->required();
  verb->add_option("--figure", words.plot.figure,
                   "NAME.png or NAME.svg; a PNG beside the record when left out");
  verb->add_option("--title", words.plot.title, "the station of the record when left out");
  verb->add_option("--panels", words.plot.panels, "at most this many groups of signals")
      ->check(CLI::Range(1, 20));
  verb->add_option("--from", words.plot.from, "draw what lies behind this time, such as \"1.2 s\"");
  verb->add_option("--until", words.plot.until, "and ahead of this one");
  verb->callback([&] { code = tool::plot(words.plot); });
}

void add_study_options(CLI::App* verb, tool::StudyOptions& study) {
  verb->add_option("case", study.folder, case_help)->required();
  verb->add_option(
      "--trial", study.trial,
      "strike the fault of this trial; steps without it strikes that of the first, or one of its own");
  verb->add_option("--for", study.duration, "simulated time; the trial's, or 0.2 s, when left out");
  verb->add_option("--signals", study.signals, "signals to judge; all voltages and currents when left out");
  verb->add_flag("--json", study.json, "print JSON");
}

void add_judging(CLI::App& app, Words& words, int& code) {
  CLI::App* verb =
      app.add_subcommand("reference", "solve the case with variable step and lay the fixed step over it");
  add_study_options(verb, words.study);
  verb->add_option("--precision", words.study.precision, "relative, that the variable step keeps");
  verb->add_option("--band", words.study.error, "half-width of the band of tolerance, of each signal's peak");
  verb->add_option("--record", words.study.record,
                   "write the reference: NAME.cfg (COMTRADE), NAME.csv or NAME.h5 (HDF5)");
  verb->add_option("--figure", words.study.figure, "draw both: NAME.png or NAME.svg");
  verb->add_flag("--depths", words.study.depths,
                 "calculate all converters switched, then averaged, each beside the reference");
  verb->add_option("--averaged-step", words.study.averaged_step, "step of the averaged one")
      ->needs("--depths");
  verb->add_option("--figure-from", words.study.figure_from, "where the figure begins")->needs("--depths");
  verb->callback([&] { code = tool::reference(words.study); });

  verb = app.add_subcommand("steps", "the largest step that keeps an error, and the modes that limit it");
  add_study_options(verb, words.study);
  verb->add_option("--error", words.study.error,
                   "rms of the difference over the peak of any signal, such as \"1 %\"");
  verb->callback([&] { code = tool::steps(words.study); });

  verb = app.add_subcommand("compare", "lay records over each other: one or several over the first");
  verb->add_option("first", words.compare.first, "COMTRADE (.cfg, .dat), .csv or HDF5 (.h5)")->required();
  verb->add_option("others", words.compare.others, "the same; each is laid over the first")->required();
  verb->add_option("--signals", words.compare.signals,
                   "signals to compare, with how far they may differ: \"battery.p\", \"battery.p within 10 "
                   "kW over 50 ms\" "
                   "(what stands so far away in time counts too); all common ones when left out");
  verb->add_option("--shift", words.compare.shift,
                   "move the second by at most this to lie best over the first");
  verb->add_option("--band", words.compare.band,
                   "half-width of the band of tolerance, of each signal's peak");
  verb->add_option("--figure", words.compare.figure, "draw both: NAME.png or NAME.svg");
  verb->add_flag("--json", words.compare.json, "print JSON");
  verb->callback([&] { code = tool::compare(words.compare); });
}

void add_first_hour(CLI::App& app, Words& words, int& code) {
  CLI::App* verb =
      app.add_subcommand("demo", "copy a demo here, to run and to change; all are listed when none is named");
  verb->add_option("name", words.demo.name, "which one");
  verb->callback([&] { code = tool::copy_demo(words.demo); });

  verb = app.add_subcommand("new", "a commented case to start from");
  verb->add_option("kind", words.begun.kind, "feeder, line (with two ends), transformer or converter")
      ->required();
  verb->add_option("folder", words.begun.folder, "where to; a folder of the kind's name when left out");
  verb->callback([&] { code = tool::begin_case(words.begun); });

  verb = app.add_subcommand("manual",
                            "the reference as a page, or the words of this command line for other programs");
  verb->add_option("--as", words.manual_as,
                   "page: the reference manual in HTML; man: of the command line; bash: what it completes")
      ->check(CLI::IsMember({"page", "man", "bash"}));
  verb->callback([&] {
    const std::string& as = words.manual_as;
    std::fputs((as == "man"    ? tool::man_page(app, tool::tool_version)
                : as == "bash" ? tool::bash_completion(app)
                               : tool::reference_page(app))
                   .c_str(),
               stdout);
    code = tool::done;
  });
}

void add_handover(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand(
      "export",
      "the plant and its control as a model that others run: a shared library, or a Functional Mock-up Unit");
  tool::ExportOptions& o = words.exported;
  verb->add_option("case", o.folder, case_help)->required();
  verb->add_option("--as", o.as, "library (plain C, zavrek/model.h) or fmu")
      ->check(CLI::IsMember({"library", "fmu"}));
  verb->add_option("--fmi", o.fmi, "version of the Functional Mock-up Interface")
      ->check(CLI::IsMember({"2.0", "3.0"}));
  verb->add_option("--outputs", o.outputs,
                   "signals and outputs of blocks; what the bench records when left out");
  verb->add_option("--out", o.out, "the file; CASE.so or CASE.fmu when left out");
  verb->add_flag("--json", o.json, "print JSON");
  verb->callback([&] { code = tool::export_case(o); });

  verb = app.add_subcommand(
      "split", "a case in two halves, each with the other as its partner: cut at a line, or at a bus");
  tool::SplitOptions& s = words.split;
  verb->add_option("case", s.folder, case_help)->required();
  verb->add_option(
          "--at", s.at,
          "a line (exact, its travel hides the exchange); or a bus and the elements at it that the far "
          "half gets: \"quay: Q1 Q2\"")
      ->required();
  verb->add_option("--names", s.names, "of the halves: folders below --out")->expected(2);
  verb->add_option("--delay", s.delay, "steps from what a half says to the step that it enters in the other")
      ->check(CLI::Range(1, 30));
  verb->add_option("--out", s.out, "folder for both; the present one when left out");
  verb->add_flag("--json", s.json, "print JSON");
  verb->callback([&] { code = tool::split(s); });
}

void add_programmes(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand(
      "programme", "run the sweeps of a case unattended; run again, it goes on where it was stopped");
  tool::ProgrammeOptions& o = words.programme;
  verb->add_option("case", o.folder, case_help)->required();
  verb->add_option("--out", o.out,
                   "folder for results, records and report; out/CASE-programme when left out");
  verb->add_option("--only", o.only, "run only sweeps with this in their name");
  verb->add_option("--place", o.place, place_help)->check(places);
  verb->add_option("--shard", o.shard,
                   "run one part of several, such as 3/8, on as many machines; slurm: the task of a "
                   "job array");
  verb->add_option("--keep", o.keep, "records to keep")->check(CLI::IsMember({"failures", "all", "none"}));
  verb->add_option("--workers", o.workers, "trials at a time; one for each processor when left out")
      ->check(CLI::Range(1, 256));
  verb->add_option("--pace", o.pace,
                   "wall: locked to the clock, one trial after the other; free: as fast as they go")
      ->check(paces);
  verb->add_flag("--json", o.json, "print JSON");
  verb->add_flag("--no-figures", o.no_figures, "draw nothing");
  verb->add_flag("--pdf", o.pdf, "print the report as PDF too");
  verb->add_flag(
      "--coverage", o.coverage,
      "instead of a run: replay trials with each setting and each wire made wrong, and say what no "
      "verdict would find");
  verb->add_option("--mistakes", o.mistakes,
                   "with --coverage: only in settings and wires with this in their name");
  verb->add_option("--most-trials", o.most_trials, "with --coverage: of the sweeps, evenly chosen")
      ->check(CLI::Range(0, 1'000'000));
  verb->add_option("--least-coverage", o.least_coverage,
                   "with --coverage: share below which it fails; least_coverage of case.toml when left out");
  verb->add_option(
          "--choose", o.choose,
          "instead of a run: write a case with so many trials, those that together find most mistakes")
      ->check(CLI::Range(1, 100'000));
  verb->callback([&] { code = tool::programme(words.programme); });

  verb = app.add_subcommand("merge", "put the results of a programme's shards together");
  verb->add_option("out", words.merge.out, "folder for the whole")->required();
  verb->add_option("from", words.merge.from, "folders (or results.sqlite files) of the shards")->required();
  verb->add_option("--title", words.merge.title, "of the report");
  verb->add_flag("--json", words.merge.json, "print JSON");
  verb->add_flag("--no-figures", words.merge.no_figures, "draw nothing");
  verb->add_flag("--pdf", words.merge.pdf, "print the report as PDF too");
  verb->callback([&] { code = tool::merge(words.merge); });
}

void add_element_tests(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand(
      "inject", "element tests of a relay: times, pickups and boundaries, proposed from its settings");
  tool::InjectOptions& o = words.inject;
  verb->add_option("settings", o.settings, "settings that the relay runs with")->required();
  verb->add_option("--approved", o.approved, "settings that it should have, which are what is expected");
  verb->add_option("--place", o.place, "the relay runs in this process, in its own, or is already outside")
      ->check(places);
  verb->add_option("--only", o.only, "test only functions with this in their name");
  verb->add_flag("--coverage", o.coverage,
                 "repeat the tests with each setting made wrong, and say what none of them would find");
  verb->add_option("--least-coverage", o.least_coverage, "with --coverage: share below which it fails");
  verb->add_option("--plan", o.plan,
                   "inject the states and values of this file instead of what the settings propose");
  verb->add_option("--time-tolerance", o.tolerance, "a share, a time, or both (the greater holds): 5 % 30ms");
  verb->add_option("--value-tolerance", o.value_tolerance, "of thresholds, a share");
  verb->add_option("--judged-from", o.judged_from,
                   "multiple of pickup from which on times of inverse curves are judged")
      ->check(CLI::Range(1.0, 10.0));
  verb->add_option("--record", o.record, "play this record (COMTRADE, CSV, HDF5) to the relay instead");
  verb->add_option(
          "--currents", o.currents,
          "its current channels, for each place: how they begin (CT1.i), or all three (\"IL1, IL2, IL3\"), "
          "either with a factor (\"CT1.i * 400\")")
      ->needs("--record");
  verb->add_option("--voltages", o.voltages, "likewise its voltages, such as VT0.v")->needs("--record");
  verb->add_option("--loops", o.loops, "how often it is played, one behind the other")
      ->check(CLI::Range(1, 1000))
      ->needs("--record");
  verb->add_option("--rays", o.rays, "along which a boundary is searched")->check(CLI::Range(4, 360));
  verb->add_option("--out", o.out, "folder for the report; out/inject-NAME when left out");
  verb->add_option("--name", o.name, "of the relay and its GOOSE; the file's name when left out");
  verb->add_option("--goose-appid", o.goose_appid, "application identifier of its GOOSE")
      ->check(CLI::Range(0, 0x3FFE));
  verb->add_option("--stream-appid", o.stream_appid, "of the stream into its first place; others follow")
      ->check(CLI::Range(0x4000, 0x7FF0));
  verb->add_option("--interface", o.interface, "network interface");
  verb->add_option("--medium", o.medium, "raw packet socket, or the same frames in local datagrams")
      ->check(CLI::IsMember({"automatic", "raw", "datagram"}));
  verb->add_option("--frequency", o.frequency, "nominal frequency");
  verb->add_flag("--no-figures", o.no_figures, "draw nothing");
  verb->add_flag("--json", o.json, "print JSON");
  verb->callback([&] { code = tool::inject(words.inject); });

  verb = app.add_subcommand("curve", "characteristics of settings files, and how they grade");
  verb->add_option("settings", words.curve.settings, "settings files, from the load towards the source")
      ->required();
  verb->add_option("--margin", words.curve.margin, "least grading margin wanted");
  verb->add_option("--figure", words.curve.figure, "draw them: NAME.png or NAME.svg");
  verb->add_flag("--json", words.curve.json, "print JSON");
  verb->add_option("--against", words.curve.against,
                   "instead of curves: what is set otherwise than in this settings file, field by field");
  verb->callback([&] {
    code = words.curve.against.empty()
               ? tool::curve(words.curve)
               : tool::settings_against(words.curve.settings, words.curve.against, words.curve.json);
  });

  verb = app.add_subcommand(
      "settings", "settings of a relay as a table (CSV) for a spreadsheet, or such a table as settings");
  verb->add_option("file", words.settings.file, "a settings file, or a table (.csv)")->required();
  verb->add_option("--map", words.settings.map,
                   "what the names of somebody else's table are here: a TOML file (docs/protection.md)");
  verb->add_option("--out", words.settings.out, "file to write; printed when left out");
  verb->callback([&] { code = tool::settings(words.settings); });
}

void add_processes(CLI::App& app, Words& words, int& code) {
  CLI::App* verb =
      app.add_subcommand("relay", "a relay as a process of its own: sampled values in, GOOSE out");
  verb->add_option("settings", words.relay.settings, "its settings file")->required();
  verb->add_option("--name", words.relay.name, "its name, and the identifier of its GOOSE");
  verb->add_option("--interface", words.relay.interface, "network interface");
  verb->add_option("--medium", words.relay.medium, "raw packet socket, or the same frames in local datagrams")
      ->check(CLI::IsMember({"automatic", "raw", "datagram"}));
  verb->add_option("--stream", words.relay.streams,
                   "identifier and application identifier of a stream that it reads, such as S1@16384; one "
                   "for each of its places; where they are not as usual, samples a second and the places of "
                   "ia ib ic in va vb vc vn behind, S1@16384@4800@0,1,2,3,4,5,6,7");
  verb->add_option("--input", words.relay.inputs,
                   "binary input from an entry of a GOOSE message, such as block=R1@17:0; block=!R1@17:0 is "
                   "on while that is off");
  verb->add_option("--goose-appid", words.relay.goose_appid, "application identifier of its GOOSE");
  verb->add_option(
      "--entry", words.relay.entries,
      "an entry of the data set of its GOOSE, such as \"{ trip, quality of trip, time of trip }\"; "
      "its outputs as booleans when left out");
  verb->add_option("--revision", words.relay.revision, "confRev of its GOOSE");
  verb->add_option("--board", words.relay.board,
                   "terminal board that it hangs on, in place of streams and messages");
  verb->add_flag("--messages", words.relay.messages,
                 "at a board: inputs that no terminal brings and all outputs go by GOOSE besides")
      ->needs("--board");
  verb->add_option("--publishes", words.relay.publishes,
                   "at a board: what it measures at its first place goes out as sampled values under this "
                   "identifier and application identifier, such as MU1@16641")
      ->needs("--board");
  verb->add_option("--time-code", words.relay.time_code,
                   "at a board: terminal that brings IRIG-B, by which these samples are numbered: irig=3@110")
      ->needs("--board");
  verb->add_option("--tells-from", words.relay.tells_from,
                   "from which place of the board on it tells what it measures and sees");
  verb->add_option(
      "--measures", words.relay.measures,
      "which terminal is which of ia ib ic va vb vc (2.ia of its second place): ia=0; ia=0*-1 is wired the "
      "wrong way round");
  verb->add_option("--reads", words.relay.reads,
                   "terminal of a binary input, and the volts that wet it, 0 where dry: block=3@110");
  verb->add_option("--gives", words.relay.gives, "the same of an output: trip=1@0");
  verb->add_option("--frequency", words.relay.frequency, "nominal frequency; it samples 80 times per cycle");
  verb->add_option("--source", words.relay.source,
                   "hardware address of its messages; one at random when left out");
  verb->add_flag("--counts", words.relay.counts,
                 "print what it counted, one count a line, for a program to read");
  verb->callback([&] { code = tool::relay(words.relay); });

  verb = app.add_subcommand(
      "panel", "an operator's panel for a run of the case in another process: switches and lamps");
  verb->add_option("case", words.panel.folder, case_help)->required();
  verb->add_option("name", words.panel.name, "which of its panels; the first when left out");
  verb->add_option("--interface", words.panel.interface, "network interface, whatever the bench says");
  verb->callback([&] { code = tool::panel(words.panel); });
  verb =
      app.add_subcommand("plc", "a programmable controller: the EtherCAT master of a run in another process");
  verb->add_option("interface", words.plc.interface, "on whose other end the slaves are")->required();
  verb->add_flag("--scan", words.plc.scan, "list the slaves and their entries only");
  verb->add_option("--cycle", words.plc.cycle, "from one exchange to the next");
  verb->add_option("--for", words.plc.duration, "how long; until interrupted when left out");
  verb->add_option(
      "--link", words.plc.links,
      "what follows an input: \"bit0 -> lamp0\", an output of its own, or of a slave; again for more");
  verb->add_option("--set", words.plc.sets, "an output of a slave: \"wanted=2500\"; again for more");
  verb->add_flag("--quiet", words.plc.quiet, "do not print each change of its own outputs");
  verb->callback([&] { code = tool::plc(words.plc); });

  verb = app.add_subcommand(
      "serve",
      "an engine: cases that a page, a script or another tool starts, watches and works while they run");
  verb->add_option("cases", words.serve.folders, "folders of cases; others can be sent to it");
  verb->add_option("--listen", words.serve.listen, "address; beyond the loopback it wants TLS and tokens");
  verb->add_option("--port", words.serve.port, "0: any that is free")->check(CLI::Range(0, 65535));
  verb->add_option("--name", words.serve.names, "further host name by which it is asked for; again for more")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  verb->add_option("--certificate", words.serve.certificate, "PEM file; with --key it speaks TLS");
  verb->add_option("--key", words.serve.key, "PEM file with the certificate's key");
  verb->add_option("--store", words.serve.store,
                   "folder of cases that were sent and of results, which stay for the next engine");
  verb->add_flag("--own-libraries", words.serve.own_libraries,
                 "cases that are sent may run their own libraries and open devices of this computer");
  verb->add_option("--viewer-token", words.serve.viewer_token, "file with the token of those who may look");
  verb->add_option("--operator-token", words.serve.operator_token,
                   "file with the token of those who may act too");
  verb->callback([&] { code = tool::serve(words.serve); });

  verb = app.add_subcommand("target", "works an engine: what it has, starts, stops, operates, watches");
  verb->add_option("action", words.target.action, tool::target_actions_help())
      ->required()
      ->check(CLI::IsMember(tool::target_actions()));
  verb->add_option("words", words.target.words, "what the action wants");
  verb->add_option("--at", words.target.at, "address of the engine, or its name (see \"name\")");
  verb->add_option("--token", words.target.token, "file with a token");
  verb->add_option("--authority", words.target.authority,
                   "PEM file with its certificate, or with who signed it");
  verb->add_option("--over", words.target.over, "sets little by little, within a time such as \"2 s\"");
  verb->add_option("--resistance", words.target.resistance, "of a fault, such as \"5 ohm\"");
  verb->add_option("--angle", words.target.angle, "of the faulted voltage at inception, such as \"90 deg\"");
  verb->add_option("--lasts", words.target.lasts, "how long a fault lasts; 0: until it is cleared");
  verb->add_option("--for", words.target.duration,
                   "duration of what is started; until it is stopped when left out");
  verb->add_option("--place", words.target.place, place_help)->check(CLI::IsMember({"plant"}));
  verb->add_option("--pace", words.target.pace, pace_help)->check(paces);
  verb->add_flag("--json", words.target.json, "print JSON");
  verb->callback([&] { code = tool::target(words.target); });

  verb = app.add_subcommand("load", "a load that hangs on a power amplifier, at a terminal board");
  verb->add_option("--board", words.load.board, "terminal board");
  verb->add_option("--first-voltage", words.load.first_voltage,
                   "output of the bench with the voltage of phase a");
  verb->add_option("--first-current", words.load.first_current,
                   "input of the bench for the current of phase a");
  verb->add_option("--phases", words.load.phases, "how many, on terminals that follow")
      ->check(CLI::Range(1, 3));
  verb->add_option("--resistance", words.load.resistance, "per phase");
  verb->add_option("--inductance", words.load.inductance, "in series with it");
  verb->add_option("--capacitance", words.load.capacitance, "across both");
  verb->add_option("--rate", words.load.rate, "of its own steps");
  verb->callback([&] { code = tool::load(words.load); });

  verb = app.add_subcommand("controller", "the control of a case as a process of its own");
  verb->add_option("case", words.controller.folder, "folder of the case")->required();
  verb->add_option("--port", words.controller.port, "UDP port of this computer; 0 for any")
      ->check(CLI::Range(0, 65535));
  verb->add_option("--key", words.controller.key,
                   "file with the key of the sessions it serves (32 hexadecimal digits); -: standard input");
  verb->add_option("--memory", words.controller.memory,
                   "name of memory that the run, which starts this, shares with it, instead of a port");
  verb->add_flag("--paced", words.controller.paced, "the run goes by the clock: real-time priority");
  verb->add_flag("--counts", words.controller.counts,
                 "print what it counted, one count a line, for a program to read");
  verb->callback([&] { code = tool::controller(words.controller); });

  verb = app.add_subcommand("fitness", "measure whether this computer can hold a step");
  verb->add_option("--step", words.fitness.step, "the step, such as \"50 us\"");
  verb->add_option("--for", words.fitness.duration, "how long to measure");
  verb->add_option("--write", words.fitness.write,
                   "write what is advised as a script of the shell; nothing is changed before you run it");
  verb->add_flag("--json", words.fitness.json, "as JSON");
  verb->callback([&] { code = tool::fitness(words.fitness); });
}

/// What is taken when an option is left out, on the help of every verb.
void show_defaults(CLI::App& app) {
  for (CLI::App* verb : app.get_subcommands([](CLI::App*) { return true; })) {
    for (CLI::Option* option : verb->get_options()) {
      if (option->get_items_expected_max() == 0 || option->get_required()) continue;
      option->capture_default_str();
      const std::string text = option->get_default_str();
      if (text == "\"\"" || text == "[]" || text == "{}") option->default_str("");
    }
  }
}

/// The folder of the case that the verb was given, if it has one.
std::string case_of(const CLI::App& app) {
  for (const CLI::App* verb : app.get_subcommands()) {
    const CLI::Option* option = verb->get_option_no_throw("case");
    if (option && !option->results().empty()) return option->results().front();
  }
  return {};
}

/// The error of the command line, with the word that was probably meant.
std::string with_suggestion(const CLI::App& app, const CLI::ParseError& error, int argc, char** argv) {
  std::string text = error.what();
  const CLI::App* verb = nullptr;
  std::vector<std::string> known;
  for (const CLI::App* one : app.get_subcommands([](const CLI::App*) { return true; })) {
    known.push_back(one->get_name());
    if (argc > 1 && one->get_name() == argv[1]) verb = one;
  }
  if (!verb)
    return argc > 1 && argv[1][0] != '-'
               ? fmt::format("no verb \"{}\"{}", argv[1], suggestion(argv[1], known, 40))
               : text;
  known.clear();
  for (const CLI::Option* option : verb->get_options()) {
    for (const std::string& name : option->get_lnames()) known.push_back("--" + name);
  }
  for (int k = 2; k < argc; ++k) {
    const std::string word = std::string(argv[k]).substr(0, std::string_view(argv[k]).find('='));
    if (!word.starts_with("--") || std::find(known.begin(), known.end(), word) != known.end()) continue;
    return fmt::format("{}: no option \"{}\"{}", verb->get_name(), word, suggestion(word, known, 40));
  }
  return fmt::format("{}: {}", verb->get_name(), text);
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app{"Zavrek: real-time models of power networks for testing relays and controllers", "zavrek"};
  app.require_subcommand(1);
  app.set_version_flag("--version", fmt::format("zavrek {}", tool::tool_version));
  Words words;
  int code = tool::done;
  add_first_hour(app, words, code);
  add_reading(app, words, code);
  add_running(app, words, code);
  add_judging(app, words, code);
  add_handover(app, words, code);
  add_programmes(app, words, code);
  add_element_tests(app, words, code);
  add_processes(app, words, code);
  show_defaults(app);
  try {
    app.parse(argc, argv);
    return code;
  } catch (const CLI::ParseError& error) {
    if (error.get_exit_code() == 0) return app.exit(error);
    std::fprintf(stderr, "%s\n\"zavrek --help\" lists the verbs, \"zavrek VERB --help\" their options\n",
                 with_suggestion(app, error, argc, argv).c_str());
    return tool::bad_input;
  } catch (const Error& error) {
    std::fprintf(stderr, "%s\n", casefile::located(error, case_of(app)).what());
    return tool::bad_input;
  } catch (const std::exception& error) {
    std::fprintf(stderr, "%s\n", error.what());
    return tool::bad_input;
  }
}
