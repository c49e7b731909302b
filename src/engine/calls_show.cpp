// What viewers see of a run: values, curves, scopes with triggers, phasors, spectra, planes, trends, timing.
#include <algorithm>
#include <cmath>
#include <fstream>

#include <fmt/format.h>

#include "engine/bundle.hpp"
#include "engine/calls.hpp"
#include "engine/views.hpp"
#include "record/archive_file.hpp"
#include "report/json.hpp"

namespace zavrek::engine::internal {

using nlohmann::json;
using report::number_or_null;

namespace {

constexpr int most_pixels = 4000;
constexpr double most_span_s = 3600, least_span_s = 1e-3;
constexpr std::size_t most_curves = 24;

std::vector<std::size_t> columns_of(const Traces& traces, const std::vector<std::string>& names) {
  if (names.empty()) refuse(400, "signals", "missing: names with commas between");
  if (names.size() > most_curves) refuse(400, "signals", fmt::format("{} at most", most_curves));
  std::vector<std::size_t> columns;
  for (const std::string& name : names) {
    const auto at = std::find(traces.signals.begin(), traces.signals.end(), name);
    if (at == traces.signals.end())
      refuse(404, "signals",
             fmt::format("no signal \"{}\"{}", name.substr(0, 100), suggestion(name, traces.signals)));
    columns.push_back(static_cast<std::size_t>(at - traces.signals.begin()));
  }
  return columns;
}

std::shared_ptr<const Traces> traces_of(const House& house, const json& fields) {
  const bool before = fields.value("way", "") == "before";
  auto traces = house.current()->traces(before);
  if (!traces)
    refuse(409, before ? "way" : "",
           before ? "this run did not go back" : "nothing runs, and nothing has run; start a case");
  return traces;
}

}  // namespace

json curves_of(const Traces& traces, const std::vector<std::string>& names, double from_s, double until_s,
               int pixels) {
  const std::vector<std::size_t> columns = columns_of(traces, names);
  std::vector<double> rows;
  const auto wanted = static_cast<std::int64_t>(std::ceil(from_s * traces.rate_Hz));
  const std::int64_t first = traces.rows.read(
      wanted, static_cast<std::int64_t>(std::floor(until_s * traces.rate_Hz)) + 1, columns, rows);
  const Pixels out = pixels_of(rows, columns.size(), first, traces.rate_Hz, static_cast<std::size_t>(pixels));
  json curves = json::array();
  for (std::size_t k = 0; k < names.size(); ++k)
    curves.push_back({{"name", names[k]},
                      {"unit", traces.units[columns[k]]},
                      {"least", out.least[k]},
                      {"greatest", out.greatest[k]}});
  return {{"time_s", out.time_s},
          {"curves", curves},
          {"lost", std::max<std::int64_t>(0, first - std::max<std::int64_t>(0, wanted))}};
}

namespace {

double present_s(const Traces& traces) {
  return static_cast<double>(traces.rows.written() - 1) / traces.rate_Hz;
}

Reply values(House& house, const Asked& asked) {
  const auto session = house.current();
  const auto view = session->values();
  if (!view) refuse(409, "", "nothing runs; start a case");
  const auto known = session->known();
  const std::vector<std::string> names = texts_of(asked.fields, "names");
  json values = json::object();
  const auto add = [&](const std::string& name, const json& value) {
    if (names.empty() || std::find(names.begin(), names.end(), name) != names.end()) values[name] = value;
  };
  for (std::size_t k = 0; k < known->signals.size(); ++k)
    add(known->signals[k], number_or_null(view->values[k]));
  for (std::size_t k = 0; k < known->points.size(); ++k)
    add(known->points[k], view->values[known->signals.size() + k] != 0);
  for (const std::string& name : names) {
    if (!values.contains(name))
      refuse(
          404, "names",
          fmt::format("no signal or point \"{}\"{}", name.substr(0, 100), suggestion(name, known->signals)));
  }
  return json{{"time_s", view->time_s}, {"age_s", view->age_s}, {"values", values}};
}

Reply traces(House& house, const Asked& asked) {
  const auto of = traces_of(house, asked.fields);
  const double seconds = std::clamp(asked.fields.value("seconds", 1.0), least_span_s, most_span_s);
  const int pixels = std::clamp(asked.fields.value("pixels", 800), 1, most_pixels);
  const double now_s = present_s(*of);
  const double from_s = asked.fields.value("from", now_s - seconds);
  return curves_of(*of, texts_of(asked.fields, "signals"), from_s, from_s + seconds, pixels);
}

/// The latest instant, behind `after_s` and not behind `until_s`, at which a curve passes a level; NaN for
/// none.
double crossing(const Traces& traces, std::size_t column, double level, bool rising, double after_s,
                double until_s) {
  std::vector<double> rows;
  const auto last = static_cast<std::int64_t>(std::floor(until_s * traces.rate_Hz));
  const std::int64_t first =
      traces.rows.read(std::max<std::int64_t>(0, static_cast<std::int64_t>(after_s * traces.rate_Hz)),
                       last + 1, {column}, rows);
  for (std::size_t k = rows.size(); k-- > 1;) {
    const double before = rows[k - 1], now = rows[k];
    if (rising ? !(before < level && now >= level) : !(before > level && now <= level)) continue;
    const double share = now == before ? 0 : (level - before) / (now - before);
    const double at_s =
        (static_cast<double>(first + static_cast<std::int64_t>(k) - 1) + share) / traces.rate_Hz;
    return at_s > after_s ? at_s : network::unset;
  }
  return network::unset;
}

/// Curves around the latest trigger, or the latest span where there is none to wait for.
Reply scope(House& house, const Asked& asked) {
  const json& fields = asked.fields;
  const auto of = traces_of(house, fields);
  const double span_s = quantity_of(fields, "span", "s", 0.1);
  if (!(span_s >= least_span_s && span_s <= most_span_s)) refuse(400, "span", "1 ms to 1 h");
  const double ahead = std::clamp(fields.value("pre", 0.2), 0.0, 1.0);
  const int pixels = std::clamp(fields.value("pixels", 600), 1, most_pixels);
  const double after_s = fields.value("after", -1.0);
  const double now_s = present_s(*of), newest_s = now_s - (1 - ahead) * span_s;
  const std::string trigger = fields.value("trigger", "");
  const std::vector<std::string> names = texts_of(fields, "signals");
  double at_s = network::unset;
  if (fields.contains("around")) {
    at_s = fields["around"].get<double>();
  } else if (trigger.empty()) {
    at_s = now_s - (1 - ahead) * span_s;
  } else if (const auto column = std::find(of->signals.begin(), of->signals.end(), trigger);
             column != of->signals.end()) {
    const std::string slope = fields.value("slope", "rising");
    if (slope != "rising" && slope != "falling") refuse(400, "slope", "\"rising\" or \"falling\"");
    const double oldest_s = static_cast<double>(std::max<std::int64_t>(
                                0, of->rows.written() - static_cast<std::int64_t>(of->rows.rows()))) /
                            of->rate_Hz;
    at_s = crossing(*of, static_cast<std::size_t>(column - of->signals.begin()), fields.value("level", 0.0),
                    slope == "rising", std::max(after_s, oldest_s), newest_s);
  } else {
    const auto session = house.current();
    const auto& points = session->known()->points;
    if (std::find(points.begin(), points.end(), trigger) == points.end())
      refuse(404, "trigger",
             fmt::format("no signal or point \"{}\"{}", trigger.substr(0, 100),
                         suggestion(trigger, of->signals)));
    const std::string slope = fields.value("slope", "rising");
    std::int64_t next = 0;
    for (const Happened& one : session->events(0, next)) {
      const bool same = one.point == trigger || one.point == trigger + ".closed";
      if (same && one.on == (slope == "rising") && one.time_s > after_s && one.time_s <= newest_s)
        at_s = one.time_s;
    }
  }
  if (std::isnan(at_s)) return json{{"triggered", false}, {"now_s", now_s}};
  json out = curves_of(*of, names, at_s - ahead * span_s, at_s + (1 - ahead) * span_s, pixels);
  out["triggered"] = true;
  out["at_s"] = at_s;
  out["now_s"] = now_s;
  return out;
}

template <class Make>
json shown(Make&& make, const char* field) {
  try {
    return make();
  } catch (const Error& error) {
    refuse(409, field, error.what());
  }
}

Reply phasors(House& house, const Asked& asked) {
  const auto of = traces_of(house, asked.fields);
  const std::vector<std::string> names = texts_of(asked.fields, "signals");
  (void)columns_of(*of, names);
  return shown([&] { return phasors_of(*of, names, house.current()->loaded().network.frequency_Hz); }, "");
}

Reply spectrum(House& house, const Asked& asked) {
  const auto of = traces_of(house, asked.fields);
  const std::string name = asked.fields["signal"].get<std::string>();
  (void)columns_of(*of, {name});
  const int cycles = std::clamp(asked.fields.value("cycles", 10), 1, 50);
  return shown([&] { return spectrum_of(*of, name, house.current()->loaded().network.frequency_Hz, cycles); },
               "cycles");
}

Reply trajectory(House& house, const Asked& asked) {
  const auto of = traces_of(house, asked.fields);
  const double seconds = std::clamp(asked.fields.value("seconds", 0.5), 0.02, 5.0);
  return shown(
      [&] {
        return trajectory_of(*of, house.current()->loaded(), asked.fields["device"].get<std::string>(),
                             seconds);
      },
      "device");
}

/// Second by second.
Reply trend(House& house, const Asked& asked) {
  const auto of = traces_of(house, asked.fields);
  const std::vector<std::string> names = texts_of(asked.fields, "signals");
  std::vector<std::size_t> columns = columns_of(*of, names);
  const std::size_t count = columns.size();
  for (std::size_t k = 0; k < count; ++k) columns.push_back(of->signals.size() + columns[k]);
  const auto seconds =
      static_cast<std::int64_t>(60 * std::clamp(asked.fields.value("minutes", 10.0), 0.1, 60.0));
  const std::int64_t until = of->seconds.written();
  std::vector<double> rows;
  const std::int64_t first =
      of->seconds.read(std::max<std::int64_t>(0, until - seconds), until, columns, rows);
  json time = json::array(), curves = json::array();
  const std::size_t height = rows.size() / (2 * count);
  for (std::size_t row = 0; row < height; ++row) time.push_back(first + static_cast<std::int64_t>(row) + 1);
  for (std::size_t k = 0; k < count; ++k) {
    json mean = json::array(), rms = json::array();
    for (std::size_t row = 0; row < height; ++row) {
      mean.push_back(rows[row * 2 * count + k]);
      rms.push_back(rows[row * 2 * count + count + k]);
    }
    curves.push_back({{"name", names[k]}, {"unit", of->units[columns[k]]}, {"mean", mean}, {"rms", rms}});
  }
  return json{{"time_s", time}, {"curves", curves}};
}

/// Pages of memory that the engine holds, in MiB.
double memory_MiB() {
  std::ifstream file("/proc/self/statm");
  double size = 0, resident = 0;
  file >> size >> resident;
  return resident * 4096 / (1U << 20U);
}

Reply timing(House& house, const Asked&) {
  const auto session = house.current();
  const auto live = session->live_timing();
  if (!live) refuse(409, "", "nothing has run for a quarter of a second yet");
  const auto classes = [](const auto& counts) {
    json list = json::array();
    for (std::size_t k = 0; k < counts.size(); ++k) {
      if (counts[k] > 0)
        list.push_back({1e-3 * static_cast<double>(pace::Histogram::coarse_edge_ns(k)), counts[k]});
    }
    return list;
  };
  json causes = json::object();
  for (std::size_t k = 0; k < live->causes.size(); ++k)
    causes[pace::to_string(static_cast<pace::Cause>(k))] = live->causes[k];
  return json{{"steps", live->steps},
              {"step_us", live->step_us},
              {"overruns", live->overruns},
              {"worst_overrun_us", live->worst_overrun_us},
              {"why", causes},
              {"compute_us", classes(live->compute)},
              {"lateness_us", classes(live->lateness)},
              {"memory_MiB", memory_MiB()},
              {"ports", report::ports_json(session->accounts())}};
}

/// The latest seconds at the rate of the samples, as a record.
Reply capture(House& house, const Asked& asked) {
  const auto session = house.current();
  const double seconds = std::clamp(asked.fields.value("seconds", 2.0), 0.01, 60.0);
  const std::string as = asked.fields.value("as", "comtrade");
  const double now_s = present_s(*traces_of(house, json::object()));
  const double until_s = asked.fields.value("until", now_s);
  record::Record record = [&] {
    try {
      return session->capture(until_s - seconds, until_s,
                              asked.fields.value("trigger", until_s - seconds / 2));
    } catch (const Error& error) {
      refuse(409, "seconds", error.what());
    }
  }();
  if (as == "csv") return {record::to_csv(record), "text/csv", "capture.csv"};
  if (as != "comtrade") refuse(400, "as", "\"comtrade\" or \"csv\"");
  const record::Comtrade files = record::to_comtrade(record, record::Encoding::float32);
  return {record::internal::packed({{"capture.cfg", files.configuration},
                                    {"capture.dat", files.data},
                                    {"capture.inf", record::to_information(record)}},
                                   record::internal::Packing::zip),
          "application/zip", "capture.zip"};
}

Reply record_of(House& house, const Asked&) {
  const auto ended = house.current()->ended();
  if (!ended || ended->record.time_s.size() < 2) refuse(409, "", "the run has not ended; stop it first");
  return json{{"csv", record::to_csv(ended->record)}};
}

}  // namespace

std::vector<Call> calls_of_show() {
  const Call::Field signals{"signals", "texts", "names with commas between", true},
      way{"way", "string", "\"before\": of the way that was left to go back"},
      pixels{"pixels", "integer", "how many"};
  return {
      {"GET",
       "/api/v1/run/values",
       "signals and points as they are",
       {{"names", "texts", "some of them; all when left out"}},
       values},
      {"GET",
       "/api/v1/run/traces",
       "least and greatest of signals for each pixel",
       {signals,
        {"seconds", "number", "how much; 1 when left out"},
        {"from", "number", "beginning in s of the plant; the latest when left out"},
        pixels,
        way},
       traces},
      {"GET",
       "/api/v1/run/scope",
       "curves around the latest trigger that has its whole span; without a trigger the latest span",
       {signals,
        {"span", "value", "such as \"100 ms\""},
        {"trigger", "string", "signal that passes a level, or point that goes on or off"},
        {"level", "number", "in SI units"},
        {"slope", "string", "\"rising\" or \"falling\""},
        {"pre", "number", "share of the span ahead of the trigger, 0 to 1; 0.2 when left out"},
        {"after", "number", "triggers behind this instant alone count"},
        {"around", "number", "this instant in place of a trigger"},
        pixels,
        way},
       scope},
      {"GET",
       "/api/v1/run/phasors",
       "rms and angle over the latest cycle, and sequence values of three phases",
       {signals, way},
       phasors},
      {"GET",
       "/api/v1/run/spectrum",
       "harmonics 0 to 25",
       {{"signal", "string", "its name", true},
        {"cycles", "integer", "over how many; 10 when left out"},
        way},
       spectrum},
      {"GET",
       "/api/v1/run/trajectory",
       "loops of a distance relay, or phases of a differential, in the latest seconds",
       {{"device", "string", "its name", true}, {"seconds", "number", "how many; 0.5 when left out"}, way},
       trajectory},
      {"GET",
       "/api/v1/run/trend",
       "mean and rms of signals, second by second",
       {signals, {"minutes", "number", "how many; 10 when left out"}, way},
       trend},
      {"GET",
       "/api/v1/run/timing",
       "how long steps take and how late they begin: counts by time in us, overruns with their reasons",
       {},
       timing},
      {"GET",
       "/api/v1/run/capture",
       "the latest seconds at the full rate of samples, with all that changed: a COMTRADE record in an "
       "archive, or CSV",
       {{"seconds", "number", "how many, as far as they are kept; 2 when left out"},
        {"until", "number", "end in s of the plant; now when left out"},
        {"trigger", "number", "instant that counts as its trigger"},
        {"as", "string", "\"comtrade\" or \"csv\""}},
       capture},
      {"GET", "/api/v1/run/record", "record of the run that has ended, as CSV in a text", {}, record_of},
  };
}

}  // namespace zavrek::engine::internal
