#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "zavrek/wire/field/ethercat.hpp"

namespace zavrek::wire {

/// A master of EtherCAT, as a stand-in of a programmable controller: finds the slaves in the order of their
/// places, reads from their EEPROMs what they are and what their process images hold, brings them into
/// operation and exchanges the images.
class EtherCatMaster {
 public:
  /// An entry of a slave's image, and where it stands in the master's.
  struct Entry {
    std::string name;
    std::uint16_t type =
        0;  ///< of the dictionary: 1 boolean, 2 3 4 whole numbers, 5 6 7 natural ones, 8, 0x11 floats
    unsigned bits = 0;
    std::size_t at = 0;  ///< bit
  };
  struct Slave {
    std::uint16_t station = 0;
    std::string name;
    std::uint32_t vendor = 0, product = 0, revision = 0, serial = 0;
    std::vector<Entry> inputs, outputs;
  };
  /// Sends a frame and gives back what comes of it within the time, or nothing.
  using Exchange = std::function<std::vector<std::uint8_t>(Bytes frame, std::int64_t within_ns)>;
  explicit EtherCatMaster(Exchange exchange);
  /// Throws Error where none answers, or one cannot be read.
  void scan();
  [[nodiscard]] const std::vector<Slave>& slaves() const noexcept { return slaves_; }
  /// All into operation. Throws Error with the state and the code of one that refuses.
  void start();
  /// One exchange of all images; false when it did not come back whole.
  [[nodiscard]] bool cycle(std::int64_t within_ns);
  void stop();
  /// Of an entry as it last came; of one that goes with the next cycle.
  [[nodiscard]] double input(const Entry& entry) const;
  [[nodiscard]] double output(const Entry& entry) const;
  void set(const Entry& entry, double value);

 private:
  struct Answer {
    std::vector<std::uint8_t> data;
    unsigned counter = 0;
  };
  [[nodiscard]] Answer ask(std::uint8_t command, std::uint32_t address, Bytes data, std::int64_t within_ns);
  [[nodiscard]] std::vector<std::uint8_t> read(std::uint16_t station, std::uint16_t at, std::size_t size);
  void write(std::uint16_t station, std::uint16_t at, Bytes data);
  [[nodiscard]] std::vector<std::uint8_t> eeprom(std::uint16_t station);
  void describe(Slave& slave, const std::vector<std::uint8_t>& eeprom);
  void bring(Slave& slave, EtherCatState state);
  [[nodiscard]] static double number(Bytes image, const Entry& entry);

  struct Manager {
    std::uint16_t at = 0, size = 0;
    std::uint8_t control = 0;
  };
  Exchange exchange_;
  std::uint8_t index_ = 0;
  std::vector<Slave> slaves_;
  std::vector<std::vector<Manager>> managers_;  // by slave
  std::vector<std::uint8_t> image_;             // outputs of all, then inputs of all
  std::size_t output_octets_ = 0;
  unsigned whole_counter_ = 0;
};

}  // namespace zavrek::wire
