// The server: what a request touches, what may be written, and libmodbus, which writes the answers.
#include <algorithm>
#include <array>

#include <fcntl.h>
#include <sys/socket.h>
#include <unistd.h>

#include "wire/field/modbus_parts.hpp"
#include "wire/field/party_over.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/modbus.hpp"

namespace zavrek::wire {

using internal::FreeContext;
using internal::FreeMapping;
using internal::high_first_16;

namespace {

constexpr std::size_t most_pdu = 253;   // V1.1b3, 4.1
constexpr std::size_t mbap_header = 7;  // transaction, protocol, length, unit
constexpr int most_address = 65'535;
constexpr std::int64_t silence_ns = 4'000'000;  // that ends a frame on a line: 3.5 letters at 9,600 bit/s
constexpr std::int64_t longest_ask_ns = 1'000'000'000;

/// What a request touches.
struct Touched {
  ModbusTable table = ModbusTable::coils;
  int first = 0, count = 0;
  bool writes = false;
};

enum Exception : std::uint8_t {
  illegal_function = 1,
  illegal_address = 2,
  illegal_value = 3,
  device_failure = 4,
  device_busy = 6,
  target_silent = 11
};

/// How long the request of a function is, its function included; 0 for one that is not known here.
std::size_t pdu_size(Bytes pdu) {
  switch (pdu[0]) {
    case MODBUS_FC_READ_COILS:
    case MODBUS_FC_READ_DISCRETE_INPUTS:
    case MODBUS_FC_READ_HOLDING_REGISTERS:
    case MODBUS_FC_READ_INPUT_REGISTERS:
    case MODBUS_FC_WRITE_SINGLE_COIL:
    case MODBUS_FC_WRITE_SINGLE_REGISTER:
      return 5;
    case MODBUS_FC_WRITE_MULTIPLE_COILS:
    case MODBUS_FC_WRITE_MULTIPLE_REGISTERS:
      return pdu.size() < 6 ? 6 : 6U + pdu[5];
    case MODBUS_FC_MASK_WRITE_REGISTER:
      return 7;
    case MODBUS_FC_WRITE_AND_READ_REGISTERS:
      return pdu.size() < 10 ? 10 : 10U + pdu[9];
    default:
      return 0;
  }
}

/// What a request reads and writes; empty where its numbers contradict each other.
std::vector<Touched> touched_by(Bytes pdu) {
  const int first = static_cast<int>(high_first_16(&pdu[1])),
            count = static_cast<int>(high_first_16(&pdu[3]));
  const auto within = [](int number, int most) { return number >= 1 && number <= most; };
  switch (pdu[0]) {
    case MODBUS_FC_READ_COILS:
      return within(count, 2000) ? std::vector<Touched>{{ModbusTable::coils, first, count}}
                                 : std::vector<Touched>();
    case MODBUS_FC_READ_DISCRETE_INPUTS:
      return within(count, 2000) ? std::vector<Touched>{{ModbusTable::discrete_inputs, first, count}}
                                 : std::vector<Touched>();
    case MODBUS_FC_READ_HOLDING_REGISTERS:
      return within(count, 125) ? std::vector<Touched>{{ModbusTable::holding_registers, first, count}}
                                : std::vector<Touched>();
    case MODBUS_FC_READ_INPUT_REGISTERS:
      return within(count, 125) ? std::vector<Touched>{{ModbusTable::input_registers, first, count}}
                                : std::vector<Touched>();
    case MODBUS_FC_WRITE_SINGLE_COIL:
      return count == 0 || count == 0xFF00 ? std::vector<Touched>{{ModbusTable::coils, first, 1, true}}
                                           : std::vector<Touched>();
    case MODBUS_FC_WRITE_SINGLE_REGISTER:
    case MODBUS_FC_MASK_WRITE_REGISTER:
      return {{ModbusTable::holding_registers, first, 1, true}};
    case MODBUS_FC_WRITE_MULTIPLE_COILS:
      if (!within(count, 1968) || pdu[5] != (count + 7) / 8) return {};
      return {{ModbusTable::coils, first, count, true}};
    case MODBUS_FC_WRITE_MULTIPLE_REGISTERS:
      if (!within(count, 123) || pdu[5] != 2 * count) return {};
      return {{ModbusTable::holding_registers, first, count, true}};
    default: {
      const int writes_at = static_cast<int>(high_first_16(&pdu[5])),
                writes = static_cast<int>(high_first_16(&pdu[7]));
      if (!within(count, 125) || !within(writes, 121) || pdu[9] != 2 * writes) return {};
      return {{ModbusTable::holding_registers, writes_at, writes, true},
              {ModbusTable::holding_registers, first, count}};
    }
  }
}

}  // namespace

/// What all conversations of a server share: the map in its order, the tables as libmodbus has them.
namespace internal::meter {

class Body {
 public:
  Body(ModbusMap map, ProcessImage& image) : map_(std::move(map)), image_(image) {
    for (const ModbusPoint& point : map_.points) {
      auto& table = tables_[static_cast<std::size_t>(point.table)];
      table.resize(std::max(table.size(), static_cast<std::size_t>(point.address) + point.size()), nullptr);
      for (std::size_t k = 0; k < point.size(); ++k)
        table[static_cast<std::size_t>(point.address) + k] = &point;
    }
    const auto size = [&](ModbusTable table) {
      return static_cast<unsigned>(tables_[static_cast<std::size_t>(table)].size());
    };
    mapping_.reset(modbus_mapping_new_start_address(
        0, size(ModbusTable::coils), 0, size(ModbusTable::discrete_inputs), 0,
        size(ModbusTable::holding_registers), 0, size(ModbusTable::input_registers)));
    if (!mapping_) throw Error("no memory for the tables of a Modbus server");
  }
  [[nodiscard]] const ModbusMap& map() const noexcept { return map_; }
  [[nodiscard]] ProcessImage& image() noexcept { return image_; }
  [[nodiscard]] modbus_mapping_t* mapping() noexcept { return mapping_.get(); }
  [[nodiscard]] const ModbusPoint* at(ModbusTable table, int address) const {
    const auto& points = tables_[static_cast<std::size_t>(table)];
    return static_cast<std::size_t>(address) < points.size() ? points[static_cast<std::size_t>(address)]
                                                             : nullptr;
  }
  /// Every address is one of the map; of what is written, whole numbers that may be.
  [[nodiscard]] bool knows(const Touched& touched) const {
    for (int k = touched.first; k < touched.first + touched.count; ++k) {
      const ModbusPoint* point = at(touched.table, k);
      if (!point || (touched.writes && !point->asked)) return false;
    }
    const ModbusPoint *first = at(touched.table, touched.first),
                      *last = at(touched.table, touched.first + touched.count - 1);
    return !touched.writes ||
           (first->address == touched.first &&
            last->address + static_cast<int>(last->size()) == touched.first + touched.count);
  }
  /// The tables show what the image does.
  [[nodiscard]] bool fill(const Touched& touched) {
    std::int64_t utc_ns = 0;
    if (!image_.read(values_, utc_ns)) return false;
    for_each(touched, [&](const ModbusPoint& point) {
      const double value = values_[point.shown];
      if (std::uint8_t* bit = bit_of(point))
        *bit = value > 0.5 ? 1 : 0;
      else
        put_number(value, point.type, map_.order, register_of(point), traffic.saturated);
    });
    return true;
  }
  template <class Act>
  void for_each(const Touched& touched, Act&& act) {
    const ModbusPoint* before = nullptr;
    for (int k = touched.first; k < touched.first + touched.count; ++k) {
      const ModbusPoint* point = at(touched.table, k);
      if (point != before) act(*point);
      before = point;
    }
  }
  void scan(Now /*now*/) {}
  Traffic traffic;

 private:
  [[nodiscard]] std::uint8_t* bit_of(const ModbusPoint& point) {
    if (point.table == ModbusTable::coils) return mapping_->tab_bits + point.address;
    if (point.table == ModbusTable::discrete_inputs) return mapping_->tab_input_bits + point.address;
    return nullptr;
  }
  [[nodiscard]] std::uint16_t* register_of(const ModbusPoint& point) {
    return (point.table == ModbusTable::holding_registers ? mapping_->tab_registers
                                                          : mapping_->tab_input_registers) +
           point.address;
  }
  ModbusMap map_;
  ProcessImage& image_;
  std::array<std::vector<const ModbusPoint*>, 4> tables_;  // by address
  std::unique_ptr<modbus_mapping_t, FreeMapping> mapping_;
  std::vector<double> values_;
};

/// One connection. Whole requests are handed to libmodbus through a pair of sockets, so that it never waits
/// for anybody: a peer that sends half a request keeps nobody else waiting.
class Talk final : public Conversation {
 public:
  Talk(Body& body, Now /*now*/) : body_(body) {
    if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0, pair_.data()) != 0) {
      end("no sockets");
      return;
    }
    context_.reset(body_.map().serial ? modbus_new_rtu("/dev/null", 9600, 'N', 8, 1)
                                      : modbus_new_tcp("127.0.0.1", 502));
    if (!context_) {
      end("no memory");
      return;
    }
    (void)modbus_set_slave(context_.get(), body_.map().unit);
    (void)modbus_set_socket(context_.get(), pair_[1]);
    (void)modbus_set_response_timeout(context_.get(), 0, 1);
    (void)modbus_set_byte_timeout(context_.get(), 0, 1000);
    (void)modbus_set_indication_timeout(context_.get(), 0, 1000);
  }
  ~Talk() override {
    for (const int one : pair_) {
      if (one >= 0) ::close(one);
    }
  }
  Talk(const Talk&) = delete;
  Talk& operator=(const Talk&) = delete;

  void receive(Bytes bytes, Now now) override {
    in_.insert(in_.end(), bytes.begin(), bytes.end());
    last_heard_ns_ = now.steady_ns;
    if (in_.size() > 64 * (mbap_header + most_pdu)) return end("requests without waiting for answers");
    if (!body_.map().serial) take_frames(now);
  }
  void poll(Now now) override {
    if (waits_) settle(now);
    if (body_.map().serial && !in_.empty() && now.steady_ns - last_heard_ns_ >= silence_ns) take_line(now);
    if (!body_.map().serial) take_frames(now);
  }

 private:
  void take_frames(Now now) {
    while (!waits_ && over().empty() && in_.size() >= mbap_header) {
      const std::size_t length = high_first_16(&in_[4]);
      if (high_first_16(&in_[2]) != 0 || length < 2 || length > most_pdu + 1) {
        ++body_.traffic.malformed;
        return end("no frame of Modbus");
      }
      if (in_.size() < 6 + length) return;
      const std::vector<std::uint8_t> frame(in_.begin(),
                                            in_.begin() + static_cast<std::ptrdiff_t>(6 + length));
      in_.erase(in_.begin(), in_.begin() + static_cast<std::ptrdiff_t>(6 + length));
      take(frame, mbap_header, 0, now);
    }
  }
  /// What came until the line fell silent.
  void take_line(Now now) {
    if (waits_) return;
    const std::vector<std::uint8_t> frame = std::move(in_);
    in_.clear();
    if (frame.size() < 4 || frame.size() > most_pdu + 3 ||
        line_check(Bytes(frame).first(frame.size() - 2)) !=
            (frame[frame.size() - 2] | static_cast<unsigned>(frame.back()) << 8U)) {
      ++body_.traffic.malformed;
      return;
    }
    if (frame[0] == body_.map().unit || frame[0] == 0) take(frame, 1, 2, now);
  }
  /// CRC of a serial line (V1.02, 6.2.2).
  static unsigned line_check(Bytes bytes) {
    unsigned sum = 0xFFFF;
    for (const std::uint8_t byte : bytes) {
      sum ^= byte;
      for (int bit = 0; bit < 8; ++bit) sum = (sum & 1U) != 0 ? sum >> 1U ^ 0xA001U : sum >> 1U;
    }
    return sum;
  }

  void take(const std::vector<std::uint8_t>& frame, std::size_t header, std::size_t trailer, Now now) {
    ++body_.traffic.received;
    const Bytes pdu = Bytes(frame).subspan(header, frame.size() - header - trailer);
    const std::size_t wanted = pdu_size(pdu);
    request_ = frame;
    if (!body_.map().serial && frame[6] != body_.map().unit && frame[6] != 0 && frame[6] != 0xFF)
      return refuse(target_silent);
    if (wanted == 0) return refuse(illegal_function);
    if (wanted != pdu.size()) {
      ++body_.traffic.malformed;
      return refuse(illegal_value);
    }
    const std::vector<Touched> touched = touched_by(pdu);
    if (touched.empty()) return refuse(illegal_value);
    for (const Touched& one : touched) {
      if (one.first + one.count > most_address + 1 || !body_.knows(one)) return refuse(illegal_address);
    }
    for (const Touched& one : touched) {
      if (!body_.fill(one)) return refuse(device_busy);
    }
    if (touched.front().writes)
      ask(touched.front(), pdu, now);
    else
      answer();
  }

  /// The registers, or coils, as the request wants them.
  [[nodiscard]] std::vector<std::uint16_t> wanted_by(const Touched& touched, Bytes pdu) {
    std::vector<std::uint16_t> words(static_cast<std::size_t>(touched.count));
    switch (pdu[0]) {
      case MODBUS_FC_WRITE_SINGLE_COIL:
        words[0] = pdu[3] == 0xFF ? 1 : 0;
        break;
      case MODBUS_FC_WRITE_MULTIPLE_COILS:
        for (std::size_t k = 0; k < words.size(); ++k) words[k] = pdu[6 + k / 8] >> (k % 8) & 1U;
        break;
      case MODBUS_FC_WRITE_SINGLE_REGISTER:
        words[0] = static_cast<std::uint16_t>(high_first_16(&pdu[3]));
        break;
      case MODBUS_FC_MASK_WRITE_REGISTER: {
        const unsigned is = body_.mapping()->tab_registers[touched.first], keep = high_first_16(&pdu[3]);
        words[0] = static_cast<std::uint16_t>((is & keep) | (high_first_16(&pdu[5]) & ~keep));
        break;
      }
      default: {
        const std::size_t data = pdu[0] == MODBUS_FC_WRITE_MULTIPLE_REGISTERS ? 6 : 10;
        for (std::size_t k = 0; k < words.size(); ++k)
          words[k] = static_cast<std::uint16_t>(high_first_16(&pdu[data + 2 * k]));
      }
    }
    return words;
  }

  void ask(const Touched& touched, Bytes pdu, Now now) {
    const std::vector<std::uint16_t> words = wanted_by(touched, pdu);
    std::vector<std::pair<std::size_t, double>> wishes;
    body_.for_each(touched, [&](const ModbusPoint& point) {
      const std::uint16_t* word = &words[static_cast<std::size_t>(point.address - touched.first)];
      wishes.emplace_back(*point.asked, touched.table == ModbusTable::coils
                                            ? static_cast<double>(*word)
                                            : take_number(word, point.type, body_.map().order));
    });
    for (const auto& [place, value] : wishes) {
      if (!body_.image().allows(place, value)) return refuse(illegal_value);
    }
    tickets_.clear();
    for (const auto& [place, value] : wishes) {
      tickets_.push_back(body_.image().ask(place, value));
      if (tickets_.back() == 0) return refuse(device_busy);
    }
    waits_ = true;
    asked_ns_ = now.steady_ns;
    settle(now);
  }
  void settle(Now now) {
    bool all_done = true;
    for (const std::uint64_t ticket : tickets_) {
      const ProcessImage::Outcome outcome = body_.image().outcome(ticket);
      if (outcome == ProcessImage::Outcome::waiting && now.steady_ns - asked_ns_ < longest_ask_ns) return;
      if (outcome == ProcessImage::Outcome::waiting) return refuse(device_busy);
      all_done = all_done && outcome == ProcessImage::Outcome::done;
    }
    if (all_done)
      answer();
    else
      refuse(device_failure);
  }

  void answer() {
    hand_over([&](const std::uint8_t* query, int size) {
      (void)modbus_reply(context_.get(), query, size, body_.mapping());
    });
  }
  void refuse(unsigned code) {
    ++body_.traffic.refused;
    hand_over([&](const std::uint8_t* query, int /*size*/) {
      (void)modbus_reply_exception(context_.get(), query, code);
    });
  }
  template <class Reply>
  void hand_over(Reply&& reply) {
    waits_ = false;
    std::array<std::uint8_t, MODBUS_MAX_ADU_LENGTH> buffer{};
    // A request that libmodbus would wait for the rest of, or for nobody's sake, is one it need not see.
    std::copy(request_.begin(), request_.end(), buffer.begin());
    const bool broadcast = body_.map().serial && request_[0] == 0;
    reply(buffer.data(), static_cast<int>(request_.size()));
    std::array<std::uint8_t, MODBUS_MAX_ADU_LENGTH> answered;
    for (;;) {
      const ssize_t got = ::read(pair_[0], answered.data(), answered.size());
      if (got <= 0) break;
      if (!broadcast) send(Bytes(answered).first(static_cast<std::size_t>(got)));
      ++body_.traffic.sent;
    }
  }

  Body& body_;
  std::array<int, 2> pair_{-1, -1};
  std::unique_ptr<modbus_t, FreeContext> context_;
  std::vector<std::uint8_t> in_, request_;
  std::int64_t last_heard_ns_ = 0, asked_ns_ = 0;
  bool waits_ = false;  // for what was asked of the plant
  std::vector<std::uint64_t> tickets_;
};

}  // namespace internal::meter

std::unique_ptr<Party> make_modbus_server(ModbusMap map, ProcessImage& image) {
  return std::make_unique<internal::PartyOver<internal::meter::Body, internal::meter::Talk>>(std::move(map),
                                                                                             image);
}

}  // namespace zavrek::wire
