// A controller as C: tables of its numbers and states, the pieces that its blocks are made of, then all
// blocks in the order in which the controller executes them.
#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "control/function.hpp"
#include "control/written/blocks.hpp"
#include "control/written/resources.hpp"
#include "quantity/c_text.hpp"

namespace zavrek::control {

class Controller::Writer {
 public:
  explicit Writer(const Controller& controller) : c_(controller) {}

  network::WrittenControl run(const std::vector<std::string>& units) {
    for (const Row& row : c_.rows_) add(row);
    network::WrittenControl written{.members = members(),
                                    .source = {},
                                    .reads = c_.reads_,
                                    .knobs = c_.knobs_,
                                    .gates = c_.gates_,
                                    .operables = c_.operables_,
                                    .inputs = {},
                                    .outputs = {}};
    for (std::size_t k = 0; k < c_.parameters_.size(); ++k) {
      const auto [least, most] = c_.bounds(k);
      written.inputs.push_back({c_.parameters_[k], c_.unit(k), c_.value(k), least, most, false});
    }
    for (std::size_t k = 0; k < c_.outputs_.size(); ++k)
      written.outputs.push_back({c_.outputs_[k], units[k]});
    written.source = source();
    return written;
  }

 private:
  struct Numbers {
    std::vector<std::string> rows;
    std::size_t size = 0;
  };
  /// Numbers of a block in a table, with its name; the place of the first.
  static std::size_t put(Numbers& table, const std::vector<double>& values, const std::string& name) {
    std::string text;
    for (const double value : values) text += (text.empty() ? "" : ", ") + c_number(value);
    const std::size_t first = table.size;
    if (!values.empty()) table.rows.push_back(text + " " + c_comment(name));
    table.size += values.size();
    return first;
  }

  void add(const Row& row) {
    const double period = static_cast<double>(c_.rates_[row.rate].ratio) * c_.period_s_;
    const internal::WrittenBlock w = internal::written(*row.block, period);
    std::vector<double> values;
    for (const internal::WrittenNumber& number : w.numbers) values.push_back(number.value);
    const bool may_change = note_parameters(w);
    const std::string p = fmt::format("{} + {}", may_change ? "m->control_number" : "control_constant",
                                      put(may_change ? numbers_ : constants_, values, row.name));
    const std::string s = fmt::format("m->control_state + {}", put(states_, w.state, row.name));
    const std::string out = fmt::format("v + {}", row.first_output);
    const long long ratio = c_.rates_[row.rate].ratio;
    const std::string due = ratio == 1 ? "" : fmt::format("if (tick % {} == 0) ", ratio);
    if (!w.gives.empty())
      showing_ += fmt::format("  {}{}; {}\n", due,
                              replaced(replaced(replaced(w.gives, "#p", p), "#s", s), "#out", out),
                              c_comment(row.name));
    body_ += fmt::format("  {}{{ {}\n{}  }}\n", due, c_comment(row.name), statements(row, w, p, s, out));
  }

  std::string statements(const Row& row, const internal::WrittenBlock& w, const std::string& p,
                         const std::string& s, const std::string& out) const {
    std::string text, in;
    for (std::size_t k = 0; k < row.wire_count; ++k) {
      const Wire& wire = c_.wires_[row.first_wire + k];
      in += (in.empty() ? "" : ", ") + read(wire);
    }
    if (!in.empty()) text += fmt::format("    const double in[] = {{{}}};\n", in);
    if (w.runs.empty())
      return text + fmt::format("    v[{}] = {};\n", row.first_output, w.expressions.front());
    std::string input = "in";
    if (!w.expressions.empty()) {
      input = "holds";
      text += fmt::format("    const double holds[] = {{{}}};\n", fmt::join(w.expressions, ", "));
    }
    std::vector<std::string> given;
    if (w.fires) {
      given.emplace_back("m");
      given.push_back(std::to_string(row.first_gate));
    }
    if (w.fires || w.time) given.emplace_back("time");
    if (!w.numbers.empty()) given.push_back(p);
    if (!w.state.empty()) given.push_back(s);
    for (const int count : w.counts) given.push_back(std::to_string(count));
    if (!in.empty() || !w.expressions.empty()) given.push_back(input);
    if (w.gives.empty()) given.push_back(out);
    return text + fmt::format("    run_{}({});\n", w.runs, fmt::join(given, ", "));
  }
  std::string read(const Wire& wire) const {
    const std::size_t one = c_.outputs_.size();
    if (wire.index == one) return c_number(wire.factor);
    if (wire.factor == 1 || wire.factor == -1)
      return fmt::format("{}v[{}]", wire.factor < 0 ? "-" : "", wire.index);
    return fmt::format("{} * v[{}]", c_number(wire.factor), wire.index);
  }

  /// Whether a number of the block is one that may be set while it runs; where those then stand.
  bool note_parameters(const internal::WrittenBlock& w) {
    bool any = false;
    for (std::size_t k = 0; k < w.numbers.size(); ++k) {
      for (std::size_t n = 0; n < c_.parameter_rows_.size(); ++n) {
        if (w.numbers[k].field == nullptr || w.numbers[k].field != c_.parameter_rows_[n].value) continue;
        places_.resize(c_.parameter_rows_.size(), -1);
        places_[n] = static_cast<int>(numbers_.size + k);
        any = true;
      }
    }
    return any;
  }

  [[nodiscard]] std::string members() const {
    const auto some = [](std::size_t n) { return std::max<std::size_t>(n, 1); };
    return fmt::format(
        "  /* control */\n"
        "  double control_number[{}], control_state[{}], control_value[{}], knob_sent[{}];\n"
        "  unsigned char closes_sent[{}];\n"
        "  long long control_tick, edges_lost;\n",
        some(numbers_.size), some(states_.size), c_.values_.size(), some(c_.knobs_.size()),
        some(c_.operables_.size()));
  }

  /// The pieces that a text calls, each behind those that it calls itself.
  static std::string pieces_of(const std::string& text, std::set<std::string>& known) {
    std::string all, word;
    for (const char c : text) {
      if (std::islower(static_cast<unsigned char>(c)) != 0 || c == '_') {
        word += c;
        continue;
      }
      const std::string file = std::exchange(word, "") + ".c";
      if (c != '(') continue;
      const std::string piece(file_named(file, internal::bundled_files));
      if (piece.empty() || !known.insert(file).second) continue;
      all += pieces_of(piece, known) + piece + "\n";
    }
    return all;
  }

  std::string source() {
    places_.resize(c_.parameter_rows_.size(), -1);
    std::vector<std::string> limits;
    for (std::size_t n = 0; n < places_.size(); ++n) {
      if (places_[n] < 0) throw Error("\"" + c_.parameters_[n] + "\" cannot be changed in C");
      const auto [least, most] = c_.bounds(n);
      limits.push_back(fmt::format("{{{}, {}, {}}} {}", places_[n], c_number(least), c_number(most),
                                   c_comment(c_.parameters_[n])));
    }
    std::vector<std::string> values(c_.outputs_);
    values.emplace_back();
    values.insert(values.end(), c_.reads_.begin(), c_.reads_.end());
    const auto table = [](const std::string& name, const Numbers& numbers) {
      return numbers.rows.empty() ? std::string() : c_rows("double", name, numbers.rows);
    };
    std::string text = c_numbers_of("Where values of blocks and of the network stand", values);
    text += fmt::format(
        "#define CONTROL_PERIOD {}\n#define CONTROL_READS {}\n#define CONTROL_INPUTS {}\n"
        "#define CONTROL_NUMBERS {}\n#define CONTROL_STATES {}\n#define CONTROL_KNOBS {}\n"
        "#define CONTROL_OPERABLES {}\n#define FIRST_READ {}\n\n",
        c_number(c_.period_s_), c_.reads_.size(), limits.size(), numbers_.size, states_.size,
        c_.knobs_.size(), c_.operables_.size(), c_.outputs_.size() + 1);
    text += table("control_constant", constants_) + table("start_number", numbers_) +
            table("start_state", states_) + c_table("double", "start_value", c_.values_);
    if (!limits.empty())
      text +=
          "/* What can be set: its place among the numbers, its bounds. */\n"
          "struct limits {\n  int at;\n  double least, most;\n};\n" +
          c_rows("struct limits", "control_limits", limits);
    if (!c_.knob_at_.empty()) text += c_table("int", "knob_value", numbers(c_.knob_at_));
    if (!c_.operable_at_.empty()) text += c_table("int", "operable_value", numbers(c_.operable_at_));
    const std::string run =
        "/* All blocks that are due, each behind those that it reads. */\n"
        "static void control_run(model *m, double time, long long tick)\n{\n"
        "  double *v = m->control_value;\n" +
        showing_ + body_ + "  (void)time;\n  (void)tick;\n}\n\n";
    std::set<std::string> known;
    return text + "\n" + pieces_of(run + (limits.empty() ? "" : "clamp("), known) + run +
           std::string(file_named("frame.c", internal::bundled_files));
  }
  static std::vector<int> numbers(const std::vector<std::size_t>& of) { return {of.begin(), of.end()}; }

  const Controller& c_;
  Numbers constants_, numbers_, states_;
  std::vector<int> places_;  // of parameters
  std::string showing_, body_;
};

network::WrittenControl Controller::written(const std::vector<std::string>& units) const {
  return Writer(*this).run(units);
}

}  // namespace zavrek::control
