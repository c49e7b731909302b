#include "quantity/c_text.hpp"

#include <cmath>

#include <fmt/format.h>

namespace zavrek {
namespace {

constexpr double never = 1e300;
constexpr std::size_t widest = 110;

template <class Numbers>
std::string listed(const Numbers& numbers) {
  std::string text;
  for (const auto number : numbers)
    text += (text.empty() ? "" : ", ") + c_number(static_cast<double>(number));
  return "{" + text + "}";
}

template <class Numbers>
std::string tabled(std::string_view type, std::string_view name, const Numbers& numbers) {
  std::string text = fmt::format("static const {} {}[] = {{", type, name), line = "\n ";
  for (const auto number : numbers) {
    const std::string next = " " + c_number(static_cast<double>(number)) + ",";
    if (line.size() + next.size() > widest) {
      text += line;
      line = "\n ";
    }
    line += next;
  }
  return text + (numbers.empty() ? "0" : line + "\n") + "};\n";
}

}  // namespace

std::string c_number(double value) {
  if (std::isnan(value)) return "NAN";
  if (std::abs(value) == never) return value < 0 ? "-NEVER" : "NEVER";
  if (std::isinf(value)) return value < 0 ? "-HUGE_VAL" : "HUGE_VAL";
  return fmt::format("{}", value);
}

std::string c_words(std::string_view text) {
  return replaced(replaced(replaced(text, "*/", "* /"), "/*", "/ *"), "??", "? ?");
}

std::string c_comment(std::string_view text) { return "/* " + c_words(text) + " */"; }

std::string c_list(const std::vector<double>& numbers) { return listed(numbers); }
std::string c_list(const std::vector<int>& numbers) { return listed(numbers); }

std::string c_table(std::string_view type, std::string_view name, const std::vector<double>& numbers) {
  return tabled(type, name, numbers);
}
std::string c_table(std::string_view type, std::string_view name, const std::vector<int>& numbers) {
  return tabled(type, name, numbers);
}

std::string c_rows(std::string_view type, std::string_view name, const std::vector<std::string>& rows) {
  std::string text = fmt::format("static const {} {}[] = {{\n", type, name);
  for (const std::string& row : rows) text += "  " + row + ",\n";
  return text + (rows.empty() ? "  {0}\n" : "") + "};\n";
}

std::string c_numbers_of(std::string_view title, const std::vector<std::string>& names) {
  std::string text = fmt::format("/* {}:\n", title), line;
  for (std::size_t k = 0; k < names.size(); ++k) {
    if (names[k].empty()) continue;
    const std::string next = fmt::format(" {} {},", k, c_words(names[k]));
    if (line.size() + next.size() > widest) {
      text += " *" + line + "\n";
      line.clear();
    }
    line += next;
  }
  return text + " *" + line + " */\n";
}

std::string_view file_named(std::string_view name,
                            const std::vector<std::pair<std::string_view, std::string_view>>& files) {
  for (const auto& [known, content] : files) {
    if (known == name) return content;
  }
  return {};
}

std::string replaced(std::string_view text, std::string_view what, std::string_view by) {
  std::string out;
  for (std::size_t at = 0;;) {
    const std::size_t next = text.find(what, at);
    out += text.substr(at, next - at);
    if (next == std::string_view::npos) return out;
    out += by;
    at = next + what.size();
  }
}

}  // namespace zavrek
