#include "zavrek/network/field.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zavrek::network {
namespace {

std::string expectation_of(std::string_view unit) {
  if (unit.empty()) return "a number";
  if (unit == "%") return "a share in %";
  return fmt::format("{} in {}", name_of(parse_unit(unit).dimension), unit);
}

}  // namespace

const Field* Table::find(std::string_view name) const {
  for (const Field& field : fields) {
    if (field.name == name) return &field;
  }
  return nullptr;
}

bool Output::is(std::string_view signal) const {
  std::size_t at = 0;
  for (std::size_t k = 0; k < name.size(); ++k, ++at) {
    if (name[k] == '*') {
      const std::string_view rest = std::string_view(name).substr(k + 1);
      for (std::size_t end = at; end <= signal.size(); ++end) {
        if (Output{std::string(rest), {}, {}}.is(signal.substr(end))) return true;
      }
      return false;
    }
    if (at == signal.size()) return false;
    const bool fits = name[k] == '#' ? std::string_view("abcpnm").find(signal[at]) != std::string_view::npos
                                     : name[k] == signal[at];
    if (!fits) return false;
  }
  return at == signal.size();
}

const Output* Table::find_output(std::string_view signal) const {
  for (const Output& output : outputs) {
    if (output.is(signal)) return &output;
  }
  return nullptr;
}

std::string Table::meaning_of(std::string_view signal) const {
  const Field* knob = find(signal);
  if (knob && knob->changeable) return knob->doc;
  const Output* output = find_output(signal);
  return output ? output->doc : std::string();
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

Point as_point(std::string_view text, std::string_view x_unit, std::string_view y_unit) {
  const std::size_t colon = text.find(':');
  if (colon == std::string_view::npos) {
    throw Error(fmt::format("\"{}\" is no pair; write it as \"X: Y\"", text));
  }
  const auto part = [](std::string_view all) {
    while (!all.empty() && all.front() == ' ') all.remove_prefix(1);
    while (!all.empty() && all.back() == ' ') all.remove_suffix(1);
    return all;
  };
  return {parse_quantity_as(part(text.substr(0, colon)), x_unit),
          parse_quantity_as(part(text.substr(colon + 1)), y_unit)};
}

std::vector<double> as_triangle(std::string_view text, std::string_view unit) {
  // The unit stands once, behind the last number: split there, then every row in turn.
  const std::size_t last = text.find_last_of("0123456789");
  if (last == std::string_view::npos) throw Error(fmt::format("\"{}\" holds no number", text));
  const std::string suffix(text.substr(last + 1));
  std::vector<double> numbers;
  std::size_t row = 1;
  std::size_t in_row = 0;
  std::string word;
  const auto take = [&] {
    if (word.empty()) return;
    numbers.push_back(parse_quantity_as(word + suffix, unit));
    if (!std::isfinite(numbers.back())) throw Error(fmt::format("\"{}\" is no finite number", word));
    word.clear();
    ++in_row;
  };
  const auto end_row = [&] {
    take();
    if (in_row != row)
      throw Error(fmt::format("row {} has {} numbers; the lower triangle has {} there", row, in_row, row));
    in_row = 0;
    ++row;
  };
  for (const char c : text.substr(0, last + 1)) {
    if (c == ';') {
      end_row();
    } else if (c == ' ') {
      take();
    } else {
      word += c;
    }
  }
  end_row();
  return numbers;
}

namespace {

bool as_flag(const Value& value) {
  if (const auto* flag = std::get_if<bool>(&value)) return *flag;
  throw Error("true or false is wanted");
}

std::string listed(const std::vector<std::string>& words) {
  std::string list;
  for (const std::string& word : words) list += (list.empty() ? "\"" : ", \"") + word + "\"";
  return list;
}

Points as_points(const Value& value, const Field& field) {
  Points points;
  for (const std::string& text : as_texts(value)) {
    points.push_back(as_point(text, field.x_unit, field.unit));
    const std::size_t n = points.size();
    const bool jumps = field.jumps && n > 1 && points[n - 1].x == points[n - 2].x &&
                       (n == 2 || points[n - 3].x < points[n - 1].x);
    if (n > 1 && points[n - 1].x <= points[n - 2].x && !jumps) {
      throw Error(fmt::format(
          "\"{}\" does not stand behind the pair before it; their first numbers must rise", text));
    }
  }
  return points;
}

template <class Member>
Member& member_of(void* object, const Field& field) {
  return *reinterpret_cast<Member*>(static_cast<char*>(object) + field.offset);
}
template <class Member>
const Member& member_of(const void* object, const Field& field) {
  return *reinterpret_cast<const Member*>(static_cast<const char*>(object) + field.offset);
}

std::array<std::string, 2> as_pair(const Value& value) {
  const std::vector<std::string> names = as_texts(value);
  if (names.size() != 2) throw Error("two bus names are wanted, such as [\"quay\", \"berth1\"]");
  if (names[0] == names[1])
    throw Error("both ends are bus \"" + names[0] + "\"; two different buses are wanted");
  return {names[0], names[1]};
}

void check_word(const std::string& text, const std::vector<std::string>& words) {
  if (!words.empty() && std::find(words.begin(), words.end(), text) == words.end())
    throw Error("\"" + text + "\" is none of " + listed(words));
}

/// The lower triangle as it would be written, without unit.
std::string written(const std::vector<double>& triangle) {
  std::string text;
  std::size_t row = 0;
  std::size_t in_row = 0;
  for (const double number : triangle) {
    text += fmt::format("{}{}", text.empty() ? "" : in_row == 0 ? "; " : " ", number);
    if (in_row++ == row) {
      in_row = 0;
      ++row;
    }
  }
  return text;
}

}  // namespace

void Field::assign(void* object, const Value& value) const {
  switch (shape) {
    case Shape::quantity: {
      const double number = as_quantity(value, unit);
      check_bounds(number, bounds, unit);
      member_of<double>(object, *this) = number;
      break;
    }
    case Shape::count: {
      const double number = as_quantity(value, "");
      if (number != std::floor(number)) throw Error("a whole number is wanted");
      check_bounds(number, bounds, "");
      member_of<int>(object, *this) = static_cast<int>(number);
      break;
    }
    case Shape::flag:
      member_of<bool>(object, *this) = as_flag(value);
      break;
    case Shape::text: {
      const std::string& text = as_text(value);
      check_word(text, words);
      member_of<std::string>(object, *this) = text;
      break;
    }
    case Shape::texts:
      member_of<std::vector<std::string>>(object, *this) = as_texts(value);
      break;
    case Shape::pair:
      member_of<std::array<std::string, 2>>(object, *this) = as_pair(value);
      break;
    case Shape::triangle: {
      std::vector<double> numbers = as_triangle(as_text(value), unit);
      for (const double number : numbers) check_bounds(number, bounds, unit);
      member_of<std::vector<double>>(object, *this) = std::move(numbers);
      break;
    }
    case Shape::points:
      member_of<Points>(object, *this) = as_points(value, *this);
      break;
  }
}

void Field::check(const void* object) const {
  const auto check_number = [&](double number) {
    if (!std::isfinite(number)) throw Error("a finite number is wanted");
    check_bounds(number, bounds, unit);
  };
  switch (shape) {
    case Shape::quantity: {
      const double number = member_of<double>(object, *this);
      if (is_set(number)) check_number(number);
      break;
    }
    case Shape::count:
      check_number(member_of<int>(object, *this));
      break;
    case Shape::text: {
      const std::string& text = member_of<std::string>(object, *this);
      if (!text.empty()) check_word(text, words);
      break;
    }
    case Shape::triangle: {
      const auto& numbers = member_of<std::vector<double>>(object, *this);
      std::for_each(numbers.begin(), numbers.end(), check_number);
      break;
    }
    case Shape::flag:
    case Shape::texts:
    case Shape::pair:
    case Shape::points:
      break;
  }
}

Value Field::read(const void* object) const {
  switch (shape) {
    case Shape::quantity:
      return member_of<double>(object, *this);
    case Shape::count:
      return static_cast<double>(member_of<int>(object, *this));
    case Shape::flag:
      return member_of<bool>(object, *this);
    case Shape::text:
      return member_of<std::string>(object, *this);
    case Shape::texts:
      return member_of<std::vector<std::string>>(object, *this);
    case Shape::pair: {
      const auto& pair = member_of<std::array<std::string, 2>>(object, *this);
      return std::vector<std::string>{pair[0], pair[1]};
    }
    case Shape::triangle:
      return written(member_of<std::vector<double>>(object, *this));
    case Shape::points: {
      std::vector<std::string> texts;
      for (const Point& point : member_of<Points>(object, *this))
        texts.push_back(print_quantity(point.x, x_unit) + ": " + print_quantity(point.y, unit));
      return texts;
    }
  }
  return {};
}

Words::Words(std::initializer_list<const char*> words) : all(words.begin(), words.end()) {}
Words::Words(std::vector<std::string> words) noexcept : all(std::move(words)) {}

TableBuilder::TableBuilder(std::string_view kind, std::string_view doc)
    : table_{std::string(kind), std::string(doc), {}, {}, false} {}

Field& TableBuilder::add(Shape shape, Place at, std::string_view name, std::string_view doc) {
  Field& field = table_.fields.emplace_back();
  field.name = name;
  field.doc = doc;
  field.shape = shape;
  field.offset = at.offset;
  return field;
}

void TableBuilder::add_quantity(Place at, std::string_view name, std::string_view unit, const Bounds& bounds,
                                std::string_view doc, Need need) {
  Field& field = add(Shape::quantity, at, name, doc);
  const double standard = std::get<double>(field.read(at.sample));
  field.expects = expectation_of(unit);
  field.need = is_set(standard) ? Need::optional : need;
  if (is_set(standard)) field.standard = print_quantity(standard, unit);
  field.unit = unit;
  field.bounds = bounds;
}

void TableBuilder::add_count(Place at, std::string_view name, const Bounds& bounds, std::string_view doc) {
  Field& field = add(Shape::count, at, name, doc);
  field.expects = "a whole number";
  field.standard = fmt::format("{}", std::get<double>(field.read(at.sample)));
  field.bounds = bounds;
}

void TableBuilder::add_flag(Place at, std::string_view name, std::string_view doc) {
  Field& field = add(Shape::flag, at, name, doc);
  field.expects = "true or false";
  field.standard = std::get<bool>(field.read(at.sample)) ? "true" : "false";
}

void TableBuilder::add_text(Place at, std::string_view name, std::string_view doc, Need need) {
  Field& field = add(Shape::text, at, name, doc);
  field.expects = "a text";
  field.standard = std::get<std::string>(field.read(at.sample));
  field.need = field.standard.empty() ? need : Need::optional;
}

void TableBuilder::add_choice(Place at, std::string_view name, std::string_view doc,
                              std::vector<std::string>& words) {
  add_text(at, name, doc, Need::required);
  table_.fields.back().expects = "one of " + listed(words);
  table_.fields.back().words = std::move(words);
}

void TableBuilder::add_texts(Place at, std::string_view name, std::string_view doc, Need need) {
  Field& field = add(Shape::texts, at, name, doc);
  field.expects = "a list of texts";
  field.need = need;
}

void TableBuilder::add_bus(Place at, std::string_view name, std::string_view doc, Need need) {
  add_text(at, name, doc, need);
  table_.fields.back().expects = "the name of a bus";
  table_.fields.back().names_bus = true;
}

void TableBuilder::add_between(Place at, std::string_view name, std::string_view doc) {
  Field& field = add(Shape::pair, at, name, doc);
  field.expects = "two bus names, such as [\"quay\", \"berth1\"]";
  field.need = Need::required;
  field.names_bus = true;
}

void TableBuilder::add_element(Place at, std::string_view name, std::string_view doc, Need need) {
  add_text(at, name, doc, need);
  table_.fields.back().expects = "the name of an element";
  table_.fields.back().names_element = true;
}

void TableBuilder::add_elements(Place at, std::string_view name, std::string_view doc) {
  add_texts(at, name, doc, Need::required);
  table_.fields.back().expects = "names of elements";
  table_.fields.back().names_element = true;
}

void TableBuilder::add_output(std::string_view name, std::string_view unit, std::string_view doc) {
  table_.outputs.push_back({std::string(name), std::string(unit), std::string(doc)});
}

void TableBuilder::add_curve(Shape shape, Place at, std::string_view name, std::string_view x_unit,
                             std::string_view unit, std::string_view doc, Need need) {
  Field& field = add(shape, at, name, doc);
  field.need = need;
  const auto shown = [](std::string_view u) { return u.empty() ? std::string_view("a number") : u; };
  field.expects =
      shape == Shape::triangle
          ? fmt::format("the lower triangle of a matrix in {}, such as \"2; 1 2 {}\"", shown(unit), unit)
          : fmt::format("a list of pairs \"X: Y\", X rising, in {} and {}", shown(x_unit), shown(unit));
  field.x_unit = x_unit;
  field.unit = unit;
}

}  // namespace zavrek::network
