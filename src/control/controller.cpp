#include "zavrek/control.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>

#include "control/function.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {
namespace {

constexpr std::size_t most_edges = 512;

const Table& table_of(const Block& block) {
  return std::visit([](const auto& b) -> const Table& { return table(&b); }, block);
}
[[noreturn]] void refuse(const Block& block, std::string field, std::string text) {
  control::reject(table_of(block).kind, name_of(block), std::move(field), std::move(text));
}

/// What a file could not hold.
void check_fields(const Block& block) {
  const void* fields = std::visit([](const auto& b) -> const void* { return &b; }, block);
  for (const network::Field* field : network::missing_fields(table_of(block), fields))
    refuse(block, field->name, fmt::format("missing; {} is wanted", field->expects));
  for (const network::Field& field : table_of(block).fields) {
    std::string wrong;
    try {
      field.check(fields);
    } catch (const Error& error) {
      wrong = error.what();
    }
    if (!wrong.empty()) refuse(block, field.name, wrong);
  }
}

}  // namespace

class Controller::Builder {
 public:
  Builder(const Description& description, const std::vector<std::string>& signals, const OwnMaker& own,
          Controller& controller)
      : description_(expand(description)), signals_(signals), own_(own), c_(controller) {}

  void run() {
    find_period();
    make_rows();
    for (std::size_t k = 0; k < rows_.size(); ++k) wire(k);
    order();
    join();
    c_.edges_.reserve(most_edges);
  }

 private:
  double period_of(const Block& block) const {
    const double own = std::visit([](const auto& b) { return b.period_s; }, block);
    return network::is_set(own) ? own : description_.period_s;
  }

  void find_period() {
    c_.period_s_ = description_.period_s;
    for (const Block& block : description_.blocks) c_.period_s_ = std::min(c_.period_s_, period_of(block));
    for (const Block& block : description_.blocks) {
      const double ratio = period_of(block) / c_.period_s_;
      if (std::abs(ratio - std::round(ratio)) > 1e-6 * ratio)
        refuse(block, "period",
               fmt::format("must be a multiple of {}, the shortest", print_quantity(c_.period_s_, "us")));
    }
  }

  void make_rows() {
    for (const Block& block : description_.blocks) {
      const std::string& name = name_of(block);
      if (name.empty() || by_name_.contains(name)) refuse(block, "", "its name is taken; choose another");
      const double period = period_of(block);
      Made made = made_of(*c_.blocks_.emplace_back(std::make_unique<Block>(block)), period);
      add_parameters(*c_.blocks_.back());
      Row row{.name = name,
              .block = c_.blocks_.back().get(),
              .function = std::move(made.function),
              .first_output = c_.values_.size(),
              .output_count = made.outputs.size(),
              .rate = rate_of(std::llround(period / c_.period_s_))};
      row.feeds_through = row.function->feeds_through();
      row.may_fail = row.function->may_fail();
      by_name_[name] = rows_.size();
      for (std::size_t k = 0; k < made.outputs.size(); ++k) {
        const std::string& output = made.outputs[k];
        const std::string full = output.empty() ? name : name + "." + output;
        outputs_at_[full] = c_.values_.size();
        if (k == 0) outputs_at_[name] = c_.values_.size();
        owner_of_.push_back(rows_.size());
        c_.outputs_.push_back(full);
        c_.values_.push_back(k < made.start.size() ? made.start[k] : 0);
      }
      row.first_gate = c_.gates_.size();
      row.function->number_gates(static_cast<int>(row.first_gate));
      append(c_.gates_, made.gates);
      append(c_.knobs_, made.knobs);
      append(c_.operables_, made.operables);
      c_.knob_at_.resize(c_.knobs_.size(), row.first_output);
      c_.operable_at_.resize(c_.operables_.size(), row.first_output);
      inputs_.push_back(std::move(made.inputs));
      c_.scratch_.resize(std::max(c_.scratch_.size(), inputs_.back().size()));
      rows_.push_back(std::move(row));
    }
  }
  std::size_t rate_of(long long ratio) {
    const auto same = [&](const Rate& rate) { return rate.ratio == ratio; };
    const auto at = std::find_if(c_.rates_.begin(), c_.rates_.end(), same);
    if (at == c_.rates_.end()) return c_.rates_.push_back({ratio}), c_.rates_.size() - 1;
    return static_cast<std::size_t>(at - c_.rates_.begin());
  }
  Made made_of(const Block& block, double period) const {
    return std::visit(
        [&]<class Kind>(const Kind& b) {
          if constexpr (std::is_same_v<Kind, OwnCode>)
            return make_own(b, period, own_);
          else
            return make(b, period);
        },
        block);
  }
  void add_parameters(Block& block) {
    char* fields = std::visit([](auto& b) { return reinterpret_cast<char*>(&b); }, block);
    for (const network::Field& field : table_of(block).fields) {
      if (!field.changeable) continue;
      const bool plain = std::holds_alternative<Setpoint>(block);
      c_.parameters_.push_back(plain ? name_of(block) : name_of(block) + "." + field.name);
      const auto* setpoint = std::get_if<Setpoint>(&block);
      c_.parameter_rows_.push_back(
          {reinterpret_cast<double*>(fields + field.offset), &field, setpoint ? setpoint->unit : field.unit});
    }
  }
  static void append(std::vector<std::string>& to, const std::vector<std::string>& more) {
    to.insert(to.end(), more.begin(), more.end());
  }

  /// An input, before it is known how many outputs and signals there are.
  struct Input {
    enum class From { constant, block, plant } from = From::constant;
    std::size_t index = 0;
    double factor = 1;  // or the constant
  };
  void wire(std::size_t row) {
    auto& wired = wired_.emplace_back();
    for (const std::string& text : inputs_[row]) wired.push_back(wire_of(row, text));
  }

  Input wire_of(std::size_t row, const std::string& text) {
    if (text.empty()) return {Input::From::constant, 0, 0};
    const bool negative = text.front() == '-';
    const std::string name = negative ? text.substr(1) : text;
    const double sign = negative ? -1 : 1;
    if (!name.empty() && (std::isdigit(static_cast<unsigned char>(name.front())) || name.front() == '.')) {
      try {
        return {Input::From::constant, 0, sign * parse_quantity(name).value};
      } catch (const Error& error) {
        refuse(description_.blocks[row], "", error.flaws().front().text);
      }
    }
    if (const auto found = outputs_at_.find(name); found != outputs_at_.end())
      return {Input::From::block, found->second, sign};
    const auto signal = std::find(signals_.begin(), signals_.end(), name);
    if (signal == signals_.end()) {
      std::vector<std::string> known = signals_;
      for (const auto& [output, at] : outputs_at_) known.push_back(output);
      refuse(
          description_.blocks[row], "",
          fmt::format("nothing gives \"{}\"{}; a number, a block's output or a signal of the plant is wanted",
                      name, suggestion(name, known)));
    }
    const auto read = std::find(c_.reads_.begin(), c_.reads_.end(), name);
    const auto index = static_cast<std::size_t>(read - c_.reads_.begin());
    if (read == c_.reads_.end()) c_.reads_.push_back(name);
    return {Input::From::plant, index, sign};
  }

  /// Depth first from each block through what it needs; a block met again on the way is a loop.
  void order() {
    state_.assign(rows_.size(), State::fresh);
    for (std::size_t k = 0; k < rows_.size(); ++k) visit(k);
    std::stable_partition(sequence_.begin(), sequence_.end(),
                          [&](std::size_t k) { return rows_[k].feeds_through; });
  }

  /// All in the order of execution, wires in one row.
  void join() {
    const std::size_t one = c_.values_.size();
    c_.values_.resize(one + 1 + c_.reads_.size(), 0.0);
    c_.values_[one] = 1;
    for (const std::size_t k : sequence_) {
      Row& row = rows_[k];
      row.first_wire = c_.wires_.size();
      row.wire_count = wired_[k].size();
      for (const Input& input : wired_[k])
        c_.wires_.push_back({input.from == Input::From::block   ? input.index
                             : input.from == Input::From::plant ? one + 1 + input.index
                                                                : one,
                             input.factor});
      c_.through_ += row.feeds_through ? 1 : 0;
      c_.rows_.push_back(std::move(row));
    }
  }

  void visit(std::size_t k) {
    if (state_[k] == State::done) return;
    if (state_[k] == State::open) refuse_loop(k);
    state_[k] = State::open;
    path_.push_back(k);
    if (rows_[k].feeds_through) {
      for (const Input& wire : wired_[k]) {
        if (wire.from != Input::From::block) continue;
        const std::size_t source = owner_of_[wire.index];
        if (rows_[source].feeds_through) visit(source);
      }
    }
    path_.pop_back();
    state_[k] = State::done;
    sequence_.push_back(k);
  }

  [[noreturn]] void refuse_loop(std::size_t k) {
    std::string loop;
    for (auto at = std::find(path_.begin(), path_.end(), k); at != path_.end(); ++at)
      loop += rows_[*at].name + " <- ";
    refuse(description_.blocks[k], "",
           "stands in an algebraic loop: " + loop + rows_[k].name + "; put a delay into it");
  }

  enum class State : char { fresh, open, done };
  const Description description_;
  const std::vector<std::string>& signals_;
  const OwnMaker& own_;
  Controller& c_;
  std::vector<Row> rows_;
  std::vector<std::vector<std::string>> inputs_;
  std::vector<std::vector<Input>> wired_;  // per row
  std::map<std::string, std::size_t> by_name_, outputs_at_;
  std::vector<std::size_t> owner_of_;  // per output: its row
  std::vector<State> state_;
  std::vector<std::size_t> path_, sequence_;
};

Controller::Controller(const Description& description, const std::vector<std::string>& signals,
                       const OwnMaker& own) {
  std::for_each(description.blocks.begin(), description.blocks.end(), check_fields);
  Builder(description, signals, own, *this).run();
}
Controller::Controller(Controller&&) noexcept = default;
Controller::~Controller() = default;

std::size_t Controller::parameter(std::string_view name) const {
  const auto at = std::find(parameters_.begin(), parameters_.end(), name);
  if (at == parameters_.end())
    throw Error("no block has \"" + std::string(name) + "\" to be changed" + suggestion(name, parameters_));
  return static_cast<std::size_t>(at - parameters_.begin());
}
const std::string& Controller::unit(std::size_t parameter) const { return parameter_rows_[parameter].unit; }
std::pair<double, double> Controller::bounds(std::size_t parameter) const noexcept {
  const network::Bounds& bounds = parameter_rows_[parameter].field->bounds;
  return {bounds.low, bounds.high};
}
void Controller::set(std::size_t parameter, double value) noexcept {
  const Parameter& row = parameter_rows_[parameter];
  *row.value = std::clamp(value, row.field->bounds.low, row.field->bounds.high);
}

void Controller::visit_state(StateArchive& archive) {
  for (const Parameter& row : parameter_rows_) archive(*row.value);
  for (Row& row : rows_) row.function->visit_state(archive);
  archive(values_, lost_edges_);
}

void Controller::run(long long tick, std::span<const double> signals) noexcept {
  edges_.clear();
  const Instant instant{static_cast<double>(tick) * period_s_, &edges_, &lost_edges_};
  std::copy(signals.begin(), signals.end(), values_.end() - static_cast<std::ptrdiff_t>(reads_.size()));
  for (Rate& rate : rates_) rate.due = tick % rate.ratio == 0;
  const auto due = [&](const Row& row) { return rates_[row.rate].due; };
  const auto execute = [&](Row& row) {
    if (!due(row)) return;
    const Wire* wire = wires_.data() + row.first_wire;
    for (std::size_t k = 0; k < row.wire_count; ++k, ++wire)
      scratch_[k] = wire->factor * values_[wire->index];
    row.function->step(instant, scratch_.data(), values_.data() + row.first_output);
    if (!row.may_fail || !failure_.empty()) return;
    if (const std::string* why = row.function->failure()) failure_ = *why;
  };
  const std::span<Row> all(rows_), through = all.first(through_), showing = all.subspan(through_);
  for (Row& row : showing) {
    if (due(row)) row.function->give(values_.data() + row.first_output);
  }
  for (Row& row : through) execute(row);
  for (Row& row : showing) execute(row);
}

}  // namespace zavrek::control
