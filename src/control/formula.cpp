#include "control/formula.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <numbers>

#include <fmt/format.h>

#include "quantity/c_text.hpp"
#include "zavrek/limits.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {

enum class Formula::Op : char {
  none,
  negate,
  invert,  // one operand
  sin,
  cos,
  tan,
  asin,
  acos,
  atan,
  exp,
  log,
  sqrt,
  abs,
  sign,
  floor,
  add,
  subtract,
  multiply,
  divide,
  power,  // two
  less,
  at_most,
  more,
  at_least,
  equal,
  unequal,
  both,
  either,
  min,
  max,
  atan2,
  hypot,
  mod,
  choose,
  clamp  // three
};

class Formula::Parser {
 public:
  Parser(std::string_view text, Formula& formula) : text_(text), f_(formula) {}

  void run() {
    either();
    skip();
    if (at_ < text_.size()) fail("the end or an operator");
    f_.result_ = stack_.back();
  }

 private:
  struct Function {
    std::string_view name;
    Op op;
    int operands;
  };
  static constexpr std::array<Function, 19> functions{{{"sin", Op::sin, 1},
                                                       {"cos", Op::cos, 1},
                                                       {"tan", Op::tan, 1},
                                                       {"asin", Op::asin, 1},
                                                       {"acos", Op::acos, 1},
                                                       {"atan", Op::atan, 1},
                                                       {"exp", Op::exp, 1},
                                                       {"log", Op::log, 1},
                                                       {"sqrt", Op::sqrt, 1},
                                                       {"abs", Op::abs, 1},
                                                       {"sign", Op::sign, 1},
                                                       {"floor", Op::floor, 1},
                                                       {"min", Op::min, 2},
                                                       {"max", Op::max, 2},
                                                       {"atan2", Op::atan2, 2},
                                                       {"hypot", Op::hypot, 2},
                                                       {"mod", Op::mod, 2},
                                                       {"if", Op::choose, 3},
                                                       {"clamp", Op::clamp, 3}}};

  [[noreturn]] void fail(std::string_view wanted) const {
    throw Error(fmt::format("formula \"{}\", at character {}: {} is expected", text_, at_ + 1, wanted));
  }
  void skip() {
    while (at_ < text_.size() && text_[at_] == ' ') ++at_;
  }
  bool take(std::string_view sign) {
    skip();
    if (text_.substr(at_, sign.size()) != sign) return false;
    at_ += sign.size();
    return true;
  }
  bool take_word(std::string_view word) {
    skip();
    const std::size_t end = at_ + word.size();
    if (text_.substr(at_, word.size()) != word || (end < text_.size() && in_name(text_[end]))) return false;
    at_ = end;
    return true;
  }
  static bool in_name(char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_' || c == '.';
  }
  void push(Place place) {
    if (stack_.size() == deepest)
      throw Error(fmt::format("formula \"{}\" is nested too deeply; split it", text_));
    stack_.push_back(place);
  }
  void push_number(double number) {
    f_.numbers_.push_back(number);
    push({Place::number, static_cast<std::uint16_t>(f_.numbers_.size() - 1)});
  }
  /// An operation on the last `operands` values, of which one is left; on numbers alone, it is done at once.
  void put(Op op, int operands) {
    std::array<Place, 3> of{};
    for (int k = operands - 1; k >= 0; --k) {
      of[static_cast<std::size_t>(k)] = stack_.back();
      stack_.pop_back();
    }
    for (auto k = static_cast<std::size_t>(operands); k < of.size(); ++k) of[k] = of[0];
    if (std::all_of(of.begin(), of.end(), [](const Place& p) { return p.of == Place::number; })) {
      const auto number = [&](const Place& place) { return f_.numbers_[place.index]; };
      return push_number(apply(op, number(of[0]), number(of[1]), number(of[2])));
    }
    // What stands on the stack above is used up: its place among the work is free again.
    const auto to = static_cast<std::uint8_t>(stack_.size());
    f_.steps_.push_back({op, to, of[0], of[1], of[2]});
    push({Place::work, to});
  }
  struct Level {
    explicit Level(Parser& parser) : p(parser) {
      if (++p.levels_ > 64)
        throw Error(fmt::format("formula \"{}\" is nested too deeply; split it", p.text_));
    }
    ~Level() { --p.levels_; }
    Level(const Level&) = delete;
    Level& operator=(const Level&) = delete;
    Parser& p;
  };

  void either() {
    const Level level(*this);
    both();
    while (take_word("or")) {
      both();
      put(Op::either, 2);
    }
  }
  void both() {
    inverted();
    while (take_word("and")) {
      inverted();
      put(Op::both, 2);
    }
  }
  void inverted() {
    const Level level(*this);
    if (take_word("not")) {
      inverted();
      put(Op::invert, 1);
    } else {
      comparison();
    }
  }
  void comparison() {
    sum();
    constexpr std::array<std::pair<std::string_view, Op>, 6> signs{{{"<=", Op::at_most},
                                                                    {">=", Op::at_least},
                                                                    {"==", Op::equal},
                                                                    {"!=", Op::unequal},
                                                                    {"<", Op::less},
                                                                    {">", Op::more}}};
    for (const auto& [sign, op] : signs) {
      if (!take(sign)) continue;
      sum();
      put(op, 2);
      return;
    }
  }
  void sum() {
    product();
    for (;;) {
      const Op op = take("+") ? Op::add : take("-") ? Op::subtract : Op::none;
      if (op == Op::none) return;
      product();
      put(op, 2);
    }
  }
  void product() {
    power();
    for (;;) {
      const Op op = take("*") ? Op::multiply : take("/") ? Op::divide : Op::none;
      if (op == Op::none) return;
      power();
      put(op, 2);
    }
  }
  void power() {
    const Level level(*this);
    if (take("-")) {
      power();
      put(Op::negate, 1);
      return;
    }
    primary();
    if (take("^")) {
      power();
      put(Op::power, 2);
    }
  }
  void primary() {
    skip();
    if (at_ == text_.size()) fail("a value");
    if (take("(")) {
      either();
      if (!take(")")) fail("\")\"");
      return;
    }
    const char first = text_[at_];
    if (std::isdigit(static_cast<unsigned char>(first)) != 0 || first == '.') return number();
    if (std::isalpha(static_cast<unsigned char>(first)) == 0 && first != '_') fail("a value");
    const std::size_t begin = at_;
    while (at_ < text_.size() && in_name(text_[at_])) ++at_;
    const std::string name(text_.substr(begin, at_ - begin));
    if (take("(")) return call(name);
    if (name == "pi") return push_number(std::numbers::pi);
    if (name == "t") return push({Place::work, time_place});
    auto known = std::find(f_.names_.begin(), f_.names_.end(), name);
    if (known == f_.names_.end()) known = f_.names_.insert(known, name);
    push({Place::input, static_cast<std::uint16_t>(known - f_.names_.begin())});
  }
  void number() {
    const std::string rest(text_.substr(at_));
    char* end = nullptr;
    const double value = std::strtod(rest.c_str(), &end);
    if (end == rest.c_str() || !std::isfinite(value)) fail("a number");
    at_ += static_cast<std::size_t>(end - rest.c_str());
    push_number(value);
  }
  void call(const std::string& name) {
    const auto known =
        std::find_if(functions.begin(), functions.end(), [&](const Function& f) { return f.name == name; });
    if (known == functions.end()) {
      std::vector<std::string> names;
      for (const Function& f : functions) names.emplace_back(f.name);
      throw Error(fmt::format("formula \"{}\" calls no known function \"{}\"{}", text_, name,
                              suggestion(name, names)));
    }
    for (int k = 0; k < known->operands; ++k) {
      if (k > 0 && !take(",")) fail(fmt::format("\",\" and another of the {} values", known->operands));
      either();
    }
    if (!take(")")) fail("\")\"");
    put(known->op, known->operands);
  }

  std::string_view text_;
  Formula& f_;
  std::size_t at_ = 0;
  int levels_ = 0;
  std::vector<Place> stack_;
};

Formula::Formula(std::string_view text) {
  if (text.size() > limits::formula_letters)
    throw Error(fmt::format("is longer than {} letters; divide it", limits::formula_letters));
  Parser(text, *this).run();
}

double Formula::apply(Op op, double a, double b, double c) noexcept {
  const auto on = [](double x) { return x > 0.5; };
  switch (op) {
    case Op::negate:
      return -a;
    case Op::invert:
      return on(a) ? 0 : 1;
    case Op::sin:
      return std::sin(a);
    case Op::cos:
      return std::cos(a);
    case Op::tan:
      return std::tan(a);
    case Op::asin:
      return std::asin(std::clamp(a, -1.0, 1.0));
    case Op::acos:
      return std::acos(std::clamp(a, -1.0, 1.0));
    case Op::atan:
      return std::atan(a);
    case Op::exp:
      return std::exp(std::min(a, 700.0));
    case Op::log:
      return std::log(std::max(a, 1e-300));
    case Op::sqrt:
      return std::sqrt(std::max(a, 0.0));
    case Op::abs:
      return std::abs(a);
    case Op::sign:
      return a > 0 ? 1 : a < 0 ? -1 : 0;
    case Op::floor:
      return std::floor(a);
    case Op::add:
      return a + b;
    case Op::subtract:
      return a - b;
    case Op::multiply:
      return a * b;
    case Op::divide:
      return b == 0 ? 0 : a / b;
    case Op::power:
      return std::pow(a, b);
    case Op::less:
      return a < b ? 1 : 0;
    case Op::at_most:
      return a <= b ? 1 : 0;
    case Op::more:
      return a > b ? 1 : 0;
    case Op::at_least:
      return a >= b ? 1 : 0;
    case Op::equal:
      return a == b ? 1 : 0;
    case Op::unequal:
      return a != b ? 1 : 0;
    case Op::both:
      return on(a) && on(b) ? 1 : 0;
    case Op::either:
      return on(a) || on(b) ? 1 : 0;
    case Op::min:
      return std::min(a, b);
    case Op::max:
      return std::max(a, b);
    case Op::atan2:
      return std::atan2(a, b);
    case Op::hypot:
      return std::hypot(a, b);
    case Op::mod:
      return b == 0 ? 0 : a - b * std::floor(a / b);
    case Op::choose:
      return on(a) ? b : c;
    case Op::clamp:
      return std::min(std::max(a, b), c);
    case Op::none:
      break;
  }
  return a;
}

double Formula::value(const double* inputs, double time_s) const noexcept {
  std::array<double, time_place + 1> work;
  work[time_place] = time_s;
  const std::array<const double*, 3> from{work.data(), inputs, numbers_.data()};
  const auto at = [&](Place place) { return from[place.of][place.index]; };
  for (const Step& step : steps_) work[step.to] = apply(step.op, at(step.a), at(step.b), at(step.c));
  return at(result_);
}

std::string_view Formula::applied_in_c(Op op) noexcept {
  constexpr std::pair<Op, std::string_view> rules[] = {
      {Op::negate, "(-#a)"},
      {Op::invert, "(is_on(#a) ? 0.0 : 1.0)"},
      {Op::sin, "sin(#a)"},
      {Op::cos, "cos(#a)"},
      {Op::tan, "tan(#a)"},
      {Op::asin, "asin(clamp(#a, -1, 1))"},
      {Op::acos, "acos(clamp(#a, -1, 1))"},
      {Op::atan, "atan(#a)"},
      {Op::exp, "exp(least(#a, 700))"},
      {Op::log, "log(most(#a, 1e-300))"},
      {Op::sqrt, "sqrt(most(#a, 0))"},
      {Op::abs, "fabs(#a)"},
      {Op::sign, "sign_of(#a)"},
      {Op::floor, "floor(#a)"},
      {Op::add, "(#a + #b)"},
      {Op::subtract, "(#a - #b)"},
      {Op::multiply, "(#a * #b)"},
      {Op::divide, "over(#a, #b)"},
      {Op::power, "pow(#a, #b)"},
      {Op::less, "(#a < #b ? 1.0 : 0.0)"},
      {Op::at_most, "(#a <= #b ? 1.0 : 0.0)"},
      {Op::more, "(#a > #b ? 1.0 : 0.0)"},
      {Op::at_least, "(#a >= #b ? 1.0 : 0.0)"},
      {Op::equal, "(#a == #b ? 1.0 : 0.0)"},
      {Op::unequal, "(#a != #b ? 1.0 : 0.0)"},
      {Op::both, "(is_on(#a) && is_on(#b) ? 1.0 : 0.0)"},
      {Op::either, "(is_on(#a) || is_on(#b) ? 1.0 : 0.0)"},
      {Op::min, "least(#a, #b)"},
      {Op::max, "most(#a, #b)"},
      {Op::atan2, "atan2(#a, #b)"},
      {Op::hypot, "hypot(#a, #b)"},
      {Op::mod, "modulo(#a, #b)"},
      {Op::choose, "(is_on(#a) ? #b : #c)"},
      {Op::clamp, "least(most(#a, #b), #c)"},
  };
  for (const auto& [known, rule] : rules) {
    if (known == op) return rule;
  }
  return "#a";
}

std::string Formula::in_c(std::string_view inputs, std::size_t first) const {
  std::array<std::string, time_place + 1> work;
  work[time_place] = "time";
  const auto text_of = [&](Place place) {
    if (place.of == Place::work) return work[place.index];
    if (place.of == Place::input) return fmt::format("{}[{}]", inputs, first + place.index);
    const double number = numbers_[place.index];
    std::string text = c_number(number);
    if (text.find_first_of(".eNH") == std::string::npos) text += ".0";  // no division of whole numbers
    return number < 0 ? "(" + text + ")" : text;
  };
  for (const Step& step : steps_) {
    const std::string a = text_of(step.a), b = text_of(step.b), c = text_of(step.c);
    std::string text;
    const std::string_view rule = applied_in_c(step.op);
    for (std::size_t k = 0; k < rule.size(); ++k) {
      if (rule[k] != '#') {
        text += rule[k];
        continue;
      }
      const char which = rule[++k];
      text += which == 'a' ? a : which == 'b' ? b : c;
    }
    work[step.to] = std::move(text);
  }
  return text_of(result_);
}

}  // namespace zavrek::control
