// The table of mistakes in docs/mistakes.md: each is made in a relay, trials and element tests are run with
// it, and what they name as the likeliest cause is compared with it.
#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstdio>
#include <deque>
#include <filesystem>
#include <functional>
#include <mutex>
#include <numbers>
#include <set>
#include <string>
#include <thread>

#include <fmt/format.h>

#include "zavrek/casefile.hpp"
#include "zavrek/trial/coverage.hpp"

namespace {

using namespace zavrek;
using trial::Case;
using trial::Device;
using trial::Mistake;

constexpr const char* introduction =
    "# Mistakes, what finds them, and what is named as their cause\n\n"
    "Made by `./dev mistakes`. Each setting and each wire of three relays is made wrong. Trials (of the "
    "case, and 150 of its sweeps, "
    "until\nsome failed and some passed) and element tests (times within 3 % or 20 ms) are run with it. "
    "*Named first*: the cause that "
    "stands first\nis the mistake that was made; else what stood first instead, which seldom can be told "
    "apart by what was tried: a "
    "stage that looks the\nwrong way and one that does not trip, a pickup and a time multiplier where one "
    "current was tried. Of "
    "phases, curves and clock figures\nsome of each kind are tried, what seldom acts is left out.\n";
constexpr std::size_t enough_failed = 5, enough_passed = 12, most_of_sweeps = 150;

/// What came of one amount of a mistake.
struct Outcome {
  bool made = false, found = false, named = false;
  std::string first;  // cause
};

/// Its trials, in an order that jumps over all of them.
struct Programme {
  struct Entry {
    trial::SweptTrial swept;
    std::string network;
  };
  std::deque<Entry> entries;

  explicit Programme(const Case& all) {
    std::vector<std::pair<const trial::Sweep*, std::size_t>> sweeps;
    for (const trial::Sweep& sweep : all.sweeps) {
      for (std::size_t k = 0; k < trial::size_of(sweep); ++k) sweeps.emplace_back(&sweep, k);
    }
    for (std::size_t k = 0; k < all.trials.size(); ++k) {
      if (!all.trials[k].expect.empty())
        entries.push_back({{all, all.trials[k], {}}, fmt::format("trial {}", k)});
    }
    std::set<std::size_t> chosen;
    for (std::size_t k = 0; k < 4 * sweeps.size() && chosen.size() < most_of_sweeps; ++k) {
      const double place = std::fmod((static_cast<double>(k) + 0.5) * (std::numbers::phi - 1), 1.0);
      const auto at = static_cast<std::size_t>(place * static_cast<double>(sweeps.size()));
      if (!chosen.insert(at).second) continue;
      entries.push_back({trial::swept_trial(all, *sweeps[at].first, sweeps[at].second),
                         trial::network_of(*sweeps[at].first, sweeps[at].second)});
    }
  }

  Outcome run(const Mistake& mistake, double by, bench::PlantStore& plants) const {
    Outcome outcome;
    std::deque<std::pair<Case, trial::TrialResult>> results;
    std::vector<trial::JudgedResult> judged;
    std::size_t failed = 0, passed = 0;
    for (const Entry& entry : entries) {
      if (failed >= enough_failed && passed >= enough_passed) break;
      Case all = entry.swept.all;
      for (Device& device : all.bench.devices) {
        device.relay = device.approved_relay;
        device.place = "plant";
        if (device.name == mistake.device && !mistake.make(device, by)) return outcome;
      }
      trial::RunOptions how;
      how.place = "plant";
      how.free = true;
      how.explain = false;
      how.plants = &plants;
      how.network_name = entry.network;
      trial::TrialResult result = trial::run_trial(all, entry.swept.trial, how);
      ++(result.passed() ? passed : failed);
      auto& kept = results.emplace_back(std::move(all), std::move(result));
      judged.push_back({&kept.first, &entry.swept.trial, &kept.second});
    }
    outcome.made = true;
    outcome.found = failed > 0;
    if (outcome.found) name(trial::likely_causes(judged), mistake, outcome);
    return outcome;
  }

  static void name(const std::vector<trial::Explanation>& causes, const Mistake& mistake, Outcome& outcome) {
    if (causes.empty()) return;
    outcome.named = causes.front().text.ends_with("behaves as if " + mistake.behaves);
    outcome.first = causes.front().words();
    const std::size_t at = outcome.first.find("behaves as if ");
    if (at != std::string::npos) outcome.first = outcome.first.substr(at + 14);
  }
};

Outcome run_element_tests(const protection::RelaySettings& approved, const Mistake& mistake, double by) {
  Outcome outcome;
  Device device;
  device.relay = device.approved_relay = approved;
  if (!mistake.make(device, by)) return outcome;
  trial::InjectionOptions how;
  how.name = approved.name;
  how.tolerance = {"3 %", "20 ms"};
  const trial::InjectionReport report = trial::inject(device.relay, approved, "settings.toml", how);
  outcome.made = true;
  outcome.found = !report.passed();
  if (outcome.found) Programme::name(report.causes, mistake, outcome);
  return outcome;
}

/// What is made wrong, and by what it was found, with what named first.
struct Row {
  const Mistake* mistake;
  std::vector<Outcome> trials, elements;  // of each usual amount
};

std::string cell(const Row& row, const std::vector<Outcome>& outcomes) {
  std::string found, missed;
  std::vector<std::string> others;
  std::size_t right = 0, all = 0;
  for (std::size_t k = 0; k < outcomes.size(); ++k) {
    if (!outcomes[k].made) continue;
    ++all;
    const std::string& amount = row.mistake->amounts[k].text;
    std::string& list = outcomes[k].found ? found : missed;
    list += (list.empty() ? "" : ", ") + amount;
    right += outcomes[k].named ? 1 : 0;
    if (outcomes[k].found && !outcomes[k].named)
      others.push_back(amount + ": " + (outcomes[k].first.empty() ? "no cause" : outcomes[k].first));
  }
  if (all == 0) return "";
  if (found.empty()) return "not found";
  std::string text = right == all ? "named first" : missed.empty() ? "found" : "not found: " + missed;
  for (const std::string& other : others) text += "<br>" + other;
  return text;
}

struct Sum {
  int mistakes = 0, found = 0, named = 0;
  void add(const std::vector<Outcome>& outcomes) {
    for (const Outcome& one : outcomes) {
      mistakes += one.made ? 1 : 0;
      found += one.found ? 1 : 0;
      named += one.named ? 1 : 0;
    }
  }
};

/// Of what differs by a letter alone one is enough, and what seldom acts is left out.
bool is_of_the_table(const Mistake& mistake) {
  for (const char* seldom : {"flat_above", "least_", "confirm", "load_", "drop_off", "knee", "end"}) {
    if (mistake.what.find(seldom) != std::string::npos) return false;
  }
  const std::string& amount = mistake.amounts.front().text;
  if (mistake.what.find("characteristic") != std::string::npos)
    return amount == "definite" || amount == "IEC normal inverse" || amount == "IEC very inverse" ||
           amount == "inverse";
  if (mistake.what.find("circuits") != std::string::npos)
    return amount == "a and b swapped" || amount == "a reversed" || amount == "b dead" ||
           amount == "reversed";
  if (mistake.what.find("hours") != std::string::npos)
    return std::abs(std::stoi(amount) - std::stoi(mistake.before)) % 10 == 1 || amount == "5";
  return true;
}

/// Rows of one relay of a case; trials only where it has any.
void print_relay(const Case& all, const std::string& name, const std::string& only) {
  const Device& device = *all.bench.find_device(name);
  std::vector<Mistake> mistakes = trial::mistakes_in_settings(device.approved_relay);
  for (Mistake& mistake : mistakes) mistake.device = name;
  const auto in_settings = [](const Mistake& m) {
    return m.what.find("circuits") == std::string::npos && m.what.find(" ratio") == std::string::npos &&
           !m.what.starts_with("input ");
  };
  for (Mistake& mistake : trial::mistakes_in_wiring(device)) mistakes.push_back(std::move(mistake));
  std::erase_if(mistakes, [&](const Mistake& m) {
    return m.what.find(only) == std::string::npos || (only.empty() && !is_of_the_table(m));
  });
  const Programme programme(all);
  std::vector<Row> rows(mistakes.size());
  std::atomic<std::size_t> next{0};
  const auto work = [&] {
    bench::PlantStore plants;
    for (std::size_t k = next++; k < mistakes.size(); k = next++) {
      rows[k].mistake = &mistakes[k];
      for (const Mistake::Amount& amount : mistakes[k].amounts) {
        rows[k].trials.push_back(programme.run(mistakes[k], amount.by, plants));
        rows[k].elements.push_back(in_settings(mistakes[k])
                                       ? run_element_tests(device.approved_relay, mistakes[k], amount.by)
                                       : Outcome{});
      }
      fmt::print(stderr, "\r{} {} of {} ", name, k + 1, mistakes.size());
    }
  };
  {
    std::vector<std::jthread> threads;
    for (unsigned k = 1; k < std::max(1U, std::thread::hardware_concurrency()); ++k)
      threads.emplace_back(work);
    work();
  }
  Sum trials, elements, either;
  for (const Row& row : rows) {
    trials.add(row.trials);
    elements.add(row.elements);
    std::vector<Outcome> both = row.trials;
    for (std::size_t k = 0; k < both.size(); ++k) {
      both[k].found |= row.elements[k].found;
      both[k].named |= row.elements[k].named;
    }
    either.add(both);
  }
  fmt::print("\n### {} of `demo/{}`\n\n", name, all.folder.filename().string());
  fmt::print("| | mistakes | found | named first |\n| --- | --- | --- | --- |\n");
  fmt::print("| in {} trials | {} | {} | {} |\n", programme.entries.size(), trials.mistakes, trials.found,
             trials.named);
  fmt::print("| in element tests | {} | {} | {} |\n", elements.mistakes, elements.found, elements.named);
  fmt::print("| in either | {} | {} | {} |\n\n", either.mistakes, either.found, either.named);
  fmt::print(
      "| setting or wire | approved | made wrong by | in trials | in element tests |\n"
      "| --- | --- | --- | --- | --- |\n");
  for (const Row& row : rows) {
    std::string amounts;
    for (const Mistake::Amount& amount : row.mistake->amounts)
      amounts += (amounts.empty() ? "" : ", ") + amount.text;
    fmt::print("| {} | {} | {} | {} | {} |\n", row.mistake->what, row.mistake->before, amounts,
               cell(row, row.trials), cell(row, row.elements));
  }
}

}  // namespace

int main(int count, char** arguments) {
  if (count < 2) {
    fmt::print(stderr, "usage: mistakes DEMO_FOLDER [CASE DEVICE [TEXT]]\n");
    return 1;
  }
  const std::filesystem::path demo = arguments[1];
  fmt::print("{}", introduction);
  const std::string only = count > 4 ? arguments[4] : "";
  for (const auto& [folder, device] :
       {std::pair{"proof", "RP"}, std::pair{"line", "DM"}, std::pair{"transformer", "DT"}}) {
    if (count > 3 && (std::string(arguments[2]) != folder || std::string(arguments[3]) != device)) continue;
    print_relay(casefile::read_case(demo / folder), device, only);
  }
  fmt::print(stderr, "\n");
}
