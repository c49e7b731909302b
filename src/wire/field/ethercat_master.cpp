#include "zavrek/wire/field/ethercat_master.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>

#include <fmt/format.h>

#include "wire/field/little_endian.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::wire {

using internal::low_first;
using internal::put_low_first;

namespace {

constexpr std::size_t frame_head = 16, of_datagram = 10;
constexpr std::uint8_t write_by_place = 2, read_by_address = 4, write_by_address = 5, read_by_all = 7,
                       exchange_logical = 12;
constexpr std::uint16_t first_station = 0x1001;
constexpr std::int64_t patience_ns = 200'000'000;
constexpr std::size_t most_eeprom = 4096;

std::string text_of(const std::vector<std::string>& texts, std::size_t number) {
  return number >= 1 && number <= texts.size() ? texts[number - 1] : std::string();
}

}  // namespace

EtherCatMaster::EtherCatMaster(Exchange exchange) : exchange_(std::move(exchange)) {}

EtherCatMaster::Answer EtherCatMaster::ask(std::uint8_t command, std::uint32_t address, Bytes data,
                                           std::int64_t within_ns) {
  std::vector<std::uint8_t> frame(12, 0xFF);
  frame[6] = 0x01;  // of its own: no slave's
  frame.insert(frame.end(), {0x88, 0xA4});
  put_low_first(frame, (of_datagram + data.size() + 2) | 0x1000U, 2);
  frame.push_back(command);
  frame.push_back(++index_);
  put_low_first(frame, address, 4);
  put_low_first(frame, data.size(), 2);
  put_low_first(frame, 0, 2);
  frame.insert(frame.end(), data.begin(), data.end());
  put_low_first(frame, 0, 2);
  frame.resize(std::max<std::size_t>(60, frame.size()));
  const std::vector<std::uint8_t> back = exchange_(frame, within_ns);
  const std::size_t data_at = frame_head + of_datagram;
  if (back.size() < data_at + data.size() + 2 || back[frame_head + 1] != index_) return {};
  return {{back.begin() + static_cast<std::ptrdiff_t>(data_at),
           back.begin() + static_cast<std::ptrdiff_t>(data_at + data.size())},
          static_cast<unsigned>(low_first(&back[data_at + data.size()], 2))};
}

std::vector<std::uint8_t> EtherCatMaster::read(std::uint16_t station, std::uint16_t at, std::size_t size) {
  const std::vector<std::uint8_t> nothing(size, 0);
  Answer answer = ask(read_by_address, station | static_cast<std::uint32_t>(at) << 16U, nothing, patience_ns);
  if (answer.counter != 1)
    throw Error(fmt::format("slave {:#x} does not answer where {:#06x} is read", station, at));
  return std::move(answer.data);
}
void EtherCatMaster::write(std::uint16_t station, std::uint16_t at, Bytes data) {
  const Answer answer =
      ask(write_by_address, station | static_cast<std::uint32_t>(at) << 16U, data, patience_ns);
  if (answer.counter != 1)
    throw Error(fmt::format("slave {:#x} does not answer where {:#06x} is written", station, at));
}

void EtherCatMaster::scan() {
  slaves_.clear();
  managers_.clear();
  const std::vector<std::uint8_t> two(2, 0);
  const unsigned count = ask(read_by_all, 0x0130U << 16U, two, patience_ns).counter;
  if (count == 0) throw Error("no slave answers; is its run going, and on the other end of this interface?");
  for (unsigned k = 0; k < count; ++k) {
    Slave slave;
    slave.station = static_cast<std::uint16_t>(first_station + k);
    std::vector<std::uint8_t> station;
    put_low_first(station, slave.station, 2);
    const auto place = static_cast<std::uint16_t>(0U - k);
    if (ask(write_by_place, place | 0x0010U << 16U, station, patience_ns).counter != 1)
      throw Error(fmt::format("the slave in place {} takes no address", k + 1));
    managers_.emplace_back();
    describe(slave, eeprom(slave.station));
    slaves_.push_back(std::move(slave));
  }
}

std::vector<std::uint8_t> EtherCatMaster::eeprom(std::uint16_t station) {
  std::vector<std::uint8_t> all;
  // Up to the end of the categories, of which each says how long it is.
  std::size_t wanted = 0x84;
  while (all.size() < wanted && all.size() < most_eeprom) {
    std::vector<std::uint8_t> request{0, 1};
    put_low_first(request, all.size() / 2, 4);
    write(station, 0x0502, request);
    const std::vector<std::uint8_t> part = read(station, 0x0508, 8);
    all.insert(all.end(), part.begin(), part.end());
    for (std::size_t at = 0x80; at + 4 <= all.size();) {
      if (low_first(&all[at], 2) == 0xFFFF) return all;
      at += 4 + 2 * low_first(&all[at + 2], 2);
      wanted = std::max(wanted, at + 4);
    }
  }
  return all;
}

void EtherCatMaster::describe(Slave& slave, const std::vector<std::uint8_t>& eeprom) {
  const auto refuse = [&] {
    throw Error(fmt::format("the EEPROM of slave {:#x} cannot be read", slave.station));
  };
  if (eeprom.size() < 0x84) refuse();
  slave.vendor = static_cast<std::uint32_t>(low_first(&eeprom[16], 4));
  slave.product = static_cast<std::uint32_t>(low_first(&eeprom[20], 4));
  slave.revision = static_cast<std::uint32_t>(low_first(&eeprom[24], 4));
  slave.serial = static_cast<std::uint32_t>(low_first(&eeprom[28], 4));
  std::vector<std::string> texts;
  const auto images = [&](Bytes data, std::vector<Entry>& into) {
    for (std::size_t at = 0; at + 8 <= data.size();) {
      const std::size_t count = data[at + 2];
      at += 8;
      for (std::size_t k = 0; k < count && at + 8 <= data.size(); ++k, at += 8)
        into.push_back({text_of(texts, data[at + 3]), data[at + 4], data[at + 5], 0});
    }
  };
  for (std::size_t at = 0x80; at + 4 <= eeprom.size();) {
    const std::uint64_t kind = low_first(&eeprom[at], 2), size = 2 * low_first(&eeprom[at + 2], 2);
    if (kind == 0xFFFF) return;
    if (at + 4 + size > eeprom.size()) refuse();
    const Bytes data = Bytes(eeprom).subspan(at + 4, size);
    at += 4 + size;
    if (kind == 10 && !data.empty()) {
      for (std::size_t k = 1; k < data.size() && texts.size() < data[0];) {
        const std::size_t length = std::min<std::size_t>(data[k], data.size() - k - 1);
        texts.emplace_back(data.begin() + static_cast<std::ptrdiff_t>(k + 1),
                           data.begin() + static_cast<std::ptrdiff_t>(k + 1 + length));
        k += 1 + length;
      }
    } else if (kind == 30 && data.size() > 3) {
      slave.name = text_of(texts, data[3]);
    } else if (kind == 41) {
      for (std::size_t k = 0; k + 8 <= data.size(); k += 8)
        managers_.back().push_back({static_cast<std::uint16_t>(low_first(&data[k], 2)),
                                    static_cast<std::uint16_t>(low_first(&data[k + 2], 2)), data[k + 4]});
    } else if (kind == 50) {
      images(data, slave.inputs);
    } else if (kind == 51) {
      images(data, slave.outputs);
    }
  }
  refuse();
}

void EtherCatMaster::start() {
  std::vector<std::size_t> inputs_at, outputs_at;
  const auto place = [](std::vector<Entry>& entries, std::size_t& octets) {
    std::size_t bit = 8 * octets;
    for (Entry& entry : entries) {
      entry.at = bit;
      bit += entry.bits;
    }
    octets = (bit + 7) / 8;
  };
  std::size_t octets = 0;
  for (Slave& slave : slaves_) {
    outputs_at.push_back(octets);
    place(slave.outputs, octets);
  }
  output_octets_ = octets;
  for (Slave& slave : slaves_) {
    inputs_at.push_back(octets);
    place(slave.inputs, octets);
  }
  image_.assign(octets, 0);
  whole_counter_ = 0;
  for (std::size_t k = 0; k < slaves_.size(); ++k) {
    Slave& slave = slaves_[k];
    const std::vector<Manager>& managers = managers_[k];
    if (managers.size() < 4) throw Error(fmt::format("slave {} has no four sync managers", slave.name));
    bring(slave, EtherCatState::init);
    const auto manage = [&](std::size_t number) {
      std::vector<std::uint8_t> data;
      put_low_first(data, managers[number].at, 2);
      put_low_first(data, managers[number].size, 2);
      data.insert(data.end(), {managers[number].control, 0,
                               static_cast<std::uint8_t>(managers[number].size > 0 ? 1 : 0), 0});
      write(slave.station, static_cast<std::uint16_t>(0x0800 + 8 * number), data);
    };
    manage(0);
    manage(1);
    bring(slave, EtherCatState::preoperational);
    manage(2);
    manage(3);
    const auto map = [&](std::size_t number, std::size_t at, std::uint8_t direction, const Manager& manager) {
      std::vector<std::uint8_t> data;
      put_low_first(data, at, 4);
      put_low_first(data, manager.size, 2);
      data.insert(data.end(), {0, 7});
      put_low_first(data, manager.at, 2);
      data.insert(data.end(), {0, direction, 1, 0, 0, 0});
      write(slave.station, static_cast<std::uint16_t>(0x0600 + 16 * number), data);
    };
    if (managers[2].size > 0) map(0, outputs_at[k], 2, managers[2]);
    if (managers[3].size > 0) map(1, inputs_at[k], 1, managers[3]);
    bring(slave, EtherCatState::safe_operational);
    whole_counter_ += (managers[2].size > 0 ? 2U : 0U) + (managers[3].size > 0 ? 1U : 0U);
  }
  (void)cycle(patience_ns);
  for (Slave& slave : slaves_) bring(slave, EtherCatState::operational);
}

void EtherCatMaster::bring(Slave& slave, EtherCatState state) {
  constexpr std::uint8_t acknowledges = 0x10;
  std::vector<std::uint8_t> wanted;
  put_low_first(wanted, static_cast<std::uint64_t>(state) | acknowledges, 2);
  write(slave.station, 0x0120, wanted);
  const std::vector<std::uint8_t> status = read(slave.station, 0x0130, 6);
  if ((status[0] & 0x1F) != static_cast<std::uint8_t>(state))
    throw Error(fmt::format("slave {} does not become {} (status {:#04x}, code {:#06x})", slave.name,
                            to_string(state), status[0], low_first(&status[4], 2)));
}

bool EtherCatMaster::cycle(std::int64_t within_ns) {
  const Answer answer = ask(exchange_logical, 0, image_, within_ns);
  if (answer.counter != whole_counter_ || answer.data.size() != image_.size()) return false;
  std::copy(answer.data.begin() + static_cast<std::ptrdiff_t>(output_octets_), answer.data.end(),
            image_.begin() + static_cast<std::ptrdiff_t>(output_octets_));
  return true;
}

void EtherCatMaster::stop() {
  for (Slave& slave : slaves_) bring(slave, EtherCatState::init);
}

double EtherCatMaster::number(Bytes image, const Entry& entry) {
  std::uint64_t raw = 0;
  for (unsigned k = 0; k < std::min(64U, entry.bits); ++k) {
    const std::size_t bit = entry.at + k;
    if ((image[bit / 8] >> (bit % 8) & 1) != 0) raw |= std::uint64_t{1} << k;
  }
  switch (entry.type) {
    case 2:
      return static_cast<std::int8_t>(raw);
    case 3:
      return static_cast<std::int16_t>(raw);
    case 4:
      return static_cast<std::int32_t>(raw);
    case 8:
      return static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(raw)));
    case 0x11:
      return std::bit_cast<double>(raw);
    default:
      return static_cast<double>(raw);
  }
}

double EtherCatMaster::input(const Entry& entry) const { return number(image_, entry); }
double EtherCatMaster::output(const Entry& entry) const { return number(image_, entry); }

void EtherCatMaster::set(const Entry& entry, double value) {
  std::uint64_t raw = 0;
  if (entry.type == 8) {
    raw = std::bit_cast<std::uint32_t>(static_cast<float>(value));
  } else if (entry.type == 0x11) {
    raw = std::bit_cast<std::uint64_t>(value);
  } else {
    constexpr double most = 4294967295.0;
    raw =
        static_cast<std::uint64_t>(static_cast<std::int64_t>(std::clamp(std::nearbyint(value), -most, most)));
  }
  for (unsigned k = 0; k < std::min(64U, entry.bits); ++k) {
    const std::size_t bit = entry.at + k;
    const auto mask = static_cast<std::uint8_t>(1U << (bit % 8));
    image_[bit / 8] =
        static_cast<std::uint8_t>((raw >> k & 1) != 0 ? image_[bit / 8] | mask : image_[bit / 8] & ~mask);
  }
}

}  // namespace zavrek::wire
