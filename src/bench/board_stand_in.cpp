#include <algorithm>
#include <chrono>
#include <cmath>
#include <ctime>
#include <numbers>
#include <thread>

#include <fmt/format.h>

#include "bench/irig.hpp"
#include "bench/time_source.hpp"
#include "zavrek/bench/description.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench {
namespace {

constexpr std::size_t currents = 3;  // of the six quantities, ahead of the voltages
constexpr double closed_from = 0.5;  // of what a closed contact has
constexpr int told_cycles = 4;       // that a relay's display goes over
constexpr std::int64_t second_ns = 1'000'000'000;
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

AntiAlias::AntiAlias(double corner_Hz, double rate_Hz) {
  const double w = std::tan(std::numbers::pi * corner_Hz / rate_Hz),
               norm = 1 + std::numbers::sqrt2 * w + w * w;
  b0_ = w * w / norm;
  b1_ = 2 * b0_;
  a1_ = 2 * (w * w - 1) / norm;
  a2_ = (1 - std::numbers::sqrt2 * w + w * w) / norm;
}

RelayAtBoard::RelayAtBoard(const protection::RelaySettings& settings, const StandInTerminals& terminals)
    : relay_(settings, samples_per_cycle * terminals.frequency_Hz, terminals.frequency_Hz,
             static_cast<int>(places_of(terminals))),
      board_(card::Board::find(terminals.board)),
      rate_Hz_(terminals.oversampling * samples_per_cycle * terminals.frequency_Hz),
      frequency_Hz_(terminals.frequency_Hz),
      oversampling_(terminals.oversampling),
      samples_(places_of(terminals)) {
  const AntiAlias filter(0.4 * samples_per_cycle * terminals.frequency_Hz, rate_Hz_);
  for (const auto& one : terminals.measures)
    lines_.push_back({one.place, one.quantity, one.terminal,
                      terminals.tells_from + 2 * currents * one.place + one.quantity,
                      to_primary(settings, one.quantity < currents), one.factor, filter});
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

bool RelayAtBoard::convert() {
  const double angle_rad = 2 * std::numbers::pi * std::fmod(board_.time_s() * frequency_Hz_, 1.0);
  const double cosine = std::cos(angle_rad), sine = std::sin(angle_rad);
  for (Line& line : lines_) {
    const double x = line.factor * board_.get(card::Board::Part::out, line.terminal);
    const double y = line.filter.next(x);
    line.squares += y * y;
    line.cosines += y * cosine;
    line.sines += y * sine;
    protection::Sample& sample = samples_[line.place];
    (line.quantity < currents ? sample.current_A[line.quantity]
                              : sample.voltage_V[line.quantity - currents]) = line.to_primary * y;
  }
  if (++phase_ < oversampling_) return false;
  phase_ = 0;
  decide();
  if (++samples_told_ < told_cycles * samples_per_cycle) return true;
  samples_told_ = 0;
  tell_measured();
  return true;
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

SamplesOut::SamplesOut(const StandInTerminals& terminals, double rate_Hz) : rate_Hz_(rate_Hz) {
  message_.address = wire::sampled_values_address(terminals.samples_appid);
  if (terminals.frames) message_.address.source = terminals.frames->source;
  message_.first().id = terminals.samples_id;
}

void SamplesOut::begin(std::int64_t utc_ns) noexcept {
  const double of_second = 1e-9 * static_cast<double>(utc_ns % second_ns);
  message_.first().count =
      static_cast<std::uint16_t>(std::llround(of_second * rate_Hz_) % std::llround(rate_Hz_));
}

std::int64_t SamplesOut::ahead_ns(std::int64_t utc_ns) const noexcept {
  const std::int64_t should = std::llround(1e9 * message_.first().count / rate_Hz_);
  const std::int64_t ahead = (should - utc_ns % second_ns) % second_ns;
  return ahead > second_ns / 2 ? ahead - second_ns : ahead < -second_ns / 2 ? ahead + second_ns : ahead;
}

void SamplesOut::send(const protection::Sample& sample, int synchronised, wire::Link& link) noexcept {
  wire::Asdu& asdu = message_.first();
  asdu.synchronised = static_cast<std::uint8_t>(synchronised);
  wire::put_sample(sample, asdu);
  const std::size_t length = wire::encode(message_, frame_);
  ++(length > 0 && link.send(std::span(frame_).first(length)) ? sent_ : unsent_);
  asdu.count = static_cast<std::uint16_t>((asdu.count + 1) % std::llround(rate_Hz_));
}

void SamplesOut::count(Account& account) const noexcept {
  account.sent += sent_;
  account.unsent += unsent_;
}

namespace {

wire::Now read_now() { return {pace::system_clock().now_ns(), pace::utc_ns()}; }

/// What a stand-in at terminals has on a network besides.
class NetworkSide {
 public:
  NetworkSide(const StandInTerminals& terminals, const protection::Relay& relay, const std::string& interface,
              wire::Medium medium)
      : clock_(Bench{}), code_(terminals.time_code) {
    if (!terminals.frames) return;
    wire::FrameFilter filter{wire::ethertype_goose, {terminals.frames->goose_appid}};
    for (const StandInInput& input : terminals.frames->inputs) filter.appids.push_back(input.appid);
    link_ = wire::open_link(interface, medium, filter);
    messages_.emplace(*terminals.frames, relay);
    if (terminals.samples_id.empty()) return;
    samples_.emplace(terminals, samples_per_cycle * terminals.frequency_Hz);
  }
  void begin() noexcept {
    if (samples_) samples_->begin(utc_ns());
    clock_.watch();
  }
  /// Behind each sample of the relay; by how much the next conversion shall come later, so that samples stay
  /// where their numbers say.
  [[nodiscard]] std::int64_t exchange(RelayAtBoard& board) {
    if (!link_) return 0;
    for (int taken = 0; taken < 64; ++taken) {
      const std::size_t length = link_->receive(frame_);
      if (length == 0) break;
      messages_->take(wire::Bytes(frame_).first(length), pace::system_clock().now_ns(), board.relay());
    }
    messages_->publish(read_now(), board.relay(), *link_);
    if (!samples_) return 0;
    samples_->send(board.sample(), synchronised(), *link_);
    if (renumbers_) samples_->begin(utc_ns());
    renumbers_ = false;
    return std::clamp<std::int64_t>(samples_->ahead_ns(utc_ns()) / 2, -most_turned_ns, most_turned_ns);
  }
  /// At each conversion.
  void look(const card::Board& board) noexcept {
    if (!code_) return;
    const double level = code_->wetting_V > 0 ? code_->wetting_V : 1;
    const bool high = board.get(card::Board::Part::contacts_out, code_->terminal) >= closed_from * level;
    if (reader_.see(high, pace::system_clock().now_ns())) renumbers_ = reader_.seconds_read() == 1;
  }
  void count(Account& account) const {
    if (messages_) messages_->count(account);
    if (samples_) samples_->count(account);
  }

 private:
  static constexpr std::int64_t most_turned_ns = 2'000, code_missed_ns = 3 * second_ns;
  [[nodiscard]] std::int64_t utc_ns() const noexcept {
    if (!code_ || reader_.seconds_read() == 0) return pace::utc_ns();
    return reader_.time().utc_s * second_ns + pace::system_clock().now_ns() - reader_.began_ns();
  }
  [[nodiscard]] int synchronised() const noexcept {
    if (!code_) return clock_.synchronised();
    const bool there =
        reader_.seconds_read() > 0 && pace::system_clock().now_ns() - reader_.began_ns() < code_missed_ns;
    constexpr unsigned worst_locked = 1;
    return !there ? 0 : reader_.time().quality <= worst_locked ? 2 : 0;
  }
  internal::TimeSource clock_;
  std::optional<StandInTerminals::Contact> code_;
  internal::IrigReader reader_;
  bool renumbers_ = false;
  std::unique_ptr<wire::Link> link_;
  std::optional<RelayMessages> messages_;
  std::optional<SamplesOut> samples_;
  wire::FrameBuffer frame_;
};

}  // namespace

Account run_stand_in(const protection::RelaySettings& settings, const StandInTerminals& terminals,
                     const std::string& interface, wire::Medium medium, const std::atomic<bool>& stop) {
  while (!stop && !card::Board::there(terminals.board)) std::this_thread::sleep_for(board_looked_for);
  if (stop) return {};
  RelayAtBoard relay(settings, terminals);
  NetworkSide network(terminals, relay.relay(), interface, medium);
  (void)pace::acquire_realtime_beside();
  const auto period_ns = std::llround(1e9 / relay.conversions_per_s());
  Account account;
  account.port = "device." + terminals.name;
  account.carries = "terminal board " + terminals.board;
  std::int64_t late_ns = 0;
  std::int64_t due_ns = pace::system_clock().now_ns();
  network.begin();
  while (!stop && relay.served()) {
    due_ns += period_ns;
    const timespec until{static_cast<time_t>(due_ns / second_ns), static_cast<long>(due_ns % second_ns)};
    (void)clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, nullptr);
    const std::int64_t behind_ns = pace::system_clock().now_ns() - due_ns;
    late_ns = std::max(late_ns, behind_ns);
    // What was slept through is converted from what stands there now: the relay's time goes on.
    network.look(relay.board());
    if (relay.convert()) due_ns += network.exchange(relay);
    ++account.received;
  }
  account.held_back_us = late_ns / 1000;
  network.count(account);
  return account;
}

LoadPhase::LoadPhase(const LoadAtBoard& load, double step_s)
    : step_s_(step_s),
      resistance_ohm_(load.resistance_ohm),
      inductance_H_(load.inductance_H),
      capacitance_F_(load.capacitance_F) {}

double LoadPhase::next(double volts) noexcept {
  const double behind_ohm = inductance_H_ / step_s_;
  const double charging_A = capacitance_F_ / step_s_ * (volts - volts_);
  volts_ = volts;
  if (resistance_ohm_ + behind_ohm > 0)
    current_A_ = (volts + behind_ohm * current_A_) / (resistance_ohm_ + behind_ohm);
  return current_A_ + charging_A;
}

Account run_load(const LoadAtBoard& load, const std::atomic<bool>& stop) {
  while (!stop && !card::Board::there(load.board)) std::this_thread::sleep_for(board_looked_for);
  if (stop) return {};
  card::Board board = card::Board::find(load.board);
  std::vector<LoadPhase> phases(load.phases, LoadPhase(load, 1 / load.rate_Hz));
  (void)pace::acquire_realtime_beside();
  const auto period_ns = std::llround(1e9 / load.rate_Hz);
  Account account;
  account.port = "load";
  account.carries = "terminal board " + load.board;
  std::int64_t late_ns = 0;
  for (std::int64_t due_ns = pace::system_clock().now_ns(); !stop && board.served();) {
    due_ns += period_ns;
    const timespec until{static_cast<time_t>(due_ns / second_ns), static_cast<long>(due_ns % second_ns)};
    (void)clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, nullptr);
    late_ns = std::max(late_ns, pace::system_clock().now_ns() - due_ns);
    for (std::size_t k = 0; k < phases.size(); ++k)
      board.put(card::Board::Part::in, load.first_current + k,
                phases[k].next(board.get(card::Board::Part::out, load.first_voltage + k)));
    board.count_device_write();
    ++account.received;
  }
  account.held_back_us = late_ns / 1000;
  return account;
}

}  // namespace zavrek::bench
