// Follows one GOOSE publisher: its entries become points, ahead of the step behind their arrival.
#pragma once

#include <cstdint>
#include <string>

#include "bench/way.hpp"
#include "zavrek/bench/port.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {

class Subscriber final : public FrameListener {
 public:
  /// `owner`: whose settings "OWNER.loss" and so on spoil what comes in.
  Subscriber(std::string port, std::string owner, wire::Followed followed);

  void declare(Exchange& exchange);
  /// The settings of one whose outputs do not come by messages: they are there, and change nothing.
  static void declare_idle(Exchange& exchange, const std::string& owner);
  void open(Frames& frames) { frames.join(*this, wire::ethertype_goose, appid_); }
  void take_frame(wire::Bytes frame, std::int64_t now_ns) noexcept override;
  /// Ahead of each step: what is due of what came in; whether the latest message is news.
  [[nodiscard]] bool take(const Exchange& exchange) noexcept;
  [[nodiscard]] const wire::Goose& message() const noexcept { return subscriber_.message(); }
  /// Entries of a bad quality, which were not taken.
  void count_unfit(int entries) noexcept { unfit_entries_ += entries; }
  /// It never was, or still keeps its promise to be heard again, or is kept from it on purpose.
  [[nodiscard]] bool well() const noexcept { return !silent_ || way_.was_at_work(); }
  [[nodiscard]] bool silent() const noexcept { return silent_; }
  /// Ahead of the run: whether it was heard, and nobody else as it.
  [[nodiscard]] bool ready() noexcept;
  /// Somebody else was: nobody knows whom to believe.
  [[nodiscard]] bool contested() const noexcept { return contested_; }
  /// Why what it told cannot be trusted, or why it is mute where it `must_speak`; empty when all is well.
  [[nodiscard]] std::string failure(const std::string& name, const char* what = "message",
                                    bool must_speak = true) const;
  [[nodiscard]] Account account() const;

 private:
  void follow(wire::Bytes frame, std::int64_t now_ns) noexcept;
  std::string owner_;
  std::uint16_t appid_;
  wire::GooseSubscriber subscriber_;
  Account account_;
  Way way_;
  SettingId accepts_simulated_;
  Count unfit_entries_;
  bool news_ = false;
  bool silent_ = false;
  bool contested_ = false;
  double last_heard_s_ = 0;  // plant time
};

}  // namespace zavrek::bench::internal
