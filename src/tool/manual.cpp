// The words of the command line for other programs: a manual page, and what a shell completes.
#include "tool/manual.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zavrek::tool {
namespace {

/// As roff takes it: nothing begins a request, and a dash is one that can be copied.
std::string roff(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '\\')
      out += "\\e";
    else if (c == '-')
      out += "\\-";
    else
      out += c;
  }
  if (!out.empty() && (out.front() == '.' || out.front() == '\'')) out.insert(0, "\\&");
  return out;
}

std::vector<const CLI::App*> verbs_of(const CLI::App& app) {
  return app.get_subcommands([](const CLI::App* one) { return !one->get_name().empty(); });
}

/// "--for TEXT", with what it may be and what it is when left out.
std::string heading(const CLI::Option& option) {
  std::string text = option.get_positional() ? option.get_name(true) : option.get_name(false, true);
  std::replace(text.begin(), text.end(), ',', ' ');
  if (option.get_items_expected_max() > 0 && !option.get_positional()) text += " " + option.get_type_name();
  return text;
}

void add_options(const CLI::App& verb, std::string& page) {
  for (const CLI::Option* option : verb.get_options()) {
    if (option->get_name() == "--help") continue;
    page += fmt::format(".TP\n.B {}\n{}", roff(heading(*option)), roff(option->get_description()));
    if (!option->get_default_str().empty())
      page += roff(fmt::format(" ({} when left out)", option->get_default_str()));
    if (option->get_required()) page += " (required)";
    page += "\n";
  }
}

}  // namespace

std::string man_page(const CLI::App& app, const std::string& version) {
  std::string page =
      fmt::format(".TH ZAVREK 1 \"\" \"zavrek {}\" \"User Commands\"\n.SH NAME\nzavrek \\- {}\n", version,
                  roff(app.get_description()));
  page += ".SH SYNOPSIS\n.B zavrek\nVERB [OPTIONS] [CASE]\n.SH VERBS\n";
  for (const CLI::App* verb : verbs_of(app)) {
    page += fmt::format(".SS {}\n{}.\n", roff(verb->get_name()), roff(verb->get_description()));
    add_options(*verb, page);
  }
  page +=
      ".SH EXIT STATUS\n.TP\n.B 0\nall is well\n.TP\n.B 1\na verdict failed, or a run could not go "
      "on\n.TP\n.B 2\nbad input\n"
      ".TP\n.B 3\nall was run, and something could not be judged or kept\n.TP\n.B 130\ninterrupted\n"
      ".SH SEE ALSO\n.B zavrek describe\nis the manual of everything that a case can contain.\n";
  return page;
}

std::string bash_completion(const CLI::App& app) {
  std::string verbs, cases;
  for (const CLI::App* verb : verbs_of(app)) {
    verbs += (verbs.empty() ? "" : " ") + verb->get_name();
    std::string options;
    std::string choices;
    for (const CLI::Option* option : verb->get_options()) {
      const std::string name = option->get_name(false, true);
      if (!name.starts_with('-')) continue;
      std::string all = name;
      std::replace(all.begin(), all.end(), ',', ' ');
      options += (options.empty() ? "" : " ") + all;
      // "TEXT:{wall,free}"
      const std::string type = option->get_type_name();
      const std::size_t open = type.find(":{"), close = type.find('}');
      if (open == std::string::npos || close == std::string::npos) continue;
      std::string words = type.substr(open + 2, close - open - 2);
      std::replace(words.begin(), words.end(), ',', ' ');
      choices += fmt::format(
          "        {}:{}) COMPREPLY=($(compgen -W \"{}\" -- \"$word\")); return ;;\n", verb->get_name(),
          name.substr(name.rfind(',') == std::string::npos ? 0 : name.rfind(',') + 1), words);
    }
    cases += choices;
    cases += fmt::format(
        "        {}:*) [[ $word == -* ]] && COMPREPLY=($(compgen -W \"{}\" -- \"$word\")) && return ;;\n",
        verb->get_name(), options);
  }
  return fmt::format(
      "# What bash completes behind zavrek: verbs, options, words that an option may have; else files and "
      "folders.\n"
      "_zavrek() {{\n"
      "    local word=${{COMP_WORDS[COMP_CWORD]}} before=${{COMP_WORDS[COMP_CWORD-1]}} "
      "verb=${{COMP_WORDS[1]}}\n"
      "    if [ \"$COMP_CWORD\" -eq 1 ]; then\n"
      "        COMPREPLY=($(compgen -W \"{} --help --version\" -- \"$word\"))\n"
      "        return\n"
      "    fi\n"
      "    case $verb:$before in\n{}    esac\n"
      "    COMPREPLY=($(compgen -f -- \"$word\"))\n"
      "}}\n"
      "complete -o filenames -F _zavrek zavrek\n",
      verbs, cases);
}

}  // namespace zavrek::tool
