// C as text: numbers, lists, tables.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <Eigen/Core>

namespace zavrek::emt::internal {

/// With all digits; NEVER for an instant that does not come.
[[nodiscard]] std::string c_number(double value);
/// What can stand in a comment, whatever the text: it neither ends one nor means another character.
[[nodiscard]] std::string c_words(std::string_view text);
[[nodiscard]] std::string c_comment(std::string_view text);
/// {a, b}
[[nodiscard]] std::string c_list(const std::vector<double>& numbers);
[[nodiscard]] std::string c_list(const std::vector<int>& numbers);
/// {{a, b}, {c, d}}
[[nodiscard]] std::string c_matrix(const Eigen::MatrixXd& matrix);
/// static const TYPE NAME[] = {...}, over several lines; a zero alone where there is nothing.
[[nodiscard]] std::string c_table(std::string_view type, std::string_view name,
                                  const std::vector<double>& numbers);
[[nodiscard]] std::string c_table(std::string_view type, std::string_view name,
                                  const std::vector<int>& numbers);
/// The same of rows that are text already.
[[nodiscard]] std::string c_rows(std::string_view type, std::string_view name,
                                 const std::vector<std::string>& rows);
[[nodiscard]] std::string replaced(std::string_view text, std::string_view what, std::string_view by);

}  // namespace zavrek::emt::internal
