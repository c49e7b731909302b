// EtherCAT (IEC 61158-3/-4/-5/-6 type 12): a slave as a state machine that is given frames and the time, and
// changes frames as they pass: registers, FMMUs, sync managers, the states of the application layer, a
// mailbox with an object dictionary (CoE), the EEPROM with what it is, distributed clocks.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire {

inline constexpr std::uint16_t ethertype_ethercat = 0x88A4;

/// How an entry of the process image stands in it, low octet first.
enum class EtherCatType : std::uint8_t {
  boolean,  ///< one bit
  int8,
  natural8,
  int16,
  natural16,
  int32,
  natural32,
  float32,
  float64
};
[[nodiscard]] const std::vector<std::string>& ethercat_type_names();
[[nodiscard]] unsigned bits_of(EtherCatType type) noexcept;

struct EtherCatEntry {
  std::string name;
  EtherCatType type = EtherCatType::int16;
  std::size_t place = 0;  ///< of what is shown, or asked
};
struct EtherCatSettings {
  std::string name = "slave";
  std::uint32_t vendor = 0x00000A5A, product = 1, revision = 1, serial = 1;
  std::vector<EtherCatEntry> inputs;   ///< to the master
  std::vector<EtherCatEntry> outputs;  ///< of the master
};

/// States of the application layer (61158-6-12, 6.4).
enum class EtherCatState : std::uint8_t {
  init = 1,
  preoperational = 2,
  safe_operational = 4,
  operational = 8
};
[[nodiscard]] std::string to_string(EtherCatState state);

class EtherCatSlave {
 public:
  EtherCatSlave(EtherCatSettings settings, ProcessImage& image);
  ~EtherCatSlave();
  EtherCatSlave(const EtherCatSlave&) = delete;
  EtherCatSlave& operator=(const EtherCatSlave&) = delete;
  /// A whole Ethernet frame, changed in place; whether it is to be sent on.
  [[nodiscard]] bool pass(std::span<std::uint8_t> frame, Now now);
  /// What time brings: outputs that nobody writes any more end its operation (watchdog).
  void poll(Now now);
  [[nodiscard]] EtherCatState state() const noexcept;
  [[nodiscard]] const Traffic& traffic() const noexcept;
  /// Bytes of its process image, each way.
  [[nodiscard]] std::size_t input_bytes() const noexcept;
  [[nodiscard]] std::size_t output_bytes() const noexcept;

 private:
  class Body;
  std::unique_ptr<Body> body_;
};

/// What it is, as a description file in the standard's form (EtherCAT slave information, XML).
[[nodiscard]] std::string slave_description(const EtherCatSettings& settings);
/// The same in its EEPROM (61158-6-12, 5.4).
[[nodiscard]] std::vector<std::uint8_t> slave_eeprom(const EtherCatSettings& settings);

/// Raw frames of this ethertype on an interface.
class EtherCatLink {
 public:
  /// Throws Error.
  explicit EtherCatLink(const std::string& interface);
  ~EtherCatLink();
  EtherCatLink(const EtherCatLink&) = delete;
  EtherCatLink& operator=(const EtherCatLink&) = delete;
  [[nodiscard]] std::size_t receive(std::span<std::uint8_t> into) noexcept;
  [[nodiscard]] bool send(Bytes frame) noexcept;
  void wait(int most_ms) noexcept;
  /// Of the interface.
  [[nodiscard]] const std::array<std::uint8_t, 6>& address() const noexcept { return address_; }

 private:
  int socket_ = -1;
  std::array<std::uint8_t, 6> address_{};
};

}  // namespace zavrek::wire
