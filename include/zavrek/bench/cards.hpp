#pragma once

#include <memory>
#include <string>
#include <vector>

#include "zavrek/bench/account.hpp"
#include "zavrek/bench/description.hpp"
#include "zavrek/card.hpp"

namespace zavrek::bench {

/// The cards of a bench, opened when the first port asks for one; read ahead of each step, written behind it.
class Cards {
 public:
  /// One that is open, and what stands at its channels.
  struct Opened {
    std::string name;
    std::unique_ptr<card::Card> card;
    std::vector<double> analogue_out, analogue_in, contacts_out, contacts_in;
    long long unanswered = 0;  ///< reads and writes that it did not take
  };
  explicit Cards(const Setup& setup) : setup_(setup) {}
  /// Throws Error when there is none of that name, or it cannot be opened.
  [[nodiscard]] Opened& join(const std::string& name);
  void take() noexcept;
  void give(double time_s) noexcept;
  [[nodiscard]] bool open() const noexcept { return !opened_.empty(); }

 private:
  const Setup& setup_;
  std::vector<std::unique_ptr<Opened>> opened_;
};

}  // namespace zavrek::bench
