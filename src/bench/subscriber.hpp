// Follows one GOOSE publisher: its entries become points, ahead of the step behind their arrival.
#pragma once

#include <cstdint>
#include <string>

#include "bench/output_points.hpp"
#include "zavrek/bench/port.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {

class Subscriber final : public FrameListener {
 public:
  /// `source`: the address it publishes from; empty: that of its first message.
  Subscriber(std::string port, const std::string& id, int appid, const std::string& source);

  void open(Frames& frames) { frames.join(*this, appid_); }
  void take_frame(wire::Bytes frame, std::int64_t now_ns) noexcept override;
  /// Tells what the latest message holds.
  void tell(Exchange& exchange, const OutputPoints& points) noexcept;
  /// It never was, or still keeps its promise to be heard again.
  [[nodiscard]] bool well() const noexcept { return !silent_; }
  /// Ahead of the run: whether it was heard, and nobody else as it.
  [[nodiscard]] bool ready() noexcept;
  /// Somebody else was: nobody knows whom to believe.
  [[nodiscard]] bool contested() const noexcept { return contested_; }
  /// Why what it told cannot be trusted, or why it is mute; empty when all is well.
  [[nodiscard]] std::string failure(const std::string& name, const char* what = "message") const;
  [[nodiscard]] const Account& account() const noexcept { return account_; }

 private:
  std::uint16_t appid_;
  wire::GooseSubscriber subscriber_;
  Account account_;
  bool news_ = false;
  bool silent_ = false;
  bool contested_ = false;
  double last_heard_s_ = 0;  // plant time
};

}  // namespace zavrek::bench::internal
