// What can be wrong with a relay: a setting, or a wire in front of it. Coverage makes each of these and looks
// whether a programme finds it; the causes of a failed verdict are looked for among them.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial {

/// One thing wrong in one way: larger, smaller, or another word.
struct Mistake {
  enum class Kind {
    word,   ///< it is so, or not; no amount
    share,  ///< so many times as large
    added   ///< so much longer, higher, more
  };
  std::string device;   ///< "R1"; empty in element tests
  std::string what;     ///< "phase1 pickup", "current circuits"
  std::string before;   ///< as approved: "420 A", "straight"
  std::string behaves;  ///< "the pickup of phase1 were {} times as approved"
  Kind kind = Kind::word;
  struct Amount {
    std::string text;  ///< "+5 %", "-50 ms", "reversed"
    double by = 0;     ///< for `make`: a factor, or what is added, in SI units
  };
  std::vector<Amount> amounts;  ///< usual ones, the smallest first; one of a word
  double most = 0;              ///< amount to look up to
  std::string unit;             ///< of amounts that are added: "ms"
  /// Makes it at a device. False where settings cannot be so.
  std::function<bool(Device&, double by)> make;

  /// An amount as people write it: "+5 %", "-50 ms".
  [[nodiscard]] std::string shown(double by) const;
  /// From nothing at 0 to `most` at 1.
  [[nodiscard]] double amount_at(double place) const;
};

/// Settings of a relay: quantities by 5, 10 and 20 %, times by 20 and 50 ms, frequencies by 50, 100 and 200
/// mHz, angles by 10 and 30 degrees, either way; words by each other word; conditions left away.
[[nodiscard]] std::vector<Mistake> mistakes_in_settings(const protection::RelaySettings& settings);
/// In front of a device: phases exchanged, reversed or dead, ratios, at each of its places; inputs that are
/// not connected, or inverted.
[[nodiscard]] std::vector<Mistake> mistakes_in_wiring(const Device& device);
/// Both, of all relays of a case.
[[nodiscard]] std::vector<Mistake> mistakes_in(const Case& all);

}  // namespace zavrek::trial
