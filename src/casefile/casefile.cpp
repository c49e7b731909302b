#include "zavrek/casefile.hpp"

#include <algorithm>
#include <optional>

#include <fmt/format.h>

#include "casefile/contents.hpp"
#include "zavrek/bench/substation.hpp"

namespace zavrek::casefile {
namespace {

using internal::read_bench;
using internal::read_control;
using internal::read_geometry;
using internal::read_network;
using internal::read_plan;
using internal::read_settings;
using internal::read_trials;
using internal::Reader;
using internal::target;

/// Where the files of a case are: in a folder, or in memory.
struct FilesOf {
  std::filesystem::path folder;
  const std::map<std::string, std::string>* texts = nullptr;  // by name
  std::filesystem::path within{};                             // nothing outside is read; empty: anywhere

  [[nodiscard]] bool has(const std::string& name) const {
    return texts ? texts->contains(name) : std::filesystem::exists(folder / name);
  }
  [[nodiscard]] std::string path_of(const std::string& name) const {
    return texts ? name : (folder / name).string();
  }
  [[nodiscard]] std::string text(const std::string& name) const {
    if (!texts) return record::read_file(inside(name));
    if (const auto found = texts->find(name); found != texts->end()) return found->second;
    throw Error(Flaw{.file = name, .place = {}, .field = {}, .text = "cannot be read"});
  }
  /// Throws Error for a file that may not be read.
  [[nodiscard]] std::filesystem::path inside(const std::string& name) const {
    if (!within.empty()) {
      const std::filesystem::path way = std::filesystem::weakly_canonical(folder / name)
                                            .lexically_relative(std::filesystem::weakly_canonical(within));
      if (way.empty() || *way.begin() == "..")
        throw Error(Flaw{.file = name,
                         .place = {},
                         .field = {},
                         .text = "leads out of the case; keep it beside the others"});
    }
    return folder / name;
  }
};

/// Reads one file of a case; flaws go to `flaws`. Empty when the file could not be parsed at all.
std::optional<Reader> open(const FilesOf& files, const std::string& name, std::vector<Flaw>& flaws) {
  try {
    return Reader(files.text(name), files.path_of(name));
  } catch (const Error& error) {
    flaws.insert(flaws.end(), error.flaws().begin(), error.flaws().end());
    return std::nullopt;
  }
}

/// In the order in which a person goes through the files.
std::vector<Flaw> in_order(std::vector<Flaw> flaws) {
  std::stable_sort(flaws.begin(), flaws.end(),
                   [](const Flaw& a, const Flaw& b) { return a.file == b.file && a.line < b.line; });
  return flaws;
}

template <class Read>
auto read_whole(Reader reader, Read&& read) {
  auto result = read(reader);
  if (!reader.flaws().empty()) throw Error(in_order(reader.flaws()));
  return result;
}

class CaseReader {
 public:
  explicit CaseReader(FilesOf files) : files_(std::move(files)) { case_.folder = files_.folder; }

  trial::Case run() {
    trial::CaseFiles files;
    read_names(files);
    const FilesOf own = files_;
    case_.least_coverage = files.least_coverage;
    case_.place = files.place;
    case_.tested_by = files.tested_by;
    if (!files.base.empty()) take_base(files);
    auto [network, bench, controls, trials] = read_parts(files, own);
    if (network::is_set(files.step_s)) case_.network.step_s = files.step_s;
    if (network) read_playbacks(*network);
    if (bench) read_device_settings(*bench);
    if (bench) read_databases(*bench);
    if (bench && !case_.bench.scl.empty()) read_substation(*bench);
    if (network && network->flaws().empty()) check_across(bench, trials);
    if (network) take_flaws(*network);
    for (Reader& control : controls) take_flaws(control);
    if (bench) take_flaws(*bench);
    for (Reader& reader : trials) take_flaws(reader);
    if (!flaws_.empty()) throw Error(std::move(flaws_));
    return std::move(case_);
  }

  /// Flaws that say no file get that where their place stands, and its line.
  std::vector<Flaw> located(std::vector<Flaw> flaws) {
    trial::CaseFiles files;
    read_names(files);
    const FilesOf own = files_;
    if (!files.base.empty()) take_base(files);
    Parts parts = read_parts(files, own);
    std::vector<const Reader*> all;
    for (const auto* one : {&parts.network, &parts.bench}) {
      if (*one) all.push_back(&**one);
    }
    for (const auto* several : {&parts.controls, &parts.trials}) {
      for (const Reader& reader : *several) all.push_back(&reader);
    }
    for (Flaw& flaw : flaws) {
      if (!flaw.file.empty() || flaw.place.empty()) continue;
      for (const Reader* reader : all) {
        if (const int line = reader->line_of(flaw.place, flaw.field); line > 0 && flaw.file.empty()) {
          flaw.file = reader->file();
          flaw.line = line;
        }
      }
    }
    return flaws;
  }

  /// Only the texts.
  ModelTexts texts() {
    trial::CaseFiles files;
    read_names(files);
    if (!files.base.empty()) take_base(files);
    if (!flaws_.empty()) throw Error(std::move(flaws_));
    ModelTexts all;
    all.network = files_.text(files.network);
    for (const std::string& name : files.control) {
      if (files_.has(name)) all.control.push_back(files_.text(name));
    }
    return all;
  }

 private:
  /// The files of a case, as far as they could be parsed; what they say stands in `case_` then.
  struct Parts {
    std::optional<Reader> network, bench;
    std::vector<Reader> controls, trials;
  };
  Parts read_parts(const trial::CaseFiles& files, const FilesOf& own) {
    Parts parts;
    parts.network = open(files_, files.network, flaws_);
    if (parts.network) case_.network = read_network(*parts.network);
    parts.bench = open_if_there(files.bench);
    if (parts.bench) read_bench(*parts.bench, case_.bench);
    parts.controls = open_all(files_, files.control, trial::CaseFiles().control);
    for (std::size_t k = 0; k < parts.controls.size(); ++k) {
      control::Description part = read_control(parts.controls[k]);
      k == 0 ? void(case_.control = std::move(part))
             : internal::add(std::move(part), parts.controls[k], case_.control);
    }
    parts.trials = open_all(own, files.trials, trial::CaseFiles().trials);
    for (Reader& reader : parts.trials) read_trials(reader, case_);
    return parts;
  }
  void take_flaws(Reader& reader) {
    const std::vector<Flaw> sorted = in_order(reader.flaws());
    flaws_.insert(flaws_.end(), sorted.begin(), sorted.end());
  }

  void read_names(trial::CaseFiles& files) {
    if (auto where = open_if_there("case.toml")) {
      where->fields(where->root(), "case", {target(files)});
      take_flaws(*where);
    }
  }
  static constexpr int most_bases = 8;
  int bases_ = 0;
  /// From here on files are those of another case, which has names for them too, and may stand on a third.
  void take_base(trial::CaseFiles& files) {
    const auto reachable = [&] {
      try {
        return std::filesystem::is_directory(files_.inside(files.base));
      } catch (const Error&) {
        return false;
      }
    };
    if (files_.texts || !reachable()) {
      flaws_.push_back({.file = files_.path_of("case.toml"),
                        .place = "case",
                        .field = "base",
                        .text = "\"" + files.base + "\" is no folder"});
      return;
    }
    files_.folder = case_.folder = (files_.folder / files.base).lexically_normal();
    trial::CaseFiles others;
    read_names(others);
    const trial::CaseFiles usual;
    for (const auto name : {&trial::CaseFiles::network, &trial::CaseFiles::bench}) {
      if (files.*name == usual.*name) files.*name = others.*name;
    }
    if (files.control == usual.control) files.control = others.control;
    if (!network::is_set(files.step_s)) files.step_s = others.step_s;
    if (others.base.empty()) return;
    if (++bases_ > most_bases) {
      flaws_.push_back({.file = files_.path_of("case.toml"),
                        .place = "case",
                        .field = "base",
                        .text = "goes round: one base stands on the other"});
      return;
    }
    files.base = others.base;
    take_base(files);
  }

  std::optional<Reader> open_if_there(const std::string& name) {
    if (!files_.has(name)) return std::nullopt;
    return open(files_, name, flaws_);
  }

  /// Files that a case names must be there, those of the usual name need not.
  std::vector<Reader> open_all(const FilesOf& where, const std::vector<std::string>& names,
                               const std::vector<std::string>& usual) {
    std::vector<Reader> readers;
    for (const std::string& name : names) {
      if (names == usual && !where.has(name)) continue;
      if (auto reader = open(where, name, flaws_)) readers.push_back(std::move(*reader));
    }
    return readers;
  }

  /// The voltages that sources play: channels of COMTRADE records.
  void read_playbacks(Reader& reader) {
    for (network::Element& element : case_.network.elements) {
      auto* source = std::get_if<network::Source>(&element);
      if (!source || source->playback.empty()) continue;
      const auto report = [&](const char* field, std::string text) {
        reader.report_by_name(
            {{.file = {}, .place = "source." + source->name, .field = field, .text = std::move(text)}});
      };
      try {
        if (files_.texts) throw Error("records are read from a folder only");
        const record::Record played = record::read_comtrade(files_.inside(source->playback));
        source->playback_time_s = played.time_s;
        std::vector<std::string> names;
        for (const auto& analog : played.analogs) names.push_back(analog.name);
        for (const std::string& name : source->playback_channels) {
          const record::Analog* channel = played.find_analog(name);
          if (channel) {
            source->playback_values.push_back(channel->samples);
          } else {
            report("playback_channels", fmt::format("no channel \"{}\"{}", name, suggestion(name, names)));
          }
        }
      } catch (const Error& error) {
        report("playback", error.flaws().front().text);
      }
    }
  }

  void read_device_settings(Reader& bench) {
    bench::complete(case_.bench);
    for (trial::Device& device : case_.bench.devices) {
      if (device.settings.empty()) {
        bench.report_by_name({{.file = {},
                               .place = "device." + device.name,
                               .field = "settings",
                               .text = "missing; the file with its settings is wanted"}});
        continue;
      }
      device.relay = read_settings_file(device.settings);
      device.approved_relay = device.approved.empty() ? device.relay : read_settings_file(device.approved);
    }
  }

  void read_databases(Reader& bench) {
    for (bench::PortSettings& port : case_.bench.ports) {
      auto* bus = std::get_if<bench::CanBus>(&port);
      if (!bus || bus->database.empty()) continue;
      try {
        bus->database_text = files_.text(bus->database);
      } catch (const Error& error) {
        bench.report_by_name({{.file = {},
                               .place = "can_bus." + bus->name,
                               .field = "database",
                               .text = error.flaws().front().text}});
      }
    }
  }

  void read_substation(Reader& bench) {
    const std::string& name = case_.bench.scl;
    try {
      bench.report_by_name(bench::take(scl::read(files_.text(name), files_.path_of(name)), case_));
    } catch (const Error& error) {
      flaws_.insert(flaws_.end(), error.flaws().begin(), error.flaws().end());
    }
  }

  protection::RelaySettings read_settings_file(const std::string& name) {
    try {
      return read_relay_settings_text(files_.text(name), files_.path_of(name));
    } catch (const Error& error) {
      flaws_.insert(flaws_.end(), error.flaws().begin(), error.flaws().end());
      return {};
    }
  }

  void check_across(std::optional<Reader>& bench, std::vector<Reader>& trials) {
    for (const Flaw& flaw : trial::validate(case_)) {
      if (!flaw.place.starts_with("trial ") && !flaw.place.starts_with("sweep ")) {
        if (bench) bench->report_by_name({flaw});
        continue;
      }
      const auto has = [&](const Reader& reader) { return reader.knows(flaw.place); };
      auto where = std::find_if(trials.begin(), trials.end(), has);
      if (where == trials.end() && !trials.empty()) where = trials.begin();
      if (where != trials.end()) where->report_by_name({flaw});
    }
  }

  FilesOf files_;
  trial::Case case_;
  std::vector<Flaw> flaws_;
};

}  // namespace

trial::Case read_case(const std::filesystem::path& folder) {
  if (!std::filesystem::is_directory(folder)) {
    throw Error(Flaw{.file = folder.string(),
                     .place = {},
                     .field = {},
                     .text = "is no folder; a case is a folder with network.toml in it"});
  }
  return CaseReader({folder}).run();
}

trial::Case read_case_within(const std::filesystem::path& folder, const std::filesystem::path& within) {
  if (!std::filesystem::is_directory(folder)) throw Error("the case has no folder");
  return CaseReader({folder, nullptr, within}).run();
}

ModelTexts model_texts(const std::filesystem::path& folder) { return CaseReader({folder}).texts(); }

std::filesystem::path base_of(const std::filesystem::path& folder) {
  const std::filesystem::path file = folder / "case.toml";
  if (!std::filesystem::exists(file)) return {};
  trial::CaseFiles files;
  Reader reader(record::read_file(file), file.string());
  reader.fields(reader.root(), "case", {target(files)});
  if (!reader.flaws().empty()) throw Error(in_order(reader.flaws()));
  return files.base.empty() ? std::filesystem::path() : std::filesystem::canonical(folder / files.base);
}

std::vector<std::string> wants_of_computer(const trial::Case& all) {
  std::vector<std::string> wants;
  for (const control::Block& block : all.control.blocks) {
    const auto* own = std::get_if<control::OwnCode>(&block);
    if (own && !own->library.empty())
      wants.push_back(fmt::format("own block {}, library {}", own->name, own->library));
  }
  for (const network::Element& element : all.network.elements) {
    const auto* own = std::get_if<network::OwnElement>(&element);
    if (own && !own->library.empty())
      wants.push_back(fmt::format("own element {}, library {}", own->name, own->library));
  }
  for (const bench::Card* card : all.bench.all<bench::Card>())
    wants.push_back(fmt::format("card {}, {}", card->name,
                                card->library.empty() ? "a terminal board" : "driver " + card->library));
  if (!all.bench.clock_daemon.empty()) wants.push_back("bench, clock_daemon " + all.bench.clock_daemon);
  if (all.bench.clock == "ptp") wants.push_back("bench, clock_device " + all.bench.clock_device);
  if (!all.bench.control_key.empty()) wants.push_back("bench, control_key " + all.bench.control_key);
  return wants;
}

Error located(const Error& error, const std::filesystem::path& folder) {
  const auto without = [](const Flaw& flaw) { return flaw.file.empty() && !flaw.place.empty(); };
  if (std::none_of(error.flaws().begin(), error.flaws().end(), without)) return error;
  try {
    return Error(CaseReader({folder, nullptr}).located(error.flaws()));
  } catch (const Error&) {
    return error;  // nothing more can be said
  }
}

trial::Case read_case_texts(const std::map<std::string, std::string>& texts) {
  return CaseReader({{}, &texts}).run();
}

protection::RelaySettings read_relay_settings(const std::filesystem::path& file) {
  return read_whole(Reader(record::read_file(file), file.string()), read_settings);
}

trial::InjectionPlan read_injection_plan(const std::filesystem::path& file,
                                         const protection::RelaySettings& settings) {
  return read_whole(Reader(record::read_file(file), file.string()),
                    [&](Reader& reader) { return read_plan(reader, settings); });
}

trial::InjectionPlan read_injection_plan_text(std::string_view text, const std::string& name,
                                              const protection::RelaySettings& settings) {
  return read_whole(Reader(text, name), [&](Reader& reader) { return read_plan(reader, settings); });
}

network::LineGeometry read_line_geometry(const std::filesystem::path& file) {
  return read_whole(Reader(record::read_file(file), file.string()), read_geometry);
}

network::Network read_network_text(std::string_view text, const std::string& name) {
  return read_whole(Reader(text, name), read_network);
}

protection::RelaySettings read_relay_settings_text(std::string_view text, const std::string& name) {
  return read_whole(Reader(text, name), read_settings);
}

std::vector<TableOfFile> all_tables() {
  std::vector<TableOfFile> tables;
  std::string file, group;
  const auto in = [&](const char* next_file, const char* next_group) {
    file = next_file;
    group = next_group;
  };
  const auto push = [&](const auto* null) { tables.push_back({&table(null), file, group}); };
  in("case.toml", "case");
  push(static_cast<const trial::CaseFiles*>(nullptr));
  in("network.toml", "network");
  push(static_cast<const network::Network*>(nullptr));
  push(static_cast<const network::Bus*>(nullptr));
  network::for_each_kind(push);
  push(static_cast<const network::LineGeometry*>(nullptr));
  push(static_cast<const network::Wire*>(nullptr));
  push(static_cast<const network::Core*>(nullptr));
  in("bench.toml", "bench");
  push(static_cast<const bench::Bench*>(nullptr));
  bench::for_each_kind(static_cast<const bench::PortSettings*>(nullptr), push);
  push(static_cast<const bench::Device*>(nullptr));
  in("settings of a relay", "relay");
  push(static_cast<const protection::RelaySettings*>(nullptr));
  protection::for_each_kind(push);
  in("trials.toml", "trials");
  push(static_cast<const trial::Trial*>(nullptr));
  push(static_cast<const network::Fault*>(nullptr));
  push(static_cast<const trial::Disturbance*>(nullptr));
  push(static_cast<const trial::Operation*>(nullptr));
  push(static_cast<const trial::Expectation*>(nullptr));
  push(static_cast<const trial::Sweep*>(nullptr));
  push(static_cast<const trial::Vary*>(nullptr));
  in("control.toml", "control");
  push(static_cast<const control::Description*>(nullptr));
  control::for_each_kind(push);
  control::for_each_kind(static_cast<control::Ready*>(nullptr), push);
  in("plan of element tests", "plan");
  push(static_cast<const trial::InjectedSequence*>(nullptr));
  push(static_cast<const trial::InjectedState*>(nullptr));
  push(static_cast<const trial::InjectedPlace*>(nullptr));
  push(static_cast<const trial::StateExpectation*>(nullptr));
  push(static_cast<const trial::InjectedValue*>(nullptr));
  return tables;
}

}  // namespace zavrek::casefile
