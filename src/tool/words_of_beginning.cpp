// Verbs for the first hour, and those that hand a case over.
#include <cstdio>

#include "tool/manual.hpp"
#include "tool/words.hpp"

namespace zavrek::tool {

void add_first_hour(CLI::App& app, Words& words, int& code) {
  CLI::App* verb =
      app.add_subcommand("demo", "copy a demo here, to run and to change; all are listed when none is named");
  verb->add_option("name", words.demo.name, "which one");
  verb->callback([&] { code = copy_demo(words.demo); });

  verb = app.add_subcommand("new", "a commented case to start from");
  verb->add_option("kind", words.begun.kind, "feeder, line (with two ends), transformer or converter")
      ->required();
  verb->add_option("folder", words.begun.folder, "where to; a folder of the kind's name when left out");
  verb->callback([&] { code = begin_case(words.begun); });

  verb = app.add_subcommand("manual",
                            "the reference as a page, or the words of this command line for other programs");
  verb->add_option("--as", words.manual_as,
                   "page: the reference manual in HTML; man: of the command line; bash: what it completes")
      ->check(CLI::IsMember({"page", "man", "bash"}));
  verb->callback([&] {
    const std::string& as = words.manual_as;
    std::fputs((as == "man"    ? man_page(app, tool_version)
                : as == "bash" ? bash_completion(app)
                               : reference_page(app))
                   .c_str(),
               stdout);
    code = done;
  });
}

void add_handover(CLI::App& app, Words& words, int& code) {
  CLI::App* verb = app.add_subcommand("export",
                                      "the plant and its control as a model that others run: a shared "
                                      "library, a Functional Mock-up Unit, or C");
  ExportOptions& o = words.exported;
  verb->add_option("case", o.folder, case_help)->required();
  verb->add_option("--as", o.as,
                   "library (with a plain C interface, zavrek/model.h), fmu, or c (C99 source of its own)")
      ->check(CLI::IsMember({"library", "fmu", "c"}));
  verb->add_option("--trial", o.trial, "with --as c: the faults of this trial are switches of the model");
  verb->add_flag("--without-control", o.without_control,
                 "with --as c: the network alone, whose gates and knobs are set from outside");
  verb->add_option("--fmi", o.fmi, "version of the Functional Mock-up Interface")
      ->check(CLI::IsMember({"2.0", "3.0"}));
  verb->add_option("--outputs", o.outputs,
                   "signals and outputs of blocks; what the bench records when left out");
  verb->add_option("--out", o.out, "the file; CASE.so, CASE.fmu or CASE.c (and .h) when left out");
  verb->add_flag("--json", o.json, "print JSON");
  verb->callback([&] { code = export_case(o); });

  verb = app.add_subcommand(
      "split", "a case in two halves, each with the other as its partner: cut at a line, or at a bus");
  SplitOptions& s = words.split;
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
  verb->callback([&] { code = split(s); });
}

}  // namespace zavrek::tool
