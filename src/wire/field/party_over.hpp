#pragma once

#include <memory>
#include <utility>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire::internal {

/// A party whose conversations, `Talk(Body&, Now)`, share a body: that counts in `traffic`, and looks at its
/// plant in `scan`.
template <class Body, class Talk>
class PartyOver final : public Party {
 public:
  template <class... Arguments>
  explicit PartyOver(Arguments&&... arguments) : body_(std::forward<Arguments>(arguments)...) {}
  std::unique_ptr<Conversation> connected(Now now) override {
    ++body_.traffic.connections;
    return std::make_unique<Talk>(body_, now);
  }
  void poll(Now now) override { body_.scan(now); }
  [[nodiscard]] const Traffic& traffic() const noexcept override { return body_.traffic; }

 private:
  Body body_;
};

}  // namespace zavrek::wire::internal
