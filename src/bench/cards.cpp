#include "zavrek/bench/cards.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zavrek::bench {
namespace {

std::unique_ptr<card::Card> open_card(const Setup& setup, const Card& card) {
  const std::string& address = card.address.empty() ? card.name : card.address;
  if (!card.library.empty()) return card::load_card(setup.folder / card.library, address);
  return card::board_card(address);
}

}  // namespace

Cards::Opened& Cards::join(const std::string& name) {
  const auto same = [&](const auto& one) { return one->name == name; };
  const auto known = std::find_if(opened_.begin(), opened_.end(), same);
  if (known != opened_.end()) return **known;
  for (const Card* card : setup_.bench.all<Card>()) {
    if (card->name != name) continue;
    auto opened = std::make_unique<Opened>();
    opened->name = name;
    opened->card = open_card(setup_, *card);
    const card::Limits& limits = opened->card->limits();
    opened->analogue_out.assign(limits.analogue_outputs, 0.0);
    opened->analogue_in.assign(limits.analogue_inputs, 0.0);
    opened->contacts_out.assign(limits.contact_outputs, 0.0);
    opened->contacts_in.assign(limits.contact_inputs, 0.0);
    opened_.push_back(std::move(opened));
    return *opened_.back();
  }
  throw Error(fmt::format("no card \"{}\" on the bench", name));
}

void Cards::take() noexcept {
  for (const auto& one : opened_) {
    if (!one->card->read(one->analogue_in.data(), one->contacts_in.data())) ++one->unanswered;
  }
}

void Cards::give(double time_s) noexcept {
  for (const auto& one : opened_) {
    if (!one->card->write(one->analogue_out.data(), one->contacts_out.data(), time_s)) ++one->unanswered;
  }
}

}  // namespace zavrek::bench
