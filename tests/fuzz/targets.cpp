#include "fuzz/targets.hpp"

#include <array>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "bench/co_simulation_unit.hpp"
#include "control/formula.hpp"
#include "engine/bundle.hpp"
#include "fuzz/field_targets.hpp"
#include "zavrek/bench/substation.hpp"
#include "zavrek/bench/wiring.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/record.hpp"
#include "zavrek/scl.hpp"
#include "zavrek/wire.hpp"
#include "zavrek/wire/control_link.hpp"
#include "zavrek/wire/partner.hpp"
#include "zavrek/wire/ptp.hpp"

namespace zavrek::fuzz {
namespace {

using Input = std::span<const std::uint8_t>;

void require(bool holds, const char* what) {
  if (holds) return;
  std::fprintf(stderr, "does not hold: %s\n", what);
  std::abort();
}

std::string_view text_of(Input input) { return {reinterpret_cast<const char*>(input.data()), input.size()}; }

/// Runs what may throw Error, and nothing else.
template <class Body>
void may_refuse(Body&& body) {
  try {
    body();
  } catch (const Error& error) {
    require(*error.what() != '\0', "an error says something");
    require(std::string_view(error.what()).size() < 100'000, "an error is short");
  }
}

/// An answer says one thing, within its bounds.
void ptp(Input input) {
  const auto said = wire::ptp_answer(input, 0);
  if (!said) return;
  const int things = (said->offset_ns ? 1 : 0) + (said->master_class ? 1 : 0) + (said->state ? 1 : 0) +
                     (said->utc_offset_s ? 1 : 0);
  require(things <= 1, "an answer says one thing");
  require(things == 1 || said->about == wire::PtpData::time_properties, "and each says something");
  if (said->offset_ns) require(std::abs(*said->offset_ns) <= 0x1p47, "an offset of 64 bits");
}

/// What is taken is written as it is read again.
template <class Message, std::size_t Most>
void codec(Input input) {
  static Message taken, again;
  if (!decode(input, taken)) return;
  static std::array<std::uint8_t, Most> first, second;
  const std::size_t size = encode(taken, first);
  require(size > 0, "what was read fits");
  require(decode(Input(first).first(size), again), "what was written is read");
  const std::size_t twice = encode(again, second);
  require(twice == size &&
              std::equal(first.begin(), first.begin() + static_cast<std::ptrdiff_t>(size), second.begin()),
          "and is the same");
}

/// A subscriber's bookkeeping holds whatever comes.
void goose_follow(Input input) {
  wire::GooseSubscriber subscriber(0x0011, "R1");
  std::int64_t now_ns = 0;
  while (input.size() > 2) {
    const std::size_t size = std::min<std::size_t>(input[0] + 256U * (input[1] % 4U), input.size() - 2);
    const std::uint32_t state = subscriber.message().state;
    const bool heard = subscriber.heard();
    const bool taken = subscriber.take(input.subspan(2, size), now_ns += input[0] * 1'000'000LL);
    require(taken || subscriber.message().state == state, "what is not taken changes nothing");
    require(subscriber.heard() == (heard || taken), "heard is what was taken");
    require(subscriber.counts().lost >= 0 && subscriber.counts().late >= 0, "counts do not run over");
    input = input.subspan(2 + size);
  }
}

bool same(double a, double b) {
  return (std::isnan(a) && std::isnan(b)) || std::abs(a - b) <= 1e-6 * std::abs(b) + 1e-300;
}

/// Text of the configuration, a zero byte, data.
void comtrade(Input input) {
  const std::string_view all = text_of(input);
  const std::size_t zero = all.find('\0');
  if (zero == std::string_view::npos) return;
  may_refuse([&] {
    const record::Record read =
        record::from_comtrade({std::string(all.substr(0, zero)), std::string(all.substr(zero + 1))}, "f.cfg");
    for (const auto& analog : read.analogs)
      require(analog.samples.size() == read.time_s.size(), "as many samples as instants");
    const record::Record again =
        record::from_comtrade(record::to_comtrade(read, record::Encoding::float32), "g.cfg");
    require(again.analogs.size() == read.analogs.size(), "as many channels");
    for (std::size_t c = 0; c < read.analogs.size(); ++c) {
      double peak = 0;
      for (const double v : read.analogs[c].samples)
        peak = std::isfinite(v) ? std::max(peak, std::abs(v)) : peak;
      for (std::size_t k = 0; k < read.time_s.size(); ++k) {
        const double was = read.analogs[c].samples[k], is = again.analogs[c].samples[k];
        require(same(is, was) || std::abs(is - was) <= 1e-6 * peak, "samples come back");
      }
    }
  });
}

void information(Input input) {
  may_refuse([&] {
    record::Record read;
    record::take_information(text_of(input), "f.inf", read);
    record::Record again;
    record::take_information(record::to_information(read), "g.inf", again);
    require(again.events.size() == read.events.size() && again.facts.size() == read.facts.size(),
            "events and facts come back");
  });
}

/// What is read can be told, and, where it holds together, be taken by a bench.
void substation(Input input) {
  may_refuse([&] {
    const scl::Substation read = scl::read(text_of(input), "f.scd");
    (void)scl::to_string(read);
    bench::Setup setup;
    for (const scl::Message& message : read.messages) {
      bench::Subscription reading;
      reading.name = "s";
      reading.id = message.id;
      setup.bench.ports.emplace_back(std::move(reading));
    }
    (void)bench::take(read, setup);
  });
}

void wiring_list(Input input) {
  may_refuse([&] {
    const std::vector<bench::Wire> wires(3);
    (void)bench::differences(wires, text_of(input), "f.csv");
  });
}

void csv(Input input) {
  may_refuse([&] {
    const record::Record read = record::from_csv(text_of(input), "f.csv");
    const record::Record again = record::from_csv(record::to_csv(read), "g.csv");
    require(again.time_s.size() == read.time_s.size(), "as many rows");
  });
}

void network_file(Input input) {
  may_refuse([&] { (void)casefile::read_network_text(text_of(input), "network.toml"); });
}

void settings_file(Input input) {
  may_refuse([&] { (void)casefile::read_relay_settings_text(text_of(input), "R1.toml"); });
}

/// Files divided by lines "@ NAME".
void case_files(Input input) {
  std::string_view rest = text_of(input);
  std::map<std::string, std::string> texts;
  std::string name = "network.toml";
  while (!rest.empty()) {
    const std::string_view line = rest.substr(0, rest.find('\n'));
    rest.remove_prefix(std::min(rest.size(), line.size() + 1));
    if (line.starts_with("@ "))
      name = line.substr(2);
    else
      (texts[name] += line) += '\n';
  }
  may_refuse([&] { (void)casefile::read_case_texts(texts); });
}

void quantity(Input input) {
  const std::string text(text_of(input));
  may_refuse([&] {
    for (const char* unit : {"s", "V", "A", "ohm", ""}) {
      const double value = parse_quantity_as(text, unit);
      require(std::isfinite(value), "a quantity is finite");
    }
  });
}

/// No name leads out, whatever else is wrong.
void bundle(Input input) {
  may_refuse([&] {
    for (const auto& [name, content] : engine::internal::read_bundle(text_of(input)).files) {
      require(name.front() != '/' && ("/" + name + "/").find("/../") == std::string::npos,
              "a name stays inside");
      require(content.size() <= engine::internal::most_unpacked_bytes, "a file has its bound");
    }
  });
}

/// Whatever a unit's description says, no name of it leads elsewhere.
void unit_description(Input input) {
  may_refuse([&] {
    const auto unit = bench::internal::read_unit_description(std::string(text_of(input)));
    require(unit.identifier.find('/') == std::string::npos, "its library stands where libraries do");
    require(unit.version == "2.0" || unit.version == "3.0", "its version is known");
  });
}

void formula(Input input) {
  may_refuse([&] { (void)control::Formula(std::string(text_of(input))); });
}

/// Messages of the input, a length before each, as if they were to this run; none makes it crash, and what it
/// is given is a number.
class PartnerFeed final : public wire::PartnerWay {
 public:
  explicit PartnerFeed(Input input) : input_(input) {}
  bool send(wire::Bytes message) noexcept override {
    static wire::PartnerMessage said;
    if (decode(message, said)) run_ = said.run;
    ++sent_;
    return true;
  }
  std::size_t receive(std::span<std::uint8_t> into) noexcept override {
    if (input_.size() < 2) return 0;
    const std::size_t size = std::min<std::size_t>(input_[0] * 8U + input_[1] % 8U, input_.size() - 2);
    const std::size_t taken = std::min(size, into.size());
    std::copy_n(input_.begin() + 2, taken, into.begin());
    for (std::size_t k = 14; k < 22 && taken >= 22; ++k)
      into[k] = static_cast<std::uint8_t>(run_ >> 8U * (21 - k));
    input_ = input_.subspan(2 + size);
    return std::max<std::size_t>(taken, 1);
  }
  [[nodiscard]] std::string description() const override { return "a test"; }
  [[nodiscard]] long sent() const { return sent_; }

 private:
  Input input_;
  std::uint64_t run_ = 0;
  long sent_ = 0;
};

void partner(Input input) {
  codec<wire::PartnerMessage, wire::longest_partner_message>(input);
  PartnerFeed feed(input);
  wire::PartnerTalk talk(feed, {.leads = true, .step_s = 25e-6, .says = 2, .hears = 2, .names = "a\nb\n"});
  wire::Now now{1'000'000'000, 1'700'000'000'000'000'000};
  const std::array values{1.0, 2.0};
  talk.meet(now);
  for (std::int64_t step = 0; step < 4; ++step) {
    talk.say(step, step - 1, values, now);
    now.steady_ns += 3'000'000;
    if (!talk.look(step, now) || !talk.has(step)) continue;
    for (const double value : talk.heard(step)) require(std::isfinite(value), "a number");
  }
  talk.end("", now);
  require(feed.sent() < 64 * 64 * 8, "an answer is in proportion");
}

}  // namespace

std::span<const Target> targets() {
  using namespace wire;
  static constexpr std::array all{
      Target{"goose", codec<Goose, longest_frame>},
      Target{"goose_follow", goose_follow},
      Target{"ptp", ptp},
      Target{"sampled_values", codec<SampledValues, longest_frame>},
      Target{"control_measure", codec<ControlMeasure, longest_control_message>},
      Target{"control_answer", codec<ControlAnswer, longest_control_message>},
      Target{"partner", partner},
      Target{"comtrade", comtrade},
      Target{"information", information},
      Target{"csv", csv},
      Target{"network", network_file},
      Target{"settings", settings_file},
      Target{"case", case_files},
      Target{"scl", substation},
      Target{"wiring", wiring_list},
      Target{"quantity", quantity},
      Target{"formula", formula},
      Target{"bundle", bundle},
      Target{"unit_description", unit_description},
      Target{"modbus", modbus},
      Target{"modbus_line", modbus_line},
      Target{"telecontrol", telecontrol},
      Target{"telecontrol_master", telecontrol_master},
      Target{"dnp_link", dnp_link},
      Target{"dnp_outstation", dnp_outstation},
      Target{"dnp_master", dnp_master},
      Target{"phasor_unit", phasor_unit},
      Target{"phasor_client", phasor_client},
      Target{"can_database", can_database},
      Target{"can_datagram", can_datagram},
      Target{"ethercat", ethercat},
  };
  return all;
}

}  // namespace zavrek::fuzz
