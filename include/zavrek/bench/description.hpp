#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "zavrek/bench/registry.hpp"
#include "zavrek/control.hpp"
#include "zavrek/network.hpp"
#include "zavrek/protection.hpp"

namespace zavrek::bench {

using network::Table;
using network::unset;

/// A relay and how it is connected. Its place decides which ports it has: none in the plant's process, else a
/// subscription to its outputs.
struct Device {
  std::string name;
  std::string place = "process";     ///< "plant": same process; "process": own process, started by the run;
                                     ///< "outside": already there, on the interface
  std::string connected = "frames";  ///< or "terminals", or "both", where it is not in the plant's process
  std::string settings;              ///< file, relative to the case: what a stand-in runs with
  std::string approved;              ///< file with the settings it should have; `settings` when empty
  std::string model, serial;         ///< for reports
  std::vector<std::string> reads;    ///< streams, one for each of its places
  std::vector<std::string> trips;    ///< what its trip opens: breakers, contactors, gates
  std::vector<std::string> opens;    ///< "WHAT: OUTPUT"
  std::vector<std::string> closes;   ///< "WHAT: OUTPUT"
  std::vector<std::string> inputs;   ///< "NAME: POINT", on while that is
  int appid = 1;                     ///< of its GOOSE
  std::string id;                    ///< goID of that; its name when empty
  std::vector<std::string> entries;  ///< its data set; all outputs as booleans when empty
  int revision = 0;                  ///< confRev of that; 0: any
  std::string when_silent = "end";   ///< see Subscription
  std::string publishes;             ///< svID of its samples, where it is connected to both
  int publishes_appid = 0x4000;
  std::string clocked_by;  ///< its input that brings IRIG-B
  std::string source;      ///< hardware address of that, where it is outside; empty: of its first message
  /// Faults in the wiring to a relay in the plant's process, one of `wirings`, and wrong ratios in front of
  /// it.
  std::string current_wiring = "straight", voltage_wiring = "straight";
  double current_factor = 1, voltage_factor = 1;
  int miswired_place = 1;  ///< the one of its places where that is
  [[nodiscard]] bool miswired() const {
    return current_wiring != "straight" || voltage_wiring != "straight" || current_factor != 1 ||
           voltage_factor != 1;
  }
  static const std::vector<std::string>& wirings();
  /// Measures there, and has contacts.
  [[nodiscard]] bool at_terminals() const { return connected != "frames"; }
  /// Has messages.
  [[nodiscard]] bool by_frames() const { return connected != "terminals"; }
  [[nodiscard]] const std::string& identifier() const { return id.empty() ? name : id; }
  /// Of its message, as texts.
  [[nodiscard]] std::vector<std::string> data_set() const {
    return entries.empty() ? protection::outputs_of(relay) : entries;
  }
  protection::RelaySettings relay;           ///< from `settings`
  protection::RelaySettings approved_relay;  ///< from `approved`; expectations follow these
};
const Table& table(const Device*);

/// What stands between plant and devices.
struct Bench {
  std::string interface = "lo";
  std::string medium = "automatic";  ///< "automatic", "raw" or "datagram"
  std::vector<std::string> record;   ///< further signals and points to record
  /// Contacts that people operate, "remote" or "remote: closed"; devices read them as "bench.remote", trials
  /// set them to 0 or 1.
  std::vector<std::string> contacts;
  std::string scl;                 ///< configuration of the substation (IEC 61850-6), relative to the case
  std::string ied;                 ///< as which the bench publishes in it
  std::string clock = "computer";  ///< or "ptp", or "pulse": what the second is
  std::string clock_device = "/dev/ptp0";
  std::string clock_daemon;  ///< socket of the PTP daemon that says how well it is synchronised
  int clock_domain = 0;
  double clock_within_s = 10e-6;
  std::string clock_pulse;              ///< point that rises at the full second
  std::string clock_reach = "global";   ///< or "local": of a clock that no daemon is asked about
  std::string begins = "at once";       ///< or "on the second"
  std::string frames_by = "automatic";  ///< "plant" or "thread": who sends frames
  double catches_up_at = 0;     ///< times real time, of a paced run behind a hold-up; 0: as fast as it goes
  double ends_when_late_s = 0;  ///< a step that begins so late ends a paced run; 0: none does
  double listen_s = 0.6;        ///< ahead of the first frame, whether somebody else speaks as the bench will
  int points_per_cycle = 80;    ///< of the records; the streams have 80
  std::vector<PortSettings> ports;
  std::vector<Device> devices;
  std::string control = "plant";  ///< "plant": blocks in the plant's process; "process": in one of their own,
                                  ///< started by the run; "outside": already there, at `control_port`
  int control_port = 0;           ///< of this computer; 0 for any when the run starts the process
  std::string control_key;        ///< file, relative to the case, with the key of one that is outside
  std::string libraries = "housed";  ///< of `own` blocks: "housed", each in a process of its own, or
                                     ///< "trusted", in that of the control
  int control_delay = 1;  ///< periods from what the control saw to what it does, when not in the plant

  /// The ports of one kind, in order.
  template <class Kind>
  [[nodiscard]] std::vector<const Kind*> all() const {
    std::vector<const Kind*> found;
    for (const PortSettings& port : ports) {
      if (const Kind* one = std::get_if<Kind>(&port)) found.push_back(one);
    }
    return found;
  }
  [[nodiscard]] const Stream* find_stream(std::string_view name) const;
  /// What is in front of the phase letter in the names of what a stream measures, of the bench's own or of
  /// somebody else's: "CT1.i" and "VT0.v".
  struct Stems {
    std::string current, voltage;
  };
  [[nodiscard]] Stems stems_of(std::string_view stream) const;
  [[nodiscard]] const Device* find_device(std::string_view name) const;
};
const Table& table(const Bench*);

/// A primary system, its control, and all that is connected to them.
struct Setup {
  std::filesystem::path folder;
  network::Network network;
  control::Description control;
  Bench bench;
  control::OwnMaker own_code;     ///< gives the classes that `own` blocks name by `code`; set by a program
  control::OwnMaker own_library;  ///< gives what they name by `library`, in place of that; set by a program
  /// Gives the equations that an own_element names by `code`; set by a program.
  std::function<std::shared_ptr<const network::OwnLaw>(const network::OwnElement&)> own_laws;

  // Compiled once: to copy all kinds of them costs every other source seconds.
  Setup();
  Setup(const Setup&);
  Setup(Setup&&) noexcept;
  Setup& operator=(const Setup&);
  Setup& operator=(Setup&&) noexcept;
  ~Setup();
};

/// Gives the code of `own` blocks: libraries in the folder of the case, and the program's own. Of a control
/// `elsewhere` this process only asks for names: then none is loaded into it, trusted or not.
[[nodiscard]] control::OwnMaker own_maker(const Setup& setup, bool elsewhere = false);

/// Opens the libraries of own elements, and asks the program for those that it gives; ahead of compile.
/// Throws Error.
void open_laws(Setup& setup);
/// The same of nothing: each stands as if it were not there. Returns a note on each.
std::vector<std::string> leave_laws_out(Setup& setup);

/// What a bench says in one place of its terminals and means in another: binary inputs of devices that
/// contacts feed.
void complete(Bench& bench);

/// References and values of the bench that do not hold together, or not with the network.
[[nodiscard]] std::vector<Flaw> validate(const Setup& setup);

inline constexpr int samples_per_cycle = 80;  ///< of streams, and of what relays see

}  // namespace zavrek::bench
