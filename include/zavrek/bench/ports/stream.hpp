#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/ports/addressed.hpp"
#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A merging unit: currents and voltages as one stream of samples.
struct Stream : Addressed {
  std::string name;  ///< and its identifier, where `id` is empty
  std::string ct;
  std::string vt;
  std::vector<std::string> carries;  ///< in order; those of `ct` and `vt` with their sums when empty
  int appid = 0x4000;
  std::string id;
  std::string data_set;
  std::vector<std::string> includes;
  double rate_Hz = network::unset;  ///< of samples; 80 per cycle when unset
  int group = 1;                    ///< samples in a frame
  int revision = 1;
  std::string published = "when read";
  [[nodiscard]] const std::string& identifier() const { return id.empty() ? name : id; }
  [[nodiscard]] double samples_per_s(double frequency_Hz) const {
    constexpr int as_relays_see = 80;
    return network::is_set(rate_Hz) ? rate_Hz : as_relays_see * frequency_Hz;
  }
};

inline constexpr double most_samples_per_s = 65'536;  ///< smpCnt counts no further within a second

inline const network::Table& table(const Stream*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      add_addressed(
          network::TableOf<Stream>(
              "stream",
              "sampled values of one merging unit (IEC 61850-9-2), primary values: currents "
              "in mA, voltages in 10 mV; settings for trials: NAME.loss, delay, jitter, "
              "duplicates, disorder, corruption (of its frames), NAME.invalid, questionable, "
              "test, operator_blocked, derived, simulation (0 or 1), frozen (values stand "
              "still), count_ahead (of smpCnt), synchronised (smpSynch; -1: as the clock is)")
              .element("ct", &Stream::ct,
                       "current transformers that it samples; needed where `carries` is left out",
                       Need::optional)
              .element("vt", &Stream::vt, "voltage transformers that it samples; likewise", Need::optional)
              .texts(
                  "carries", &Stream::carries,
                  "currents and voltages in the order of its data set, as signals of transformers or of the "
                  "plant, or \"CT1.in\", \"VT0.vn\" for their sums; when left out ia ib ic in of `ct`, va vb "
                  "vc vn of `vt`")
              .count("appid", &Stream::appid, within(0x4000, 0x7FFF), "application identifier of its frames")
              .text("id", &Stream::id, "its identifier (svID); its name when left out", Need::optional)
              .text("data_set", &Stream::data_set,
                    "reference of its data set (datSet); not sent when left out", Need::optional)
              .texts("includes", &Stream::includes,
                     "what its frames carry besides: \"refrTm\", \"smpRate\", \"smpMod\"")
              .quantity("rate", &Stream::rate_Hz, "Hz", within(100, most_samples_per_s),
                        "samples per second; 80 per cycle when left out", Need::optional)
              .count("group", &Stream::group, within(1, 16), "samples in a frame")
              .count("revision", &Stream::revision, within(0, 1'000'000'000), "confRev of its frames")
              .choice(
                  "published", &Stream::published, {"when read", "always"},
                  "when a device of the bench that is not in the plant's process reads it, or always: for "
                  "those whom the bench does not know"))
          .build();
  return built;
}

}  // namespace zavrek::bench
