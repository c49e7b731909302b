// Sampled values in. What arrives is kept by its number; each step shows the values of a fixed time ago, on
// the straight line between two samples, so that what arrives unevenly is shown evenly. The instant of a
// sample is its number over the rate, against the arrival that was least late; a publisher whose clock runs
// off is followed at 100 parts in a million.
#include "zavrek/bench/ports/stream_in.hpp"

#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "bench/make_port.hpp"
#include "bench/measured.hpp"
#include "bench/names.hpp"
#include "bench/way.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr double followed_drift = 100e-6;
constexpr long long most_late = 200;       // samples by which one may come behind a newer one
constexpr long long most_gap = 8;          // that may be missing without doubt of the number behind them
constexpr std::size_t longest_text = 129;  // of IEC 61850-7-2, VisibleString129

bool is_passed_over(const std::string& name) { return name == "-"; }

class StreamInPort final : public Port, public FrameListener {
 public:
  StreamInPort(const StreamIn& settings, double frequency_Hz)
      : settings_(settings),
        rate_Hz_(network::is_set(settings.rate_Hz) ? settings.rate_Hz : samples_per_cycle * frequency_Hz),
        quarter_s_(0.25 / frequency_Hz),
        width_(settings.values.size()),
        rows_(kept * width_, 0.0),
        shown_(width_, 0.0) {
    if (!settings.source.empty()) source_ = wire::parse_mac_address(settings.source);
    for (wire::Asdu& asdu : incoming_.asdus) {
      asdu.values.reserve(wire::most_sampled);
      asdu.id.reserve(longest_text);
      asdu.data_set.reserve(longest_text);
    }
    account_.port = "stream_in." + settings.name;
    account_.carries = fmt::format("sampled values {:#06x} in", settings.appid);
  }

  void declare(Exchange& exchange) override {
    for (const std::string& name : settings_.values) {
      if (is_passed_over(name))
        values_.emplace_back();
      else
        values_.emplace_back(exchange.add_value(settings_.name, name, name[0] == 'v' ? "V" : "A"));
    }
    age_ = exchange.add_value(settings_.name, "age", "s");
    good_ = exchange.add_output(settings_.name, "good");
    accepts_test_ = exchange.add_setting(settings_.name, {"accepts_test", "", 0, 1});
    accepts_simulated_ = exchange.add_setting(settings_.name, {"accepts_simulated", "", 0, 1});
    way_.declare(exchange, settings_.name);
  }
  void wire(Exchange& exchange) override {
    for (const std::string& text : settings_.sets) {
      const auto [what, value] = split_pair(text);
      const auto at = std::find(settings_.values.begin(), settings_.values.end(), value);
      sets_.push_back({static_cast<std::size_t>(at - settings_.values.begin()), exchange.settable_of(what)});
    }
  }
  std::vector<wire::Identity> identities() const override {
    return {{wire::ethertype_sampled_values, static_cast<std::uint16_t>(settings_.appid),
             settings_.identifier(), true}};
  }
  std::string open(const Opening& how) override {
    how.frames.join(*this, wire::ethertype_sampled_values, static_cast<std::uint16_t>(settings_.appid));
    medium_ = how.frames.description();
    return {};
  }
  bool by_the_clock() const noexcept override { return true; }
  bool ready() override { return newest_ >= 0 || settings_.when_silent == "off"; }

  void take_frame(wire::Bytes frame, std::int64_t now_ns) noexcept override {
    const auto kind = wire::kind_of(frame);
    if (!kind || kind->ethertype != wire::ethertype_sampled_values || kind->appid != settings_.appid) return;
    way_.pass(frame, now_ns, [&](wire::Bytes passed) { read(passed, now_ns); });
  }
  void take(Exchange& exchange) noexcept override {
    const std::int64_t now_ns = exchange.now_ns();
    takes_test_ = exchange.setting(accepts_test_) > 0.5;
    takes_simulated_ = exchange.setting(accepts_simulated_) > 0.5;
    if (way_.look(exchange)) way_.release(now_ns, [&](wire::Bytes frame) { read(frame, now_ns); });
    if (newest_ < 0) return;
    // The present of the plant, which the clock may have passed by what the step took.
    const std::int64_t present_ns =
        exchange.zero_ns() == 0 ? now_ns
                                : exchange.zero_ns() + static_cast<std::int64_t>(1e9 * exchange.time_s());
    show(exchange, 1e-9 * static_cast<double>(present_ns - base_ns_));
  }
  bool well() const noexcept override {
    return !gone_ || settings_.when_silent != "end" || way_.was_at_work();
  }
  std::string failure() override {
    if (newest_ < 0 && settings_.when_silent == "end")
      return fmt::format("no samples from {} at the start{}", settings_.identifier(),
                         account_.unfit > 0 ? " that are to be used" : "");
    if (!well())
      return fmt::format("no samples from {} that are to be used since {:.3f} s", settings_.identifier(),
                         silent_since_s_);
    return {};
  }
  std::string medium() const override { return medium_; }
  std::vector<Account> accounts() const override {
    Account account = account_;
    account.spoiled = way_.spoiled();
    return {account};
  }
  std::vector<Path> paths() const override {
    return {{"who samples", fmt::format("stream_in {}", settings_.name), settings_.name + ".*", 1,
             print_rounded(settings_.delay_s, "s", 3) + " by its field"}};
  }

 private:
  static constexpr std::size_t kept = 8192;  // samples
  [[nodiscard]] double* row(long long number) noexcept {
    return rows_.data() + static_cast<std::size_t>(number) % kept * width_;
  }

  void read(wire::Bytes frame, std::int64_t now_ns) noexcept {
    if (!decode(frame, incoming_)) {
      ++account_.malformed;
      return;
    }
    if (incoming_.first().id != settings_.identifier()) {
      ++account_.foreign;
      return;
    }
    if (incoming_.address.simulated && !takes_simulated_) {
      ++account_.refused;
      return;
    }
    if (!source_) source_ = incoming_.address.source;
    if (incoming_.address.source != *source_) {
      ++account_.conflicting;
      return;
    }
    for (const wire::Asdu& asdu : incoming_.all()) take_sample(asdu, now_ns);
  }

  void take_sample(const wire::Asdu& asdu, std::int64_t now_ns) noexcept {
    const auto rate = static_cast<long long>(rate_Hz_);
    if (asdu.count >= rate) {
      ++account_.malformed;
      return;
    }
    if (asdu.values.size() < width_ ||
        (settings_.revision != 0 && asdu.revision != static_cast<std::uint32_t>(settings_.revision)) ||
        !is_good(asdu)) {
      ++account_.unfit;
      return;
    }
    ++account_.received;
    if (newest_ < 0) {
      newest_ = asdu.count;
      keep(newest_, asdu);
      base_ns_ = now_ns - nominal_ns(newest_);
      return;
    }
    long long ahead = (asdu.count - newest_ % rate + rate) % rate;
    if (ahead == 0 || rate - ahead <= most_late) {  // again, or of before one that is here
      ++account_.late;
      return;
    }
    if (ahead > most_gap) {
      // A number that is far off may be damaged: it counts once the next follows it.
      const bool follows = suspect_ >= 0 && asdu.count == (suspect_ + 1) % rate;
      suspect_ = asdu.count;
      if (!follows) {
        ++account_.unfit;
        return;
      }
      if (ahead > rate / 2) return begin_again(asdu, now_ns);
    }
    suspect_ = -1;
    const long long number = newest_ + ahead;
    keep(number, asdu);
    bridge(number);
    newest_ = number;
    base_ns_ += static_cast<std::int64_t>(followed_drift * 1e9 * static_cast<double>(ahead) / rate_Hz_);
    if (ahead == 1) base_ns_ = std::min(base_ns_, now_ns - nominal_ns(number));  // a number beyond doubt
  }
  /// Of a publisher whose numbers went back: it has nothing to do with what was before.
  void begin_again(const wire::Asdu& asdu, std::int64_t now_ns) noexcept {
    ++account_.restarts;
    suspect_ = -1;
    newest_ = asdu.count;
    keep(newest_, asdu);
    base_ns_ = now_ns - nominal_ns(newest_);
  }
  [[nodiscard]] bool is_good(const wire::Asdu& asdu) const noexcept {
    for (std::size_t k = 0; k < width_; ++k) {
      if (!values_[k]) continue;
      const std::uint32_t quality = asdu.values[k].quality;
      if (!wire::is_usable(quality) || (!takes_test_ && (quality & wire::Quality::test) != 0)) return false;
    }
    return true;
  }
  [[nodiscard]] std::int64_t nominal_ns(long long number) const noexcept {
    return static_cast<std::int64_t>(1e9 * static_cast<double>(number) / rate_Hz_);
  }
  void keep(long long number, const wire::Asdu& asdu) noexcept {
    double* into = row(number);
    for (std::size_t k = 0; k < width_; ++k) {
      const bool voltage = settings_.values[k][0] == 'v';
      into[k] = asdu.values[k].value * (voltage ? wire::voltage_lsb_V : wire::current_lsb_A);
    }
  }
  /// What did not come before sample `number`: the straight line.
  void bridge(long long number) noexcept {
    const long long missing = number - newest_ - 1;
    account_.lost += missing;
    const double *from = row(newest_), *to = row(number);
    for (long long k = std::max<long long>(1, missing - static_cast<long long>(kept) + 2); k <= missing;
         ++k) {
      const double share = static_cast<double>(k) / static_cast<double>(missing + 1);
      double* into = row(newest_ + k);
      for (std::size_t v = 0; v < width_; ++v) into[v] = from[v] + share * (to[v] - from[v]);
    }
  }

  void show(Exchange& exchange, double present_s) noexcept {
    const double newest_s = static_cast<double>(newest_) / rate_Hz_;
    const double wanted_s = std::min(present_s - settings_.delay_s, newest_s);
    const double silence_s = present_s - settings_.delay_s - newest_s;
    const bool was_silent = std::exchange(silent_, silence_s > quarter_s_);
    if (silent_ && !was_silent) silent_since_s_ = exchange.time_s();
    gone_ = gone_ || (silent_ && silence_s > settings_.ends_after_s);
    const double at = std::max(0.0, wanted_s * rate_Hz_);
    const auto number = static_cast<long long>(at);
    const double share = number >= newest_ ? 0 : at - static_cast<double>(number);
    const double *before = row(number), *behind = row(std::min(number + 1, newest_));
    for (std::size_t k = 0; k < width_; ++k) {
      if (!values_[k]) continue;
      shown_[k] = silent_ ? 0 : before[k] + share * (behind[k] - before[k]);
      exchange.tell(*values_[k], shown_[k]);
    }
    exchange.tell(age_, present_s - wanted_s);
    if (exchange.on(good_) == silent_) exchange.tell(good_, !silent_);
    for (const Set& set : sets_) exchange.ask(set.what, shown_[set.value]);
  }

  struct Set {
    std::size_t value;
    AskId what;
  };
  StreamIn settings_;
  double rate_Hz_, quarter_s_;
  std::size_t width_;
  std::vector<double> rows_;  // by the number of a sample, the latest `kept`
  std::vector<double> shown_;
  std::vector<std::optional<ValueId>> values_;
  ValueId age_;
  PointId good_;
  std::vector<Set> sets_;
  SettingId accepts_test_, accepts_simulated_;
  bool takes_test_ = false, takes_simulated_ = false;
  Way way_;
  wire::SampledValues incoming_;
  std::optional<wire::MacAddress> source_;
  long long newest_ = -1;
  long long suspect_ = -1;    // count of a sample that was far off; -1 when the last was not
  std::int64_t base_ns_ = 0;  // when sample 0 would have come
  bool silent_ = false, gone_ = false;
  double silent_since_s_ = 0;
  Account account_;
  std::string medium_;
};

/// The same numbers where their publisher, a device of the bench, runs in the plant's process and sends no
/// frames: what stands in front of it, a step ago.
class StreamOfDeviceHere final : public Port {
 public:
  StreamOfDeviceHere(const StreamIn& settings, const Stream& front) : settings_(settings), front_(front) {}

  void declare(Exchange& exchange) override {
    for (const std::string& name : settings_.values) {
      if (is_passed_over(name)) continue;
      lines_.push_back({exchange.add_value(settings_.name, name, name[0] == 'v' ? "V" : "A"), name, {}});
    }
    age_ = exchange.add_value(settings_.name, "age", "s");
    good_ = exchange.add_output(settings_.name, "good");
    for (const char* name : {"accepts_test", "accepts_simulated"})
      (void)exchange.add_setting(settings_.name, {name, "", 0, 1}, true);
    (void)Way::declare_settings(exchange, settings_.name, true);
  }
  void wire(Exchange& exchange) override {
    measured_.wire(exchange, front_);
    for (Line& line : lines_) {
      const auto& phases = line.name[0] == 'v' ? measured_.voltages() : measured_.currents();
      const auto at = std::string_view("abc").find(line.name.back());
      for (std::size_t k = 0; k < phases.size(); ++k) {
        if (at == std::string_view::npos || at == k) line.terms.push_back(phases[k]);
      }
    }
  }
  void visit_state(StateArchive&) override {}
  void take(Exchange& exchange) noexcept override {
    for (const Line& line : lines_) {
      double sum = 0;
      for (const ValueId term : line.terms) sum += exchange.latest(term);
      exchange.tell(line.value, sum);
    }
    if (!exchange.on(good_)) exchange.tell(good_, true);
    exchange.tell(age_, exchange.step_s());
  }

 private:
  struct Line {
    ValueId value;
    std::string name;
    std::vector<ValueId> terms;  // one phase, or all three
  };
  StreamIn settings_;
  Stream front_;
  MeasuredStream measured_;
  std::vector<Line> lines_;
  ValueId age_;
  PointId good_;
};

/// The device of the bench that publishes it, where it runs in the plant's process; else null.
const Device* publisher_here(const StreamIn& settings, const RunPlan& plan) {
  for (const Device& device : plan.setup.bench.devices) {
    if (device.publishes == settings.identifier() && is_here(device, plan.place)) return &device;
  }
  return nullptr;
}

}  // namespace

template <>
std::unique_ptr<Port> make_port(const StreamIn& settings, const RunPlan& plan) {
  const Device* publisher = publisher_here(settings, plan);
  const Stream* front = publisher && !publisher->reads.empty()
                            ? plan.setup.bench.find_stream(publisher->reads.front())
                            : nullptr;
  if (front) return std::make_unique<StreamOfDeviceHere>(settings, *front);
  return std::make_unique<StreamInPort>(settings, plan.setup.network.frequency_Hz);
}

template <>
void check(const StreamIn& settings, Flaws& flaws) {
  const std::string place = "stream_in." + settings.name;
  flaws.need_address(place, "source", settings.source);
  if (settings.values.empty() || settings.values.size() > wire::most_sampled)
    flaws.report(place, "values", fmt::format("1 to {} names are wanted", wire::most_sampled));
  for (const std::string& name : settings.values) {
    if (!is_passed_over(name) && !name.starts_with('i') && !name.starts_with('v'))
      flaws.report(place, "values",
                   fmt::format("\"{}\" begins neither with i, as a current, nor with v, as a voltage", name));
  }
  for (const std::string& text : settings.sets)
    flaws.need_one_of(place, "sets", split_pair(text).second, settings.values, "value");
  const double rate_Hz = settings.rate_Hz;
  if (network::is_set(rate_Hz) && rate_Hz != std::round(rate_Hz))
    flaws.report(place, "rate", "is no whole number of samples a second");
}

}  // namespace zavrek::bench::internal
