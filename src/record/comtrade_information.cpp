// The information file of a COMTRADE record (IEC 60255-24:2013, clause 9): sections in brackets, NAME=VALUE.
// What the other files have no room for stands in sections of our own:
//
//   [Zavrek Run]
//   trigger_s=0.20375        instant of the trigger, to all its digits
//   trial=earth fault        facts
//   [Zavrek Events]
//   1=0.612<tab>1<tab>R1.trip<tab>R1 trip      instant, what it became, two-state channel or nothing, text
#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "zavrek/record.hpp"

namespace zavrek::record {
namespace {

constexpr std::string_view run_section = "[Zavrek Run]", event_section = "[Zavrek Events]";

/// A tab or a line end inside a name would break the line.
std::string printable(std::string text) {
  for (char& c : text) {
    if (static_cast<unsigned char>(c) < ' ') c = ' ';
  }
  return text;
}

/// The first part of `text` up to `end`, which is taken away.
std::string_view part(std::string_view& text, char end) {
  const std::size_t at = text.find(end);
  const std::string_view head = text.substr(0, at);
  text.remove_prefix(at == std::string_view::npos ? text.size() : at + 1);
  return head;
}

bool to_number(std::string_view text, double& value) {
  const auto [end, status] = std::from_chars(text.data(), text.data() + text.size(), value);
  return status == std::errc() && end == text.data() + text.size() && std::isfinite(value);
}

}  // namespace

std::string to_information(const Record& record) {
  std::string text = fmt::format("{}\r\ntrigger_s={}\r\n", run_section, record.trigger_s);
  for (const auto& [name, value] : record.facts)
    text += fmt::format("{}={}\r\n", printable(name), printable(value));
  text += fmt::format("{}\r\n", event_section);
  std::size_t number = 0;
  for (const Event& event : record.events)
    text += fmt::format("{}={}\t{}\t{}\t{}\r\n", ++number, event.time_s, event.on ? 1 : 0,
                        printable(event.of), printable(event.text));
  return text;
}

void take_information(std::string_view text, const std::string& name, Record& record) {
  std::string_view section;
  for (int line = 1; !text.empty(); ++line) {
    std::string_view rest = part(text, '\n');
    if (rest.ends_with('\r')) rest.remove_suffix(1);
    const auto fail = [&](std::string what) {
      throw Error(Flaw{.file = name, .line = line, .place = {}, .field = {}, .text = std::move(what)});
    };
    if (rest.starts_with('[')) {
      section = rest;
      continue;
    }
    if (rest.empty() || (section != run_section && section != event_section)) continue;
    const std::string key(part(rest, '='));
    if (section == run_section) {
      if (key == "trigger_s") {
        if (!to_number(rest, record.trigger_s))
          fail(fmt::format("trigger_s is \"{}\"; a number is wanted", rest));
      } else {
        record.facts.emplace_back(key, std::string(rest));
      }
      continue;
    }
    Event event;
    const std::string_view instant = part(rest, '\t');
    if (!to_number(instant, event.time_s))
      fail(fmt::format("event {} is at \"{}\"; a number is wanted", key, instant));
    event.on = part(rest, '\t') == "1";
    event.of = std::string(part(rest, '\t'));
    event.text = std::string(rest);
    record.events.push_back(std::move(event));
  }
}

Record as_kept(const Record& record, Encoding encoding) {
  Record kept = from_comtrade(to_comtrade(record, encoding), "record");
  kept.trigger_s = record.trigger_s;
  kept.events = record.events;
  kept.facts = record.facts;
  kept.start_utc_ns = record.start_utc_ns;
  return kept;
}

}  // namespace zavrek::record
