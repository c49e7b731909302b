#include "bench/way.hpp"

#include <algorithm>

namespace zavrek::bench::internal {
namespace {

constexpr double longest_delay_s = 1;
constexpr std::size_t header_bytes = 26;  // addresses are left as they are

}  // namespace

Way::Way() : slots_(most_waiting), bytes_(new std::uint8_t[most_waiting * wire::longest_frame]) {}

Way::Settings Way::declare_settings(Exchange& exchange, const std::string& owner, bool idle) {
  static constexpr std::array<PortSetting, all> asked{{{"loss", "%", 0, 1},
                                                       {"delay", "s", 0, longest_delay_s},
                                                       {"jitter", "s", 0, longest_delay_s},
                                                       {"duplicates", "%", 0, 1},
                                                       {"disorder", "%", 0, 1},
                                                       {"corruption", "%", 0, 1}}};
  Settings settings;
  for (std::size_t k = 0; k < all; ++k) settings[k] = exchange.add_setting(owner, asked[k], idle);
  return settings;
}

bool Way::look(const Exchange& exchange) noexcept {
  for (std::size_t k = 0; k < all; ++k) share_[k] = exchange.setting(settings_[k]);
  at_work_ = waiting_ > 0 || held_size_ > 0 ||
             std::any_of(share_.begin(), share_.end(), [](double share) { return share != 0; });
  was_at_work_ = was_at_work_ || at_work_;
  return at_work_;
}

bool Way::draws(What what) noexcept {
  if (share_[what] == 0 || random_.share() >= share_[what]) return false;
  ++spoiled_;
  return true;
}

wire::Bytes Way::spoil(wire::Bytes frame) noexcept {
  if (frame.size() <= header_bytes || frame.size() > spoiled_frame_.size()) return frame;
  std::copy(frame.begin(), frame.end(), spoiled_frame_.begin());
  const double behind = static_cast<double>(frame.size() - header_bytes);
  const std::size_t at = header_bytes + static_cast<std::size_t>(random_.share() * behind);
  spoiled_frame_[at] ^= static_cast<std::uint8_t>(1 + static_cast<int>(random_.share() * 254));
  return wire::Bytes(spoiled_frame_).first(frame.size());
}

void Way::hold(wire::Bytes frame) noexcept {
  held_size_ = std::min(frame.size(), held_.size());
  std::copy_n(frame.begin(), held_size_, held_.begin());
}

/// Frames keep their order.
void Way::keep(wire::Bytes frame, std::int64_t now_ns) noexcept {
  const double late_s = share_[delay] + share_[jitter] * random_.share();
  ++spoiled_;
  if (waiting_ == slots_.size() || frame.size() > wire::longest_frame) return;
  std::int64_t due_ns = now_ns + static_cast<std::int64_t>(1e9 * late_s);
  if (waiting_ > 0) due_ns = std::max(due_ns, slots_[(first_ + waiting_ - 1) % slots_.size()].due_ns);
  const std::size_t slot = (first_ + waiting_) % slots_.size();
  std::copy(frame.begin(), frame.end(), bytes_of(slot));
  slots_[slot] = {due_ns, frame.size()};
  ++waiting_;
}

}  // namespace zavrek::bench::internal
