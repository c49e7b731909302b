#pragma once

#include <array>
#include <cmath>
#include <functional>
#include <limits>
#include <string>
#include <type_traits>
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

/// One row of a field table. `assign` throws Error (text only) when the value does not fit.
struct Field {
  std::string name;
  std::string expects;   ///< "a length in km", "the name of a bus", "true or false"
  std::string standard;  ///< default as text; empty when there is none
  std::string doc;
  Need need = Need::optional;
  bool changeable = false;     ///< may be set while a plant runs
  bool names_bus = false;      ///< holds one or more bus names
  bool names_element = false;  ///< holds the name of another element
  std::function<void(void*, const Value&)> assign;
  std::function<Value(const void*)> read;
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
[[nodiscard]] bool as_flag(const Value& value);
[[nodiscard]] std::string expectation_of(std::string_view unit);

/// Builds the table of `T`. Defaults are read off a default-constructed `T`, so that they are
/// written once; a NaN or an empty string there means that there is none.
template <class T>
class TableOf {
 public:
  TableOf(std::string kind, std::string doc) : table_{std::move(kind), std::move(doc), {}} {}

  TableOf& quantity(std::string name, double T::*member, std::string unit, Bounds bounds, std::string doc,
                    Need need = Need::required) {
    Field& field = add(std::move(name), expectation_of(unit), std::move(doc));
    const double standard = T{}.*member;
    field.need = std::isnan(standard) ? need : Need::optional;
    if (!std::isnan(standard)) field.standard = print_quantity(standard, unit);
    field.assign = [member, unit, bounds](void* object, const Value& value) {
      const double number = as_quantity(value, unit);
      check_bounds(number, bounds, unit);
      static_cast<T*>(object)->*member = number;
    };
    field.read = [member](const void* object) { return Value(static_cast<const T*>(object)->*member); };
    return *this;
  }

  TableOf& count(std::string name, int T::*member, Bounds bounds, std::string doc) {
    Field& field = add(std::move(name), "a whole number", std::move(doc));
    field.standard = std::to_string(T{}.*member);
    field.assign = [member, bounds](void* object, const Value& value) {
      const double number = as_quantity(value, "");
      if (number != std::floor(number)) throw Error("a whole number is wanted");
      check_bounds(number, bounds, "");
      static_cast<T*>(object)->*member = static_cast<int>(number);
    };
    field.read = [member](const void* object) {
      return Value(static_cast<double>(static_cast<const T*>(object)->*member));
    };
    return *this;
  }

  TableOf& flag(std::string name, bool T::*member, std::string doc) {
    Field& field = add(std::move(name), "true or false", std::move(doc));
    field.standard = T{}.*member ? "true" : "false";
    field.assign = [member](void* object, const Value& value) {
      static_cast<T*>(object)->*member = as_flag(value);
    };
    field.read = [member](const void* object) { return Value(static_cast<const T*>(object)->*member); };
    return *this;
  }

  TableOf& text(std::string name, std::string T::*member, std::string doc, Need need = Need::required) {
    Field& field = add(std::move(name), "a text", std::move(doc));
    field.standard = T{}.*member;
    field.need = field.standard.empty() ? need : Need::optional;
    field.assign = [member](void* object, const Value& value) {
      static_cast<T*>(object)->*member = as_text(value);
    };
    field.read = [member](const void* object) { return Value(static_cast<const T*>(object)->*member); };
    return *this;
  }

  TableOf& choice(std::string name, std::string T::*member, std::vector<std::string> words, std::string doc) {
    std::string list;
    for (const std::string& word : words) list += (list.empty() ? "\"" : ", \"") + word + "\"";
    text(std::move(name), member, std::move(doc));
    Field& field = table_.fields.back();
    field.expects = "one of " + list;
    field.assign = [member, words, list](void* object, const Value& value) {
      const std::string& word = as_text(value);
      for (const std::string& known : words) {
        if (word == known) {
          static_cast<T*>(object)->*member = word;
          return;
        }
      }
      throw Error("\"" + word + "\" is none of " + list);
    };
    return *this;
  }

  TableOf& texts(std::string name, std::vector<std::string> T::*member, std::string doc,
                 Need need = Need::optional) {
    Field& field = add(std::move(name), "a list of texts", std::move(doc));
    field.need = need;
    field.assign = [member](void* object, const Value& value) {
      static_cast<T*>(object)->*member = as_texts(value);
    };
    field.read = [member](const void* object) { return Value(static_cast<const T*>(object)->*member); };
    return *this;
  }

  TableOf& bus(std::string name, std::string T::*member, std::string doc) {
    text(std::move(name), member, std::move(doc));
    table_.fields.back().expects = "the name of a bus";
    table_.fields.back().names_bus = true;
    return *this;
  }

  TableOf& between(std::string name, std::array<std::string, 2> T::*member, std::string doc) {
    Field& field = add(std::move(name), "two bus names, such as [\"quay\", \"berth1\"]", std::move(doc));
    field.need = Need::required;
    field.names_bus = true;
    field.assign = [member](void* object, const Value& value) {
      const std::vector<std::string> names = as_texts(value);
      if (names.size() != 2) throw Error("two bus names are wanted, such as [\"quay\", \"berth1\"]");
      if (names[0] == names[1])
        throw Error("both ends are bus \"" + names[0] + "\"; two different buses are wanted");
      static_cast<T*>(object)->*member = {names[0], names[1]};
    };
    field.read = [member](const void* object) {
      const auto& pair = static_cast<const T*>(object)->*member;
      return Value(std::vector<std::string>{pair[0], pair[1]});
    };
    return *this;
  }

  TableOf& element(std::string name, std::string T::*member, std::string doc) {
    text(std::move(name), member, std::move(doc));
    table_.fields.back().expects = "the name of an element";
    table_.fields.back().names_element = true;
    return *this;
  }

  /// The field named last may be set while a plant runs.
  TableOf& changeable() {
    table_.fields.back().changeable = true;
    return *this;
  }

  [[nodiscard]] Table build() { return std::move(table_); }

 private:
  Field& add(std::string name, std::string expects, std::string doc) {
    Field field;
    field.name = std::move(name);
    field.expects = std::move(expects);
    field.doc = std::move(doc);
    table_.fields.push_back(std::move(field));
    return table_.fields.back();
  }

  Table table_;
};

/// A field without a value: required, or not given by choice.
inline constexpr double unset = std::numeric_limits<double>::quiet_NaN();
[[nodiscard]] inline bool is_set(double value) { return !std::isnan(value); }

}  // namespace zavrek::network
