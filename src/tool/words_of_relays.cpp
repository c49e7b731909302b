// Verbs for programmes, element tests and settings of relays.
#include "tool/words.hpp"

namespace zavrek::tool {

void add_programmes(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand(
      "programme", "run the sweeps of a case unattended; run again, it goes on where it was stopped");
  ProgrammeOptions& o = words.programme;
  verb->add_option("case", o.folder, case_help)->required();
  verb->add_option("--out", o.out,
                   "folder for results, records and report; out/CASE-programme when left out");
  verb->add_option("--only", o.only, "run only sweeps with this in their name");
  verb->add_option("--place", o.place, place_help)->check(places());
  verb->add_option("--shard", o.shard,
                   "run one part of several, such as 3/8, on as many machines; slurm: the task of a "
                   "job array");
  verb->add_option("--keep", o.keep, "records to keep")->check(CLI::IsMember({"failures", "all", "none"}));
  verb->add_option("--workers", o.workers, "trials at a time; one for each processor when left out")
      ->check(CLI::Range(1, 256));
  verb->add_option("--pace", o.pace,
                   "wall: locked to the clock, one trial after the other; free: as fast as they go")
      ->check(paces());
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
  verb->callback([&] { code = programme(words.programme); });

  verb = app.add_subcommand("merge", "put the results of a programme's shards together");
  verb->add_option("out", words.merge.out, "folder for the whole")->required();
  verb->add_option("from", words.merge.from, "folders (or results.sqlite files) of the shards")->required();
  verb->add_option("--title", words.merge.title, "of the report");
  verb->add_flag("--json", words.merge.json, "print JSON");
  verb->add_flag("--no-figures", words.merge.no_figures, "draw nothing");
  verb->add_flag("--pdf", words.merge.pdf, "print the report as PDF too");
  verb->callback([&] { code = merge(words.merge); });
}

void add_element_tests(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand(
      "inject", "element tests of a relay: times, pickups and boundaries, proposed from its settings");
  InjectOptions& o = words.inject;
  verb->add_option("settings", o.settings, "settings that the relay runs with")->required();
  verb->add_option("--approved", o.approved, "settings that it should have, which are what is expected");
  verb->add_option("--place", o.place, "the relay runs in this process, in its own, or is already outside")
      ->check(places());
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
  verb->add_option("--model", o.model, "of the relay, for the report");
  verb->add_option("--serial", o.serial, "its serial number, for the report");
  verb->add_option("--site", o.site, "where it is tested, for the report");
  verb->add_option("--tested-by", o.tested_by, "who tests, for the report");
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
  verb->callback([&] { code = inject(words.inject); });

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
               ? curve(words.curve)
               : settings_against(words.curve.settings, words.curve.against, words.curve.json);
  });

  verb = app.add_subcommand(
      "settings", "settings of a relay as a table (CSV) for a spreadsheet, or such a table as settings");
  verb->add_option("file", words.settings.file, "a settings file, or a table (.csv)")->required();
  verb->add_option("--map", words.settings.map,
                   "what the names of somebody else's table are here: a TOML file (docs/protection.md)");
  verb->add_option("--out", words.settings.out, "file to write; printed when left out");
  verb->callback([&] { code = settings(words.settings); });
}

}  // namespace zavrek::tool
