// IEC 60870-5-104: telecontrol over TCP, controlled and controlling station. Frames (APCI, 104 clause 5),
// their numbering and supervision (clause 5.1 to 5.5: windows k and w, timeouts t1 to t3), and the
// application's data of IEC 60870-5-101 with causes of two octets, common addresses of two, object addresses
// of three.
#pragma once

#include <cstdint>
#include <deque>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire {

/// What an information object is.
enum class Iec104Kind : std::uint8_t {
  single_point,  ///< on or off
  double_point,  ///< two bits: off 1, on 2
  normalised,    ///< -1 ... 1, 16 bits
  scaled,        ///< a whole number of 16 bits
  real           ///< IEEE 754, 32 bits
};
[[nodiscard]] const std::vector<std::string>& iec104_kind_names();

struct Iec104Timing {
  double t1_s = 15;  ///< for an answer to what was sent
  double t2_s = 10;  ///< to the acknowledgement of what was received; below t1
  double t3_s = 20;  ///< of silence, until the connection is tested
  int k = 12;        ///< sent at most without acknowledgement
  int w = 8;         ///< acknowledged at the latest behind so many; not above two thirds of k
};

struct Iec104Point {
  int address = 1;  ///< of the object, 1 ... 16,777,215
  Iec104Kind kind = Iec104Kind::real;
  std::size_t place = 0;  ///< of what is shown
  double within = 0;      ///< by which it may move unsaid
  int group = 0;          ///< of interrogation, 1 ... 16; 0: of none
};
struct Iec104Command {
  int address = 1;
  Iec104Kind kind = Iec104Kind::single_point;
  std::size_t place = 0;  ///< of what is asked; at a controlling station, of what is shown
  bool select = false;    ///< selected before it is executed
  double within = 0;      ///< by which a set point may move unsaid
};

struct Iec104Settings {
  int common_address = 1;  ///< 1 ... 65,534
  Iec104Timing timing;
  std::vector<Iec104Point> points;
  std::vector<Iec104Command> commands;
  double scan_s = 0.1;             ///< between looks at numbers
  double select_time_s = 10;       ///< that a selection lasts
  double command_age_s = 10;       ///< of a command with a time tag, at most
  double interrogation_s = 60;     ///< of a controlling station: from one general interrogation to the next
  std::size_t most_events = 1000;  ///< kept for a connection, or until there is one
};

/// One side of a connection: frames in and out, numbered and supervised.
class Iec104Link : public Conversation {
 public:
  explicit Iec104Link(const Iec104Timing& timing, Traffic& traffic, bool controlling, Now now);
  void receive(Bytes bytes, Now now) override;
  void poll(Now now) override;
  [[nodiscard]] bool started() const noexcept { return started_; }

 protected:
  /// Data of the application came, 6 octets at least.
  virtual void take(Bytes asdu, Now now) = 0;
  /// Whether more may be queued; what is, is sent in order as the window allows.
  [[nodiscard]] std::size_t queued() const noexcept { return queue_.size(); }
  void put(std::vector<std::uint8_t> asdu) {
    if (queue_.size() >= most_queued) return end("nothing is acknowledged");
    queue_.push_back(std::move(asdu));
  }
  static constexpr std::size_t most_queued = 4096;

 private:
  enum class Unnumbered : std::uint8_t {
    start = 0x07,
    start_confirmed = 0x0B,
    stop = 0x13,
    stop_confirmed = 0x23,
    test = 0x43,
    test_confirmed = 0x83
  };
  void take_frame(Bytes frame, Now now);
  void take_unnumbered(std::uint8_t function);
  [[nodiscard]] bool acknowledge(unsigned number);
  void send_unnumbered(Unnumbered function);
  void send_supervisory();
  void send_waiting(Now now);

  Iec104Timing timing_;
  Traffic& traffic_;
  bool controlling_, started_ = false;
  std::vector<std::uint8_t> in_;
  std::deque<std::vector<std::uint8_t>> queue_;
  std::deque<std::int64_t> sent_ns_;  // of what is not acknowledged, oldest first
  unsigned next_sent_ = 0, next_received_ = 0, acknowledged_ = 0, told_ = 0;
  std::int64_t last_heard_ns_, first_untold_ns_ = 0, confirmation_due_ns_ = 0;  // 0: none is awaited
};

/// The controlled station: what moves is told with its time, an interrogation is answered with all, commands
/// are confirmed once the plant has done them, and refused where it does not. Its clock is not turned by
/// others.
[[nodiscard]] std::unique_ptr<Party> make_iec104_station(Iec104Settings settings, ProcessImage& image);

/// The controlling station: interrogates at the start and from time to time; what comes in is asked of the
/// plant, what the plant shows goes out as commands when it has moved.
[[nodiscard]] std::unique_ptr<Party> make_iec104_controller(Iec104Settings settings, ProcessImage& image);

}  // namespace zavrek::wire
