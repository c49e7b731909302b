#include <array>
#include <cmath>
#include <map>
#include <utility>

#include "wire/field/dnp3_objects.hpp"
#include "wire/field/little_endian.hpp"
#include "wire/field/party_over.hpp"
#include "wire/field/seconds.hpp"

namespace zavrek::wire {

using namespace internal;

namespace {

constexpr std::uint8_t latch_on = 3, latch_off = 4;

/// An object of a response as a number or a state; nothing for one that carries none.
struct TakenObject {
  bool good = true;
  double value = 0;
};
std::optional<TakenObject> take_object(std::uint8_t group, std::uint8_t variation, Bytes object) {
  TakenObject taken;
  switch (group) {
    case 1:
    case 2:
    case 10:
      taken.good = (object[0] & flag_online) != 0;
      taken.value = (object[0] & flag_state) != 0 ? 1 : 0;
      return taken;
    case 30:
    case 32:
    case 40: {
      const bool flagged = group != 30 || (variation != 3 && variation != 4);
      Dnp3Analogue type = Dnp3Analogue::float32;
      if (group == 40)
        type = static_cast<Dnp3Analogue>(variation - 1);
      else if (variation == 1 || variation == 3)
        type = Dnp3Analogue::int32;
      else if (variation == 2 || variation == 4)
        type = Dnp3Analogue::int16;
      taken.good = !flagged || (object[0] & flag_online) != 0;
      taken.value = take_dnp3_number(object.subspan(flagged ? 1 : 0), type);
      return taken;
    }
    default:
      return std::nullopt;
  }
}

}  // namespace

namespace internal::master {

class Talk;

class Body {
 public:
  Body(Dnp3Settings given, ProcessImage& plant) : settings(std::move(given)), image(plant) {
    for (const Dnp3Binary& point : settings.binaries) binaries[point.index] = point.place;
    for (const Dnp3Number& point : settings.numbers) numbers[point.index] = point.place;
  }
  void take(bool binary, int index, double value) {
    const auto& known = binary ? binaries : numbers;
    const auto at = known.find(index);
    if (at == known.end()) return;
    double& last = asked.try_emplace({binary, index}, NAN).first->second;
    if (value == last) return;
    last = value;
    if (!image.allows(at->second, value) || image.ask(at->second, value) == 0) ++traffic.refused;
  }
  Dnp3Settings settings;
  ProcessImage& image;
  void scan(Now now);

  Traffic traffic;
  std::map<int, std::size_t> binaries, numbers;  // index to what is asked
  std::map<std::pair<bool, int>, double> asked;
  std::vector<double> values;
  std::int64_t utc_ns = 0;
  bool shows = false;
};

class Talk final : public Dnp3Link {
 public:
  Talk(Body& body, Now now)
      : Dnp3Link(body.settings.master, {body.settings.address}, true, body.traffic),
        body_(body),
        next_integrity_ns_(now.steady_ns),
        orders_(body.settings.controls.size() + body.settings.set_points.size()) {}

  void poll(Now now) override {
    if (!over().empty()) return;
    if (awaits_ != Awaits::nothing) {
      if (now.steady_ns < awaits_until_ns_) return;
      ++body_.traffic.lost;
      order_ = nullptr;
      awaits_ = Awaits::nothing;
    }
    ask_next(now);
  }

 private:
  enum class Awaits : std::uint8_t { nothing, data, write, recorded, disabled, enabled, selected, operated };
  struct Order {
    double said = NAN;
    std::vector<std::uint8_t> objects;
  };

  void request(std::uint8_t function, Bytes objects, Awaits what, Now now) {
    number_ = (number_ + 1) & 15U;
    std::vector<std::uint8_t> fragment{static_cast<std::uint8_t>(dnp3_first | dnp3_final | number_),
                                       function};
    fragment.insert(fragment.end(), objects.begin(), objects.end());
    put(fragment);
    awaits_ = what;
    awaits_number_ = number_;
    awaits_until_ns_ = now.steady_ns + ns_of(body_.settings.confirmation_s);
  }

  /// What is due, the most pressing first.
  void ask_next(Now now) {
    static constexpr std::array<std::uint8_t, 9> events{60, 2, 6, 60, 3, 6, 60, 4, 6};
    static constexpr std::array<std::uint8_t, 12> all{60, 2, 6, 60, 3, 6, 60, 4, 6, 60, 1, 6};
    static constexpr std::array<std::uint8_t, 6> restart_seen{80, 1, 0, 7, 7, 0};
    if (!disabled_ && body_.settings.unsolicited) return request(dnp3_disable, events, Awaits::disabled, now);
    if ((indications_ & iin_restart) != 0) {
      indications_ &= ~iin_restart;
      return request(dnp3_write, restart_seen, Awaits::write, now);
    }
    if (recorded_) return set_clock(now);
    if ((indications_ & iin_need_time) != 0) {
      recorded_utc_ns_ = now.utc_ns;
      indications_ &= ~iin_need_time;
      return request(dnp3_record_time, {}, Awaits::recorded, now);
    }
    if (body_.shows && order_what_moved(now)) return;
    if (now.steady_ns >= next_integrity_ns_) {
      next_integrity_ns_ = now.steady_ns + ns_of(body_.settings.integrity_s);
      next_poll_ns_ = now.steady_ns + ns_of(body_.settings.poll_s);
      return request(dnp3_read, all, Awaits::data, now);
    }
    if (!enabled_ && body_.settings.unsolicited) return request(dnp3_enable, events, Awaits::enabled, now);
    constexpr unsigned any_class = iin_class1 | iin_class1 << 1U | iin_class1 << 2U;
    if (now.steady_ns >= next_poll_ns_ || (indications_ & any_class) != 0) {
      next_poll_ns_ = now.steady_ns + ns_of(body_.settings.poll_s);
      indications_ &= ~any_class;
      request(dnp3_read, events, Awaits::data, now);
    }
  }
  /// The time at which it recorded its own (clause 10.3.3.4).
  void set_clock(Now now) {
    recorded_ = false;
    std::vector<std::uint8_t> objects{50, 3, 7, 1};
    put_dnp3_time(objects, recorded_utc_ns_);
    request(dnp3_write, objects, Awaits::write, now);
  }

  /// Whether one went.
  [[nodiscard]] bool order_what_moved(Now now) {
    const std::size_t controls = body_.settings.controls.size();
    for (std::size_t k = 0; k < orders_.size(); ++k) {
      const bool control = k < controls;
      const Dnp3Output& output =
          control ? body_.settings.controls[k] : body_.settings.set_points[k - controls];
      Order& order = orders_[k];
      const double value = body_.values[output.asked];
      if (value == order.said || std::abs(value - order.said) <= output.within) continue;
      order.said = value;
      order.objects = objects_of(control, output, value);
      order_ = &order;
      request(output.select ? dnp3_select : dnp3_direct, order.objects,
              output.select ? Awaits::selected : Awaits::operated, now);
      return true;
    }
    return false;
  }
  [[nodiscard]] std::vector<std::uint8_t> objects_of(bool control, const Dnp3Output& output, double value) {
    std::vector<std::uint8_t> objects{control ? std::uint8_t{12} : std::uint8_t{41},
                                      control ? std::uint8_t{1} : dnp3_output_variation(output.type), 0x28, 1,
                                      0};
    put_low_first(objects, static_cast<std::uint64_t>(output.index), 2);
    if (control) {
      objects.push_back(value > 0.5 ? latch_on : latch_off);
      objects.push_back(1);
      put_low_first(objects, 0, 8);
    } else {
      bool over = false;
      put_dnp3_number(objects, output.type, value, over);
      if (over) ++body_.traffic.saturated;
    }
    objects.push_back(control_done);
    return objects;
  }

  void take(Bytes fragment, bool /*broadcast*/, Now now) override {
    const std::uint8_t control = fragment[0], function = fragment[1];
    if (fragment.size() < 4 || (function != dnp3_response && function != dnp3_unsolicited)) {
      ++body_.traffic.malformed;
      return;
    }
    const bool unasked = function == dnp3_unsolicited;
    if (!unasked && (awaits_ == Awaits::nothing || (control & 15U) != awaits_number_)) {
      ++body_.traffic.late;
      return;
    }
    indications_ |= static_cast<unsigned>(low_first(&fragment[2], 2));
    if ((control & dnp3_confirms) != 0)
      put(std::array<std::uint8_t, 2>{
          static_cast<std::uint8_t>(dnp3_first | dnp3_final | (unasked ? dnp3_unasked : 0) | (control & 15U)),
          dnp3_confirm});
    const Bytes objects = fragment.subspan(4);
    if (unasked || awaits_ == Awaits::data) take_objects(objects);
    if (unasked) return;
    if ((control & dnp3_final) == 0) {
      awaits_number_ = (awaits_number_ + 1) & 15U;
      number_ = awaits_number_;
      awaits_until_ns_ = now.steady_ns + ns_of(body_.settings.confirmation_s);
      return;
    }
    finish(objects, now);
  }

  void finish(Bytes objects, Now now) {
    const Awaits what = std::exchange(awaits_, Awaits::nothing);
    if ((indications_ & (iin_no_function | iin_unknown_object | iin_parameter)) != 0) ++body_.traffic.refused;
    indications_ &= ~(iin_no_function | iin_unknown_object | iin_parameter | iin_overflow);
    disabled_ = disabled_ || what == Awaits::disabled;
    enabled_ = enabled_ || what == Awaits::enabled;
    recorded_ = what == Awaits::recorded;
    if (what != Awaits::selected && what != Awaits::operated) return;
    Order* order = std::exchange(order_, nullptr);
    const bool done = !objects.empty() && objects.back() == control_done;
    if (!done) ++body_.traffic.refused;
    if (!done || what == Awaits::operated || !order) return;
    order_ = order;
    request(dnp3_operate, order->objects, Awaits::operated, now);
  }

  void take_objects(Bytes rest) {
    while (!rest.empty()) {
      const auto header = take_dnp3_header(rest);
      if (!header || header->all) return spoiled();
      const bool bits = (header->group == 1 || header->group == 10) && header->variation == 1;
      if (bits) {
        if (header->indexed || rest.size() < (header->count + 7) / 8) return spoiled();
        for (std::uint32_t k = 0; k < header->count && header->group == 1; ++k)
          body_.take(true, static_cast<int>(header->first + k), rest[k / 8] >> (k % 8) & 1U);
        rest = rest.subspan((header->count + 7) / 8);
        continue;
      }
      const auto size = dnp3_size(header->group, header->variation);
      if (!size) return spoiled();
      for (std::uint32_t k = 0; k < header->count; ++k) {
        if (rest.size() < header->index_size + *size) return spoiled();
        const std::uint32_t index =
            header->indexed
                ? static_cast<std::uint32_t>(low_first(rest.data(), static_cast<int>(header->index_size)))
                : header->first + k;
        rest = rest.subspan(header->index_size);
        take_one(*header, index, rest.first(*size));
        rest = rest.subspan(*size);
      }
    }
  }
  void take_one(const Dnp3Header& header, std::uint32_t index, Bytes object) {
    const bool binary = header.group == 1 || header.group == 2;
    if (!binary && header.group != 30 && header.group != 32) return;
    const auto taken = take_object(header.group, header.variation, object);
    if (taken && taken->good) body_.take(binary, static_cast<int>(index), taken->value);
  }
  void spoiled() { ++body_.traffic.malformed; }

  Body& body_;
  Awaits awaits_ = Awaits::nothing;
  unsigned number_ = 0, awaits_number_ = 0, indications_ = 0;
  std::int64_t awaits_until_ns_ = 0, next_integrity_ns_, next_poll_ns_ = 0, recorded_utc_ns_ = 0;
  bool disabled_ = false, enabled_ = false, recorded_ = false;
  std::vector<Order> orders_;
  Order* order_ = nullptr;  // that awaits its answer
};

void Body::scan(Now /*now*/) { shows = image.read(values, utc_ns); }

}  // namespace internal::master

std::unique_ptr<Party> make_dnp3_master(Dnp3Settings settings, ProcessImage& image) {
  return std::make_unique<internal::PartyOver<internal::master::Body, internal::master::Talk>>(
      std::move(settings), image);
}

}  // namespace zavrek::wire
