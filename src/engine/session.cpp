#include "engine/session.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>

#include <fmt/format.h>

#include "bench/measured.hpp"
#include "engine/strike.hpp"
#include "zavrek/bench/run.hpp"

namespace zavrek::engine::internal {
namespace {

constexpr std::size_t most_signals = 240;        // that viewers see
constexpr std::size_t trace_bytes = 48U << 20U;  // of each run
constexpr std::size_t state_bytes = 64U << 20U;
constexpr double state_every_s = 1, state_every_paced_s = 5;
constexpr double kept_s = 10;  // of the record of one without end
constexpr double most_kept_s = 60;

/// What the bench records, its transformers, and voltages and currents besides, up to a bound.
std::vector<std::string> shown_signals(const trial::Case& all, bench::Run& run,
                                       const std::vector<network::FaultPlace>& places) {
  const emt::Plant& plant = *run.plant();
  std::vector<std::string> names = all.bench.record;
  for (const bench::Stream* stream : all.bench.all<bench::Stream>()) {
    for (const auto& [stem, quantity] : {std::pair{stream->vt, ".v"}, std::pair{stream->ct, ".i"}}) {
      for (const char phase : {'a', 'b', 'c'}) {
        if (!stem.empty()) names.push_back(stem + quantity + phase);
      }
    }
  }
  for (const network::FaultPlace& place : places) {
    for (const char* what : {".va", ".vb", ".vc", ".ia", ".ib", ".ic"}) names.push_back(place.name + what);
  }
  for (const network::Bus& bus : all.network.buses) names.push_back(bus.name + ".va");
  if (run.controller()) {
    for (const std::string& name : run.controller()->outputs()) names.push_back(name);
  }
  for (const std::string& name : emt::voltages_and_currents(plant)) names.push_back(name);
  std::vector<std::string> shown;
  for (const std::string& name : names) {
    if (run.exchange().knows_value(name) && std::find(shown.begin(), shown.end(), name) == shown.end() &&
        shown.size() < most_signals)
      shown.push_back(name);
  }
  return shown;
}

constexpr std::size_t most_places = 24;

/// Those of its trials, each once.
std::vector<network::FaultPlace> places_of_trials(const trial::Case& all) {
  std::vector<network::FaultPlace> places;
  for (const trial::Trial& trial : all.trials) {
    if (!trial.fault) continue;
    const network::Fault& fault = trial.fault->fault;
    const network::Element* element = all.network.find_element(fault.on);
    if (element && std::holds_alternative<network::Transformer>(*element)) continue;
    network::FaultPlace place = place_named(fault.on, fault.at);
    const auto same = [&](const network::FaultPlace& other) { return other.name == place.name; };
    if (std::none_of(places.begin(), places.end(), same) && places.size() < most_places / 2)
      places.push_back(std::move(place));
  }
  return places;
}

/// Numbers of a timing, for whoever reads them beside the run.
constexpr std::size_t timing_width =
    4 + static_cast<std::size_t>(pace::Cause::all) + 2 * pace::Histogram::coarse_classes;
void put_timing(const pace::Timing& timing, std::vector<double>& out) {
  double* to = out.data();
  *to++ = static_cast<double>(timing.steps);
  *to++ = static_cast<double>(timing.overruns);
  *to++ = 1e-3 * static_cast<double>(timing.worst_overrun_ns);
  *to++ = 1e-3 * static_cast<double>(timing.step_ns);
  for (const std::int64_t count : timing.causes) *to++ = static_cast<double>(count);
  timing.compute.read_coarse(to);
  timing.lateness.read_coarse(to + pace::Histogram::coarse_classes);
}

}  // namespace

struct Session::Life {
  std::shared_ptr<const Known> known;
  std::shared_ptr<Traces> traces;
  std::shared_ptr<RowRing> diary = std::make_shared<RowRing>(most_acts, diary_width);
  bench::Snapshot timing{timing_width};
  std::vector<double> timing_row = std::vector<double>(timing_width);
  Desk* desk = nullptr;  // of the run, while that is there
  bool counts = false;   // its ports do, and none of them is ended yet
  std::vector<std::string> on, off,
      columns;                        // words of a change, and its channel, by the number of its point
  std::vector<std::size_t> first_on;  // points that are on at the start
  std::vector<bool> shown;            // points of records
  std::unique_ptr<bench::Run> run;
};

Session::Session(std::string name, trial::Case all, bench::RunOptions options,
                 std::function<void(const Session&, const Ended&)> ended)
    : name_(std::move(name)),
      all_(std::move(all)),
      network_(all_.network),
      options_(std::move(options)),
      on_end_(std::move(ended)) {
  network_.faults.clear();
  make_ready(places_of_trials(all_));
}

std::shared_ptr<const Session::Known> Session::known() const {
  const std::lock_guard lock(mutex_);
  return known_;
}

void Session::make_ready(std::vector<network::FaultPlace> places) {
  if (places.size() > most_places)
    throw Error(fmt::format("{} places of faults at a time are the most", most_places));
  auto made = std::make_shared<Known>();
  network::Network network = network_;
  network.places = places;
  bench::RunOptions how = options_;
  how.place = "plant";
  how.free = true;
  const auto begun = std::chrono::steady_clock::now();
  bench::Run run(all_, network, how);
  made->compiled_s = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  const emt::Plant& plant = *run.plant();
  bench::Exchange& exchange = run.exchange();
  made->signals = shown_signals(all_, run, places);
  for (const std::string& signal : made->signals) {
    made->units.push_back(exchange.unit_of(exchange.value_of(signal)));
    const bench::internal::Ratio ratio = bench::internal::ratio_of(exchange, signal);
    made->factors.push_back(ratio.primary / ratio.secondary);
  }
  for (const bench::PointId point : exchange.points_in_order())
    made->points.push_back(exchange.name_of(point));
  const auto operated = [&](const std::string& one) {
    made->askables.push_back({one, "", true, 0, 1, exchange.initial_of(exchange.ask_of(one))});
  };
  for (const std::string& one : plant.operable_names()) operated(one);
  for (const std::string& text : all_.bench.contacts) operated("bench." + text.substr(0, text.find(':')));
  const auto set = [&](const std::string& one) {
    const bench::AskId id = exchange.settable_of(one);
    const auto [least, greatest] = exchange.range_of(id);
    made->askables.push_back({one, exchange.unit_of(id), false, least, greatest, exchange.initial_of(id)});
  };
  for (const std::string& one : plant.knob_names()) set(one);
  if (run.controller()) {
    for (const std::string& one : run.controller()->parameters()) set(one);
  }
  for (const auto& [setting, unit] : exchange.port_settings()) set(setting);
  for (const network::FaultPlace& place : places) {
    for (const std::string& one : plant.operable_names()) {
      if (one.starts_with(place.name + ".") && plant.has_resistance(plant.operable(one)))
        set(one + ".resistance");
    }
  }
  made->places = std::move(places);
  const std::lock_guard lock(mutex_);
  states_.reset();  // they are those of another network
  network_.places = std::move(network.places);
  known_ = std::move(made);
}

Session::~Session() { stop(); }

void Session::start(const Start& how) {
  {
    const std::lock_guard lock(mutex_);
    if (status_.state == "running" || status_.state == "starting")
      throw Error(fmt::format("{} runs already; stop it first", name_));
  }
  if (thread_.joinable()) thread_.join();
  {
    const std::lock_guard lock(mutex_);
    const long long number = status_.number + 1;
    status_ = {};
    status_.number = number;
    status_.state = "starting";
    status_.duration_s = how.duration_s;
    status_.again_until_s = how.again_until_s;
    started_ = how;
    before_ = how.again_until_s == 0 ? nullptr : life_;
    if (before_) before_->run.reset();
    if (!states_ || !before_)
      states_ =
          std::make_shared<bench::KeptStates>(state_bytes, how.free ? state_every_s : state_every_paced_s);
    ended_.reset();
    life_.reset();
  }
  stop_ = false;
  thread_ = std::jthread([this, how] { work(how); });
}

void Session::stop() {
  stop_ = true;
  if (thread_.joinable()) thread_.join();
}

void Session::fail(const std::string& why) {
  auto left = std::make_shared<Ended>();
  const std::lock_guard lock(mutex_);
  status_.state = "ended";
  status_.failure = why;
  left->status = status_;
  ended_ = left;
}

/// Whatever goes wrong in a run, the engine goes on.
void Session::work(const Start& how) {
  try {
    run_to_its_end(how);
  } catch (const std::exception& error) {
    fail(error.what());
  }
}

/// Who asks, with what is done again behind the state that the run begins at; what was done before that
/// stands in the diary.
std::unique_ptr<Desk> Session::begin_desk(Life& life, const bench::RunState* from, const Start& start) const {
  constexpr double same_s = 1e-9;
  const double from_s = from ? from->time_s : -1;
  const auto done = std::find_if(start.past.begin(), start.past.end(),
                                 [&](const Act& act) { return act.time_s > from_s - same_s; });
  const std::vector<Act> before(start.past.begin(), done), again(done, start.past.end());
  std::vector<std::string> asks;
  for (const Askable& one : life.known->askables) asks.push_back(one.name);
  if (!start.past_whole) life.diary->begin_behind(1);
  return std::make_unique<Desk>(life.known->signals, life.known->points, asks, life.diary,
                                Desk::Past{before, again, start.again_until_s});
}

void Session::run_to_its_end(const Start& start) {
  auto life = std::make_shared<Life>();
  life->known = known();
  bench::RunOptions how = options_;
  how.stop = &stop_;
  how.free = start.free;
  how.place = start.place;
  std::shared_ptr<bench::KeptStates> states;
  {
    const std::lock_guard lock(mutex_);
    states = states_;
  }
  how.states = states.get();
  const bench::RunState* from = start.again_until_s > 0 ? states->latest_at(start.again_until_s) : nullptr;
  if (from) states->forget_behind(from->time_s);
  how.look = [life = life.get()](const pace::Timing& timing) {
    put_timing(timing, life->timing_row);
    life->timing.publish(life->timing_row.data());
  };
  life->run = std::make_unique<bench::Run>(all_, network_, how);
  {
    const std::lock_guard lock(mutex_);
    life->traces =
        from ? std::make_shared<Traces>(*before_->traces)
             : std::make_shared<Traces>(life->known->signals,
                                        bench::samples_per_cycle * all_.network.frequency_Hz, trace_bytes);
  }
  life->run->add(std::make_unique<TracePort>(life->traces));
  auto desk = begin_desk(*life, from, start);
  life->desk = desk.get();
  life->run->add(std::move(desk));
  life->run->record(0, start.duration_s > 0 ? std::min(start.duration_s, most_kept_s) : kept_s, {});
  const bench::Exchange& exchange = life->run->exchange();
  life->shown.resize(exchange.point_count());
  for (const bench::PointId point : exchange.points_in_order()) life->shown[point.index] = true;
  for (std::size_t k = 0; k < exchange.point_count(); ++k) {
    life->on.push_back(exchange.words_of({0, bench::PointId{k}, true}));
    life->off.push_back(exchange.words_of({0, bench::PointId{k}, false}));
    life->columns.push_back(exchange.column_of(bench::PointId{k}));
    if (exchange.on(bench::PointId{k})) life->first_on.push_back(k);
  }
  if (std::string why = life->run->start(); !why.empty()) return fail(why);
  {
    const std::lock_guard lock(mutex_);
    life_ = life;
    life->counts = true;
    status_.state = "running";
    status_.paced = life->run->paced();
    status_.bound = life->run->somebody_elsewhere();
  }
  double left_s = start.duration_s;
  pace::Timing timing;
  if (from && !life->run->begin_at(*from))
    return fail(fmt::format("the state of {:.4g} s is not one of this run", from->time_s));
  if (start.again_until_s > 0) {
    const double again_s = start.again_until_s - exchange.time_s();
    if (again_s > exchange.step_s() / 2) timing = life->run->hasten(again_s);
    if (left_s > 0) left_s = std::max(left_s - start.again_until_s, exchange.step_s());
    const std::lock_guard lock(mutex_);
    status_.again_until_s = 0;
  }
  if (life->run->failure().empty() && !stop_) timing = life->run->execute(left_s);
  auto left = std::make_shared<Ended>();
  const std::string failure = life->run->failure();
  {
    const std::lock_guard lock(mutex_);
    life->counts = false;
  }
  life->run->end();
  left->timing = timing;
  left->accounts = life->run->accounts();
  left->record = life->run->take_record(0);
  const double time_s = exchange.time_s();
  {
    const std::lock_guard lock(mutex_);
    life->desk = nullptr;
    life->run.reset();
    status_.time_s = time_s;
    status_.failure = failure;
    left->status = status_;
    left->status.state = "ended";
  }
  if (on_end_) on_end_(*this, *left);
  const std::lock_guard lock(mutex_);
  ended_ = std::move(left);
  status_.state = "ended";
}

Status Session::status() const {
  const std::lock_guard lock(mutex_);
  Status status = status_;
  if (life_ && life_->desk) {
    bench::Beside::View view;
    if (life_->desk->read(view)) status.time_s = view.time_s;
  }
  return status;
}

Start Session::started() const {
  const std::lock_guard lock(mutex_);
  return started_;
}

Outcome Session::ask(const bench::Beside::Wish& wish, double wait_s) {
  using std::chrono::steady_clock;
  const auto until = steady_clock::now() + std::chrono::duration<double>(wait_s);
  std::uint64_t ticket = 0;
  for (;;) {
    {
      const std::lock_guard lock(mutex_);
      if (!life_ || !life_->desk || wish.ask >= life_->known->askables.size()) return Outcome::not_running;
      if (ticket == 0) ticket = life_->desk->post(wish);
      const auto outcome = ticket == 0 ? bench::AskQueue::Outcome::waiting : life_->desk->outcome(ticket);
      if (outcome == bench::AskQueue::Outcome::done) return Outcome::done;
      if (outcome == bench::AskQueue::Outcome::refused) return Outcome::refused;
    }
    if (steady_clock::now() > until) return Outcome::late;
    std::this_thread::sleep_for(std::chrono::microseconds(200));
  }
}

std::optional<bench::Beside::View> Session::values() const {
  const std::lock_guard lock(mutex_);
  bench::Beside::View view;
  if (!life_ || !life_->desk || !life_->desk->read(view)) return std::nullopt;
  for (std::size_t k = 0; k < life_->known->factors.size(); ++k) view.values[k] *= life_->known->factors[k];
  return view;
}

std::shared_ptr<const Traces> Session::traces(bool before) const {
  const std::lock_guard lock(mutex_);
  const std::shared_ptr<Life>& life = before ? before_ : life_;
  return life ? life->traces : nullptr;
}

std::vector<Happened> Session::events(std::int64_t from, std::int64_t& next) const {
  std::shared_ptr<Life> life;
  {
    const std::lock_guard lock(mutex_);
    life = life_;
  }
  next = from;
  if (!life) return {};
  std::vector<double> rows;
  const std::int64_t first = life->traces->changes.read(from, INT64_MAX, {0, 1, 2}, rows);
  std::vector<Happened> all;
  for (std::size_t k = 0; k + 2 < rows.size(); k += 3) {
    const auto point = static_cast<std::size_t>(rows[k + 1]);
    const bool on = rows[k + 2] != 0;
    if (point < life->on.size())
      all.push_back({rows[k], on ? life->on[point] : life->off[point], life->columns[point], on});
  }
  next = first + static_cast<std::int64_t>(rows.size() / 3);
  return all;
}

std::shared_ptr<const bench::KeptStates> Session::states() const {
  const std::lock_guard lock(mutex_);
  return states_;
}

double Session::state_behind(double to_s) const {
  const std::lock_guard lock(mutex_);
  const bench::RunState* state = states_ ? states_->latest_at(to_s) : nullptr;
  return state ? state->time_s : 0;
}

bool Session::diary(std::vector<Act>& acts) const {
  std::shared_ptr<Life> life;
  {
    const std::lock_guard lock(mutex_);
    life = life_;
  }
  acts.clear();
  if (!life) return true;
  std::vector<double> rows;
  const bool whole = life->diary->read(0, INT64_MAX, {0, 1, 2, 3, 4, 5}, rows) == 0;
  for (std::size_t k = 0; k + diary_width <= rows.size(); k += diary_width)
    acts.push_back({rows[k], life->known->askables[static_cast<std::size_t>(rows[k + 1])].name, rows[k + 2],
                    rows[k + 3], rows[k + 4], rows[k + 5]});
  return whole;
}

std::optional<LiveTiming> Session::live_timing() const {
  std::shared_ptr<Life> life;
  {
    const std::lock_guard lock(mutex_);
    life = life_;
  }
  std::vector<double> row(timing_width);
  if (!life || !life->timing.read(row.data())) return std::nullopt;
  LiveTiming timing;
  const double* from = row.data();
  timing.steps = *from++;
  timing.overruns = *from++;
  timing.worst_overrun_us = *from++;
  timing.step_us = *from++;
  for (double& cause : timing.causes) cause = *from++;
  for (double& count : timing.compute) count = *from++;
  for (double& count : timing.lateness) count = *from++;
  return timing;
}

std::vector<bench::Account> Session::accounts() const {
  const std::lock_guard lock(mutex_);
  if (ended_) return ended_->accounts;
  return life_ && life_->counts ? life_->run->accounts() : std::vector<bench::Account>();
}

std::shared_ptr<const Ended> Session::ended() const {
  const std::lock_guard lock(mutex_);
  return ended_;
}

record::Record Session::capture(double from_s, double until_s, double trigger_s) const {
  std::shared_ptr<Life> life;
  {
    const std::lock_guard lock(mutex_);
    life = life_;
  }
  if (!life) throw Error("nothing runs, and nothing has run; start a case");
  const Traces& traces = *life->traces;
  record::Record record;
  record.station = all_.network.title;
  record.frequency_Hz = all_.network.frequency_Hz;
  record.rate_Hz = traces.rate_Hz;
  record.trigger_s = trigger_s;
  std::vector<std::size_t> columns(traces.signals.size());
  for (std::size_t k = 0; k < columns.size(); ++k) columns[k] = k;
  std::vector<double> rows;
  const std::int64_t first =
      traces.rows.read(static_cast<std::int64_t>(std::ceil(std::max(0.0, from_s) * traces.rate_Hz)),
                       static_cast<std::int64_t>(std::floor(until_s * traces.rate_Hz)) + 1, columns, rows);
  const std::size_t count = rows.size() / columns.size();
  if (count < 2) throw Error("nothing of that time is kept any more, or yet");
  for (std::size_t row = 0; row < count; ++row)
    record.time_s.push_back(static_cast<double>(first + static_cast<std::int64_t>(row)) / traces.rate_Hz);
  for (std::size_t k = 0; k < columns.size(); ++k) {
    record::Analog analog{.name = traces.signals[k],
                          .phase = {},
                          .unit = traces.units[k],
                          .primary = traces.primary[k],
                          .secondary = traces.secondary[k],
                          .samples = {}};
    for (std::size_t row = 0; row < count; ++row) analog.samples.push_back(rows[row * columns.size() + k]);
    record.analogs.push_back(std::move(analog));
  }
  std::int64_t next = 0;
  const std::vector<Happened> events = this->events(0, next);
  const bool whole = next == static_cast<std::int64_t>(events.size());
  for (std::size_t point = 0; point < life->columns.size(); ++point) {
    if (!life->shown[point]) continue;
    record::Binary binary{.name = life->columns[point], .samples = std::vector<std::uint8_t>(count)};
    bool on = std::find(life->first_on.begin(), life->first_on.end(), point) != life->first_on.end();
    // Of changes that were overwritten, the first one left tells what was before.
    const auto left = std::find_if(events.begin(), events.end(),
                                   [&](const Happened& one) { return one.point == binary.name; });
    if (!whole && left != events.end()) on = !left->on;
    binary.normal = on;
    auto event = left;
    for (std::size_t row = 0; row < count; ++row) {
      for (; event != events.end() && event->time_s <= record.time_s[row]; ++event) {
        if (event->point == binary.name) on = event->on;
      }
      binary.samples[row] = on ? 1 : 0;
    }
    record.binaries.push_back(std::move(binary));
  }
  for (const Happened& one : events) {
    if (one.time_s >= record.time_s.front() && one.time_s <= record.time_s.back())
      record.events.push_back({one.time_s, one.text, one.point, one.on});
  }
  record.facts = {{"case", name_}, {"began_at_s", fmt::format("{:.9g}", record.time_s.front())}};
  record::begin_at_zero(record);
  return record;
}

}  // namespace zavrek::engine::internal
