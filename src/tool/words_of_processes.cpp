// Verbs that are processes beside a run, or an engine.
#include "tool/words.hpp"

namespace zavrek::tool {

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
  verb->callback([&] { code = relay(words.relay); });

  verb = app.add_subcommand(
      "panel", "an operator's panel for a run of the case in another process: switches and lamps");
  verb->add_option("case", words.panel.folder, case_help)->required();
  verb->add_option("name", words.panel.name, "which of its panels; the first when left out");
  verb->add_option("--interface", words.panel.interface, "network interface, whatever the bench says");
  verb->callback([&] { code = panel(words.panel); });
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
  verb->callback([&] { code = plc(words.plc); });

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
  verb->callback([&] { code = serve(words.serve); });

  verb = app.add_subcommand("target", "works an engine: what it has, starts, stops, operates, watches");
  verb->add_option("action", words.target.action, target_actions_help())
      ->required()
      ->check(CLI::IsMember(target_actions()));
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
  verb->add_option("--pace", words.target.pace, pace_help)->check(paces());
  verb->add_flag("--json", words.target.json, "print JSON");
  verb->callback([&] { code = target(words.target); });

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
  verb->callback([&] { code = load(words.load); });

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
  verb->callback([&] { code = controller(words.controller); });

  verb = app.add_subcommand("fitness", "measure whether this computer can hold a step");
  verb->add_option("--step", words.fitness.step, "the step, such as \"50 us\"");
  verb->add_option("--for", words.fitness.duration, "how long to measure");
  verb->add_option("--write", words.fitness.write,
                   "write what is advised as a script of the shell; nothing is changed before you run it");
  verb->add_flag("--json", words.fitness.json, "as JSON");
  verb->callback([&] { code = fitness(words.fitness); });
}

}  // namespace zavrek::tool
