// Substation configuration (IEC 61850-6): what devices publish, and where.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "zavrek/error.hpp"
#include "zavrek/wire/ethernet.hpp"

namespace zavrek::scl {

/// Where a control block's frames go (Communication, ConnectedAP).
struct Address {
  wire::MacAddress destination{};
  std::uint16_t appid = 0;
  int vlan = 0, priority = 4;
  bool tagged = true;  ///< a VLAN is given
  int line = 0;
};

/// What a data set holds, in order; a structure (a reference without a data attribute) ahead of its members.
struct Entry {
  std::string reference;  ///< "LD0/PTRC1.Tr.general [ST]"
  std::string type;  ///< basic type: "BOOLEAN", "Dbpos", "Quality", "Timestamp", "INT32", "FLOAT32"; "" where
                     ///< the templates do not say; "structure"
  std::string of;    ///< description of the logical node that has it
  int members = 0;   ///< of a structure
  bool operator==(const Entry&) const = default;
};

/// A control block of sampled values.
struct Stream {
  std::string ied, name, reference, id, data_set;
  int revision = 1, rate = 80, mode = 0, group = 1;
  bool refresh_time = false, sample_rate = false, sends_data_set = false, simulated = false;
  std::vector<Entry> entries;
  std::optional<Address> address;
  int line = 0;
  [[nodiscard]] double samples_per_s(double frequency_Hz) const {
    return mode == 1 ? rate : mode == 2 ? 1.0 / rate : rate * frequency_Hz;
  }
};
/// A control block of GOOSE.
struct Message {
  std::string ied, name, reference, id, data_set;
  int revision = 1;
  std::optional<int> first_ms, slowest_ms;  ///< MinTime, MaxTime
  std::vector<Entry> entries;
  std::optional<Address> address;
  int line = 0;
};

struct Substation {
  std::string file;
  std::vector<std::string> ieds;
  std::vector<Stream> streams;
  std::vector<Message> messages;
};

/// Reads a file of any of the kinds ICD, IID, CID, SCD. Throws Error with all that is wrong, by line.
[[nodiscard]] Substation read(std::string_view text, const std::string& file);
/// As a configured device (CID) with one IED: what is read back is the same. Data sets are made of `entries`,
/// by their references.
[[nodiscard]] std::string write(const Substation& substation);

/// A table of what the file offers.
[[nodiscard]] std::string to_string(const Substation& substation);

inline constexpr std::size_t most_bytes = 64U << 20U;

}  // namespace zavrek::scl
