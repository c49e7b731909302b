// A known quantity on one channel after the other, without a plant: the bench itself, with its cards, its
// converters and its devices, and a source that gives what is asked for.
#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <functional>
#include <map>
#include <numbers>
#include <optional>
#include <set>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/channels.hpp"
#include "zavrek/bench/wiring.hpp"

namespace zavrek::bench {
namespace {

using network::Network;

constexpr double step_s = 50e-6;
constexpr double least_share = 0.05;  // of what was applied: less is nothing
constexpr double forced = 10;         // times the rated current, for the contacts of a device
constexpr double forced_for_s = 4;
constexpr int most_looks = 8;
constexpr const char* contact_stem = "proof";

/// Sines of a common frequency, each with its own amplitude and angle.
class KnownQuantities final : public Source {
 public:
  explicit KnownQuantities(double frequency_Hz) : frequency_Hz_(frequency_Hz) {}
  struct One {
    std::string name, unit;
    double rms = 0, angle_rad = 0;
  };
  std::vector<One> all;

  double time_s() const noexcept override { return static_cast<double>(steps_) * bench::step_s; }
  double step_s() const noexcept override { return bench::step_s; }
  bool step() noexcept override {
    ++steps_;
    return true;
  }
  emt::SignalId signal(const std::string& name) const override {
    const auto at = std::find_if(all.begin(), all.end(), [&](const One& one) { return one.name == name; });
    if (at == all.end()) throw Error("no signal \"" + name + "\"");
    return {static_cast<int>(at - all.begin())};
  }
  std::string unit(emt::SignalId signal) const override {
    return all[static_cast<std::size_t>(signal.index)].unit;
  }
  void read(std::span<const emt::SignalId> signals, double* into) const noexcept override {
    const double angle_rad = 2 * std::numbers::pi * std::fmod(time_s() * frequency_Hz_, 1.0);
    for (const emt::SignalId signal : signals) {
      const One& one = all[static_cast<std::size_t>(signal.index)];
      *into++ = std::numbers::sqrt2 * one.rms * std::cos(angle_rad + one.angle_rad);
    }
  }

 private:
  double frequency_Hz_;
  long long steps_ = 0;
};

/// What is proven of an analogue output.
struct Channel {
  Wire wire;
  std::size_t quantity = 0;  // of the source
  double level = 0;          // rms at the terminal
  std::string unit;
  std::optional<std::size_t> told;  // as its device tells it
  std::optional<std::size_t> loop;  // of the values that come in
};
struct Contact {
  Wire wire;
  std::string name;  // of the bench's contact that works it
  std::optional<std::size_t> told;
  std::string loop;  // point that comes in
};

/// Listens to what comes in by loops, and to what devices tell.
class Listener final : public Port {
 public:
  std::vector<std::string> loops, cards;

  explicit Listener(double frequency_Hz) : frequency_Hz_(frequency_Hz) {}
  void wire(Exchange& exchange) override {
    for (const std::string& name : loops) values_.push_back(exchange.value_of(name));
    sums_.resize(values_.size());
  }
  std::string open(const Opening& how) override {
    for (const std::string& name : cards) opened_.push_back(&how.cards.join(name));
    return {};
  }
  void take(Exchange& exchange) noexcept override {
    const auto turn =
        std::polar(1.0, -2 * std::numbers::pi * std::fmod(exchange.time_s() * frequency_Hz_, 1.0));
    for (std::size_t k = 0; k < values_.size(); ++k) sums_[k] += exchange.latest(values_[k]) * turn;
    ++count_;
  }
  void begin() noexcept {
    std::fill(sums_.begin(), sums_.end(), 0.0);
    count_ = 0;
  }
  /// Phasor (rms) of a loop since `begin`.
  [[nodiscard]] std::complex<double> phasor(std::size_t loop) const noexcept {
    return std::numbers::sqrt2 * sums_[loop] / static_cast<double>(std::max(1LL, count_));
  }
  [[nodiscard]] card::Card::Told told(const std::string& card, std::size_t place) const {
    const auto at = std::find(cards.begin(), cards.end(), card) - cards.begin();
    return opened_[static_cast<std::size_t>(at)]->card->told(place);
  }

 private:
  double frequency_Hz_;
  std::vector<ValueId> values_;
  std::vector<std::complex<double>> sums_;
  std::vector<Cards::Opened*> opened_;
  long long count_ = 0;
};

class Prover {
 public:
  Prover(const Setup& setup, const ProofOptions& options)
      : setup_(setup), options_(options), frequency_Hz_(setup.network.frequency_Hz), reduced_(setup) {
    reduce();
    auto source = std::make_unique<KnownQuantities>(frequency_Hz_);
    source_ = source.get();
    for (std::size_t k = 0; k < channels_.size(); ++k)
      source_->all.push_back({fmt::format("channel{}", k), channels_[k].unit, 0, 0});
    RunOptions how;
    how.relay_program = options.program;
    how.listens = false;
    how.stop = options.stop;
    run_.emplace(reduced_, std::move(source), how);
    auto listener = std::make_unique<Listener>(frequency_Hz_);
    listener_ = listener.get();
    for (const Card* card : reduced_.bench.all<Card>()) listener_->cards.push_back(card->name);
    listener_->loops = loops_;
    run_->add(std::move(listener));
  }

  std::vector<Proof> prove() {
    for (const Contact& contact : contacts_) (void)run_->exchange().ask_of("bench." + contact.name);
    if (std::string why = run_->start(); !why.empty()) throw Error(why);
    for (std::size_t k = 0; k < channels_.size() && !stopped(); ++k) prove_channel(k);
    for (const Contact& contact : contacts_) {
      if (!stopped()) prove_contact(contact);
    }
    if (!stopped()) prove_outputs();
    run_->end();
    return std::move(proofs_);
  }

 private:
  [[nodiscard]] bool stopped() const { return options_.stop && options_.stop->load(); }

  /// Only what stands between converters and devices; every channel with a signal of its own.
  void reduce() {
    reduced_.control = {};
    Bench& bench = reduced_.bench;
    bench.record.clear();
    bench.contacts.clear();
    bench.control = "plant";
    std::erase_if(bench.devices, [](const Device& device) { return !device.at_terminals(); });
    for (Device& device : bench.devices) {
      device.trips.clear();
      device.opens.clear();
      device.closes.clear();
      device.inputs.clear();
    }
    std::vector<PortSettings> kept;
    for (PortSettings& port : bench.ports) {
      if (auto* out = std::get_if<AnalogueOut>(&port))
        reduce(*out);
      else if (auto* contacts = std::get_if<ContactOut>(&port))
        reduce(*contacts);
      else if (auto* values = std::get_if<AnalogueIn>(&port))
        values->sets.clear();
      else if (auto* back = std::get_if<ContactIn>(&port))
        back->opens.clear(), back->closes.clear();
      else if (!std::holds_alternative<Card>(port))
        continue;
      kept.push_back(std::move(port));
    }
    bench.ports = std::move(kept);
    find_loops();
  }
  void reduce(AnalogueOut& out) {
    const std::vector<Wire> wires = wires_of(setup_);
    for (std::size_t k = 0; k < out.signals.size(); ++k) {
      Channel& channel = channels_.emplace_back();
      channel.wire = wire_at(wires, "analogue_out." + out.name, out.first_channel + static_cast<int>(k));
      channel.quantity = channels_.size() - 1;
      channel.unit = unit_of(channel.wire);
      const double most = internal::full_scale_of(out, channel.unit) / std::numbers::sqrt2 / 2;
      const double rated =
          channel.wire.rated.empty() ? most : parse_quantity_as(channel.wire.rated, channel.unit);
      channel.level = std::min(rated, most);
      if (!out.device.empty()) {
        const internal::RelayInput input = internal::relay_input(channel.wire.input);
        channel.told = tells_from(out.device, out.card) + 6 * input.place + input.quantity;
      }
      out.signals[k] = fmt::format("channel{}", channel.quantity);
    }
    out.ratio = 1;
    out.offset.clear();
  }
  void reduce(ContactOut& out) {
    const std::vector<Wire> wires = wires_of(setup_);
    for (std::size_t k = 0; k < out.points.size(); ++k) {
      Contact& contact = contacts_.emplace_back();
      contact.wire = wire_at(wires, "contact_out." + out.name, out.first_channel + static_cast<int>(k));
      contact.name = contact_stem + std::to_string(contacts_.size() - 1);
      reduced_.bench.contacts.push_back(contact.name);
      out.points[k] = "bench." + contact.name;
      if (!out.device.empty()) contact.told = tells_from(out.device, out.card) + contacts_of_[out.device]++;
    }
  }
  void find_loops() {
    for (const AnalogueIn* in : reduced_.bench.all<AnalogueIn>()) {
      for (std::size_t k = 0; k < std::min(in->terminals.size(), in->values.size()); ++k) {
        for (Channel& channel : channels_) {
          if (channel.wire.terminal != in->terminals[k] || in->terminals[k].empty()) continue;
          channel.loop = loops_.size();
          loops_.push_back(in->name + "." + in->values[k]);
        }
      }
    }
    for (const ContactIn* in : reduced_.bench.all<ContactIn>()) {
      for (std::size_t k = 0; k < std::min(in->terminals.size(), in->points.size()); ++k) {
        for (Contact& contact : contacts_) {
          if (contact.wire.terminal == in->terminals[k] && !in->terminals[k].empty())
            contact.loop = in->name + "." + in->points[k];
        }
      }
    }
  }
  static Wire wire_at(const std::vector<Wire>& wires, const std::string& port, int channel) {
    return *std::find_if(wires.begin(), wires.end(),
                         [&](const Wire& wire) { return wire.port == port && wire.channel == channel; });
  }
  /// By its transformer, its rated value, or its letter.
  static std::string unit_of(const Wire& wire) {
    if (!wire.rated.empty()) return wire.rated.ends_with('A') ? "A" : "V";
    const std::size_t dot = wire.signal.rfind('.');
    return dot != std::string::npos && wire.signal[dot + 1] == 'i' ? "A" : "V";
  }
  [[nodiscard]] std::size_t tells_from(const std::string& device, const std::string& card) const {
    return internal::tells_from(setup_.bench, device, card);
  }

  void play(double for_s, const std::function<bool()>& until = {}) {
    (void)run_->execute(for_s, until);
    if (std::string why = run_->failure(); !why.empty()) throw Error(why);
  }
  void silence() {
    for (KnownQuantities::One& one : source_->all) one.rms = 0;
  }

  /// What was found of a channel, as a phasor at the terminal; NaN where nobody tells.
  [[nodiscard]] std::complex<double> found(const Channel& channel) const {
    if (channel.loop) return listener_->phasor(*channel.loop);
    constexpr double nothing = std::numeric_limits<double>::quiet_NaN();
    if (!channel.told) return {nothing, nothing};
    const card::Card::Told told = listener_->told(channel.wire.card, *channel.told);
    return std::isnan(told.rms) ? std::complex<double>(nothing, nothing)
                                : std::polar(told.rms, told.angle_rad);
  }

  [[nodiscard]] bool is_right(const Channel& channel, std::complex<double> is) const {
    return std::abs(std::abs(is) / channel.level - 1) <= options_.tolerance;
  }
  /// What is found once it no longer moves: a relay's display goes over some cycles, and a busy computer
  /// holds a stand-in's converter back. What is wrong is looked at until it is right, or to the last look:
  /// a fault of the wiring stays.
  [[nodiscard]] std::complex<double> steady(const Channel& channel) {
    play(options_.each_s / 2);  // until what was before has gone
    std::complex<double> before, is;
    for (int look = 0; look < most_looks && !stopped(); ++look) {
      listener_->begin();
      play(options_.each_s / 2);
      before = is;
      is = found(channel);
      if (std::isnan(is.real())) break;
      const bool rests = look > 0 && std::abs(is - before) < options_.tolerance * channel.level;
      if (rests && is_right(channel, is)) break;
    }
    return is;
  }

  void prove_channel(std::size_t k) {
    const Channel& channel = channels_[k];
    silence();
    source_->all[k].rms = channel.level;
    const std::complex<double> is = steady(channel);
    Proof& proof = proofs_.emplace_back();
    proof.wire = channel.wire;
    proof.applied = print_rounded(channel.level, channel.unit, 4);
    if (std::isnan(is.real())) {
      proof.found = "-";
      proof.remark =
          "nobody tells: no loop to an input of the same label, and its device does not say what it "
          "measures";
      return;
    }
    proof.found = print_rounded(std::abs(is), channel.unit, 4);
    const double share = std::abs(is) / channel.level;
    const bool reversed = share > least_share && std::abs(std::arg(is)) > 2 * std::numbers::pi / 3;
    proof.verdict = Proof::Verdict::failed;
    if (share < least_share)
      proof.remark = elsewhere(channel);
    else if (!is_right(channel, is))
      proof.remark =
          fmt::format("gain {:.3f} of what it should be{}", share, reversed ? ", and reversed" : "");
    else if (reversed)
      proof.remark = "its polarity is reversed";
    else
      proof.verdict = Proof::Verdict::passed;
  }
  /// Where it arrives instead.
  [[nodiscard]] std::string elsewhere(const Channel& of) const {
    for (const Channel& other : channels_) {
      if (other.quantity == of.quantity) continue;
      const std::complex<double> is = found(other);
      if (std::isnan(is.real()) || std::abs(is) < 0.5 * of.level || other.unit != of.unit) continue;
      return fmt::format("swapped: it arrives at {} (terminal {})",
                         other.wire.input.empty() ? other.wire.signal : other.wire.input,
                         other.wire.terminal);
    }
    return "dead: nothing arrives";
  }

  void prove_contact(const Contact& contact) {
    Proof& proof = proofs_.emplace_back();
    proof.wire = contact.wire;
    proof.applied = "open, closed";
    silence();
    const AskId ask = run_->exchange().ask_of("bench." + contact.name);
    std::array<std::optional<bool>, 2> seen;
    for (const bool closed : {false, true}) {
      (void)run_->exchange().ask(ask, closed ? 1 : 0);
      play(options_.each_s);
      seen[closed ? 1 : 0] = is_closed(contact);
      if (closed && seen[1] == false) proof.remark = where_closed(contact);
    }
    (void)run_->exchange().ask(ask, 0);
    if (!seen[0] || !seen[1]) {
      proof.found = "-";
      proof.remark =
          "nobody tells: no loop to a contact of the same label, and its device does not say what it sees";
      return;
    }
    const auto word = [](bool closed) { return closed ? "closed" : "open"; };
    proof.found = fmt::format("{}, {}", word(*seen[0]), word(*seen[1]));
    proof.verdict = !*seen[0] && *seen[1] ? Proof::Verdict::passed : Proof::Verdict::failed;
    if (proof.verdict == Proof::Verdict::passed) return;
    if (*seen[0] && *seen[1]) proof.remark = "closed always";
    if (*seen[0] && !*seen[1]) proof.remark = "inverted";
  }
  [[nodiscard]] std::optional<bool> is_closed(const Contact& contact) {
    if (!contact.loop.empty()) return run_->exchange().on(run_->exchange().point_of(contact.loop));
    if (!contact.told) return std::nullopt;
    const double told = listener_->told(contact.wire.card, *contact.told).contact;
    if (std::isnan(told)) return std::nullopt;
    return told > 0.5;
  }
  [[nodiscard]] std::string where_closed(const Contact& of) {
    for (const Contact& other : contacts_) {
      if (other.name != of.name && is_closed(other) == true)
        return fmt::format("swapped: {} closes (terminal {})",
                           other.wire.input.empty() ? other.wire.signal : other.wire.input,
                           other.wire.terminal);
    }
    return "dead: it never closes";
  }

  /// Currents that make every protection trip.
  void prove_outputs() {
    struct Output {
      Wire wire;
      PointId point;
      std::optional<double> rose_s;
    };
    std::vector<Output> outputs;
    for (const Wire& wire : wires_of(setup_)) {
      if (!wire.port.starts_with("contact_in.") || wire.input.empty()) continue;
      outputs.push_back({wire, run_->exchange().point_of(wire.signal), {}});
    }
    if (outputs.empty()) return;
    silence();
    play(options_.each_s);
    for (std::size_t k = 0; k < channels_.size(); ++k) {
      const Channel& channel = channels_[k];
      const internal::RelayInput input = internal::relay_input(channel.wire.input);
      KnownQuantities::One& one = source_->all[k];
      const bool current = channel.unit == "A";
      one.rms = (current ? forced : 1) * channel.level;
      one.angle_rad = -2 * std::numbers::pi / 3 * static_cast<double>(input.quantity % 3);
    }
    const double begun_s = run_->exchange().time_s();
    play(forced_for_s, [&] {
      bool all = true;
      for (Output& output : outputs) {
        if (!output.rose_s && run_->exchange().on(output.point))
          output.rose_s = run_->exchange().time_s() - begun_s;
        all = all && output.rose_s.has_value();
      }
      return all;
    });
    for (const Output& output : outputs) {
      Proof& proof = proofs_.emplace_back();
      proof.wire = output.wire;
      proof.applied = fmt::format("{:g} times rated", forced);
      const bool always = output.rose_s && *output.rose_s < 2 * step_s;
      proof.found =
          output.rose_s ? fmt::format("closed after {}", print_rounded(*output.rose_s, "s", 3)) : "open";
      if (output.rose_s && !always) {
        proof.verdict = Proof::Verdict::passed;
      } else if (always) {
        proof.verdict = Proof::Verdict::failed;
        proof.remark = "closed always";
      } else if (output.wire.input == "trip" || output.wire.input == "start") {
        proof.verdict = Proof::Verdict::failed;
        proof.remark = "dead: it never closed";
      } else {
        proof.remark = "currents do not work it; work it at the device";
      }
    }
  }

  const Setup& setup_;
  ProofOptions options_;
  double frequency_Hz_;
  Setup reduced_;
  std::vector<Channel> channels_;
  std::vector<Contact> contacts_;
  std::map<std::string, std::size_t> contacts_of_;  // that a device reads
  std::vector<std::string> loops_;
  KnownQuantities* source_ = nullptr;
  Listener* listener_ = nullptr;
  std::optional<Run> run_;
  std::vector<Proof> proofs_;
};

}  // namespace

std::vector<Proof> prove(const Setup& setup, const ProofOptions& options) {
  return Prover(setup, options).prove();
}

std::string to_string(const std::vector<Proof>& proofs) {
  std::string text;
  for (const Proof& proof : proofs) {
    const char* word = proof.verdict == Proof::Verdict::passed   ? "pass"
                       : proof.verdict == Proof::Verdict::failed ? "FAIL"
                                                                 : "    ";
    text += fmt::format("{} {:<8} {:<16} {:<16} {:<8} applied {:<15} found {:<22} {}", word,
                        proof.wire.device, proof.wire.terminal, proof.wire.signal, proof.wire.input,
                        proof.applied, proof.found, proof.remark);
    text.erase(text.find_last_not_of(' ') + 1);
    text += '\n';
  }
  return text;
}

}  // namespace zavrek::bench
