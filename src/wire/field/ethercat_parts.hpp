// Parts of an EtherCAT slave: its layout in memory, its object dictionary.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/wire/field/ethercat.hpp"

namespace zavrek::wire::internal {

/// Where things stand in the memory of the slave.
inline constexpr std::uint16_t mailbox_out_at = 0x1000, mailbox_in_at = 0x1080, mailbox_size = 0x80;
inline constexpr std::uint16_t outputs_at = 0x1100, inputs_at = 0x1400;
inline constexpr std::size_t most_image = 0x300;

/// Octets of an image: numbers whole, bits together behind them.
[[nodiscard]] std::size_t image_bytes(const std::vector<EtherCatEntry>& entries);
/// Numbers first, each behind the other, then bits.
struct EntryAt {
  std::size_t bit = 0;
};
[[nodiscard]] std::vector<EntryAt> image_layout(const std::vector<EtherCatEntry>& entries);
void put_entry(std::span<std::uint8_t> image, const EtherCatEntry& entry, EntryAt at, double value,
               Count& saturated);
[[nodiscard]] double take_entry(Bytes image, const EtherCatEntry& entry, EntryAt at);

/// An object: its entries from sub-index 0 on.
struct CoeEntry {
  std::string name;
  std::uint16_t type = 0;  ///< of the dictionary: 1 boolean ... 9 visible string
  std::uint16_t bits = 0;
  std::function<std::vector<std::uint8_t>()> read;
  std::function<bool(Bytes)> write;  ///< none: it is only read
};
struct CoeObject {
  std::uint16_t index = 0;
  std::uint16_t type = 0;
  std::uint8_t code = 7;  ///< 7 variable, 8 array, 9 record
  std::string name;
  std::vector<CoeEntry> entries;
};
/// `inputs` and `outputs` are the process images as they stand.
[[nodiscard]] std::vector<CoeObject> object_dictionary(const EtherCatSettings& settings,
                                                       std::span<const std::uint8_t> inputs,
                                                       std::span<const std::uint8_t> outputs);
/// The answer to a message in the mailbox, header included; empty for one that gets none.
[[nodiscard]] std::vector<std::uint8_t> answer_mailbox(const std::vector<CoeObject>& dictionary,
                                                       Bytes message, unsigned count);
[[nodiscard]] std::uint16_t coe_type(EtherCatType type);

}  // namespace zavrek::wire::internal
