// Converters and contacts: what stands between a bench and the terminals of a device.
#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <string>

namespace zavrek::card {

/// What a card has.
struct Limits {
  std::size_t analogue_outputs = 0, analogue_inputs = 0, contact_outputs = 0, contact_inputs = 0;
  double range_V = 10;
  int bits = 16;
};

/// An opened card.
class Card {
 public:
  virtual ~Card() = default;
  [[nodiscard]] virtual const Limits& limits() const noexcept = 0;
  /// All inputs as they are; false when the card did not answer.
  [[nodiscard]] virtual bool read(double* analogue, double* contacts) noexcept = 0;
  /// All outputs, which belong to `time_s` of the plant.
  [[nodiscard]] virtual bool write(const double* analogue, const double* contacts,
                                   double time_s) noexcept = 0;
  /// Whether what it carries are the quantities at the terminals (A, V), not those at the converters.
  [[nodiscard]] virtual bool carries_terminals() const noexcept { return false; }
  /// How often a device at the other side wrote; 0 where nobody can know.
  [[nodiscard]] virtual std::uint64_t device_writes() const noexcept { return 0; }
  /// What a device says of a terminal, where it can: see Board.
  struct Told {
    double rms, angle_rad, contact;
  };
  [[nodiscard]] virtual Told told(std::size_t terminal) const noexcept;
};

/// A shared library that implements zavrek/card.h. Throws Error.
[[nodiscard]] std::unique_ptr<Card> load_card(const std::filesystem::path& library,
                                              const std::string& address);

/// A terminal board in shared memory, "/dev/shm/zavrek-NAME": in one direction what the bench puts on the
/// terminals of devices, in the other what they put on theirs. Numbers in the order of bytes of the machine:
///
///     byte    0  "ZVBOARD1"
///             8  four counts of 32 bits: terminals for volts and amperes out and in, contacts out and in
///            24  count of 32 bits: inputs of which a device tells what it measures
///            28  process that serves as the bench (32 bits), 0 when it has gone
///            32  writes by the bench (64 bits)
///            40  writes by devices (64 bits)
///            48  time of the plant of the last write, s (64-bit float)
///            64  A or V at terminals, bench to devices (64 floats of 64 bits)
///           576  A or V at terminals, devices to bench (64)
///          1088  contacts, bench to devices (64): 0 open, else closed: 1 where dry, or the wetting volts
///          1600  contacts, devices to bench (64)
///          2112  rms that devices say they measure (64): each from a place of its own on, in the order of
///          its
///                inputs; NaN where they do not tell
///          2624  angle of that at the frequency of the device, rad, against the cosine of the plant's time
///          (64) 3136  contacts as devices say they see them (64), likewise: 0 open, 1 closed
///          3648  end
///
/// Every number is written whole, on its own.
class Board {
 public:
  static constexpr std::size_t terminals = 64;
  /// The side of the bench: makes it, with everything open and at zero. Throws Error when another process
  /// that still runs serves it.
  [[nodiscard]] static Board make(const std::string& name);
  /// Whether somebody serves it.
  [[nodiscard]] static bool there(const std::string& name);
  /// The side of a device. Throws Error when there is none.
  [[nodiscard]] static Board find(const std::string& name);
  Board(Board&& other) noexcept;
  Board& operator=(Board&&) = delete;
  Board(const Board&) = delete;
  Board& operator=(const Board&) = delete;
  ~Board();

  enum class Part : std::size_t {
    out = 64,
    in = 576,
    contacts_out = 1088,
    contacts_in = 1600,
    measured = 2112,
    angles = 2624,
    seen = 3136
  };
  [[nodiscard]] double get(Part part, std::size_t k) const noexcept;
  void put(Part part, std::size_t k, double value) noexcept;
  [[nodiscard]] std::uint64_t bench_writes() const noexcept;
  [[nodiscard]] std::uint64_t device_writes() const noexcept;
  [[nodiscard]] double time_s() const noexcept;  ///< of the plant, at the latest write of the bench
  void count_bench_write(double time_s) noexcept;
  void count_device_write() noexcept;
  /// False once the bench has gone.
  [[nodiscard]] bool served() const noexcept;

 private:
  Board(std::string path, unsigned char* bytes, bool made);
  std::string path_;
  unsigned char* bytes_;
  bool made_;
};

/// The terminal board as a card, on the side of the bench.
[[nodiscard]] std::unique_ptr<Card> board_card(const std::string& name);

}  // namespace zavrek::card
