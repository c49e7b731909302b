#include "zavrek/bench/description.hpp"

namespace zavrek::bench {

using network::Need;
using network::TableOf;
using network::within;

const std::vector<std::string>& Device::wirings() {
  static const std::vector<std::string> all{
      "straight",   "a and b swapped", "b and c swapped", "c and a swapped", "reversed", "a reversed",
      "b reversed", "c reversed",      "a dead",          "b dead",          "c dead"};
  return all;
}

const Table& table(const Device*) {
  static const Table built =
      TableOf<Device>("device", "a relay and how it is connected")
          .choice("place", &Device::place, {"process", "plant", "outside"},
                  "its own process, started by the run; inside the plant's process; or already there on the "
                  "interface")
          .choice(
              "connected", &Device::connected, {"frames", "terminals", "both"},
              "how, where it is not in the plant's process: by sampled values and GOOSE; by volts, "
              "amperes and contacts at the terminals of a card, whose ports name it as their device; or "
              "both: it measures and has contacts there, inputs that no contact brings and all outputs go "
              "by GOOSE, and with `publishes` its samples too, as of a merging unit")
          .text("settings", &Device::settings, "file with its settings, relative to the case")
          .text("approved", &Device::approved,
                "file with the settings it should have, which expectations follow; the same when left out",
                Need::optional)
          .text("model", &Device::model, "its maker's name and type, for reports", Need::optional)
          .text("serial", &Device::serial, "its serial number, for reports", Need::optional)
          .texts("reads", &Device::reads, "streams that it reads, one for each of its places", Need::required)
          .texts("trips", &Device::trips,
                 "what its trip opens: breakers, contactors, gates (which are blocked)")
          .texts("opens", &Device::opens, "what other outputs open: [\"QI: backup\"]")
          .texts("closes", &Device::closes, "what outputs close: [\"Q1: close\"]")
          .texts("inputs", &Device::inputs,
                 "binary inputs, from outputs of other devices, from breakers, switches and contactors that "
                 "are closed, "
                 "from contacts, or from signals, on above one half: [\"block: R1.start\", \"open: not Q1\"]")
          .count("appid", &Device::appid, within(0, 0x3FFE), "application identifier of its GOOSE messages")
          .text("id", &Device::id, "goID of its messages; its name when left out", Need::optional)
          .texts(
              "entries", &Device::entries,
              "data set of its messages, written as that of a subscription: [\"start\", \"{ trip, quality of "
              "trip, time of trip }\"]; its outputs, start and trip first, as booleans when left out")
          .count("revision", &Device::revision, within(0, 1'000'000'000),
                 "confRev that its data set was read for; messages of another are not used; 0 for any")
          .choice("when_silent", &Device::when_silent, {"end", "keep", "off"},
                  "what becomes of the run when it breaks its promise to be heard again: it ends, or goes on "
                  "with its last outputs, or with all of them off")
          .text("publishes", &Device::publishes,
                "identifier (svID) under which it publishes what it measures at its first place, where it is "
                "connected to both",
                Need::optional)
          .count("publishes_appid", &Device::publishes_appid, within(0x4000, 0x7FFF),
                 "application identifier of these sampled values")
          .text(
              "clocked_by", &Device::clocked_by,
              "input of it, at a contact_out, that brings IRIG-B (see time_code), by which it numbers these; "
              "the computer's clock when left out",
              Need::optional)
          .text("source", &Device::source,
                "hardware address of its messages (\"02-5a-00-00-00-01\"), where it is outside; that of the "
                "first "
                "when left out",
                Need::optional)
          .choice("current_wiring", &Device::current_wiring, Device::wirings(),
                  "how its current circuits are wired, to try what a mistake does; of a relay in the plant's "
                  "process")
          .choice("voltage_wiring", &Device::voltage_wiring, Device::wirings(),
                  "the same of its voltage circuits")
          .quantity("current_factor", &Device::current_factor, "", network::above(0),
                    "wrong ratio in front of it, to try what that does; of a relay in the plant's process")
          .quantity("voltage_factor", &Device::voltage_factor, "", network::above(0),
                    "the same of its voltages")
          .count("miswired_place", &Device::miswired_place, within(1, 8),
                 "place where its wiring or its ratios are wrong, counted from 1")
          .build();
  return built;
}

const Table& table(const Bench*) {
  static const Table built =
      TableOf<Bench>("bench", "what stands between plant and devices")
          .text("interface", &Bench::interface, "network interface that carries the frames")
          .choice(
              "medium", &Bench::medium, {"automatic", "raw", "datagram"},
              "raw packet socket, or the same frames in local datagrams; automatic takes raw where allowed")
          .quantity("listen", &Bench::listen_s, "s", within(0, 60),
                    "time ahead of the first frame to hear whether somebody else already publishes under an "
                    "identifier of the bench; slow publishers repeat theirs after seconds")
          .text("scl", &Bench::scl,
                "configuration of the substation (IEC 61850-6: SCD, CID), relative to the case: streams, "
                "messages, subscriptions and devices take from it what the bench leaves out, by their "
                "identifiers (smvID, appID); what it says otherwise is an error",
                Need::optional)
          .text("ied", &Bench::ied, "the IED in it as which the bench publishes; any when left out",
                Need::optional)
          .choice(
              "clock", &Bench::clock, {"computer", "ptp", "pulse"},
              "what the second is, at which smpCnt is zero, and where times of messages come from: the "
              "computer's clock, a hardware clock that PTP (IEEE 1588) sets, or a pulse each second; whether "
              "it is synchronised travels with them; trials set clock.lost to 1 where it shall not be")
          .text("clock_device", &Bench::clock_device, "the hardware clock")
          .text("clock_daemon", &Bench::clock_daemon,
                "local socket of the PTP daemon (\"/var/run/ptp4l\") that is asked each second how the clock "
                "stands: synchronised while its port follows a master, globally where that one's clockClass "
                "is 7 "
                "at most; nobody is asked when left out",
                Need::optional)
          .count("clock_domain", &Bench::clock_domain, within(0, 255), "PTP domain of that")
          .quantity("clock_within", &Bench::clock_within_s, "us", network::above(0),
                    "a clock that is further off its master counts as not synchronised")
          .text("clock_pulse", &Bench::clock_pulse,
                "point that rises at the full second, such as that of a contact_in: \"gps.second\"",
                Need::optional)
          .choice("clock_reach", &Bench::clock_reach, {"global", "local"},
                  "what pulses, and a hardware clock that no daemon is asked about, are synchronised to")
          .choice("begins", &Bench::begins, {"at once", "on the second"}, "when a paced run begins")
          .choice("frames_by", &Bench::frames_by, {"automatic", "plant", "thread"},
                  "who sends frames: the plant's thread, between steps, or a thread of their own, which "
                  "looks every 10 us; automatic takes that for paced steps of 25 us and less where there "
                  "is a second processor")
          .quantity(
              "catches_up_at", &Bench::catches_up_at, "", within(0, 100),
              "how fast a paced run goes on behind a hold-up, in times real time (above 1), so that what is "
              "outside can follow; 0: as fast as it goes")
          .quantity("ends_when_late", &Bench::ends_when_late_s, "s", within(0, 3600),
                    "a step that begins so much behind its tick ends a paced run; 0: none does")
          .texts("record", &Bench::record,
                 "further signals of the plant and outputs of its control to record")
          .texts("contacts", &Bench::contacts,
                 "that people operate: [\"close_q1\", \"remote: closed\"]; devices read bench.remote, trials "
                 "set it "
                 "to 0 or 1")
          .count("points_per_cycle", &Bench::points_per_cycle, within(80, 8000),
                 "samples of the records per cycle; the streams have 80")
          .choice("control", &Bench::control, {"plant", "process", "outside"},
                  "where the control runs: in the plant's process, in its own, or one that is there already")
          .choice("libraries", &Bench::libraries, {"housed", "trusted"},
                  "where libraries of `own` blocks run: each in a process of its own, with limits and a "
                  "watchdog, or in that of the control, where what they do wrong may end it")
          .count("control_port", &Bench::control_port, within(0, 65535),
                 "UDP port of this computer at which it listens; 0: any, when the run starts it")
          .text("control_key", &Bench::control_key,
                "file, relative to the case, with the key (32 hexadecimal digits) of a control that is there "
                "already; without one it follows whoever asks first",
                Need::optional)
          .count("control_delay", &Bench::control_delay, within(1, 100),
                 "periods from what a control elsewhere saw to what it does")
          .build();
  return built;
}

}  // namespace zavrek::bench
