// The object dictionary of a slave and what its mailbox answers (61158-6-12, 5.6): service data by expedited
// and normal transfer, lists and descriptions of objects and entries.
#include <algorithm>

#include "wire/field/ethercat_parts.hpp"
#include "wire/field/little_endian.hpp"

namespace zavrek::wire::internal {
namespace {

constexpr std::uint16_t t_boolean = 1, t_natural8 = 5, t_natural16 = 6, t_natural32 = 7, t_string = 9,
                        t_record = 0x21;
constexpr std::size_t mailbox_header = 6, coe_header = 2;
constexpr std::uint8_t coe = 3;

enum Abort : std::uint32_t {
  abort_command = 0x05040001,
  abort_access = 0x06010000,
  abort_read_only = 0x06010002,
  abort_no_object = 0x06020000,
  abort_length = 0x06070010,
  abort_no_entry = 0x06090011,
  abort_state = 0x08000022
};

std::vector<std::uint8_t> number(std::uint64_t value, int bytes) {
  std::vector<std::uint8_t> out;
  put_low_first(out, value, bytes);
  return out;
}
CoeEntry fixed(std::string name, std::uint16_t type, std::uint16_t bits, std::uint64_t value) {
  return {std::move(name), type, bits, [=] { return number(value, bits / 8); }, nullptr};
}
CoeEntry text(std::string name, const std::string& value) {
  return {std::move(name), t_string, static_cast<std::uint16_t>(8 * value.size()),
          [=] { return std::vector<std::uint8_t>(value.begin(), value.end()); }, nullptr};
}
CoeObject variable(std::uint16_t index, const std::string& name, CoeEntry entry) {
  return {index, entry.type, 7, name, {std::move(entry)}};
}
CoeObject list(std::uint16_t index, const std::string& name, std::uint8_t code,
               std::vector<CoeEntry> entries) {
  entries.insert(entries.begin(), fixed("number of entries", t_natural8, 8, entries.size()));
  return {index, code == 9 ? t_record : entries.back().type, code, name, std::move(entries)};
}

/// Entries of an image as an object, read as they stand.
CoeObject image_object(std::uint16_t index, const std::string& name,
                       const std::vector<EtherCatEntry>& entries, std::span<const std::uint8_t> image) {
  const std::vector<EntryAt> places = image_layout(entries);
  std::vector<CoeEntry> made;
  for (std::size_t k = 0; k < entries.size(); ++k) {
    const unsigned bits = bits_of(entries[k].type);
    const std::size_t bit = places[k].bit;
    made.push_back({entries[k].name, coe_type(entries[k].type), static_cast<std::uint16_t>(bits),
                    [=] {
                      if (bits == 1) return number(image[bit / 8] >> (bit % 8) & 1, 1);
                      const auto first = image.begin() + static_cast<std::ptrdiff_t>(bit / 8);
                      return std::vector<std::uint8_t>(first, first + static_cast<std::ptrdiff_t>(bits / 8));
                    },
                    nullptr});
  }
  return list(index, name, 9, std::move(made));
}
/// What stands in an image, in its order: numbers, then bits, then what fills the last octet.
CoeObject mapping_object(std::uint16_t index, const std::string& name, std::uint16_t of,
                         const std::vector<EtherCatEntry>& entries) {
  std::vector<CoeEntry> made;
  std::size_t bits = 0;
  for (const bool of_bits : {false, true}) {
    for (std::size_t k = 0; k < entries.size(); ++k) {
      if ((entries[k].type == EtherCatType::boolean) != of_bits) continue;
      bits += bits_of(entries[k].type);
      made.push_back(fixed(entries[k].name, t_natural32, 32,
                           std::uint64_t{of} << 16U | (k + 1) << 8U | bits_of(entries[k].type)));
    }
  }
  if (bits % 8 != 0) made.push_back(fixed("filled up", t_natural32, 32, 8 - bits % 8));
  return list(index, name, 9, std::move(made));
}

std::vector<std::uint8_t> in_mailbox(std::uint8_t service, Bytes body, unsigned count) {
  std::vector<std::uint8_t> out;
  put_low_first(out, coe_header + body.size(), 2);
  put_low_first(out, 0, 3);
  out.push_back(static_cast<std::uint8_t>(coe | count << 4U));
  put_low_first(out, static_cast<std::uint64_t>(service) << 12U, 2);
  out.insert(out.end(), body.begin(), body.end());
  return out;
}

class Mailbox {
 public:
  Mailbox(const std::vector<CoeObject>& dictionary, unsigned count)
      : dictionary_(dictionary), count_(count) {}

  std::vector<std::uint8_t> sdo(Bytes body) const {
    const std::uint8_t command = body[0];
    const auto index = static_cast<std::uint16_t>(low_first(&body[1], 2));
    const std::uint8_t sub = body[3];
    constexpr std::uint8_t complete_access = 0x10;
    const unsigned kind = command >> 5U;
    if (kind == 4) return {};  // an abort of the master's
    if (kind != 1 && kind != 2) return abort(index, sub, abort_command);
    const CoeObject* object = find(index);
    if (!object) return abort(index, sub, abort_no_object);
    if ((command & complete_access) != 0) return abort(index, sub, abort_access);
    if (sub >= object->entries.size()) return abort(index, sub, abort_no_entry);
    const CoeEntry& entry = object->entries[sub];
    return kind == 2 ? upload(index, sub, entry) : download(index, sub, entry, body);
  }

  /// Services of information: list, object, entry.
  std::vector<std::uint8_t> information(Bytes body) const {
    const std::uint8_t code = body[0] & 0x7F;
    const auto index = static_cast<std::uint16_t>(body.size() >= 6 ? low_first(&body[4], 2) : 0);
    if (code == 1) return list_of_objects(index);
    const CoeObject* object = find(index);
    if (body.size() < 6 || (code != 3 && code != 5)) return information_error(abort_command);
    if (!object) return information_error(abort_no_object);
    std::vector<std::uint8_t> out{static_cast<std::uint8_t>(code + 1), 0, 0, 0};
    put_low_first(out, index, 2);
    std::string name = object->name;
    if (code == 3) {
      put_low_first(out, object->type, 2);
      out.push_back(static_cast<std::uint8_t>(object->entries.size() - 1));
      out.push_back(object->code);
    } else {
      if (body.size() < 8 || body[6] >= object->entries.size()) return information_error(abort_no_entry);
      const CoeEntry& entry = object->entries[body[6]];
      out.push_back(body[6]);
      out.push_back(0);
      put_low_first(out, entry.type, 2);
      put_low_first(out, entry.bits, 2);
      put_low_first(out, entry.write ? 0x003F : 0x0007, 2);
      name = entry.name;
    }
    out.insert(out.end(), name.begin(), name.end());
    return in_mailbox(8, out, count_);
  }

 private:
  [[nodiscard]] const CoeObject* find(std::uint16_t index) const {
    const auto at = std::find_if(dictionary_.begin(), dictionary_.end(),
                                 [&](const CoeObject& object) { return object.index == index; });
    return at == dictionary_.end() ? nullptr : &*at;
  }
  [[nodiscard]] std::vector<std::uint8_t> abort(std::uint16_t index, std::uint8_t sub,
                                                std::uint32_t why) const {
    std::vector<std::uint8_t> out{0x80};
    put_low_first(out, index, 2);
    out.push_back(sub);
    put_low_first(out, why, 4);
    return in_mailbox(2, out, count_);
  }
  [[nodiscard]] std::vector<std::uint8_t> upload(std::uint16_t index, std::uint8_t sub,
                                                 const CoeEntry& entry) const {
    const std::vector<std::uint8_t> value = entry.read();
    constexpr std::size_t most = mailbox_size - mailbox_header - coe_header - 8;
    if (value.size() > most) return abort(index, sub, abort_length);
    const bool expedited = !value.empty() && value.size() <= 4;
    std::vector<std::uint8_t> out{static_cast<std::uint8_t>(
        expedited ? 0x43U | (4U - static_cast<unsigned>(value.size())) << 2U : 0x41U)};
    put_low_first(out, index, 2);
    out.push_back(sub);
    if (!expedited) put_low_first(out, value.size(), 4);
    out.insert(out.end(), value.begin(), value.end());
    out.resize(std::max<std::size_t>(8, out.size()));
    return in_mailbox(3, out, count_);
  }
  [[nodiscard]] std::vector<std::uint8_t> download(std::uint16_t index, std::uint8_t sub,
                                                   const CoeEntry& entry, Bytes body) const {
    if (!entry.write) return abort(index, sub, abort_read_only);
    const bool expedited = (body[0] & 2U) != 0;
    const std::size_t size = expedited ? 4U - (body[0] >> 2U & 3U) : low_first(&body[4], 4);
    const Bytes value = body.subspan(expedited ? 4 : 8);
    if (value.size() < size || 8 * size != entry.bits) return abort(index, sub, abort_length);
    if (!entry.write(value.first(size))) return abort(index, sub, abort_state);
    std::vector<std::uint8_t> out{0x60};
    put_low_first(out, index, 2);
    out.push_back(sub);
    put_low_first(out, 0, 4);
    return in_mailbox(3, out, count_);
  }
  /// Kind 0: how many there are of each list; 1: all indices.
  [[nodiscard]] std::vector<std::uint8_t> list_of_objects(std::uint16_t kind) const {
    std::vector<std::uint8_t> out{2, 0, 0, 0};
    put_low_first(out, kind, 2);
    if (kind == 0) {
      put_low_first(out, dictionary_.size(), 2);
      put_low_first(out, 0, 8);
    } else if (kind == 1) {
      for (const CoeObject& object : dictionary_) put_low_first(out, object.index, 2);
    }
    return in_mailbox(8, out, count_);
  }
  [[nodiscard]] std::vector<std::uint8_t> information_error(std::uint32_t why) const {
    std::vector<std::uint8_t> out{7, 0, 0, 0};
    put_low_first(out, why, 4);
    return in_mailbox(8, out, count_);
  }

  const std::vector<CoeObject>& dictionary_;
  unsigned count_;
};

}  // namespace

std::uint16_t coe_type(EtherCatType type) {
  constexpr std::array<std::uint16_t, 9> types{t_boolean, 2,           t_natural8, 3,   t_natural16,
                                               4,         t_natural32, 8,          0x11};
  return types[static_cast<std::size_t>(type)];
}

std::vector<CoeObject> object_dictionary(const EtherCatSettings& settings,
                                         std::span<const std::uint8_t> inputs,
                                         std::span<const std::uint8_t> outputs) {
  std::vector<CoeObject> made;
  made.push_back(variable(0x1000, "device type", fixed("device type", t_natural32, 32, 0)));
  made.push_back(variable(0x1008, "device name", text("device name", settings.name)));
  made.push_back(variable(0x100A, "software version", text("software version", "1")));
  made.push_back(list(
      0x1018, "identity", 9,
      {fixed("vendor", t_natural32, 32, settings.vendor), fixed("product", t_natural32, 32, settings.product),
       fixed("revision", t_natural32, 32, settings.revision),
       fixed("serial number", t_natural32, 32, settings.serial)}));
  made.push_back(mapping_object(0x1600, "outputs as they are sent", 0x7000, settings.outputs));
  made.push_back(mapping_object(0x1A00, "inputs as they are sent", 0x6000, settings.inputs));
  made.push_back(list(0x1C00, "kinds of sync managers", 8,
                      {fixed("mailbox out", t_natural8, 8, 1), fixed("mailbox in", t_natural8, 8, 2),
                       fixed("outputs", t_natural8, 8, 3), fixed("inputs", t_natural8, 8, 4)}));
  made.push_back(list(0x1C12, "outputs' mapping", 8, {fixed("mapping", t_natural16, 16, 0x1600)}));
  made.push_back(list(0x1C13, "inputs' mapping", 8, {fixed("mapping", t_natural16, 16, 0x1A00)}));
  made.push_back(image_object(0x6000, "inputs", settings.inputs, inputs));
  made.push_back(image_object(0x7000, "outputs", settings.outputs, outputs));
  return made;
}

std::vector<std::uint8_t> answer_mailbox(const std::vector<CoeObject>& dictionary, Bytes message,
                                         unsigned count) {
  if (message.size() < mailbox_header) return {};
  const std::size_t length = low_first(message.data(), 2);
  const unsigned type = message[5] & 0x0FU;
  const auto error = [&](std::uint16_t detail) {
    std::vector<std::uint8_t> out{4, 0, 0, 0, 0, static_cast<std::uint8_t>(count << 4U), 1, 0};
    put_low_first(out, detail, 2);
    return out;
  };
  constexpr std::uint16_t unsupported_protocol = 2, wrong_size = 8, unknown_service = 4;
  if (type != coe) return error(unsupported_protocol);
  if (length < coe_header || length > message.size() - mailbox_header) return error(wrong_size);
  const unsigned service = message[mailbox_header + 1] >> 4U;
  const Bytes body = message.subspan(mailbox_header + coe_header, length - coe_header);
  const Mailbox mailbox(dictionary, count);
  if (service == 2) return body.size() < 8 ? error(wrong_size) : mailbox.sdo(body);
  if (service == 8) return body.size() < 4 ? error(wrong_size) : mailbox.information(body);
  return error(unknown_service);
}

}  // namespace zavrek::wire::internal
