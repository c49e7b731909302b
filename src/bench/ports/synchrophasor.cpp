#include "zavrek/bench/ports/synchrophasor.hpp"

#include <algorithm>
#include <array>
#include <deque>
#include <numbers>

#include <fmt/format.h>

#include "bench/bus_address.hpp"
#include "bench/field_bus.hpp"
#include "bench/names.hpp"
#include "bench/sample_ring.hpp"
#include "zavrek/protection/synchrophasor.hpp"
#include "zavrek/wire/datagram_driver.hpp"
#include "zavrek/wire/field/synchrophasor.hpp"

namespace zavrek::bench::internal {
namespace {

using protection::SynchrophasorEstimator;
using protection::SynchrophasorReport;

constexpr std::size_t rows_kept = 8192;  // two seconds of samples
constexpr double samples_per_cycle_118 = 80;

protection::SynchrophasorSettings::Performance performance_of(const std::string& word) {
  using Performance = protection::SynchrophasorSettings::Performance;
  return word == "M" ? Performance::m : Performance::p;
}

/// Samples of the plant on their way to an estimator on another thread.
class Sampled {
 public:
  std::size_t add(Exchange& exchange, const std::string& name, double factor = 1) {
    values_.push_back(exchange.value_of(name));
    factors_.push_back(factor);
    return values_.size() - 1;
  }
  std::size_t add_point(Exchange& exchange, const std::string& name) {
    points_.push_back(exchange.point_of(name));
    return points_.size() - 1;
  }
  void begin() { ring_.size(values_.size() + points_.size(), rows_kept); }
  /// On the plant's thread.
  void sample(const Exchange& exchange) noexcept {
    double* row = ring_.next();
    if (!row) return;
    for (std::size_t k = 0; k < values_.size(); ++k) *row++ = factors_[k] * exchange.value(values_[k]);
    for (const PointId point : points_) *row++ = exchange.on(point) ? 1 : 0;
    if (zero_utc_ns_ == 0)
      zero_utc_ns_ = exchange.plant_utc_ns() - static_cast<std::int64_t>(1e9 * exchange.time_s());
    ring_.commit(zero_utc_ns_ + static_cast<std::int64_t>(1e9 * exchange.shown_s()));
  }
  [[nodiscard]] SampleRing& ring() noexcept { return ring_; }
  [[nodiscard]] const SampleRing& ring() const noexcept { return ring_; }

 private:
  std::vector<ValueId> values_;
  std::vector<double> factors_;
  std::vector<PointId> points_;
  std::int64_t zero_utc_ns_ = 0;  // of the plant's 0 s
  SampleRing ring_;
};

class SynchrophasorUnitPort final : public FieldBus {
 public:
  SynchrophasorUnitPort(const SynchrophasorUnit& settings, const RunPlan& plan)
      : FieldBus({"synchrophasor_unit", settings.name, is_connected(plan)}, plan.setup, {}),
        settings_(settings),
        nominal_Hz_(plan.setup.network.frequency_Hz) {}
  ~SynchrophasorUnitPort() override { SynchrophasorUnitPort::end(); }
  void end() override {
    FieldBus::end();
    datagrams_.reset();  // its conversations end ahead of their party
  }

  void wire(Exchange& exchange) override {
    FieldBus::wire(exchange);
    configuration_.station = settings_.name;
    configuration_.id = settings_.id;
    configuration_.polar = settings_.form == "polar";
    configuration_.integers = settings_.numbers == "integer";
    configuration_.nominal_Hz = static_cast<int>(std::lround(nominal_Hz_));
    configuration_.reports_per_s = settings_.reports;
    configuration_.performance = settings_.performance[0];
    for (const std::string& text : settings_.phasors) {
      const auto [name, signal] = split_pair(text);
      add_phasor(exchange, name, {signal});
    }
    for (const std::string& text : settings_.sequences) {
      const auto [name, stem] = split_pair(text);
      add_phasor(exchange, name, {stem + "a", stem + "b", stem + "c"});
    }
    const std::string stem = !settings_.frequency_of.empty() ? settings_.frequency_of
                                                             : split_pair(settings_.sequences.at(0)).second;
    for (std::size_t k = 0; k < 3; ++k) frequency_of_[k] = channel(exchange, stem + std::string(1, "abc"[k]));
    channels_ = names_.size();
    for (const std::string& text : settings_.analogues) {
      const BusRow row = read_bus_row(text, BusAt::name);
      configuration_.analogues.push_back(row.at);
      const double count = per_count(row, exchange.unit_of(exchange.value_of(row.name)));
      (void)sampled_.add(exchange, row.name, 1 / count);
    }
    for (const std::string& name : settings_.digitals) {
      (void)sampled_.add_point(exchange, name);
      configuration_.digitals.push_back(name);
    }
    sampled_.begin();
  }
  double rate_Hz() const noexcept override { return samples_per_cycle_118 * nominal_Hz_; }
  void sample(const Exchange& exchange) noexcept override {
    if (connected()) sampled_.sample(exchange);
  }

 private:
  struct Phasor {
    std::vector<std::size_t> of;  // channels: one, or three phases
  };
  std::size_t channel(Exchange& exchange, const std::string& name) {
    const auto at = std::find(names_.begin(), names_.end(), name);
    if (at != names_.end()) return static_cast<std::size_t>(at - names_.begin());
    names_.push_back(name);
    return sampled_.add(exchange, name);
  }
  void add_phasor(Exchange& exchange, const std::string& name, const std::vector<std::string>& signals) {
    Phasor phasor;
    for (const std::string& signal : signals) phasor.of.push_back(channel(exchange, signal));
    wire::SynchrophasorChannel sent{name};
    const std::string unit = exchange.unit_of(exchange.value_of(signals[0]));
    sent.current = unit == "A";
    sent.full_scale = sent.current ? settings_.full_scale_current_A : settings_.full_scale_voltage_V;
    const char phase = signals[0].back();
    sent.component =
        signals.size() == 3 ? 1 : static_cast<char>(phase >= 'a' && phase <= 'c' ? 4 + (phase - 'a') : 4);
    configuration_.phasors.push_back(sent);
    phasors_.push_back(phasor);
  }

  protection::SynchrophasorSettings measuring() const {
    return {performance_of(settings_.performance),
            nominal_Hz_,
            static_cast<double>(settings_.reports),
            rate_Hz(),
            channels_,
            frequency_of_};
  }
  std::unique_ptr<wire::Party> make_party() override {
    estimator_ = std::make_unique<SynchrophasorEstimator>(measuring());
    configuration_.window_s = 2 * estimator_->delay_s();
    configuration_.delay_s = 0;  // a report is of the middle of its window
    auto unit = std::make_unique<wire::SynchrophasorUnit>(
        configuration_, fmt::format("{}: class {}, {} reports a second", settings_.name,
                                    settings_.performance, settings_.reports));
    unit_ = unit.get();
    if (settings_.transport == "udp")
      datagrams_ =
          std::make_unique<wire::DatagramDriver>(settings_.address, settings_.port, settings_.to, *unit);
    return unit;
  }
  std::optional<wire::StreamPlace> stream_place() const override {
    if (settings_.transport == "udp") return std::nullopt;
    wire::StreamPlace place;
    place.address = settings_.address;
    place.port = settings_.port;
    return place;
  }
  std::string open_other() override { return datagrams_->open(); }
  std::string other_medium() const override { return datagrams_->description(); }
  std::string carries() const override {
    return fmt::format("IEEE C37.118, unit {}, class {}", settings_.id, settings_.performance);
  }
  void turn(bool cut, bool silent) override {
    sampled_.ring().drain([&](std::int64_t utc_ns, std::span<const double> row) {
      estimator_->push(utc_ns, row.first(channels_));
      while (estimator_->take(report_)) tell(row);
    });
    if (!datagrams_) return FieldBus::turn(cut, silent);
    datagrams_->keep_silent(silent || cut);
    datagrams_->turn(1);
  }
  void tell(std::span<const double> row) {
    using Complex = std::complex<double>;
    const Complex a = std::polar(1.0, 2 * std::numbers::pi / 3);
    wire::SynchrophasorData& data = data_;
    data.utc_ns = report_.second * 1'000'000'000 + std::llround(1e9 * report_.index / settings_.reports);
    data.phasors.clear();
    for (const Phasor& phasor : phasors_) {
      const auto of = [&](std::size_t k) { return report_.phasors[phasor.of[k]]; };
      data.phasors.push_back(phasor.of.size() == 1 ? of(0) : (of(0) + a * of(1) + a * a * of(2)) / 3.0);
    }
    data.frequency_Hz = report_.frequency_Hz;
    data.rate_Hz_per_s = report_.rate_Hz_per_s;
    const std::size_t analogues = configuration_.analogues.size();
    data.analogues.assign(row.begin() + static_cast<std::ptrdiff_t>(channels_),
                          row.begin() + static_cast<std::ptrdiff_t>(channels_ + analogues));
    data.digitals.clear();
    for (std::size_t k = 0; k < configuration_.digitals.size(); ++k)
      data.digitals.push_back(row[channels_ + analogues + k] > 0.5);
    unit_->give(data);
  }
  std::vector<Account> accounts() const override {
    std::vector<Account> all = FieldBus::accounts();
    for (Account& one : all) one.lost += sampled_.ring().lost();
    return all;
  }

  SynchrophasorUnit settings_;
  double nominal_Hz_;
  wire::SynchrophasorConfiguration configuration_;
  Sampled sampled_;
  std::vector<std::string> names_;  // of the channels
  std::size_t channels_ = 0;
  std::array<std::size_t, 3> frequency_of_{};
  std::vector<Phasor> phasors_;
  std::unique_ptr<SynchrophasorEstimator> estimator_;
  SynchrophasorReport report_;
  wire::SynchrophasorData data_;
  wire::SynchrophasorUnit* unit_ = nullptr;
  std::unique_ptr<wire::DatagramDriver> datagrams_;
};

class SynchrophasorClientPort final : public FieldBus {
 public:
  SynchrophasorClientPort(const SynchrophasorClient& settings, const RunPlan& plan)
      : FieldBus({"synchrophasor_client", settings.name, is_connected(plan)}, plan.setup, {}),
        settings_(settings),
        nominal_Hz_(plan.setup.network.frequency_Hz) {}
  ~SynchrophasorClientPort() override { end(); }

  void declare(Exchange& exchange) override {
    FieldBus::declare(exchange);
    constexpr std::array<std::array<const char*, 2>, told_count> told{{{"vector_error", ""},
                                                                       {"frequency_error", "Hz"},
                                                                       {"rate_error", "Hz/s"},
                                                                       {"delay", "s"},
                                                                       {"frequency", "Hz"},
                                                                       {"rate", "Hz/s"}}};
    for (std::size_t k = 0; k < told_count; ++k)
      told_[k] = exchange.add_value(settings_.name, told[k][0], told[k][1]);
    alive_ = exchange.add_output(settings_.name, "alive");
  }
  void wire(Exchange& exchange) override {
    FieldBus::wire(exchange);
    for (const std::string& text : settings_.compares) {
      const auto [channel, signal] = split_pair(text);
      channels_.push_back(channel);
      (void)sampled_.add(exchange, signal);
    }
    for (std::size_t k = 0; k < 3; ++k)
      frequency_of_[k] = sampled_.add(exchange, settings_.frequency_of + std::string(1, "abc"[k]));
    sampled_.begin();
  }
  double rate_Hz() const noexcept override { return samples_per_cycle_118 * nominal_Hz_; }
  void sample(const Exchange& exchange) noexcept override {
    if (connected()) sampled_.sample(exchange);
  }
  void take(Exchange& exchange) noexcept override {
    FieldBus::take(exchange);
    if (!connected()) return;
    for (std::size_t k = 0; k < told_count; ++k)
      exchange.tell(told_[k], latest_[k].load(std::memory_order_relaxed));
    const bool alive = alive_now_.load(std::memory_order_relaxed);
    if (alive != exchange.on(alive_)) exchange.tell(alive_, alive);
  }

 private:
  static constexpr std::size_t told_count = 6;
  static constexpr std::int64_t gone_after_ns = 1'000'000'000;
  struct Heard {
    wire::SynchrophasorData data;
    std::vector<std::size_t> places;  // of the channels that are compared
    std::int64_t came_ns;             // UTC
  };

  std::unique_ptr<wire::Party> make_party() override {
    return std::make_unique<wire::SynchrophasorClient>(
        settings_.id,
        [this](const wire::SynchrophasorConfiguration& configuration, const wire::SynchrophasorData& data,
               wire::Now now) { hear(configuration, data, now); });
  }
  std::optional<wire::StreamPlace> stream_place() const override {
    wire::StreamPlace place;
    place.kind = wire::StreamPlace::Kind::connects;
    place.address = settings_.address;
    place.port = settings_.port;
    return place;
  }
  std::string carries() const override { return fmt::format("IEEE C37.118, client of {}", settings_.id); }

  void hear(const wire::SynchrophasorConfiguration& configuration, const wire::SynchrophasorData& data,
            wire::Now now) {
    constexpr std::size_t most_kept = 512;
    heard_ns_ = now.steady_ns;
    if (configuration.reports_per_s != rate_ && configuration.reports_per_s > 0) {
      rate_ = configuration.reports_per_s;
      protection::SynchrophasorSettings own{performance_of(settings_.performance),
                                            nominal_Hz_,
                                            static_cast<double>(rate_),
                                            rate_Hz(),
                                            channels_.size() + 3,
                                            frequency_of_};
      estimator_ = std::make_unique<SynchrophasorEstimator>(own);
    }
    Heard one{data, {}, now.utc_ns};
    for (const std::string& channel : channels_) {
      std::size_t at = 0;
      while (at < configuration.phasors.size() && configuration.phasors[at].name != channel) ++at;
      one.places.push_back(at);
    }
    waiting_.push_back(std::move(one));
    if (waiting_.size() > most_kept) {
      waiting_.pop_front();
      ++lost_;
    }
  }
  void turn(bool cut, bool silent) override {
    FieldBus::turn(cut, silent);
    alive_now_.store(heard_ns_ != 0 && pace::system_clock().now_ns() - heard_ns_ < gone_after_ns,
                     std::memory_order_relaxed);
    sampled_.ring().drain([&](std::int64_t utc_ns, std::span<const double> row) {
      if (!estimator_) return;
      estimator_->push(utc_ns, row);
      while (estimator_->take(report_)) own_.push_back(report_);
      if (own_.size() > 1024) own_.pop_front();
    });
    while (!waiting_.empty() && !own_.empty()) {
      // Both come in the order of their time.
      const std::int64_t own_ns =
          own_.front().second * 1'000'000'000 + std::llround(1e9 * own_.front().index / std::max(1, rate_));
      const std::int64_t apart_ns = waiting_.front().data.utc_ns - own_ns;
      constexpr std::int64_t same_ns = 20'000;
      if (std::abs(apart_ns) <= same_ns) compare(waiting_.front(), own_.front());
      if (apart_ns <= same_ns) waiting_.pop_front();
      if (apart_ns >= -same_ns) own_.pop_front();
    }
  }
  /// The vector error is of root mean squares (60255-118-1, 5.2).
  void compare(const Heard& heard, const SynchrophasorReport& own) {
    double worst = 0;
    for (std::size_t k = 0; k < channels_.size(); ++k) {
      const std::complex<double> is =
          heard.places[k] < heard.data.phasors.size() ? heard.data.phasors[heard.places[k]] : 0;
      const double size = std::abs(own.phasors[k]);
      if (size > 0) worst = std::max(worst, std::abs(is - own.phasors[k]) / size);
    }
    const std::array<double, told_count> now{worst,
                                             heard.data.frequency_Hz - own.frequency_Hz,
                                             heard.data.rate_Hz_per_s - own.rate_Hz_per_s,
                                             1e-9 * static_cast<double>(heard.came_ns - heard.data.utc_ns),
                                             heard.data.frequency_Hz,
                                             heard.data.rate_Hz_per_s};
    for (std::size_t k = 0; k < told_count; ++k) latest_[k].store(now[k], std::memory_order_relaxed);
  }

  SynchrophasorClient settings_;
  double nominal_Hz_;
  std::vector<std::string> channels_;
  std::array<std::size_t, 3> frequency_of_{};
  Sampled sampled_;
  std::array<ValueId, told_count> told_;
  PointId alive_;
  std::array<std::atomic<double>, told_count> latest_{};
  std::atomic<bool> alive_now_{false};
  int rate_ = 0;
  std::unique_ptr<SynchrophasorEstimator> estimator_;
  SynchrophasorReport report_;
  std::deque<SynchrophasorReport> own_;
  std::deque<Heard> waiting_;
  std::int64_t heard_ns_ = 0;
  Count lost_;
};

void check_pairs_118(Flaws& flaws, const std::string& place, const char* field,
                     const std::vector<std::string>& texts) {
  for (const std::string& text : texts) {
    const auto [name, signal] = split_pair(text);
    if (name.empty() || signal.empty() || name.size() > 16)
      flaws.report(
          place, field,
          fmt::format("\"{}\" is no channel; write one such as \"VA: yard.va\", its name of 16 letters",
                      text));
  }
}

}  // namespace

template <>
std::unique_ptr<Port> make_port(const SynchrophasorUnit& settings, const RunPlan& plan) {
  return std::make_unique<SynchrophasorUnitPort>(settings, plan);
}
template <>
std::unique_ptr<Port> make_port(const SynchrophasorClient& settings, const RunPlan& plan) {
  return std::make_unique<SynchrophasorClientPort>(settings, plan);
}

template <>
void check(const SynchrophasorUnit& settings, Flaws& flaws) {
  const std::string place = "synchrophasor_unit." + settings.name;
  check_bus_address(flaws, place,
                    {.address = settings.address, .port = settings.port, .line = {}, .parity = "none"});
  check_pairs_118(flaws, place, "phasors", settings.phasors);
  check_pairs_118(flaws, place, "sequences", settings.sequences);
  if (settings.frequency_of.empty() && settings.sequences.empty())
    flaws.report(place, "frequency_of",
                 "missing, and there are no sequences; three phases are wanted: \"yard.v\"");
  for (const std::string& name : settings.digitals) flaws.need_point(place, "digitals", name);
  (void)check_rows(flaws, place, "analogues", settings.analogues, BusRows::What::numbers, BusAt::name);
  if (settings.numbers == "integer" && settings.full_scale_voltage_V == 0)
    flaws.report(place, "full_scale_voltage", "missing; integers need one");
  const double nominal_Hz = flaws.setup.network.frequency_Hz;
  if (nominal_Hz != 50 && nominal_Hz != 60)
    flaws.report(place, "reports", "the network has neither 50 Hz nor 60 Hz");
}
template <>
void check(const SynchrophasorClient& settings, Flaws& flaws) {
  const std::string place = "synchrophasor_client." + settings.name;
  check_bus_address(flaws, place,
                    {.address = settings.address, .port = settings.port, .line = {}, .parity = "none"});
  check_pairs_118(flaws, place, "compares", settings.compares);
}

}  // namespace zavrek::bench::internal
