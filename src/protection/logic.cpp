// Conditions over signals, and the functions made of them: logic with timers, latches, outputs.
#include "protection/function.hpp"

#include <cctype>

#include <fmt/format.h>

#include "zavrek/error.hpp"

namespace zavrek::protection {

namespace {

struct Word {
  char kind;  // '$' name, '&', '|', '!', '(', ')', 0 at the end
  std::string name;
};

std::vector<Word> words_of(const std::string& text) {
  std::vector<Word> words;
  for (std::size_t k = 0; k < text.size();) {
    const char c = text[k];
    if (std::isspace(static_cast<unsigned char>(c))) {
      ++k;
    } else if (c == '(' || c == ')') {
      words.push_back({c, {}});
      ++k;
    } else if (std::isalnum(static_cast<unsigned char>(c)) || c == '_') {
      std::string name;
      for (; k < text.size(); ++k) {
        const char d = text[k];
        if (!std::isalnum(static_cast<unsigned char>(d)) && d != '_' && d != '.' && d != '-') break;
        name += d;
      }
      const char kind = name == "and" ? '&' : name == "or" ? '|' : name == "not" ? '!' : '$';
      words.push_back({kind, std::move(name)});
    } else {
      throw Error(fmt::format("\"{}\" stands where a signal, and, or, not or a parenthesis is wanted", c));
    }
  }
  words.push_back({0, {}});
  return words;
}

}  // namespace

/// expression: term { or term }; term: factor { and factor }; factor: not factor | ( expression ) | name.
std::vector<Condition::Token> Condition::parse(const std::string& text) {
  struct Parser {
    std::vector<Word> words;
    std::vector<Token> out;
    std::size_t at = 0;
    std::size_t depth = 0;

    void chain(char joint, void (Parser::*part)()) {
      (this->*part)();
      while (words[at].kind == joint) {
        ++at;
        (this->*part)();
        out.push_back({joint, {}, 0});
      }
    }
    void expression() { chain('|', &Parser::term); }
    void term() { chain('&', &Parser::factor); }
    void factor() {
      if (++depth > deepest) throw Error(fmt::format("is nested deeper than {} levels", deepest));
      const Word word = words[at];
      if (word.kind == '!') {
        ++at;
        factor();
        out.push_back({'!', {}, 0});
      } else if (word.kind == '(') {
        ++at;
        expression();
        if (words[at].kind != ')') throw Error("a parenthesis is not closed");
        ++at;
      } else if (word.kind == '$') {
        ++at;
        out.push_back({'$', word.name, 0});
      } else {
        throw Error(word.kind == 0 ? std::string("ends where a signal is wanted")
                                   : fmt::format("\"{}\" stands where a signal is wanted",
                                                 word.name.empty() ? std::string(1, word.kind) : word.name));
      }
      --depth;
    }
  };
  Parser parser{words_of(text), {}};
  if (parser.words.size() == 1) return {};
  parser.expression();
  const Word& rest = parser.words[parser.at];
  if (rest.kind != 0)
    throw Error(fmt::format("\"{}\" stands where and, or or the end is wanted",
                            rest.name.empty() ? std::string(1, rest.kind) : rest.name));
  std::size_t height = 0, highest = 0;
  for (const Token& token : parser.out) {
    height = token.operation == '$' ? height + 1 : token.operation == '!' ? height : height - 1;
    highest = std::max(highest, height);
  }
  if (highest > deepest) throw Error(fmt::format("is nested deeper than {} levels", deepest));
  return parser.out;
}

std::vector<std::string> Condition::names_in(const std::string& text) {
  std::vector<std::string> names;
  for (const Token& token : parse(text)) {
    if (token.operation == '$') names.push_back(token.name);
  }
  return names;
}

bool Condition::evaluate(std::span<const char> bits) const noexcept {
  std::array<bool, deepest> stack{};
  std::size_t height = 0;
  for (const Step& step : steps_) {
    switch (step.operation) {
      case '$':
        stack[height++] = bits[step.place] != 0;
        break;
      case '!':
        stack[height - 1] = !stack[height - 1];
        break;
      default:
        --height;
        stack[height - 1] =
            step.operation == '&' ? stack[height - 1] && stack[height] : stack[height - 1] || stack[height];
    }
  }
  return height > 0 && stack[0];
}

namespace {

class Timed : public Function {
 public:
  explicit Timed(const Logic& settings) : settings_(settings) {}
  [[nodiscard]] std::vector<std::string> conditions() const override { return {settings_.when}; }
  void run(const Inputs& in, std::span<char> own) noexcept override {
    const bool wanted = in.conditions[0];
    if (wanted == on_) {
      travel_.clear();
    } else if (wait(travel_, true, wanted ? settings_.on_delay_s : settings_.off_delay_s, in.dt_s)) {
      on_ = wanted;
      travel_.clear();
    }
    own[0] = on_ ? 1 : 0;
  }
  void rest() noexcept override {
    on_ = false;
    travel_.clear();
  }
  void visit_state(StateArchive& archive) override { archive(travel_, on_); }

 private:
  Logic settings_;
  Travel travel_;
  bool on_ = false;
};

class Latched : public Function {
 public:
  explicit Latched(const Latch& settings) : settings_(settings) {}
  [[nodiscard]] std::vector<std::string> conditions() const override {
    return {settings_.set, settings_.reset};
  }
  void run(const Inputs& in, std::span<char> own) noexcept override {
    on_ = !in.conditions[1] && (on_ || in.conditions[0]);
    own[0] = on_ ? 1 : 0;
  }
  void rest() noexcept override { on_ = false; }
  void visit_state(StateArchive& archive) override { archive(on_); }

 private:
  Latch settings_;
  bool on_ = false;
};

class Sent : public Function {
 public:
  explicit Sent(const Output& settings) : when_(settings.when) {}
  [[nodiscard]] std::vector<std::string> conditions() const override { return {when_}; }
  void run(const Inputs& in, std::span<char> own) noexcept override { own[0] = in.conditions[0] ? 1 : 0; }
  void rest() noexcept override {}
  void visit_state(StateArchive&) override {}

 private:
  std::string when_;
};

}  // namespace

std::unique_ptr<Function> make_function(const Logic& settings, const Surroundings&) {
  return std::make_unique<Timed>(settings);
}
std::unique_ptr<Function> make_function(const Latch& settings, const Surroundings&) {
  return std::make_unique<Latched>(settings);
}
std::unique_ptr<Function> make_function(const Output& settings, const Surroundings&) {
  return std::make_unique<Sent>(settings);
}

}  // namespace zavrek::protection
