// Verbs that read a case, run it and judge what it did.
#include "tool/words.hpp"

namespace zavrek::tool {

void add_reading(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand("check", "read a case; report every fault, else what it compiles to");
  verb->add_option("case", words.check.folder, case_help)->required();
  verb->add_flag("--json", words.check.json, "print JSON");
  verb->add_flag("--signals", words.check.signals, "list the signals of the plant");
  verb->add_flag("--knobs", words.check.knobs, "list what may be set while it runs");
  verb->add_flag("--execute", words.check.execute, "load and start the libraries of `own` blocks too");
  verb->callback([&] { code = check(words.check); });

  verb =
      app.add_subcommand("describe", "the manual of an element, a setting or a file, from its field table");
  verb->add_option("kind", words.kind,
                   "cable, breaker, stage, trial, ...; all kinds are listed when left out");
  verb->callback([&] { code = describe(words.kind); });

  verb = app.add_subcommand(
      "scl", "what a configuration of a substation (IEC 61850-6) offers; or a bench written as one");
  verb->add_option("what", words.scl.what, "an SCD, CID, ICD or IID file, or the folder of a case")
      ->required();
  verb->add_option("--write", words.scl.write, "file to write the bench of the case to, such as bench.cid");
  verb->add_option("--ied", words.scl.ied,
                   "its name in it; that which the bench names, or BENCH, when left out");
  verb->callback([&] { code = scl(words.scl); });
  verb = app.add_subcommand("slave",
                            "the description file (XML) of an EtherCAT slave of a case, for its master");
  verb->add_option("case", words.slave.folder, case_help)->required();
  verb->add_option("name", words.slave.name, "which of its slaves; the first when left out");
  verb->callback([&] { code = slave(words.slave); });

  verb =
      app.add_subcommand("wiring", "the list of what is wired to the terminals of devices, and its faults");
  verb->add_option("case", words.wiring.folder, case_help)->required();
  verb->add_flag("--csv", words.wiring.csv, "print it for a spreadsheet");
  verb->add_flag("--json", words.wiring.json, "print JSON");
  verb->add_option("--page", words.wiring.page, "file of a page for the bench to write, such as wiring.html");
  verb->add_option("--compare", words.wiring.compare,
                   "such a list as it was changed by hand: what it says otherwise than the bench");
  verb->callback([&] { code = wiring(words.wiring); });

  verb = app.add_subcommand("prove",
                            "known quantities on one channel of the terminals after the other, read back");
  verb->add_option("case", words.prove.folder, case_help)->required();
  verb->add_flag("--json", words.prove.json, "print JSON");
  verb->add_option("--tolerance", words.prove.tolerance, "of a quantity");
  verb->add_option("--each", words.prove.each, "how long one stands on a channel");
  verb->callback([&] { code = prove(words.prove); });

  verb = app.add_subcommand("steady", "voltages, currents and powers of the steady state that runs start in");
  verb->add_option("case", words.steady.folder, case_help)->required();
  verb->add_flag("--between-phases", words.steady.between_phases,
                 "voltages between phases instead of to ground");
  verb->add_flag("--json", words.steady.json, "print JSON");
  verb->callback([&] { code = steady(words.steady); });

  verb = app.add_subcommand("line", "constants of an overhead line or of cables from the cross-section");
  verb->add_option("geometry", words.line.geometry, "file with the wires; see `zavrek describe wire`")
      ->required();
  verb->add_option("--length", words.line.length, "fit the parameters over frequency for this length");
  verb->add_option("--poles", words.line.poles, "poles of each fitted function")->check(CLI::Range(2, 40));
  verb->add_flag("--in-phases", words.line.in_phases,
                 "fit in phases instead of in modes of one real transformation");
  verb->add_option("--figure", words.line.figure, "draw it over frequency, in modes: NAME.png or NAME.svg");
  verb->add_flag("--json", words.line.json, "print JSON");
  verb->callback([&] { code = line(words.line); });
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
  verb->add_option("--pace", words.run.pace, pace_help)->check(paces());
  verb->add_option("--place", words.run.place, place_help)->check(places());
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
  verb->callback([&] { code = words.run.on.empty() ? run(words.run) : run_on(words.run); });

  verb = app.add_subcommand("test", "run the trials of a case: verdicts, records, figures, report");
  verb->add_option("case", words.test.folder, case_help)->required();
  verb->add_option(
      "--out", words.test.out,
      "folder for records, figures and report; out/CASE when left out, out/CASE-WHAT with --only WHAT");
  verb->add_option("--only", words.test.only, "run only trials with this in their name");
  verb->add_option("--place", words.test.place, place_help)->check(places());
  verb->add_option("--interface", words.test.interface, "network interface, whatever the bench says");
  verb->add_option("--format", words.test.encoding, "data format of the COMTRADE records")
      ->check(CLI::IsMember({"ascii", "binary", "binary32", "float32"}));
  verb->add_option("--pace", words.test.pace, pace_help)->check(paces());
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
  verb->callback([&] { code = test(words.test); });

  verb = app.add_subcommand("judge", "judge a record that was kept again, by the settings of a case");
  verb->add_option("case", words.judge.folder, case_help)->required();
  verb->add_option("record", words.judge.record, "COMTRADE (.cfg, .dat)")->required();
  verb->add_option("--trial", words.judge.trial, "by whose expectations; the record's own when left out");
  verb->add_flag("--json", words.judge.json, "print JSON");
  verb->callback([&] { code = judge(words.judge); });

  verb = app.add_subcommand("plot", "draw a record as PNG or SVG");
  verb->add_option("record", words.plot.record, "COMTRADE (.cfg, .dat), .csv or HDF5 (.h5)")->required();
  verb->add_option("--figure", words.plot.figure,
                   "NAME.png or NAME.svg; a PNG beside the record when left out");
  verb->add_option("--title", words.plot.title, "the station of the record when left out");
  verb->add_option("--panels", words.plot.panels, "at most this many groups of signals")
      ->check(CLI::Range(1, 20));
  verb->add_option("--from", words.plot.from, "draw what lies behind this time, such as \"1.2 s\"");
  verb->add_option("--until", words.plot.until, "and ahead of this one");
  verb->callback([&] { code = plot(words.plot); });
}

namespace {

void add_study_options(CLI::App* verb, StudyOptions& study) {
  verb->add_option("case", study.folder, case_help)->required();
  verb->add_option(
      "--trial", study.trial,
      "strike the fault of this trial; steps without it strikes that of the first, or one of its own");
  verb->add_option("--for", study.duration, "simulated time; the trial's, or 0.2 s, when left out");
  verb->add_option("--signals", study.signals, "signals to judge; all voltages and currents when left out");
  verb->add_flag("--json", study.json, "print JSON");
}

}  // namespace

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
  verb->callback([&] { code = reference(words.study); });

  verb = app.add_subcommand("steps", "the largest step that keeps an error, and the modes that limit it");
  add_study_options(verb, words.study);
  verb->add_option("--error", words.study.error,
                   "rms of the difference over the peak of any signal, such as \"1 %\"");
  verb->callback([&] { code = steps(words.study); });

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
  verb->callback([&] { code = compare(words.compare); });
}

}  // namespace zavrek::tool
