#include <algorithm>
#include <bit>
#include <set>

#include <fmt/format.h>

#include "emt/groups/series_group.hpp"
#include "emt/parts/wave_matrices.hpp"
#include "emt/solve/dense.hpp"
#include "emt/written/resources.hpp"
#include "emt/written/text.hpp"
#include "emt/written/writer.hpp"

namespace zavrek::emt::internal {
namespace {

bool is_diagonal(const Eigen::MatrixXd& matrix) {
  return Eigen::MatrixXd(matrix.diagonal().asDiagonal()) == matrix;
}
Eigen::MatrixXd one(double value) { return Eigen::MatrixXd::Constant(1, 1, value); }
std::vector<double> column(const Eigen::VectorXd& values) { return {values.begin(), values.end()}; }

}  // namespace

std::string Writer::points(const std::string& name, const network::Points& points) {
  std::vector<std::string> rows;
  for (const network::Point& point : points) rows.push_back(c_list(std::vector<double>{point.x, point.y}));
  return points.empty() ? "" : c_rows("struct point", name, rows);
}

std::vector<int> Writer::places_of(const std::vector<Ends>& ends, NodeId Ends::*side) const {
  std::vector<int> places;
  for (const Ends& end : ends) places.push_back(at_.of(end.*side));
  return places;
}

/// Nodes of one waveform one after the other.
void Writer::write_sources() {
  std::vector<const KnownNode*> driven, told;
  for (const KnownNode& known : assembly_.known_nodes)
    (known.knob.index >= 0 ? told : driven).push_back(&known);
  std::stable_sort(driven.begin(), driven.end(),
                   [](const KnownNode* a, const KnownNode* b) { return a->waveform < b->waveform; });
  std::vector<std::string> known_rows, told_rows, waveform_rows;
  std::string tables;
  std::set<double> corners;
  for (std::size_t k = 0; k < driven.size(); ++k) {
    const KnownNode& node = *driven[k];
    const Waveform::Phase phase(node.angle_rad);
    known_rows.push_back(fmt::format("{{{}, {}, {}, {}}} {}", at_.of(node.node), c_number(phase.angle_rad),
                                     c_number(phase.cosine), c_number(phase.sine),
                                     c_comment(assembly_.node_name(node.node))));
    if (k > 0 && driven[k - 1]->waveform == node.waveform) continue;
    std::size_t end = k;
    while (end < driven.size() && driven[end]->waveform == node.waveform) ++end;
    const Waveform& wave = assembly_.waveforms[node.waveform];
    const std::string number = fmt::format("_{}", waveform_rows.size());
    tables += points("magnitude" + number, wave.magnitude()) + points("turn" + number, wave.turns());
    std::vector<std::string> pieces, harmonics;
    for (const Waveform::Piece& p : wave.pieces())
      pieces.push_back(c_list(std::vector<double>{p.start_s, p.hertz, p.slope, p.turn_rad}));
    for (const Waveform::Harmonic& h : wave.harmonics())
      harmonics.push_back(c_list(std::vector<double>{h.order, h.share, h.angle_rad}));
    if (!pieces.empty()) tables += c_rows("struct stretch", "stretch" + number, pieces);
    if (!harmonics.empty()) tables += c_rows("struct harmonic", "harmonic" + number, harmonics);
    const auto named = [&](const char* name, std::size_t count) {
      return count == 0 ? std::string("0, 0") : fmt::format("{}{}, {}", name, number, count);
    };
    waveform_rows.push_back(fmt::format("{{{}, {}, {}, {}, {}, {}, {}, {}, {}}} {}", k, end,
                                        c_number(wave.amplitude()), c_number(wave.omega()),
                                        c_number(wave.angle()), named("magnitude", wave.magnitude().size()),
                                        named("turn", wave.turns().size()), named("stretch", pieces.size()),
                                        named("harmonic", harmonics.size()), c_comment(node.owner)));
    for (const double corner : wave.corners_s()) {
      if (corner > 0) corners.insert(corner);
    }
  }
  for (const KnownNode* node : told)
    told_rows.push_back(fmt::format("{{{}, {}}}", at_.of(node->node), at_.of(node->knob)));
  count("WAVEFORMS", waveform_rows.size());
  count("TOLD", told_rows.size());
  count("CORNERS", corners.size());
  member("int corners_passed");
  tables += c_table("double", "corner", std::vector<double>(corners.begin(), corners.end()));
  tables +=
      c_rows("struct known", "known", known_rows) + c_rows("struct waveform", "waveform", waveform_rows);
  if (!told_rows.empty()) tables += c_rows("struct told", "told", told_rows);
  section("sources", tables, sources_c);
}

/// Blocks that are not coupled come apart.
void Writer::write_series() {
  std::map<std::size_t, std::vector<std::string>> rows;
  const double h = core_.options.step_s;
  for (const SeriesPart& part : assembly_.series_parts) {
    Eigen::MatrixXd z = part.resistance + 2 / h * part.inductance;
    if (part.capacitive()) z.diagonal() += h / 2 * part.elastance;
    const Eigen::MatrixXd g = inverse(z);
    SeriesPart whole = part;
    if (!part.capacitive()) whole.elastance = Eigen::VectorXd::Zero(z.rows());
    const StepMatrices m = step_matrices(whole, g, h);
    const int charge = part.capacitive() ? at_.of(part.first_charge_voltage) : -1;
    const auto add = [&](const std::vector<Ends>& ends, int first, const Eigen::MatrixXd& conductance,
                         const Eigen::MatrixXd& kept, const Eigen::VectorXd& elastic) {
      rows[ends.size()].push_back(
          fmt::format("{{{}, {}, {}, {}, {}, {}, {}}} {}", c_list(places_of(ends, &Ends::p)),
                      c_list(places_of(ends, &Ends::q)), at_.of(part.first_current) + first,
                      charge < 0 ? -1 : charge + first, c_matrix(conductance), c_matrix(kept),
                      c_list(column(elastic)), c_comment(part.owner)));
    };
    if (!is_diagonal(g) || !is_diagonal(m.kept)) {
      add(part.ends, 0, g, m.kept, m.elastic);
      continue;
    }
    for (Eigen::Index k = 0; k < g.rows(); ++k)
      add({part.ends[static_cast<std::size_t>(k)]}, static_cast<int>(k), one(g(k, k)), one(m.kept(k, k)),
          m.elastic.segment(k, 1));
  }
  for (const auto& [n, list] : rows) {
    const std::string name = fmt::format("series_{}", n);
    count(fmt::format("SERIES_{}", n), list.size());
    member(fmt::format("double {0}_history[{1}][{2}], {0}_carried[{1}][{2}]", name, list.size(), n));
    const std::string shape =
        replaced("struct series_@ {\n  int p[@], q[@], i, u;\n  double g[@][@], k[@][@], e[@];\n};\n", "@",
                 std::to_string(n));
    section(fmt::format("series branches, {} coupled", n), shape + c_rows("struct " + name, name, list),
            series_c, n);
    lists_of_parts_.push_back(name);
  }
}

void Writer::write_capacitances() {
  std::map<std::size_t, std::vector<std::string>> rows;
  for (const CapacitancePart& part : assembly_.capacitance_parts) {
    const Eigen::MatrixXd g = 2 / core_.options.step_s * part.capacitance;
    const int current = at_.of(part.first_current);
    capacitor_currents_.emplace_back(current, static_cast<int>(part.ends.size()));
    const auto add = [&](const std::vector<Ends>& ends, int first, const Eigen::MatrixXd& conductance) {
      rows[ends.size()].push_back(fmt::format("{{{}, {}, {}, {}}} {}", c_list(places_of(ends, &Ends::p)),
                                              c_list(places_of(ends, &Ends::q)), current + first,
                                              c_matrix(conductance), c_comment(part.owner)));
    };
    if (!is_diagonal(g)) {
      add(part.ends, 0, g);
      continue;
    }
    for (Eigen::Index k = 0; k < g.rows(); ++k)
      add({part.ends[static_cast<std::size_t>(k)]}, static_cast<int>(k), one(g(k, k)));
  }
  for (const auto& [n, list] : rows) {
    const std::string name = fmt::format("capacitance_{}", n);
    count(fmt::format("CAPACITANCE_{}", n), list.size());
    member(fmt::format("double {}_history[{}][{}]", name, list.size(), n));
    const std::string shape = replaced(
        "struct capacitance_@ {\n  int p[@], q[@], i;\n  double g[@][@];\n};\n", "@", std::to_string(n));
    section(fmt::format("capacitances, {} coupled", n), shape + c_rows("struct " + name, name, list),
            capacitance_c, n);
    lists_of_parts_.push_back(name);
  }
}

void Writer::write_lines() {
  count("LINES", assembly_.wave_parts.size());
  if (assembly_.wave_parts.empty()) return;
  std::map<std::size_t, std::vector<std::string>> rows;
  std::vector<std::string> paths, modes;
  std::size_t ring = 0;
  for (const WavePart& part : assembly_.wave_parts) {
    const WaveMatrices matrices(part);
    const std::size_t n = part.near.size(), first_mode = modes.size(), first_path = paths.size();
    std::vector<double> longest(n, 0.0);
    std::vector<bool> whole(n, true);
    for (const WaveMatrices::Path& path : matrices.paths) {
      const double delay = path.travel_s / core_.options.step_s, rounded = std::round(delay);
      const double steps = std::abs(delay - rounded) < 1e-9 * rounded ? rounded : delay;
      const auto from = static_cast<std::size_t>(path.from);
      paths.push_back(fmt::format("{{{}, {}, {}, {}, {}}}", first_mode + from, path.to, c_number(steps),
                                  c_number(path.through), c_number(path.back)));
      longest[from] = std::max(longest[from], steps);
      whole[from] = whole[from] && steps == rounded;
    }
    for (std::size_t k = 0; k < n; ++k) {
      const std::size_t length = std::bit_ceil(static_cast<std::size_t>(longest[k]) + 3);
      modes.push_back(fmt::format("{{{}, {}, {}}}", ring, length, whole[k] ? 1 : 0));
      ring += 2 * length;
    }
    const Eigen::MatrixXd arrives = product(part.currents, matrices.ends);
    std::vector<int> near, far;
    for (const NodeId node : part.near) near.push_back(at_.of(node));
    for (const NodeId node : part.far) far.push_back(at_.of(node));
    rows[n].push_back(fmt::format(
        "{{{{{}, {}}}, {{{}, {}}}, {}, {}, {},\n   {},\n   {},\n   {},\n   {}}} {}", c_list(near),
        c_list(far), at_.of(part.first_near_current), at_.of(part.first_far_current), first_mode, first_path,
        paths.size(), c_matrix(product(arrives, Eigen::MatrixXd(part.currents.transpose()))),
        c_matrix(arrives), c_matrix(part.currents.transpose()),
        c_matrix(product(matrices.leaves, Eigen::MatrixXd(part.voltages.transpose()))),
        c_comment(part.owner)));
  }
  WaveGroup::Kept kept;
  core_.lines.keep(kept);
  member(fmt::format("double ring[{}], less[{}][2]", ring, modes.size()));
  member("unsigned long long newest");
  counts_ += fmt::format("#define START_NEWEST {}ull\n", kept.newest);
  section("waves under way",
          c_rows("struct mode", "mode", modes) + c_rows("struct path", "path", paths) +
              c_table("double", "start_ring", kept.rings),
          waves_c);
  for (const auto& [n, list] : rows) {
    const std::string name = fmt::format("line_{}", n);
    count(fmt::format("LINES_{}", n), list.size());
    member(fmt::format("double {}_history[{}][2][{}]", name, list.size(), n));
    const std::string shape = replaced(
        "struct line_@ {\n  int node[2][@], i[2], first_mode, first_path, end_path;\n"
        "  double conductance[@][@], arrives[@][@], from_voltages[@][@], from_currents[@][@];\n};\n",
        "@", std::to_string(n));
    section(fmt::format("lines of {} phases", n), shape + c_rows("struct " + name, name, list), lines_c, n);
    lists_of_lines_.push_back(name);
  }
}

}  // namespace zavrek::emt::internal
