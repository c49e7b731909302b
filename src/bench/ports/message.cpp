// GOOSE out: what changed is published behind the step in which it did, and again and again while nothing
// changes (IEC 61850-8-1, 18.1.2.5).
#include "zavrek/bench/ports/message.hpp"

#include <fmt/format.h>

#include "bench/make_port.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench::internal {
namespace {

class MessagePort final : public Port {
 public:
  explicit MessagePort(const Message& message)
      : settings_(message), publisher_(first(message)), present_(message.entries.size(), false) {}

  void wire(Exchange& exchange) override {
    for (const std::string& entry : settings_.entries) points_.push_back(exchange.point_of(entry));
  }
  std::vector<wire::Identity> identities() const override {
    return {{wire::ethertype_goose, static_cast<std::uint16_t>(settings_.appid), settings_.identifier()}};
  }
  std::string open(const Opening& how) override {
    how.frames.join();
    frames_ = &how.frames;
    return {};
  }
  void give(Exchange& exchange) noexcept override {
    for (std::size_t k = 0; k < points_.size(); ++k) present_[k] = exchange.on(points_[k]);
    publisher_.poll(exchange.now(), present_, frames_->link());
  }
  std::string medium() const override { return frames_ ? frames_->description() : std::string(); }
  std::vector<Account> accounts() const override {
    Account account;
    account.port = "message." + settings_.name;
    account.carries = fmt::format("GOOSE {:#06x} out", settings_.appid);
    account.sent = publisher_.sent();
    account.unsent = publisher_.unsent();
    return {account};
  }
  std::vector<Path> paths() const override {
    std::string entries;
    for (const std::string& entry : settings_.entries) entries += (entries.empty() ? "" : ", ") + entry;
    return {{entries, fmt::format("message {}", settings_.name), "who subscribes", 1, "the wire"}};
  }

 private:
  static wire::Goose first(const Message& message) {
    wire::Goose goose = stand_in_message(
        {.name = message.identifier(), .goose_appid = static_cast<std::uint16_t>(message.appid)});
    goose.entries.assign(message.entries.size(), false);
    return goose;
  }
  Message settings_;
  wire::GoosePublisher publisher_;
  std::vector<bool> present_;
  std::vector<PointId> points_;
  Frames* frames_ = nullptr;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Message& message, const RunPlan&) {
  return std::make_unique<MessagePort>(message);
}

template <>
void check(const Message& message, Flaws& flaws) {
  const std::string place = "message." + message.name;
  if (message.entries.empty() || message.entries.size() > wire::most_goose_entries)
    flaws.report(place, "entries", fmt::format("1 to {} points are wanted", wire::most_goose_entries));
  for (const std::string& entry : message.entries) flaws.need_point(place, "entries", entry);
}

}  // namespace zavrek::bench::internal
