// The verbs that judge the step: reference, compare, steps.
#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <numbers>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/telling.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {
namespace {

/// Solves the reference, telling on the way how far it is.
emt::Series solve_telling(const emt::Study& study, double tolerance, bool json) {
  Telling telling(json);
  emt::Series series = emt::solve_reference(
      study, {.relative_tolerance = tolerance, .goes_on = [&](double time_s, long long steps) {
                telling.tell(fmt::format("reference: {} of {}, {} steps", print_rounded(time_s, "s"),
                                         print_rounded(study.duration_s, "s"), steps));
                return !stop_on_signal();
              }});
  if (series.interrupted)
    telling.say(
        fmt::format("interrupted: the reference came to {}", print_rounded(series.time_s.back(), "s")));
  return series;
}

struct Subject {
  trial::Case all;
  emt::Study study;
  double trigger_s = 0;
  std::string struck;  // what disturbs it; empty: nothing
};

/// What an undisturbed run says of a step is little: the first trial with a fault, else a fault of its own,
/// on the last bus whose voltage nothing holds, such that some ten kiloamperes could flow.
trial::Trial disturbance_of(const trial::Case& all) {
  for (const trial::Trial& one : all.trials) {
    if (one.fault) return one;
  }
  trial::Trial own;
  own.prefault_s = 0.02;
  own.postfault_s = 0.08;
  for (const network::Bus& bus : all.network.buses) {
    const bool held = std::any_of(
        all.network.elements.begin(), all.network.elements.end(), [&](const network::Element& element) {
          const auto* source = std::get_if<network::Source>(&element);
          return (source && source->bus == bus.name && !network::is_set(source->short_circuit_VA)) ||
                 (std::holds_alternative<network::ImposedVoltage>(element) &&
                  std::get<network::ImposedVoltage>(element).bus == bus.name);
        });
    const std::string phases = bus.phases == "abc" ? "ABC" : bus.phases.starts_with("pn") ? "PN" : "";
    if (held || phases.empty()) continue;
    constexpr double about_A = 1e4;
    own.name = fmt::format("{} on {}", phases, bus.name);
    own.fault.emplace();
    own.fault->fault.on = bus.name;
    own.fault->fault.phases = phases;
    own.fault->fault.resistance_ohm = bus.voltage_V / about_A;
    own.fault->lasts_s = 0.04;
  }
  return own;
}

enum class Undisturbed : bool { as_it_is, struck };
Subject subject_of(const StudyOptions& options, Undisturbed undisturbed = Undisturbed::as_it_is) {
  Subject subject{casefile::read_case(options.folder), {}, 0, options.trial};
  bench::open_laws(subject.all);
  const trial::Trial* trial =
      options.trial.empty() ? nullptr : &trial::find_trial(subject.all, options.trial);
  trial::Trial own;
  if (!trial && undisturbed == Undisturbed::struck) {
    own = disturbance_of(subject.all);
    if (own.fault) trial = &own;
    subject.struck = own.name;
  }
  const double duration = options.duration.empty() ? 0 : positive_time("--for", options.duration);
  subject.study = trial::study_of(subject.all, trial, duration);
  subject.study.signals = options.signals;
  if (options.signals.empty())
    subject.study.signals = emt::voltages_and_currents(emt::compile(subject.study.network));
  if (!subject.study.commands.empty()) subject.trigger_s = subject.study.commands.front().at_s;
  constexpr double long_enough_s = 0.1;
  if (options.trial.empty() && trial && duration == 0)
    subject.study.duration_s = std::min(subject.study.duration_s, subject.trigger_s + long_enough_s);
  return subject;
}

void print(const record::Comparison& comparison, std::size_t most) {
  std::vector<const record::SignalComparison*> rows;
  for (const auto& signal : comparison.signals) rows.push_back(&signal);
  std::stable_sort(rows.begin(), rows.end(),
                   [](const auto* a, const auto* b) { return a->nrmse > b->nrmse; });
  fmt::print("  {:<22}{:>12}{:>10}{:>10}{:>10}{:>12}{:>10}\n", "signal", "peak", "rms", "nrmse", "largest",
             "at", "in band");
  for (std::size_t k = 0; k < rows.size() && k < most; ++k) {
    const auto& s = *rows[k];
    const double peak = s.peak > 0 ? s.peak : 1;
    fmt::print("  {:<22}{:>12}{:>9.3f}%{:>9.3f}%{:>9.3f}%{:>12}{:>10}\n", s.name,
               print_rounded(s.peak, s.unit), 100 * s.rms / peak, 100 * s.nrmse, 100 * s.largest / peak,
               print_rounded(s.largest_at_s, "s"),
               s.passed ? "yes" : fmt::format("{:.1f}%", 100 * (1 - s.outside)));
  }
  if (rows.size() > most) fmt::print("  ... and {} signals that differ less\n", rows.size() - most);
}

nlohmann::json to_json(const record::Comparison& comparison) {
  nlohmann::json out{{"shift_s", comparison.shift_s}, {"passed", comparison.passed()}};
  for (const auto& s : comparison.signals) {
    out["signals"].push_back({{"name", s.name},
                              {"unit", s.unit},
                              {"peak", s.peak},
                              {"band", s.band},
                              {"over_s", s.over_s},
                              {"rms", s.rms},
                              {"nrmse", s.nrmse},
                              {"largest", s.largest},
                              {"largest_at_s", s.largest_at_s},
                              {"outside_band", s.outside},
                              {"passed", s.passed}});
  }
  return out;
}

/// Worst of all signals: rms of the difference over the peak. Signals far below the largest of their unit
/// carry nothing worth judging.
struct Worst {
  double error = 0;
  std::string signal;
};
Worst worst_of(const record::Comparison& comparison) {
  Worst worst;
  for (const auto& s : comparison.signals) {
    double largest = 0;
    for (const auto& other : comparison.signals) {
      if (other.unit == s.unit) largest = std::max(largest, other.peak);
    }
    if (s.peak < 1e-3 * largest || s.peak == 0) continue;
    if (s.rms / s.peak > worst.error) worst = {s.rms / s.peak, s.name};
  }
  return worst;
}

std::string mode_text(const emt::Mode& mode) {
  if (std::abs(mode.s.imag()) < 1e-6 * std::abs(mode.s))
    return fmt::format("decays in {}", print_rounded(-1 / mode.s.real(), "s"));
  return fmt::format("{}, decays in {}",
                     print_rounded(std::abs(mode.s.imag()) / (2 * std::numbers::pi), "Hz"),
                     print_rounded(-1 / mode.s.real(), "s"));
}

}  // namespace

namespace {

/// All converters of the network at one depth; those that commutate by the network stay as they are.
void set_depth(network::Network& network, const std::string& depth) {
  for (network::Element& element : network.elements) {
    if (auto* bridge = std::get_if<network::Bridge>(&element); bridge && bridge->device == "transistor")
      bridge->depth = depth;
    if (auto* converter = std::get_if<network::DcConverter>(&element)) converter->depth = depth;
    if (auto* arm = std::get_if<network::SubmoduleArm>(&element)) arm->depth = depth;
  }
}

/// Both depths beside the variable step.
int compare_depths(const StudyOptions& options, Subject& subject, double tolerance) {
  const auto record_of = [&](const emt::Series& series) {
    return trial::record_of(series, subject.all, subject.trigger_s);
  };
  const emt::Series exact = solve_telling(subject.study, tolerance, options.json);
  if (exact.interrupted) return interrupted;
  std::vector<report::Calculation> all{{"reference", record_of(exact)}};
  const double band = share("--band", options.error);
  nlohmann::json out;
  for (const std::string depth : {"switched", "averaged"}) {
    set_depth(subject.study.network, depth);
    const bool coarse = depth == "averaged" && !options.averaged_step.empty();
    const double step =
        coarse ? positive_time("--averaged-step", options.averaged_step) : subject.all.network.step_s;
    all.push_back({fmt::format("{}, {}", depth, print_rounded(step, "s")),
                   record_of(emt::simulate(subject.study, step))});
    const record::Comparison comparison =
        record::compare(all.front().record, all.back().record, {.band = band});
    out[depth] = to_json(comparison);
    if (options.json) continue;
    fmt::print("{}\n", all.back().name);
    print(comparison, 12);
  }
  if (options.json) fmt::print("{}\n", printed("reference", out));
  if (!options.figure.empty())
    report::draw_calculations(all, subject.study.signals,
                              fmt::format("{}: two depths over the reference", subject.all.network.title),
                              parse_quantity_as(options.figure_from, "s"), options.figure);
  return done;
}

}  // namespace

int reference(const StudyOptions& options) {
  Subject subject = subject_of(options);
  const double tolerance = parse_quantity_as(options.precision, "");
  if (!(tolerance >= 1e-12 && tolerance <= 1e-2)) throw Error("--precision: from 1e-12 to 1e-2 is wanted");
  if (options.depths) return compare_depths(options, subject, tolerance);
  const emt::Series exact = solve_telling(subject.study, tolerance, options.json);
  if (exact.interrupted) return interrupted;
  const emt::Series fixed = emt::simulate(subject.study);
  const record::Record first = trial::record_of(exact, subject.all, subject.trigger_s);
  const record::Record second = trial::record_of(fixed, subject.all, subject.trigger_s);
  if (!options.record.empty()) record::write_record(first, options.record, record::Encoding::float32);
  const double band = share("--band", options.error);
  const record::Comparison comparison = record::compare(first, second, {.band = band});
  if (!options.figure.empty()) {
    report::draw_overlay(comparison, "reference", "fixed step",
                         fmt::format("{}: step of {} over the reference", subject.all.network.title,
                                     print_rounded(subject.all.network.step_s, "s")),
                         options.figure);
  }
  if (options.json) {
    nlohmann::json out = to_json(comparison);
    out["reference_steps"] = exact.steps;
    out["fixed_steps"] = fixed.steps;
    fmt::print("{}\n", printed("reference", out));
    return done;
  }
  fmt::print("{} of {}: {} variable steps (precision {}), {} of {}\n",
             print_rounded(subject.study.duration_s, "s"), subject.all.network.title, exact.steps,
             options.precision, fixed.steps, print_rounded(subject.all.network.step_s, "s"));
  print(comparison, 12);
  return done;
}

namespace {

/// What tells two files apart: their names, or the folders in which files of one name stand.
std::array<std::string, 2> apart(const std::filesystem::path& first, const std::filesystem::path& second) {
  if (first.filename() != second.filename() || first == second)
    return {first.stem().string(), second.stem().string()};
  return apart(std::filesystem::absolute(first).parent_path(),
               std::filesystem::absolute(second).parent_path());
}

}  // namespace

namespace {

void print_compared(const record::Comparison& comparison, const std::string& name, const std::string& band) {
  fmt::print("{} signals over {}, {} {} by {}\n", comparison.signals.size(),
             print_rounded(comparison.time_s.back() - comparison.time_s.front(), "s"), name,
             comparison.shift_s >= 0 ? "late" : "early", print_rounded(std::abs(comparison.shift_s), "s"));
  print(comparison, 40);
  fmt::print("{}: {} of {} signals stay within their bands ({} of their peak where nothing else is said)\n",
             comparison.passed() ? "passed" : "FAILED",
             std::count_if(comparison.signals.begin(), comparison.signals.end(),
                           [](const auto& s) { return s.passed; }),
             comparison.signals.size(), band);
}

/// The signals asked for, else the first that all have.
std::vector<std::string> drawn_of(const std::vector<report::Calculation>& all,
                                  const std::vector<record::Band>& signals) {
  constexpr std::size_t most = 4;
  std::vector<std::string> drawn;
  for (const record::Band& band : signals) drawn.push_back(band.signal);
  if (!drawn.empty()) return drawn;
  for (const record::Analog& analog : all.front().record.analogs) {
    const bool common = std::all_of(all.begin(), all.end(), [&](const report::Calculation& one) {
      return one.record.find_analog(analog.name) != nullptr;
    });
    if (common && drawn.size() < most) drawn.push_back(analog.name);
  }
  return drawn;
}

/// Two with their difference, several over each other.
void draw_compared(const std::vector<report::Calculation>& all,
                   const std::vector<record::Comparison>& compared, const std::vector<record::Band>& signals,
                   const std::string& figure) {
  const record::Record& first = all.front().record;
  if (all.size() > 2)
    return report::draw_calculations(all, drawn_of(all, signals), all[0].name + " and others",
                                     first.time_s.front(), figure);
  const std::string trial = first.fact("trial") == all[1].record.fact("trial") ? first.fact("trial") : "";
  report::draw_overlay(compared.front(), all[0].name, all[1].name,
                       trial.empty() ? all[0].name + " and " + all[1].name : trial, figure);
}

}  // namespace

int compare(const CompareOptions& options) {
  record::CompareOptions how;
  for (const std::string& text : options.signals) how.signals.push_back(record::parse_band(text));
  how.most_shift_s = parse_quantity_as(options.shift, "s");
  how.band = share("--band", options.band, 1e-12);
  std::vector<report::Calculation> all{
      {apart(options.first, options.others.front())[0], record::read_record(options.first)}};
  std::vector<record::Comparison> compared;
  nlohmann::json list = nlohmann::json::array();
  for (const std::string& other : options.others) {
    all.push_back({apart(options.first, other)[1], record::read_record(other)});
    compared.push_back(record::compare(all.front().record, all.back().record, how));
    if (options.json) {
      list.push_back(to_json(compared.back()));
      list.back()["record"] = other;
      continue;
    }
    if (compared.size() > 1) fmt::print("\n");
    print_compared(compared.back(), options.others.size() == 1 ? "the second" : all.back().name,
                   options.band);
  }
  if (!options.figure.empty()) draw_compared(all, compared, how.signals, options.figure);
  const bool passed =
      std::all_of(compared.begin(), compared.end(), [](const auto& one) { return one.passed(); });
  if (options.json)
    fmt::print("{}\n", printed("compare", compared.size() == 1
                                              ? list[0]
                                              : nlohmann::json{{"passed", passed}, {"comparisons", list}}));
  return passed ? done : failed_verdict;
}

namespace {

/// A step and what it came to.
struct Tried {
  double step_s;
  Worst worst;
  std::string failed;  // why there is no answer
  [[nodiscard]] bool keeps(double wanted) const { return failed.empty() && worst.error <= wanted; }
};

/// Tries steps beside a reference.
class StepTrials {
 public:
  StepTrials(Subject& subject, const record::Record& exact, double wanted, double bound_s, bool json)
      : subject_(subject), exact_(exact), wanted_(wanted), bound_s_(bound_s), telling_(json) {}

  /// The file's own step, then larger ones as far as they may lead, smaller ones as far as they are better,
  /// and some between the largest that keeps the error and the least that does not.
  void run() {
    const double own = subject_.all.network.step_s;
    attempt(std::min(own, bound_s_));
    for (double step = own; goes_on() && step < bound_s_ && tried_.back().failed.empty() &&
                            tried_.back().worst.error < 30 * wanted_;) {
      step = std::min(round_step(step, true), bound_s_);
      attempt(step);
    }
    for (double step = std::min(own, bound_s_);
         goes_on() && (least().worst.error > wanted_ / 30 || tried_.size() < 4) && step > own / 60;) {
      step = round_step(step, false);
      attempt(step);
    }
    for (int k = 0; k < 3 && goes_on(); ++k) {
      const double keeps = largest(), fails = least_failing(keeps);
      if (keeps == 0 || fails == 0 || fails < 1.05 * keeps) break;
      attempt(std::sqrt(keeps * fails));
    }
    std::sort(tried_.begin(), tried_.end(),
              [](const Tried& a, const Tried& b) { return a.step_s > b.step_s; });
  }
  [[nodiscard]] const std::vector<Tried>& tried() const { return tried_; }
  /// Largest step below which all keep the error; 0 when none does.
  [[nodiscard]] double largest() const {
    double found = 0, fails = 1e300;
    for (const Tried& t : tried_) {
      if (!t.keeps(wanted_)) fails = std::min(fails, t.step_s);
    }
    for (const Tried& t : tried_) {
      if (t.keeps(wanted_) && t.step_s < fails) found = std::max(found, t.step_s);
    }
    return found;
  }
  /// Slope of the error's logarithm over the step's, by least squares over errors that mean something; 0 when
  /// fewer than three do.
  [[nodiscard]] double order() const {
    double n = 0, x = 0, y = 0, xx = 0, xy = 0;
    for (const Tried& t : tried_) {
      if (!t.failed.empty() || t.worst.error > 0.1 || t.worst.error < 1e-6) continue;
      const double a = std::log(t.step_s), b = std::log(t.worst.error);
      n += 1, x += a, y += b, xx += a * a, xy += a * b;
    }
    return n < 3 ? 0 : (n * xy - x * y) / (n * xx - x * x);
  }

 private:
  [[nodiscard]] static bool goes_on() { return !stop_on_signal(); }
  /// The neighbour of a step among 1, 2, 5, 10, ...
  [[nodiscard]] static double round_step(double step, bool above) {
    constexpr double slack = 1e-9;
    const double decade = std::pow(10, std::floor(std::log10(step)));
    double below = decade / 5;
    for (const double digit : {0.5, 1.0, 2.0, 5.0, 10.0, 20.0}) {
      if (above && digit * decade > step * (1 + slack)) return digit * decade;
      if (digit * decade < step * (1 - slack)) below = digit * decade;
    }
    return below;
  }
  [[nodiscard]] double least_failing(double above) const {
    double found = 0;
    for (const Tried& t : tried_) {
      if (t.step_s > above && !t.keeps(wanted_) && (found == 0 || t.step_s < found)) found = t.step_s;
    }
    return found;
  }
  [[nodiscard]] const Tried& least() const {
    return *std::min_element(tried_.begin(), tried_.end(),
                             [](const Tried& a, const Tried& b) { return a.step_s < b.step_s; });
  }
  void attempt(double step_s) {
    telling_.tell(fmt::format("{} steps were tried, now {}", tried_.size(), print_rounded(step_s, "s")));
    subject_.study.network.step_s = step_s;
    Tried next{step_s, {}, {}};
    try {
      next.worst = worst_of(
          record::compare(exact_, trial::record_of(emt::simulate(subject_.study, step_s), subject_.all, 0)));
    } catch (const Error& error) {
      next.failed = error.what();
    }
    tried_.push_back(std::move(next));
  }

  Subject& subject_;
  const record::Record& exact_;
  double wanted_, bound_s_;
  Telling telling_;
  std::vector<Tried> tried_;
};

}  // namespace

int steps(const StudyOptions& options) {
  Subject subject = subject_of(options, Undisturbed::struck);
  const double wanted = share("--error", options.error, 1e-9);
  const double tolerance = std::min(1e-8, wanted / 1000);
  const double bound = emt::compile(subject.study.network).summary().largest_step_s;
  const emt::Series reference = solve_telling(subject.study, tolerance, options.json);
  if (reference.interrupted) return interrupted;
  const record::Record exact = trial::record_of(reference, subject.all, 0);
  StepTrials trials(subject, exact, wanted, bound, options.json);
  trials.run();
  subject.study.network.step_s = subject.all.network.step_s;
  if (stop_on_signal()) return interrupted;
  nlohmann::json out{{"struck", subject.struck}};
  for (const Tried& tried : trials.tried()) {
    nlohmann::json row{{"step_s", tried.step_s}};
    if (tried.failed.empty()) {
      row["error"] = tried.worst.error;
      row["signal"] = tried.worst.signal;
    } else {
      row["failed"] = tried.failed;
    }
    out["steps"].push_back(std::move(row));
  }
  const double largest = trials.largest(), order = trials.order();
  if (bound < 1e300) out["bound_s"] = bound;
  if (order > 0) out["order"] = order;
  if (!options.json) {
    fmt::print("{}\nstruck: {}{}\n  {:>10}  {:>12}  {}\n", subject.all.network.title,
               subject.struck.empty() ? "nothing, there being no bus to strike" : subject.struck,
               options.trial.empty() && !subject.struck.empty() ? " (--trial names another)" : "", "step",
               "worst rms", "signal");
    for (const Tried& tried : trials.tried()) {
      if (tried.failed.empty()) {
        fmt::print("  {:>10}  {:>11.4f}%  {}\n", print_rounded(tried.step_s, "s"), 100 * tried.worst.error,
                   tried.worst.signal);
      } else {
        fmt::print("  {:>10}  {:>12}  {}\n", print_rounded(tried.step_s, "s"), "none", tried.failed);
      }
    }
    if (bound < 1e300)
      fmt::print("beyond {} waves cross a line within a step: not tried\n", print_rounded(bound, "s"));
    if (order > 0) fmt::print("the error falls with the step to the power of {:.1f}\n", order);
  }
  std::vector<emt::Mode> all = emt::modes(subject.study.network);
  // Three phases have most of their modes twice.
  const auto alike = [](const emt::Mode& a, const emt::Mode& b) {
    return a.where == b.where && std::abs(a.s - b.s) < 1e-3 * std::abs(a.s);
  };
  all.erase(std::unique(all.begin(), all.end(), alike), all.end());
  out["largest_step_s"] = largest;
  for (std::size_t k = 0; k < all.size() && k < 8; ++k)
    out["modes"].push_back(
        {{"real", all[k].s.real()}, {"imaginary", all[k].s.imag()}, {"where", all[k].where}});
  if (options.json) {
    fmt::print("{}\n", printed("steps", out));
    return largest > 0 ? done : failed_verdict;
  }
  if (largest > 0) {
    fmt::print("largest step that keeps {} rms of the peak: {}\n", options.error,
               print_rounded(largest, "s"));
  } else {
    fmt::print("none of these steps keeps {} rms of the peak\n", options.error);
  }
  fmt::print("fastest modes\n");
  for (std::size_t k = 0; k < all.size() && k < 4; ++k) {
    // Ten steps to a period, or to a time constant.
    const double period = std::abs(all[k].s.imag()) > 1e-6 * std::abs(all[k].s)
                              ? 2 * std::numbers::pi / std::abs(all[k].s.imag())
                              : -1 / all[k].s.real();
    fmt::print("  {:<40} at {:<14} ten steps to it: {}\n", mode_text(all[k]), all[k].where,
               print_rounded(period / 10, "s"));
  }
  return largest > 0 ? done : failed_verdict;
}

}  // namespace zavrek::tool
