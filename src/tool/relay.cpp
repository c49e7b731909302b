#include <charconv>
#include <optional>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::tool {
namespace {

[[noreturn]] void refuse(const std::string& option, const std::string& text, const char* example) {
  throw Error(fmt::format("{} \"{}\" is not understood; write it like {}", option, text, example));
}

/// A whole number up to `most` that is all of `text`.
std::optional<unsigned> number_of(const std::string& text, unsigned most) {
  unsigned value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (error != std::errc{} || end != text.data() + text.size() || value > most) return std::nullopt;
  return value;
}

std::vector<std::string> split(const std::string& text, char at) {
  std::vector<std::string> parts(1);
  for (const char c : text) {
    if (c == at)
      parts.emplace_back();
    else
      parts.back() += c;
  }
  return parts;
}

/// "ID@APPID", and, where they are not as usual, "@SAMPLES A SECOND@PLACES".
bench::StandInStream stream_of(const std::string& text) {
  constexpr const char* example = "S1@16384, or S1@16384@4800@0,1,2,3,4,5,6,7";
  std::vector<std::string> parts = split(text, '@');
  const auto appid = parts.size() < 2 ? std::nullopt : number_of(parts[1], 0xFFFF);
  if (!appid || parts[0].empty() || parts.size() > 4) refuse("--stream", text, example);
  bench::StandInStream stream{parts[0], static_cast<std::uint16_t>(*appid)};
  if (parts.size() > 2) {
    const auto rate = number_of(parts[2], 65'536);
    if (!rate || *rate == 0) refuse("--stream", text, example);
    stream.rate_Hz = *rate;
  }
  if (parts.size() > 3) {
    const std::vector<std::string> places = split(parts[3], ',');
    if (places.size() != stream.places.size()) refuse("--stream", text, example);
    for (std::size_t k = 0; k < places.size(); ++k) {
      const auto place = number_of(places[k], wire::most_sampled - 1);
      if (!place) refuse("--stream", text, example);
      stream.places[k] = *place;
    }
  }
  return stream;
}

bench::StandInInput input_of(const std::string& text) {
  const std::size_t equal = text.find('='), at = text.rfind('@'), colon = text.rfind(':');
  const bool parts = equal != std::string::npos && at != std::string::npos && colon != std::string::npos;
  if (!parts || !(0 < equal && equal < at && at < colon)) refuse("--input", text, "block=R1@17:0");
  const auto appid = number_of(text.substr(at + 1, colon - at - 1), 0xFFFF);
  const auto entry = number_of(text.substr(colon + 1), wire::most_goose_entries - 1);
  if (!appid || !entry) refuse("--input", text, "block=R1@17:0");
  std::string publisher = text.substr(equal + 1, at - equal - 1);
  const bool reversed = publisher.starts_with('!');
  if (reversed) publisher.erase(0, 1);
  return {text.substr(0, equal), publisher, static_cast<std::uint16_t>(*appid), *entry, reversed};
}

bench::StandInTerminals::Contact contact_of(const char* option, const std::string& text) {
  const std::vector<std::string> parts = split(text, '=');
  const std::vector<std::string> ends = parts.size() == 2 ? split(parts[1], '@') : std::vector<std::string>{};
  const auto terminal = ends.empty() ? std::nullopt : number_of(ends[0], card::Board::terminals - 1);
  if (!terminal || ends.size() > 2 || parts[0].empty()) refuse(option, text, "block=3@110");
  return {parts[0], *terminal, ends.size() == 2 ? parse_quantity_as(ends[1], "") : 0};
}

bench::StandInTerminals terminals_of(const RelayOptions& options) {
  bench::StandInTerminals all;
  all.name = options.name;
  all.board = options.board;
  all.tells_from = options.tells_from;
  all.frequency_Hz = parse_quantity_as(options.frequency, "Hz");
  for (const std::string& text : options.measures) {
    const std::vector<std::string> parts = split(text, '=');
    const std::vector<std::string> ends =
        parts.size() == 2 ? split(parts[1], '*') : std::vector<std::string>{};
    const auto terminal =
        ends.empty() || ends.size() > 2 ? std::nullopt : number_of(ends[0], card::Board::terminals - 1);
    const auto input = bench::internal::relay_input(parts[0]);
    if (!terminal || input.quantity == 6) refuse("--measures", text, "ia=0, or 2.ia=6");
    all.measures.push_back(
        {input.place, input.quantity, *terminal, ends.size() == 2 ? parse_quantity_as(ends[1], "") : 1});
  }
  for (const std::string& text : options.reads) all.reads.push_back(contact_of("--reads", text));
  if (!options.time_code.empty()) all.time_code = contact_of("--time-code", options.time_code);
  for (const std::string& text : options.gives) all.gives.push_back(contact_of("--gives", text));
  return all;
}

}  // namespace

int relay(const RelayOptions& options) {
  const protection::RelaySettings settings = casefile::read_relay_settings(options.settings);
  const auto tell = [&](const bench::Account& account, double step_s) {
    if (options.counts)
      fmt::print("{}", bench::to_lines(account));
    else
      fmt::print("{}\n", bench::to_string(account, step_s));
    return done;
  };
  bench::StandInPorts ports{.name = options.name, .streams = {}, .goose_appid = options.goose_appid};
  for (const std::string& text : options.streams) ports.streams.push_back(stream_of(text));
  for (const std::string& text : options.inputs) ports.inputs.push_back(input_of(text));
  ports.entries = options.entries;
  ports.revision = options.revision;
  ports.frequency_Hz = parse_quantity_as(options.frequency, "Hz");
  ports.rate_Hz = 80 * ports.frequency_Hz;
  const wire::Medium medium = wire::medium_of(options.medium);
  if (!options.source.empty()) ports.source = wire::parse_mac_address(options.source);
  if (!options.board.empty()) {
    bench::StandInTerminals terminals = terminals_of(options);
    if (options.messages || !options.publishes.empty()) terminals.frames = ports;
    if (!options.publishes.empty()) {
      const bench::StandInStream published = stream_of(options.publishes);
      terminals.samples_id = published.id;
      terminals.samples_appid = published.appid;
    }
    return tell(bench::run_stand_in(settings, terminals, options.interface, medium, stop_on_signal()),
                1 / (80 * terminals.frequency_Hz));
  }
  const bench::Account account =
      bench::run_stand_in(settings, ports, options.interface, medium, stop_on_signal());
  return tell(account, 1 / ports.rate_Hz);
}

}  // namespace zavrek::tool
