// The command line, and nothing else: words to options, options to a verb, its result to an exit code.
#include <algorithm>
#include <cstdio>

#include <fmt/format.h>
#include <CLI/CLI.hpp>

#include "tool/words.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/error.hpp"
#include "zavrek/quantity.hpp"

namespace {

using namespace zavrek;

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
  tool::Words words;
  int code = tool::done;
  tool::add_first_hour(app, words, code);
  tool::add_reading(app, words, code);
  tool::add_running(app, words, code);
  tool::add_judging(app, words, code);
  tool::add_handover(app, words, code);
  tool::add_programmes(app, words, code);
  tool::add_element_tests(app, words, code);
  tool::add_processes(app, words, code);
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
