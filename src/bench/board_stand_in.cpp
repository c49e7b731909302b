#include <algorithm>
#include <chrono>
#include <cmath>
#include <ctime>
#include <numbers>
#include <thread>

#include <fmt/format.h>

#include "zavrek/bench/description.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench {
namespace {

constexpr std::size_t currents = 3;  // of the six quantities, ahead of the voltages
constexpr double closed_from = 0.5;  // of what a closed contact has
constexpr int told_cycles = 4;       // that a relay's display goes over
constexpr auto board_looked_for = std::chrono::milliseconds(20);

std::size_t places_of(const StandInTerminals& terminals) {
  std::size_t most = 0;
  for (const auto& one : terminals.measures) most = std::max(most, one.place);
  return most + 1;
}

double to_primary(const protection::RelaySettings& settings, bool current) {
  const double primary = current ? settings.ct_primary_A : settings.vt_primary_V;
  if (!network::is_set(primary))
    throw Error(Flaw{.file = {},
                     .place = "relay",
                     .field = current ? "ct_primary" : "vt_primary",
                     .text = "missing; a relay at terminals needs the ratio of what is in front of it"});
  return primary / (current ? settings.ct_secondary_A : settings.vt_secondary_V);
}

std::size_t number_in(const std::vector<std::string>& names, const std::string& name, const char* what) {
  const auto at = std::find(names.begin(), names.end(), name);
  if (at == names.end()) throw Error(fmt::format("no {} \"{}\"{}", what, name, suggestion(name, names)));
  return static_cast<std::size_t>(at - names.begin());
}

}  // namespace

RelayAtBoard::RelayAtBoard(const protection::RelaySettings& settings, const StandInTerminals& terminals)
    : relay_(settings, samples_per_cycle * terminals.frequency_Hz, terminals.frequency_Hz,
             static_cast<int>(places_of(terminals))),
      board_(card::Board::find(terminals.board)),
      rate_Hz_(terminals.oversampling * samples_per_cycle * terminals.frequency_Hz),
      frequency_Hz_(terminals.frequency_Hz),
      oversampling_(terminals.oversampling),
      samples_(places_of(terminals)) {
  const double corner_Hz = 0.4 * samples_per_cycle * terminals.frequency_Hz;
  const double w = std::tan(std::numbers::pi * corner_Hz / rate_Hz_),
               norm = 1 + std::numbers::sqrt2 * w + w * w;
  b0_ = w * w / norm;
  b1_ = 2 * b0_;
  a1_ = 2 * (w * w - 1) / norm;
  a2_ = (1 - std::numbers::sqrt2 * w + w * w) / norm;
  for (const auto& one : terminals.measures)
    lines_.push_back({one.place,
                      one.quantity,
                      one.terminal,
                      terminals.tells_from + 2 * currents * one.place + one.quantity,
                      to_primary(settings, one.quantity < currents),
                      one.factor,
                      {}});
  const auto level = [](double wetting_V) { return wetting_V > 0 ? wetting_V : 1; };
  for (const auto& one : terminals.reads) {
    const auto at = std::find(relay_.inputs().begin(), relay_.inputs().end(), one.name);
    // One that no condition uses is told, and nothing else.
    reads_.push_back({static_cast<std::size_t>(at - relay_.inputs().begin()), one.terminal,
                      terminals.tells_from + reads_.size(), level(one.wetting_V)});
  }
  for (const auto& one : terminals.gives)
    gives_.push_back(
        {number_in(relay_.outputs(), one.name, "output"), one.terminal, 0, level(one.wetting_V)});
}

void RelayAtBoard::convert() {
  const double angle_rad = 2 * std::numbers::pi * std::fmod(board_.time_s() * frequency_Hz_, 1.0);
  const double cosine = std::cos(angle_rad), sine = std::sin(angle_rad);
  for (Line& line : lines_) {
    const double x = line.factor * board_.get(card::Board::Part::out, line.terminal);
    Filter& f = line.filter;
    const double y = b0_ * x + b1_ * f.x1 + b0_ * f.x2 - a1_ * f.y1 - a2_ * f.y2;
    f = {x, f.x1, y, f.y1};
    line.squares += y * y;
    line.cosines += y * cosine;
    line.sines += y * sine;
    protection::Sample& sample = samples_[line.place];
    (line.quantity < currents ? sample.current_A[line.quantity]
                              : sample.voltage_V[line.quantity - currents]) = line.to_primary * y;
  }
  if (++phase_ < oversampling_) return;
  phase_ = 0;
  decide();
  if (++samples_told_ < told_cycles * samples_per_cycle) return;
  samples_told_ = 0;
  tell_measured();
}

void RelayAtBoard::tell(card::Board::Part part, std::size_t place, double value) {
  if (place < card::Board::terminals) board_.put(part, place, value);
}

void RelayAtBoard::decide() {
  for (protection::Sample& sample : samples_) {
    for (auto* of : {&sample.current_A, &sample.voltage_V}) (*of)[3] = (*of)[0] + (*of)[1] + (*of)[2];
  }
  for (const Contact& contact : reads_) {
    const bool closed =
        board_.get(card::Board::Part::contacts_out, contact.terminal) >= closed_from * contact.level;
    tell(card::Board::Part::seen, contact.tells, closed ? 1 : 0);
    if (contact.number < relay_.inputs().size()) relay_.set_input(contact.number, closed);
  }
  relay_.push(samples_);
  for (const Contact& contact : gives_)
    board_.put(card::Board::Part::contacts_in, contact.terminal,
               relay_.output(contact.number) ? contact.level : 0);
  board_.count_device_write();
}

/// Of the cycles past, at the terminal.
void RelayAtBoard::tell_measured() {
  const double count = static_cast<double>(told_cycles) * samples_per_cycle * oversampling_;
  for (Line& line : lines_) {
    tell(card::Board::Part::measured, line.tells, std::sqrt(line.squares / count));
    tell(card::Board::Part::angles, line.tells, std::atan2(-line.sines, line.cosines));
    line.squares = line.cosines = line.sines = 0;
  }
}

Account run_stand_in(const protection::RelaySettings& settings, const StandInTerminals& terminals,
                     const std::atomic<bool>& stop) {
  while (!stop && !card::Board::there(terminals.board)) std::this_thread::sleep_for(board_looked_for);
  if (stop) return {};
  RelayAtBoard relay(settings, terminals);
  (void)pace::acquire_realtime_beside();
  const auto period_ns = std::llround(1e9 / relay.conversions_per_s());
  const auto now_ns = [] {
    timespec t{};
    clock_gettime(CLOCK_MONOTONIC, &t);
    return static_cast<std::int64_t>(t.tv_sec) * 1'000'000'000 + t.tv_nsec;
  };
  Account account;
  account.port = "device." + terminals.name;
  account.carries = "terminal board " + terminals.board;
  std::int64_t late_ns = 0;
  std::int64_t due_ns = now_ns();
  while (!stop && relay.served()) {
    due_ns += period_ns;
    const timespec until{static_cast<time_t>(due_ns / 1'000'000'000),
                         static_cast<long>(due_ns % 1'000'000'000)};
    (void)clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, nullptr);
    const std::int64_t behind_ns = now_ns() - due_ns;
    late_ns = std::max(late_ns, behind_ns);
    // What was slept through is converted from what stands there now: the relay's time goes on.
    relay.convert();
    ++account.received;
  }
  account.held_back_us = late_ns / 1000;
  return account;
}

}  // namespace zavrek::bench
