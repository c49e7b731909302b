// Tries the functions of one device, and judges what it does by its settings.
#pragma once

#include <chrono>
#include <filesystem>
#include <future>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include <fmt/format.h>

#include "trial/injection/constants.hpp"
#include "trial/injection/injector.hpp"
#include "trial/injection/values.hpp"
#include "trial/judge/time_tolerance.hpp"
#include "trial/mistakes/causes.hpp"

namespace zavrek::trial::internal {

using protection::ExpectedOperation;
using protection::FunctionSettings;
using protection::RelaySettings;

class Tester {
 public:
  Tester(const RelaySettings& settings, const RelaySettings& approved, const std::filesystem::path& file,
         const InjectionOptions& options, std::size_t places)
      : approved_(approved),
        options_(options),
        places_(places),
        injector_(settings, file, options, places),
        tolerance_(time_tolerance(options.tolerance)) {
    report_.settings = approved;
    report_.medium = injector_.medium();
    report_.failure = injector_.failure();
  }
  InjectionReport run();

 private:
  /// Something injected behind `past`, and whether and when the device tripped.
  void note_trip(const std::vector<protection::Held>& past, const Stimulus& during, const Probe& probe,
                 std::optional<double> trip_s, double watched_s, bool passed);

  /// Something held long enough behind what was held before, and whether the device's start was on.
  void note_start(const Probe& probe, const std::string& output, const std::vector<Stimulus>& held, bool on,
                  bool passed);
  /// How long it took from start to trip.
  void note_timer(const Probe& probe, const Stimulus& during, double measured_s, double tolerance_s);
  void explain();

  void follow_plan();
  void follow_settings();
  [[nodiscard]] ExpectedOperation expected(const Probe& probe, const Stimulus& during, double limit_s) const;
  /// What should happen with all that the device may still remember.
  [[nodiscard]] ExpectedOperation expected_behind(const std::vector<protection::Held>& past,
                                                  const Stimulus& during) const;

  /// Reckons while the device goes on seeing what stood before a fault: one elsewhere takes a gap in its
  /// samples for a fault of its own.
  template <class Reckon>
  auto beside(const Probe& probe, Reckon&& reckon) {
    if (!injector_.elsewhere()) return reckon();
    auto answer = std::async(std::launch::async, std::forward<Reckon>(reckon));
    while (injector_.failure().empty() &&
           answer.wait_for(std::chrono::seconds(0)) != std::future_status::ready)
      (void)injector_.inject(probe.before, 0.05);
    return answer.get();
  }

  /// Waits until the device's outputs are at rest again; what is held at the terminals are the values before
  /// a fault.
  bool settle(const Probe& probe);
  /// How long it must rest until nothing that it remembers of `past` (heat, a disk on its way back) changes
  /// what it does with `during`, by its settings; infinite when longer than is waited.
  [[nodiscard]] double rest_needed(const Probe& probe, const Stimulus& tested,
                                   std::vector<protection::Held> past) const;
  bool rest(const Probe& probe, const Stimulus& during);
  /// What was found so far stands, whatever becomes of what is tried next.
  void keep_whole() { whole_ = {report_.points.size(), report_.boundaries.size()}; }
  /// Tells how far it is, with a function or sequence at hand.
  void tell(const std::string& at);

  void test(const FunctionSettings& function, const Probe& probe);

  /// A harmonic that shall hold the function back: a little less than its share, and a little more.
  void restraint(const FunctionSettings& function, const Probe& probe);
  /// The share of a harmonic at which a differential function is free: it is held by twice as much while the
  /// current rises, then the harmonic falls. (A current that steps holds it back for a window by itself.)
  void release(const protection::Differential& function, const Probe& probe, int order, double share);
  void time(const FunctionSettings& function, const Probe& probe, double value);
  [[nodiscard]] bool slower_than_waited(const FunctionSettings& function, const Probe& probe,
                                        double value) const;

  /// From start to trip: the delay as it is set, without what measuring takes. Only where no other function
  /// starts, before it or with it.
  void timer(const FunctionSettings& function, const Probe& probe, const Stimulus& during, double measured_s);
  /// The band of times: from what is expected a tolerance of the value either side, wider by that of the
  /// time.
  void limits(const Probe& probe, const std::vector<protection::Held>& past, InjectedPoint& point) const;
  [[nodiscard]] double longest_definite() const;
  /// Whether `name` alone starts at a value, so that the relay's start shows its pickup.
  [[nodiscard]] bool starts_alone(const FunctionSettings& function, const Probe& probe) const;

  /// Pickup and drop-off: on the start contact by a ramp where no other function starts before; else on the
  /// trip contact, by search for the value from which on it trips in this function's time.
  void pickup(const FunctionSettings& function, const Probe& probe);
  void add_value(const Probe& probe, const char* test, double wanted, double measured, double tolerance,
                 const std::string& unit, double uncertain = 0);
  /// By how much a time may be off: a sample, and a decision of the relay.
  [[nodiscard]] double uncertain_s() const {
    const double cycle_s = 1 / options_.frequency_Hz;
    return cycle_s / bench::samples_per_cycle + (approved_.decisions > 0 ? cycle_s / approved_.decisions : 0);
  }
  /// An output that shows the start of a function and nothing else; empty where there is none.
  [[nodiscard]] std::string start_output(const FunctionSettings& function) const;
  void ramp(const FunctionSettings& function, const Probe& probe, const std::string& output);

  /// Whether the device trips no later than this function should.
  bool trips_in_time(const Probe& probe, const Stimulus& during, double within_s);
  /// What was tried since: what a point that passed or failed is made of.
  void note_tried(const Probe& probe, bool passed);
  void search(const FunctionSettings& function, const Probe& probe);

  /// Radius along a ray at which something stops; `inside(r)` holds near the origin.
  template <class Inside>
  static double edge(double low, double high, int steps, Inside&& inside) {
    for (int k = 0; k < steps; ++k) {
      const double middle = (low + high) / 2;
      (inside(middle) ? low : high) = middle;
    }
    return (low + high) / 2;
  }
  void boundaries(const protection::Zone& zone, const Probe& probe);
  void boundary(const protection::Differential& function, const Probe& probe);
  /// The sector in which a function that looks a way operates: both its edges.
  void sector(const Probe& probe, double value);
  /// Each phase, pair or loop by itself.
  void each_phase(const FunctionSettings& function, const Probe& probe);
  [[nodiscard]] static std::string show(double value, const std::string& unit) {
    return unit.empty() ? fmt::format("{:.4g}", value) : print_rounded(value, unit, 4);
  }

  const RelaySettings& approved_;
  const InjectionOptions& options_;
  std::size_t places_;
  Injector injector_;
  InjectionReport report_;
  TimeTolerance tolerance_;
  std::vector<Observation> observations_;
  struct Tried {
    std::vector<protection::Held> past;
    Stimulus during;
    std::optional<double> trip_s;
    double watched_s = 0;
  };
  std::vector<Tried> tried_;
  bool told_of_memory_ = false;
  std::pair<std::size_t, std::size_t> whole_;  // points and boundaries tried to their end
  InjectionProgress progress_;
  std::chrono::steady_clock::time_point begun_ = std::chrono::steady_clock::now();
};

}  // namespace zavrek::trial::internal
