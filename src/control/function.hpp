// What a block does at an instant, and what the sources of the blocks share.
#pragma once

#include <memory>
#include <numbers>
#include <string>
#include <vector>

#include "zavrek/control.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::control {

/// What functions may reach beside their inputs and outputs.
struct Instant {
  double time_s;
  std::vector<Edge>* edges;  // with room for all of one run
  Count* lost_edges;         // that found none
};

class BlockFunction {
 public:
  virtual ~BlockFunction() = default;
  /// Whether an output depends on an input of the same instant. If not, `step` runs behind all others, and
  /// `give` shows the outputs ahead of them.
  [[nodiscard]] virtual bool feeds_through() const { return true; }
  /// The first of its gates within the controller's.
  virtual void number_gates(int first) { first_gate_ = first; }
  virtual void give(double* /*outputs*/) noexcept {}
  virtual void step(const Instant& instant, const double* inputs, double* outputs) noexcept = 0;
  /// What it remembers from one instant to the next, beside its outputs.
  virtual void visit_state(StateArchive& archive) = 0;
  /// Why it cannot go on; only a user's own code fails.
  [[nodiscard]] virtual bool may_fail() const { return false; }
  [[nodiscard]] virtual const std::string* failure() const noexcept { return nullptr; }

 protected:
  /// Asks for an edge of its k-th gate.
  void edge(const Instant& instant, std::size_t gate, bool on, double at_s) const noexcept {
    if (instant.edges->size() == instant.edges->capacity()) {
      ++*instant.lost_edges;
      return;
    }
    instant.edges->push_back({first_gate_ + static_cast<int>(gate), on, at_s});
  }

 private:
  int first_gate_ = 0;
};

/// A block ready to be wired.
struct Made {
  std::unique_ptr<BlockFunction> function;
  std::vector<std::string> inputs;   // as written; an empty one is 0
  std::vector<std::string> outputs;  // names behind the block's; the first may be empty
  std::vector<double> start;         // of the outputs; zeros when empty
  std::vector<std::string> gates{}, knobs{}, operables{};
};

/// The function of one kind of block, which is specialised in the sources of this room; `period_s` is the
/// block's. The function refers to the fields of `block`, so that turning a knob acts at once.
template <class Kind>
[[nodiscard]] Made make(const Kind& block, double period_s);

/// A user's own code, given by the program.
[[nodiscard]] Made make_own(const OwnCode& block, double period_s, const OwnMaker& own);

inline constexpr double pi = std::numbers::pi;
inline constexpr double third = 2 * pi / 3;

[[nodiscard]] inline bool is_on(double value) { return value > 0.5; }

/// A function without state beyond its outputs.
template <class Step>
class Plain final : public BlockFunction {
 public:
  explicit Plain(Step step) : step_(std::move(step)) {}
  void step(const Instant& instant, const double* in, double* out) noexcept override {
    step_(instant, in, out);
  }
  void visit_state(StateArchive&) override {}

 private:
  Step step_;
};
template <class Step>
std::unique_ptr<BlockFunction> plain(Step step) {
  return std::make_unique<Plain<Step>>(std::move(step));
}

[[noreturn]] inline void reject(const std::string& kind, const std::string& name, std::string field,
                                std::string text) {
  throw Error(
      Flaw{.file = {}, .place = kind + "." + name, .field = std::move(field), .text = std::move(text)});
}

/// Straight between the points, held beyond them.
[[nodiscard]] inline double interpolate(const Points& points, double x) noexcept {
  if (points.empty()) return 0;
  if (x <= points.front().x) return points.front().y;
  for (std::size_t k = 1; k < points.size(); ++k) {
    if (x > points[k].x) continue;
    const double share = (x - points[k - 1].x) / (points[k].x - points[k - 1].x);
    return points[k - 1].y + share * (points[k].y - points[k - 1].y);
  }
  return points.back().y;
}

}  // namespace zavrek::control
