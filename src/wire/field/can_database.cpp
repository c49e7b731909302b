#include <algorithm>
#include <array>
#include <bit>
#include <charconv>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/can.hpp"

namespace zavrek::wire {
namespace {

constexpr std::size_t most_database_bytes = 8U << 20U;
constexpr std::uint32_t extended_bit = 1U << 31U;

/// The words of a line; what stands in quotation marks is one, each sign of ": | @ ( ) [ ] ," too.
std::vector<std::string_view> words_of(std::string_view line) {
  std::vector<std::string_view> words;
  std::size_t at = 0;
  constexpr std::string_view signs = ":|@()[],;";
  while (at < line.size()) {
    if (line[at] == ' ' || line[at] == '\t' || line[at] == '\r') {
      ++at;
    } else if (line[at] == '"') {
      const std::size_t end = std::min(line.find('"', at + 1), line.size());
      words.push_back(line.substr(at, end - at + 1));
      at = end + 1;
    } else if (signs.find(line[at]) != std::string_view::npos) {
      words.push_back(line.substr(at++, 1));
    } else {
      const std::size_t end = std::min(line.find_first_of(" \t\r\":|@()[],;", at), line.size());
      words.push_back(line.substr(at, end - at));
      at = end;
    }
  }
  return words;
}

class DatabaseReader {
 public:
  DatabaseReader(std::string_view text, const std::string& file) : text_(text), file_(file) {}

  CanDatabase read() {
    if (text_.size() > most_database_bytes) refuse("is longer than 8 MiB");
    bool commented = false;
    for (std::size_t at = 0; at < text_.size(); ++line_) {
      const std::size_t end = std::min(text_.find('\n', at), text_.size());
      const std::string_view line = text_.substr(at, end - at);
      at = end + 1;
      // A comment may go on over lines until its quotation mark.
      const auto marks = std::count(line.begin(), line.end(), '"');
      const bool begins = line.starts_with("CM_");
      if (!commented && !begins) take(words_of(line));
      if (commented || begins) commented = commented != (marks % 2 == 1);
    }
    for (const auto& [id, cycle_s] : cycles_) {
      for (CanMessage& message : database_.messages) {
        if (message.id == (id & ~extended_bit) && message.extended == ((id & extended_bit) != 0))
          message.cycle_s = cycle_s;
      }
    }
    return std::move(database_);
  }

 private:
  [[noreturn]] void refuse(std::string_view why) const {
    throw Error(fmt::format("{}:{}: {}", file_, line_, why));
  }
  template <class Number>
  Number number(std::string_view word) const {
    Number value{};
    if (word.starts_with('+')) word.remove_prefix(1);
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
    if (error != std::errc() || end != word.data() + word.size())
      refuse(fmt::format("\"{}\" is no number", word.substr(0, 40)));
    return value;
  }

  void take(const std::vector<std::string_view>& words) {
    if (words.empty()) return;
    if (words[0] == "BO_") return take_message(words);
    if (words[0] == "SG_") return take_signal_line(words);
    if (words[0] == "SIG_VALTYPE_" && words.size() >= 5) return take_form(words);
    if (words[0] == "BA_" && words.size() >= 5 && words[1] == "\"GenMsgCycleTime\"" && words[2] == "BO_")
      cycles_[number<std::uint32_t>(words[3])] = 1e-3 * number<double>(words[4]);
  }
  /// BO_ 256 Drive: 8 Inverter
  void take_message(const std::vector<std::string_view>& words) {
    if (words.size() < 5 || words[3] != ":") refuse("a message is written \"BO_ 256 Drive: 8 Inverter\"");
    CanMessage message;
    const auto id = number<std::uint32_t>(words[1]);
    message.extended = (id & extended_bit) != 0;
    message.id = id & ~extended_bit;
    message.name = words[2];
    message.size = number<std::size_t>(words[4]);
    constexpr std::uint32_t most_standard = 0x7FF, most_extended = 0x1FFFFFFF;
    if (message.id > (message.extended ? most_extended : most_standard))
      return void(gathers_ = false);  // the heap of signals that no message has
    if (message.size > 64)
      refuse(fmt::format("{} has {} octets; a frame holds 64", message.name, message.size));
    if (database_.find(message.name)) refuse(fmt::format("message {} stands there twice", message.name));
    database_.messages.push_back(std::move(message));
    gathers_ = true;
  }
  /// SG_ speed m0 : 8|16@1- (0.5,0) [-8000|8000] "rpm" Vehicle
  void take_signal_line(const std::vector<std::string_view>& words) {
    if (!gathers_) return;
    CanMessage& message = database_.messages.back();
    const bool selected = words.size() > 2 && words[2] != ":";
    const std::size_t k = selected ? 3 : 2;  // of the colon
    constexpr std::size_t signs = 17;        // from the colon to the unit
    if (words.size() < k + signs || words[k] != ":" || words[k + 2] != "|" || words[k + 4] != "@")
      refuse("a signal is written \"SG_ speed : 8|16@1- (0.5,0) [-8000|8000] \"rpm\" Vehicle\"");
    CanSignal signal;
    signal.name = words[1];
    signal.start = number<int>(words[k + 1]);
    signal.length = number<int>(words[k + 3]);
    const std::string_view order = words[k + 5];
    if (order.size() != 2 || (order[0] != '0' && order[0] != '1') || (order[1] != '+' && order[1] != '-'))
      refuse(fmt::format("\"@{}\" is none of @0+, @0-, @1+, @1-", order.substr(0, 20)));
    signal.low_first = order[0] == '1';
    signal.is_signed = order[1] == '-';
    signal.factor = number<double>(words[k + 7]);
    signal.offset = number<double>(words[k + 9]);
    signal.least = number<double>(words[k + 12]);
    signal.greatest = number<double>(words[k + 14]);
    const std::string_view unit = words[k + 16];
    if (unit.size() >= 2) signal.unit = unit.substr(1, unit.size() - 2);
    if (selected) take_selection(words[2], signal);
    check(message, signal);
    message.signals.push_back(std::move(signal));
  }
  void take_selection(std::string_view word, CanSignal& signal) const {
    signal.selects = word == "M";
    if (!signal.selects && (word.size() < 2 || word[0] != 'm'))
      refuse(fmt::format("\"{}\" is neither M nor such as m0", word.substr(0, 20)));
    if (!signal.selects) signal.when = number<unsigned>(word.substr(1));
  }
  void check(const CanMessage& message, const CanSignal& signal) const {
    if (message.find(signal.name)) refuse(fmt::format("signal {} stands there twice", signal.name));
    if (signal.length < 1 || signal.length > 64 || signal.start < 0 || signal.start >= 512)
      refuse(fmt::format("{} has {} bits from bit {}; 1 to 64 are possible", signal.name, signal.length,
                         signal.start));
    if (!std::isfinite(signal.factor) || signal.factor == 0 || !std::isfinite(signal.offset))
      refuse(fmt::format("{}: a factor of {} tells nothing", signal.name, signal.factor));
    const int bits = static_cast<int>(8 * message.size);
    // Of octets with the high one first, a signal runs from bit `start` down, octet by octet.
    const int last = signal.low_first ? signal.start + signal.length - 1
                                      : 8 * (signal.start / 8) + (7 - signal.start % 8) + signal.length - 1;
    if (last >= bits)
      refuse(fmt::format("{} reaches beyond the {} octets of {}", signal.name, message.size, message.name));
  }
  /// SIG_VALTYPE_ 256 torque : 1
  void take_form(const std::vector<std::string_view>& words) {
    const auto id = number<std::uint32_t>(words[1]);
    const auto form = number<int>(words[4] == ":" ? (words.size() > 5 ? words[5] : words[4]) : words[4]);
    for (CanMessage& message : database_.messages) {
      if (message.id != (id & ~extended_bit) || message.extended != ((id & extended_bit) != 0)) continue;
      for (CanSignal& signal : message.signals) {
        if (signal.name != words[2]) continue;
        if ((form == 1 && signal.length != 32) || (form == 2 && signal.length != 64))
          refuse(fmt::format("{} has {} bits and is a float", signal.name, signal.length));
        signal.form = form == 1   ? CanSignal::Form::float32
                      : form == 2 ? CanSignal::Form::float64
                                  : CanSignal::Form::whole;
      }
    }
  }

  std::string_view text_;
  std::string file_;
  int line_ = 1;
  bool gathers_ = false;
  CanDatabase database_;
  std::map<std::uint32_t, double> cycles_;
};

/// Calls `visit(octet, bit, weight)` from the signal's lowest bit up.
template <class Visit>
void for_each_bit(const CanSignal& signal, Visit&& visit) {
  if (signal.low_first) {
    for (int k = 0; k < signal.length; ++k) visit((signal.start + k) / 8, (signal.start + k) % 8, k);
    return;
  }
  const int highest =
      8 * (signal.start / 8) + (7 - signal.start % 8);  // counted from the first octet's highest
  for (int k = 0; k < signal.length; ++k) {
    const int at = highest + signal.length - 1 - k;
    visit(at / 8, 7 - at % 8, k);
  }
}

}  // namespace

const CanSignal* CanMessage::find(std::string_view signal) const {
  const auto at =
      std::find_if(signals.begin(), signals.end(), [&](const CanSignal& one) { return one.name == signal; });
  return at == signals.end() ? nullptr : &*at;
}
const CanSignal* CanMessage::selector() const {
  const auto at =
      std::find_if(signals.begin(), signals.end(), [](const CanSignal& one) { return one.selects; });
  return at == signals.end() ? nullptr : &*at;
}
const CanMessage* CanDatabase::find(std::string_view name) const {
  const auto at =
      std::find_if(messages.begin(), messages.end(), [&](const CanMessage& one) { return one.name == name; });
  return at == messages.end() ? nullptr : &*at;
}

CanDatabase parse_can_database(std::string_view text, const std::string& file) {
  return DatabaseReader(text, file).read();
}

std::uint64_t take_bits(Bytes data, const CanSignal& signal) noexcept {
  std::uint64_t bits = 0;
  bool within = true;
  for_each_bit(signal, [&](int octet, int bit, int weight) {
    within = within && static_cast<std::size_t>(octet) < data.size();
    if (within && (data[static_cast<std::size_t>(octet)] >> bit & 1) != 0) bits |= std::uint64_t{1} << weight;
  });
  return within ? bits : 0;
}

void put_bits(std::span<std::uint8_t> data, const CanSignal& signal, std::uint64_t bits) noexcept {
  for_each_bit(signal, [&](int octet, int bit, int weight) {
    if (static_cast<std::size_t>(octet) >= data.size()) return;
    std::uint8_t& into = data[static_cast<std::size_t>(octet)];
    const auto mask = static_cast<std::uint8_t>(1U << bit);
    into = static_cast<std::uint8_t>((bits >> weight & 1) != 0 ? into | mask : into & ~mask);
  });
}

double take_signal(Bytes data, const CanSignal& signal) noexcept {
  const std::uint64_t bits = take_bits(data, signal);
  double raw = 0;
  if (signal.form == CanSignal::Form::float32) {
    raw = static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(bits)));
  } else if (signal.form == CanSignal::Form::float64) {
    raw = std::bit_cast<double>(bits);
  } else if (signal.is_signed && (bits >> (signal.length - 1) & 1) != 0) {
    const std::uint64_t above = signal.length == 64 ? 0 : ~std::uint64_t{0} << signal.length;
    raw = static_cast<double>(static_cast<std::int64_t>(bits | above));
  } else {
    raw = static_cast<double>(bits);
  }
  return raw * signal.factor + signal.offset;
}

void put_signal(std::span<std::uint8_t> data, const CanSignal& signal, double value,
                Count& saturated) noexcept {
  const bool bounded = signal.least < signal.greatest;
  const double wanted = bounded ? std::clamp(value, signal.least, signal.greatest) : value;
  bool cut = wanted != value;
  const double raw = (wanted - signal.offset) / signal.factor;
  std::uint64_t bits = 0;
  if (signal.form == CanSignal::Form::float32) {
    bits = std::bit_cast<std::uint32_t>(static_cast<float>(raw));
  } else if (signal.form == CanSignal::Form::float64) {
    bits = std::bit_cast<std::uint64_t>(raw);
  } else {
    const double high = std::ldexp(1, signal.is_signed ? signal.length - 1 : signal.length) - 1;
    const double low = signal.is_signed ? -std::ldexp(1, signal.length - 1) : 0;
    const double rounded = std::nearbyint(raw);
    const double kept = std::isnan(rounded) ? 0 : std::clamp(rounded, low, high);
    cut = cut || kept != rounded;
    constexpr double two_to_63 = 9223372036854775808.0;
    if (kept < 0)
      bits = static_cast<std::uint64_t>(static_cast<std::int64_t>(kept));
    else
      bits = kept >= two_to_63
                 ? (kept >= 2 * two_to_63 ? ~std::uint64_t{0} : static_cast<std::uint64_t>(kept))
                 : static_cast<std::uint64_t>(static_cast<std::int64_t>(kept));
    if (signal.is_signed && signal.length == 64 && kept >= two_to_63) bits = ~std::uint64_t{0} >> 1U;
  }
  if (cut) ++saturated;
  put_bits(data, signal, bits);
}

std::uint8_t can_checksum(CanChecksum kind, Bytes data, std::size_t own_octet) noexcept {
  // CRC-8 of SAE J1850: x^8 + x^4 + x^3 + x^2 + 1, from FF, inverted. Of "123456789" it is 4B.
  unsigned sum = kind == CanChecksum::crc8 ? 0xFF : 0;
  for (std::size_t k = 0; k < data.size(); ++k) {
    if (k == own_octet) continue;
    if (kind == CanChecksum::sum) {
      sum = (sum + data[k]) & 0xFFU;
      continue;
    }
    sum ^= data[k];
    for (int bit = 0; kind == CanChecksum::crc8 && bit < 8; ++bit)
      sum = (sum & 0x80U) != 0 ? (sum << 1U ^ 0x1DU) & 0xFFU : sum << 1U & 0xFFU;
  }
  return static_cast<std::uint8_t>(kind == CanChecksum::crc8 ? ~sum : sum);
}

}  // namespace zavrek::wire
