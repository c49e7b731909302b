#include <algorithm>
#include <cctype>
#include <map>
#include <set>
#include <sstream>

#include <fmt/format.h>
#include <pugixml.hpp>

#include "zavrek/scl.hpp"

namespace zavrek::scl {
namespace {

/// "LD0/CSWI1.Pos.stVal [ST]" in its parts.
struct Reference {
  std::string device, prefix, node_class, node_inst, object, attribute, fc;
};
Reference parts_of(const std::string& text) {
  Reference r;
  const std::size_t slash = text.find('/'), dot = text.find('.', slash), blank = text.find(' ', dot);
  if (slash == std::string::npos || dot == std::string::npos || blank == std::string::npos)
    throw Error(fmt::format("\"{}\" is no reference like \"LD0/CSWI1.Pos.stVal [ST]\"", text));
  r.device = text.substr(0, slash);
  r.fc = text.substr(blank + 2, 2);
  std::string node = text.substr(slash + 1, dot - slash - 1);
  const std::size_t digits = node.find_last_not_of("0123456789") + 1;
  r.node_inst = node.substr(digits);
  node.resize(digits);
  r.node_class = node.size() > 4 ? node.substr(node.size() - 4) : node;
  r.prefix = node.substr(0, node.size() - r.node_class.size());
  const std::string path = text.substr(dot + 1, blank - dot - 1);
  const std::size_t next = path.find('.');
  r.object = path.substr(0, next);
  if (next != std::string::npos) r.attribute = path.substr(next + 1);
  return r;
}

/// Attributes in the order in which they were first met.
struct ObjectType {
  std::vector<std::tuple<std::string, std::string, std::string>> attributes;  // name, fc, basic type
  void add(const std::string& name, const std::string& fc, const std::string& type) {
    for (const auto& [known, its_fc, its_type] : attributes) {
      if (known == name) return;
    }
    attributes.emplace_back(name, fc, type);
  }
};
struct Node {
  std::string device, prefix, node_class, inst, description;
  std::vector<std::pair<std::string, ObjectType>> objects;
  ObjectType& object(const std::string& name) {
    for (auto& [known, type] : objects) {
      if (known == name) return type;
    }
    return objects.emplace_back(name, ObjectType{}).second;
  }
};

/// The class of data (IEC 61850-7-3) that has such attributes.
const char* class_of(const ObjectType& type) {
  for (const auto& [name, fc, basic] : type.attributes) {
    if (name == "instMag.i") return "SAV";
    if (name == "mag.f") return "MV";
    if (name == "general") return "ACT";
    if (name == "stVal") return basic == "BOOLEAN" ? "SPS" : basic == "Dbpos" ? "DPC" : "INS";
  }
  return "SPS";
}

class Writing {
 public:
  explicit Writing(const Substation& substation) : all_(substation) {}

  std::string text() {
    pugi::xml_node declaration = document_.append_child(pugi::node_declaration);
    declaration.append_attribute("version") = "1.0";
    declaration.append_attribute("encoding") = "UTF-8";
    root_ = document_.append_child("SCL");
    root_.append_attribute("xmlns") = "http://www.iec.ch/61850/2003/SCL";
    root_.append_attribute("version") = "2007";
    root_.append_attribute("revision") = "B";
    root_.append_attribute("release") = "4";
    pugi::xml_node header = root_.append_child("Header");
    header.append_attribute("id") = all_.ieds.empty() ? "bench" : all_.ieds.front().c_str();
    header.append_attribute("toolID") = "zavrek";
    for (const Stream& s : all_.streams) gather(s.entries);
    for (const Message& m : all_.messages) gather(m.entries);
    write_network();
    write_device();
    write_templates();
    std::ostringstream out;
    document_.save(out, "  ");
    return out.str();
  }

 private:
  void gather(const std::vector<Entry>& entries) {
    for (const Entry& entry : entries) {
      const Reference r = parts_of(entry.reference);
      devices_.insert(r.device);
      Node& node = nodes_[fmt::format("{}/{}{}{}", r.device, r.prefix, r.node_class, r.node_inst)];
      node.device = r.device;
      node.prefix = r.prefix;
      node.node_class = r.node_class;
      node.inst = r.node_inst;
      node.description = entry.of;
      ObjectType& object = node.object(r.object);
      if (!r.attribute.empty()) object.add(r.attribute, r.fc, entry.type);
    }
  }

  void write_network() {
    pugi::xml_node network = root_.append_child("Communication").append_child("SubNetwork");
    network.append_attribute("name") = "station";
    network.append_attribute("type") = "8-MMS";
    pugi::xml_node access = network.append_child("ConnectedAP");
    access.append_attribute("iedName") = all_.ieds.front().c_str();
    access.append_attribute("apName") = "P1";
    for (const Message& m : all_.messages) {
      pugi::xml_node block = write_address(access, "GSE", m.reference, m.name, m.address);
      for (const auto& [name, ms] : {std::pair{"MinTime", m.first_ms}, std::pair{"MaxTime", m.slowest_ms}}) {
        if (!ms) continue;
        pugi::xml_node time = block.append_child(name);
        time.append_attribute("unit") = "s";
        time.append_attribute("multiplier") = "m";
        time.text() = *ms;
      }
    }
    for (const Stream& s : all_.streams) write_address(access, "SMV", s.reference, s.name, s.address);
  }
  /// The logical device of "IEDLD0/LLN0$GO$name".
  [[nodiscard]] std::string device_in(const std::string& reference) const {
    const std::size_t from = all_.ieds.front().size();
    return reference.substr(from, reference.find('/') - from);
  }
  pugi::xml_node write_address(pugi::xml_node access, const char* element, const std::string& reference,
                               const std::string& name, const std::optional<Address>& at) {
    pugi::xml_node block = access.append_child(element);
    block.append_attribute("ldInst") = device_in(reference).c_str();
    block.append_attribute("cbName") = name.c_str();
    if (!at) return block;
    pugi::xml_node address = block.append_child("Address");
    const auto add = [&](const char* type, const std::string& text) {
      pugi::xml_node p = address.append_child("P");
      p.append_attribute("type") = type;
      p.text() = text.c_str();
    };
    std::string mac = wire::to_string(at->destination);
    std::transform(mac.begin(), mac.end(), mac.begin(), [](unsigned char c) { return std::toupper(c); });
    add("MAC-Address", mac);
    add("APPID", fmt::format("{:04X}", at->appid));
    if (at->tagged) {
      add("VLAN-ID", fmt::format("{:03X}", at->vlan));
      add("VLAN-PRIORITY", std::to_string(at->priority));
    }
    return block;
  }

  void write_device() {
    pugi::xml_node ied = root_.append_child("IED");
    ied.append_attribute("name") = all_.ieds.front().c_str();
    ied.append_attribute("manufacturer") = "Zavrek";
    pugi::xml_node access = ied.append_child("AccessPoint");
    access.append_attribute("name") = "P1";
    pugi::xml_node server = access.append_child("Server");
    server.append_child("Authentication").append_attribute("none") = "true";
    for (const Stream& s : all_.streams) devices_.insert(device_in(s.reference));
    for (const Message& m : all_.messages) devices_.insert(device_in(m.reference));
    for (const std::string& inst : devices_) {
      pugi::xml_node device = server.append_child("LDevice");
      device.append_attribute("inst") = inst.c_str();
      pugi::xml_node node = device.append_child("LN0");
      node.append_attribute("lnClass") = "LLN0";
      node.append_attribute("inst") = "";
      node.append_attribute("lnType") = "LLN0";
      for (const Stream& s : all_.streams) {
        if (device_in(s.reference) == inst) write_data_set(node, s.data_set, s.entries);
      }
      for (const Message& m : all_.messages) {
        if (device_in(m.reference) == inst) write_data_set(node, m.data_set, m.entries);
      }
      for (const Message& m : all_.messages) {
        if (device_in(m.reference) == inst) write_control(node, m);
      }
      for (const Stream& s : all_.streams) {
        if (device_in(s.reference) == inst) write_control(node, s);
      }
      for (const auto& [name, one] : nodes_) {
        if (one.device != inst) continue;
        pugi::xml_node logical = device.append_child("LN");
        if (!one.prefix.empty()) logical.append_attribute("prefix") = one.prefix.c_str();
        logical.append_attribute("lnClass") = one.node_class.c_str();
        logical.append_attribute("inst") = one.inst.c_str();
        logical.append_attribute("lnType") = type_name(name).c_str();
        if (!one.description.empty()) logical.append_attribute("desc") = one.description.c_str();
      }
    }
  }
  static std::string type_name(std::string name) {
    std::replace(name.begin(), name.end(), '/', '_');
    return name;
  }
  static std::string behind_dollar(const std::string& reference) {
    return reference.substr(reference.rfind('$') + 1);
  }
  static void write_data_set(pugi::xml_node node, const std::string& reference,
                             const std::vector<Entry>& entries) {
    pugi::xml_node set = node.append_child("DataSet");
    set.append_attribute("name") = behind_dollar(reference).c_str();
    for (std::size_t k = 0; k < entries.size(); ++k) {
      const Reference r = parts_of(entries[k].reference);
      pugi::xml_node one = set.append_child("FCDA");
      one.append_attribute("ldInst") = r.device.c_str();
      if (!r.prefix.empty()) one.append_attribute("prefix") = r.prefix.c_str();
      one.append_attribute("lnClass") = r.node_class.c_str();
      one.append_attribute("lnInst") = r.node_inst.c_str();
      one.append_attribute("doName") = r.object.c_str();
      if (!r.attribute.empty()) one.append_attribute("daName") = r.attribute.c_str();
      one.append_attribute("fc") = r.fc.c_str();
      k += static_cast<std::size_t>(entries[k].members);  // the templates say them
    }
  }
  static void write_control(pugi::xml_node node, const Message& m) {
    pugi::xml_node control = node.append_child("GSEControl");
    control.append_attribute("name") = m.name.c_str();
    control.append_attribute("type") = "GOOSE";
    control.append_attribute("appID") = m.id.c_str();
    control.append_attribute("datSet") = behind_dollar(m.data_set).c_str();
    control.append_attribute("confRev") = m.revision;
  }
  static void write_control(pugi::xml_node node, const Stream& s) {
    pugi::xml_node control = node.append_child("SampledValueControl");
    control.append_attribute("name") = s.name.c_str();
    control.append_attribute("smvID") = s.id.c_str();
    control.append_attribute("datSet") = behind_dollar(s.data_set).c_str();
    control.append_attribute("confRev") = s.revision;
    control.append_attribute("multicast") = "true";
    control.append_attribute("smpRate") = s.rate;
    control.append_attribute("smpMod") = s.mode == 1   ? "SmpPerSec"
                                         : s.mode == 2 ? "SecPerSmp"
                                                       : "SmpPerPeriod";
    control.append_attribute("nofASDU") = static_cast<int>(s.group);
    pugi::xml_node options = control.append_child("SmvOpts");
    options.append_attribute("refreshTime") = s.refresh_time;
    options.append_attribute("sampleSynchronized") = true;
    options.append_attribute("sampleRate") = s.sample_rate;
    options.append_attribute("dataSet") = s.sends_data_set;
    options.append_attribute("security") = false;
  }

  void write_templates() {
    pugi::xml_node templates = root_.append_child("DataTypeTemplates");
    const auto identified = [&](const char* element, const std::string& id) {
      pugi::xml_node node = templates.append_child(element);
      node.append_attribute("id") = id.c_str();
      return node;
    };
    pugi::xml_node zero = identified("LNodeType", "LLN0");
    zero.append_attribute("lnClass") = "LLN0";
    pugi::xml_node behaviour = zero.append_child("DO");
    behaviour.append_attribute("name") = "Beh";
    behaviour.append_attribute("type") = "Beh";
    for (const auto& [name, node] : nodes_) {
      pugi::xml_node type = identified("LNodeType", type_name(name));
      type.append_attribute("lnClass") = node.node_class.c_str();
      for (const auto& [object, its] : node.objects) {
        pugi::xml_node one = type.append_child("DO");
        one.append_attribute("name") = object.c_str();
        one.append_attribute("type") = (type_name(name) + "_" + object).c_str();
      }
    }
    const auto attribute = [](pugi::xml_node type, const char* element, const std::string& name,
                              const std::string& fc, const std::string& basic) {
      pugi::xml_node one = type.append_child(element);
      one.append_attribute("name") = name.c_str();
      one.append_attribute("bType") = basic.c_str();
      if (!fc.empty()) one.append_attribute("fc") = fc.c_str();
      return one;
    };
    pugi::xml_node state = identified("DOType", "Beh");
    state.append_attribute("cdc") = "INS";
    attribute(state, "DA", "stVal", "ST", "INT32");
    attribute(state, "DA", "q", "ST", "Quality");
    attribute(state, "DA", "t", "ST", "Timestamp");
    std::map<std::string, std::pair<std::string, std::string>> structures;  // id: member, its type
    for (const auto& [name, node] : nodes_) {
      for (const auto& [object, its] : node.objects) {
        pugi::xml_node type = identified("DOType", type_name(name) + "_" + object);
        type.append_attribute("cdc") = class_of(its);
        for (const auto& [path, fc, basic] : its.attributes) {
          const std::size_t dot = path.find('.');
          if (dot == std::string::npos) {
            attribute(type, "DA", path, fc, basic);
            continue;
          }
          const std::string id = "of_" + path.substr(dot + 1) + "_" + basic;
          structures[id] = {path.substr(dot + 1), basic};
          attribute(type, "DA", path.substr(0, dot), fc, "Struct").append_attribute("type") = id.c_str();
        }
      }
    }
    for (const auto& [id, member] : structures)
      attribute(identified("DAType", id), "BDA", member.first, "", member.second);
  }

  const Substation& all_;
  pugi::xml_document document_;
  pugi::xml_node root_;
  std::map<std::string, Node> nodes_;
  std::set<std::string> devices_;
};

}  // namespace

std::string write(const Substation& substation) { return Writing(substation).text(); }

}  // namespace zavrek::scl
