// C as text: numbers, lists, tables.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace zavrek {

/// With all digits; NEVER for an instant that does not come (1e300), HUGE_VAL and NAN (math.h) for what is no
/// number.
[[nodiscard]] std::string c_number(double value);
/// What can stand in a comment, whatever the text: it neither ends one nor means another character.
[[nodiscard]] std::string c_words(std::string_view text);
[[nodiscard]] std::string c_comment(std::string_view text);
/// {a, b}
[[nodiscard]] std::string c_list(const std::vector<double>& numbers);
[[nodiscard]] std::string c_list(const std::vector<int>& numbers);
/// static const TYPE NAME[] = {...}, over several lines; a zero alone where there is nothing.
[[nodiscard]] std::string c_table(std::string_view type, std::string_view name,
                                  const std::vector<double>& numbers);
[[nodiscard]] std::string c_table(std::string_view type, std::string_view name,
                                  const std::vector<int>& numbers);
/// The same of rows that are text already.
[[nodiscard]] std::string c_rows(std::string_view type, std::string_view name,
                                 const std::vector<std::string>& rows);
/// A comment in lines of its own: which number each name that is not empty has.
[[nodiscard]] std::string c_numbers_of(std::string_view title, const std::vector<std::string>& names);
/// Of files that the build bundles, by their names; empty when there is none of that name.
[[nodiscard]] std::string_view file_named(
    std::string_view name, const std::vector<std::pair<std::string_view, std::string_view>>& files);
[[nodiscard]] std::string replaced(std::string_view text, std::string_view what, std::string_view by);

}  // namespace zavrek
