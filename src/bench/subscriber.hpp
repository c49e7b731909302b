// Follows one GOOSE publisher: its entries become points, ahead of the step behind their arrival.
#pragma once

#include <string>

#include "bench/output_points.hpp"
#include "zavrek/bench/port.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {

class Subscriber final : public FrameListener {
 public:
  Subscriber(std::string port, const std::string& id, int appid);

  void open(Frames& frames) { frames.join(this); }
  void take_frame(wire::Bytes frame, std::int64_t now_ns) noexcept override;
  /// Tells what the latest message holds.
  void tell(Exchange& exchange, const OutputPoints& points) noexcept;
  [[nodiscard]] bool heard() const noexcept { return subscriber_.heard(); }
  /// It never was, or still keeps its promise to be heard again.
  [[nodiscard]] bool well() const noexcept { return !silent_; }
  [[nodiscard]] double last_heard_s() const noexcept { return last_heard_s_; }
  [[nodiscard]] const Account& account() const noexcept { return account_; }

 private:
  wire::GooseSubscriber subscriber_;
  Account account_;
  bool news_ = false;
  bool silent_ = false;
  double last_heard_s_ = 0;  // plant time
};

}  // namespace zavrek::bench::internal
