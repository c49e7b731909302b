#include <algorithm>
#include <cmath>
#include <cstring>
#include <deque>

#include "wire/field/ethercat_parts.hpp"
#include "wire/field/little_endian.hpp"

namespace zavrek::wire {

using namespace internal;

namespace {

// A frame: Ethernet's head, 2 octets (length, type 1), then datagrams: command, index, address (4), length
// and whether more follow (2), interrupt (2), data, working counter (2). By example, reading the state of the
// slave at 1001h:
//   04 00 | 01 10 30 01 | 02 00 | 00 00 | 00 00 | 00 00   and back   ... | 08 00 | 01 00
constexpr std::size_t ethernet_head = 14, datagram_head = 10, counter_size = 2;
constexpr std::size_t memory_size = 0x2000;
constexpr std::size_t fmmus = 4, managers = 4;

enum Command : std::uint8_t {
  nop = 0,
  aprd = 1,
  apwr = 2,
  aprw = 3,
  fprd = 4,
  fpwr = 5,
  fprw = 6,
  brd = 7,
  bwr = 8,
  brw = 9,
  lrd = 10,
  lwr = 11,
  lrw = 12,
  armw = 13,
  frmw = 14
};

enum Register : std::uint16_t {
  reg_station = 0x0010,
  reg_link_control = 0x0100,
  reg_link_status = 0x0110,
  reg_control = 0x0120,
  reg_status = 0x0130,
  reg_status_code = 0x0134,
  reg_watchdog_divider = 0x0400,
  reg_watchdog_time = 0x0420,
  reg_watchdog_status = 0x0440,
  reg_eeprom_control = 0x0502,
  reg_eeprom_address = 0x0504,
  reg_eeprom_data = 0x0508,
  reg_fmmu = 0x0600,
  reg_manager = 0x0800,
  reg_receive_time = 0x0900,
  reg_system_time = 0x0910,
  reg_time_offset = 0x0920,
  reg_time_difference = 0x092C,
  reg_dc_end = 0x09C0,
  reg_ram = 0x1000
};

/// Codes of what went wrong with a state (61158-6-12, table 11).
enum StateCode : std::uint16_t {
  no_fault = 0,
  invalid_change = 0x0011,
  unknown_state = 0x0012,
  invalid_mailbox = 0x0016,
  invalid_outputs = 0x001D,
  invalid_inputs = 0x001E,
  watchdog_ran_out = 0x001B
};
constexpr std::uint8_t state_error = 0x10;

bool covers(std::uint16_t at, std::size_t size, std::uint16_t from, std::size_t to_size) {
  return at < from + to_size && at + size > from;
}

}  // namespace

class EtherCatSlave::Body {
 public:
  Body(EtherCatSettings given, ProcessImage& plant)
      : settings(std::move(given)),
        image(plant),
        memory(memory_size, 0),
        inputs(std::span(memory).subspan(inputs_at, image_bytes(settings.inputs))),
        outputs(std::span(memory).subspan(outputs_at, image_bytes(settings.outputs))),
        input_places(image_layout(settings.inputs)),
        output_places(image_layout(settings.outputs)),
        dictionary(object_dictionary(settings, inputs, outputs)),
        eeprom(slave_eeprom(settings)),
        asked(settings.outputs.size(), NAN) {
    set(0x0000, 0x11, 1);  // of a kind of its own, not a chip
    set(0x0001, 1, 1);
    set(0x0004, fmmus, 1);
    set(0x0005, managers, 1);
    set(0x0006, (memory_size - reg_ram) / 1024, 1);
    set(0x0007, 0x0F, 1);    // port 0
    set(0x0008, 0x000C, 2);  // bitwise FMMUs, clocks of 64 bits
    set(reg_link_status, 0x5611, 2);
    set(reg_status, static_cast<std::uint64_t>(EtherCatState::init), 1);
    set(reg_watchdog_divider, 0x09C2, 2);
    set(reg_watchdog_time, 1000, 2);  // of 100 us
    set(reg_watchdog_status, 1, 2);
    set(reg_eeprom_control, 0x0060, 2);  // eight octets are read at once
  }
  void set(std::uint16_t at, std::uint64_t value, int bytes) {
    for (int k = 0; k < bytes; ++k)
      memory[at + static_cast<std::size_t>(k)] = static_cast<std::uint8_t>(value >> (8 * k));
  }
  [[nodiscard]] std::uint64_t get(std::uint16_t at, int bytes) const { return low_first(&memory[at], bytes); }
  [[nodiscard]] EtherCatState state() const { return static_cast<EtherCatState>(memory[reg_status] & 0x0F); }
  [[nodiscard]] std::uint16_t manager_at(std::size_t k) const {
    return static_cast<std::uint16_t>(get(static_cast<std::uint16_t>(reg_manager + 8 * k), 2));
  }
  [[nodiscard]] std::size_t manager_size(std::size_t k) const {
    return get(static_cast<std::uint16_t>(reg_manager + 8 * k + 2), 2);
  }
  [[nodiscard]] bool manager_on(std::size_t k) const { return (memory[reg_manager + 8 * k + 6] & 1) != 0; }
  void set_full(std::size_t manager, bool full) {
    std::uint8_t& status = memory[reg_manager + 8 * manager + 5];
    status = static_cast<std::uint8_t>(full ? status | 8U : status & ~8U);
  }
  [[nodiscard]] bool is_full(std::size_t manager) const {
    return (memory[reg_manager + 8 * manager + 5] & 8) != 0;
  }

  // --- datagrams -------------------------------------------------------------------------------
  bool pass(std::span<std::uint8_t> frame, Now now) {
    present = now;
    if (frame.size() < ethernet_head + 2 + datagram_head + counter_size) return refuse();
    const std::size_t length = low_first(&frame[ethernet_head], 2) & 0x7FFU;
    const unsigned kind = frame[ethernet_head + 1] >> 4U;
    std::span<std::uint8_t> rest = frame.subspan(ethernet_head + 2);
    if (kind != 1 || length > rest.size()) return refuse();
    rest = rest.first(length);
    for (bool more = true; more;) {
      if (rest.size() < datagram_head + counter_size) return refuse();
      const std::uint64_t word = low_first(&rest[6], 2);
      const std::size_t size = word & 0x7FFU;
      more = (word & 0x8000U) != 0;
      if (rest.size() < datagram_head + size + counter_size) return refuse();
      execute(rest.first(datagram_head + size + counter_size), size);
      rest = rest.subspan(datagram_head + size + counter_size);
    }
    ++traffic.received;
    ++traffic.sent;
    frame[6] = static_cast<std::uint8_t>(frame[6] | 0x02U);  // it has been here
    return true;
  }
  bool refuse() {
    ++traffic.malformed;
    return false;
  }

  void execute(std::span<std::uint8_t> datagram, std::size_t size) {
    const std::uint8_t command = datagram[0];
    const auto position = static_cast<std::uint16_t>(low_first(&datagram[2], 2));
    const auto at = static_cast<std::uint16_t>(low_first(&datagram[4], 2));
    const std::span<std::uint8_t> data = datagram.subspan(datagram_head, size);
    unsigned counter = 0;
    const bool own = position == get(reg_station, 2), first = position == 0;
    switch (command) {
      case aprd:
      case apwr:
      case aprw:
        if (first) counter = access(at, data, command != apwr, command != aprd, false);
        break;
      case fprd:
      case fpwr:
      case fprw:
        if (own) counter = access(at, data, command != fpwr, command != fprd, false);
        break;
      case brd:
      case bwr:
      case brw:
        counter = access(at, data, command != bwr, command != brd, true);
        break;
      case armw:
        counter = access(at, data, first, !first, false);
        break;
      case frmw:
        counter = access(at, data, own, !own, false);
        break;
      case lrd:
      case lwr:
      case lrw:
        counter = logical(static_cast<std::uint32_t>(low_first(&datagram[2], 4)), data, command != lwr,
                          command != lrd);
        break;
      default:
        break;
    }
    const bool counted = command >= aprd && command <= brw;
    if ((counted && (command <= aprw || command >= brd)) || command == armw) {
      datagram[2] = static_cast<std::uint8_t>(position + 1);
      datagram[3] = static_cast<std::uint8_t>((position + 1) >> 8U);
    }
    const std::size_t end = datagram_head + size;
    const auto total = static_cast<std::uint16_t>(low_first(&datagram[end], 2) + counter);
    datagram[end] = static_cast<std::uint8_t>(total);
    datagram[end + 1] = static_cast<std::uint8_t>(total >> 8U);
  }

  /// What the working counter grows by: 1 for what was read, 1 for what was written, 2 of that where both was
  /// asked.
  unsigned access(std::uint16_t at, std::span<std::uint8_t> data, bool reads, bool writes, bool combines) {
    if (at + data.size() > memory.size()) return 0;
    const std::vector<std::uint8_t> wanted(data.begin(), data.end());
    unsigned counter = 0;
    if (reads && read(at, data, combines)) ++counter;
    if (writes && write(at, wanted)) counter += reads ? 2 : 1;
    return counter;
  }

  bool read(std::uint16_t at, std::span<std::uint8_t> into, bool combines) {
    const bool mailbox = manager_on(1) && covers(at, into.size(), manager_at(1), manager_size(1));
    if (mailbox && (!is_full(1) || at != manager_at(1))) return false;
    if (covers(at, into.size(), inputs_at, inputs.size()) && state() >= EtherCatState::safe_operational)
      show_inputs();
    if (covers(at, into.size(), reg_system_time, 8)) set(reg_system_time, system_time(), 8);
    for (std::size_t k = 0; k < into.size(); ++k)
      into[k] = static_cast<std::uint8_t>(combines ? into[k] | memory[at + k] : memory[at + k]);
    if (mailbox && at + into.size() >= manager_at(1) + manager_size(1)) {
      set_full(1, false);
      fill_mailbox();
    }
    return true;
  }

  bool write(std::uint16_t at, Bytes data) {
    if (at >= reg_ram) return write_ram(at, data);
    // What is written of it takes effect once all of the datagram is there.
    for (std::size_t k = 0; k < data.size(); ++k) {
      const std::size_t place = at + k;
      const bool keeps =
          (place >= reg_station && place < reg_station + 2) ||
          (place >= reg_link_control && place < reg_link_control + 4) ||
          (place >= reg_watchdog_divider && place < reg_watchdog_status) ||
          (place >= 0x0500 && place < 0x0502) ||
          (place >= reg_eeprom_address && place < reg_eeprom_data + 8) ||
          (place >= reg_fmmu && place < reg_fmmu + 16 * fmmus) ||
          (place >= reg_manager && place < reg_manager + 8 * managers && (place - reg_manager) % 8 != 5) ||
          (place >= reg_time_offset && place < reg_time_difference) ||
          (place >= 0x0930 && place < reg_dc_end);
      if (keeps) memory[place] = data[k];
    }
    if (covers(at, data.size(), reg_control, 1)) change_state(data[reg_control - at]);
    if (at <= reg_eeprom_control && at + data.size() >= reg_eeprom_control + 2U)
      serve_eeprom(static_cast<unsigned>(low_first(&data[reg_eeprom_control - at], 2)));
    if (covers(at, data.size(), reg_receive_time, 4)) latch_time();
    if (at == reg_system_time && data.size() >= 4)
      compare_time(low_first(data.data(), data.size() >= 8 ? 8 : 4), data.size() >= 8);
    return true;
  }

  bool write_ram(std::uint16_t at, Bytes data) {
    const bool mailbox = manager_on(0) && covers(at, data.size(), manager_at(0), manager_size(0));
    if (mailbox && (is_full(0) || at != manager_at(0))) return false;
    if (manager_on(1) && covers(at, data.size(), manager_at(1), manager_size(1))) return false;
    if (covers(at, data.size(), inputs_at, inputs.size())) return false;
    std::copy(data.begin(), data.end(), memory.begin() + at);
    if (mailbox && at + data.size() >= manager_at(0) + manager_size(0)) take_mailbox();
    if (manager_on(2) && covers(at, data.size(), outputs_at, outputs.size())) take_outputs();
    return true;
  }

  /// Bits of the logical address space through each FMMU (61158-4-12, 6.6).
  unsigned logical(std::uint32_t address, std::span<std::uint8_t> data, bool reads, bool writes) {
    unsigned counter = 0;
    const std::vector<std::uint8_t> wanted(data.begin(), data.end());
    for (std::size_t k = 0; k < fmmus; ++k) {
      const std::uint8_t* fmmu = &memory[reg_fmmu + 16 * k];
      const std::uint64_t length = low_first(fmmu + 4, 2);
      if ((fmmu[12] & 1) == 0 || length == 0) continue;
      const bool of_reading = (fmmu[11] & 1) != 0, of_writing = (fmmu[11] & 2) != 0;
      const std::uint64_t start = 8 * low_first(fmmu, 4) + (fmmu[6] & 7U);
      const std::uint64_t end = 8 * (low_first(fmmu, 4) + length - 1) + (fmmu[7] & 7U) + 1;
      const std::uint64_t physical = 8 * low_first(fmmu + 8, 2) + (fmmu[10] & 7U);
      const std::uint64_t from = std::max<std::uint64_t>(start, 8ULL * address);
      const std::uint64_t to = std::min<std::uint64_t>(end, 8ULL * (address + data.size()));
      if (from >= to || physical + (to - start) > 8 * memory.size()) continue;
      const Range range{physical + from - start, from - 8ULL * address, to - from};
      if (reads && of_reading && copy_out(range, data)) ++counter;
      if (writes && of_writing && copy_in(range, wanted)) counter += reads ? 2 : 1;
    }
    return counter;
  }
  struct Range {
    std::uint64_t physical, place, bits;  // first bit in memory, in the datagram; how many
  };
  bool copy_out(const Range& range, std::span<std::uint8_t> data) {
    if (state() < EtherCatState::safe_operational) return false;
    show_inputs();
    for (std::uint64_t k = 0; k < range.bits; ++k) {
      const std::uint64_t from = range.physical + k, to = range.place + k;
      const auto mask = static_cast<std::uint8_t>(1U << (to % 8));
      const bool on = (memory[from / 8] >> (from % 8) & 1) != 0;
      data[to / 8] = static_cast<std::uint8_t>(on ? data[to / 8] | mask : data[to / 8] & ~mask);
    }
    return true;
  }
  bool copy_in(const Range& range, Bytes data) {
    const std::size_t first = range.physical / 8, last = (range.physical + range.bits - 1) / 8;
    const bool within = first >= outputs_at && last < outputs_at + outputs.size();
    if (!within || !manager_on(2) || state() < EtherCatState::safe_operational) return false;
    for (std::uint64_t k = 0; k < range.bits; ++k) {
      const std::uint64_t to = range.physical + k, from = range.place + k;
      const auto mask = static_cast<std::uint8_t>(1U << (to % 8));
      const bool on = (data[from / 8] >> (from % 8) & 1) != 0;
      memory[to / 8] = static_cast<std::uint8_t>(on ? memory[to / 8] | mask : memory[to / 8] & ~mask);
    }
    take_outputs();
    return true;
  }

  // --- states ----------------------------------------------------------------------------------
  void change_state(std::uint8_t wanted) {
    const auto to = static_cast<EtherCatState>(wanted & 0x0F);
    const bool acknowledges = (wanted & state_error) != 0;
    if ((memory[reg_status] & state_error) != 0 && !acknowledges) return;
    if (acknowledges) enter(state(), no_fault);
    const auto rank = [](EtherCatState state) {
      return state == EtherCatState::init               ? 0
             : state == EtherCatState::preoperational   ? 1
             : state == EtherCatState::safe_operational ? 2
                                                        : 3;
    };
    const int is = rank(state()), will = rank(to);
    if (to != EtherCatState::init && to != EtherCatState::preoperational &&
        to != EtherCatState::safe_operational && to != EtherCatState::operational)
      return enter(state(), unknown_state);
    if (will > is + 1) return enter(state(), invalid_change);
    const auto fits = [&](std::size_t manager, std::uint16_t at, std::size_t size) {
      return size == 0 || (manager_on(manager) && manager_at(manager) == at && manager_size(manager) == size);
    };
    if (will >= 1 && is < 1 &&
        (!fits(0, mailbox_out_at, mailbox_size) || !fits(1, mailbox_in_at, mailbox_size)))
      return enter(state(), invalid_mailbox);
    if (will >= 2 && is < 2 && !fits(2, outputs_at, outputs.size())) return enter(state(), invalid_outputs);
    if (will >= 2 && is < 2 && !fits(3, inputs_at, inputs.size())) return enter(state(), invalid_inputs);
    if (to == EtherCatState::init) {
      answers.clear();
      set_full(1, false);
    }
    enter(to, no_fault);
    written_ns = present.steady_ns;
    if (to == EtherCatState::operational) take_outputs();
  }
  void enter(EtherCatState to, StateCode code) {
    set(reg_status, static_cast<std::uint64_t>(to) | (code != no_fault ? state_error : 0U), 1);
    set(reg_status_code, code, 2);
    if (code != no_fault) ++traffic.refused;
  }

  /// By its divider, of 25 MHz, plus two.
  [[nodiscard]] std::int64_t watchdog_ns() const {
    const auto unit = static_cast<std::int64_t>(get(reg_watchdog_divider, 2)) + 2;
    return 40 * unit * static_cast<std::int64_t>(get(reg_watchdog_time, 2));
  }
  void poll(Now now) {
    present = now;
    const std::int64_t most_ns = watchdog_ns();
    const bool watched = state() == EtherCatState::operational && !outputs.empty() && most_ns > 0;
    if (!watched || now.steady_ns - written_ns <= most_ns) return;
    enter(EtherCatState::safe_operational, watchdog_ran_out);
    set(reg_watchdog_status, 0, 2);
    ++traffic.lost;
  }

  // --- process images --------------------------------------------------------------------------
  void show_inputs() {
    std::int64_t utc_ns = 0;
    if (!image.read(values, utc_ns)) return;
    for (std::size_t k = 0; k < settings.inputs.size(); ++k)
      put_entry(inputs, settings.inputs[k], input_places[k], values[settings.inputs[k].place],
                traffic.saturated);
  }
  /// They count in operation only.
  void take_outputs() {
    written_ns = present.steady_ns;
    if (state() != EtherCatState::operational) return;
    set(reg_watchdog_status, 1, 2);
    for (std::size_t k = 0; k < settings.outputs.size(); ++k) {
      const double value = take_entry(outputs, settings.outputs[k], output_places[k]);
      if (value == asked[k]) continue;
      asked[k] = value;
      const std::size_t place = settings.outputs[k].place;
      if (!image.allows(place, value) || image.ask(place, value) == 0) ++traffic.refused;
    }
  }

  // --- mailbox ---------------------------------------------------------------------------------
  void take_mailbox() {
    constexpr std::size_t most_answers = 8;
    if (state() == EtherCatState::init || answers.size() >= most_answers) return;
    const Bytes message = Bytes(memory).subspan(manager_at(0), manager_size(0));
    mailbox_count = mailbox_count % 7 + 1;
    std::vector<std::uint8_t> answer = answer_mailbox(dictionary, message, mailbox_count);
    if (answer.empty()) return;
    answers.push_back(std::move(answer));
    if (!is_full(1)) fill_mailbox();
  }
  void fill_mailbox() {
    if (answers.empty() || !manager_on(1)) return;
    const std::vector<std::uint8_t>& answer = answers.front();
    const std::size_t size = std::min(answer.size(), manager_size(1));
    if (manager_at(1) + manager_size(1) > memory.size()) return;
    std::fill_n(memory.begin() + manager_at(1), manager_size(1), std::uint8_t{0});
    std::copy_n(answer.begin(), size, memory.begin() + manager_at(1));
    answers.pop_front();
    set_full(1, true);
  }

  // --- EEPROM, clocks --------------------------------------------------------------------------
  /// A command of bits 8 to 10: 1 reads eight octets, 2 would write.
  void serve_eeprom(unsigned control) {
    constexpr unsigned reads = 1, writes = 2, refused = 1U << 13U;
    const unsigned command = control >> 8U & 7U;
    unsigned status = 0x0060;
    if (command == reads) {
      const std::size_t at = 2 * get(reg_eeprom_address, 4);
      for (std::size_t k = 0; k < 8; ++k)
        memory[reg_eeprom_data + k] =
            at < eeprom.size() && at + k < eeprom.size() ? eeprom[at + k] : std::uint8_t{0xFF};
    } else if (command == writes) {
      status |= refused;
    }
    set(reg_eeprom_control, status, 2);
  }
  [[nodiscard]] std::uint64_t system_time() const {
    return static_cast<std::uint64_t>(present.steady_ns + corrected_ns) + get(reg_time_offset, 8);
  }
  void latch_time() {
    set(reg_receive_time, static_cast<std::uint64_t>(present.steady_ns), 4);
    set(0x0918, static_cast<std::uint64_t>(present.steady_ns + corrected_ns), 8);
  }
  /// The reference clock's time comes by: an eighth of what it is off is taken over.
  void compare_time(std::uint64_t reference, bool whole) {
    const std::uint64_t mine = system_time();
    const auto off = whole ? static_cast<std::int64_t>(mine - reference)
                           : static_cast<std::int64_t>(
                                 static_cast<std::int32_t>(static_cast<std::uint32_t>(mine - reference)));
    const std::uint64_t size =
        off < 0 ? std::uint64_t{0} - static_cast<std::uint64_t>(off) : static_cast<std::uint64_t>(off);
    constexpr std::uint64_t most = 0x7FFFFFFF;
    set(reg_time_difference, std::min(size, most) | (off < 0 ? 0x80000000U : 0U), 4);
    if (size < 1'000'000'000) corrected_ns -= off / 8;
  }

  EtherCatSettings settings;
  ProcessImage& image;
  Traffic traffic;
  std::vector<std::uint8_t> memory;
  std::span<std::uint8_t> inputs, outputs;
  std::vector<EntryAt> input_places, output_places;
  std::vector<CoeObject> dictionary;
  std::vector<std::uint8_t> eeprom;
  std::vector<double> values, asked;
  std::deque<std::vector<std::uint8_t>> answers;
  unsigned mailbox_count = 0;
  Now present;
  std::int64_t written_ns = 0, corrected_ns = 0;
};

EtherCatSlave::EtherCatSlave(EtherCatSettings settings, ProcessImage& image)
    : body_(std::make_unique<Body>(std::move(settings), image)) {}
EtherCatSlave::~EtherCatSlave() = default;
bool EtherCatSlave::pass(std::span<std::uint8_t> frame, Now now) { return body_->pass(frame, now); }
void EtherCatSlave::poll(Now now) { body_->poll(now); }
EtherCatState EtherCatSlave::state() const noexcept { return body_->state(); }
const Traffic& EtherCatSlave::traffic() const noexcept { return body_->traffic; }
std::size_t EtherCatSlave::input_bytes() const noexcept { return body_->inputs.size(); }
std::size_t EtherCatSlave::output_bytes() const noexcept { return body_->outputs.size(); }

}  // namespace zavrek::wire
