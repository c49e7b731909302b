#include "bench/data_set.hpp"

#include <optional>

#include <fmt/format.h>

#include "zavrek/quantity.hpp"

namespace zavrek::bench::internal {
namespace {

using Kind = wire::Datum::Kind;

std::string_view trimmed(std::string_view text) {
  const auto first = text.find_first_not_of(" \t");
  if (first == std::string_view::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

/// What stands behind `word` at the beginning of `text`.
std::optional<std::string_view> behind(std::string_view text, std::string_view word) {
  if (!text.starts_with(word)) return std::nullopt;
  return trimmed(text.substr(word.size()));
}

[[noreturn]] void refuse(std::string_view text) {
  throw Error(fmt::format(
      "\"{}\" is no entry; write it like \"Q1\", \"Q1 as position\", \"T1.p as float within 10 kW\", "
      "\"quality of Q1\", \"time of Q1\", \"[ Q1 E1 - R1.trip ]\"",
      text));
}

/// "[ Q1 E1 - R1.trip ]"
EntryText read_bits(std::string_view text) {
  EntryText entry;
  entry.what = EntryText::What::bits;
  entry.kind = Kind::bits;
  entry.name = text;
  if (!text.ends_with(']')) refuse(text);
  std::string_view names = trimmed(text.substr(1, text.size() - 2));
  while (!names.empty()) {
    entry.bits.emplace_back(names.substr(0, names.find_first_of(" \t")));
    names = trimmed(names.substr(entry.bits.back().size()));
  }
  constexpr std::size_t most_bits = 64;
  if (entry.bits.empty() || entry.bits.size() > most_bits) refuse(text);
  return entry;
}

EntryText read_entry(std::string_view text) {
  EntryText entry;
  if (text == "-") {
    entry.what = EntryText::What::skipped;
    return entry;
  }
  for (const auto& [words, what] :
       {std::pair{"quality of ", EntryText::What::quality}, std::pair{"time of ", EntryText::What::time}}) {
    if (const auto name = behind(text, words)) {
      entry.what = what;
      entry.name = *name;
    }
  }
  if (text.starts_with('[')) return read_bits(text);
  const std::size_t as = text.find(" as ");
  if (as != std::string_view::npos) {
    std::string_view type = trimmed(text.substr(as + 4));
    if (const std::size_t within = type.find(" within "); within != std::string_view::npos) {
      entry.within = trimmed(type.substr(within + 8));
      type = trimmed(type.substr(0, within));
    }
    entry.position = type == "position";
    if (type == "float")
      entry.kind = Kind::real;
    else if (type == "integer")
      entry.kind = Kind::integer;
    else if (type == "natural")
      entry.kind = Kind::natural;
    else if (entry.position)
      entry.kind = Kind::bits;
    else if (type != "boolean")
      refuse(text);
    if (!entry.within.empty() && !entry.is_number()) refuse(text);
  }
  if (entry.what == EntryText::What::value) entry.name = trimmed(text.substr(0, as));
  if (entry.name.empty() || entry.name.find_first_of(" \t{},") != std::string::npos) refuse(text);
  return entry;
}

}  // namespace

std::vector<EntryText> read_data_set(const std::vector<std::string>& texts) {
  std::vector<EntryText> all;
  for (const std::string& whole : texts) {
    std::string_view text = trimmed(whole);
    if (!text.starts_with('{')) {
      all.push_back(read_entry(text));
      continue;
    }
    if (!text.ends_with('}')) refuse(text);
    text = trimmed(text.substr(1, text.size() - 2));
    const std::size_t at = all.size();
    all.emplace_back().what = EntryText::What::structure;
    for (bool more = true; more; ++all[at].members) {
      const std::size_t comma = text.find(',');
      all.push_back(read_entry(trimmed(text.substr(0, comma))));
      more = comma != std::string_view::npos;
      if (more) text = text.substr(comma + 1);
    }
  }
  if (all.empty() || all.size() > wire::most_goose_entries)
    throw Error(fmt::format("1 to {} entries are wanted", wire::most_goose_entries));
  return all;
}

std::vector<std::string> names_in(const std::vector<EntryText>& entries, bool numbers) {
  std::vector<std::string> names;
  for (const EntryText& entry : entries) {
    if (entry.what == EntryText::What::value && entry.is_number() == numbers) names.push_back(entry.name);
    for (const std::string& bit : entry.bits) {
      if (!numbers && bit != "-") names.push_back(bit);
    }
  }
  return names;
}

std::size_t place_in(const std::vector<EntryText>& entries, const std::string& name) {
  std::size_t at = 0;
  while (at < entries.size() && (entries[at].what != EntryText::What::value || entries[at].name != name))
    ++at;
  return at;
}

DataSetReader::DataSetReader(const std::vector<std::string>& texts) {
  const std::vector<EntryText> all = read_data_set(texts);
  entries_ = all.size();
  points_ = names_in(all, false);
  numbers_ = names_in(all, true);
  std::size_t points = 0, numbers = 0;
  for (std::size_t k = 0; k < all.size(); ++k) {
    for (std::size_t bit = 0; bit < all[k].bits.size(); ++bit) {
      if (all[k].bits[bit] == "-") continue;
      Read read{k, points++, false, Kind::bits};
      read.bits = static_cast<unsigned>(all[k].bits.size());
      read.bit = static_cast<unsigned>(bit);
      reads_.push_back(read);
    }
    if (all[k].what != EntryText::What::value) continue;
    Read read{k, all[k].is_number() ? numbers++ : points++, all[k].is_number(), all[k].kind};
    for (std::size_t q = 0; q < all.size(); ++q) {
      if (all[q].what != EntryText::What::quality || all[q].name != all[k].name) continue;
      read.has_quality = true;
      read.quality = q;
    }
    reads_.push_back(read);
  }
}

}  // namespace zavrek::bench::internal
