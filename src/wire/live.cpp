#include <algorithm>
#include <chrono>

#include "zavrek/wire.hpp"

namespace zavrek::wire {
namespace {

constexpr int look_ms = 2;

const std::string& id_in(const Goose& message) { return message.id; }
const std::string& id_in(const SampledValues& message) { return message.first().id; }

/// What a frame of this ethertype says of itself.
template <class Message>
std::optional<LiveIdentity> identity_in(Bytes frame, std::uint16_t ethertype, Message& message) {
  if (!decode(frame, message)) return std::nullopt;
  return LiveIdentity{{ethertype, message.address.appid, id_in(message)}, message.address.source};
}

/// The frames of one ethertype under some of the identities.
class Listener {
 public:
  Listener(const std::string& interface, Medium medium, const std::vector<Identity>& identities,
           std::uint16_t ethertype)
      : ethertype_(ethertype) {
    FrameFilter filter{ethertype, {}};
    for (const Identity& identity : identities) {
      if (identity.ethertype != ethertype) continue;
      identities_.push_back({identity, std::nullopt});
      filter.appids.push_back(identity.appid);
    }
    if (!identities_.empty()) link_ = open_link(interface, medium, filter);
  }

  [[nodiscard]] std::optional<LiveIdentity> take() {
    constexpr int most_at_once = 256;
    for (int k = 0; link_ && k < most_at_once; ++k) {
      const std::size_t length = link_->receive(frame_);
      if (length == 0) break;
      const Bytes frame = Bytes(frame_).first(length);
      auto found = ethertype_ == ethertype_goose ? identity_in(frame, ethertype_, goose_)
                                                 : identity_in(frame, ethertype_, values_);
      if (!found || found->source == own_source()) continue;
      const auto same = std::find_if(identities_.begin(), identities_.end(), [&](const Wanted& one) {
        return one.identity.appid == found->identity.appid && one.identity.id == found->identity.id;
      });
      if (same == identities_.end()) continue;
      if (same->identity.awaited && !same->first) same->first = found->source;
      if (!same->identity.awaited || *same->first != found->source) return found;
    }
    return std::nullopt;
  }
  void wait() const {
    if (link_) (void)link_->wait(look_ms);
  }

 private:
  struct Wanted {
    Identity identity;
    std::optional<MacAddress> first;  // that was heard
  };
  std::uint16_t ethertype_;
  std::vector<Wanted> identities_;
  std::unique_ptr<Link> link_;
  FrameBuffer frame_{};
  Goose goose_;
  SampledValues values_;
};

}  // namespace

std::optional<LiveIdentity> find_live(const std::string& interface, Medium medium,
                                      const std::vector<Identity>& identities, int for_ms) {
  Listener goose(interface, medium, identities, ethertype_goose);
  Listener values(interface, medium, identities, ethertype_sampled_values);
  const auto until = std::chrono::steady_clock::now() + std::chrono::milliseconds(for_ms);
  while (!identities.empty()) {
    for (Listener* listener : {&goose, &values}) {
      if (auto live = listener->take()) return live;
    }
    if (std::chrono::steady_clock::now() >= until) break;
    goose.wait();
    values.wait();
  }
  return std::nullopt;
}

}  // namespace zavrek::wire
