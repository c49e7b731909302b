#include <fmt/format.h>

#include "wire/field/ethercat_parts.hpp"
#include "wire/field/little_endian.hpp"

namespace zavrek::wire {

using namespace internal;

namespace {

constexpr std::size_t categories_at = 0x80;  // octets
constexpr std::size_t eeprom_size = 2048;

std::string in_xml(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '&')
      out += "&amp;";
    else if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else if (c == '"')
      out += "&quot;";
    else
      out += c;
  }
  return out;
}

const char* esi_type(EtherCatType type) {
  constexpr std::array<const char*, 9> names{"BOOL", "SINT",  "USINT", "INT",  "UINT",
                                             "DINT", "UDINT", "REAL",  "LREAL"};
  return names[static_cast<std::size_t>(type)];
}

std::string pdo_of(const char* kind, unsigned index, unsigned object, int manager, const char* name,
                   const std::vector<EtherCatEntry>& entries) {
  std::string out = fmt::format(
      "        <{0} Fixed=\"1\" Mandatory=\"1\" Sm=\"{1}\">\n          <Index>#x{2:04X}</Index>\n"
      "          <Name>{3}</Name>\n",
      kind, manager, index, name);
  std::size_t bits = 0;
  for (const bool of_bits : {false, true}) {
    for (std::size_t k = 0; k < entries.size(); ++k) {
      if ((entries[k].type == EtherCatType::boolean) != of_bits) continue;
      bits += bits_of(entries[k].type);
      out += fmt::format(
          "          <Entry><Index>#x{:04X}</Index><SubIndex>{}</SubIndex><BitLen>{}</BitLen><Name>{}</Name>"
          "<DataType>{}</DataType></Entry>\n",
          object, k + 1, bits_of(entries[k].type), in_xml(entries[k].name), esi_type(entries[k].type));
    }
  }
  if (bits % 8 != 0)
    out += fmt::format("          <Entry><Index>0</Index><BitLen>{}</BitLen></Entry>\n", 8 - bits % 8);
  return out + fmt::format("        </{}>\n", kind);
}

/// Sum over the first seven words: x^8 + x^2 + x + 1 from FF.
std::uint8_t eeprom_sum(Bytes words) {
  unsigned sum = 0xFF;
  for (const std::uint8_t octet : words) {
    sum ^= octet;
    for (int bit = 0; bit < 8; ++bit) sum = ((sum & 0x80U) != 0 ? sum << 1U ^ 0x07U : sum << 1U) & 0xFFU;
  }
  return static_cast<std::uint8_t>(sum);
}

class EepromWriter {
 public:
  EepromWriter() : out_(categories_at, 0) {}
  void set(std::size_t word, std::uint64_t value, int bytes) {
    for (int k = 0; k < bytes; ++k)
      out_[2 * word + static_cast<std::size_t>(k)] = static_cast<std::uint8_t>(value >> (8 * k));
  }
  void category(std::uint16_t type, std::vector<std::uint8_t> data) {
    if (data.size() % 2 != 0) data.push_back(0);
    put_low_first(out_, type, 2);
    put_low_first(out_, data.size() / 2, 2);
    out_.insert(out_.end(), data.begin(), data.end());
  }
  std::vector<std::uint8_t> take() {
    put_low_first(out_, 0xFFFF, 2);
    out_[14] = eeprom_sum(Bytes(out_).first(14));
    out_.resize(std::max(out_.size(), eeprom_size), 0xFF);
    return std::move(out_);
  }

 private:
  std::vector<std::uint8_t> out_;
};

/// Text by its number, from 1 on.
class Strings {
 public:
  std::uint8_t add(const std::string& text) {
    texts_.push_back(text.substr(0, 60));
    return static_cast<std::uint8_t>(texts_.size());
  }
  std::vector<std::uint8_t> category() const {
    std::vector<std::uint8_t> out{static_cast<std::uint8_t>(texts_.size())};
    for (const std::string& text : texts_) {
      out.push_back(static_cast<std::uint8_t>(text.size()));
      out.insert(out.end(), text.begin(), text.end());
    }
    return out;
  }

 private:
  std::vector<std::string> texts_;
};

std::vector<std::uint8_t> pdo_category(std::uint16_t index, std::uint16_t object, std::uint8_t manager,
                                       const char* name, const std::vector<EtherCatEntry>& entries,
                                       Strings& strings) {
  std::vector<std::uint8_t> list;
  std::size_t bits = 0;
  std::uint8_t count = 0;
  const auto put = [&](std::uint16_t of, std::size_t sub, std::uint8_t text, std::uint16_t type,
                       unsigned size) {
    put_low_first(list, of, 2);
    list.push_back(static_cast<std::uint8_t>(sub));
    list.push_back(text);
    list.push_back(static_cast<std::uint8_t>(type));
    list.push_back(static_cast<std::uint8_t>(size));
    put_low_first(list, 0, 2);
    ++count;
  };
  for (const bool of_bits : {false, true}) {
    for (std::size_t k = 0; k < entries.size(); ++k) {
      if ((entries[k].type == EtherCatType::boolean) != of_bits) continue;
      bits += bits_of(entries[k].type);
      put(object, k + 1, strings.add(entries[k].name), coe_type(entries[k].type), bits_of(entries[k].type));
    }
  }
  if (bits % 8 != 0) put(0, 0, 0, 0, static_cast<unsigned>(8 - bits % 8));
  std::vector<std::uint8_t> out;
  put_low_first(out, index, 2);
  out.push_back(count);
  out.push_back(manager);
  out.push_back(0);
  out.push_back(strings.add(name));
  put_low_first(out, 0x0011, 2);  // mandatory, fixed
  out.insert(out.end(), list.begin(), list.end());
  return out;
}

}  // namespace

std::vector<std::uint8_t> slave_eeprom(const EtherCatSettings& settings) {
  EepromWriter eeprom;
  eeprom.set(0, 0x0080, 2);  // no interface of its own: the process is in the computer
  eeprom.set(8, settings.vendor, 4);
  eeprom.set(10, settings.product, 4);
  eeprom.set(12, settings.revision, 4);
  eeprom.set(14, settings.serial, 4);
  eeprom.set(0x18, mailbox_out_at, 2);
  eeprom.set(0x19, mailbox_size, 2);
  eeprom.set(0x1A, mailbox_in_at, 2);
  eeprom.set(0x1B, mailbox_size, 2);
  eeprom.set(0x1C, 0x0004, 2);  // CoE
  eeprom.set(0x3E, eeprom_size * 8 / 1024 - 1, 2);
  eeprom.set(0x3F, 1, 2);
  Strings strings;
  const std::uint8_t name = strings.add(settings.name), group = strings.add("Zavrek");
  const auto inputs = pdo_category(0x1A00, 0x6000, 3, "inputs", settings.inputs, strings);
  const auto outputs = pdo_category(0x1600, 0x7000, 2, "outputs", settings.outputs, strings);
  eeprom.category(10, strings.category());
  std::vector<std::uint8_t> general(32, 0);
  general[0] = group;
  general[2] = name;
  general[3] = name;
  general[5] = 0x07;  // CoE with lists and descriptions, without access to whole objects
  eeprom.category(30, general);
  eeprom.category(40, {1, 2, 0, 0});  // FMMUs: outputs, inputs
  std::vector<std::uint8_t> managers;
  const auto manager = [&](std::uint16_t at, std::size_t size, std::uint8_t control, std::uint8_t kind) {
    put_low_first(managers, at, 2);
    put_low_first(managers, size, 2);
    managers.insert(managers.end(), {control, 0, static_cast<std::uint8_t>(size > 0 ? 1 : 0), kind});
  };
  manager(mailbox_out_at, mailbox_size, 0x26, 1);
  manager(mailbox_in_at, mailbox_size, 0x22, 2);
  manager(outputs_at, image_bytes(settings.outputs), 0x64, 3);
  manager(inputs_at, image_bytes(settings.inputs), 0x20, 4);
  eeprom.category(41, managers);
  eeprom.category(50, inputs);
  eeprom.category(51, outputs);
  return eeprom.take();
}

std::string slave_description(const EtherCatSettings& settings) {
  const std::string name = in_xml(settings.name);
  std::string out = fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<EtherCATInfo Version=\"1.2\">\n  <Vendor>\n    "
      "<Id>#x{:08X}</Id>\n    "
      "<Name>Zavrek</Name>\n  </Vendor>\n  <Descriptions>\n    "
      "<Groups><Group><Type>models</Type><Name>models</Name></Group>"
      "</Groups>\n    <Devices>\n      <Device Physics=\"YY\">\n        <Type ProductCode=\"#x{:08X}\" "
      "RevisionNo=\"#x{:08X}\">{}</Type>\n        <Name>{}</Name>\n        <GroupType>models</GroupType>\n",
      settings.vendor, settings.product, settings.revision, name, name);
  out += "        <Fmmu>Outputs</Fmmu>\n        <Fmmu>Inputs</Fmmu>\n";
  const auto manager = [&](std::uint16_t at, std::size_t size, unsigned control, const char* kind) {
    out += fmt::format(
        "        <Sm DefaultSize=\"{}\" StartAddress=\"#x{:04X}\" ControlByte=\"#x{:02X}\" "
        "Enable=\"{}\">{}</Sm>\n",
        size, at, control, size > 0 ? 1 : 0, kind);
  };
  manager(mailbox_out_at, mailbox_size, 0x26, "MBoxOut");
  manager(mailbox_in_at, mailbox_size, 0x22, "MBoxIn");
  manager(outputs_at, image_bytes(settings.outputs), 0x64, "Outputs");
  manager(inputs_at, image_bytes(settings.inputs), 0x20, "Inputs");
  out += pdo_of("RxPdo", 0x1600, 0x7000, 2, "outputs", settings.outputs);
  out += pdo_of("TxPdo", 0x1A00, 0x6000, 3, "inputs", settings.inputs);
  out +=
      "        <Mailbox><CoE SdoInfo=\"1\" PdoAssign=\"0\" PdoConfig=\"0\" "
      "CompleteAccess=\"0\"/></Mailbox>\n";
  out += "        <Dc><OpMode><Name>free</Name><AssignActivate>#x0000</AssignActivate></OpMode></Dc>\n";
  std::string data;
  const std::vector<std::uint8_t> eeprom = slave_eeprom(settings);
  for (std::size_t k = 0; k < 16; ++k) data += fmt::format("{:02x}", eeprom[k]);
  out += fmt::format("        <Eeprom><ByteSize>{}</ByteSize><ConfigData>{}</ConfigData></Eeprom>\n",
                     eeprom.size(), data);
  return out + "      </Device>\n    </Devices>\n  </Descriptions>\n</EtherCATInfo>\n";
}

}  // namespace zavrek::wire
