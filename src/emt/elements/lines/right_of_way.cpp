// Right of way: the conductors of its lines in one cross-section. A place where one line is tapped has nodes
// on all of them. What couples two lines in the zero sequence alone lies in all of the block between them:
// Z0m/3 and -C0m/3.
#include "emt/elements/lines/right_of_way.hpp"

#include <algorithm>
#include <cmath>
#include <deque>
#include <map>
#include <utility>

#include <fmt/format.h>

#include "emt/elements/lines/stretch.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

using network::is_set;
using network::Line;
using network::RightOfWay;

constexpr double same_place_m = 1e-6;

struct Member {
  const Line* line;
  double from_m;
  std::string letters;
};

[[nodiscard]] double fraction_of(const Member& member, double place_m) {
  const double at = member.from_m + place_m;
  return std::abs(at - member.line->length_m) < same_place_m ? 1 : at / member.line->length_m;
}

/// Where a right of way runs.
struct Route {
  std::string owner;
  std::vector<Member> members;
  double length_m = 0;

  Route(const RightOfWay& way, const Assembly& assembly) : owner("right_of_way." + way.name) {
    find_members(way, assembly);
    find_length(way);
  }
  [[noreturn]] void reject(const char* field, std::string text) const {
    throw Error(Flaw{.file = {}, .place = owner, .field = field, .text = std::move(text)});
  }

 private:
  void find_members(const RightOfWay& way, const Assembly& assembly) {
    if (way.lines.size() < 2) reject("lines", "two lines at least are wanted");
    if (!way.from.empty() && way.from.size() != way.lines.size())
      reject("from", fmt::format("has {} places; one for each of {} lines is wanted", way.from.size(),
                                 way.lines.size()));
    for (std::size_t k = 0; k < way.lines.size(); ++k) {
      const network::Element* element = assembly.network().find_element(way.lines[k]);
      const Line* line = element ? std::get_if<Line>(element) : nullptr;
      if (!line) reject("lines", fmt::format("\"{}\" is no line", way.lines[k]));
      for (const Member& other : members) {
        if (other.line == line) reject("lines", fmt::format("\"{}\" stands there twice", line->name));
      }
      double from = 0;
      try {
        if (!way.from.empty()) from = parse_quantity_as(way.from[k], "m");
      } catch (const Error& error) {
        reject("from", error.what());
      }
      if (from < 0 || from >= line->length_m) {
        reject("from", fmt::format("\"{}\" does not lie on \"{}\", which is {} long", way.from[k], line->name,
                                   print_quantity(line->length_m, "km")));
      }
      members.push_back({line, from, assembly.span("line." + line->name, line->between).letters});
    }
  }

  void find_length(const RightOfWay& way) {
    double most = members.front().line->length_m;
    const Member* shortest = nullptr;
    for (const Member& member : members) {
      if (shortest && member.line->length_m - member.from_m >= most) continue;
      most = member.line->length_m - member.from_m;
      shortest = &member;
    }
    length_m = is_set(way.length_m) ? way.length_m : most;
    if (length_m > most + same_place_m) {
      reject("length", fmt::format("goes beyond the end of \"{}\", of which {} are left",
                                   shortest->line->name, print_quantity(most, "km")));
    }
  }
};

class Shared {
 public:
  Shared(const RightOfWay& way, Assembly& assembly)
      : way_(way),
        assembly_(assembly),
        route_(way, assembly),
        owner_(route_.owner),
        members_(route_.members),
        length_m_(route_.length_m) {}

  [[nodiscard]] const Route& route() const { return route_; }

  void assemble() {
    const std::vector<double> places = places_m();
    const CrossSection section(owner_, matrices(), length_m_, geometry(), fit_of(way_));
    std::vector<NodeId> near = nodes_at(places.front());
    for (std::size_t s = 0; s + 1 < places.size(); ++s) {
      std::vector<NodeId> far = nodes_at(places[s + 1]);
      const EndCurrents currents =
          section.add_stretch(assembly_, near, far, places[s] / length_m_, places[s + 1] / length_m_);
      std::size_t first = 0;
      for (const Member& member : members_) {
        const auto part = [&](const std::vector<Terms>& of) {
          const auto begin = of.begin() + static_cast<std::ptrdiff_t>(first);
          return std::vector<Terms>(begin, begin + static_cast<std::ptrdiff_t>(member.letters.size()));
        };
        assembly_.share_stretch(member.line->name, fraction_of(member, places[s]),
                                {part(currents.near), part(currents.far)});
        first += member.letters.size();
      }
      near = std::move(far);
    }
  }

 private:
  /// From its begin to its end, with all taps between.
  [[nodiscard]] std::vector<double> places_m() const {
    std::vector<double> places{0, length_m_};
    for (const Member& member : members_) {
      for (const Tap& tap : assembly_.stations(member.line->name, member.line->between)) {
        const double at = tap.fraction * member.line->length_m - member.from_m;
        if (at > same_place_m && at < length_m_ - same_place_m) places.push_back(at);
      }
    }
    std::sort(places.begin(), places.end());
    places.erase(
        std::unique(places.begin(), places.end(), [](double a, double b) { return b - a < same_place_m; }),
        places.end());
    return places;
  }

  [[nodiscard]] std::vector<NodeId> nodes_at(double place_m) const {
    std::vector<NodeId> nodes;
    for (const Member& member : members_) {
      const double fraction = fraction_of(member, place_m);
      const Span ends = assembly_.span("line." + member.line->name, member.line->between);
      const std::vector<NodeId> at = fraction == 0 ? ends.near
                                     : fraction == 1
                                         ? ends.far
                                         : assembly_.tap(member.line->name, fraction, member.letters);
      nodes.insert(nodes.end(), at.begin(), at.end());
    }
    return nodes;
  }

  /// As a geometry with a circuit for each line names them.
  [[nodiscard]] std::vector<std::string> conductors() const {
    std::vector<std::string> names;
    for (std::size_t k = 0; k < members_.size(); ++k) {
      for (const char letter : members_[k].letters) names.push_back(fmt::format("{}.{}", k + 1, letter));
    }
    return names;
  }

  [[nodiscard]] const network::LineGeometry* geometry() const {
    return way_.geometry.empty() ? nullptr : &geometry_of(assembly_, owner_, conductors(), way_.geometry);
  }

  [[nodiscard]] LineMatrices matrices() const {
    if (way_.has_own_values()) return line_matrices(assembly_, owner_, conductors(), values_of(way_));
    if (!is_set(way_.x0m_ohm_per_m))
      route_.reject("x0m", "missing; give r0m and x0m, r_matrix and x_matrix, or a geometry");
    if (members_.size() != 2)
      route_.reject("x0m", "couples two lines; of more, matrices or a geometry are wanted");
    std::vector<LineMatrices> own;
    Eigen::Index size = 0;
    for (const Member& member : members_) {
      own.push_back(
          line_matrices(assembly_, "line." + member.line->name, member.letters, values_of(*member.line)));
      size += own.back().inductance.rows();
    }
    const Eigen::Index first = own[0].inductance.rows(), second = size - first;
    const auto joined = [&](Eigen::MatrixXd LineMatrices::*of, double between) {
      Eigen::MatrixXd whole = Eigen::MatrixXd::Constant(size, size, between / 3);
      whole.topLeftCorner(first, first) = own[0].*of;
      whole.bottomRightCorner(second, second) = own[1].*of;
      return whole;
    };
    LineMatrices all{joined(&LineMatrices::resistance, way_.r0m_ohm_per_m),
                     joined(&LineMatrices::inductance, way_.x0m_ohm_per_m / assembly_.omega()),
                     joined(&LineMatrices::capacitance, -way_.c0m_F_per_m)};
    require_passive(owner_, {"r0m", "x0m", "c0m"}, all);
    return all;
  }

  const RightOfWay& way_;
  Assembly& assembly_;
  Route route_;
  const std::string& owner_;
  const std::vector<Member>& members_;
  double length_m_;
};

}  // namespace

void assemble_rights_of_way(Assembly& assembly) {
  std::deque<Shared> ways;
  std::map<std::string, std::vector<std::pair<double, double>>> taken;
  for (const network::Element& element : assembly.network().elements) {
    const auto* way = std::get_if<RightOfWay>(&element);
    if (!way) continue;
    ways.emplace_back(*way, assembly);
    for (const Member& member : ways.back().route().members) {
      const double begin = member.from_m, end = begin + ways.back().route().length_m;
      for (const auto& [other_begin, other_end] : taken[member.line->name]) {
        if (begin < other_end - same_place_m && end > other_begin + same_place_m) {
          throw Error(Flaw{.file = {},
                           .place = "right_of_way." + way->name,
                           .field = "from",
                           .text = fmt::format("\"{}\" runs in another right of way there already; describe "
                                               "all lines of a stretch in one",
                                               member.line->name)});
        }
      }
      taken[member.line->name].emplace_back(begin, end);
    }
  }
  // One's taps are never another's: stretches lie beside each other.
  for (Shared& way : ways) way.assemble();
}

double place_beside(const Assembly& assembly, const std::string& line, double at, const std::string& beside) {
  for (const network::Element& element : assembly.network().elements) {
    const auto* way = std::get_if<RightOfWay>(&element);
    if (!way) continue;
    const Member *here = nullptr, *there = nullptr;
    const Route route(*way, assembly);
    for (const Member& member : route.members) {
      if (member.line->name == line) here = &member;
      if (member.line->name == beside) there = &member;
    }
    if (!here || !there) continue;
    const double place = at * here->line->length_m - here->from_m;
    if (place < -same_place_m || place > route.length_m + same_place_m) continue;
    return fraction_of(*there, place);
  }
  return network::unset;
}

/// All of it is done by then.
template <>
void assemble(const RightOfWay& /*way*/, Assembly& /*assembly*/) {}

}  // namespace zavrek::emt::internal
