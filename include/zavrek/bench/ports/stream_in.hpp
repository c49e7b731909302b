#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Sampled values of somebody else that the bench reads: each is a number "NAME.VALUE".
struct StreamIn {
  std::string name;  ///< and the publisher's identifier, where `id` is empty
  std::string id;
  std::vector<std::string> values{"ia", "ib", "ic", "in", "va", "vb", "vc", "vn"};
  std::vector<std::string> sets;  ///< "WHAT: VALUE"
  int appid = 0x4000;
  double rate_Hz = network::unset;  ///< 80 per cycle when unset
  double delay_s = 1e-3;
  int revision = 0;  ///< 0: any
  std::string source;
  std::string when_silent = "end";
  double ends_after_s = 0.1;
  [[nodiscard]] const std::string& identifier() const { return id.empty() ? name : id; }
};

inline const network::Table& table(const StreamIn*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<StreamIn>(
          "stream_in",
          "sampled values (IEC 61850-9-2) of somebody else that the bench reads; NAME.VALUE is a current or "
          "a "
          "voltage as it was `delay` ago, between samples on the straight line; NAME.good is on while they "
          "come and are good, NAME.age the age of what is shown; settings for trials: NAME.loss, delay, "
          "jitter, duplicates, disorder, corruption (of its frames), NAME.accepts_test, "
          "NAME.accepts_simulated (0 or 1)")
          .text("id", &StreamIn::id, "identifier (svID) of the publisher; the name when left out",
                Need::optional)
          .text("source", &StreamIn::source,
                "hardware address that it publishes from; that of its first frame when left out",
                Need::optional)
          .texts(
              "values", &StreamIn::values,
              "names for its values, in order: \"i...\" for currents in mA, \"v...\" for voltages in 10 mV, "
              "\"-\" for what is passed over; a device in the plant's process may read it when it has ia "
              "to vc")
          .texts("sets", &StreamIn::sets,
                 "knobs of the plant or of its control that a value sets: [\"amplifier.current: ia\"]")
          .count("appid", &StreamIn::appid, within(0x4000, 0x7FFF), "application identifier of its frames")
          .quantity("rate", &StreamIn::rate_Hz, "Hz", within(100, 65'536),
                    "samples per second; 80 per cycle when left out", Need::optional)
          .quantity("delay", &StreamIn::delay_s, "ms", within(0, 0.1),
                    "age of what is shown: as long as a frame may take, or be missing, without being missed")
          .count("revision", &StreamIn::revision, within(0, 1'000'000'000),
                 "confRev that its data set was read for; others are not used; 0 for any")
          .choice("when_silent", &StreamIn::when_silent, {"end", "off"},
                  "what becomes of the run when nothing good comes: it ends after `ends_after` (and does not "
                  "begin before samples come), or goes on; NAME.good is off and its values are zero from a "
                  "quarter of a cycle beyond the delay on")
          .quantity("ends_after", &StreamIn::ends_after_s, "ms", within(0.005, 10),
                    "silence beyond the delay that ends the run; a busy computer holds a process back for a "
                    "few milliseconds")
          .build();
  return built;
}

}  // namespace zavrek::bench
