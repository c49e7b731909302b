// Messages of synchrophasor measurement (IEEE C37.118.2-2011): data, configurations 1 to 3, headers,
// commands; a unit that measures and a client that hears it.
#pragma once

#include <complex>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire {

struct SynchrophasorChannel {
  std::string name;       ///< 16 letters are sent
  bool current = false;   ///< else a voltage
  char component = 0;     ///< 0 zero, 1 positive, 2 negative sequence, 4 5 6 phase a b c
  double full_scale = 0;  ///< where numbers are integers: what 32,767 stands for
};
struct SynchrophasorConfiguration {
  std::string station = "unit";
  int id = 1;  ///< 1 ... 65,534
  bool polar = false, integers = false;
  std::vector<SynchrophasorChannel> phasors;
  std::vector<std::string> analogues;  ///< names
  std::vector<std::string> digitals;   ///< sixteen to a word
  int nominal_Hz = 50;
  int reports_per_s = 50;  ///< below 0: so many seconds apart
  char performance = 'P';
  double window_s = 0, delay_s = 0;  ///< of its filter
  int changes = 0;                   ///< of its configuration, so far
  std::uint32_t time_base = 1'000'000;
  [[nodiscard]] std::size_t digital_words() const noexcept { return (digitals.size() + 15) / 16; }
};
struct SynchrophasorData {
  std::int64_t utc_ns = 0;
  std::uint8_t time_quality = 0;  ///< indicator code: 0 locked, F failed
  std::uint16_t status = 0;
  std::vector<std::complex<double>> phasors;  ///< V or A
  double frequency_Hz = 50, rate_Hz_per_s = 0;
  std::vector<double> analogues;
  std::vector<bool> digitals;
};

enum class SynchrophasorFrame : std::uint8_t {
  data = 0,
  header = 1,
  configuration1 = 2,
  configuration2 = 3,
  command = 4,
  configuration3 = 5
};
enum class SynchrophasorCommand : std::uint16_t {
  data_off = 1,
  data_on = 2,
  send_header = 3,
  send_configuration1 = 4,
  send_configuration2 = 5,
  send_configuration3 = 6
};
/// Whole frames, sum included. Integers beyond 16 bits are cut off and counted.
[[nodiscard]] std::vector<std::uint8_t> encode(const SynchrophasorConfiguration& configuration,
                                               const SynchrophasorData& data, Count& saturated);
[[nodiscard]] std::vector<std::uint8_t> encode(const SynchrophasorConfiguration& configuration,
                                               SynchrophasorFrame kind, std::int64_t utc_ns);
[[nodiscard]] std::vector<std::uint8_t> encode_header(int id, const std::string& text, std::int64_t utc_ns);
[[nodiscard]] std::vector<std::uint8_t> encode_command(int id, SynchrophasorCommand command,
                                                       std::int64_t utc_ns);
/// The length that a frame says it has, from its first four octets; 0 for one that is none.
[[nodiscard]] std::size_t synchrophasor_size(Bytes head);
/// Whether the sum fits.
[[nodiscard]] bool is_whole_synchrophasor(Bytes frame);
/// Of whole frames. Nothing for one of another kind, or that does not hold together. Configurations 1 and 2
/// of one unit are read.
[[nodiscard]] std::optional<SynchrophasorConfiguration> take_configuration(Bytes frame);
[[nodiscard]] bool take_data(Bytes frame, const SynchrophasorConfiguration& configuration,
                             SynchrophasorData& data);

/// The unit: answers commands, and sends data to those who turned it on.
class SynchrophasorUnit final : public Party {
 public:
  explicit SynchrophasorUnit(SynchrophasorConfiguration configuration, std::string header);
  ~SynchrophasorUnit() override;
  std::unique_ptr<Conversation> connected(Now now) override;
  [[nodiscard]] const Traffic& traffic() const noexcept override;
  /// A report, to all that want data. One who does not read loses them, counted.
  void give(const SynchrophasorData& data);

 private:
  class Body;
  class Talk;
  std::unique_ptr<Body> body_;
};

/// The client: asks for the configuration, turns data on, and hands over what comes.
class SynchrophasorClient final : public Party {
 public:
  using Heard = std::function<void(const SynchrophasorConfiguration&, const SynchrophasorData&, Now)>;
  SynchrophasorClient(int id, Heard heard);
  ~SynchrophasorClient() override;
  std::unique_ptr<Conversation> connected(Now now) override;
  [[nodiscard]] const Traffic& traffic() const noexcept override;

 private:
  class Body;
  class Talk;
  std::unique_ptr<Body> body_;
};

}  // namespace zavrek::wire
