#include "zavrek/bench/run.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/loop.hpp"
#include "bench/plant_source.hpp"

namespace zavrek::bench {

namespace {

std::unique_ptr<Source> plant_of(const network::Network& network, const RunOptions& options) {
  if (!options.plants) return std::make_unique<internal::PlantSource>(emt::compile(network));
  return std::make_unique<internal::PlantSource>(&options.plants->at_start(network, options.network_name));
}

}  // namespace

Run::Run(const Setup& setup, const network::Network& network, const RunOptions& options)
    : loop_(std::make_unique<Loop>(setup, plant_of(network, options), options)) {}
Run::Run(const Setup& setup, std::unique_ptr<Source> stimulus, const RunOptions& options)
    : loop_(std::make_unique<Loop>(setup, std::move(stimulus), options)) {}
Run::~Run() = default;

Exchange& Run::exchange() noexcept { return loop_->exchange_; }
emt::Plant* Run::plant() noexcept { return loop_->plant_; }
const control::Controller* Run::controller() const noexcept {
  return loop_->control_ ? &loop_->control_->controller() : nullptr;
}
void Run::add(std::unique_ptr<Port> port) { loop_->add(std::move(port)); }
void Run::record(double duration_s, double kept_s, const std::vector<std::string>& further,
                 const std::vector<std::string>& points) {
  loop_->record(duration_s, kept_s, further, points);
}
void Run::schedule(const std::vector<Deed>& deeds) { loop_->timetable_ = Timetable(deeds, loop_->exchange_); }

std::vector<Path> Run::paths() {
  std::vector<Path> all;
  if (loop_->control_) all = loop_->control_->paths(exchange().step_s());
  for (const auto& port : loop_->ports_) {
    for (Path& path : port->paths()) all.push_back(std::move(path));
  }
  return all;
}

std::string Run::start() { return loop_->start(); }
bool Run::paced() const noexcept { return !loop_->options_.free || loop_->anybody_outside(); }
bool Run::somebody_elsewhere() const noexcept {
  return loop_->anybody_outside() || (loop_->control_ && loop_->control_->remote());
}
bool Run::somebody_ended() {
  return (loop_->control_ && loop_->control_->ended()) ||
         std::any_of(loop_->ports_.begin(), loop_->ports_.end(),
                     [](const auto& port) { return port->ended(); });
}
bool Run::begin_at(const RunState& state) { return loop_->begin_at(state); }
pace::Timing Run::execute(double duration_s, const std::function<bool()>& until) {
  return loop_->execute(duration_s, until, true);
}
pace::Timing Run::hasten(double duration_s, const std::function<bool()>& until) {
  return loop_->execute(duration_s, until, false);
}
bool Run::forget() {
  return std::all_of(loop_->ports_.begin(), loop_->ports_.end(),
                     [&](const auto& port) { return port->forget(loop_->exchange_); });
}

void Run::end() {
  if (loop_->control_) loop_->control_->end();
  for (const auto& port : loop_->ports_) port->end();
  loop_->frames_.end();
}

std::string Run::failure() { return loop_->failure(); }
std::string Run::medium() const {
  for (const auto& port : loop_->ports_) {
    if (std::string medium = port->medium(); !medium.empty()) return medium;
  }
  return {};
}

std::vector<Account> Run::accounts() const {
  std::vector<Account> all;
  if (loop_->control_) all = loop_->control_->accounts();
  for (const auto& port : loop_->ports_) {
    for (Account& account : port->accounts()) all.push_back(std::move(account));
  }
  for (Account& account : loop_->frames_.accounts()) all.push_back(std::move(account));
  if (auto clock = loop_->clock_account()) all.push_back(*std::move(clock));
  return all;
}

std::shared_ptr<record::RowFile> Run::rows() const {
  return loop_->recorder_ ? loop_->recorder_->rows() : nullptr;
}

record::Record Run::take_record(double trigger_s) {
  record::Record record = loop_->recorder_->take(loop_->exchange_);
  record.trigger_s = trigger_s;
  return record;
}

std::string to_string(const std::vector<Path>& paths, double step_s) {
  std::string text;
  for (const Path& path : paths) {
    const double us = 1e6 * path.most_steps * step_s;
    text +=
        fmt::format("    {} -> {}{}{}: {}{}\n", path.from, path.by, path.to.empty() ? "" : " -> ", path.to,
                    path.most_steps == 0 ? std::string("at once")
                                         : fmt::format("up to {:.3g} step{} ({:.3g} us)", path.most_steps,
                                                       path.most_steps == 1 ? "" : "s", us),
                    path.further.empty() ? "" : " and " + path.further);
  }
  if (!text.empty()) text.pop_back();
  return text;
}

}  // namespace zavrek::bench
