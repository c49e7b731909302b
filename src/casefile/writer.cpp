// From structs to TOML, by their field tables.
#include <cmath>

#include <fmt/format.h>

#include "casefile/quoted.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::casefile {
namespace {

using internal::quoted;
using network::Field;
using network::Shape;
using network::Value;

std::string quoted_list(const std::vector<std::string>& texts) {
  std::string s;
  for (const std::string& text : texts) s += (s.empty() ? "" : ", ") + quoted(text);
  return "[" + s + "]";
}

/// What stands behind "FIELD = ".
std::string written(const Field& field, const Value& value) {
  if (const auto* number = std::get_if<double>(&value)) {
    const std::string text = print_quantity(*number, field.unit);
    return field.shape == Shape::count || field.unit.empty() ? text : quoted(text);
  }
  if (const auto* flag = std::get_if<bool>(&value)) return *flag ? "true" : "false";
  if (const auto* text = std::get_if<std::string>(&value)) return quoted(*text);
  return quoted_list(std::get<std::vector<std::string>>(value));
}

/// The fields of `object` that are not as they are when left out, one text "FIELD = VALUE" each.
template <class Kind>
void add_fields(const Kind& object, std::vector<std::string>& into) {
  const Kind usual{};
  for (const Field& field : table(&object).fields) {
    const Value value = field.read(&object);
    const auto* number = std::get_if<double>(&value);
    if (number && std::isnan(*number)) continue;
    if (value == field.read(&usual)) continue;
    into.push_back(field.name + " = " + written(field, value));
  }
}

std::string inline_table(const std::vector<std::string>& fields) {
  std::string s;
  for (const std::string& field : fields) s += (s.empty() ? "" : ", ") + field;
  return "{ " + s + " }";
}

std::string of_disturbance(const trial::Disturbance& one) {
  std::vector<std::string> fields;
  add_fields(one.fault, fields);
  add_fields(one, fields);
  return inline_table(fields);
}

/// A list of inline tables, one in a line.
template <class Kind, class Write>
void add_list(const char* name, const std::vector<Kind>& all, Write&& write, std::vector<std::string>& into) {
  if (all.empty()) return;
  std::string s = fmt::format("{} = [", name);
  for (std::size_t k = 0; k < all.size(); ++k) s += (k ? ",\n  " : "\n  ") + write(all[k]);
  into.push_back(s + " ]");
}

template <class Kind>
std::string of_struct(const Kind& one) {
  std::vector<std::string> fields;
  add_fields(one, fields);
  return inline_table(fields);
}

void add_experiment(const trial::Trial& one, std::vector<std::string>& lines) {
  if (one.fault) lines.push_back("fault = " + of_disturbance(*one.fault));
  add_list("evolves", one.evolves, of_disturbance, lines);
  add_list("operate", one.operate, of_struct<trial::Operation>, lines);
  add_list("expect", one.expect, of_struct<trial::Expectation>, lines);
}

std::string block(const char* kind, const std::vector<std::string>& lines) {
  std::string s = fmt::format("[[{}]]\n", kind);
  for (const std::string& line : lines) s += line + "\n";
  return s;
}

}  // namespace

std::string trials_text(const std::vector<trial::Trial>& trials, const std::vector<trial::Sweep>& sweeps) {
  std::string s;
  for (const trial::Trial& one : trials) {
    std::vector<std::string> lines;
    add_fields(one, lines);
    add_experiment(one, lines);
    s += (s.empty() ? "" : "\n") + block("trial", lines);
  }
  for (const trial::Sweep& sweep : sweeps) {
    std::vector<std::string> lines;
    add_fields(sweep, lines);
    trial::Trial nameless = sweep.trial;
    nameless.name.clear();
    add_fields(nameless, lines);
    add_experiment(sweep.trial, lines);
    add_list("vary", sweep.vary, of_struct<trial::Vary>, lines);
    s += (s.empty() ? "" : "\n") + block("sweep", lines);
  }
  return s;
}

}  // namespace zavrek::casefile
