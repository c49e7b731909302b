#include <cmath>
#include <map>

#include "wire/field/iec104_data.hpp"
#include "wire/field/little_endian.hpp"
#include "wire/field/party_over.hpp"
#include "wire/field/seconds.hpp"

namespace zavrek::wire {
namespace {

using namespace internal;

constexpr std::uint8_t whole_station = 20;  // qualifier of interrogation
constexpr double confirmation_s = 5;

}  // namespace

namespace internal::controller104 {

class Talk;

class Body {
 public:
  Body(Iec104Settings given, ProcessImage& plant) : settings(std::move(given)), image(plant) {
    for (const Iec104Point& point : settings.points) by_address[point.address] = &point;
    asked.assign(settings.points.size(), NAN);
  }
  Iec104Settings settings;
  ProcessImage& image;
  void scan(Now now);

  Traffic traffic;
  std::map<int, const Iec104Point*> by_address;
  std::vector<double> asked;  // last, by point
  std::vector<double> values;
  std::int64_t utc_ns = 0;
  bool shows = false;
};

class Talk final : public Iec104Link {
 public:
  Talk(Body& body, Now now)
      : Iec104Link(body.settings.timing, body.traffic, true, now),
        body_(body),
        next_interrogation_ns_(now.steady_ns),
        orders_(body.settings.commands.size()) {}

  void poll(Now now) override {
    if (started() && now.steady_ns >= next_interrogation_ns_) {
      next_interrogation_ns_ = now.steady_ns + ns_of(body_.settings.interrogation_s);
      put_command_asdu(c_ic_na, 0, [](std::vector<std::uint8_t>& out) { out.push_back(whole_station); });
    }
    if (started() && body_.shows) order_what_moved(now);
    Iec104Link::poll(now);
  }

 private:
  /// What becomes of one command: nothing under way, a selection or an execution that awaits its
  /// confirmation.
  struct Order {
    enum class Under { nothing, selection, execution } under = Under::nothing;
    double said = NAN, wanted = 0;
    std::int64_t due_ns = 0;
  };

  template <class Fill>
  void put_command_asdu(std::uint8_t type, int address, Fill&& fill) {
    AsduHead head;
    head.type = type;
    head.cause = activation;
    head.common_address = body_.settings.common_address;
    std::vector<std::uint8_t> asdu;
    put_head(asdu, head);
    put_low_first(asdu, static_cast<std::uint64_t>(address), 3);
    fill(asdu);
    put(std::move(asdu));
  }
  void order(const Iec104Command& command, Order& order, bool select, Now now) {
    order.under = select ? Order::Under::selection : Order::Under::execution;
    order.due_ns = now.steady_ns + ns_of(confirmation_s);
    put_command_asdu(command_type(command.kind), command.address, [&](std::vector<std::uint8_t>& out) {
      put_command(out, command.kind, order.wanted, select, body_.traffic.saturated);
    });
  }
  void order_what_moved(Now now) {
    for (std::size_t k = 0; k < orders_.size(); ++k) {
      const Iec104Command& command = body_.settings.commands[k];
      Order& one = orders_[k];
      if (one.under != Order::Under::nothing) {
        if (now.steady_ns < one.due_ns) continue;
        ++body_.traffic.lost;
        one.under = Order::Under::nothing;
      }
      const double value = body_.values[command.place];
      if (value == one.said || std::abs(value - one.said) <= command.within) continue;
      one.said = one.wanted = value;
      order(command, one, command.select, now);
    }
  }

  void take(Bytes asdu, Now now) override {
    const AsduHead head = take_head(asdu);
    if (head.common_address != body_.settings.common_address) return;
    if (const auto type = point_of_type(head.type)) return take_points(asdu, head, *type);
    if (const auto type = command_of_type(head.type)) return take_answer(asdu, head, now);
  }

  void take_points(Bytes asdu, const AsduHead& head, const TypeOfPoint& type) {
    const std::size_t size = point_size(type.kind) + (type.timed ? cp56_size : 0);
    Bytes rest = asdu.subspan(asdu_head_size);
    int address = 0;
    for (int k = 0; k < head.objects; ++k) {
      const std::size_t addressed = k == 0 || !head.sequence ? asdu_address_size : 0;
      if (rest.size() < addressed + size) {
        ++body_.traffic.malformed;
        return end("fewer objects than announced");
      }
      address = addressed > 0 ? take_address(rest) : address + 1;
      take_point_object(address, type.kind, rest.subspan(addressed, size));
      rest = rest.subspan(addressed + size);
    }
  }
  void take_point_object(int address, Iec104Kind kind, Bytes object) {
    const auto found = body_.by_address.find(address);
    if (found == body_.by_address.end() || found->second->kind != kind) return;
    bool good = false;
    const double value = take_point(object, kind, good);
    if (!good) return;
    double& asked = body_.asked[static_cast<std::size_t>(found->second - body_.settings.points.data())];
    if (value == asked) return;
    asked = value;
    if (!body_.image.allows(found->second->place, value) || body_.image.ask(found->second->place, value) == 0)
      ++body_.traffic.refused;
  }
  void take_answer(Bytes asdu, const AsduHead& head, Now now) {
    if (asdu.size() < asdu_head_size + asdu_address_size || head.cause == activation_ended) return;
    const int address = take_address(asdu.subspan(asdu_head_size));
    for (std::size_t k = 0; k < orders_.size(); ++k) {
      const Iec104Command& command = body_.settings.commands[k];
      if (command.address != address || orders_[k].under == Order::Under::nothing) continue;
      const bool selected = orders_[k].under == Order::Under::selection;
      orders_[k].under = Order::Under::nothing;
      if (head.negative || head.cause != activation_confirmed)
        ++body_.traffic.refused;
      else if (selected)
        order(command, orders_[k], false, now);
    }
  }

  Body& body_;
  std::int64_t next_interrogation_ns_;
  std::vector<Order> orders_;
};

void Body::scan(Now /*now*/) { shows = image.read(values, utc_ns); }

}  // namespace internal::controller104

std::unique_ptr<Party> make_iec104_controller(Iec104Settings settings, ProcessImage& image) {
  return std::make_unique<internal::PartyOver<internal::controller104::Body, internal::controller104::Talk>>(
      std::move(settings), image);
}

}  // namespace zavrek::wire
