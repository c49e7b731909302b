// A disturbance recorder: rows at its own rate through a ring, triggers judged at each, captures written by a
// thread beside the run.
#include "zavrek/bench/ports/disturbance_recorder.hpp"

#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "bench/capture_keeper.hpp"
#include "bench/make_port.hpp"
#include "bench/measured.hpp"
#include "bench/trigger.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr double slack_s = 2;  // that the disk may take its time in a paced run

class DisturbanceRecorderPort final : public Port {
 public:
  DisturbanceRecorderPort(const DisturbanceRecorder& settings, double frequency_Hz)
      : settings_(settings),
        rate_Hz_(network::is_set(settings.rate_Hz) ? settings.rate_Hz : samples_per_cycle * frequency_Hz),
        before_(rows_of(settings.before_s)),
        after_(rows_of(settings.after_s)),
        longest_(network::is_set(settings.longest_s) ? std::max(rows_of(settings.longest_s), after_)
                                                     : after_),
        dead_(rows_of(settings.dead_s)) {}

  void declare(Exchange& exchange) override { triggered_ = exchange.add_output(settings_.name, "triggered"); }

  void wire(Exchange& exchange) override {
    head_.station = exchange.setup().network.title;
    head_.device = settings_.name;
    head_.frequency_Hz = exchange.setup().network.frequency_Hz;
    head_.rate_Hz = rate_Hz_;
    for (const std::string& text : settings_.records) {
      if (exchange.knows_value(text)) {
        add(exchange, text);
      } else if (exchange.knows_value(text + "a") && exchange.knows_value(text + "b")) {
        for (const char phase : {'a', 'b', 'c'}) add(exchange, text + phase);
      } else {
        points_.push_back(exchange.point_of(text));
        head_.binaries.push_back({exchange.column_of(points_.back()), false, {}});
      }
    }
    for (const std::string& text : settings_.triggers) triggers_.emplace_back(text, exchange, rate_Hz_);
  }

  std::string open(const Opening& how) override {
    if (keeper_) return {};
    const bool all = settings_.keeps == "all";
    CaptureKeeper::Plan plan{.head = head_, .triggers = settings_.triggers, .name = settings_.name};
    plan.all = all;
    plan.ending = all || settings_.format == "HDF5" ? ".h5" : settings_.format == "CSV" ? ".csv" : ".cfg";
    plan.rows = static_cast<std::size_t>((all ? 0 : before_ + longest_ + 2) + rows_of(slack_s));
    plan.may_wait = !how.paced;
    keeper_.emplace(std::move(plan));
    kept_ = !how.captures.empty();
    if (kept_) keeper_->open(how.captures, how.captures_afresh);
    return {};
  }

  double rate_Hz() const noexcept override { return network::is_set(settings_.rate_Hz) ? rate_Hz_ : 0; }
  void sample(const Exchange& exchange) noexcept override {
    if (double* to = keeper_->next_row()) {
      for (const ValueId value : values_) *to++ = exchange.value(value);
      for (const PointId point : points_) *to++ = exchange.on(point) ? 1 : 0;
      keeper_->commit();
    }
    const long long now = row_;
    ++row_;
    for (std::size_t k = 0; k < triggers_.size(); ++k) {
      if (triggers_[k].comes_true(exchange)) trigger(exchange, now, k);
    }
    if (capturing_ && now >= capture_.last) {
      capturing_ = false;
      alive_from_ = now + 1 + dead_;
      if (settings_.keeps != "all") keeper_->hand_in(capture_);
    }
  }
  void give(Exchange& exchange) noexcept override {
    if (exchange.on(triggered_) != capturing_) exchange.tell(triggered_, capturing_, exchange.shown_s());
  }

  void visit_state(StateArchive& archive) override {
    if (!keeper_ || settings_.keeps == "all") return archive.miss();
    for (Trigger& trigger : triggers_) trigger.visit_state(archive);
    archive(capturing_, capture_, row_, alive_from_, captures_, passed_over_);
    keeper_->visit_state(archive, before_ + longest_ + 1);
  }
  void end() override {
    if (!keeper_) return;
    if (capturing_ && settings_.keeps != "all") {  // what the end of the run cut short
      capture_.last = row_ - 1;
      keeper_->hand_in(capture_);
    }
    capturing_ = false;
    keeper_->end();
  }
  std::string failure() override { return keeper_ ? keeper_->failure() : std::string(); }
  std::vector<Account> accounts() const override {
    if (!keeper_) return {};
    Account account;
    account.port = "disturbance_recorder." + settings_.name;
    const std::string memory = fmt::format("in {:.3g} MB", 1e-6 * static_cast<double>(keeper_->bytes()));
    account.carries = settings_.keeps == "all"
                          ? fmt::format("{:.4g} s, {} triggers, {}", static_cast<double>(row_) / rate_Hz_,
                                        captures_, memory)
                          : fmt::format("{} capture{}{}, {}", captures_, captures_ == 1 ? "" : "s",
                                        kept_ ? "" : " (no folder to keep them in)", memory);
    account.sent = keeper_->files();
    account.refused = passed_over_;
    account.lost = keeper_->lost();
    return {account};
  }

 private:
  [[nodiscard]] long long rows_of(double time_s) const { return std::llround(time_s * rate_Hz_); }
  void add(Exchange& exchange, const std::string& name) {
    const Ratio ratio = ratio_of(exchange, name);
    values_.push_back(exchange.value_of(name, ratio.primary / ratio.secondary));
    const char last = name.back();
    const bool phase = name.size() > 2 && (last == 'a' || last == 'b' || last == 'c') &&
                       exchange.knows_value(name.substr(0, name.size() - 1) + (last == 'a' ? "b" : "a"));
    head_.analogs.push_back(
        {.name = name,
         .phase = phase ? std::string(1, static_cast<char>(last - 'a' + 'A')) : std::string(),
         .unit = exchange.unit_of(values_.back()),
         .primary = ratio.primary,
         .secondary = ratio.secondary,
         .samples = {}});
  }
  void trigger(const Exchange& exchange, long long now, std::size_t which) noexcept {
    if (capturing_) {
      capture_.last = std::min(std::max(capture_.last, now + after_), capture_.at + longest_);
      return;
    }
    if (now < alive_from_ || captures_ >= settings_.at_most) {
      ++passed_over_;
      return;
    }
    capturing_ = true;
    ++captures_;
    const auto utc_ns = exchange.plant_utc_ns() - std::llround(1e9 * exchange.time_s());
    capture_ = {std::max(0LL, now - before_), now + after_, now, which, utc_ns};
    if (settings_.keeps == "all") keeper_->hand_in(capture_);
  }

  DisturbanceRecorder settings_;
  double rate_Hz_;
  long long before_, after_, longest_, dead_;  // rows
  record::Record head_;
  std::vector<ValueId> values_;
  std::vector<PointId> points_;
  std::vector<Trigger> triggers_;
  PointId triggered_;
  std::optional<CaptureKeeper> keeper_;
  bool kept_ = false, capturing_ = false;
  Capture capture_;
  Count row_, captures_, passed_over_;
  long long alive_from_ = 0;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const DisturbanceRecorder& settings, const RunPlan& plan) {
  return std::make_unique<DisturbanceRecorderPort>(settings, plan.setup.network.frequency_Hz);
}

template <>
void check(const DisturbanceRecorder& settings, Flaws& flaws) {
  const std::string place = "disturbance_recorder." + settings.name;
  if (settings.keeps != "all" && settings.triggers.empty())
    flaws.report(place, "triggers", "missing; without one nothing is kept, unless keeps = \"all\"");
  if (network::is_set(settings.longest_s) && settings.longest_s < settings.after_s)
    flaws.report(place, "longest", "is shorter than `after`");
  const double memory =
      8.0 * static_cast<double>(settings.records.size()) *
      (settings.before_s +
       std::max(settings.after_s, network::is_set(settings.longest_s) ? settings.longest_s : 0)) *
      (network::is_set(settings.rate_Hz) ? settings.rate_Hz
                                         : samples_per_cycle * flaws.setup.network.frequency_Hz);
  if (memory > 1e9)
    flaws.report(place, "longest",
                 fmt::format("a capture would take {:.2g} GB of memory; keep less of it, or keeps = \"all\"",
                             1e-9 * memory));
}

}  // namespace zavrek::bench::internal
