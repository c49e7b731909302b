// How the files of a bench write the data set of a GOOSE message: an entry, or a structure of them, a text.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "zavrek/wire/goose.hpp"

namespace zavrek::bench::internal {

struct EntryText {
  enum class What : char { value, quality, time, skipped, structure, bits };
  What what = What::value;
  std::string name;                                     ///< of what it is, or whose quality or time
  wire::Datum::Kind kind = wire::Datum::Kind::boolean;  ///< of a value
  bool position = false;                                ///< a bit string of two bits
  std::string within;             ///< by which a number may move unsaid; empty: by nothing
  int members = 0;                ///< of a structure, which stand behind it
  std::vector<std::string> bits;  ///< of a bit string: names, "-" for one that nothing is
  [[nodiscard]] bool is_number() const {
    using Kind = wire::Datum::Kind;
    return kind == Kind::real || kind == Kind::integer || kind == Kind::natural;
  }
};
/// Structures ahead of their members. Throws Error for a text that is none.
[[nodiscard]] std::vector<EntryText> read_data_set(const std::vector<std::string>& texts);
/// Names of those that are on or off, or of those that are numbers.
[[nodiscard]] std::vector<std::string> names_in(const std::vector<EntryText>& entries, bool numbers);

/// Where the value `name` stands among the entries of a message; behind the last when it does not.
[[nodiscard]] std::size_t place_in(const std::vector<EntryText>& entries, const std::string& name);

/// Reads the data set of a message that came in.
class DataSetReader {
 public:
  explicit DataSetReader(const std::vector<std::string>& texts);
  [[nodiscard]] std::size_t entries() const noexcept { return entries_; }
  [[nodiscard]] const std::vector<std::string>& points() const noexcept { return points_; }
  [[nodiscard]] const std::vector<std::string>& numbers() const noexcept { return numbers_; }
  /// Calls `point(place, on)` and `number(place, value)` for what is good, and not under test unless that
  /// is taken too; how many were not.
  template <class Point, class Number>
  int read(const wire::Goose& message, bool takes_test, Point&& point, Number&& number) const noexcept {
    int unfit = 0;
    for (const Read& read : reads_) {
      const wire::Datum& datum = message.entries[read.entry];
      const std::uint32_t quality = read.has_quality ? message.entries[read.quality].as_quality() : 0;
      const bool good = wire::is_usable(quality) && (takes_test || (quality & wire::Quality::test) == 0);
      if (!good || !fits(datum, read))
        ++unfit;
      else if (read.is_number)
        number(read.place, datum.number());
      else if (read.bits > 0)
        point(read.place, (datum.value >> (read.bits - 1U - read.bit) & 1U) != 0);
      else
        point(read.place, datum.on());
    }
    return unfit;
  }

 private:
  /// How an entry of the message is read: its place among what is on or off or among the numbers, and where
  /// its quality stands.
  struct Read {
    std::size_t entry, place;
    bool is_number;
    wire::Datum::Kind kind;
    bool has_quality = false;
    std::size_t quality = 0;
    unsigned bits = 0, bit = 0;  // of a bit string: how many, and which
  };
  [[nodiscard]] static bool fits(const wire::Datum& datum, const Read& read) noexcept {
    if (read.is_number) return datum.kind == read.kind;
    if (read.bits > 0) return datum.kind == wire::Datum::Kind::bits && datum.size == read.bits;
    return datum.kind == wire::Datum::Kind::boolean ||
           (datum.kind == wire::Datum::Kind::bits && datum.size == 2);
  }
  std::size_t entries_ = 0;
  std::vector<std::string> points_, numbers_;
  std::vector<Read> reads_;
};

}  // namespace zavrek::bench::internal
