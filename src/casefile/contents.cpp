#include "casefile/contents.hpp"

#include <algorithm>
#include <set>

#include <fmt/format.h>

namespace zavrek::casefile::internal {
namespace {

void read_fault(Reader& reader, const toml::node& node, const std::string& place, trial::Trial& trial) {
  const toml::table* body = node.as_table();
  if (!body)
    return reader.report(node, place, "fault",
                         "a table is wanted, such as fault = { on = \"quay\", phases = \"AG\" }");
  trial.fault.emplace();
  const std::size_t before = reader.flaws().size();
  reader.fields(*body, place, {target(trial.fault->fault), target(*trial.fault)});
  for (std::size_t k = before; k < reader.flaws().size(); ++k) reader.flaws()[k].field.insert(0, "fault.");
  for (const auto& [key, value] : *body) reader.remember(place, "fault." + std::string(key.str()), value);
}

void read_evolution(Reader& reader, const toml::node& node, const std::string& place, trial::Trial& trial) {
  const toml::array* list = node.as_array();
  if (!list || !trial.fault) {
    return reader.report(
        node, place, "evolves",
        "a list behind a fault is wanted, such as evolves = [ { phases = \"ABC\", after = \"40 ms\" } ]");
  }
  for (const toml::node& entry : *list) {
    const toml::table* body = entry.as_table();
    if (!body) {
      reader.report(entry, place, "evolves",
                    "a table is wanted, such as { phases = \"ABC\", after = \"40 ms\" }");
      continue;
    }
    trial::Disturbance next;
    reader.fields(*body, place, {target(next.fault), target(next)});
    trial.evolves.push_back(std::move(next));
  }
}

/// Calls read(table) for each of a list of tables; `example` is one of them.
template <class Read>
void each_table(Reader& reader, const toml::table& from, const std::string& place, const std::string& field,
                const std::string& example, Read&& read) {
  const toml::node* node = from.get(field);
  if (!node) return;
  const toml::array* list = node->as_array();
  if (!list)
    return reader.report(*node, place, field,
                         "a list is wanted, such as " + field + " = [ " + example + " ]");
  for (const toml::node& entry : *list) {
    const toml::table* body = entry.as_table();
    if (!body) {
      reader.report(entry, place, field, "a table is wanted, such as " + example);
      continue;
    }
    read(*body);
  }
}

/// The same for tables with the same fields.
template <class T>
void read_list(Reader& reader, const toml::table& from, const std::string& place, const std::string& field,
               const std::string& example, std::vector<T>& into) {
  each_table(reader, from, place, field, example,
             [&](const toml::table& body) { reader.fields(body, place, {target(into.emplace_back())}); });
}

/// The parts of a trial that are tables of their own.
void read_experiment(Reader& reader, const toml::table& body, const std::string& place, trial::Trial& trial) {
  if (const toml::node* fault = body.get("fault")) read_fault(reader, *fault, place, trial);
  if (const toml::node* evolves = body.get("evolves")) read_evolution(reader, *evolves, place, trial);
  read_list(reader, body, place, "operate", "{ at = \"0.2 s\", open = \"Q1\" }", trial.operate);
  read_list(reader, body, place, "expect", "{ device = \"R1\", never = true }", trial.expect);
}

/// Calls read(place, table) for every [[KIND]].
template <class Read>
void each_of(Reader& reader, const std::string& kind, Read&& read) {
  const toml::node* node = reader.root().get(kind);
  if (!node) return;
  const toml::array* list = node->as_array();
  if (!list) return reader.report(*node, "trials", kind, "a list is wanted: [[" + kind + "]]");
  std::size_t number = 0;
  for (const toml::node& entry : *list) {
    const std::string place = fmt::format("{} {}", kind, ++number);
    if (const toml::table* body = entry.as_table()) {
      read(place, *body);
    } else {
      reader.report(entry, place, "", "a table is wanted: [[" + kind + "]]");
    }
  }
}

}  // namespace

protection::RelaySettings read_settings(Reader& reader) {
  protection::RelaySettings settings;
  settings.name = std::filesystem::path(reader.file()).stem().string();
  std::vector<std::string> kinds;
  protection::for_each_kind([&](const auto* null) { kinds.push_back(table(null).kind); });
  reader.fields(reader.root(), "relay", {target(settings)}, kinds);
  protection::for_each_kind([&](auto* null) {
    using Kind = std::remove_pointer_t<decltype(null)>;
    const std::string kind = table(null).kind;
    reader.each_named(kind, [&](const std::string& name, const toml::table& body) {
      Kind function;
      function.name = name;
      reader.fields(body, kind + "." + name, {target(function)});
      settings.functions.emplace_back(std::move(function));
    });
  });
  reader.report_by_name(protection::validate(settings));
  return settings;
}

namespace {

/// Who says no application identifier gets the next that is free behind the usual one, in the order of names.
class Numbering {
 public:
  void take(int& appid, bool said) {
    if (said)
      taken_.insert(appid);
    else
      silent_.push_back(&appid);
  }
  void number() {
    for (int* appid : silent_) {
      while (!taken_.insert(*appid).second) ++*appid;
    }
  }

 private:
  std::set<int> taken_;
  std::vector<int*> silent_;
};

/// Streams among each other; messages and devices, whose GOOSE share their identifiers.
void number_identifiers(const Reader& reader, bench::Bench& bench) {
  Numbering streams, messages;
  const auto said = [&](const char* kind, const std::string& name) {
    return reader.knows(fmt::format("{}.{}", kind, name), "appid");
  };
  for (bench::PortSettings& port : bench.ports) {
    if (auto* stream = std::get_if<bench::Stream>(&port))
      streams.take(stream->appid, said("stream", stream->name));
    if (auto* message = std::get_if<bench::Message>(&port))
      messages.take(message->appid, said("message", message->name));
  }
  for (bench::Device& device : bench.devices) messages.take(device.appid, said("device", device.name));
  streams.number();
  messages.number();
}

}  // namespace

void read_bench(Reader& reader, bench::Bench& bench) {
  std::vector<std::string> kinds{"device"};
  const auto for_each_port = [](auto&& visit) {
    bench::for_each_kind(static_cast<const bench::PortSettings*>(nullptr), visit);
  };
  for_each_port([&](const auto* null) { kinds.push_back(table(null).kind); });
  reader.fields(reader.root(), "bench", {target(bench)}, kinds);
  for_each_port([&](auto* null) {
    using Kind = std::remove_pointer_t<decltype(null)>;
    const std::string kind = table(null).kind;
    reader.each_named(kind, [&](const std::string& name, const toml::table& body) {
      Kind port;
      port.name = name;
      reader.fields(body, kind + "." + name, {target(port)});
      bench.ports.emplace_back(std::move(port));
    });
  });
  reader.each_named("device", [&](const std::string& name, const toml::table& body) {
    bench::Device device;
    device.name = name;
    reader.fields(body, "device." + name, {target(device)});
    bench.devices.push_back(std::move(device));
  });
  if (bench.scl.empty()) number_identifiers(reader, bench);
}

void read_trials(Reader& reader, trial::Case& all) {
  for (const auto& [key, node] : reader.root()) {
    if (key.str() != "trial" && key.str() != "sweep")
      reader.report(node, "trials", std::string(key.str()), "no such field; write [[trial]] or [[sweep]]");
  }
  each_of(reader, "trial", [&](const std::string& place, const toml::table& body) {
    trial::Trial& trial = all.trials.emplace_back();
    read_experiment(reader, body, place, trial);
    reader.fields(body, place, {target(trial)}, {"fault", "evolves", "operate", "expect"});
  });
  each_of(reader, "sweep", [&](const std::string& place, const toml::table& body) {
    trial::Sweep& sweep = all.sweeps.emplace_back();
    read_experiment(reader, body, place, sweep.trial);
    read_list(reader, body, place, "vary", "{ field = \"fault.at\", values = [\"10 %\", \"90 %\"] }",
              sweep.vary);
    reader.fields(body, place, {target(sweep.trial), target(sweep)},
                  {"fault", "evolves", "operate", "expect", "vary"});
  });
}

trial::InjectionPlan read_plan(Reader& reader, const protection::RelaySettings& settings) {
  trial::InjectionPlan plan;
  for (const auto& [key, node] : reader.root()) {
    if (key.str() != "sequence" && key.str() != "value")
      reader.report(node, "plan", std::string(key.str()), "no such field; write [[sequence]] or [[value]]");
  }
  each_of(reader, "sequence", [&](const std::string& place, const toml::table& body) {
    trial::InjectedSequence& sequence = plan.sequences.emplace_back();
    reader.remember(place, "", body);
    reader.fields(body, place, {target(sequence)}, {"states", "expect"});
    each_table(reader, body, place, "states", "{ name = \"load\", lasts = \"0.5 s\", i1 = \"1 A\" }",
               [&](const toml::table& from) {
                 trial::InjectedState& state = sequence.states.emplace_back();
                 reader.fields(from, place, {target(state), target(state.here)}, {"others"});
                 read_list(reader, from, place, "others", "{ place = 2, i1 = \"1 A\" }", state.others);
               });
    read_list(reader, body, place, "expect", "{ state = \"fault\", output = \"trip\" }", sequence.expect);
  });
  each_of(reader, "value", [&](const std::string& place, const toml::table& body) {
    reader.remember(place, "", body);
    reader.fields(body, place, {target(plan.values.emplace_back())});
  });
  if (reader.flaws().empty()) reader.report_by_name(trial::validate(plan, settings));
  return plan;
}

}  // namespace zavrek::casefile::internal
