#include "zavrek/trial/programme.hpp"

#include <algorithm>
#include <cmath>
#include <mutex>
#include <set>
#include <thread>

#include <fmt/format.h>

#include "trial/programme/search.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::trial {

namespace {

/// Where a trial of the programme stands: its number, its sweep, and what is varied in it.
struct Entry {
  long long number;
  const Sweep* sweep;
  SweptFields fields;
  std::string network;  // that it runs in
};

bool is_wanted(const Sweep& sweep, const ProgrammeOptions& options) {
  return sweep.name.find(options.only) != std::string::npos;
}
bool searches(const Sweep& sweep) { return sweep.search != "none"; }
bool of_shard(long long number, const ProgrammeOptions& options) {
  return (number - options.shard) % options.shards == 0;
}

/// Trials of all sweeps but those that search, whose trials depend on those before.
std::vector<Entry> entries_of(const Case& all, const ProgrammeOptions& options) {
  std::vector<Entry> entries;
  long long number = 0;
  for (const Sweep& sweep : all.sweeps) {
    for (std::size_t k = 0; k < size_of(sweep); ++k) {
      ++number;
      if (!is_wanted(sweep, options) || searches(sweep) || !of_shard(number, options)) continue;
      SweptFields fields = fields_of(sweep, k);
      std::string network = network_of(sweep, fields);
      entries.push_back({number, &sweep, std::move(fields), std::move(network)});
    }
  }
  // Trials in one network one after the other: it is compiled once for them.
  std::stable_sort(entries.begin(), entries.end(),
                   [](const Entry& a, const Entry& b) { return a.network < b.network; });
  return entries;
}

bool all_in_this_process(const Case& all, const RunOptions& options) {
  return std::all_of(all.bench.devices.begin(), all.bench.devices.end(), [&](const Device& device) {
    return (options.place.empty() ? device.place : options.place) == "plant";
  });
}

/// Nothing of one that was interrupted: the same programme runs it again.
std::optional<StoredTrial> run_one(const Case& all, const Entry& entry, const ProgrammeOptions& options,
                                   bool first, bench::PlantStore& plants) {
  const std::int64_t begun = pace::system_clock().now_ns();
  const SweptTrial swept = swept_trial(all, *entry.sweep, entry.fields);
  StoredTrial stored;
  stored.number = entry.number;
  stored.sweep = entry.sweep->name;
  stored.name = swept.trial.name;
  stored.fields = swept.fields;
  TrialResult result;
  try {
    RunOptions how = options.run;
    how.plants = &plants;
    how.network_name = entry.network;
    how.listens = first;
    result = run_trial(swept.all, swept.trial, how);
    if (result.interrupted) return std::nullopt;
  } catch (const Error& error) {  // this one cannot be compiled; the others go on
    result.failure = error.what();
  }
  stored.failure = result.not_judged.empty() ? result.failure : "not judged: " + result.not_judged;
  stored.passed = result.passed();
  stored.fault_current_A = result.fault_current_A;
  stored.verdicts = std::move(result.verdicts);
  stored.findings = std::move(result.findings);
  stored.kept = pace::punctuality(result.timing);
  stored.simulated_s = result.record.time_s.empty() ? 0 : result.record.time_s.back();
  const bool kept = options.keep == "all" || (options.keep == "failures" && !stored.passed);
  if (kept && result.record.time_s.size() > 1) {
    stored.record = fmt::format("records/{:06}", entry.number);
    try {
      record::write_comtrade(result.record, options.folder / (stored.record + ".cfg"),
                             record::Encoding::binary);
    } catch (const Error& error) {  // the results matter more
      stored.record.clear();
      stored.unwritten = error.what();
    }
  }
  stored.spent_s = 1e-9 * static_cast<double>(pace::system_clock().now_ns() - begun);
  return stored;
}

/// FNV-1a over what the fields of a description read as.
class Fingerprint {
 public:
  template <class Kind>
  void add(const Kind& object) {
    const Table& fields = table(&object);
    add_text(fields.kind);
    for (const network::Field& field : fields.fields) {
      std::visit(
          [&](const auto& value) {
            using Value = std::decay_t<decltype(value)>;
            if constexpr (std::is_same_v<Value, std::string>) {
              add_text(value);
            } else if constexpr (std::is_same_v<Value, std::vector<std::string>>) {
              for (const std::string& text : value) add_text(text);
            } else {
              add_text(fmt::format("{}", value));
            }
          },
          field.read(&object));
    }
  }
  /// What a file holds; one that is not there counts as that.
  void add_file(const std::filesystem::path& path) {
    std::error_code unknown;
    add_text(path.filename().string());
    add_text(std::filesystem::is_regular_file(path, unknown) ? record::read_file(path) : "none");
  }
  void add_text(std::string_view text) {
    for (const char c : text) hash_ = (hash_ ^ static_cast<unsigned char>(c)) * 0x100000001B3ULL;
    hash_ = (hash_ ^ 0xFF) * 0x100000001B3ULL;
  }
  [[nodiscard]] std::string text() const { return fmt::format("{:016x}", hash_); }

 private:
  std::uint64_t hash_ = 0xCBF29CE484222325ULL;
};

}  // namespace

namespace {

/// The factors that most of these explain alike, and how many do.
std::pair<Explanation, long long> common_factor(std::vector<const Explanation*> all) {
  std::sort(all.begin(), all.end(), [](const auto* a, const auto* b) { return a->low < b->low; });
  std::pair<Explanation, long long> best{*all.front(), 0};
  std::multiset<double>
      ends;  // of those that hold at the beginning at hand: the most are met at one of these
  for (const Explanation* from : all) {
    ends.erase(ends.begin(), ends.lower_bound(from->low));
    ends.insert(from->high);
    const auto count = static_cast<long long>(ends.size());
    if (count > best.second) best = {{from->text, from->low, *ends.begin()}, count};
  }
  return best;
}

}  // namespace

std::vector<Finding> findings_of(const std::vector<StoredTrial>& trials) {
  std::vector<std::vector<const Explanation*>> alike;
  for (const StoredTrial& trial : trials) {
    for (const Explanation& explanation : trial.findings) {
      const auto known = std::find_if(alike.begin(), alike.end(),
                                      [&](const auto& all) { return all.front()->text == explanation.text; });
      (known == alike.end() ? alike.emplace_back() : *known).push_back(&explanation);
    }
  }
  std::vector<Finding> found;
  for (const auto& all : alike) {
    const auto [common, count] = common_factor(all);
    found.push_back({common.words(), count});
  }
  std::stable_sort(found.begin(), found.end(),
                   [](const Finding& a, const Finding& b) { return a.explained > b.explained; });
  return found;
}

namespace {

/// The wires and cores that lines are calculated from.
void add_geometry(const network::LineGeometry& geometry, Fingerprint& print) {
  print.add_text(geometry.name);
  print.add(geometry);
  for (const auto& wire : geometry.wires) {
    print.add_text(wire.name);
    print.add(wire);
  }
  for (const auto& core : geometry.cores) {
    print.add_text(core.name);
    print.add(core);
  }
}

/// Files that a case names: their contents count, not their names alone.
void add_named_files(const Case& all, Fingerprint& print) {
  for (const network::Element& element : all.network.elements) {
    const auto* source = std::get_if<network::Source>(&element);
    if (!source || source->playback.empty()) continue;
    std::filesystem::path path = all.folder / source->playback;
    for (const char* part : {".cfg", ".dat"}) print.add_file(path.replace_extension(part));
  }
  for (const control::Block& block : all.control.blocks) {
    const auto* own = std::get_if<control::OwnCode>(&block);
    if (own && !own->library.empty()) print.add_file(all.folder / own->library);
  }
  for (const bench::CanBus* bus : all.bench.all<bench::CanBus>()) print.add_text(bus->database_text);
}

}  // namespace

std::string fingerprint_of(const Case& all) {
  Fingerprint print;
  print.add_text(ZAVREK_VERSION);
  print.add(all.network);
  for (const network::LineGeometry& geometry : all.network.geometries) add_geometry(geometry, print);
  print.add(all.control);
  add_named_files(all, print);
  for (const network::Bus& bus : all.network.buses) {
    print.add_text(bus.name);
    print.add(bus);
  }
  for (const network::Element& element : all.network.elements) {
    print.add_text(network::name_of(element));
    std::visit([&](const auto& one) { print.add(one); }, element);
  }
  for (const control::Block& block : all.control.blocks)
    std::visit([&](const auto& one) { print.add(one); }, block);
  for (const control::Ready& ready : all.control.ready)
    std::visit([&](const auto& one) { print.add(one); }, ready);
  print.add(all.bench);
  for (const bench::PortSettings& port : all.bench.ports) {
    print.add_text(bench::name_of(port));
    std::visit([&](const auto& one) { print.add(one); }, port);
  }
  for (const Device& device : all.bench.devices) {
    print.add(device);
    for (const auto* relay : {&device.relay, &device.approved_relay}) {
      print.add(*relay);
      for (const auto& function : relay->functions) {
        print.add_text(protection::base_of(function).name);
        std::visit([&](const auto& one) { print.add(one); }, function);
      }
    }
  }
  for (const Sweep& sweep : all.sweeps) {
    print.add(sweep);
    print.add(sweep.trial);
    for (const Vary& vary : sweep.vary) print.add(vary);
    if (sweep.trial.fault) {
      print.add(*sweep.trial.fault);
      print.add(sweep.trial.fault->fault);
    }
    for (const Disturbance& next : sweep.trial.evolves) {
      print.add(next);
      print.add(next.fault);
    }
    for (const Operation& operation : sweep.trial.operate) print.add(operation);
    for (const Expectation& expectation : sweep.trial.expect) print.add(expectation);
  }
  return print.text();
}

std::optional<double> least_left(const StoredTrial& trial) {
  std::optional<double> least;
  for (const Verdict& verdict : trial.verdicts) {
    const bool known = std::isfinite(verdict.left);
    if (!known && verdict.passed) continue;
    const double left = known ? verdict.left : -1;
    least = std::min(least.value_or(left), left);
  }
  return trial.failure.empty() ? least : std::min(least.value_or(-1), -1.0);
}

namespace {

/// Runs trials on all processors and stores them.
class Crew {
 public:
  Crew(const Case& all, const ProgrammeOptions& options, Results& results,
       const std::function<void(const Progress&, const StoredTrial&)>& report)
      : all_(all),
        options_(options),
        results_(results),
        report_(report),
        plants_(static_cast<std::size_t>(
            options.run.free && all_in_this_process(all, options.run) ? std::max(1, options.workers) : 1)) {}

  Progress progress;

  [[nodiscard]] bool stopped() const { return options_.run.stop && options_.run.stop->load(); }

  /// The record of the trial with least left, of those from `from` to `to`.
  void keep_worst(long long from, long long to, const Sweep& sweep) {
    if (options_.keep == "none") return;
    std::optional<std::pair<double, long long>> worst;
    for (long long number = from; number < to; ++number) {
      const auto left = results_.left_of(number);
      if (left && (!worst || *left < worst->first)) worst = {*left, number};
    }
    if (!worst) return;
    for (const StoredTrial& one : results_.all()) {
      if (one.number != worst->second || !one.record.empty()) continue;
      ProgrammeOptions keeping = options_;
      keeping.keep = "all";
      const auto again = run_one(all_, {one.number, &sweep, one.fields, network_of(sweep, one.fields)},
                                 keeping, false, plants_[0]);
      if (again) results_.put(*again);
    }
  }

  void run(const std::vector<Entry>& entries) {
    next_ = 0;
    {
      std::vector<std::jthread> threads;
      for (std::size_t k = 1; k < plants_.size(); ++k)
        threads.emplace_back([this, &entries, k] { work(entries, plants_[k]); });
      work(entries, plants_[0]);
    }
    if (trouble_) std::rethrow_exception(trouble_);
  }

 private:
  void work(const std::vector<Entry>& entries, bench::PlantStore& plants) {
    for (;;) {
      const std::size_t k = next_++;
      if (k >= entries.size() || stopped()) return;
      try {
        const std::optional<StoredTrial> stored =
            run_one(all_, entries[k], options_, first_.exchange(false), plants);
        if (!stored) return;
        const std::lock_guard lock(door_);
        results_.put(*stored);
        ++progress.done;
        progress.failed += stored->passed ? 0 : 1;
        progress.simulated_s += stored->simulated_s;
        progress.spent_s = 1e-9 * static_cast<double>(pace::system_clock().now_ns() - begun_);
        if (report_) report_(progress, *stored);
      } catch (...) {
        const std::lock_guard lock(door_);
        if (!trouble_) trouble_ = std::current_exception();
        next_ = entries.size();
        return;
      }
    }
  }

  const Case& all_;
  const ProgrammeOptions& options_;
  Results& results_;
  const std::function<void(const Progress&, const StoredTrial&)>& report_;
  std::vector<bench::PlantStore> plants_;  // of each thread
  std::atomic<std::size_t> next_{0};
  std::atomic<bool> first_{true};
  std::mutex door_;  // of results, progress and report
  std::exception_ptr trouble_;
  std::int64_t begun_ = pace::system_clock().now_ns();
};

/// A search, generation by generation; what is stored already is taken as it is.
void search(const Sweep& sweep, long long first_number, Results& results, Crew& crew) {
  internal::MarginSearch proposals(axes_in(sweep), sweep.seed, size_of(sweep));
  long long number = first_number;
  for (auto places = proposals.next_generation(); !places.empty() && !crew.stopped();
       places = proposals.next_generation()) {
    std::vector<Entry> entries;
    const std::vector<long long> held = results.numbers();
    for (std::size_t k = 0; k < places.size(); ++k) {
      const long long its = number + static_cast<long long>(k);
      if (std::binary_search(held.begin(), held.end(), its)) continue;
      SweptFields fields = fields_at(sweep, places[k]);
      std::string network = network_of(sweep, fields);
      entries.push_back({its, &sweep, std::move(fields), std::move(network)});
    }
    crew.run(entries);
    if (crew.stopped()) return;
    std::vector<double> left;
    constexpr double nothing_to_lose = 2;
    for (std::size_t k = 0; k < places.size(); ++k)
      left.push_back(results.left_of(number + static_cast<long long>(k)).value_or(nothing_to_lose));
    proposals.learn(left);
    number += static_cast<long long>(places.size());
  }
  crew.keep_worst(first_number, number, sweep);
}

}  // namespace

Progress run_programme(const Case& all, const ProgrammeOptions& options,
                       const std::function<void(const Progress&, const StoredTrial&)>& report) {
  std::vector<Entry> entries = entries_of(all, options);
  Results results(options.folder / "results.sqlite", fingerprint_of(all));
  for (const Sweep& sweep : all.sweeps) {
    if (is_wanted(sweep, options)) results.plan(sweep.name, static_cast<long long>(size_of(sweep)));
  }
  if (options.keep != "none") std::filesystem::create_directories(options.folder / "records");
  Crew crew(all, options, results, report);
  crew.progress.total = static_cast<long long>(entries.size());
  const std::vector<long long> held = results.numbers();
  const auto is_held = [&](long long number) { return std::binary_search(held.begin(), held.end(), number); };
  std::erase_if(entries, [&](const Entry& e) { return is_held(e.number); });
  crew.progress.before = crew.progress.total - static_cast<long long>(entries.size());
  struct Search {
    const Sweep* sweep;
    long long first_number;
  };
  std::vector<Search> all_searches;
  long long number = 1;
  for (const Sweep& sweep : all.sweeps) {
    const auto size = static_cast<long long>(size_of(sweep));
    if (size > 0) (void)swept_trial(all, sweep, 0);  // throws before anything runs
    // A search is one shard's, for each trial depends on those before.
    if (searches(sweep) && is_wanted(sweep, options) && of_shard(number, options)) {
      all_searches.push_back({&sweep, number});
      crew.progress.total += size;
      for (long long k = number; k < number + size; ++k) crew.progress.before += is_held(k) ? 1 : 0;
    }
    number += size;
  }
  crew.run(entries);
  for (const Search& one : all_searches) search(*one.sweep, one.first_number, results, crew);
  return crew.progress;
}

}  // namespace zavrek::trial
