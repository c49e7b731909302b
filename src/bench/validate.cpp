#include <algorithm>
#include <optional>
#include <set>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/carried.hpp"
#include "bench/data_set.hpp"
#include "bench/make_port.hpp"
#include "bench/names.hpp"

namespace zavrek::bench {
namespace internal {

void Flaws::report(std::string place, std::string field, std::string text) {
  found.push_back(
      {.file = {}, .place = std::move(place), .field = std::move(field), .text = std::move(text)});
}

void Flaws::need_one_of(const std::string& place, const std::string& field, const std::string& name,
                        const std::vector<std::string>& known, std::string_view what) {
  if (std::find(known.begin(), known.end(), name) != known.end()) return;
  report(place, field, fmt::format("no {} \"{}\"{}", what, name, suggestion(name, known)));
}

void Flaws::need_point(const std::string& place, const std::string& field, const std::string& name) {
  const auto is_block = [&](const control::Block& block) { return control::name_of(block) == name; };
  if (std::any_of(setup.control.blocks.begin(), setup.control.blocks.end(), is_block)) return;
  if (name.find('.') == std::string::npos)
    return need_one_of(place, field, name, switchgear_of(setup.network), "breaker, switch or contactor");
  if (name.starts_with(contact_prefix))
    return need_one_of(place, field, name, contacts_of(setup.bench), "contact");
  const std::size_t dot = name.find('.');
  if (const Device* owner = setup.bench.find_device(name.substr(0, dot)))
    return need_one_of(place, field, name.substr(dot + 1), protection::outputs_of(owner->relay), "output");
}

void Flaws::need_commands(const std::string& place, const std::string& field,
                          const std::vector<std::string>& texts, const std::vector<std::string>& outputs) {
  for (const std::string& text : texts) {
    const auto [what, output] = split_pair(text);
    if (what.empty() || output.empty()) {
      report(place, field, fmt::format("\"{}\" is no pair such as \"Q1: trip\"", text));
      continue;
    }
    need_operable(place, field, what);
    need_one_of(place, field, output, outputs, "output");
  }
}

void Flaws::need_address(const std::string& place, const std::string& field, const std::string& text) {
  if (text.empty()) return;
  try {
    (void)wire::parse_mac_address(text);
  } catch (const Error& error) {
    report(place, field, error.what());
  }
}

void Flaws::need_operable(const std::string& place, const std::string& field, const std::string& name) {
  if (name.find('.') == std::string::npos)
    need_one_of(place, field, name, switchgear_of(setup.network), "breaker, switch or contactor");
  else if (name.starts_with(contact_prefix))
    need_one_of(place, field, name, contacts_of(setup.bench), "contact");
}

namespace {

void check_clock(Flaws& flaws) {
  const Bench& bench = flaws.setup.bench;
  if (bench.clock == "pulse" && bench.clock_pulse.empty())
    flaws.report("bench", "clock_pulse", "missing; the point that rises at the full second is wanted");
  if (bench.clock == "pulse" && !bench.clock_pulse.empty())
    flaws.need_point("bench", "clock_pulse", bench.clock_pulse);
  if (bench.clock == "pulse" && !bench.clock_daemon.empty())
    flaws.report("bench", "clock_daemon", "goes with clock = \"ptp\" or \"computer\"");
}

void check_contacts(Flaws& flaws) {
  std::set<std::string> names;
  for (const std::string& text : flaws.setup.bench.contacts) {
    const Contact contact = contact_of(text);
    if (contact.name.empty() || (contact.state != "open" && contact.state != "closed"))
      flaws.report("bench", "contacts",
                   fmt::format("\"{}\" is no contact such as \"remote\" or \"remote: closed\"", text));
    if (!names.insert(contact.name).second)
      flaws.report("bench", "contacts",
                   fmt::format("\"{}\" is there twice; choose another name", contact.name));
  }
}

/// One at terminals has a trip among the contacts that come in, on one card, and is told what it measures.
void check_at_terminals(const Device& device, const std::string& place, Flaws& flaws) {
  if (!device.at_terminals()) return;
  bool trips = false;
  std::set<std::string> cards;
  std::set<std::pair<std::size_t, std::size_t>> measured;
  for (const ContactIn* in : flaws.setup.bench.all<ContactIn>()) {
    if (in->device != device.name) continue;
    cards.insert(in->card);
    trips = trips || std::find(in->points.begin(), in->points.end(), "trip") != in->points.end();
  }
  for (const AnalogueOut* out : flaws.setup.bench.all<AnalogueOut>()) {
    if (out->device != device.name) continue;
    cards.insert(out->card);
    for (const std::string& text : out->inputs) {
      const RelayInput input = relay_input(text);
      if (input.quantity == 6 || input.place >= std::max<std::size_t>(1, device.reads.size()))
        flaws.report(
            "analogue_out." + out->name, "inputs",
            fmt::format("\"{}\" is no input of {}; write ia ib ic va vb vc, 2.ia for its second place", text,
                        device.name));
      else if (!measured.insert({input.place, input.quantity}).second)
        flaws.report("analogue_out." + out->name, "inputs",
                     fmt::format("\"{}\" of {} is fed twice", text, device.name));
    }
  }
  if (cards.empty() || (!trips && !device.by_frames()))
    flaws.report(place, "connected", "no contact_in with this device brings its trip in");
  if (measured.empty()) flaws.report(place, "connected", "no analogue_out with this device feeds it");
  if (cards.size() > 1) flaws.report(place, "connected", "its terminals hang on more than one card");
}

/// Its data set holds its outputs, start and trip among them.
void check_entries(const Device& device, const std::string& place, Flaws& flaws) {
  if (device.entries.empty()) return;
  const std::vector<std::string> outputs = protection::outputs_of(device.relay);
  try {
    const DataSetReader reader(device.entries);
    for (const std::string& name : reader.points())
      flaws.need_one_of(place, "entries", name, outputs, "output");
    if (!reader.numbers().empty()) flaws.report(place, "entries", "outputs are on or off, not numbers");
    if (!device.at_terminals() && place_in(read_data_set(device.entries), "trip") >= reader.entries())
      flaws.report(place, "entries", "has no trip");
  } catch (const Error& error) {
    flaws.report(place, "entries", error.what());
  }
}

/// The functions of a device measure at places that it reads.
void check_places(const Device& device, const std::string& place, Flaws& flaws) {
  for (const protection::FunctionSettings& function : device.relay.functions) {
    const auto& base = protection::base_of(function);
    auto most = static_cast<std::size_t>(base.end);
    if (const auto* d = std::get_if<protection::Differential>(&function)) most = d->rated_currents.size();
    if (const auto* s = std::get_if<protection::Synchrocheck>(&function))
      most = std::max(most, static_cast<std::size_t>(s->other_end));
    if (most > device.reads.size())
      flaws.report(place, "reads",
                   fmt::format("{} of its settings measures at place {}, but {} {} read", base.name, most,
                               device.reads.size(), device.reads.size() == 1 ? "stream is" : "streams are"));
  }
}

/// What conditions use is fed, and what is fed is used: else a blocking that never comes, or a wire to
/// nowhere, passes unseen.
void check_inputs(const Device& device, const std::string& place, Flaws& flaws) {
  std::vector<std::string> used = protection::inputs_of(device.relay);
  for (const std::string& name : protection::inputs_of(device.approved_relay)) used.push_back(name);
  if (!device.clocked_by.empty()) used.push_back(device.clocked_by);
  std::vector<std::string> fed;
  for (const std::string& text : device.inputs) {
    const std::string name = split_pair(text).first;
    fed.push_back(name);
    if (!name.empty()) flaws.need_one_of(place, "inputs", name, used, "input in its settings");
  }
  for (const std::string& name : used) {
    if (std::find(fed.begin(), fed.end(), name) != fed.end()) continue;
    fed.push_back(name);  // told once
    flaws.report(place, "inputs",
                 fmt::format("input \"{0}\" of its settings is not fed; write \"{0}: POINT\"", name));
  }
}

/// What somebody else samples: a relay in the plant's process reads it by way of the bench, another itself.
void check_received(const Device& device, const std::string& name, const std::string& place, Flaws& flaws) {
  for (const StreamIn* received : flaws.setup.bench.all<StreamIn>()) {
    if (received->name != name) continue;
    if (device.place == "process" && standard_places(*received).empty())
      flaws.report(place, "reads",
                   fmt::format("stream_in \"{}\" does not name all of ia ib ic in va vb vc vn", name));
    for (const char* wanted : {"ia", "ib", "ic", "va", "vb", "vc"}) {
      if (std::find(received->values.begin(), received->values.end(), wanted) == received->values.end())
        flaws.report(place, "reads", fmt::format("stream_in \"{}\" has no value {}", name, wanted));
    }
  }
}

/// What a device of the bench reads has the currents and voltages of a CT and a VT; those of one in a process
/// of its own go together by their count.
void check_streams(const Device& device, const std::string& place, Flaws& flaws) {
  std::optional<double> rate_Hz;
  for (const std::string& name : device.reads) {
    const Stream* stream = flaws.setup.bench.find_stream(name);
    if (!stream) {
      check_received(device, name, place, flaws);
      continue;
    }
    if (stream->ct.empty() || stream->vt.empty())
      flaws.report(place, "reads",
                   fmt::format("stream \"{}\" names no ct or no vt, which a relay needs", name));
    else if (device.place == "process" && standard_places(*stream).empty())
      flaws.report(
          place, "reads",
          fmt::format("stream \"{}\" does not carry ia ib ic in va vb vc vn of its ct and vt", name));
    const double its_Hz = stream->samples_per_s(flaws.setup.network.frequency_Hz);
    if (rate_Hz.value_or(its_Hz) != its_Hz && device.place == "process")
      flaws.report(place, "reads",
                   "its streams have different rates, so that their samples do not go together");
    rate_Hz = its_Hz;
  }
}

void check_device(const Device& device, Flaws& flaws) {
  const std::string place = "device." + device.name;
  std::vector<std::string> streams;
  for (const Stream* stream : flaws.setup.bench.all<Stream>()) streams.push_back(stream->name);
  for (const StreamIn* stream : flaws.setup.bench.all<StreamIn>()) streams.push_back(stream->name);
  if (device.reads.empty()) flaws.report(place, "reads", "missing; at least one stream is wanted");
  for (const std::string& stream : device.reads) flaws.need_one_of(place, "reads", stream, streams, "stream");
  check_streams(device, place, flaws);
  for (const std::string& what : device.trips) flaws.need_operable(place, "trips", what);
  flaws.need_commands(place, "opens", device.opens, protection::outputs_of(device.relay));
  flaws.need_commands(place, "closes", device.closes, protection::outputs_of(device.relay));
  for (const std::string& text : device.inputs) {
    const auto [name, source] = split_pair(text);
    if (name.empty() || source.empty())
      flaws.report(place, "inputs", fmt::format("\"{}\" is no pair such as \"block: R1.start\"", text));
    else
      flaws.need_point(place, "inputs", signed_point(source).name);
  }
  check_entries(device, place, flaws);
  check_places(device, place, flaws);
  check_inputs(device, place, flaws);
  flaws.need_address(place, "source", device.source);
  check_at_terminals(device, place, flaws);
  if (!device.publishes.empty() && device.connected != "both")
    flaws.report(place, "publishes", "goes with connected = \"both\" only");
  if (device.place != "plant" && device.miswired())
    flaws.report(place, "current_wiring", "goes with place = \"plant\" only");
  if (static_cast<std::size_t>(device.miswired_place) > std::max<std::size_t>(1, device.reads.size()))
    flaws.report(place, "miswired_place", "is more than the places that it reads");
  for (const Device& other : flaws.setup.bench.devices) {
    if (&other == &device) break;
    if (other.appid == device.appid)
      flaws.report(place, "appid", "is taken by another device; choose another");
  }
}

}  // namespace
}  // namespace internal

std::vector<Flaw> validate(const Setup& setup) {
  internal::Flaws flaws{setup, {}};
  for (const PortSettings& port : setup.bench.ports)
    std::visit([&](const auto& settings) { internal::check(settings, flaws); }, port);
  internal::check_contacts(flaws);
  internal::check_clock(flaws);
  for (const Device& device : setup.bench.devices) internal::check_device(device, flaws);
  return std::move(flaws.found);
}

}  // namespace zavrek::bench
