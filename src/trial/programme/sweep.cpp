// From a sweep to its trials.
#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "zavrek/limits.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {
namespace {

struct Place {
  const network::Field* field;
  void* object;
};

/// A field of one of several structs.
template <class... Kind>
Place find_in(const std::string& name, const std::string& whole, Kind&... objects) {
  Place place{nullptr, nullptr};
  std::vector<std::string> known;
  (
      [&](auto& object) {
        const Table& fields = table(&object);
        for (const std::string& one : fields.field_names()) known.push_back(one);
        if (const network::Field* field = fields.find(name); field && !place.field) place = {field, &object};
      }(objects),
      ...);
  if (!place.field) throw Error(fmt::format("no field \"{}\" to vary{}", whole, suggestion(name, known)));
  return place;
}

/// The field "fault.at", "trial.prefault", "network.step" or "ELEMENT.FIELD".
Place find_field(Case& all, Trial& trial, const std::string& name) {
  const std::size_t dot = name.find('.');
  if (dot == std::string::npos)
    throw Error(fmt::format(
        "\"{}\" is no field; write fault.FIELD, trial.FIELD, network.FIELD or ELEMENT.FIELD", name));
  const std::string owner = name.substr(0, dot), field = name.substr(dot + 1);
  if (owner == "fault") {
    if (!trial.fault) trial.fault.emplace();
    return find_in(field, name, trial.fault->fault, *trial.fault);
  }
  if (owner == "trial") return find_in(field, name, trial);
  if (owner == "network") return find_in(field, name, all.network);
  std::vector<std::string> known{"fault", "trial", "network"};
  for (network::Element& element : all.network.elements) {
    known.push_back(network::name_of(element));
    if (known.back() == owner)
      return std::visit([&](auto& one) { return find_in(field, name, one); }, element);
  }
  throw Error(fmt::format("no element \"{}\"{}", owner, suggestion(owner, known)));
}

/// A number between 0 and 1 that depends on its place only (the finaliser of splitmix64).
double drawn(int seed, std::size_t index, std::size_t axis) {
  std::uint64_t z = static_cast<std::uint64_t>(seed) * 0x9E3779B97F4A7C15ULL + index * 0xD1B54A32D192ED03ULL +
                    axis * 0x8CB92BA72F3D8DD7ULL + 0x2545F4914F6CDD1DULL;
  z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9ULL;
  z = (z ^ (z >> 27)) * 0x94D049BB133111EBULL;
  z ^= z >> 31;
  return static_cast<double>(z >> 11) * 0x1.0p-53;
}

std::size_t count_of(const Vary& vary) {
  return vary.values.empty() ? static_cast<std::size_t>(std::max(vary.steps, 1)) : vary.values.size();
}

/// The unit in which a person wrote it: what follows the number.
std::string unit_in(const std::string& text) {
  const std::size_t space = text.find(' ');
  return space == std::string::npos ? std::string() : text.substr(space + 1);
}

/// Between `from` and `to`, in the unit of `to` (a range may begin at a bare zero of the same unit).
std::string between(const Vary& vary, double share) {
  const std::string unit = unit_in(vary.to);
  const double low = parse_quantity_as(vary.from, unit), high = parse_quantity_as(vary.to, unit);
  const double scale = parse_unit(unit).scale;
  const double value = (low + share * (high - low)) / scale;
  return unit.empty() ? fmt::format("{:.9g}", value) : fmt::format("{:.9g} {}", value, unit);
}

/// Axes along which a sweep moves: the fields of one axis move together.
std::vector<std::vector<const Vary*>> axes_of(const Sweep& sweep) {
  std::vector<std::vector<const Vary*>> axes;
  std::map<std::string, std::size_t> known;
  for (const Vary& vary : sweep.vary) {
    const std::string word = sweep.combine == "paired" ? "all" : vary.together;
    if (!word.empty() && known.contains(word)) {
      axes[known[word]].push_back(&vary);
      continue;
    }
    if (!word.empty()) known[word] = axes.size();
    axes.push_back({&vary});
  }
  return axes;
}

void check_axis(const std::vector<const Vary*>& axis) {
  for (const Vary* vary : axis) {
    if (vary->values.empty() && (vary->from.empty() || vary->to.empty()))
      throw Error(fmt::format("{}: values are wanted, or from and to", vary->field));
    if (count_of(*vary) != count_of(*axis.front()))
      throw Error(fmt::format("{} has {} values and {} has {}, but they change together", axis.front()->field,
                              count_of(*axis.front()), vary->field, count_of(*vary)));
  }
}

/// Whether its values are drawn, not counted through.
bool is_drawn(const Sweep& sweep) { return sweep.combine == "random" || sweep.search != "none"; }

}  // namespace

std::size_t size_of(const Sweep& sweep) {
  if (is_drawn(sweep)) return static_cast<std::size_t>(sweep.count);
  std::size_t size = 1;
  for (const auto& axis : axes_of(sweep)) {
    size *= count_of(*axis.front());
    if (size > limits::sweep_trials)
      throw Error(fmt::format("sweep \"{}\" has more than {} trials; vary less at once, or combine at random",
                              sweep.name, limits::sweep_trials));
  }
  return size;
}

std::size_t axes_in(const Sweep& sweep) { return axes_of(sweep).size(); }

namespace {

void add_values(const std::vector<const Vary*>& axis, std::size_t at, double place, SweptFields& fields) {
  for (const Vary* vary : axis)
    fields.emplace_back(vary->field, vary->values.empty() ? between(*vary, place) : vary->values[at]);
}

/// Whether a field says only what is done in a run: the network that is compiled is the same whatever it
/// says. (A fault's resistance is set in the plant where it can be.)
bool only_done(const std::string& field) {
  return field.starts_with("trial.") || field == "fault.inception" || field == "fault.lasts" ||
         field == "fault.resistance";
}

}  // namespace

SweptFields fields_at(const Sweep& sweep, const std::vector<double>& places) {
  SweptFields fields;
  const auto axes = axes_of(sweep);
  for (std::size_t a = 0; a < axes.size(); ++a) {
    check_axis(axes[a]);
    const std::size_t count = count_of(*axes[a].front());
    const double place = std::clamp(places.at(a), 0.0, 1.0);
    const auto at = std::min(count - 1, static_cast<std::size_t>(place * static_cast<double>(count)));
    add_values(axes[a], at, place, fields);
  }
  return fields;
}

SweptFields fields_of(const Sweep& sweep, std::size_t index) {
  const auto axes = axes_of(sweep);
  if (is_drawn(sweep)) {
    std::vector<double> places;
    for (std::size_t a = 0; a < axes.size(); ++a) places.push_back(drawn(sweep.seed, index, a));
    return fields_at(sweep, places);
  }
  SweptFields fields;
  std::size_t rest = index;
  for (const auto& axis : axes) {
    check_axis(axis);
    const std::size_t count = count_of(*axis.front());
    const std::size_t at = rest % count;
    rest /= count;
    add_values(axis, at, count > 1 ? static_cast<double>(at) / static_cast<double>(count - 1) : 0, fields);
  }
  return fields;
}

std::string network_of(const Sweep& sweep, const SweptFields& fields) {
  std::string varied = sweep.name;
  for (const auto& [field, value] : fields) {
    if (!only_done(field)) varied += "\n" + field + " " + value;
  }
  return varied;
}

std::string network_of(const Sweep& sweep, std::size_t index) {
  return network_of(sweep, fields_of(sweep, index));
}

SweptTrial swept_trial(const Case& all, const Sweep& sweep, const SweptFields& fields) {
  SweptTrial made{all, sweep.trial, fields};
  made.all.sweeps.clear();
  made.trial.name = sweep.name;
  for (const auto& [field, value] : fields) {
    const Place place = find_field(made.all, made.trial, field);
    try {
      place.field->assign(place.object, network::Value(value));
    } catch (const Error& error) {
      throw Error(fmt::format("{} = \"{}\": {}", field, value, error.flaws()[0].text));
    }
    made.trial.name += fmt::format(", {} {}", field.substr(field.find('.') + 1), value);
  }
  return made;
}

SweptTrial swept_trial(const Case& all, const Sweep& sweep, std::size_t index) {
  return swept_trial(all, sweep, fields_of(sweep, index));
}

}  // namespace zavrek::trial
