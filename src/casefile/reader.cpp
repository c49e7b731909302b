#include "casefile/reader.hpp"

#include <algorithm>
#include <optional>

#include <fmt/format.h>

#include "zavrek/limits.hpp"

namespace zavrek::casefile::internal {
namespace {

using network::Value;

std::optional<Value> value_of(const toml::node& node) {
  if (const auto* text = node.as_string()) return Value(text->get());
  if (const auto* number = node.as_floating_point()) return Value(number->get());
  if (const auto* number = node.as_integer()) return Value(static_cast<double>(number->get()));
  if (const auto* flag = node.as_boolean()) return Value(flag->get());
  const toml::array* array = node.as_array();
  if (!array) return std::nullopt;
  std::vector<std::string> texts;
  for (const toml::node& entry : *array) {
    const auto* text = entry.as_string();
    if (!text) return std::nullopt;
    texts.push_back(text->get());
  }
  return Value(std::move(texts));
}

/// Ahead of the parser, which goes a call deeper for each part of a key: why a line is not given to it.
std::string refusal_of_line(std::string_view line) {
  std::size_t parts = 1;
  char quote = 0;
  std::size_t at = 0;
  for (; at < line.size() && (quote != 0 || line[at] != '='); ++at) {
    const char c = line[at];
    if (quote != 0) {
      if (c == quote) quote = 0;
    } else if (c == '"' || c == '\'') {
      quote = c;
    } else if (c == '.') {
      ++parts;
    } else if (c == '#') {
      return {};
    }
  }
  const bool is_key = at < line.size() || line.find('[') < line.find_first_not_of(" \t[");
  if (is_key && parts > limits::key_parts)
    return fmt::format("has a key of {} parts; {} at most", parts, limits::key_parts);
  if (is_key && at > limits::key_letters && quote == 0)
    return fmt::format("has a key of {} letters; {} at most", at, limits::key_letters);
  return {};
}

void check_lines(std::string_view text, const std::string& file) {
  const auto refuse = [&](int line, std::string why) {
    throw Error(Flaw{.file = file, .line = line, .place = {}, .field = {}, .text = std::move(why)});
  };
  if (text.size() > limits::case_file_bytes) refuse(0, "is larger than 8 MiB");
  for (int number = 1; !text.empty(); ++number) {
    const std::size_t end = text.find('\n');
    if (std::string why = refusal_of_line(text.substr(0, end)); !why.empty()) refuse(number, std::move(why));
    text.remove_prefix(end == std::string_view::npos ? text.size() : end + 1);
  }
}

/// Control characters would reach terminals, reports and other programs' files.
void check_text(const std::string& text) {
  if (text.size() > limits::text_letters)
    throw Error(fmt::format("has {} letters; {} at most", text.size(), limits::text_letters));
  for (const char c : text) {
    if ((c >= 0 && c < ' ' && c != '\n' && c != '\t') || c == 127)
      throw Error(fmt::format("has a control character (0x{:02X})", static_cast<unsigned>(c)));
  }
}

void check_texts(const Value& value) {
  if (const auto* text = std::get_if<std::string>(&value)) check_text(*text);
  if (const auto* texts = std::get_if<std::vector<std::string>>(&value))
    std::for_each(texts->begin(), texts->end(), check_text);
}

}  // namespace

Reader::Reader(std::string_view text, std::string file) : file_(std::move(file)) {
  check_lines(text, file_);
  try {
    root_ = toml::parse(text);
  } catch (const toml::parse_error& error) {
    throw Error(Flaw{.file = file_,
                     .line = static_cast<int>(error.source().begin.line),
                     .place = {},
                     .field = {},
                     .text = "is no valid TOML: " + std::string(error.description())});
  }
}

void Reader::fields(const toml::table& from, const std::string& place, const std::vector<Target>& targets,
                    const std::vector<std::string>& apart) {
  remember(place, "", from);
  std::vector<std::string> known = apart;
  for (const Target& target : targets) {
    const auto names = target.table->field_names();
    known.insert(known.end(), names.begin(), names.end());
  }
  for (const auto& [key, node] : from) {
    const std::string name(key.str());
    if (std::find(apart.begin(), apart.end(), name) != apart.end()) continue;
    const network::Field* field = nullptr;
    void* object = nullptr;
    for (const Target& target : targets) {
      if (const network::Field* found = target.table->find(name)) {
        field = found;
        object = target.object;
      }
    }
    if (!field) {
      report(node, place, name, "no such field" + suggestion(name, known));
      continue;
    }
    remember(place, name, node);
    try {
      const auto value = value_of(node);
      if (!value) throw Error(field->expects + " is wanted");
      check_texts(*value);
      field->assign(object, *value);
    } catch (const Error& error) {
      report(node, place, name, error.flaws()[0].text);
    }
  }
}

void Reader::remember(const std::string& place, const std::string& field, const toml::node& at) {
  lines_[place + "/" + field] = static_cast<int>(at.source().begin.line);
}

void Reader::report(const toml::node& at, std::string place, std::string field, std::string text) {
  flaws_.push_back(
      {file_, static_cast<int>(at.source().begin.line), std::move(place), std::move(field), std::move(text)});
}

void Reader::report_missing(const toml::node& at, const std::string& place, const network::Field& field) {
  if (!told(place, field.name))
    report(at, place, field.name, "missing; " + field.expects + " (" + field.doc + ")");
}

/// A field that failed to read is missing too: one flaw is enough.
bool Reader::told(const std::string& place, const std::string& field) const {
  return !field.empty() && std::any_of(flaws_.begin(), flaws_.end(), [&](const Flaw& known) {
    return known.place == place && known.field == field;
  });
}

int Reader::line_of(const std::string& place, const std::string& field) const {
  for (const std::string& key : {place + "/" + field, place + "/"}) {
    if (const auto found = lines_.find(key); found != lines_.end()) return found->second;
  }
  return 0;
}

void Reader::report_by_name(const std::vector<Flaw>& flaws) {
  for (Flaw flaw : flaws) {
    if (told(flaw.place, flaw.field)) continue;
    flaw.file = file_;
    for (const std::string& key : {flaw.place + "/" + flaw.field, flaw.place + "/"}) {
      if (const auto found = lines_.find(key); found != lines_.end() && flaw.line == 0)
        flaw.line = found->second;
    }
    flaws_.push_back(std::move(flaw));
  }
}

}  // namespace zavrek::casefile::internal
