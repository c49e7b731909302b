#include "zavrek/bench/substation.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "bench/carried.hpp"
#include "bench/data_set.hpp"
#include "zavrek/bench/description.hpp"

namespace zavrek::bench {
namespace {

using internal::EntryText;

/// Takes what a port leaves out, and notes what it says otherwise.
class Taking {
 public:
  Taking(const scl::Substation& substation, std::string place, std::string element, int line,
         std::vector<Flaw>& flaws)
      : substation_(substation),
        place_(std::move(place)),
        element_(std::move(element)),
        line_(line),
        flaws_(flaws) {}

  /// `usual`: as it is when the bench leaves it out.
  template <class Value>
  void take(const char* field, Value& value, const Value& usual, const Value& said) {
    if (value == usual)
      value = said;
    else if (value != said)
      differ(field, fmt::format("{}", value), fmt::format("{}", said));
  }
  void take_address(Addressed& at, int& appid, int usual_appid, const std::optional<scl::Address>& said) {
    if (!said) return;
    take("appid", appid, usual_appid, static_cast<int>(said->appid));
    take("destination", at.destination, std::string(), wire::to_string(said->destination));
    if (said->tagged) {
      take("vlan", at.vlan, 0, said->vlan);
      take("priority", at.priority, 4, said->priority);
    } else if (at.vlan == 0 && at.priority == 4) {
      at.tagged = false;
    }
  }
  void differ(const char* field, const std::string& has, const std::string& said) {
    flaws_.push_back(
        {.file = {},
         .place = place_,
         .field = field,
         .text = fmt::format("is {}, and {} in {}:{} ({})", has, said, substation_.file, line_, element_)});
  }

 private:
  const scl::Substation& substation_;
  std::string place_, element_;
  int line_;
  std::vector<Flaw>& flaws_;
};

bool is_number(const std::string& type) {
  return type.starts_with("INT") || type == "FLOAT32" || type == "Enum";
}
std::size_t sampled_values_in(const std::vector<scl::Entry>& entries) {
  return static_cast<std::size_t>(std::count_if(entries.begin(), entries.end(), [](const scl::Entry& entry) {
    return entry.type.starts_with("INT32") ||
           (entry.type.empty() && entry.reference.find(".i [") != std::string::npos);
  }));
}

/// What a type of the file is among entries of the bench.
bool fits(const EntryText& entry, const std::string& type) {
  if (type.empty()) return true;
  using Kind = wire::Datum::Kind;
  switch (entry.what) {
    case EntryText::What::structure:
      return type == "structure";
    case EntryText::What::quality:
      return type == "Quality";
    case EntryText::What::time:
      return type == "Timestamp";
    case EntryText::What::skipped:
    case EntryText::What::bits:  // their types are many
      return true;
    case EntryText::What::value:
      break;
  }
  switch (entry.kind) {
    case Kind::bits:
      return type == "Dbpos";
    case Kind::real:
      return type == "FLOAT32";
    case Kind::integer:
      return type == "Enum" || (type.starts_with("INT") && !type.ends_with('U'));
    case Kind::natural:
      return type.starts_with("INT") && type.ends_with('U');
    default:
      return type == "BOOLEAN" || type == "Dbpos";
  }
}

/// An entry of the file as the bench would write it, under a name made of its reference.
std::string entry_text(const scl::Entry& entry) {
  std::string name = entry.reference.substr(entry.reference.find('/') + 1);
  name.resize(name.find(' '));
  std::replace(name.begin(), name.end(), '.', '_');
  const auto owner = [&](std::size_t behind) {
    // The value that has it: ".q" and ".t" go with the value of the same data object.
    return name.substr(0, name.size() - behind);
  };
  if (entry.type == "Quality") return "quality of " + owner(2);
  if (entry.type == "Timestamp") return "time of " + owner(2);
  const std::size_t last = name.rfind('_');
  const std::string value = name.substr(0, last);
  if (entry.type == "Dbpos") return value + " as position";
  if (entry.type == "FLOAT32") return value.substr(0, value.rfind('_')) + " as float";
  if (is_number(entry.type)) return value + (entry.type.ends_with('U') ? " as natural" : " as integer");
  return entry.type == "BOOLEAN" ? value : std::string("-");
}
std::vector<std::string> entry_texts(const std::vector<scl::Entry>& entries) {
  std::vector<std::string> texts;
  for (std::size_t k = 0; k < entries.size(); ++k) {
    if (entries[k].type != "structure") {
      texts.push_back(entry_text(entries[k]));
      continue;
    }
    std::string members;
    for (int m = 0; m < entries[k].members; ++m)
      members += (m == 0 ? "" : ", ") + entry_text(entries[k + 1 + static_cast<std::size_t>(m)]);
    texts.push_back(members.empty() ? std::string("-") : "{ " + members + " }");
    k += static_cast<std::size_t>(entries[k].members);
  }
  return texts;
}

void compare_entries(const std::vector<std::string>& texts, const std::vector<scl::Entry>& said,
                     Taking& taking) {
  std::vector<EntryText> has;
  try {
    has = internal::read_data_set(texts);
  } catch (const Error&) {
    return;  // told where entries are checked
  }
  if (has.size() > said.size())
    return taking.differ("entries", fmt::format("{} of them", has.size()),
                         fmt::format("{} of them", said.size()));
  for (std::size_t k = 0; k < has.size(); ++k) {
    if (fits(has[k], said[k].type)) continue;
    return taking.differ("entries", fmt::format("\"{}\" at place {}", has[k].name, k + 1),
                         fmt::format("{} of type {}", said[k].reference, said[k].type));
  }
}

void take_stream(const scl::Substation& substation, const scl::Stream& said, Stream& stream,
                 double frequency_Hz, std::vector<Flaw>& flaws) {
  Taking taking(substation, "stream." + stream.name, "SampledValueControl " + said.name, said.line, flaws);
  taking.take_address(stream, stream.appid, Stream{}.appid, said.address);
  taking.take("revision", stream.revision, 1, said.revision);
  taking.take("group", stream.group, 1, said.group);
  const double rate_Hz = said.samples_per_s(frequency_Hz);
  if (!network::is_set(stream.rate_Hz))
    stream.rate_Hz = rate_Hz;
  else if (stream.rate_Hz != rate_Hz)
    taking.differ("rate", print_quantity(stream.rate_Hz, "Hz"), print_quantity(rate_Hz, "Hz"));
  if (said.sends_data_set) taking.take("data_set", stream.data_set, std::string(), said.data_set);
  if (stream.includes.empty()) {
    if (said.refresh_time) stream.includes.emplace_back("refrTm");
    if (said.sample_rate) stream.includes.insert(stream.includes.end(), {"smpRate"});
    if (said.sample_rate && said.mode == 1) stream.includes.emplace_back("smpMod");
  }
  const std::size_t values = sampled_values_in(said.entries), has = internal::names_carried(stream).size();
  if (values != has)
    taking.differ("carries", fmt::format("{} values", has),
                  fmt::format("{} values in {}", values, said.data_set));
}

template <class List>
auto find_by_id(const List& list, const std::string& id, const std::string& ied) {
  return std::find_if(list.begin(), list.end(),
                      [&](const auto& one) { return one.id == id && (ied.empty() || one.ied == ied); });
}

}  // namespace

std::vector<Flaw> take(const scl::Substation& substation, Setup& setup) {
  std::vector<Flaw> flaws;
  const std::string& ied = setup.bench.ied;
  if (!ied.empty() && std::find(substation.ieds.begin(), substation.ieds.end(), ied) == substation.ieds.end())
    flaws.push_back({.file = {},
                     .place = "bench",
                     .field = "ied",
                     .text = fmt::format("no IED \"{}\" in {}{}", ied, substation.file,
                                         suggestion(ied, substation.ieds))});
  const double frequency_Hz = setup.network.frequency_Hz;
  for (PortSettings& port : setup.bench.ports) {
    if (auto* stream = std::get_if<Stream>(&port)) {
      const auto said = find_by_id(substation.streams, stream->identifier(), ied);
      if (said != substation.streams.end()) take_stream(substation, *said, *stream, frequency_Hz, flaws);
    }
    if (auto* in = std::get_if<StreamIn>(&port)) {
      const auto said = find_by_id(substation.streams, in->identifier(), "");
      if (said == substation.streams.end()) continue;
      Taking taking(substation, "stream_in." + in->name, "SampledValueControl " + said->name, said->line,
                    flaws);
      if (said->address)
        taking.take("appid", in->appid, StreamIn{}.appid, static_cast<int>(said->address->appid));
      taking.take("revision", in->revision, 0, said->revision);
      const double rate_Hz = said->samples_per_s(frequency_Hz);
      if (!network::is_set(in->rate_Hz))
        in->rate_Hz = rate_Hz;
      else if (in->rate_Hz != rate_Hz)
        taking.differ("rate", print_quantity(in->rate_Hz, "Hz"), print_quantity(rate_Hz, "Hz"));
      if (sampled_values_in(said->entries) < in->values.size())
        taking.differ("values", fmt::format("{} of them", in->values.size()),
                      fmt::format("{} of them", sampled_values_in(said->entries)));
    }
    if (auto* message = std::get_if<Message>(&port)) {
      const auto said = find_by_id(substation.messages, message->identifier(), ied);
      if (said == substation.messages.end()) continue;
      Taking taking(substation, "message." + message->name, "GSEControl " + said->name, said->line, flaws);
      taking.take_address(*message, message->appid, Message{}.appid, said->address);
      taking.take("revision", message->revision, 1, said->revision);
      taking.take("control_block", message->control_block, std::string(), said->reference);
      taking.take("data_set", message->data_set, std::string(), said->data_set);
      if (said->first_ms)
        taking.take("first_repeat", message->first_repeat_s, Message{}.first_repeat_s,
                    1e-3 * *said->first_ms);
      if (said->slowest_ms)
        taking.take("slowest_repeat", message->slowest_repeat_s, Message{}.slowest_repeat_s,
                    1e-3 * *said->slowest_ms);
      compare_entries(message->entries, said->entries, taking);
    }
    if (auto* reading = std::get_if<Subscription>(&port)) {
      const auto said = find_by_id(substation.messages, reading->identifier(), "");
      if (said == substation.messages.end()) continue;
      Taking taking(substation, "subscription." + reading->name, "GSEControl " + said->name, said->line,
                    flaws);
      if (said->address)
        taking.take("appid", reading->appid, Subscription{}.appid, static_cast<int>(said->address->appid));
      taking.take("revision", reading->revision, 0, said->revision);
      if (reading->entries.empty())
        reading->entries = entry_texts(said->entries);
      else
        compare_entries(reading->entries, said->entries, taking);
    }
  }
  for (Device& device : setup.bench.devices) {
    const auto said = find_by_id(substation.messages, device.identifier(), "");
    if (said == substation.messages.end()) continue;
    Taking taking(substation, "device." + device.name, "GSEControl " + said->name, said->line, flaws);
    if (said->address)
      taking.take("appid", device.appid, Device{}.appid, static_cast<int>(said->address->appid));
    taking.take("revision", device.revision, 0, said->revision);
    compare_entries(device.data_set(), said->entries, taking);
  }
  return flaws;
}

namespace {

constexpr const char* device_of_bench = "LD0";

scl::Address address_of(const Addressed& at, wire::Address usual, int appid) {
  const wire::Address whole = at.address(usual);
  return {whole.destination, static_cast<std::uint16_t>(appid), at.vlan, at.priority, at.tagged, 0};
}

/// Numbers of logical nodes, over all data sets of the bench.
struct Numbers {
  int currents = 0, voltages = 0, switches = 0, others = 0;
};

std::vector<scl::Entry> sampled_entries(const Stream& stream, Numbers& numbers) {
  std::vector<scl::Entry> entries;
  for (const std::string& name : internal::names_carried(stream)) {
    const std::size_t dot = name.rfind('.');
    const bool current = dot != std::string::npos && name[dot + 1] == 'i';
    const std::string node = current ? fmt::format("TCTR{}.AmpSv", ++numbers.currents)
                                     : fmt::format("TVTR{}.VolSv", ++numbers.voltages);
    entries.push_back({fmt::format("{}/{}.instMag.i [MX]", device_of_bench, node), "INT32", name, 0});
    entries.push_back({fmt::format("{}/{}.q [MX]", device_of_bench, node), "Quality", name, 0});
  }
  return entries;
}

std::vector<scl::Entry> message_entries(const Message& message, Numbers& numbers) {
  using Kind = wire::Datum::Kind;
  const std::vector<EntryText> texts = internal::read_data_set(message.entries);
  // Of each value its data object and functional constraint; qualities and times go with the first value of
  // their name, within a structure with its own.
  std::map<const EntryText*, std::pair<std::string, std::string>> objects;
  for (const EntryText& text : texts) {
    if (text.what != EntryText::What::value) continue;
    const bool real = text.kind == Kind::real;
    const char* object = text.position ? "Pos" : real ? "AnIn1" : text.is_number() ? "IntIn1" : "Ind1";
    const std::string node =
        text.position ? fmt::format("CSWI{}", ++numbers.switches) : fmt::format("GGIO{}", ++numbers.others);
    objects[&text] = {fmt::format("{}/{}.{}", device_of_bench, node, object), real ? "MX" : "ST"};
  }
  const auto value_of = [&](const EntryText& text, std::size_t from) -> const EntryText* {
    if (text.what == EntryText::What::value) return &text;
    if (text.what == EntryText::What::bits)
      throw Error(Flaw{
          .file = {},
          .place = "message." + message.name,
          .field = "entries",
          .text = fmt::format("\"{}\" is a bit string, which a configuration has no type for", text.name)});
    for (std::size_t k = from; k < texts.size(); ++k) {
      if (texts[k].what == EntryText::What::value && texts[k].name == text.name) return &texts[k];
    }
    throw Error(Flaw{.file = {},
                     .place = "message." + message.name,
                     .field = "entries",
                     .text = fmt::format("\"{}\" has no value beside its quality or time", text.name)});
  };
  std::size_t members_from = 0, members_until = 0;
  std::vector<scl::Entry> entries;
  for (std::size_t k = 0; k < texts.size(); ++k) {
    const EntryText& text = texts[k];
    if (text.what == EntryText::What::structure) {
      for (int m = 2; m <= text.members; ++m) {
        if (texts[k + static_cast<std::size_t>(m)].name == texts[k + 1].name &&
            texts[k + 1].kind != Kind::real)
          continue;
        throw Error(Flaw{.file = {},
                         .place = "message." + message.name,
                         .field = "entries",
                         .text =
                             "a configuration has structures of one boolean, position or whole number, its "
                             "quality and its time; write other entries one by one"});
      }
      const auto& [object, fc] = objects.at(value_of(texts[k + 1], k + 1));
      entries.push_back({fmt::format("{} [{}]", object, fc), "structure", texts[k + 1].name, text.members});
      members_from = k + 1;
      members_until = members_from + static_cast<std::size_t>(text.members);
      continue;
    }
    const auto& placed = objects.at(value_of(text, k < members_until ? members_from : 0));
    const std::string &object = placed.first, &fc = placed.second;
    const auto add = [&](const char* attribute, const char* type) {
      entries.push_back({fmt::format("{}.{} [{}]", object, attribute, fc), type, text.name, 0});
    };
    if (text.what == EntryText::What::quality)
      add("q", "Quality");
    else if (text.what == EntryText::What::time)
      add("t", "Timestamp");
    else if (text.kind == Kind::real)
      add("mag.f", "FLOAT32");
    else
      add("stVal", text.position                ? "Dbpos"
                   : text.kind == Kind::integer ? "INT32"
                   : text.kind == Kind::natural ? "INT32U"
                                                : "BOOLEAN");
  }
  return entries;
}

}  // namespace

scl::Substation substation_of(const Setup& setup, const std::string& ied) {
  scl::Substation all;
  all.ieds = {ied};
  Numbers numbers;
  for (const Stream* stream : setup.bench.all<Stream>()) {
    scl::Stream& s = all.streams.emplace_back();
    s.ied = ied;
    s.name = "MSVCB" + std::to_string(all.streams.size());
    s.reference = fmt::format("{}{}/LLN0$MS${}", ied, device_of_bench, s.name);
    s.id = stream->identifier();
    s.data_set = stream->data_set.empty()
                     ? fmt::format("{}{}/LLN0$PhsMeas{}", ied, device_of_bench, all.streams.size())
                     : stream->data_set;
    s.revision = stream->revision;
    const double rate_Hz = stream->samples_per_s(setup.network.frequency_Hz);
    const double per_period = rate_Hz / setup.network.frequency_Hz;
    s.mode = per_period == std::round(per_period) ? 0 : 1;
    s.rate = static_cast<int>(std::lround(s.mode == 0 ? per_period : rate_Hz));
    s.group = stream->group;
    const auto includes = [&](const char* field) {
      return std::find(stream->includes.begin(), stream->includes.end(), field) != stream->includes.end();
    };
    s.refresh_time = includes("refrTm");
    s.sample_rate = includes("smpRate");
    if (includes("smpMod")) {
      s.mode = 1;
      s.rate = static_cast<int>(std::lround(rate_Hz));
    }
    s.sends_data_set = !stream->data_set.empty();
    s.entries = sampled_entries(*stream, numbers);
    s.address = address_of(*stream, wire::sampled_values_address(static_cast<std::uint16_t>(stream->appid)),
                           stream->appid);
  }
  for (const Message* message : setup.bench.all<Message>()) {
    scl::Message& m = all.messages.emplace_back();
    m.ied = ied;
    m.name = "gcb" + std::to_string(all.messages.size());
    if (!message->control_block.empty())
      m.name = message->control_block.substr(message->control_block.rfind('$') + 1);
    m.reference = fmt::format("{}{}/LLN0$GO${}", ied, device_of_bench, m.name);
    m.id = message->identifier();
    m.data_set = fmt::format("{}{}/LLN0$outputs{}", ied, device_of_bench, all.messages.size());
    m.revision = message->revision;
    m.first_ms = static_cast<int>(std::lround(1e3 * message->first_repeat_s));
    m.slowest_ms = static_cast<int>(std::lround(1e3 * message->slowest_repeat_s));
    m.entries = message_entries(*message, numbers);
    m.address =
        address_of(*message, wire::goose_address(static_cast<std::uint16_t>(message->appid)), message->appid);
  }
  return all;
}

}  // namespace zavrek::bench
