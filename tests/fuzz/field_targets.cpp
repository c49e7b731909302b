// Parties of field buses under what anybody may send: none crashes, hangs, or keeps more than it must.
#include "fuzz/field_targets.hpp"

#include <cstdio>
#include <cstdlib>
#include <string>
#include <vector>

#include "wire/field_parties.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/can.hpp"
#include "zavrek/wire/field/dnp3.hpp"
#include "zavrek/wire/field/ethercat.hpp"
#include "zavrek/wire/field/iec104.hpp"
#include "zavrek/wire/field/modbus.hpp"
#include "zavrek/wire/field/synchrophasor.hpp"

namespace zavrek::fuzz {
namespace {

using namespace wire;

void demand(bool holds, const char* what) {
  if (holds) return;
  std::fprintf(stderr, "does not hold: %s\n", what);
  std::abort();
}

/// Half a plant: what is asked is done, refused or left waiting in turn.
class Plant : public test::Desk {
 public:
  Plant() { shown = {1, 0, 1234.5, -7}; }
  Outcome outcome(std::uint64_t /*ticket*/) const override { return static_cast<Outcome>(++turn_ % 3); }

 private:
  mutable unsigned turn_ = 0;
};

/// The input in pieces of up to 37 octets, 0.3 s apart; `behead`: octets that come first.
void feed(Party& party, FieldInput input, std::vector<std::uint8_t> behead = {}) {
  Now now{1'000'000'000, 1'700'000'000'000'000'000};
  const auto talk = party.connected(now);
  if (!talk) return;
  talk->receive(behead, now);
  std::size_t sent = 0;
  for (std::size_t at = 0; at < input.size() && talk->over().empty();) {
    const std::size_t part = std::min<std::size_t>(1 + input[at] % 37, input.size() - at);
    now.steady_ns += 300'000'000;
    party.poll(now);
    talk->receive(input.subspan(at, part), now);
    talk->poll(now);
    sent += talk->out().size();
    talk->out().clear();
    at += part;
  }
  demand(sent < 4'000'000, "an answer is in proportion");
}

Iec104Settings telecontrol_settings() {
  Iec104Settings settings;
  settings.points = {{1, Iec104Kind::single_point, 0},
                     {2, Iec104Kind::double_point, 1, 0, 3},
                     {3, Iec104Kind::real, 2},
                     {4, Iec104Kind::scaled, 3},
                     {5, Iec104Kind::normalised, 3}};
  settings.commands = {{11, Iec104Kind::single_point, 0, true},
                       {12, Iec104Kind::double_point, 1},
                       {13, Iec104Kind::real, 2},
                       {14, Iec104Kind::scaled, 3},
                       {15, Iec104Kind::normalised, 3}};
  return settings;
}
Dnp3Settings dnp_settings() {
  Dnp3Settings settings;
  settings.binaries = {{0, 0, 1}, {7, 1, 2}};
  settings.numbers = {{0, 2, 2}, {1, 3, 3, Dnp3Analogue::int16}, {2, 2, 0, Dnp3Analogue::int32}};
  settings.controls = {{0, 0, 0, true}, {1, 1, 1}};
  settings.set_points = {{0, 2, 2}, {3, 3, 3, false, Dnp3Analogue::int16}};
  settings.takes_time = true;
  return settings;
}

std::uint16_t frame_sum(const std::vector<std::uint8_t>& octets, std::size_t from) {
  unsigned sum = 0;
  for (std::size_t k = from; k < octets.size(); ++k) {
    sum ^= octets[k];
    for (int bit = 0; bit < 8; ++bit) sum = (sum & 1U) != 0 ? sum >> 1U ^ 0xA6BCU : sum >> 1U;
  }
  return static_cast<std::uint16_t>(~sum);
}
/// Fragments of the input (their length in front) as frames whose sums are right.
std::vector<std::uint8_t> in_frames(FieldInput input, bool of_master) {
  std::vector<std::uint8_t> out;
  unsigned segment = 0;
  const auto sum_up = [&](std::size_t from) {
    const std::uint16_t sum = frame_sum(out, from);
    out.push_back(static_cast<std::uint8_t>(sum));
    out.push_back(static_cast<std::uint8_t>(sum >> 8U));
  };
  while (input.size() > 1) {
    const std::size_t size = std::min<std::size_t>(input[0] % 200, input.size() - 1);
    const auto fragment = input.subspan(1, size);
    input = input.subspan(1 + size);
    const std::size_t from = out.size();
    const auto master = static_cast<std::uint8_t>(1), outstation = static_cast<std::uint8_t>(10);
    out.insert(out.end(), {5, 0x64, static_cast<std::uint8_t>(6 + size),
                           static_cast<std::uint8_t>(of_master ? 0xC4 : 0x44),
                           of_master ? outstation : master, 0, of_master ? master : outstation, 0});
    sum_up(from);
    std::vector<std::uint8_t> data{static_cast<std::uint8_t>(0xC0U | (segment++ & 63U))};
    data.insert(data.end(), fragment.begin(), fragment.end());
    for (std::size_t at = 0; at < data.size(); at += 16) {
      const std::size_t begin = out.size();
      out.insert(out.end(), data.begin() + static_cast<std::ptrdiff_t>(at),
                 data.begin() + static_cast<std::ptrdiff_t>(std::min(at + 16, data.size())));
      sum_up(begin);
    }
  }
  return out;
}

/// Parts of the input (kind and length in front) as frames of C37.118 whose sums are right.
std::vector<std::uint8_t> in_phasor_frames(FieldInput input) {
  std::vector<std::uint8_t> out;
  while (input.size() > 2) {
    const std::size_t size = std::min<std::size_t>(input[1], input.size() - 2);
    std::vector<std::uint8_t> frame{0xAA, static_cast<std::uint8_t>(input[0] & 0x7F),
                                    0,    static_cast<std::uint8_t>(16 + size),
                                    0,    7,
                                    0x65, 0x53,
                                    0,    0,
                                    0,    0,
                                    0,    0};
    frame[2] = static_cast<std::uint8_t>((16 + size) >> 8U);
    frame.insert(frame.end(), input.begin() + 2, input.begin() + 2 + static_cast<std::ptrdiff_t>(size));
    input = input.subspan(2 + size);
    unsigned sum = 0xFFFF;
    for (const std::uint8_t octet : frame) {
      sum ^= static_cast<unsigned>(octet) << 8U;
      for (int bit = 0; bit < 8; ++bit)
        sum = ((sum & 0x8000U) != 0 ? sum << 1U ^ 0x1021U : sum << 1U) & 0xFFFFU;
    }
    frame.push_back(static_cast<std::uint8_t>(sum >> 8U));
    frame.push_back(static_cast<std::uint8_t>(sum));
    out.insert(out.end(), frame.begin(), frame.end());
  }
  return out;
}

ModbusMap meter(bool serial) {
  ModbusMap map;
  map.serial = serial;
  map.points = {{ModbusTable::input_registers, 0, RegisterType::float32, 2, std::nullopt},
                {ModbusTable::holding_registers, 10, RegisterType::int16, 3, 0},
                {ModbusTable::holding_registers, 11, RegisterType::int64, 2, 1},
                {ModbusTable::discrete_inputs, 0, RegisterType::int16, 0, std::nullopt},
                {ModbusTable::coils, 5, RegisterType::int16, 1, 2}};
  return map;
}

}  // namespace

void modbus(FieldInput input) {
  Plant plant;
  const auto server = make_modbus_server(meter(false), plant);
  feed(*server, input);
}
void modbus_line(FieldInput input) {
  Plant plant;
  const auto server = make_modbus_server(meter(true), plant);
  feed(*server, input);
}
void telecontrol(FieldInput input) {
  Plant plant;
  const auto station = make_iec104_station(telecontrol_settings(), plant);
  feed(*station, input, {0x68, 4, 7, 0, 0, 0});
}
void telecontrol_master(FieldInput input) {
  Plant plant;
  const auto master = make_iec104_controller(telecontrol_settings(), plant);
  feed(*master, input, {0x68, 4, 0x0B, 0, 0, 0});
}
void dnp_link(FieldInput input) {
  Plant plant;
  const auto outstation = make_dnp3_outstation(dnp_settings(), plant);
  feed(*outstation, input);
}
void dnp_outstation(FieldInput input) {
  Plant plant;
  const auto outstation = make_dnp3_outstation(dnp_settings(), plant);
  feed(*outstation, in_frames(input, true));
}
void dnp_master(FieldInput input) {
  Plant plant;
  const auto master = make_dnp3_master(dnp_settings(), plant);
  feed(*master, in_frames(input, false));
}
void phasor_unit(FieldInput input) {
  SynchrophasorConfiguration configuration;
  configuration.id = 7;
  configuration.phasors = {{"VA", false, 4, 1e4}};
  SynchrophasorUnit unit(configuration, "header");
  feed(unit, in_phasor_frames(input));
  feed(unit, input);
}
void phasor_client(FieldInput input) {
  std::size_t heard = 0;
  SynchrophasorClient client(
      7, [&](const SynchrophasorConfiguration& configuration, const SynchrophasorData& data, Now) {
        demand(data.phasors.size() == configuration.phasors.size(), "data fit their configuration");
        ++heard;
      });
  feed(client, in_phasor_frames(input));
}
void can_database(FieldInput input) {
  try {
    const CanDatabase database =
        parse_can_database({reinterpret_cast<const char*>(input.data()), input.size()}, "fuzz.dbc");
    std::array<std::uint8_t, 64> data{};
    Count cut;
    for (const CanMessage& message : database.messages) {
      for (const CanSignal& signal : message.signals) {
        put_signal(std::span(data).first(message.size), signal, 17.25, cut);
        (void)take_signal(Bytes(data).first(message.size), signal);
      }
    }
  } catch (const Error& error) {
    demand(std::string(error.what()).starts_with("fuzz.dbc:"), "an error names its line");
  }
}
void can_datagram(FieldInput input) {
  CanFrame frame;
  if (!unpack_can(input, frame)) return;
  demand(frame.size <= 64, "a frame holds 64");
  CanFrame again;
  demand(unpack_can(pack_can(frame, 1), again) && again.id == frame.id && again.size == frame.size,
         "it is written as read");
}
void ethercat(FieldInput input) {
  Plant plant;
  EtherCatSettings settings;
  settings.inputs = {{"a", EtherCatType::int16, 2}, {"b", EtherCatType::boolean, 0}};
  settings.outputs = {{"c", EtherCatType::float64, 0}, {"d", EtherCatType::boolean, 1}};
  EtherCatSlave slave(settings, plant);
  std::int64_t now_ns = 0;
  while (input.size() > 1) {
    const std::size_t size = std::min<std::size_t>(input[0], input.size() - 1);
    std::vector<std::uint8_t> frame(14, 0xFF);
    frame.push_back(static_cast<std::uint8_t>(size));
    frame.push_back(0x10);
    frame.insert(frame.end(), input.begin() + 1, input.begin() + 1 + static_cast<std::ptrdiff_t>(size));
    input = input.subspan(1 + size);
    now_ns += 10'000'000;
    (void)slave.pass(frame, {now_ns, 0});
    slave.poll({now_ns, 0});
  }
}

}  // namespace zavrek::fuzz
