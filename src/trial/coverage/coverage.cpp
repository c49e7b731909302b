#include "zavrek/trial/coverage.hpp"

#include <algorithm>
#include <cmath>
#include <mutex>
#include <numbers>
#include <set>
#include <thread>

namespace zavrek::trial {
namespace {

bool stopped(const CoverageOptions& options) { return options.stop && options.stop->load(); }

/// Groups one after the other on so many threads; `look` fills in what a row lacks.
template <class MakeLook>
void look_at_all(const std::vector<MistakeGroup>& groups, const CoverageOptions& options, Coverage& coverage,
                 MakeLook&& make_look) {
  std::vector<const MistakeGroup*> wanted;
  for (const MistakeGroup& group : groups) {
    if ((group.device + " " + group.what).find(options.only) != std::string::npos) wanted.push_back(&group);
  }
  coverage.rows.resize(wanted.size());
  std::atomic<std::size_t> next{0};
  std::mutex telling;
  long long done = 0;
  std::string wrong;
  const auto work = [&] {
    auto look = make_look();
    for (std::size_t k = next++; k < wanted.size() && !stopped(options); k = next++) {
      const MistakeGroup& group = *wanted[k];
      CoverageRow& row = coverage.rows[k];
      row = {.device = group.device, .what = group.what, .before = group.before, .amounts = {}, .by = {}};
      for (const MistakeGroup::Amount& amount : group.amounts) row.amounts.push_back(amount.text);
      row.found_from = row.amounts.size();
      // From the largest down, as long as it is found.
      for (std::size_t a = group.amounts.size(); a-- > 0 && !stopped(options);) {
        const std::string by = look(group, group.amounts[a]);
        if (by.empty()) break;
        row.found_from = a;
        row.by = by;
      }
      const std::scoped_lock one(telling);
      ++done;
      if (options.report) options.report(done, static_cast<long long>(wanted.size()));
    }
  };
  const auto guarded = [&] {
    try {
      work();
    } catch (const std::exception& error) {
      const std::scoped_lock one(telling);
      wrong = error.what();
      next = wanted.size();
    }
  };
  std::vector<std::jthread> threads;
  for (int k = 1; k < options.workers; ++k) threads.emplace_back(guarded);
  guarded();
  threads.clear();
  if (!wrong.empty()) throw Error(wrong);
  coverage.interrupted = stopped(options);
}

/// A trial that passes as the case stands.
struct Replayed {
  std::string name, network;
  const Sweep* sweep = nullptr;  // null: one of the case's own
  std::size_t index = 0;
};

class Replay {
 public:
  Replay(const Case& all, const CoverageOptions& options) : all_(all) {
    how_.place = "plant";
    how_.free = true;
    how_.stop = options.stop;
    how_.plants = &plants_;
  }
  /// Whether it passes with a mistake made, or with none.
  bool passes(const Replayed& one, const std::string& device, const std::function<void(Device&)>& make) {
    RunOptions how = how_;
    how.network_name = one.network;
    SweptTrial swept;
    if (one.sweep) {
      swept = swept_trial(all_, *one.sweep, one.index);
    } else {
      swept.all = all_;
      swept.trial = all_.trials[one.index];
    }
    for (Device& each : swept.all.bench.devices) {
      each.relay = each.approved_relay;
      if (make && each.name == device) make(each);
      each.place = "plant";
    }
    return run_trial(swept.all, swept.trial, how).passed();
  }

 private:
  const Case& all_;
  bench::PlantStore plants_;
  RunOptions how_;
};

std::vector<Replayed> candidates(const Case& all, long long most, long long& of) {
  std::vector<Replayed> found;
  for (std::size_t k = 0; k < all.trials.size(); ++k) {
    if (!all.trials[k].expect.empty())
      found.push_back({all.trials[k].name, "trial " + std::to_string(k), nullptr, k});
  }
  of = static_cast<long long>(all.trials.size());
  long long swept = 0;
  for (const Sweep& sweep : all.sweeps) swept += static_cast<long long>(size_of(sweep));
  of += swept;
  // Steps of the golden section: evenly over every field, however sweeps are nested.
  std::set<long long> chosen;
  for (long long k = 0; k < swept && static_cast<long long>(chosen.size()) < most; ++k) {
    const double place = std::fmod((static_cast<double>(k) + 0.5) * (std::numbers::phi - 1), 1.0);
    chosen.insert(swept <= most ? k : static_cast<long long>(place * static_cast<double>(swept)));
  }
  long long first = 0;
  for (const Sweep& sweep : all.sweeps) {
    const auto end = first + static_cast<long long>(size_of(sweep));
    for (auto at = chosen.lower_bound(first); at != chosen.end() && *at < end; ++at) {
      const auto k = static_cast<std::size_t>(*at - first);
      found.push_back({swept_trial(all, sweep, k).trial.name, network_of(sweep, k), &sweep, k});
    }
    first = end;
  }
  return found;
}

}  // namespace

long long Coverage::mistakes() const {
  long long sum = 0;
  for (const CoverageRow& row : rows) sum += static_cast<long long>(row.amounts.size());
  return sum;
}
long long Coverage::found() const {
  long long sum = 0;
  for (const CoverageRow& row : rows) sum += static_cast<long long>(row.amounts.size() - row.found_from);
  return sum;
}
double Coverage::share() const {
  return mistakes() > 0 ? static_cast<double>(found()) / static_cast<double>(mistakes()) : 1;
}

Coverage coverage_of(const Case& all, const CoverageOptions& options) {
  Coverage coverage;
  std::vector<Replayed> trials;
  {
    Replay as_it_stands(all, options);
    for (Replayed& one : candidates(all, options.most_trials, coverage.of)) {
      if (stopped(options)) break;
      if (as_it_stands.passes(one, {}, {})) {
        trials.push_back(std::move(one));
      } else {
        coverage.left_out.push_back(one.name);
      }
    }
  }
  if (trials.empty() && !stopped(options))
    throw Error("no trial of the case passes as it stands, so none can find a mistake");
  coverage.trials = static_cast<long long>(trials.size());
  look_at_all(mistakes_in(all), options, coverage, [&] {
    // What found the last one is asked first.
    return [&trials, replay = std::make_shared<Replay>(all, options), order = std::vector<std::size_t>(),
            &options](const MistakeGroup& group, const MistakeGroup::Amount& amount) mutable -> std::string {
      for (std::size_t k = order.size(); k < trials.size(); ++k) order.push_back(k);
      for (std::size_t k = 0; k < order.size() && !stopped(options); ++k) {
        if (replay->passes(trials[order[k]], group.device, amount.make)) continue;
        std::rotate(order.begin(), order.begin() + static_cast<long>(k),
                    order.begin() + static_cast<long>(k) + 1);
        return trials[order.front()].name;
      }
      return {};
    };
  });
  return coverage;
}

Coverage coverage_of(const protection::RelaySettings& approved, const InjectionOptions& how,
                     const CoverageOptions& options) {
  const auto first_failed = [&](const protection::RelaySettings& settings) -> std::string {
    const InjectionReport report = inject(settings, approved, "settings.toml", how);
    if (!report.failure.empty()) return report.failure;
    for (const InjectedPoint& point : report.points) {
      if (!point.passed) return point.function + ", " + point.test;
    }
    for (const Boundary& boundary : report.boundaries) {
      if (!boundary.passed()) return boundary.function + ", boundary";
    }
    return {};
  };
  Coverage coverage;
  coverage.trials = coverage.of = 1;
  if (const std::string why = first_failed(approved); !why.empty())
    throw Error("the element tests fail with the approved settings (" + why +
                "), so they cannot find a mistake");
  look_at_all(mistakes_in_settings(approved), options, coverage, [&] {
    return [&](const MistakeGroup&, const MistakeGroup::Amount& amount) {
      Device device;
      device.relay = approved;
      amount.make(device);
      return first_failed(device.relay);
    };
  });
  return coverage;
}

}  // namespace zavrek::trial
