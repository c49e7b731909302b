#include <algorithm>
#include <charconv>
#include <functional>
#include <map>

#include <fmt/format.h>
#include <pugixml.hpp>

#include "zavrek/scl.hpp"

namespace zavrek::scl {
namespace {

constexpr int deepest_type = 6;
constexpr std::size_t most_entries = 1024;

class Reading {
 public:
  Reading(std::string_view text, const std::string& file) : text_(text) {
    found_.file = file;
    for (std::size_t at = 0; at < text.size(); ++at) {
      if (text[at] == '\n') line_ends_.push_back(at);
    }
    if (text.size() > most_bytes) {
      report(1, "", fmt::format("is larger than {} bytes", most_bytes));
      return;
    }
    const pugi::xml_parse_result parsed = document_.load_buffer(text.data(), text.size());
    if (!parsed) {
      report(line_at(static_cast<std::size_t>(parsed.offset)), "",
             fmt::format("is no XML: {}", parsed.description()));
      return;
    }
    root_ = document_.child("SCL");
    if (!root_) {
      report(1, "", "has no element SCL; a configuration as IEC 61850-6 has it is wanted");
      return;
    }
    read_templates();
    for (const pugi::xml_node ied : root_.children("IED")) read_ied(ied);
  }
  Substation done() {
    if (!flaws_.empty()) throw Error(std::move(flaws_));
    return std::move(found_);
  }

 private:
  struct Attribute {
    std::string name, fc, type, sub;  // basic type, and of a structure the type that says what it is of
  };
  using Type = std::vector<Attribute>;

  void report(int line, std::string place, std::string text) {
    flaws_.push_back(
        {.file = found_.file, .line = line, .place = std::move(place), .field = {}, .text = std::move(text)});
  }
  [[nodiscard]] int line_at(std::size_t offset) const {
    return 1 + static_cast<int>(std::lower_bound(line_ends_.begin(), line_ends_.end(), offset) -
                                line_ends_.begin());
  }
  [[nodiscard]] int line_of(pugi::xml_node node) const {
    const std::ptrdiff_t offset = node.offset_debug();
    return offset < 0 ? 0 : line_at(static_cast<std::size_t>(offset));
  }
  /// A whole number of an attribute; `usual` when it is not there.
  int number(pugi::xml_node node, const char* name, int usual, int least, int most) {
    const pugi::xml_attribute attribute = node.attribute(name);
    if (!attribute) return usual;
    const std::string_view word = attribute.value();
    int value = 0;
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
    if (error == std::errc{} && end == word.data() + word.size() && value >= least && value <= most)
      return value;
    report(line_of(node), node.name(),
           fmt::format("{} \"{}\" is no whole number from {} to {}", name, word, least, most));
    return usual;
  }
  static bool flag(pugi::xml_node node, const char* name) { return node.attribute(name).as_bool(false); }

  void read_templates() {
    const pugi::xml_node templates = root_.child("DataTypeTemplates");
    for (const pugi::xml_node node : templates.children("LNodeType"))
      for (const pugi::xml_node one : node.children("DO"))
        nodes_[node.attribute("id").value()].push_back(
            {one.attribute("name").value(), "", "", one.attribute("type").value()});
    for (const pugi::xml_node node : templates.children("DOType")) {
      Type& type = objects_[node.attribute("id").value()];
      for (const pugi::xml_node one : node.children()) {
        const std::string_view kind = one.name();
        if (kind == "DA")
          type.push_back({one.attribute("name").value(), one.attribute("fc").value(),
                          one.attribute("bType").value(), one.attribute("type").value()});
        if (kind == "SDO")
          type.push_back({one.attribute("name").value(), "", "SDO", one.attribute("type").value()});
      }
    }
    for (const pugi::xml_node node : templates.children("DAType"))
      for (const pugi::xml_node one : node.children("BDA"))
        attributes_[node.attribute("id").value()].push_back({one.attribute("name").value(), "",
                                                             one.attribute("bType").value(),
                                                             one.attribute("type").value()});
  }

  void read_ied(pugi::xml_node ied) {
    const std::string name = ied.attribute("name").value();
    if (name.empty()) return report(line_of(ied), "IED", "has no name");
    found_.ieds.push_back(name);
    for (const pugi::xml_node access : ied.children("AccessPoint")) {
      for (const pugi::xml_node device : access.child("Server").children("LDevice"))
        read_device(name, device);
    }
  }

  void read_device(const std::string& ied, pugi::xml_node device) {
    const std::string inst = device.attribute("inst").value();
    const pugi::xml_node node = device.child("LN0");
    for (const pugi::xml_node control : node.children("SampledValueControl"))
      read_stream(ied, inst, device, control);
    for (const pugi::xml_node control : node.children("GSEControl")) {
      if (std::string_view(control.attribute("type").as_string("GOOSE")) == "GOOSE")
        read_message(ied, inst, device, control);
    }
  }

  void read_stream(const std::string& ied, const std::string& inst, pugi::xml_node device,
                   pugi::xml_node control) {
    Stream& stream = found_.streams.emplace_back();
    stream.ied = ied;
    stream.line = line_of(control);
    stream.name = control.attribute("name").value();
    stream.reference = fmt::format("{}{}/LLN0$MS${}", ied, inst, stream.name);
    stream.id = control.attribute("smvID").value();
    stream.revision = number(control, "confRev", 1, 0, 1'000'000'000);
    stream.rate = number(control, "smpRate", 80, 1, 65'535);
    stream.group = number(control, "nofASDU", 1, 1, 16);
    const std::string_view mode = control.attribute("smpMod").as_string("SmpPerPeriod");
    stream.mode = mode == "SmpPerSec" ? 1 : mode == "SecPerSmp" ? 2 : 0;
    const pugi::xml_node options = control.child("SmvOpts");
    stream.refresh_time = flag(options, "refreshTime");
    stream.sample_rate = flag(options, "sampleRate");
    stream.sends_data_set = flag(options, "dataSet");
    read_data_set(ied, inst, device, control, stream.data_set, stream.entries);
    stream.address = address_of(ied, inst, stream.name, "SMV");
    if (stream.id.empty()) report(stream.line, "SampledValueControl " + stream.name, "has no smvID");
  }

  void read_message(const std::string& ied, const std::string& inst, pugi::xml_node device,
                    pugi::xml_node control) {
    Message& message = found_.messages.emplace_back();
    message.ied = ied;
    message.line = line_of(control);
    message.name = control.attribute("name").value();
    message.reference = fmt::format("{}{}/LLN0$GO${}", ied, inst, message.name);
    message.id = control.attribute("appID").value();
    message.revision = number(control, "confRev", 1, 0, 1'000'000'000);
    read_data_set(ied, inst, device, control, message.data_set, message.entries);
    message.address = address_of(ied, inst, message.name, "GSE");
    if (const pugi::xml_node block = control_in_network(ied, inst, message.name, "GSE")) {
      for (const auto& [element, into] :
           {std::pair{"MinTime", &message.first_ms}, std::pair{"MaxTime", &message.slowest_ms}}) {
        if (const pugi::xml_node time = block.child(element))
          *into = static_cast<int>(
              time.text().as_int() *
              (std::string_view(time.attribute("multiplier").as_string("m")) == "m" ? 1 : 1000));
      }
    }
    if (message.id.empty()) report(message.line, "GSEControl " + message.name, "has no appID");
  }

  // --- Communication ------------------------------------------------------------------------------
  [[nodiscard]] pugi::xml_node control_in_network(const std::string& ied, const std::string& inst,
                                                  const std::string& block, const char* element) const {
    for (const pugi::xml_node network : root_.child("Communication").children("SubNetwork")) {
      for (const pugi::xml_node access : network.children("ConnectedAP")) {
        if (ied != access.attribute("iedName").value()) continue;
        for (const pugi::xml_node one : access.children(element)) {
          if (inst == one.attribute("ldInst").value() && block == one.attribute("cbName").value()) return one;
        }
      }
    }
    return {};
  }
  std::optional<Address> address_of(const std::string& ied, const std::string& inst, const std::string& block,
                                    const char* element) {
    const pugi::xml_node control = control_in_network(ied, inst, block, element);
    if (!control) return std::nullopt;
    Address address;
    address.line = line_of(control);
    address.tagged = false;
    const std::string place = fmt::format("{} {}", element, block);
    bool has_destination = false, has_appid = false;
    for (const pugi::xml_node p : control.child("Address").children("P")) {
      const std::string_view type = p.attribute("type").value();
      const std::string_view word = p.text().get();
      const auto hexadecimal = [&](unsigned most) -> std::optional<unsigned> {
        unsigned value = 0;
        const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value, 16);
        if (error == std::errc{} && end == word.data() + word.size() && value <= most) return value;
        report(line_of(p), place,
               fmt::format("{} \"{}\" is no hexadecimal number up to {:X}", type, word, most));
        return std::nullopt;
      };
      if (type == "MAC-Address") {
        try {
          address.destination = wire::parse_mac_address(std::string(word));
          has_destination = true;
        } catch (const Error& error) {
          report(line_of(p), place, error.what());
        }
      } else if (type == "APPID") {
        if (const auto value = hexadecimal(0xFFFF)) address.appid = static_cast<std::uint16_t>(*value);
        has_appid = true;
      } else if (type == "VLAN-ID") {
        if (const auto value = hexadecimal(0xFFF)) address.vlan = static_cast<int>(*value);
        address.tagged = true;
      } else if (type == "VLAN-PRIORITY") {
        if (const auto value = hexadecimal(7)) address.priority = static_cast<int>(*value);
      }
    }
    if (!has_destination) report(address.line, place, "has no MAC-Address");
    if (!has_appid) report(address.line, place, "has no APPID");
    return address;
  }

  // --- data sets ----------------------------------------------------------------------------------
  void read_data_set(const std::string& ied, const std::string& inst, pugi::xml_node device,
                     pugi::xml_node control, std::string& reference, std::vector<Entry>& entries) {
    const std::string name = control.attribute("datSet").value();
    reference = fmt::format("{}{}/LLN0${}", ied, inst, name);
    const std::string place = fmt::format("{} {}", control.name(), control.attribute("name").value());
    const pugi::xml_node set = device.child("LN0").find_child_by_attribute("DataSet", "name", name.c_str());
    if (!set)
      return report(line_of(control), place,
                    fmt::format("names a data set \"{}\" that its LN0 does not have", name));
    for (const pugi::xml_node one : set.children("FCDA")) {
      read_entry(device, one, entries);
      if (entries.size() > most_entries)
        return report(line_of(set), place,
                      fmt::format("its data set has more than {} entries", most_entries));
    }
  }

  void read_entry(pugi::xml_node device, pugi::xml_node one, std::vector<Entry>& entries) {
    const std::string inst = one.attribute("ldInst").value(), prefix = one.attribute("prefix").value(),
                      node_class = one.attribute("lnClass").value(),
                      node_inst = one.attribute("lnInst").value(), object = one.attribute("doName").value(),
                      attribute = one.attribute("daName").value(), fc = one.attribute("fc").value();
    const std::string reference = fmt::format("{}/{}{}{}.{}{}{} [{}]", inst, prefix, node_class, node_inst,
                                              object, attribute.empty() ? "" : ".", attribute, fc);
    const pugi::xml_node node = logical_node(one, device, inst, prefix, node_class, node_inst);
    const Type* type = node ? object_type(node.attribute("lnType").value(), object) : nullptr;
    const std::string of = node.attribute("desc").value();
    if (!attribute.empty()) {
      entries.push_back({reference, type ? basic_type(*type, attribute) : std::string(), of, 0});
      return;
    }
    const std::size_t place = entries.size();
    entries.push_back({reference, "structure", of, 0});
    if (type) entries[place].members = add_members(*type, fc, reference, of, entries, deepest_type);
  }
  /// The one with this name in the logical device that is named, by default that of the data set.
  [[nodiscard]] static pugi::xml_node logical_node(pugi::xml_node entry, pugi::xml_node device,
                                                   const std::string& inst, const std::string& prefix,
                                                   const std::string& node_class,
                                                   const std::string& node_inst) {
    if (!inst.empty() && inst != device.attribute("inst").value())
      device = device.parent().find_child_by_attribute("LDevice", "inst", inst.c_str());
    (void)entry;
    if (node_class == "LLN0") return device.child("LN0");
    for (const pugi::xml_node node : device.children("LN")) {
      if (node_class == node.attribute("lnClass").value() && node_inst == node.attribute("inst").value() &&
          prefix == node.attribute("prefix").value())
        return node;
    }
    return {};
  }
  /// "Pos", or "Amp.phsA" of a data object within another.
  [[nodiscard]] const Type* object_type(const std::string& node_type, const std::string& object) const {
    const auto node = nodes_.find(node_type);
    if (node == nodes_.end()) return nullptr;
    std::string_view rest = object;
    const Type* within = &node->second;
    for (int depth = 0; depth < deepest_type; ++depth) {
      const std::string_view word = rest.substr(0, rest.find('.'));
      const auto at =
          std::find_if(within->begin(), within->end(), [&](const Attribute& a) { return a.name == word; });
      if (at == within->end()) return nullptr;
      const auto type = objects_.find(at->sub);
      if (type == objects_.end()) return nullptr;
      if (word.size() == rest.size()) return &type->second;
      rest.remove_prefix(word.size() + 1);
      within = &type->second;
    }
    return nullptr;
  }
  /// "general", or "instMag.i" of a structured attribute.
  [[nodiscard]] std::string basic_type(const Type& type, std::string_view path) const {
    const Type* within = &type;
    for (int depth = 0; depth < deepest_type; ++depth) {
      const std::string_view word = path.substr(0, path.find('.'));
      const auto at =
          std::find_if(within->begin(), within->end(), [&](const Attribute& a) { return a.name == word; });
      if (at == within->end()) return {};
      if (word.size() == path.size()) return at->type == "Struct" ? std::string("structure") : at->type;
      path.remove_prefix(word.size() + 1);
      const auto sub = attributes_.find(at->sub);
      if (sub == attributes_.end()) return {};
      within = &sub->second;
    }
    return {};
  }
  int add_members(const Type& type, const std::string& fc, const std::string& reference,
                  const std::string& of, std::vector<Entry>& entries, int depth) const {
    int count = 0;
    for (const Attribute& attribute : type) {
      if (depth == 0 || entries.size() > most_entries) break;
      if (!attribute.fc.empty() && attribute.fc != fc) continue;
      if (attribute.type == "SDO") continue;
      const std::string member =
          reference.substr(0, reference.find(' ')) + "." + attribute.name + " [" + fc + "]";
      const std::size_t place = entries.size();
      const bool structured = attribute.type == "Struct";
      entries.push_back({member, structured ? "structure" : attribute.type, of, 0});
      const auto sub = attributes_.find(attribute.sub);
      if (structured && sub != attributes_.end())
        entries[place].members = add_members(sub->second, fc, member, of, entries, depth - 1);
      ++count;
    }
    return count;
  }

  std::string_view text_;
  std::vector<std::size_t> line_ends_;
  pugi::xml_document document_;
  pugi::xml_node root_;
  std::map<std::string, Type> nodes_, objects_, attributes_;
  Substation found_;
  std::vector<Flaw> flaws_;
};

}  // namespace

Substation read(std::string_view text, const std::string& file) { return Reading(text, file).done(); }

std::string to_string(const Substation& substation) {
  std::string text;
  const auto address = [](const std::optional<Address>& at) {
    if (!at) return std::string("not in any SubNetwork");
    return fmt::format(
        "{:#06x} to {}{}", at->appid, wire::to_string(at->destination),
        at->tagged ? fmt::format(", VLAN {} priority {}", at->vlan, at->priority) : std::string());
  };
  const auto add = [&](const std::vector<Entry>& entries) {
    for (const Entry& entry : entries)
      text += fmt::format("      {:<44} {}{}\n", entry.reference,
                          entry.type.empty() ? "(type unknown)" : entry.type,
                          entry.of.empty() ? "" : "  " + entry.of);
  };
  for (const std::string& ied : substation.ieds) {
    text += fmt::format("{}\n", ied);
    for (const Stream& s : substation.streams) {
      if (s.ied != ied) continue;
      text += fmt::format(
          "  sampled values \"{}\" ({}, line {}): {}\n    {} {}, {} in a frame, revision {}, data set {}\n",
          s.id, s.name, s.line, address(s.address), s.rate,
          s.mode == 0   ? "samples a period"
          : s.mode == 1 ? "samples a second"
                        : "seconds a sample",
          s.group, s.revision, s.data_set);
      add(s.entries);
    }
    for (const Message& m : substation.messages) {
      if (m.ied != ied) continue;
      text += fmt::format("  GOOSE \"{}\" ({}, line {}): {}\n    revision {}, data set {}\n", m.id, m.name,
                          m.line, address(m.address), m.revision, m.data_set);
      add(m.entries);
    }
  }
  return text.empty() ? "no IED\n" : text;
}

}  // namespace zavrek::scl
