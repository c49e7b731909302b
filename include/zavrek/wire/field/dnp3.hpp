// DNP3 (IEEE 1815): outstation and master over TCP or a serial line. Data link frames with their sums (clause
// 9), the transport function (clause 8), and the application layer (clauses 4, 5 and 11, objects in annex A).
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire {

/// How an analogue stands on the wire.
enum class Dnp3Analogue : std::uint8_t { int32, int16, float32 };
[[nodiscard]] const std::vector<std::string>& dnp3_analogue_names();

struct Dnp3Binary {
  int index = 0;          ///< 0 ... 65,535
  std::size_t place = 0;  ///< of what is shown; at a master, of what is asked
  int event_class = 1;    ///< 1 ... 3; 0: no events, in class 0 only
};
struct Dnp3Number {
  int index = 0;
  std::size_t place = 0;
  int event_class = 2;
  Dnp3Analogue type = Dnp3Analogue::float32;
  double within = 0;  ///< dead band
};
struct Dnp3Output {
  int index = 0;
  std::size_t asked = 0;  ///< of what is asked; at a master, of what is shown
  std::size_t shown = 0;  ///< what it reads back
  bool select = false;    ///< selected before it is operated
  Dnp3Analogue type = Dnp3Analogue::float32;
  double within = 0;
};

struct Dnp3Settings {
  int address = 10;  ///< of the outstation, 0 ... 65,519
  int master = 1;
  std::vector<int> other_masters;  ///< that an outstation serves beside it
  std::vector<Dnp3Binary> binaries;
  std::vector<Dnp3Number> numbers;
  std::vector<Dnp3Output> controls;    ///< control relay output blocks
  std::vector<Dnp3Output> set_points;  ///< analogue outputs
  std::size_t most_events = 200;       ///< kept of each class
  bool unsolicited = true;             ///< an outstation may speak unasked; a master lets it
  bool takes_time = false;             ///< an outstation wants its clock set by the master
  double scan_s = 0.1;                 ///< between looks at numbers
  double select_time_s = 10;
  double confirmation_s = 5;            ///< that a response waits for its confirmation, an answer for coming
  double poll_s = 1, integrity_s = 60;  ///< of a master
};

/// Frames and fragments of one connection, with the first of `others` that speaks; or at once with the only
/// one.
class Dnp3Link : public Conversation {
 public:
  Dnp3Link(int own, std::vector<int> others, bool master, Traffic& traffic);
  void receive(Bytes bytes, Now now) override;

 protected:
  /// A fragment of the application layer, 2 octets at least; `broadcast`: to all outstations.
  virtual void take(Bytes fragment, bool broadcast, Now now) = 0;
  void put(Bytes fragment);
  /// Of the other side; negative until one has spoken.
  [[nodiscard]] int other() const noexcept { return other_; }

 private:
  [[nodiscard]] std::size_t take_frame(Bytes bytes, Now now);
  void take_link(std::uint8_t control, int source, Bytes data, bool broadcast, Now now);
  void take_segment(Bytes segment, bool broadcast, Now now);
  void put_frame(std::uint8_t control, Bytes data);

  int own_, other_;
  std::vector<int> others_;
  bool master_;
  Traffic& traffic_;
  std::vector<std::uint8_t> in_, fragment_;
  unsigned next_segment_ = 0, sent_segment_ = 0;
  bool gathers_ = false, reset_ = false, next_count_bit_ = false;
};

/// The outstation. Events wait until they are confirmed, the oldest make room and are counted; what is asked
/// is answered once the plant has done it. Masters are told apart by their addresses: each has events and a
/// sequence of its own, and its latest connection is the one that is served.
[[nodiscard]] std::unique_ptr<Party> make_dnp3_outstation(Dnp3Settings settings, ProcessImage& image);

/// The master: an integrity poll at the start and from time to time, events between, the outstation's clock
/// when it wants that; what comes in is asked of the plant, what that shows goes out as controls and set
/// points when it has moved.
[[nodiscard]] std::unique_ptr<Party> make_dnp3_master(Dnp3Settings settings, ProcessImage& image);

}  // namespace zavrek::wire
