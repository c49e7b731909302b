// A TOML file as its author wrote it, block by block: a header with the comment above it and the lines below.
#pragma once

#include <filesystem>
#include <functional>
#include <string>
#include <utility>
#include <vector>

namespace zavrek::handover {

class BlocksOfText {
 public:
  BlocksOfText() = default;
  /// Throws Error.
  explicit BlocksOfText(const std::filesystem::path& file);
  explicit BlocksOfText(std::string_view text);

  /// A value with the lines that it takes, and the comment behind it.
  struct Entry {
    std::string key, text;
  };
  struct Block {
    std::vector<std::string> keys;  ///< "stream", "S1"
    std::string text;               ///< all of it
    std::string above;              ///< comments and the header
    std::vector<Entry> entries;
    std::string below;  ///< blank lines and comments
    /// The same with some of its entries alone.
    [[nodiscard]] std::string with_lines(const std::function<bool(const std::string&)>& has) const;
  };
  /// What stands before the first header.
  [[nodiscard]] std::string head() const { return head_.text; }
  [[nodiscard]] std::string head_with(const std::function<bool(const std::string&)>& has) const {
    return head_.with_lines(has);
  }
  [[nodiscard]] const std::vector<Block>& blocks() const { return blocks_; }

 private:
  Block head_;
  std::vector<Block> blocks_;
};

/// Words of letters, digits, _ and -.
[[nodiscard]] std::vector<std::string> words_of(std::string_view text);
/// Texts between quotes, comments left out.
[[nodiscard]] std::vector<std::string> quoted_texts_of(std::string_view text);
/// Words within these.
[[nodiscard]] std::vector<std::string> quoted_words_of(std::string_view text);

}  // namespace zavrek::handover
