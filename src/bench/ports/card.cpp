#include "zavrek/bench/ports/card.hpp"

#include <fmt/format.h>

#include "bench/make_port.hpp"
#include "zavrek/bench/cards.hpp"

namespace zavrek::bench::internal {
namespace {

/// Tells what became of the card; what it carries are the ports at its channels.
class CardPort final : public Port {
 public:
  explicit CardPort(const Card& card) : card_(card) {}
  void wire(Exchange&) override {}
  std::string open(const Opening& how) override {
    opened_ = &how.cards.join(card_.name);
    return {};
  }
  std::vector<Account> accounts() const override {
    Account account;
    account.port = "card." + card_.name;
    account.carries = card_.library.empty() ? "a terminal board" : card_.library;
    if (opened_) account.lost = opened_->unanswered;
    return {account};
  }

 private:
  Card card_;
  const Cards::Opened* opened_ = nullptr;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Card& card, const RunPlan& plan) {
  // Without anybody at the terminals nothing is opened.
  return plan.place.empty() ? std::make_unique<CardPort>(card) : nullptr;
}

template <>
void check(const Card&, Flaws&) {}

}  // namespace zavrek::bench::internal
