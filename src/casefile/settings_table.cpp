// Settings of relays as a table: a line for each field, NAME, VALUE, UNIT, COMMENT; and from a table as
// somebody else writes it, by a mapping of its names.
#include <algorithm>
#include <map>
#include <optional>

#include <fmt/format.h>

#include "casefile/contents.hpp"
#include "casefile/quoted.hpp"
#include "record/csv_field.hpp"
#include "zavrek/record.hpp"

namespace zavrek::casefile {
namespace {

using internal::quoted;
using network::Field;
using network::Shape;
using network::Value;
using record::internal::csv_field;
using record::internal::csv_rows;

constexpr const char* between = "; ";  // the parts of a list

[[noreturn]] void refuse(const std::string& file, std::size_t line, const std::string& text) {
  throw Error(Flaw{.file = file, .line = static_cast<int>(line), .place = {}, .field = {}, .text = text});
}

std::string trimmed(std::string text) {
  text.erase(0, text.find_first_not_of(" \t"));
  text.erase(text.find_last_not_of(" \t") + 1);
  return text;
}

/// A field's value and unit as columns; nothing for what is not set.
std::optional<std::pair<std::string, std::string>> columns_of(const Field& field, const void* object) {
  const Value value = field.read(object);
  if (const auto* number = std::get_if<double>(&value)) {
    if (!network::is_set(*number)) return std::nullopt;
    if (field.shape == Shape::count || field.unit.empty()) return {{print_quantity(*number, ""), ""}};
    const std::string text = print_quantity(*number, field.unit);
    return {{text.substr(0, text.find(' ')), field.unit}};
  }
  if (const auto* flag = std::get_if<bool>(&value)) return {{*flag ? "true" : "false", ""}};
  if (const auto* text = std::get_if<std::string>(&value)) {
    if (text->empty()) return std::nullopt;
    return {{*text, ""}};
  }
  std::string list;
  for (const std::string& one : std::get<std::vector<std::string>>(value))
    list += (list.empty() ? "" : between) + one;
  if (list.empty()) return std::nullopt;
  return {{list, ""}};
}

template <class Add>
void for_each_row(const protection::RelaySettings& settings, Add&& add) {
  const auto add_all = [&](const std::string& stem, const network::Table& table, const void* object) {
    for (const Field& field : table.fields) {
      if (const auto columns = columns_of(field, object))
        add(SettingRow{stem + field.name, columns->first, columns->second, field.doc});
    }
  };
  add_all("", table(&settings), &settings);
  for (const protection::FunctionSettings& function : settings.functions) {
    std::visit(
        [&](const auto& f) {
          const network::Table& of = table(&f);
          add_all(of.kind + "." + f.name + ".", of, &f);
        },
        function);
  }
}

/// The field that a name stands for: "values", "stage.phase1.pickup".
const Field* field_of(const std::string& name) {
  const std::size_t dot = name.find('.'), last = name.rfind('.');
  if (dot == std::string::npos)
    return table(static_cast<const protection::RelaySettings*>(nullptr)).find(name);
  const Field* found = nullptr;
  protection::for_each_kind([&](const auto* null) {
    if (dot != last && table(null).kind == name.substr(0, dot))
      found = table(null).find(name.substr(last + 1));
  });
  return found;
}

std::string as_toml(const Field& field, const SettingRow& row) {
  switch (field.shape) {
    case Shape::quantity:
      return row.unit.empty() && row.value.find(' ') == std::string::npos && field.unit.empty()
                 ? row.value
                 : quoted(row.unit.empty() ? row.value : row.value + " " + row.unit);
    case Shape::count:
    case Shape::flag:
      return row.value;
    case Shape::text:
    case Shape::triangle:
      return quoted(row.value);
    case Shape::texts:
    case Shape::pair:
    case Shape::points:
      break;
  }
  std::string list;
  for (std::size_t at = 0; at <= row.value.size();) {
    const std::size_t end = std::min(row.value.find(';', at), row.value.size());
    list += (list.empty() ? "" : ", ") + quoted(trimmed(row.value.substr(at, end - at)));
    at = end + 1;
  }
  return "[" + list + "]";
}

/// Rows in the order of their functions, as a settings file holds them; `lines` has the row of each line.
std::string file_of(const std::vector<std::pair<SettingRow, std::size_t>>& rows,
                    std::vector<std::size_t>& lines) {
  std::vector<std::string> heads{""};
  std::map<std::string, std::vector<std::pair<std::string, std::size_t>>> by_head;
  for (const auto& [row, line] : rows) {
    const std::size_t last = row.name.rfind('.');
    const std::string head = last == std::string::npos ? "" : row.name.substr(0, last);
    if (std::find(heads.begin(), heads.end(), head) == heads.end()) heads.push_back(head);
    const std::string field = last == std::string::npos ? row.name : row.name.substr(last + 1);
    by_head[head].emplace_back(field + " = " + as_toml(*field_of(row.name), row), line);
  }
  std::string text;
  lines.assign(1, 0);  // lines count from 1
  for (const std::string& head : heads) {
    if (!head.empty()) {
      const std::size_t dot = head.find('.');
      text += fmt::format("\n[{}.{}]\n", head.substr(0, dot), quoted(head.substr(dot + 1)));
      const std::size_t first = by_head[head].empty() ? 0 : by_head[head].front().second;
      lines.insert(lines.end(), 2, first);
    }
    for (const auto& [line, from] : by_head[head]) {
      text += line + "\n";
      lines.push_back(from);
    }
  }
  return text;
}

/// How somebody else's table is read: its columns, what its names and words are here, what it leaves unsaid.
struct Mapping {
  std::string name = "name", value = "value", unit = "unit", separator = ",";
  bool decimal_comma = false, others_may_be_there = false;
  struct Target {
    std::string is, unit;
    std::map<std::string, std::string> words;
  };
  std::map<std::string, Target> settings;
  std::vector<std::pair<std::string, std::string>> fixed;
};

Mapping read_mapping(const std::string& text, const std::string& file) {
  internal::Reader reader(text, file);
  Mapping map;
  const auto word = [&](const toml::node& node, const std::string& place) {
    if (const auto written = node.value<std::string>()) return *written;
    reader.report(node, place, "", "a text in quotes is wanted");
    return std::string();
  };
  const auto target = [&](const std::string& name, const toml::node& node) {
    Mapping::Target to;
    if (const toml::table* more = node.as_table()) {
      for (const auto& [key, value] : *more) {
        if (key.str() == "is")
          to.is = word(value, name);
        else if (key.str() == "unit")
          to.unit = word(value, name);
        else if (const toml::table* words = key.str() == "words" ? value.as_table() : nullptr)
          for (const auto& [theirs, ours] : *words) to.words[std::string(theirs.str())] = word(ours, name);
        else
          reader.report(value, name, std::string(key.str()), "no such field; known: is, unit, words");
      }
    } else {
      to.is = word(node, name);
    }
    if (!to.is.empty() && !field_of(to.is))
      reader.report(node, name, "",
                    fmt::format("\"{}\" is no setting, such as \"stage.phase1.pickup\"", to.is));
    map.settings[name] = std::move(to);
  };
  for (const auto& [key, node] : reader.root()) {
    const std::string at(key.str());
    if (at == "name" || at == "value" || at == "unit" || at == "separator") {
      (at == "name"    ? map.name
       : at == "value" ? map.value
       : at == "unit"  ? map.unit
                       : map.separator) = word(node, at);
    } else if (at == "decimal_comma" || at == "others_may_be_there") {
      const auto flag = node.value<bool>();
      if (!flag) reader.report(node, at, "", "true or false is wanted");
      if (at == "decimal_comma") map.decimal_comma = flag.value_or(false);
      if (at == "others_may_be_there") map.others_may_be_there = flag.value_or(false);
    } else if (const toml::table* all = node.as_table(); all && at == "settings") {
      for (const auto& [name, value] : *all) target(std::string(name.str()), value);
    } else if (all && at == "fixed") {
      for (const auto& [name, value] : *all) {
        if (!field_of(std::string(name.str())))
          reader.report(value, "fixed", std::string(name.str()), "is no setting");
        map.fixed.emplace_back(name.str(), word(value, "fixed"));
      }
    } else {
      reader.report(
          node, "mapping", at,
          "no such field; known: name, value, unit, separator, decimal_comma, others_may_be_there, settings, "
          "fixed");
    }
  }
  if (map.separator.size() != 1)
    reader.report(reader.root(), "mapping", "separator", "one character is wanted");
  if (!reader.flaws().empty()) throw Error(std::move(reader.flaws()));
  return map;
}

}  // namespace

std::vector<SettingRow> setting_rows(const protection::RelaySettings& settings) {
  std::vector<SettingRow> rows;
  for_each_row(settings, [&](SettingRow row) { rows.push_back(std::move(row)); });
  return rows;
}

std::string settings_csv(const protection::RelaySettings& settings) {
  std::string csv = "name,value,unit,comment\n";
  for (const SettingRow& row : setting_rows(settings))
    csv += fmt::format("{},{},{},{}\n", csv_field(row.name), csv_field(row.value), csv_field(row.unit),
                       csv_field(row.comment));
  return csv;
}

std::string settings_from_csv(const std::filesystem::path& csv, const std::filesystem::path& mapping) {
  const Mapping map =
      mapping.empty() ? Mapping{} : read_mapping(record::read_file(mapping), mapping.string());
  const std::string file = csv.string();
  std::string bytes = record::read_file(csv);
  if (bytes.starts_with("\xEF\xBB\xBF")) bytes.erase(0, 3);
  const auto table = csv_rows(bytes, map.separator.front());
  if (table.empty()) refuse(file, 1, "is empty; a line with the names of its columns is wanted");
  const auto column = [&](const std::string& name, bool needed) {
    const auto found = std::find_if(table.front().begin(), table.front().end(),
                                    [&](const std::string& head) { return trimmed(head) == name; });
    if (found == table.front().end() && needed)
      refuse(file, 1, fmt::format("has no column \"{}\"{}", name, suggestion(name, table.front())));
    return static_cast<std::size_t>(found - table.front().begin());
  };
  const std::size_t name_at = column(map.name, true), value_at = column(map.value, true),
                    unit_at = column(map.unit, false);
  std::vector<std::pair<SettingRow, std::size_t>> rows;
  for (const auto& [name, value] : map.fixed) rows.push_back({{name, value, "", ""}, 0});
  for (std::size_t k = 1; k < table.size(); ++k) {
    const auto cell = [&](std::size_t at) {
      return at < table[k].size() ? trimmed(table[k][at]) : std::string();
    };
    SettingRow row{cell(name_at), cell(value_at), cell(unit_at), ""};
    if (row.name.empty() || row.value.empty()) continue;
    if (const auto known = map.settings.find(row.name); known != map.settings.end()) {
      const Mapping::Target& to = known->second;
      if (to.is.empty()) continue;  // said to be nothing here
      row.name = to.is;
      if (!to.unit.empty()) row.unit = to.unit;
      if (const auto word = to.words.find(row.value); word != to.words.end()) row.value = word->second;
    } else if (!mapping.empty() && !field_of(row.name)) {
      if (map.others_may_be_there) continue;
      refuse(
          file, k + 1,
          fmt::format(
              "\"{}\" stands not in [settings] of {}; write \"{}\" = \"KIND.NAME.FIELD\", \"\" where it is "
              "nothing here, or others_may_be_there = true",
              row.name, mapping.filename().string(), row.name));
    }
    const Field* field = field_of(row.name);
    if (!field)
      refuse(file, k + 1, fmt::format("\"{}\" is no setting, such as \"stage.phase1.pickup\"", row.name));
    const bool number = field->shape == Shape::quantity || field->shape == Shape::count;
    if (map.decimal_comma && number) std::replace(row.value.begin(), row.value.end(), ',', '.');
    rows.emplace_back(std::move(row), k + 1);
  }
  std::vector<std::size_t> lines;
  const std::string text = file_of(rows, lines);
  try {
    (void)read_relay_settings_text(text, file);
  } catch (const Error& error) {
    std::vector<Flaw> flaws = error.flaws();
    for (Flaw& flaw : flaws) {
      const auto at = static_cast<std::size_t>(std::max(flaw.line, 0));
      flaw.line = at < lines.size() ? static_cast<int>(lines[at]) : 0;
    }
    throw Error(std::move(flaws));
  }
  return "# From " + csv.filename().string() + ".\n" + text;
}

std::vector<SettingDifference> setting_differences(const protection::RelaySettings& one,
                                                   const protection::RelaySettings& other) {
  const std::vector<SettingRow> here = setting_rows(one), there = setting_rows(other);
  const auto text_of = [](const SettingRow& row) {
    return row.unit.empty() ? row.value : row.value + " " + row.unit;
  };
  const auto find = [](const std::vector<SettingRow>& in, const std::string& name) {
    return std::find_if(in.begin(), in.end(), [&](const SettingRow& row) { return row.name == name; });
  };
  std::vector<SettingDifference> found;
  for (const SettingRow& row : here) {
    const auto match = find(there, row.name);
    const std::string mine = text_of(row), theirs = match == there.end() ? "" : text_of(*match);
    if (mine != theirs) found.push_back({row.name, mine, theirs});
  }
  for (const SettingRow& row : there) {
    if (find(here, row.name) == here.end()) found.push_back({row.name, "", text_of(row)});
  }
  return found;
}

}  // namespace zavrek::casefile
