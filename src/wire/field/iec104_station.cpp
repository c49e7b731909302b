#include <algorithm>
#include <cmath>
#include <map>

#include "wire/field/iec104_data.hpp"
#include "wire/field/little_endian.hpp"
#include "wire/field/party_over.hpp"
#include "wire/field/seconds.hpp"

namespace zavrek::wire {
namespace {

using namespace internal;

constexpr int everybody = 0xFFFF;  // common address of all stations
constexpr std::size_t most_asdu = 249;
constexpr std::size_t most_waiting_answers = 256;
constexpr std::uint8_t first_group = 20;  // interrogation of the station; 21 ... 36 are its groups

}  // namespace

/// What all conversations of a station share.
namespace internal::station104 {

class Talk;

class Body {
 public:
  Body(Iec104Settings given, ProcessImage& plant) : settings(std::move(given)), image(plant) {
    for (const Iec104Point& point : settings.points) by_address[point.address] = &point;
    for (const Iec104Command& command : settings.commands) commands[command.address] = &command;
    said.assign(settings.points.size(), NAN);
  }
  Iec104Settings settings;
  ProcessImage& image;
  void scan(Now now);

  Traffic traffic;
  std::map<int, const Iec104Point*> by_address;
  std::map<int, const Iec104Command*> commands;
  std::vector<double> said, values;
  std::int64_t utc_ns = 0, next_scan_ns = 0;
  std::deque<Iec104Event> kept;  // while nobody is there
  std::vector<Talk*> talks;
  void keep(std::deque<Iec104Event>& events, const Iec104Event& event) {
    if (events.size() >= settings.most_events) {
      events.pop_front();
      ++traffic.lost;
    }
    events.push_back(event);
  }
};

class Talk final : public Iec104Link {
 public:
  Talk(Body& body, Now now) : Iec104Link(body.settings.timing, body.traffic, false, now), body_(body) {
    body_.talks.push_back(this);
    AsduHead head;
    head.type = m_ei_na;
    head.cause = initialised;
    head.common_address = body_.settings.common_address;
    std::vector<std::uint8_t> asdu;
    put_head(asdu, head);
    put_low_first(asdu, 0, 3);
    asdu.push_back(0);  // by switching the power on
    put(std::move(asdu));
  }
  ~Talk() override { std::erase(body_.talks, this); }
  Talk(const Talk&) = delete;
  Talk& operator=(const Talk&) = delete;

  void tell(const Iec104Event& event) { body_.keep(events_, event); }
  void poll(Now now) override {
    settle(now);
    if (started() && !body_.kept.empty()) {
      for (const Iec104Event& event : body_.kept) body_.keep(events_, event);
      body_.kept.clear();
    }
    // A queue of two windows is enough to keep the line busy; the rest waits where it is counted.
    const auto room = static_cast<std::size_t>(2 * body_.settings.timing.k);
    while (started() && !events_.empty() && queued() < room) put_events();
    Iec104Link::poll(now);
  }

 private:
  /// A command that the plant has not answered yet.
  struct Waiting {
    std::vector<std::uint8_t> asdu;
    std::uint64_t ticket;
    std::int64_t until_ns;
  };

  /// As many of one kind as follow on each other.
  void put_events() {
    const Iec104Kind kind = events_.front().point->kind;
    const std::size_t size = asdu_address_size + point_size(kind) + cp56_size;
    const std::size_t most = std::min<std::size_t>(127, (most_asdu - asdu_head_size) / size);
    std::size_t count = 0;
    while (count < std::min(most, events_.size()) && events_[count].point->kind == kind) ++count;
    AsduHead head;
    head.type = point_type(kind, true);
    head.objects = static_cast<int>(count);
    head.common_address = body_.settings.common_address;
    std::vector<std::uint8_t> asdu;
    put_head(asdu, head);
    for (std::size_t k = 0; k < count; ++k) {
      const Iec104Event& event = events_[k];
      put_low_first(asdu, static_cast<std::uint64_t>(event.point->address), 3);
      put_point(asdu, kind, event.value, body_.traffic.saturated);
      put_time(asdu, event.utc_ns);
    }
    events_.erase(events_.begin(), events_.begin() + static_cast<std::ptrdiff_t>(count));
    put(std::move(asdu));
  }

  void mirror(Bytes asdu, std::uint8_t cause, bool negative) {
    std::vector<std::uint8_t> answer(asdu.begin(), asdu.end());
    answer[2] = static_cast<std::uint8_t>((answer[2] & 0x80) | cause | (negative ? cause_negative : 0));
    put(std::move(answer));
    if (negative) ++body_.traffic.refused;
  }

  void take(Bytes asdu, Now now) override {
    const AsduHead head = take_head(asdu);
    const bool for_all = head.common_address == everybody && (head.type == c_ic_na || head.type == c_cs_na);
    const auto command = command_of_type(head.type);
    const bool known = command || head.type == c_ic_na || head.type == c_rd_na || head.type == c_cs_na ||
                       head.type == c_ts_ta;
    if (!known) return mirror(asdu, unknown_type, true);
    if (head.common_address != body_.settings.common_address && !for_all)
      return mirror(asdu, unknown_common_address, true);
    if (asdu.size() < asdu_head_size + asdu_address_size || head.objects != 1) {
      ++body_.traffic.malformed;
      return end("a command without an object");
    }
    const Bytes object = asdu.subspan(asdu_head_size);
    if (command) return take_command_object(asdu, head, *command, object, now);
    switch (head.type) {
      case c_ic_na:
        return interrogate(asdu, head, object);
      case c_rd_na:
        return read(asdu, head, take_address(object));
      default:
        // The time comes from the clock of the bench; it is confirmed, and not turned.
        return head.cause == activation ? mirror(asdu, activation_confirmed, false)
                                        : mirror(asdu, unknown_cause, true);
    }
  }

  void interrogate(Bytes asdu, const AsduHead& head, Bytes object) {
    if (object.size() < 4) return end("an interrogation without its qualifier");
    const int group = object[3] - first_group;
    if (head.cause == deactivation) return mirror(asdu, deactivation_confirmed, false);
    if (head.cause != activation) return mirror(asdu, unknown_cause, true);
    std::int64_t utc_ns = 0;
    if (group < 0 || group > 16 || take_address(object) != 0 || !body_.image.read(body_.values, utc_ns))
      return mirror(asdu, activation_confirmed, true);
    mirror(asdu, activation_confirmed, false);
    put_all(static_cast<std::uint8_t>(object[3]), group);
    mirror(asdu, activation_ended, false);
  }

  /// All points, or those of a group, kind by kind, without time (101, 7.2.6.22).
  void put_all(std::uint8_t cause, int group) {
    for (std::size_t kind = 0; kind < iec104_kind_names().size(); ++kind) {
      std::vector<std::uint8_t> objects;
      int count = 0;
      const auto flush = [&] {
        if (count == 0) return;
        AsduHead head;
        head.type = point_type(static_cast<Iec104Kind>(kind), false);
        head.objects = count;
        head.cause = cause;
        head.common_address = body_.settings.common_address;
        std::vector<std::uint8_t> asdu;
        put_head(asdu, head);
        asdu.insert(asdu.end(), objects.begin(), objects.end());
        put(std::move(asdu));
        objects.clear();
        count = 0;
      };
      for (const Iec104Point& point : body_.settings.points) {
        if (point.kind != static_cast<Iec104Kind>(kind) || (group != 0 && point.group != group)) continue;
        if (asdu_head_size + objects.size() + asdu_address_size + point_size(point.kind) > most_asdu ||
            count == 127)
          flush();
        put_low_first(objects, static_cast<std::uint64_t>(point.address), 3);
        put_point(objects, point.kind, body_.values[point.place], body_.traffic.saturated);
        ++count;
      }
      flush();
    }
  }

  void read(Bytes asdu, const AsduHead& head, int address) {
    const auto found = body_.by_address.find(address);
    if (head.cause != requested) return mirror(asdu, unknown_cause, true);
    std::int64_t utc_ns = 0;
    if (found == body_.by_address.end() || !body_.image.read(body_.values, utc_ns))
      return mirror(asdu, unknown_object, true);
    const Iec104Point& point = *found->second;
    AsduHead answer;
    answer.type = point_type(point.kind, false);
    answer.cause = requested;
    answer.originator = head.originator;
    answer.common_address = body_.settings.common_address;
    std::vector<std::uint8_t> out;
    put_head(out, answer);
    put_low_first(out, static_cast<std::uint64_t>(address), 3);
    put_point(out, point.kind, body_.values[point.place], body_.traffic.saturated);
    put(std::move(out));
  }

  void take_command_object(Bytes asdu, const AsduHead& head, const TypeOfPoint& type, Bytes object, Now now) {
    const std::size_t size = asdu_address_size + command_size(type.kind) + (type.timed ? cp56_size : 0);
    if (object.size() != size) {
      ++body_.traffic.malformed;
      return end("a command of another length");
    }
    if (head.cause != activation && head.cause != deactivation) return mirror(asdu, unknown_cause, true);
    const int address = take_address(object);
    const auto found = body_.commands.find(address);
    if (found == body_.commands.end() || found->second->kind != type.kind)
      return mirror(asdu, unknown_object, true);
    const Iec104Command& command = *found->second;
    if (head.cause == deactivation) {
      if (selected_ == address) selected_ = 0;
      return mirror(asdu, deactivation_confirmed, false);
    }
    const TakenCommand taken = internal::take_command(object.subspan(asdu_address_size), type.kind);
    if (type.timed) {
      const auto at = take_time(object.last(cp56_size));
      const bool old = !at || std::abs(now.utc_ns - *at) > ns_of(body_.settings.command_age_s);
      if (old) {
        ++body_.traffic.late;
        return mirror(asdu, activation_confirmed, true);
      }
    }
    const bool may = taken.possible && body_.image.allows(command.place, taken.value);
    if (taken.select) {
      selected_ = may ? address : 0;
      selected_until_ns_ = now.steady_ns + ns_of(body_.settings.select_time_s);
      return mirror(asdu, activation_confirmed, !may);
    }
    const bool is_selected = selected_ == address && now.steady_ns < selected_until_ns_;
    selected_ = 0;
    if (!may || (command.select && !is_selected) || waiting_.size() >= most_waiting_answers)
      return mirror(asdu, activation_confirmed, true);
    const std::uint64_t ticket = body_.image.ask(command.place, taken.value);
    if (ticket == 0) return mirror(asdu, activation_confirmed, true);
    waiting_.push_back(
        {{asdu.begin(), asdu.end()}, ticket, now.steady_ns + ns_of(body_.settings.timing.t1_s)});
    settle(now);
  }

  void settle(Now now) {
    while (!waiting_.empty()) {
      const Waiting& first = waiting_.front();
      const ProcessImage::Outcome outcome = body_.image.outcome(first.ticket);
      const bool waits = outcome == ProcessImage::Outcome::waiting;
      if (waits && now.steady_ns < first.until_ns) return;
      const bool done = outcome == ProcessImage::Outcome::done;
      mirror(first.asdu, activation_confirmed, !done);
      if (done) mirror(first.asdu, activation_ended, false);
      waiting_.pop_front();
    }
  }

  Body& body_;
  std::deque<Iec104Event> events_;
  std::deque<Waiting> waiting_;
  int selected_ = 0;  // address of an object
  std::int64_t selected_until_ns_ = 0;
};

void Body::scan(Now now) {
  if (!image.read(values, utc_ns)) return;
  const bool scans = now.steady_ns >= next_scan_ns;
  if (scans) next_scan_ns = now.steady_ns + ns_of(settings.scan_s);
  for (std::size_t k = 0; k < settings.points.size(); ++k) {
    const Iec104Point& point = settings.points[k];
    const bool state = point.kind == Iec104Kind::single_point || point.kind == Iec104Kind::double_point;
    if (!state && !scans) continue;
    const double value = values[point.place];
    const bool first = std::isnan(said[k]);
    if (!first && std::abs(value - said[k]) <= point.within) continue;
    if (value == said[k]) continue;
    said[k] = value;
    if (first) continue;  // an interrogation tells how things stood
    const Iec104Event event{&point, value, utc_ns};
    for (Talk* talk : talks) talk->tell(event);
    if (talks.empty()) keep(kept, event);
  }
}

}  // namespace internal::station104

std::unique_ptr<Party> make_iec104_station(Iec104Settings settings, ProcessImage& image) {
  return std::make_unique<internal::PartyOver<internal::station104::Body, internal::station104::Talk>>(
      std::move(settings), image);
}

}  // namespace zavrek::wire
