#include "emt/written/writer.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "emt/written/factors.hpp"
#include "emt/written/resources.hpp"
#include "emt/written/text.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::emt::internal {
namespace {

[[noreturn]] void refuse(const std::string& owner, const std::string& why) {
  throw Error(Flaw{.file = {}, .place = owner, .field = {}, .text = why + ", which is not written out in C"});
}

/// Of a name, for an enumeration.
std::string enumerator(const std::string& prefix, const std::string& kind, const std::string& name) {
  std::string text = prefix + "_" + kind + "_" + name;
  for (char& c : text) {
    if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
  }
  return text;
}

std::string capitals(std::string text) {
  for (char& c : text) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
  return text;
}

/// Enumeration of names, with how many there are behind them; numbers follow a name that stands already.
std::string enumeration(const std::string& prefix, const std::string& kind,
                        const std::vector<std::string>& names, const std::vector<std::string>& comments) {
  std::string text = "enum {\n";
  std::vector<std::string> taken;
  for (std::size_t k = 0; k < names.size(); ++k) {
    std::string name = enumerator(prefix, kind, names[k]);
    if (std::find(taken.begin(), taken.end(), name) != taken.end()) name += fmt::format("_{}", k);
    taken.push_back(name);
    text += fmt::format("  {}, {}\n", name, c_comment(comments[k]));
  }
  return text + fmt::format("  {}\n}};\n", capitals(prefix + "_" + kind + "s"));
}

/// Unit and bounds of what can be set.
std::string range_of(const WrittenInput& one) {
  const std::string unit = one.unit.empty() ? "1" : one.unit;
  const bool from = one.least > -never_s, to = one.most < never_s;
  if (from && to) return fmt::format("{}: {} to {}", unit, c_number(one.least), c_number(one.most));
  if (from) return fmt::format("{}: from {}", unit, c_number(one.least));
  return to ? fmt::format("{}: up to {}", unit, c_number(one.most)) : unit;
}

/// Factors of so many numbers are swept through number by number.
constexpr std::size_t longest_straight = 3000;

/// Both sweeps.
std::string straight_solve(const WrittenFactors& factors) {
  const std::size_t n = factors.diagonal.size();
  std::string text =
      "/* Both sweeps through L D L^T, number by number. */\n"
      "static void solve_straight(const model *m, double *now)\n{\n"
      "  const double *b = m->rhs + FIRST_UNKNOWN, *l = m->below, *d = m->one_over;\n"
      "  double *x = now + FIRST_UNKNOWN;\n";
  std::string line = " ";
  const auto say = [&](const std::string& next) {
    if (line.size() + next.size() > 110) {
      text += line + "\n";
      line = " ";
    }
    line += " " + next;
  };
  for (std::size_t j = 0; j < n; ++j) say(fmt::format("double x{0} = b[{0}];", j));
  for (std::size_t j = 0; j < n; ++j) {
    for (int e = factors.column[j]; e < factors.column[j + 1]; ++e)
      say(fmt::format("x{} -= l[{}] * x{};", factors.row[static_cast<std::size_t>(e)], e, j));
  }
  for (std::size_t j = n; j-- > 0;) {
    std::string sum = fmt::format("x{0} = x{0} * d[{0}]", j);
    for (int e = factors.column[j]; e < factors.column[j + 1]; ++e)
      sum += fmt::format(" - l[{}] * x{}", e, factors.row[static_cast<std::size_t>(e)]);
    say(sum + ";");
  }
  for (std::size_t j = 0; j < n; ++j) say(fmt::format("x[{0}] = x{0};", j));
  return text + line + "\n" + (factors.row.empty() ? "  (void)l;\n" : "") + "}\n\n";
}

}  // namespace

void Writer::count(const std::string& what, std::size_t number) {
  counts_ += fmt::format("#define {} {}\n", what, number);
}

void Writer::section(const std::string& title, const std::string& tables, std::string_view piece,
                     std::size_t n) {
  const std::string text = n > 0 ? replaced(piece, "@", std::to_string(n)) : std::string(piece);
  sections_ += fmt::format("\n/* ==== {} ==== */\n\n{}\n{}", title, tables, text);
}

void Writer::refuse_what_cannot_be_written() const {
  for (std::size_t k = 0; k < core_.models.size(); ++k) {
    const Model& model = *core_.models[k].model;
    const std::optional<WrittenLaw> law = model.law(core_.options.step_s);
    if (!law || (model.varies() && !law->varies))
      refuse(assembly_.model_parts[k].owner, "has equations of its own");
  }
  if (!assembly_.leg_parts.empty())
    refuse(assembly_.valve_parts[static_cast<std::size_t>(assembly_.leg_parts.front().valves.front())].owner,
           "is averaged over its pulses");
  for (const WavePart& part : assembly_.wave_parts) {
    if (part.far.empty()) refuse(part.owner, "ends in another simulator");
  }
  for (const KnownNode& known : assembly_.known_nodes) {
    if (known.knob.index < 0 && !assembly_.waveforms[known.waveform].is_alike_and_smooth())
      refuse(known.owner, "has noise, phases of their own or a recorded voltage");
  }
  for (const std::string& name : options_.outputs) {
    if (signal_named(name) == nullptr && control_output(name) == nullptr)
      throw Error(fmt::format("\"{}\" is no signal of the network", name));
  }
}

const SignalRow* Writer::signal_named(const std::string& name) const {
  const auto found = std::find_if(core_.signals.rows.begin(), core_.signals.rows.end(),
                                  [&](const SignalRow& one) { return one.name == name; });
  return found == core_.signals.rows.end() ? nullptr : &*found;
}
const network::WrittenOutput* Writer::control_output(const std::string& name) const {
  if (options_.control == nullptr) return nullptr;
  const auto& all = options_.control->outputs;
  const auto found = std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.name == name; });
  return found == all.end() ? nullptr : &*found;
}

void Writer::write_matrix() {
  const WrittenFactors f(core_.conductances, at_.unknown_of_position(), at_.unknowns());
  count("ADJUSTABLES", core_.conductances.adjustable.size());
  std::vector<std::string> entries, lefts, couplings, driven;
  for (const auto& one : f.entries)
    entries.push_back(fmt::format("{{{}, {}, {}}}", one.row, one.number, c_number(one.sign)));
  for (const auto& one : f.lefts) lefts.push_back(fmt::format("{{{}, {}}}", one.column, one.entry));
  for (const Shard& shard : core_.shards) {
    std::vector<bool> is_driven(shard.couplings.size(), false);
    for (const DrivenCoupling& one : shard.driven) {
      const auto number = static_cast<std::size_t>(one.coupling);
      const Coupling& coupling = shard.couplings[number];
      is_driven[number] = true;
      driven.push_back(fmt::format("{{{}, {}, {}, {}}}", at_.of_position(coupling.row),
                                   at_.of_position(coupling.known), one.number, c_number(one.sign)));
    }
    for (std::size_t k = 0; k < is_driven.size(); ++k) {
      const Coupling& coupling = shard.couplings[k];
      if (!is_driven[k] && coupling.siemens != 0)
        couplings.push_back(fmt::format("{{{}, {}, {}}}", at_.of_position(coupling.row),
                                        at_.of_position(coupling.known), c_number(coupling.siemens)));
    }
  }
  count("COUPLINGS", couplings.size());
  count("DRIVEN_COUPLINGS", driven.size());
  member(fmt::format("double rhs[{}], below[{}], diagonal[{}], one_over[{}]",
                     at_.first_unknown() + at_.unknowns(), std::max<std::size_t>(f.row.size(), 1),
                     at_.unknowns(), at_.unknowns()));
  const bool straight = f.row.size() <= longest_straight;
  std::string tables =
      c_table("double", "start_below", f.below) + c_table("double", "start_diagonal", f.diagonal);
  if (!straight || !core_.conductances.adjustable.empty())
    tables += c_table("int", "column", f.column) + c_table("int", "row", f.row);
  if (!core_.conductances.adjustable.empty()) {
    member(fmt::format("double adjustable[{}]", core_.conductances.adjustable.size()));
    member(fmt::format("unsigned char stale[{}], any_stale", at_.unknowns()));
    tables += c_table("double", "given_below", f.given_below) +
              c_table("double", "given_diagonal", f.given_diagonal) + c_table("int", "entering", f.entering) +
              c_rows("struct entry", "entry", entries) + c_table("int", "left", f.left) +
              c_rows("struct left", "left_of", lefts) + c_table("int", "reach", f.reach) +
              c_table("int", "reached", f.reached) +
              c_table("double", "start_adjustable", core_.conductances.adjustable);
  }
  if (!couplings.empty()) tables += c_rows("struct coupling", "coupling", couplings);
  if (!driven.empty()) tables += c_rows("struct driven", "driven", driven);
  count("STRAIGHT", straight ? 1 : 0);
  section("the nodal matrix", tables + (straight ? straight_solve(f) : ""), matrix_c);
}

void Writer::write_start() {
  sections_ += "\n/* ==== the first instant ==== */\n\n" + c_table("double", "start", at_.start());
}

void Writer::write_inputs(WrittenModel& model) {
  std::vector<std::string> rows;
  for (std::size_t k = 0; k < core_.controls.operables.size(); ++k) {
    const Operable& one = core_.controls.operables[k];
    const bool closed = std::all_of(one.poles.begin(), one.poles.end(), [&](int pole) {
      return assembly_.pole_parts[static_cast<std::size_t>(pole)].closed;
    });
    model.inputs.push_back({one.name, "", closed ? 1.0 : 0.0, 0, 1, true});
    rows.push_back(fmt::format("{{{}, 0, 0, {}, 0, 1}} {}", k, closed ? 1 : 0, c_comment(one.name)));
  }
  for (const Knob& knob : assembly_.knobs) {
    const int place = at_.of(knob.slot);
    const double start = at_.start()[static_cast<std::size_t>(place)];
    model.inputs.push_back({knob.name, knob.unit, start, knob.low, knob.high});
    rows.push_back(fmt::format("{{-1, {}, {}, {}, {}, {}}} {}", place, knob.smooth ? 1 : 0, c_number(start),
                               c_number(knob.low), c_number(knob.high), c_comment(knob.name)));
  }
  for (const Gate& gate : assembly_.gates) model.gates.push_back(gate.name);
  count("INPUTS", rows.size());
  if (rows.empty()) return;
  member(fmt::format("double input[{}]", rows.size()));
  sections_ += "\n/* ==== what can be set ==== */\n\n" + c_rows("struct input", "input", rows);
}

std::string Writer::terms_of(const std::string& first_name, const std::string& term_name,
                             const std::vector<std::string>& signals) const {
  std::vector<int> first{0};
  std::vector<std::string> terms;
  for (const std::string& name : signals) {
    if (const SignalRow* row = signal_named(name)) {
      for (int k = row->first; k < row->first + row->count; ++k) {
        const Term& term = core_.signals.terms[static_cast<std::size_t>(k)];
        terms.push_back(fmt::format("{{{}, {}}} {}", at_.of_position(term.index), c_number(term.coefficient),
                                    c_comment(name)));
      }
    }
    first.push_back(static_cast<int>(terms.size()));
  }
  return c_table("int", first_name, first) + c_rows("struct term", term_name, terms);
}

void Writer::write_outputs() {
  count("OUTPUTS", options_.outputs.size());
  sections_ += "\n/* ==== what can be read ==== */\n\n" + terms_of("output_first", "term", options_.outputs);
}

/// Behind the step: how the control reaches the network, then the control's own text.
void Writer::write_control(WrittenModel& model) {
  count("CONTROL", options_.control != nullptr ? 1 : 0);
  if (options_.control == nullptr) return;
  const network::WrittenControl& control = *options_.control;
  std::string tables = "/* ==== control ==== */\n\n";
  if (!control.reads.empty())
    tables += terms_of("read_first", "read_term", control.reads) + std::string(control_c);
  const auto numbers = [&](const std::string& table, const std::vector<std::string>& names,
                           const std::vector<std::string>& known) {
    std::vector<int> places;
    for (const std::string& name : names) {
      const auto at = std::find(known.begin(), known.end(), name);
      if (at == known.end()) throw Error(fmt::format("the network has no \"{}\" for its control", name));
      places.push_back(static_cast<int>(at - known.begin()));
    }
    if (!names.empty()) tables += c_table("int", table, places);
  };
  std::vector<std::string> inputs, operables, outputs;
  for (const WrittenInput& one : model.inputs) inputs.push_back(one.name);
  for (const Operable& one : core_.controls.operables) operables.push_back(one.name);
  for (const auto& one : control.outputs) outputs.push_back(one.name);
  numbers("control_knob", control.knobs, inputs);
  numbers("control_gate", control.gates, model.gates);
  numbers("control_operable", control.operables, operables);
  std::vector<int> of_control;
  for (const std::string& name : options_.outputs) {
    const auto at = std::find(outputs.begin(), outputs.end(), name);
    const bool is_signal = signal_named(name) != nullptr;
    of_control.push_back(is_signal || at == outputs.end() ? -1 : static_cast<int>(at - outputs.begin()));
  }
  tables += "/* Outputs that are the control's. */\n" + c_table("int", "of_control", of_control);
  control_ = tables + "\n" + control.source;
  members_ += control.members;
  model.inputs.insert(model.inputs.end(), control.inputs.begin(), control.inputs.end());
}

/// What the step calls of all lists of parts, one after the other.
void Writer::write_dispatch() {
  const auto function = [&](const std::string& head, const std::vector<std::string>& lists,
                            const std::string& call, const std::string& none) {
    std::string text = "static void " + head + "\n{\n";
    for (const std::string& list : lists) text += "  " + list + call + ";\n";
    if (lists.empty()) text += none;
    sections_ += text + "}\n";
  };
  sections_ += "\n/* ==== all parts ==== */\n\n";
  function("parts_history(model *m, const double *old, const struct weights *rule)", lists_of_parts_,
           "_history(m, old, rule)", "  (void)m;\n  (void)old;\n  (void)rule;\n");
  function("parts_apart(model *m, const double *stands, const struct sloped slopes[2])", lists_of_parts_,
           "_apart(m, stands, slopes)", "  (void)m;\n  (void)stands;\n  (void)slopes;\n");
  function("parts_pass(model *m, double *now, const struct weights *rule)", lists_of_parts_,
           "_pass(m, now, rule)", "  (void)m;\n  (void)now;\n  (void)rule;\n");
  sections_ +=
      "/* Currents of capacitances. */\nstatic void parts_slopes(const double *slope, double *next)\n{\n";
  for (const auto& [first, number] : capacitor_currents_)
    sections_ += fmt::format("  memcpy(next + {0}, slope + {0}, {1} * sizeof next[0]);\n", first, number);
  if (capacitor_currents_.empty()) sections_ += "  (void)slope;\n  (void)next;\n";
  sections_ += "}\n";
  if (lists_of_lines_.empty()) return;
  function("lines_history(model *m, double ahead)", lists_of_lines_, "_history(m, ahead)", "");
  function("lines_currents(const model *m, double *now)", lists_of_lines_, "_currents(m, now)", "");
  function("lines_push(model *m, const double *now)", lists_of_lines_, "_push(m, now)", "");
  function("lines_jump(model *m, double share, const double *before, const double *behind)", lists_of_lines_,
           "_jump(m, share, before, behind)", "");
}

std::string Writer::place_names() const {
  return c_numbers_of("Where values stand in the arrays of an instant (V, A, Vs; angles are not among them)",
                      at_.names());
}

std::string Writer::header(const WrittenModel& model) const {
  const std::string& name = options_.name;
  std::vector<std::string> input_names, input_notes, output_notes;
  for (const WrittenInput& one : model.inputs) {
    input_names.push_back(one.name);
    input_notes.push_back(one.name + (one.is_switch ? ": 1 closed, 0 open" : ", " + range_of(one)));
  }
  for (const std::string& output : options_.outputs) {
    const SignalRow* row = signal_named(output);
    const std::string& unit = row != nullptr ? row->unit : control_output(output)->unit;
    output_notes.push_back(fmt::format("{}, {}", output, unit.empty() ? "1" : unit));
  }
  std::string text = fmt::format(
      "{0}\n#ifndef {1}_H\n#define {1}_H\n\n#ifdef __cplusplus\nextern \"C\" {{\n#endif\n\n#define "
      "{1}_STEP_S {2}\n\n"
      "/* A model's whole state: a copy of the struct saves it. Each is used by one thread at a time. */\n"
      "typedef struct {3}_model {3}_model;\n\n",
      c_comment(fmt::format("{}: a network, in steps of {}", options_.title,
                            print_rounded(core_.options.step_s, "s"))),
      capitals(name), c_number(core_.options.step_s), name);
  text +=
      "/* What can be set between any two steps, */\n" + enumeration(name, "in", input_names, input_notes);
  if (!model.gates.empty())
    text += "/* gates of valves, */\n" + enumeration(name, "gate", model.gates, model.gates);
  text += "/* and what can be read. */\n" + enumeration(name, "out", options_.outputs, output_notes);
  return text + replaced(declarations_c, "NAME", name) + "struct " + name + "_model {\n" + members_ +
         "};\n\n#ifdef __cplusplus\n}\n#endif\n\n#endif\n";
}

std::string Writer::source() const {
  const std::string text =
      fmt::format("{}\n{}\n{}\n{}\n{}\n{}\n{}\n{}\n{}", c_comment(options_.title), counts_, types_c,
                  place_names(), sections_, step_c, inputs_c, control_, interface_c);
  const std::string header = options_.header.empty() ? options_.name + ".h" : options_.header;
  return replaced(replaced(text, "HEADER", header), "NAME", options_.name);
}

WrittenModel Writer::run() {
  refuse_what_cannot_be_written();
  WrittenModel model;
  model.step_s = core_.options.step_s;
  counts_ += fmt::format("#define STEP {}\n", c_number(core_.options.step_s));
  count("FIRST_UNKNOWN", static_cast<std::size_t>(at_.first_unknown()));
  count("UNKNOWNS", static_cast<std::size_t>(at_.unknowns()));
  count("SETTINGS", static_cast<std::size_t>(at_.settings()));
  count("VALUES", static_cast<std::size_t>(at_.values()));
  count("EDGES", GateEdges::most);
  count("EULER_THROUGHOUT", core_.options.euler_throughout ? 1 : 0);
  count("START_ANEW", core_.restart.due() ? 1 : 0);
  member(fmt::format("double value[7][{}]", at_.values()));
  member("unsigned char which[7]");
  member("long long steps, discontinuities, steps_at_limit");
  member("double bent");
  member(
      "unsigned char bent_by_slope, slope_stands, behind_event, damped, history_holds, restart, corner_due, "
      "ended");
  write_start();
  write_matrix();
  write_sources();
  write_series();
  write_capacitances();
  write_lines();
  write_poles();
  write_segments();
  write_valves();
  write_laws();
  write_dispatch();
  write_inputs(model);
  write_outputs();
  write_control(model);
  model.header = header(model);
  model.source = source();
  return model;
}

}  // namespace zavrek::emt::internal

namespace zavrek::emt {

WrittenModel write_c(const network::Network& network, const WritingOptions& options) {
  const internal::Compiled compiled = internal::compile_parts(network, 0, internal::Condensing::none);
  return internal::Writer(compiled, options).run();
}

}  // namespace zavrek::emt
