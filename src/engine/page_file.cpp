#include "engine/page_file.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "casefile/reader.hpp"
#include "zavrek/engine.hpp"
#include "zavrek/record.hpp"

namespace zavrek::engine {
namespace internal {
namespace {

using network::Need;
using network::within;
using nlohmann::json;

/// All panels have these; each kind its own of them.
struct Panel {
  std::string name;
  std::string title;
  std::vector<std::string> signals;
  std::vector<std::string> points;
  double span_s = 0.1;
  double minutes = 10;
  double least = 0, greatest = network::unset;
  double low = network::unset, high = network::unset;
};
struct Place {
  std::string name;
  double x = network::unset, y = network::unset;
};
struct PageHead {
  std::string title;
};

const network::Table& curves_table() {
  static const network::Table built =
      network::TableOf<Panel>("curves", "a scope on the page of an engine")
          .text("title", &Panel::title, "what stands above it; its name when left out", Need::optional)
          .texts("signals", &Panel::signals, "what it shows at first: [\"CT1.ia\", \"CT1.ib\"]")
          .texts("points", &Panel::points, "two-state points shown as lanes below: [\"R1.start\", \"Q1\"]")
          .quantity("span", &Panel::span_s, "ms", within(1e-3, 60), "time from left to right")
          .build();
  return built;
}
const network::Table& gauge_table() {
  static const network::Table built =
      network::TableOf<Panel>("gauge", "a value on a scale: rms of what alternates, else its mean")
          .text("title", &Panel::title, "what stands above it; its name when left out", Need::optional)
          .texts("signals", &Panel::signals, "the signal")
          .quantity("least", &Panel::least, "", network::any(), "left end of the scale, in SI units")
          .quantity("greatest", &Panel::greatest, "", network::any(), "right end of the scale, in SI units")
          .quantity("low", &Panel::low, "", network::any(), "below this it is marked", Need::optional)
          .quantity("high", &Panel::high, "", network::any(), "above this it is marked", Need::optional)
          .build();
  return built;
}
const network::Table& trend_table() {
  static const network::Table built =
      network::TableOf<Panel>("trend", "values over minutes, second by second")
          .text("title", &Panel::title, "what stands above it; its name when left out", Need::optional)
          .texts("signals", &Panel::signals, "what it shows")
          .quantity("minutes", &Panel::minutes, "", within(0.5, 60), "time from left to right")
          .build();
  return built;
}
const network::Table& states_table() {
  static const network::Table built =
      network::TableOf<Panel>("states", "lamps: breakers, outputs of devices, contacts")
          .text("title", &Panel::title, "what stands above it; its name when left out", Need::optional)
          .texts("points", &Panel::points, "what it shows: [\"Q1\", \"R1.trip\"]")
          .build();
  return built;
}
const network::Table& place_table() {
  static const network::Table built =
      network::TableOf<Place>("place", "where a bus stands in the one-line diagram")
          .quantity("x", &Place::x, "", within(0, 100), "from left, 0 to 100")
          .quantity("y", &Place::y, "", within(0, 100), "from above, 0 to 100")
          .build();
  return built;
}
const network::Table& head_table() {
  static const network::Table built =
      network::TableOf<PageHead>("page", "a case's page")
          .text("title", &PageHead::title, "what stands above all", Need::optional)
          .build();
  return built;
}

json texts(const std::vector<std::string>& list) { return json(list); }

class PageReader {
 public:
  PageReader(const std::filesystem::path& file, const trial::Case& all, const Session::Known& known)
      : reader_(record::read_file(file), file.filename().string()), all_(all), known_(known) {}

  json run() {
    PageHead head;
    if (const toml::table* table = reader_.root()["page"].as_table())
      reader_.fields(*table, "page", {{&head_table(), &head}});
    for (const auto* table : {&curves_table(), &gauge_table(), &trend_table(), &states_table()}) take(*table);
    json at = json::object();
    reader_.each_named("place", [&](const std::string& name, const toml::table& body) {
      Place place;
      reader_.fields(body, "place." + name, {{&place_table(), &place}});
      if (!all_.network.find_bus(name)) flaw(body, "place." + name, "", "no bus of this name");
      at[name] = {place.x, place.y};
    });
    for (const auto& [key, value] : reader_.root()) {
      static const std::vector<std::string> kinds{"page", "place", "curves", "gauge", "trend", "states"};
      const std::string word(key.str());
      if (std::find(kinds.begin(), kinds.end(), word) == kinds.end())
        reader_.report(value, word, "", "no such kind of panel" + suggestion(word, kinds));
    }
    if (!reader_.flaws().empty()) throw Error(reader_.flaws());
    std::sort(panels_.begin(), panels_.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    json list = json::array();
    for (auto& [line, panel] : panels_) list.push_back(std::move(panel));
    return {{"title", head.title}, {"panels", list}, {"at", at}};
  }

 private:
  void flaw(const toml::table& at, const std::string& place, const std::string& field,
            const std::string& text) {
    reader_.report(at, place, field, text);
  }
  void take(const network::Table& table) {
    reader_.each_named(table.kind, [&](const std::string& name, const toml::table& body) {
      Panel panel;
      panel.name = name;
      const std::string place = table.kind + "." + name;
      reader_.fields(body, place, {{&table, &panel}});
      for (const std::string& signal : panel.signals) {
        if (std::find(known_.signals.begin(), known_.signals.end(), signal) == known_.signals.end())
          flaw(body, place, "signals",
               fmt::format("no signal \"{}\"{}", signal, suggestion(signal, known_.signals)));
      }
      for (const std::string& point : panel.points) {
        if (std::find(known_.points.begin(), known_.points.end(), point) == known_.points.end())
          flaw(body, place, "points",
               fmt::format("no point \"{}\"{}", point, suggestion(point, known_.points)));
      }
      const auto number = [](double value) { return network::is_set(value) ? json(value) : json(); };
      panels_.emplace_back(body.source().begin.line, json{{"kind", table.kind},
                                                          {"name", name},
                                                          {"title", panel.title.empty() ? name : panel.title},
                                                          {"signals", texts(panel.signals)},
                                                          {"points", texts(panel.points)},
                                                          {"span_s", panel.span_s},
                                                          {"minutes", panel.minutes},
                                                          {"least", number(panel.least)},
                                                          {"greatest", number(panel.greatest)},
                                                          {"low", number(panel.low)},
                                                          {"high", number(panel.high)}});
    });
  }

  casefile::internal::Reader reader_;
  const trial::Case& all_;
  const Session::Known& known_;
  std::vector<std::pair<unsigned, json>> panels_;
};

}  // namespace

json read_page_file(const std::filesystem::path& folder, const trial::Case& all,
                    const Session::Known& known) {
  const std::filesystem::path file = folder / "page.toml";
  if (!std::filesystem::exists(file))
    return {{"title", ""}, {"panels", json::array()}, {"at", json::object()}};
  return PageReader(file, all, known).run();
}

}  // namespace internal

std::vector<const network::Table*> page_tables() {
  using namespace internal;
  return {&head_table(), &curves_table(), &gauge_table(), &trend_table(), &states_table(), &place_table()};
}

}  // namespace zavrek::engine
