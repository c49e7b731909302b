#include <fmt/format.h>

#include "emt/written/resources.hpp"
#include "emt/written/text.hpp"
#include "emt/written/writer.hpp"

namespace zavrek::emt::internal {

void Writer::write_poles() {
  const std::size_t n = assembly_.pole_parts.size();
  count("POLES", n);
  if (n == 0) return;
  std::string tables;
  std::vector<std::string> rows, operables;
  for (std::size_t k = 0; k < n; ++k) {
    const PolePart& part = assembly_.pole_parts[k];
    const std::string strength = fmt::format("strength_{}", k);
    tables += points(strength, part.strength);
    rows.push_back(
        fmt::format("{{{}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}}} {}", at_.of(part.ends.p),
                    at_.of(part.ends.q), at_.of(part.current), at_.of(part.position), core_.poles[k].number,
                    part.closed ? 1 : 0, part.strength.size(), part.strength.empty() ? "0" : strength,
                    c_number(part.closed_S), c_number(part.open_S), c_number(part.chop_A),
                    c_number(part.late_open_s), c_number(part.late_close_s), c_comment(part.owner)));
  }
  const auto list = [&](const std::string& name, const std::vector<int>& numbers) {
    if (numbers.empty()) return std::string("0, 0");
    tables += c_table("int", name, numbers);
    return fmt::format("{}, {}", name, numbers.size());
  };
  for (std::size_t k = 0; k < core_.controls.operables.size(); ++k) {
    const Operable& one = core_.controls.operables[k];
    const std::string poles = list(fmt::format("poles_{}", k), one.poles);
    const std::string blocking = list(fmt::format("blocking_{}", k), one.blocking);
    operables.push_back(fmt::format("{{{}, {}, {}, {}, {}}} {}", poles, blocking, one.always_opens ? 1 : 0,
                                    c_number(one.opening_time_s), c_number(one.closing_time_s),
                                    c_comment(one.name)));
  }
  tables += c_rows("struct pole", "pole", rows) + c_rows("struct operable", "operable", operables);
  member(fmt::format("double close_at[{0}], part_at[{0}], ceased_at[{0}], closed_at[{0}], alarm", n));
  member(fmt::format("unsigned char closed[{0}], pole_due[{0}]", n));
  section("switch poles", tables, poles_c);
}

void Writer::write_segments() {
  const std::size_t n = assembly_.segment_parts.size();
  count("SEGMENTS", n);
  if (n == 0) return;
  std::vector<std::string> rows, pieces;
  for (std::size_t k = 0; k < n; ++k) {
    const SegmentPart& part = assembly_.segment_parts[k];
    const std::size_t first = pieces.size();
    for (const SegmentGroup::Piece& piece : SegmentGroup::pieces_of(part.corners))
      pieces.push_back(c_list(std::vector<double>{piece.low, piece.high, piece.slope, piece.offset}));
    rows.push_back(fmt::format("{{{}, {}, {}, {}, {}, {}, {}, {}, {}}} {}", at_.of(part.ends.p),
                               at_.of(part.ends.q), at_.of(part.current), at_.of(part.state),
                               core_.segments.number(k), part.inductive ? 1 : 0, first, pieces.size(),
                               c_number(SegmentGroup::slack_of(part.corners)), c_comment(part.owner)));
  }
  member(fmt::format("double segment_carried[{0}], segment_history[{0}], moved_at[{0}]", n));
  member(fmt::format("short straight_of[{}]", n));
  member(fmt::format("unsigned char segment_due[{}]", n));
  section("bent characteristics",
          c_rows("struct straight", "straight", pieces) + c_rows("struct segment", "segment", rows),
          segments_c);
}

void Writer::write_valves() {
  const std::size_t n = assembly_.valve_parts.size();
  count("VALVES", n);
  count("GATES", assembly_.gates.size());
  if (n == 0) return;
  constexpr std::array kinds{"DIODE", "THYRISTOR", "TRANSISTOR", "CONTACT"};
  std::vector<std::string> rows;
  for (std::size_t k = 0; k < n; ++k) {
    const ValvePart& part = assembly_.valve_parts[k];
    rows.push_back(fmt::format(
        "{{{}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}}} {}", kinds[static_cast<std::size_t>(part.kind)],
        at_.of(part.ends.p), at_.of(part.ends.q), core_.valves.number(k), at_.of_valve_voltage(k),
        at_.of(part.current), at_.of(part.conducts), c_number(part.off_S),
        c_number(1 / part.on_resistance_ohm), c_number(part.drop_V), c_number(1 / part.diode_resistance_ohm),
        c_number(part.diode_drop_V), c_comment(part.owner)));
  }
  std::vector<int> first{0}, valves;
  for (const Gate& gate : assembly_.gates) {
    valves.insert(valves.end(), gate.valves.begin(), gate.valves.end());
    first.push_back(static_cast<int>(valves.size()));
  }
  member(fmt::format(
      "struct {}_piece {{\n    double siemens, source, low, high, slack, ohm, fitted, misfit, time;\n"
      "    int on, changes;\n  }} piece[{}]",
      options_.name, n));
  member(fmt::format("double edge_at[{}][{}]", n, GateEdges::most));
  member(fmt::format(
      "unsigned char edge_on[{0}][{1}], edge_first[{0}], edges_waiting[{0}], gate[{0}], recovered[{0}]", n,
      GateEdges::most));
  member("double nodes_high, volts_high, amperes_high");
  member("unsigned char valves_left, valves_due, watched_from_half_step");
  std::string tables = c_rows("struct valve", "valve", rows);
  if (!assembly_.gates.empty())
    tables += c_table("int", "gate_first", first) + c_table("int", "gate_valve", valves);
  section("valves", tables, valves_c);
}

}  // namespace zavrek::emt::internal
