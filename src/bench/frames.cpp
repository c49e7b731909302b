#include "zavrek/bench/frames.hpp"

#include <chrono>
#include <thread>

#include "bench/link_beside.hpp"

namespace zavrek::bench {
namespace {

/// An application identifier that no GOOSE message has: while nobody listens, nothing shall come.
constexpr std::uint16_t nobodys = 0xFFFF;

}  // namespace

Frames::Frames(std::string interface, wire::Medium medium)
    : interface_(std::move(interface)), medium_(medium) {}
Frames::~Frames() = default;

wire::Link& Frames::link() noexcept { return *link_; }
std::string Frames::description() const { return link_ ? link_->description() : std::string(); }

void Frames::send_beside() {
  if (link_) link_->begin();
}
void Frames::end() noexcept {
  if (link_) link_->end();
}
std::vector<Account> Frames::accounts() const {
  if (!link_ || !link_->was_beside()) return {};
  return {link_->account()};
}

void Frames::join() {
  if (link_) return;
  if (wanted_.appids.empty()) wanted_.appids.push_back(nobodys);
  link_ = std::make_unique<internal::LinkBeside>(wire::open_link(interface_, medium_, wanted_));
}

void Frames::join(FrameListener& listener, std::uint16_t ethertype, std::uint16_t appid) {
  constexpr std::uint16_t either = 0;
  wanted_.ethertype = listeners_.empty() || wanted_.ethertype == ethertype ? ethertype : either;
  std::erase(wanted_.appids, nobodys);
  wanted_.appids.push_back(appid);
  listeners_.push_back(&listener);
  if (link_)
    link_->want(wanted_);
  else
    join();
}

bool Frames::take(std::int64_t now_ns) noexcept {
  if (!link_) return false;
  for (int k = 0; k < most_at_once; ++k) {
    const std::size_t length = link_->receive(frame_);
    if (length == 0) return false;
    for (FrameListener* listener : listeners_)
      listener->take_frame(wire::Bytes(frame_).first(length), now_ns);
  }
  return true;
}

void Frames::wait(int timeout_ms) noexcept {
  if (link_)
    (void)link_->wait(timeout_ms);
  else
    std::this_thread::sleep_for(std::chrono::milliseconds(timeout_ms));
}

}  // namespace zavrek::bench
