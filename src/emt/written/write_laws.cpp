#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "emt/written/resources.hpp"
#include "emt/written/text.hpp"
#include "emt/written/writer.hpp"

namespace zavrek::emt::internal {
namespace {

std::string_view piece_named(const std::string& name) {
  const std::string_view piece = file_named(name, bundled_files);
  if (piece.empty()) throw Error("no piece of the step in C is called \"" + name + "\"");
  return piece;
}
/// Of "meter", law_meter.c; of "instrument_3", law_instrument.c for 3.
std::string piece_of(const std::string& kind) {
  const std::size_t end = kind.find_last_not_of("0123456789") + 1;
  const bool of_many = end < kind.size();
  const std::string_view piece = piece_named("law_" + (of_many ? kind.substr(0, end - 1) : kind) + ".c");
  return of_many ? replaced(piece, "@", kind.substr(end)) : std::string(piece);
}

/// `lists`: the names of the tables that hold its lists begin so.
std::string row_of(const WrittenLaw& law, const std::string& lists) {
  std::string row;
  for (const auto& [name, number] : law.numbers)
    row += fmt::format("{}.{} = {}", row.empty() ? "" : ", ", name, c_number(number));
  for (const auto& [name, array] : law.arrays)
    row += fmt::format(", .{} = {}", name, c_list(std::vector<double>(array.begin(), array.end())));
  for (const auto& [name, matrix] : law.matrices) row += fmt::format(", .{} = {}", name, c_matrix(matrix));
  for (const auto& [name, list] : law.lists) row += fmt::format(", .{} = {}_{}", name, lists, name);
  return "{" + row + "}";
}

/// Laws of one kind: a row each in the kind's own table and in that of all laws, and the memory that each
/// begins with.
struct LawsOfKind {
  WrittenLaw law;  // one of them
  bool measures = false;
  std::vector<std::string> own, common, memories;
  std::size_t remembers = 0;
};

/// What the step calls of all laws, one kind after the other.
struct Calls {
  std::string start, begin, end, leap;
  bool vary = false;

  void add(const std::string& kind, const LawsOfKind& laws, std::size_t most_ends) {
    const std::string loop = fmt::format("  for (int k = 0; k < {}; ++k)", laws.own.size());
    const auto call = [&](const std::string& text) { return replaced(text, "KIND", kind); };
    if (laws.law.leaps) leap += loop + call(" KIND_leap(&KIND_laws[k], second, now);\n");
    if (laws.measures) {
      end += loop + call(" KIND_end(&KINDs[k], &KIND_laws[k], span, old, now);\n");
      return;
    }
    for (std::size_t k = 0; k < laws.memories.size(); ++k) {
      start += fmt::format("  memcpy(m->{}_memory[{}], {}, sizeof {});\n", kind, k, laws.memories[k],
                           laws.memories[k]);
    }
    const std::string memory = laws.remembers > 0 ? ", m->KIND_memory[k]" : "";
    const bool varies = laws.law.varies;
    vary = vary || varies;
    begin += loop + " {\n" +
             (varies ? fmt::format("    double g[{}] = {{0}};\n", most_ends * most_ends) : "") +
             call("    KIND_begin(&KINDs[k], &KIND_laws[k], span, old, m->KIND_history[k]" + memory +
                  (varies ? ", g" : "") + ");\n" + (varies ? "    vary_law(m, &KIND_laws[k], g);\n" : "") +
                  "    enter_law(m, &KIND_laws[k], m->KIND_history[k]);\n  }\n");
    end += loop + " {\n" +
           call("    KIND_end(&KINDs[k], &KIND_laws[k], span, old, now, m->KIND_history[k]" + memory +
                ");\n    write_currents(&KIND_laws[k], now, m->KIND_history[k]);\n" +
                (laws.law.jumps ? "    if (!span->beyond && KIND_jumps(&KINDs[k], &KIND_laws[k], now, "
                                  "m->KIND_memory[k])) m->restart = 1;\n"
                                : "") +
                "  }\n");
  }
};

}  // namespace

/// A law's row in the table of all: its ends, slots, settings, inputs, conductances; what these refer to goes
/// into `tables`.
std::string Writer::law_row(std::size_t k, std::string& tables, std::size_t& inputs) const {
  const ModelRow& row = core_.models[k];
  const ModelPart& part = assembly_.model_parts[k];
  const auto placed = [&](const std::string& name, const std::vector<int>& positions) {
    if (positions.empty()) return std::string("0");
    std::vector<int> places;
    for (const int position : positions) places.push_back(at_.of_position(position));
    std::string table = fmt::format("{}_{}", name, k);
    tables += c_table("int", table, places);
    return table;
  };
  std::vector<int> first{0};
  std::vector<std::string> terms;
  for (const auto& input : row.places.inputs) {
    for (const auto& [position, coefficient] : input)
      terms.push_back(fmt::format("{{{}, {}}}", at_.of_position(position), c_number(coefficient)));
    first.push_back(static_cast<int>(terms.size()));
    ++inputs;
  }
  std::string input = "0", input_first = "0", g = "0";
  if (!terms.empty()) {
    input = fmt::format("law_input_{}", k);
    input_first = fmt::format("law_input_first_{}", k);
    tables += c_rows("struct term", input, terms) + c_table("int", input_first, first);
  }
  const bool wanted = part.currents.index >= 0;
  if (wanted) {
    g = fmt::format("law_g_{}", k);
    tables += c_table("double", g, row.conductance);
  }
  const std::string p = placed("law_p", row.places.p), q = placed("law_q", row.places.q),
                    settings = placed("law_setting", row.places.knobs);
  return fmt::format("{{{}, {}, {}, {}, {}, {}, {}, {}, {}, {}}} {}", p, q, row.places.p.size(),
                     at_.of(part.first), settings, input, input_first, wanted ? at_.of(part.currents) : -1, g,
                     row.number, c_comment(part.owner));
}

/// Kind by kind, each with its piece and its tables, then what the step calls of them.
void Writer::write_laws() {
  count("LAWS", core_.models.size());
  if (core_.models.empty()) return;
  std::map<std::string, LawsOfKind> kinds;
  std::set<std::string> shared;
  std::string tables;
  std::size_t most_ends = 1, inputs = 0;
  for (std::size_t k = 0; k < core_.models.size(); ++k) {
    const ModelRow& row = core_.models[k];
    const ModelPart& part = assembly_.model_parts[k];
    const WrittenLaw law = *row.model->law(core_.options.step_s);
    LawsOfKind& of = kinds[law.kind];
    of.common.push_back(law_row(k, tables, inputs));
    const std::string lists = fmt::format("{}_{}", law.kind, k);
    for (const auto& [name, list] : law.lists) tables += c_table("double", lists + "_" + name, list);
    if (!law.memory.empty()) {
      of.memories.push_back(fmt::format("law_memory_{}", k));
      tables += c_table("double", of.memories.back(), law.memory);
    }
    of.own.push_back(row_of(law, lists) + " " + c_comment(part.owner));
    of.measures = row.model->measures();
    of.remembers = std::max(of.remembers, law.memory.size());
    of.law = law;
    if (!law.shares.empty()) shared.insert(law.shares);
    most_ends = std::max(most_ends, row.places.p.size());
    if (const auto [slot, number] = row.model->charging_slots(); number > 0)
      capacitor_currents_.emplace_back(at_.of(part.first) + slot, number);
  }
  count("LAW_INPUTS", inputs);
  section("parts with equations of their own", tables, laws_c);
  for (const std::string& name : shared)
    sections_ += "\n" + std::string(piece_named("shared_" + name + ".c"));
  Calls calls;
  for (const auto& [kind, laws] : kinds) {
    sections_ += fmt::format("\n/* ==== {} ==== */\n\n{}\n{}\n{}", replaced(kind, "_", " "), piece_of(kind),
                             c_rows("struct " + kind, kind + "s", laws.own),
                             c_rows("struct law", kind + "_laws", laws.common));
    if (!laws.measures) member(fmt::format("double {}_history[{}][{}]", kind, laws.own.size(), most_ends));
    if (laws.remembers > 0)
      member(fmt::format("double {}_memory[{}][{}]", kind, laws.own.size(), laws.remembers));
    calls.add(kind, laws, most_ends);
  }
  const auto function = [&](const std::string& flag, const std::string& head, const std::string& body) {
    count(flag, body.empty() ? 0 : 1);
    if (!body.empty()) sections_ += "\nstatic void " + head + "\n{\n" + body + "}\n";
  };
  count("LAWS_THAT_VARY", calls.vary ? 1 : 0);
  function("LAWS_THAT_REMEMBER", "laws_start(model *m)", calls.start);
  function("LAWS_THAT_ACT", "laws_begin(model *m, const struct span *span, const double *old)", calls.begin);
  function("LAWS_THAT_LEAP", "laws_leap(const double *second, double *now)", calls.leap);
  sections_ +=
      "\nstatic void laws_end(model *m, const struct span *span, const double *old, double *now)\n{\n" +
      std::string(calls.begin.empty() ? "  (void)m;\n" : "") + calls.end + "}\n";
}

}  // namespace zavrek::emt::internal
