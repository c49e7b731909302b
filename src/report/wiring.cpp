// The list of what is wired to the terminals of devices, to be laid on the bench.
#include <fmt/format.h>

#include "report/markup.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {

using internal::escaped;

std::string wiring_page(const std::string& title, const std::vector<bench::Wire>& wires,
                        const std::vector<std::string>& flaws) {
  std::string page = internal::page_head("Wiring: " + title);
  page += fmt::format(
      "<header><h1>Wiring: {}</h1><p class=\"facts\">{} channels; {}</p><p class=\"verdict "
      "{}\">{}</p></header>\n"
      "<main>\n",
      escaped(title), wires.size(), escaped(internal::now_text()), flaws.empty() ? "pass" : "fail",
      flaws.empty() ? std::string("no fault") : fmt::format("{} faults", flaws.size()));
  if (!flaws.empty()) {
    page += "<ul>\n";
    for (const std::string& flaw : flaws) page += fmt::format("<li>{}</li>\n", escaped(flaw));
    page += "</ul>\n";
  }
  std::string device = "\n";  // no device's name
  for (const bench::Wire& wire : wires) {
    if (wire.device != device) {
      if (device != "\n") page += "</tbody></table>\n";
      device = wire.device;
      page += fmt::format(
          "<h2>{}</h2><table class=\"wires\"><thead><tr><th>terminal</th><th>is</th><th>signal</th><th>card, "
          "channel</th>"
          "<th>ratio</th><th>at rated value</th><th>full scale</th><th>checked</th></tr></thead><tbody>\n",
          device.empty() ? std::string("no device") : escaped(device));
    }
    page += fmt::format(
        "<tr><td>{}</td><td>{}</td><td>{}</td><td>{}, "
        "{}</td><td>{}</td><td>{}</td><td>{}</td><td></td></tr>\n",
        wire.terminal.empty() ? std::string("open") : escaped(wire.terminal), escaped(wire.input),
        escaped(wire.signal), escaped(wire.card), wire.channel, escaped(wire.ratio), escaped(wire.rated),
        escaped(wire.full_scale));
  }
  if (!wires.empty()) page += "</tbody></table>\n";
  return page + "</main>\n" + internal::page_end();
}

}  // namespace zavrek::report
