#include "engine/session.hpp"

#include <algorithm>
#include <chrono>

#include <fmt/format.h>

#include "zavrek/bench/run.hpp"

namespace zavrek::engine::internal {
namespace {

constexpr std::size_t most_signals = 96;         // that viewers see
constexpr std::size_t trace_bytes = 32U << 20U;  // of each run
constexpr double kept_s = 10;                    // of the record of one without end
constexpr double most_kept_s = 60;

/// What the bench records, its transformers, and voltages and currents besides, up to a bound.
std::vector<std::string> shown_signals(const trial::Case& all, const emt::Plant& plant) {
  std::vector<std::string> names = all.bench.record;
  const std::vector<std::string> known = plant.signal_names();
  for (const bench::Stream* stream : all.bench.all<bench::Stream>()) {
    for (const auto& [stem, quantity] : {std::pair{stream->vt, ".v"}, std::pair{stream->ct, ".i"}}) {
      for (const char phase : {'a', 'b', 'c'}) {
        if (!stem.empty()) names.push_back(stem + quantity + phase);
      }
    }
  }
  for (const std::string& name : emt::voltages_and_currents(plant)) names.push_back(name);
  std::vector<std::string> shown;
  for (const std::string& name : names) {
    const bool there = std::find(known.begin(), known.end(), name) != known.end();
    if (there && std::find(shown.begin(), shown.end(), name) == shown.end() && shown.size() < most_signals)
      shown.push_back(name);
  }
  return shown;
}

}  // namespace

struct Session::Life {
  std::shared_ptr<Traces> traces;
  bench::Beside* beside = nullptr;   // of the run, while that is there
  std::vector<std::string> on, off;  // words of a change, by the number of its point
  std::unique_ptr<bench::Run> run;
};

Session::Session(std::string name, trial::Case all, bench::RunOptions options)
    : name_(std::move(name)), all_(std::move(all)), network_(all_.network), options_(std::move(options)) {
  // A fault to strike stands ready where the first trial has its own.
  network_.faults.clear();
  for (const trial::Trial& trial : all_.trials) {
    if (!trial.fault || !network_.faults.empty()) continue;
    network_.faults.push_back(trial.fault->fault);
  }
  bench::RunOptions how = options_;
  how.place = "plant";
  how.free = true;
  bench::Run run(all_, network_, how);
  const emt::Plant& plant = *run.plant();
  signals_ = shown_signals(all_, plant);
  for (const std::string& signal : signals_)
    units_.push_back(run.exchange().unit_of(run.exchange().value_of(signal)));
  for (const bench::PointId point : run.exchange().points_in_order())
    points_.push_back(run.exchange().name_of(point));
  for (const std::string& one : plant.operable_names()) askables_.push_back({one, "", true, 0, 1});
  for (const std::string& text : all_.bench.contacts)
    askables_.push_back({"bench." + text.substr(0, text.find(':')), "", true, 0, 1});
  const auto add = [&](const std::string& one) {
    const bench::AskId id = run.exchange().settable_of(one);
    const auto [least, greatest] = run.exchange().range_of(id);
    askables_.push_back({one, run.exchange().unit_of(id), false, least, greatest});
  };
  for (const std::string& one : plant.knob_names()) add(one);
  if (run.controller()) {
    for (const std::string& one : run.controller()->parameters()) add(one);
  }
  for (const auto& [setting, unit] : run.exchange().port_settings()) add(setting);
}

Session::~Session() { stop(); }

void Session::start(double duration_s, bool free, const std::string& place) {
  {
    const std::lock_guard lock(mutex_);
    if (status_.state == "running" || status_.state == "starting")
      throw Error(fmt::format("{} runs already; stop it first", name_));
  }
  if (thread_.joinable()) thread_.join();
  {
    const std::lock_guard lock(mutex_);
    status_ = {};
    status_.state = "starting";
    status_.duration_s = duration_s;
    accounts_.clear();
    timing_.reset();
    record_.reset();
    life_.reset();
  }
  stop_ = false;
  thread_ = std::jthread([this, duration_s, free, place] { work(duration_s, free, place); });
}

void Session::stop() {
  stop_ = true;
  if (thread_.joinable()) thread_.join();
}

void Session::fail(const std::string& why) {
  const std::lock_guard lock(mutex_);
  status_.state = "ended";
  status_.failure = why;
}

/// Whatever goes wrong in a run, the engine goes on.
void Session::work(double duration_s, bool free, const std::string& place) {
  try {
    run_to_its_end(duration_s, free, place);
  } catch (const std::exception& error) {
    fail(error.what());
  }
}

void Session::run_to_its_end(double duration_s, bool free, const std::string& place) {
  auto life = std::make_shared<Life>();
  bench::RunOptions how = options_;
  how.stop = &stop_;
  how.free = free;
  how.place = place;
  life->run = std::make_unique<bench::Run>(all_, network_, how);
  life->traces =
      std::make_shared<Traces>(signals_, bench::samples_per_cycle * all_.network.frequency_Hz, trace_bytes);
  life->run->add(std::make_unique<TracePort>(life->traces));
  std::vector<std::string> asks;
  for (const Askable& one : askables_) asks.push_back(one.name);
  auto beside = std::make_unique<bench::Beside>("engine", signals_, points_, asks);
  life->beside = beside.get();
  life->run->add(std::move(beside));
  life->run->record(0, duration_s > 0 ? std::min(duration_s, most_kept_s) : kept_s, {});
  const bench::Exchange& exchange = life->run->exchange();
  for (std::size_t k = 0; k < exchange.point_count(); ++k) {
    life->on.push_back(exchange.words_of({0, bench::PointId{k}, true}));
    life->off.push_back(exchange.words_of({0, bench::PointId{k}, false}));
  }
  if (std::string why = life->run->start(); !why.empty()) return fail(why);
  {
    const std::lock_guard lock(mutex_);
    life_ = life;
    status_.state = "running";
    status_.paced = life->run->paced();
  }
  const pace::Timing timing = life->run->execute(duration_s);
  const std::string failure = life->run->failure();
  life->run->end();
  std::vector<bench::Account> accounts = life->run->accounts();
  record::Record record = life->run->take_record(0);
  const double time_s = life->run->exchange().time_s();
  const std::lock_guard lock(mutex_);
  life->beside = nullptr;
  life->run.reset();
  accounts_ = std::move(accounts);
  timing_ = timing;
  record_ = std::move(record);
  status_.state = "ended";
  status_.time_s = time_s;
  status_.failure = failure;
}

Status Session::status() const {
  const std::lock_guard lock(mutex_);
  Status status = status_;
  if (life_ && life_->beside) {
    bench::Beside::View view;
    if (life_->beside->read(view)) status.time_s = view.time_s;
  }
  return status;
}

Outcome Session::ask(std::size_t askable, double value, double wait_s) {
  using std::chrono::steady_clock;
  const auto until = steady_clock::now() + std::chrono::duration<double>(wait_s);
  std::uint64_t ticket = 0;
  for (;;) {
    {
      const std::lock_guard lock(mutex_);
      if (!life_ || !life_->beside) return Outcome::not_running;
      if (ticket == 0) ticket = life_->beside->post(askable, value);
      const auto outcome = ticket == 0 ? bench::AskQueue::Outcome::waiting : life_->beside->outcome(ticket);
      if (outcome == bench::AskQueue::Outcome::done) return Outcome::done;
      if (outcome == bench::AskQueue::Outcome::refused) return Outcome::refused;
    }
    if (steady_clock::now() > until) return Outcome::late;
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
}

std::optional<bench::Beside::View> Session::values() const {
  const std::lock_guard lock(mutex_);
  bench::Beside::View view;
  if (!life_ || !life_->beside || !life_->beside->read(view)) return std::nullopt;
  return view;
}

std::shared_ptr<const Traces> Session::traces() const {
  const std::lock_guard lock(mutex_);
  return life_ ? life_->traces : nullptr;
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
    if (point < life->on.size())
      all.push_back({rows[k], rows[k + 2] != 0 ? life->on[point] : life->off[point]});
  }
  next = first + static_cast<std::int64_t>(rows.size() / 3);
  return all;
}

std::vector<bench::Account> Session::accounts() const {
  const std::lock_guard lock(mutex_);
  return accounts_;
}
std::optional<pace::Timing> Session::timing() const {
  const std::lock_guard lock(mutex_);
  return timing_;
}
std::optional<record::Record> Session::record() const {
  const std::lock_guard lock(mutex_);
  return record_;
}

}  // namespace zavrek::engine::internal
