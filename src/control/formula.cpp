#include "control/formula.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <numbers>

#include <fmt/format.h>

#include "zavrek/limits.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {

enum class Formula::Op : char {
  number,
  input,
  time,
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
  /// An operation of `operands` operands: keeps account of the depth of the stack.
  void put(Op op, int operands, int input = 0, double number = 0) {
    depth_ += 1 - operands;
    if (depth_ > deepest) throw Error(fmt::format("formula \"{}\" is nested too deeply; split it", text_));
    f_.steps_.push_back({op, input, number});
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
      const Op op = take("+") ? Op::add : take("-") ? Op::subtract : Op::number;
      if (op == Op::number) return;
      product();
      put(op, 2);
    }
  }
  void product() {
    power();
    for (;;) {
      const Op op = take("*") ? Op::multiply : take("/") ? Op::divide : Op::number;
      if (op == Op::number) return;
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
    if (name == "pi") return put(Op::number, 0, 0, std::numbers::pi);
    if (name == "t") return put(Op::time, 0);
    auto known = std::find(f_.names_.begin(), f_.names_.end(), name);
    if (known == f_.names_.end()) known = f_.names_.insert(known, name);
    put(Op::input, 0, static_cast<int>(known - f_.names_.begin()));
  }
  void number() {
    const std::string rest(text_.substr(at_));
    char* end = nullptr;
    const double value = std::strtod(rest.c_str(), &end);
    if (end == rest.c_str() || !std::isfinite(value)) fail("a number");
    at_ += static_cast<std::size_t>(end - rest.c_str());
    put(Op::number, 0, 0, value);
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
  int depth_ = 0, levels_ = 0;
};

Formula::Formula(std::string_view text) {
  if (text.size() > limits::formula_letters)
    throw Error(fmt::format("is longer than {} letters; divide it", limits::formula_letters));
  Parser(text, *this).run();
}

double Formula::value(const double* inputs, double time_s) const noexcept {
  std::array<double, deepest + 1> stack{};
  double* top = stack.data();  // behind the last value
  const auto on = [](double x) { return x > 0.5; };
  for (const Step& step : steps_) {
    if (step.op <= Op::time) {
      *top++ = step.op == Op::number ? step.number : step.op == Op::time ? time_s : inputs[step.input];
      continue;
    }
    if (step.op >= Op::choose)
      top -= 2;
    else if (step.op >= Op::add)
      --top;
    double& a = top[-1];
    const double b = top[0], c = step.op >= Op::choose ? top[1] : 0;
    switch (step.op) {
      case Op::negate:
        a = -a;
        break;
      case Op::invert:
        a = on(a) ? 0 : 1;
        break;
      case Op::sin:
        a = std::sin(a);
        break;
      case Op::cos:
        a = std::cos(a);
        break;
      case Op::tan:
        a = std::tan(a);
        break;
      case Op::asin:
        a = std::asin(std::clamp(a, -1.0, 1.0));
        break;
      case Op::acos:
        a = std::acos(std::clamp(a, -1.0, 1.0));
        break;
      case Op::atan:
        a = std::atan(a);
        break;
      case Op::exp:
        a = std::exp(std::min(a, 700.0));
        break;
      case Op::log:
        a = std::log(std::max(a, 1e-300));
        break;
      case Op::sqrt:
        a = std::sqrt(std::max(a, 0.0));
        break;
      case Op::abs:
        a = std::abs(a);
        break;
      case Op::sign:
        a = a > 0 ? 1 : a < 0 ? -1 : 0;
        break;
      case Op::floor:
        a = std::floor(a);
        break;
      case Op::add:
        a += b;
        break;
      case Op::subtract:
        a -= b;
        break;
      case Op::multiply:
        a *= b;
        break;
      case Op::divide:
        a = b == 0 ? 0 : a / b;
        break;
      case Op::power:
        a = std::pow(a, b);
        break;
      case Op::less:
        a = a < b ? 1 : 0;
        break;
      case Op::at_most:
        a = a <= b ? 1 : 0;
        break;
      case Op::more:
        a = a > b ? 1 : 0;
        break;
      case Op::at_least:
        a = a >= b ? 1 : 0;
        break;
      case Op::equal:
        a = a == b ? 1 : 0;
        break;
      case Op::unequal:
        a = a != b ? 1 : 0;
        break;
      case Op::both:
        a = on(a) && on(b) ? 1 : 0;
        break;
      case Op::either:
        a = on(a) || on(b) ? 1 : 0;
        break;
      case Op::min:
        a = std::min(a, b);
        break;
      case Op::max:
        a = std::max(a, b);
        break;
      case Op::atan2:
        a = std::atan2(a, b);
        break;
      case Op::hypot:
        a = std::hypot(a, b);
        break;
      case Op::mod:
        a = b == 0 ? 0 : a - b * std::floor(a / b);
        break;
      case Op::choose:
        a = on(a) ? b : c;
        break;
      case Op::clamp:
        a = std::min(std::max(a, b), c);
        break;
      default:
        break;
    }
  }
  return stack[0];
}

}  // namespace zavrek::control
