// The reference manual as one page: kinds by file, verbs, an index with search, cross references.
#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "report/markup.hpp"
#include "tool/manual.hpp"
#include "tool/reference.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::tool {
namespace {

using report::internal::escaped;

constexpr const char* style = R"(
:root { --ink: #22303a; --soft: #5b6770; --line: #d9dfe2; --paper: #ffffff; --ground: #f3f5f4; --link: #2b5fa8; }
* { box-sizing: border-box; }
body { margin: 0; background: var(--ground); color: var(--ink); font: 14px/1.5 "DejaVu Sans", Verdana, sans-serif; }
nav { position: fixed; inset: 0 auto 0 0; width: 270px; overflow-y: auto; background: var(--paper); border-right: 1px solid var(--line); padding: 16px; }
nav input { width: 100%; padding: 6px 8px; font: inherit; border: 1px solid var(--soft); border-radius: 4px; }
nav h2 { font-size: 12px; color: var(--soft); margin: 14px 0 2px; font-weight: normal; }
nav a { display: block; padding: 1px 0 1px 8px; color: var(--link); text-decoration: none; }
nav p { color: var(--soft); font-size: 12px; margin: 6px 0 0; }
main { margin-left: 270px; padding: 20px 32px 60px; max-width: 1060px; }
h1 { font-size: 24px; margin: 0 0 6px; }
section { background: var(--paper); border: 1px solid var(--line); border-radius: 6px; padding: 14px 18px; margin: 14px 0; }
section h3 { font-size: 17px; margin: 0; }
section h3 small { color: var(--soft); font-weight: normal; font-size: 12px; margin-left: 8px; }
section > p { margin: 2px 0 8px; }
table { border-collapse: collapse; width: 100%; margin: 6px 0; }
th { text-align: left; font-weight: normal; color: var(--soft); font-size: 12px; }
td, th { padding: 4px 10px 4px 0; border-bottom: 1px solid var(--line); vertical-align: top; }
td:first-child { white-space: nowrap; font-family: "DejaVu Sans Mono", monospace; font-size: 13px; }
td.need { color: var(--soft); width: 34%; }
td.must { color: var(--ink); font-weight: bold; }
pre { background: var(--ground); border-radius: 4px; padding: 8px 12px; overflow-x: auto; font-size: 12.5px; margin: 6px 0 0; }
main a { color: var(--link); text-decoration: none; }
.from { color: var(--soft); font-size: 12px; margin: 8px 0 0; }
[hidden] { display: none !important; }
)";

constexpr const char* script = R"(
"use strict";
const box = document.getElementById("search");
const told = document.getElementById("told");
const sections = [...document.querySelectorAll("main section")];
const texts = sections.map((s) => s.textContent.toLowerCase());
const links = new Map([...document.querySelectorAll("nav a")].map((a) => [a.hash.slice(1), a]));
function find() {
  const words = box.value.toLowerCase().split(/\s+/).filter(Boolean);
  let count = 0;
  sections.forEach((section, k) => {
    const fits = words.every((word) => texts[k].includes(word));
    section.hidden = !fits;
    if (links.has(section.id)) links.get(section.id).hidden = !fits;
    count += fits;
  });
  for (const title of document.querySelectorAll("nav h2, main h2")) {
    title.hidden = false;
    let next = title.nextElementSibling;
    let any = false;
    while (next && next.tagName !== "H2") { any = any || !next.hidden; next = next.nextElementSibling; }
    title.hidden = !any;
  }
  told.textContent = words.length ? `${count} of ${sections.length}` : "";
}
box.addEventListener("input", find);
addEventListener("hashchange", () => { if (box.value && document.querySelector(`[id="${location.hash.slice(1)}"]`)?.hidden) { box.value = ""; find(); } });
addEventListener("keydown", (e) => { if (e.key === "/" && e.target !== box) { e.preventDefault(); box.focus(); box.select(); } });
)";

std::string id_of(const KindManual& kind) { return kind.group + "." + kind.table->kind; }

/// Words between ` that are kinds lead there, those of the same file first.
class Linked {
 public:
  explicit Linked(const std::vector<KindManual>& kinds) {
    for (const KindManual& kind : kinds) by_name_[kind.table->kind].push_back(&kind);
  }
  [[nodiscard]] std::string text(const std::string& doc, const std::string& group) const {
    std::string out;
    for (std::size_t at = 0; at < doc.size();) {
      const std::size_t open = doc.find('`', at);
      const std::size_t close = open == std::string::npos ? open : doc.find('`', open + 1);
      if (close == std::string::npos) return out + escaped(doc.substr(at));
      out += escaped(doc.substr(at, open - at));
      const std::string word = doc.substr(open + 1, close - open - 1);
      const std::string last = word.substr(word.rfind(' ') == std::string::npos ? 0 : word.rfind(' ') + 1);
      out +=
          to(word.starts_with("zavrek describe ") ? last : word, group, "<code>" + escaped(word) + "</code>");
      at = close + 1;
    }
    return out;
  }
  [[nodiscard]] std::string to(const std::string& kind, const std::string& group,
                               const std::string& shown) const {
    const auto found = by_name_.find(kind);
    if (found == by_name_.end()) return shown;
    const KindManual* best = found->second.front();
    for (const KindManual* one : found->second) {
      if (one->group == group) best = one;
    }
    return fmt::format("<a href=\"#{}\">{}</a>", id_of(*best), shown);
  }

 private:
  std::map<std::string, std::vector<const KindManual*>> by_name_;
};

std::string section_of(const KindManual& kind, const Linked& linked) {
  const network::Table& table = *kind.table;
  std::string s = fmt::format("<section id=\"{}\"><h3>{}<small>{}</small></h3>\n<p>{}</p>\n", id_of(kind),
                              escaped(table.kind), escaped(kind.file), linked.text(table.doc, kind.group));
  if (!table.fields.empty())
    s += "<table><thead><tr><th>field</th><th>takes</th><th></th></tr></thead><tbody>\n";
  for (const network::Field& field : table.fields) {
    std::string takes = escaped(field.expects);
    if (field.names_bus) takes = linked.to("bus", kind.group, takes);
    s += fmt::format("<tr><td>{}</td><td class=\"need{}\">{}<br>{}</td><td>{}</td></tr>\n",
                     escaped(field.name), field.need == network::Need::required ? " must" : "", takes,
                     escaped(need_of(field)), linked.text(field.doc, kind.group));
  }
  if (!table.fields.empty()) s += "</tbody></table>\n";
  if (!table.outputs.empty())
    s += "<table><thead><tr><th>shows</th><th>unit</th><th></th></tr></thead><tbody>\n";
  for (const network::Output& output : table.outputs)
    s += fmt::format("<tr><td>{}</td><td>{}</td><td>{}</td></tr>\n", escaped(shown_as(output)),
                     escaped(output.unit), linked.text(output.doc, kind.group));
  if (!table.outputs.empty()) s += "</tbody></table>\n";
  if (!kind.example.empty())
    s += fmt::format("<p class=\"from\">for example, in {}</p>\n<pre>{}</pre>\n", escaped(kind.example_from),
                     escaped(kind.example));
  return s + "</section>\n";
}

std::string section_of(const CLI::App& verb) {
  std::string s = fmt::format("<section id=\"verb.{0}\"><h3>zavrek {0}</h3>\n<p>{1}</p>\n<table><tbody>\n",
                              escaped(verb.get_name()), escaped(verb.get_description()));
  for (const CLI::Option* option : verb.get_options()) {
    if (option->get_name() == "--help") continue;
    const std::string name =
        option->get_positional() ? option->get_name(true) : option->get_name(false, true);
    const std::string type = option->get_items_expected_max() > 0 ? option->get_type_name() : "";
    s += fmt::format(
        "<tr><td>{}</td><td class=\"need\">{}{}</td><td>{}</td></tr>\n", escaped(name), escaped(type),
        option->get_required()               ? " required"
        : !option->get_default_str().empty() ? "<br>default " + escaped(option->get_default_str())
                                             : std::string(),
        escaped(option->get_description()));
  }
  return s + "</tbody></table></section>\n";
}

}  // namespace

std::string reference_page(const CLI::App& app) {
  std::vector<KindManual> kinds = all_kinds();
  add_examples(kinds);
  const Linked linked(kinds);
  std::string index, body, file;
  const auto begin = [&](const std::string& title) {
    index += "<h2>" + escaped(title) + "</h2>\n";
    body += "<h2>" + escaped(title) + "</h2>\n";
  };
  for (const KindManual& kind : kinds) {
    if (kind.file != file) begin(file = kind.file);
    index += fmt::format("<a href=\"#{}\">{}</a>\n", id_of(kind), escaped(kind.table->kind));
    body += section_of(kind, linked);
  }
  begin("verbs of the command line");
  for (const CLI::App* verb : app.get_subcommands([](const CLI::App*) { return true; })) {
    index += fmt::format("<a href=\"#verb.{0}\">{0}</a>\n", escaped(verb->get_name()));
    body += section_of(*verb);
  }
  begin("calls of an engine");
  index += "<a href=\"#engine\">calls</a>\n";
  body += "<section id=\"engine\"><h3>calls of an engine's interface</h3>\n<pre>" +
          escaped(engine::calls_manual()) + "</pre></section>\n";
  return fmt::format(
      "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">\n<meta name=\"viewport\" "
      "content=\"width=device-width, initial-scale=1\">\n<title>Zavrek: "
      "reference</title>\n<style>{}</style></head>"
      "<body>\n<nav><input id=\"search\" type=\"search\" placeholder=\"search ( / )\" "
      "aria-label=\"search\"><p "
      "id=\"told\"></p>\n{}</nav>\n<main><h1>Zavrek: reference</h1>\n<p>Everything that the files of a case "
      "can "
      "contain, every verb, every call of an engine. A name in [KIND.NAME] is the user's own; what a thing "
      "shows is "
      "read, recorded and judged by NAME.SIGNAL. {}</p>\n{}</main>\n<script>{}</script></body></html>\n",
      style, index, escaped(sign_convention()), body, script);
}

}  // namespace zavrek::tool
