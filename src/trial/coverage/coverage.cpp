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

/// Below the smallest of the usual amounts that is found: from where on that is so.
template <class Look>
std::string least_found(const Mistake& mistake, CoverageRow& row, Look& look) {
  constexpr int halvings = 4;
  if (mistake.kind == Mistake::Kind::word) return row.amounts[row.found_from];
  const double nothing = mistake.kind == Mistake::Kind::share ? 1 : 0;
  double missed = row.found_from > 0 ? mistake.amounts[row.found_from - 1].by : nothing;
  double found = mistake.amounts[row.found_from].by;
  for (int k = 0; k < halvings; ++k) {
    const double middle = (missed + found) / 2;
    const std::string by = look(mistake, middle);
    if (!by.empty()) row.by = by;
    (by.empty() ? missed : found) = middle;
  }
  return mistake.shown(found);
}

/// Calls a worker's own `look(k)` for every k below `count`, on so many threads.
template <class MakeLook>
void share_out(std::size_t count, const CoverageOptions& options, MakeLook&& make_look) {
  std::atomic<std::size_t> next{0};
  std::mutex telling;
  long long done = 0;
  std::string wrong;
  const auto guarded = [&] {
    try {
      auto look = make_look();
      for (std::size_t k = next++; k < count && !stopped(options); k = next++) {
        look(k);
        const std::scoped_lock one(telling);
        ++done;
        if (options.report) options.report(done, static_cast<long long>(count));
      }
    } catch (const std::exception& error) {
      const std::scoped_lock one(telling);
      wrong = error.what();
      next = count;
    }
  };
  std::vector<std::jthread> threads;
  for (int k = 1; k < options.workers; ++k) threads.emplace_back(guarded);
  guarded();
  threads.clear();
  if (!wrong.empty()) throw Error(wrong);
}

/// From which amount on each mistake is found; `look(mistake, by)` of a worker says what finds it.
template <class MakeLook>
void look_at_all(const std::vector<Mistake>& mistakes, const CoverageOptions& options, Coverage& coverage,
                 MakeLook&& make_look) {
  std::vector<const Mistake*> wanted;
  for (const Mistake& mistake : mistakes) {
    if ((mistake.device + " " + mistake.what).find(options.only) != std::string::npos)
      wanted.push_back(&mistake);
  }
  coverage.rows.resize(wanted.size());
  share_out(wanted.size(), options, [&] {
    return [&, look = make_look()](std::size_t k) mutable {
      const Mistake& mistake = *wanted[k];
      CoverageRow& row = coverage.rows[k];
      row.device = mistake.device;
      row.what = mistake.what;
      row.before = mistake.before;
      for (const Mistake::Amount& amount : mistake.amounts) row.amounts.push_back(amount.text);
      row.found_from = row.amounts.size();
      // From the largest down, as long as it is found.
      for (std::size_t a = mistake.amounts.size(); a-- > 0 && !stopped(options);) {
        const std::string by = look(mistake, mistake.amounts[a].by);
        if (by.empty()) break;
        row.found_from = a;
        row.by = by;
      }
      if (row.found()) row.from = least_found(mistake, row, look);
    };
  });
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
    how_.explain = false;
    how_.stop = options.stop;
    how_.plants = &plants_;
  }
  /// Whether it passes with a mistake made, or with none.
  bool passes(const Replayed& one, const std::string& device, const std::function<bool(Device&)>& make) {
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
      // What settings cannot have is no mistake that a relay could run with.
      if (make && each.name == device && !make(each)) return true;
      each.place = "plant";
    }
    const TrialResult result = run_trial(swept.all, swept.trial, how);
    latest_s_ = result.record.time_s.empty() ? 0 : result.record.time_s.back();
    return result.passed();
  }
  /// How long the latest one took in real time.
  [[nodiscard]] double latest_s() const { return latest_s_; }

 private:
  const Case& all_;
  bench::PlantStore plants_;
  RunOptions how_;
  double latest_s_ = 0;
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

/// Adds a trial: as it is, or its values to those of its sweep.
void take_chosen(const Case& all, const Replayed& one, Choice& choice) {
  if (!one.sweep) {
    choice.trials.push_back(all.trials[one.index]);
    return;
  }
  if (choice.sweeps.empty() || choice.sweeps.back().name != one.sweep->name) {
    Sweep& sweep = choice.sweeps.emplace_back(*one.sweep);
    sweep.combine = "paired";
    for (Vary& vary : sweep.vary) vary = {.field = vary.field, .values = {}, .from = {}, .to = {}};
  }
  std::vector<Vary>& vary = choice.sweeps.back().vary;
  const SweptTrial swept = swept_trial(all, *one.sweep, one.index);
  for (std::size_t k = 0; k < vary.size(); ++k) {
    for (const auto& [field, value] : swept.fields) {
      if (field == vary[k].field) vary[k].values.push_back(value);
    }
  }
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
            &options](const Mistake& mistake, double by) mutable -> std::string {
      const auto make = [&](Device& device) { return mistake.make(device, by); };
      for (std::size_t k = order.size(); k < trials.size(); ++k) order.push_back(k);
      for (std::size_t k = 0; k < order.size() && !stopped(options); ++k) {
        if (replay->passes(trials[order[k]], mistake.device, make)) continue;
        std::rotate(order.begin(), order.begin() + static_cast<long>(k),
                    order.begin() + static_cast<long>(k) + 1);
        return trials[order.front()].name;
      }
      return {};
    };
  });
  return coverage;
}

Choice choose_trials(const Case& all, long long most, const CoverageOptions& options) {
  Choice choice;
  std::vector<Replayed> trials;
  std::vector<double> paced_s;
  {
    Replay as_it_stands(all, options);
    for (Replayed& one : candidates(all, options.most_trials, choice.of)) {
      if (stopped(options)) break;
      if (!as_it_stands.passes(one, {}, {})) continue;
      paced_s.push_back(as_it_stands.latest_s());
      trials.push_back(std::move(one));
    }
  }
  // What each mistake is found by: one row for each amount.
  std::vector<std::pair<const Mistake*, double>> looked_at;
  std::vector<Mistake> mistakes = mistakes_in(all);
  for (const Mistake& mistake : mistakes) {
    if ((mistake.device + " " + mistake.what).find(options.only) == std::string::npos) continue;
    for (const Mistake::Amount& amount : mistake.amounts) looked_at.emplace_back(&mistake, amount.by);
  }
  std::vector<std::vector<char>> found(looked_at.size(), std::vector<char>(trials.size(), 0));
  share_out(looked_at.size(), options, [&] {
    return [&, replay = std::make_shared<Replay>(all, options)](std::size_t k) {
      const Mistake* mistake = looked_at[k].first;
      const double by = looked_at[k].second;
      const auto make = [&](Device& device) { return mistake->make(device, by); };
      for (std::size_t t = 0; t < trials.size() && !stopped(options); ++t)
        found[k][t] = replay->passes(trials[t], mistake->device, make) ? 0 : 1;
    };
  });
  std::vector<char> done(looked_at.size(), 0);
  std::vector<std::size_t> chosen;
  while (static_cast<long long>(chosen.size()) < most) {
    std::size_t best = trials.size();
    long long best_count = 0;
    for (std::size_t t = 0; t < trials.size(); ++t) {
      long long count = 0;
      for (std::size_t k = 0; k < found.size(); ++k) count += !done[k] && found[k][t] ? 1 : 0;
      if (count > best_count || (count > 0 && count == best_count && paced_s[t] < paced_s[best])) {
        best = t;
        best_count = count;
      }
    }
    if (best_count == 0) break;
    chosen.push_back(best);
    for (std::size_t k = 0; k < found.size(); ++k) done[k] = done[k] || found[k][best] ? 1 : 0;
  }
  for (std::size_t k = 0; k < found.size(); ++k) {
    choice.found += done[k];
    choice.of_found += std::find(found[k].begin(), found[k].end(), 1) != found[k].end() ? 1 : 0;
  }
  choice.chosen = static_cast<long long>(chosen.size());
  std::sort(chosen.begin(), chosen.end());
  for (const std::size_t t : chosen) {
    choice.paced_s += paced_s[t];
    take_chosen(all, trials[t], choice);
  }
  return choice;
}

Coverage coverage_of(const protection::RelaySettings& approved, const InjectionOptions& how,
                     const CoverageOptions& options) {
  InjectionOptions once = how;
  once.explain = false;
  const auto first_failed = [&](const protection::RelaySettings& settings) -> std::string {
    const InjectionReport report = inject(settings, approved, "settings.toml", once);
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
    return [&](const Mistake& mistake, double by) {
      Device device;
      device.relay = approved;
      return mistake.make(device, by) ? first_failed(device.relay) : std::string();
    };
  });
  return coverage;
}

}  // namespace zavrek::trial
