#include "zavrek/network/field.hpp"

#include <fmt/format.h>

namespace zavrek::network {

const Field* Table::find(std::string_view name) const {
  for (const Field& field : fields) {
    if (field.name == name) return &field;
  }
  return nullptr;
}

std::vector<std::string> Table::field_names() const {
  std::vector<std::string> names;
  for (const Field& field : fields) names.push_back(field.name);
  return names;
}

std::vector<const Field*> missing_fields(const Table& table, const void* object) {
  const auto is_missing = [&](const Field& field) {
    const Value value = field.read(object);
    if (const auto* number = std::get_if<double>(&value)) return !is_set(*number);
    if (const auto* text = std::get_if<std::string>(&value)) return text->empty();
    if (const auto* texts = std::get_if<std::vector<std::string>>(&value))
      return texts->empty() || texts->front().empty();
    return false;
  };
  std::vector<const Field*> missing;
  for (const Field& field : table.fields) {
    if (field.need == Need::required && is_missing(field)) missing.push_back(&field);
  }
  return missing;
}

void check_bounds(double value, const Bounds& bounds, std::string_view unit) {
  const auto show = [&](double number) { return print_quantity(number, unit); };
  if (value < bounds.low || (bounds.low_open && value == bounds.low)) {
    throw Error(fmt::format("{} is too small; {} {} is wanted", show(value),
                            bounds.low_open ? "more than" : "at least", show(bounds.low)));
  }
  if (value > bounds.high) {
    throw Error(fmt::format("{} is too large; at most {} is wanted", show(value), show(bounds.high)));
  }
}

double as_quantity(const Value& value, std::string_view unit) {
  if (const auto* text = std::get_if<std::string>(&value)) return parse_quantity_as(*text, unit);
  const auto* number = std::get_if<double>(&value);
  if (!number) throw Error(fmt::format("{} is wanted", expectation_of(unit)));
  if (!(parse_unit(unit).dimension == Dimension{})) {
    throw Error(fmt::format("{} has no unit; {} is wanted, such as \"{} {}\"", *number,
                            name_of(parse_unit(unit).dimension), *number, unit));
  }
  if (!std::isfinite(*number)) throw Error("a finite number is wanted");
  return *number;
}

const std::string& as_text(const Value& value) {
  if (const auto* text = std::get_if<std::string>(&value)) return *text;
  throw Error("a text in quotes is wanted");
}

std::vector<std::string> as_texts(const Value& value) {
  if (const auto* texts = std::get_if<std::vector<std::string>>(&value)) return *texts;
  if (const auto* text = std::get_if<std::string>(&value)) return {*text};
  throw Error("a list of texts is wanted");
}

bool as_flag(const Value& value) {
  if (const auto* flag = std::get_if<bool>(&value)) return *flag;
  throw Error("true or false is wanted");
}

std::string expectation_of(std::string_view unit) {
  if (unit.empty()) return "a number";
  return fmt::format("{} in {}", name_of(parse_unit(unit).dimension), unit);
}

}  // namespace zavrek::network
