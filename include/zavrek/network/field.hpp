#pragma once

#include <array>
#include <cmath>
#include <cstddef>
#include <limits>
#include <string>
#include <variant>
#include <vector>

#include "zavrek/quantity.hpp"

namespace zavrek::network {

/// What a file can hold where a field is expected.
using Value = std::variant<double, bool, std::string, std::vector<std::string>>;

/// Closed or open interval in SI units.
struct Bounds {
  double low = -std::numeric_limits<double>::infinity();
  double high = std::numeric_limits<double>::infinity();
  bool low_open = false;
};
[[nodiscard]] inline Bounds above(double low) { return {.low = low, .low_open = true}; }
[[nodiscard]] inline Bounds at_least(double low) { return {.low = low}; }
[[nodiscard]] inline Bounds within(double low, double high) { return {.low = low, .high = high}; }
[[nodiscard]] inline Bounds any() { return {}; }

/// Whether the description is complete without the field.
enum class Need { required, optional };

/// One pair of a curve or of a programme over time, in SI units.
struct Point {
  double x = 0;
  double y = 0;
  friend bool operator==(const Point&, const Point&) = default;
};
using Points = std::vector<Point>;

/// What a field's member is, and so how a file writes it.
enum class Shape {
  quantity,  ///< double: "2.4 km"
  count,     ///< int: 3
  flag,      ///< bool: true
  text,      ///< std::string, one of `words` unless that is empty
  texts,     ///< std::vector<std::string>
  pair,      ///< std::array<std::string, 2>: two bus names
  triangle,  ///< std::vector<double>, lower triangle row by row: "0.34; 0.15 0.33 ohm/km"
  points     ///< Points: ["0 s: 1", "0.5 s: 1.1"]
};

/// One row of a field table.
struct Field {
  std::string name;
  std::string expects;   ///< "a length in km", "the name of a bus", "true or false"
  std::string standard;  ///< default as text; empty when there is none
  std::string doc;
  Need need = Need::optional;
  bool changeable = false;     ///< may be set while a plant runs
  bool names_bus = false;      ///< holds one or more bus names
  bool names_element = false;  ///< holds the name of another element
  Shape shape = Shape::text;
  std::size_t offset = 0;            ///< of the member within its struct
  std::string unit;                  ///< of quantities; of y in points
  std::string x_unit;                ///< of x in points
  Bounds bounds;                     ///< in SI units
  std::vector<std::string> words{};  ///< that a text may be

  /// Sets the member of `object`. Throws Error (text only) when the value does not fit.
  void assign(void* object, const Value& value) const;
  [[nodiscard]] Value read(const void* object) const;
  /// Throws Error (text only) when the member holds what `assign` would not take; what is left out passes.
  void check(const void* object) const;
};

/// The field table of one kind of description.
struct Table {
  std::string kind;  ///< word used in files: "cable"
  std::string doc;
  std::vector<Field> fields;

  [[nodiscard]] const Field* find(std::string_view name) const;
  [[nodiscard]] std::vector<std::string> field_names() const;
};

/// The required fields that `object`, a struct of this table, leaves without a value.
[[nodiscard]] std::vector<const Field*> missing_fields(const Table& table, const void* object);

/// Throws Error when `value` lies outside `bounds`; both are shown in `unit`.
void check_bounds(double value, const Bounds& bounds, std::string_view unit);
/// The accessors below throw Error when the file held something else.
[[nodiscard]] double as_quantity(const Value& value, std::string_view unit);
[[nodiscard]] const std::string& as_text(const Value& value);
[[nodiscard]] std::vector<std::string> as_texts(const Value& value);
/// "1 kA: 12.5 kV" in SI units.
[[nodiscard]] Point as_point(std::string_view text, std::string_view x_unit, std::string_view y_unit);
/// Lower triangle of a symmetric matrix, rows parted by ";", the unit behind the last: "0.34; 0.15 0.33
/// ohm/km".
[[nodiscard]] std::vector<double> as_triangle(std::string_view text, std::string_view unit);

/// Makes the rows of a table. What is the same for all structs stands in field.cpp, so that the dozens of
/// tables cost little to compile.
class TableBuilder {
 public:
  TableBuilder(std::string kind, std::string doc) : table_{std::move(kind), std::move(doc), {}} {}

 protected:
  Field& add(Shape shape, std::size_t offset, std::string name, std::string doc, const void* sample);
  void as_quantity_field(Field& field, std::string unit, const Bounds& bounds, Need need, const void* sample);
  void as_count_field(Field& field, const Bounds& bounds, const void* sample);
  void as_choice_field(Field& field, std::vector<std::string> words);
  void as_pair_field(Field& field);
  void as_curve_field(Field& field, std::string x_unit, std::string unit);

  Table table_;
};

/// Builds the table of `T`. Defaults are read off a default-constructed `T`, so that they are
/// written once; a NaN or an empty string there means that there is none.
template <class T>
class TableOf : public TableBuilder {
 public:
  using TableBuilder::TableBuilder;

  TableOf& quantity(std::string name, double T::*member, std::string unit, Bounds bounds, std::string doc,
                    Need need = Need::required) {
    as_quantity_field(row(Shape::quantity, member, name, doc), std::move(unit), bounds, need, &sample_);
    return *this;
  }
  TableOf& count(std::string name, int T::*member, Bounds bounds, std::string doc) {
    as_count_field(row(Shape::count, member, name, doc), bounds, &sample_);
    return *this;
  }
  TableOf& flag(std::string name, bool T::*member, std::string doc) {
    row(Shape::flag, member, name, doc);
    return *this;
  }
  TableOf& text(std::string name, std::string T::*member, std::string doc, Need need = Need::required) {
    Field& field = row(Shape::text, member, name, doc);
    field.need = field.standard.empty() ? need : Need::optional;
    return *this;
  }
  TableOf& choice(std::string name, std::string T::*member, std::vector<std::string> words, std::string doc) {
    text(std::move(name), member, std::move(doc));
    as_choice_field(table_.fields.back(), std::move(words));
    return *this;
  }
  TableOf& texts(std::string name, std::vector<std::string> T::*member, std::string doc,
                 Need need = Need::optional) {
    row(Shape::texts, member, name, doc).need = need;
    return *this;
  }
  TableOf& bus(std::string name, std::string T::*member, std::string doc, Need need = Need::required) {
    text(std::move(name), member, std::move(doc), need);
    table_.fields.back().expects = "the name of a bus";
    table_.fields.back().names_bus = true;
    return *this;
  }
  TableOf& between(std::string name, std::array<std::string, 2> T::*member, std::string doc) {
    as_pair_field(row(Shape::pair, member, name, doc));
    return *this;
  }
  TableOf& element(std::string name, std::string T::*member, std::string doc, Need need = Need::required) {
    text(std::move(name), member, std::move(doc), need);
    table_.fields.back().expects = "the name of an element";
    table_.fields.back().names_element = true;
    return *this;
  }
  /// Symmetric matrix; optional.
  TableOf& triangle(std::string name, std::vector<double> T::*member, std::string unit, std::string doc) {
    as_curve_field(row(Shape::triangle, member, name, doc), "", std::move(unit));
    return *this;
  }
  /// Curve or programme, x ascending; optional.
  TableOf& points(std::string name, Points T::*member, std::string x_unit, std::string unit,
                  std::string doc) {
    as_curve_field(row(Shape::points, member, name, doc), std::move(x_unit), std::move(unit));
    return *this;
  }

  /// The field named last may be set while a plant runs.
  TableOf& changeable() {
    table_.fields.back().changeable = true;
    return *this;
  }

  [[nodiscard]] Table build() { return std::move(table_); }

 private:
  template <class Member>
  Field& row(Shape shape, Member T::*member, std::string& name, std::string& doc) {
    const auto offset = static_cast<std::size_t>(reinterpret_cast<const char*>(&(sample_.*member)) -
                                                 reinterpret_cast<const char*>(&sample_));
    return add(shape, offset, std::move(name), std::move(doc), &sample_);
  }

  T sample_{};
};

/// A field without a value: required, or not given by choice.
inline constexpr double unset = std::numeric_limits<double>::quiet_NaN();
[[nodiscard]] inline bool is_set(double value) { return !std::isnan(value); }

}  // namespace zavrek::network
