#pragma once

#include <array>
#include <cmath>
#include <cstddef>
#include <initializer_list>
#include <limits>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "zavrek/limits.hpp"
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
[[nodiscard]] inline Bounds above_to(double low, double high) {
  return {.low = low, .high = high, .low_open = true};
}
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
  bool names_element = false;  ///< holds the name of another element, or several
  bool jumps = false;          ///< points may stand above one another: the later one holds from there on
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

/// What a thing of some kind shows while it runs, as NAME.ia; the block's own value as NAME.
struct Output {
  std::string name;  ///< behind its name: "i#" stands for ia, ib, ic (of poles ip, in); "*" for any word
  std::string unit;  ///< in SI
  std::string doc;   ///< with its sign: "into it from its bus"

  /// Whether it is `NAME.signal`.
  [[nodiscard]] bool is(std::string_view signal) const;
};

/// The field table of one kind of description.
struct Table {
  std::string kind;  ///< word used in files: "cable"
  std::string doc;
  std::vector<Field> fields;
  std::vector<Output> outputs;
  bool supplies = false;  ///< its currents and powers count out of it, those of all else into it

  [[nodiscard]] const Field* find(std::string_view name) const;
  /// What `NAME.signal` is; none for what is not known of this kind.
  [[nodiscard]] const Output* find_output(std::string_view signal) const;
  /// The same in words: what it says of an output, or of a field that is a knob; else empty.
  [[nodiscard]] std::string meaning_of(std::string_view signal) const;
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

/// The words that a text may be.
struct Words {
  Words(std::initializer_list<const char*> words);  // NOLINT(google-explicit-constructor)
  Words(std::vector<std::string> words) noexcept;   // NOLINT(google-explicit-constructor)
  std::vector<std::string> all;
};

/// Makes the rows of a table. What is the same for all structs stands in field.cpp, and texts come as views,
/// so that the dozens of tables, which every source that walks over all kinds compiles, cost little.
class TableBuilder {
 public:
  TableBuilder(std::string_view kind, std::string_view doc);
  [[nodiscard]] Table build() { return std::move(table_); }

 protected:
  struct Place {
    std::size_t offset;  // of the member within its struct
    const void* sample;  // a struct whose members hold the defaults
  };
  void add_quantity(Place at, std::string_view name, std::string_view unit, const Bounds& bounds,
                    std::string_view doc, Need need);
  void add_count(Place at, std::string_view name, const Bounds& bounds, std::string_view doc);
  void add_flag(Place at, std::string_view name, std::string_view doc);
  void add_text(Place at, std::string_view name, std::string_view doc, Need need);
  void add_choice(Place at, std::string_view name, std::string_view doc, std::vector<std::string>& words);
  void add_texts(Place at, std::string_view name, std::string_view doc, Need need);
  void add_bus(Place at, std::string_view name, std::string_view doc, Need need);
  void add_between(Place at, std::string_view name, std::string_view doc);
  void add_element(Place at, std::string_view name, std::string_view doc, Need need);
  void add_elements(Place at, std::string_view name, std::string_view doc);
  void add_curve(Shape shape, Place at, std::string_view name, std::string_view x_unit, std::string_view unit,
                 std::string_view doc, Need need = Need::optional);
  void add_output(std::string_view name, std::string_view unit, std::string_view doc);

  Table table_;

 private:
  Field& add(Shape shape, Place at, std::string_view name, std::string_view doc);
};

/// Builds the table of `T`. Defaults are read off a default-constructed `T`, so that they are
/// written once; a NaN or an empty string there means that there is none.
template <class T>
class TableOf : public TableBuilder {
 public:
  using TableBuilder::TableBuilder;

  TableOf& quantity(std::string_view name, double T::*member, std::string_view unit, Bounds bounds,
                    std::string_view doc, Need need = Need::required) {
    add_quantity(place(member), name, unit, bounds, doc, need);
    return *this;
  }
  TableOf& count(std::string_view name, int T::*member, Bounds bounds, std::string_view doc) {
    add_count(place(member), name, bounds, doc);
    return *this;
  }
  TableOf& flag(std::string_view name, bool T::*member, std::string_view doc) {
    add_flag(place(member), name, doc);
    return *this;
  }
  TableOf& text(std::string_view name, std::string T::*member, std::string_view doc,
                Need need = Need::required) {
    add_text(place(member), name, doc, need);
    return *this;
  }
  TableOf& choice(std::string_view name, std::string T::*member, Words words, std::string_view doc) {
    add_choice(place(member), name, doc, words.all);
    return *this;
  }
  TableOf& texts(std::string_view name, std::vector<std::string> T::*member, std::string_view doc,
                 Need need = Need::optional) {
    add_texts(place(member), name, doc, need);
    return *this;
  }
  TableOf& bus(std::string_view name, std::string T::*member, std::string_view doc,
               Need need = Need::required) {
    add_bus(place(member), name, doc, need);
    return *this;
  }
  TableOf& between(std::string_view name, std::array<std::string, 2> T::*member, std::string_view doc) {
    add_between(place(member), name, doc);
    return *this;
  }
  TableOf& element(std::string_view name, std::string T::*member, std::string_view doc,
                   Need need = Need::required) {
    add_element(place(member), name, doc, need);
    return *this;
  }
  TableOf& elements(std::string_view name, std::vector<std::string> T::*member, std::string_view doc) {
    add_elements(place(member), name, doc);
    return *this;
  }
  /// Symmetric matrix; optional.
  TableOf& triangle(std::string_view name, std::vector<double> T::*member, std::string_view unit,
                    std::string_view doc) {
    add_curve(Shape::triangle, place(member), name, {}, unit, doc);
    return *this;
  }
  /// Curve, x ascending.
  TableOf& points(std::string_view name, Points T::*member, std::string_view x_unit, std::string_view unit,
                  std::string_view doc, Need need = Need::optional) {
    add_curve(Shape::points, place(member), name, x_unit, unit, doc, need);
    return *this;
  }

  /// Programme over time: as a curve, but two pairs of one instant are a jump.
  TableOf& programme(std::string_view name, Points T::*member, std::string_view unit, std::string_view doc) {
    add_curve(Shape::points, place(member), name, "s", unit, doc);
    table_.fields.back().jumps = true;
    return *this;
  }

  /// What it shows while it runs; see Output.
  TableOf& gives(std::string_view name, std::string_view unit, std::string_view doc) {
    add_output(name, unit, doc);
    return *this;
  }

  TableOf& gives(const std::vector<Output>& all) {
    table_.outputs.insert(table_.outputs.end(), all.begin(), all.end());
    return *this;
  }

  /// It feeds a network: its currents and powers count out of it.
  TableOf& supplies() {
    table_.supplies = true;
    return *this;
  }

  /// The field named last may be set while a plant runs.
  TableOf& changeable() {
    table_.fields.back().changeable = true;
    return *this;
  }

 private:
  template <class Member>
  [[nodiscard]] Place place(Member T::*member) const {
    return {static_cast<std::size_t>(reinterpret_cast<const char*>(&(sample_.*member)) -
                                     reinterpret_cast<const char*>(&sample_)),
            &sample_};
  }

  T sample_ = T();
};

/// A field without a value: required, or not given by choice.
inline constexpr double unset = std::numeric_limits<double>::quiet_NaN();
[[nodiscard]] inline bool is_set(double value) { return !std::isnan(value); }

}  // namespace zavrek::network
