#include "handover/blocks_of_text.hpp"

#include <algorithm>
#include <cctype>

#include "zavrek/error.hpp"
#include "zavrek/record.hpp"

namespace zavrek::handover {
namespace {

std::string_view trimmed(std::string_view text) {
  while (!text.empty() && std::isspace(static_cast<unsigned char>(text.front()))) text.remove_prefix(1);
  while (!text.empty() && std::isspace(static_cast<unsigned char>(text.back()))) text.remove_suffix(1);
  return text;
}

/// Walks over TOML: whether a place is within quotes, and how deep within brackets.
class Walk {
 public:
  /// Over one line; calls `quoted` with each text between quotes.
  template <class Quoted>
  void line(std::string_view text, Quoted&& quoted) {
    for (std::size_t k = 0; k < text.size(); ++k) {
      if (!quote_.empty()) {
        if (quote_.front() == '"' && text[k] == '\\') {
          if (k + 1 < text.size()) inside_ += text[++k];
          continue;
        }
        if (text.substr(k).starts_with(quote_)) {
          k += quote_.size() - 1;
          quote_.clear();
          quoted(std::exchange(inside_, {}));
          continue;
        }
        inside_ += text[k];
        continue;
      }
      if (text[k] == '#') return;
      if (text[k] == '"' || text[k] == '\'') {
        const std::string three(3, text[k]);
        quote_ = text.substr(k).starts_with(three) ? three : std::string(1, text[k]);
        k += quote_.size() - 1;
      } else if (text[k] == '[' || text[k] == '{') {
        ++depth_;
      } else if (text[k] == ']' || text[k] == '}') {
        --depth_;
      }
    }
    if (quote_.size() == 1) quote_.clear();  // ends with its line, whatever it is
  }
  [[nodiscard]] bool outside() const { return quote_.empty() && depth_ <= 0; }

 private:
  std::string quote_, inside_;
  int depth_ = 0;
};

std::vector<std::string> lines_of(std::string_view text) {
  std::vector<std::string> lines;
  while (!text.empty()) {
    const std::size_t end = text.find('\n');
    lines.emplace_back(text.substr(0, end));
    text.remove_prefix(end == std::string_view::npos ? text.size() : end + 1);
  }
  return lines;
}

/// Where the comment lines at the end of `text` begin.
std::size_t start_of_last_comment(std::string_view text) {
  std::size_t start = text.size();
  while (start > 0) {
    const std::size_t before = start < 2 ? std::string_view::npos : text.rfind('\n', start - 2);
    const std::size_t line = before == std::string_view::npos ? 0 : before + 1;
    if (!trimmed(text.substr(line, start - line)).starts_with('#')) break;
    start = line;
  }
  return start;
}

std::string key_of(std::string_view line) {
  std::string_view key = trimmed(line.substr(0, line.find('=')));
  if (key.size() > 1 && (key.front() == '"' || key.front() == '\'')) key = key.substr(1, key.size() - 2);
  return std::string(key);
}

std::vector<std::string> header_of(std::string_view line) {
  std::vector<std::string> keys;
  const std::size_t from = line.find_first_not_of('['), until = line.find(']');
  for (std::string_view rest = line.substr(from, until - from);;) {
    const std::size_t dot = rest.find('.');
    keys.emplace_back(key_of(rest.substr(0, dot)));
    if (dot == std::string_view::npos) return keys;
    rest.remove_prefix(dot + 1);
  }
}

}  // namespace

BlocksOfText::BlocksOfText(const std::filesystem::path& file)
    : BlocksOfText(std::string_view(record::read_file(file))) {}

BlocksOfText::BlocksOfText(std::string_view text) {
  Block* block = &head_;
  std::string held;  // comments and blank lines, of which it is not known yet whose they are
  Walk walk;
  for (const std::string& line : lines_of(text)) {
    const std::string_view bare = trimmed(line);
    const bool begins = walk.outside();
    if (begins && bare.starts_with('[')) {
      const std::size_t own = start_of_last_comment(held);
      block->below = held.substr(0, own);
      Block& next = blocks_.emplace_back();
      next.above = held.substr(own) + line + "\n";
      next.keys = header_of(bare);
      block = &next;
      held.clear();
      continue;
    }
    if (begins && (bare.empty() || bare.starts_with('#'))) {
      held += line + "\n";
      continue;
    }
    if (begins)
      block->entries.push_back({key_of(bare), held + line + "\n"});
    else
      block->entries.back().text += line + "\n";
    held.clear();
    walk.line(line, [](const std::string&) {});
  }
  block->below = held;
  head_.text = head_.with_lines([](const std::string&) { return true; });
  for (Block& one : blocks_) one.text = one.with_lines([](const std::string&) { return true; });
}

std::string BlocksOfText::Block::with_lines(const std::function<bool(const std::string&)>& has) const {
  std::string all = above;
  for (const Entry& entry : entries) {
    if (has(entry.key)) all += entry.text;
  }
  return all + below;
}

std::vector<std::string> words_of(std::string_view text) {
  std::vector<std::string> words;
  std::string word;
  for (const char c : text) {
    if (std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '-') {
      word += c;
    } else if (!word.empty()) {
      words.push_back(std::exchange(word, {}));
    }
  }
  if (!word.empty()) words.push_back(word);
  return words;
}

std::vector<std::string> quoted_texts_of(std::string_view text) {
  std::vector<std::string> texts;
  Walk walk;
  for (const std::string& line : lines_of(text))
    walk.line(line, [&](std::string quoted) { texts.push_back(std::move(quoted)); });
  return texts;
}

std::vector<std::string> quoted_words_of(std::string_view text) {
  std::vector<std::string> all;
  for (const std::string& quoted : quoted_texts_of(text)) {
    for (std::string& word : words_of(quoted)) all.push_back(std::move(word));
  }
  return all;
}

}  // namespace zavrek::handover
