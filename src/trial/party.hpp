// A device as a run sees it: samples go in, outputs come out, wherever it is.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "pace/program.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

inline constexpr int samples_per_cycle = 80;
/// Name and application identifier of the GOOSE message by which the bench tells what it knows itself.
inline constexpr const char* bench_goose_id = "bench";
inline constexpr int bench_goose_appid = 0x3FFF;

/// "NAME: SOURCE" in its two parts; empty texts when it has no colon.
[[nodiscard]] std::pair<std::string, std::string> split_pair(const std::string& text);

/// Breakers, disconnectors and earthing switches: what devices may read the position of, in the order of the
/// network.
[[nodiscard]] std::vector<std::string> switchgear_of(const network::Network& network);

inline constexpr std::string_view contact_prefix = "bench.";
/// "NAME", "NAME: open" or "NAME: closed" as the bench writes a contact; `state` is what stands behind the
/// colon.
struct Contact {
  std::string name, state;
  [[nodiscard]] bool closed() const { return state == "closed"; }
};
[[nodiscard]] Contact contact_of(const std::string& text);
/// Contacts as devices and trials name them, "bench.NAME", in the order of the bench.
[[nodiscard]] std::vector<std::string> contacts_of(const Bench& bench);

/// Somebody operates a contact of the bench.
struct ContactTurn {
  double at_s;  // plant time
  std::size_t contact;
  bool closed;
};

/// By the words "automatic", "raw", "datagram".
[[nodiscard]] wire::Medium medium_of(const std::string& word);
/// What devices read that this process knows, breakers and outputs of devices in it, in the order of the
/// message's entries. `place` overrides that of every device when not empty.
[[nodiscard]] std::vector<std::string> told_by_bench(const Bench& bench, const std::string& place);

class Party {
 public:
  /// Readies a relay in this process, or the reading of one elsewhere.
  Party(const Device& device, bool remote, double frequency_Hz);

  [[nodiscard]] const Device& device() const noexcept { return *device_; }
  [[nodiscard]] bool remote() const noexcept { return remote_; }
  /// Starts the stand-in as its own process, reading `streams` (of the bench).
  void start_process(const std::filesystem::path& program, const std::filesystem::path& folder,
                     const Bench& bench, const std::string& interface, const std::string& place,
                     double frequency_Hz);

  /// One sample of each place that it reads; into a relay of this process. Whether it decided.
  bool push(std::span<const protection::Sample> places) noexcept { return relay_ && relay_->push(places); }
  /// A frame from the wire; true when it was news of this device.
  bool take(wire::Bytes frame, std::int64_t now_ns) { return remote_ && subscriber_->take(frame, now_ns); }
  [[nodiscard]] bool heard() const noexcept { return !remote_ || subscriber_->heard(); }
  [[nodiscard]] bool alive(std::int64_t now_ns) const noexcept {
    return !remote_ || !subscriber_->heard() || subscriber_->alive(now_ns);
  }
  [[nodiscard]] bool process_ended() { return process_ && !process_->running(); }

  [[nodiscard]] const std::vector<std::string>& outputs() const noexcept { return outputs_; }
  /// As the device shows it now.
  [[nodiscard]] bool shown(std::size_t output) const noexcept;
  [[nodiscard]] protection::Relay* relay() noexcept { return relay_.get(); }
  /// Places that the device reads.
  [[nodiscard]] std::size_t places() const noexcept { return device_->reads.size(); }

 private:
  const Device* device_;
  bool remote_;
  std::vector<std::string> outputs_;
  std::unique_ptr<protection::Relay> relay_;
  std::unique_ptr<wire::GooseSubscriber> subscriber_;
  std::unique_ptr<pace::internal::Program> process_;
};

}  // namespace zavrek::trial::internal
