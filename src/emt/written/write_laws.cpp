#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "emt/written/resources.hpp"
#include "emt/written/text.hpp"
#include "emt/written/writer.hpp"

namespace zavrek::emt::internal {
namespace {

std::string_view file_named(const std::string& name) {
  const auto found = std::find_if(bundled_files.begin(), bundled_files.end(),
                                  [&](const auto& one) { return one.first == name; });
  if (found == bundled_files.end()) throw Error("no piece of the step in C is called \"" + name + "\"");
  return found->second;
}
/// Of "meter", law_meter.c; of "instrument_3", law_instrument.c for 3.
std::string piece_of(const std::string& kind) {
  const std::size_t end = kind.find_last_not_of("0123456789") + 1;
  const bool of_many = end < kind.size();
  const std::string_view piece = file_named("law_" + (of_many ? kind.substr(0, end - 1) : kind) + ".c");
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

}  // namespace

/// Kind by kind, each with its piece and two loops over its laws.
void Writer::write_laws() {
  const std::size_t count_of_laws = core_.models.size();
  count("LAWS", count_of_laws);
  if (count_of_laws == 0) return;
  std::map<std::string, std::vector<std::string>> rows, laws;
  std::string tables;
  std::map<std::string, bool> reads_alone, varies, jumps, leaps;
  std::set<std::string> shared;
  std::map<std::string, std::size_t> remembers;
  std::string start;  // what is remembered, at the first instant
  std::size_t most_ends = 1, inputs = 0;
  for (std::size_t k = 0; k < count_of_laws; ++k) {
    const ModelRow& row = core_.models[k];
    const ModelPart& part = assembly_.model_parts[k];
    const WrittenLaw law = *row.model->law(core_.options.step_s);
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
    laws[law.kind].push_back(fmt::format("{{{}, {}, {}, {}, {}, {}, {}, {}, {}, {}}} {}", p, q,
                                         row.places.p.size(), at_.of(part.first), settings, input,
                                         input_first, wanted ? at_.of(part.currents) : -1, g, row.number,
                                         c_comment(part.owner)));
    varies[law.kind] = law.varies;
    jumps[law.kind] = law.jumps;
    leaps[law.kind] = law.leaps;
    if (!law.shares.empty()) shared.insert(law.shares);
    remembers[law.kind] = std::max(remembers[law.kind], law.memory.size());
    const std::string lists = fmt::format("{}_{}", law.kind, k);
    for (const auto& [name, list] : law.lists) tables += c_table("double", lists + "_" + name, list);
    if (!law.memory.empty()) {
      const std::string kept = fmt::format("law_memory_{}", k);
      tables += c_table("double", kept, law.memory);
      start += fmt::format("  memcpy(m->{}_memory[{}], {}, sizeof {});\n", law.kind, rows[law.kind].size(),
                           kept, kept);
    }
    rows[law.kind].push_back(row_of(law, lists) + " " + c_comment(part.owner));
    reads_alone[law.kind] = row.model->measures();
    most_ends = std::max(most_ends, row.places.p.size());
    if (const auto [slot, number] = row.model->charging_slots(); number > 0)
      capacitor_currents_.emplace_back(at_.of(part.first) + slot, number);
  }
  count("LAW_INPUTS", inputs);
  section("parts with equations of their own", tables, laws_c);
  for (const std::string& name : shared) sections_ += "\n" + std::string(file_named("shared_" + name + ".c"));
  std::string begin, end, leap;
  bool any_varies = false;
  for (const auto& [kind, list] : rows) {
    sections_ += fmt::format("\n/* ==== {} ==== */\n\n{}\n{}\n{}", replaced(kind, "_", " "), piece_of(kind),
                             c_rows("struct " + kind, kind + "s", list),
                             c_rows("struct law", kind + "_laws", laws[kind]));
    const std::string loop = fmt::format("  for (int k = 0; k < {}; ++k)", list.size());
    if (leaps[kind]) leap += fmt::format("{0} {1}_leap(&{1}_laws[k], second, now);\n", loop, kind);
    if (reads_alone[kind]) {
      end += fmt::format("{0} {1}_end(&{1}s[k], &{1}_laws[k], span, old, now);\n", loop, kind);
      continue;
    }
    member(fmt::format("double {}_history[{}][{}]", kind, list.size(), most_ends));
    const std::string memory = remembers[kind] > 0 ? fmt::format(", m->{}_memory[k]", kind) : "";
    if (remembers[kind] > 0)
      member(fmt::format("double {}_memory[{}][{}]", kind, list.size(), remembers[kind]));
    const std::string local =
        varies[kind] ? fmt::format("    double g[{}] = {{0}};\n", most_ends * most_ends) : "";
    const std::string enter = varies[kind] ? fmt::format("    vary_law(m, &{}_laws[k], g);\n", kind) : "";
    any_varies = any_varies || varies[kind];
    begin += fmt::format(
        "{0} {{\n{3}    {1}_begin(&{1}s[k], &{1}_laws[k], span, old, m->{1}_history[k]{2}{4});\n{5}"
        "    enter_law(m, &{1}_laws[k], m->{1}_history[k]);\n  }}\n",
        loop, kind, memory, local, varies[kind] ? ", g" : "", enter);
    end += fmt::format(
        "{0} {{\n    {1}_end(&{1}s[k], &{1}_laws[k], span, old, now, m->{1}_history[k]{2});\n"
        "    write_currents(&{1}_laws[k], now, m->{1}_history[k]);\n{3}  }}\n",
        loop, kind, memory,
        jumps[kind] ? fmt::format("    if (!span->beyond && {0}_jumps(&{0}s[k], &{0}_laws[k], now, "
                                  "m->{0}_memory[k])) m->restart = 1;\n",
                                  kind)
                    : "");
  }
  count("LAWS_THAT_ACT", begin.empty() ? 0 : 1);
  count("LAWS_THAT_LEAP", leap.empty() ? 0 : 1);
  if (!leap.empty())
    sections_ += "\nstatic void laws_leap(const double *second, double *now)\n{\n" + leap + "}\n";
  count("LAWS_THAT_VARY", any_varies ? 1 : 0);
  count("LAWS_THAT_REMEMBER", start.empty() ? 0 : 1);
  if (!start.empty()) sections_ += "\nstatic void laws_start(model *m)\n{\n" + start + "}\n";
  if (!begin.empty())
    sections_ +=
        "\nstatic void laws_begin(model *m, const struct span *span, const double *old)\n{\n" + begin + "}\n";
  sections_ +=
      "static void laws_end(model *m, const struct span *span, const double *old, double *now)\n{\n" +
      std::string(begin.empty() ? "  (void)m;\n" : "") + end + "}\n";
}

}  // namespace zavrek::emt::internal
