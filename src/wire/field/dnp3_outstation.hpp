// What an outstation of DNP3 keeps beside its connections: its points as they were last seen, events until
// they are confirmed, and how it writes both into responses.
#pragma once

#include <algorithm>
#include <cmath>
#include <deque>
#include <optional>
#include <vector>

#include "wire/field/dnp3_objects.hpp"
#include "wire/field/dnp3_response.hpp"

namespace zavrek::wire::internal {

/// Something that moved, until it is confirmed.
struct Dnp3Event {
  bool binary;
  std::size_t point;  // of the binaries, or of the numbers
  double value;
  std::int64_t utc_ns;
  bool told = false;  // on its way, not confirmed yet
};

/// Which objects a request wants.
struct Dnp3Wish {
  unsigned classes = 0;  // bit c: events of class c
  struct Events {
    bool binary;
    std::uint8_t variation;
  };
  std::vector<Events> events;
  struct Static {
    std::uint8_t group, variation;
    bool all;
    std::uint32_t first, count;
  };
  std::vector<Static> statics;
};

/// What a read request wants; nothing, with its indication, where it wants what is not there.
[[nodiscard]] std::optional<Dnp3Wish> dnp3_wish_of(Bytes objects, unsigned& indication);

template <class Point>
void sort_by_index(std::vector<Point>& points) {
  std::sort(points.begin(), points.end(), [](const Point& a, const Point& b) { return a.index < b.index; });
}

template <class Point>
const Point* find_index(const std::vector<Point>& points, std::uint32_t index) {
  const auto at = std::lower_bound(points.begin(), points.end(), static_cast<int>(index),
                                   [](const Point& point, int wanted) { return point.index < wanted; });
  return at != points.end() && at->index == static_cast<int>(index) ? &*at : nullptr;
}

namespace outstation {

class Talk;

/// What an outstation keeps for one of its masters.
struct Master {
  int address;
  std::deque<Dnp3Event> events = {};  // the oldest first
  bool restarted = true, overflowed = false;
  Talk* talk = nullptr;  // its latest connection
  bool was_met = false;
};

class Body {
 public:
  Body(Dnp3Settings given, ProcessImage& plant)
      : settings(std::move(given)), image(plant), needs_time(settings.takes_time) {
    sort_by_index(settings.binaries);
    sort_by_index(settings.numbers);
    sort_by_index(settings.controls);
    sort_by_index(settings.set_points);
    masters.push_back({settings.master});
    for (const int address : settings.other_masters) masters.push_back({address});
    said_binaries.assign(settings.binaries.size(), NAN);
    said_numbers.assign(settings.numbers.size(), NAN);
  }
  [[nodiscard]] std::vector<int> addresses() const {
    std::vector<int> all{settings.master};
    all.insert(all.end(), settings.other_masters.begin(), settings.other_masters.end());
    return all;
  }
  [[nodiscard]] Master& master_at(int address) {
    return *std::find_if(masters.begin(), masters.end(),
                         [&](const Master& master) { return master.address == address; });
  }
  void keep(const Dnp3Event& event) {
    const int of = class_of(event);
    if (of == 0) return;
    for (Master& master : masters) keep_for(master, event, of);
  }
  [[nodiscard]] int class_of(const Dnp3Event& event) const {
    return event.binary ? settings.binaries[event.point].event_class
                        : settings.numbers[event.point].event_class;
  }
  [[nodiscard]] unsigned indications(const Master& master) const {
    unsigned bits = (master.restarted ? iin_restart : 0U) | (needs_time ? iin_need_time : 0U) |
                    (master.overflowed ? iin_overflow : 0U);
    for (const Dnp3Event& event : master.events) {
      if (!event.told) bits |= iin_class1 << static_cast<unsigned>(class_of(event) - 1);
    }
    return bits;
  }
  static void forget_told(Master& master, bool confirmed) {
    if (confirmed)
      std::erase_if(master.events, [](const Dnp3Event& event) { return event.told; });
    else
      for (Dnp3Event& event : master.events) event.told = false;
    if (confirmed) master.overflowed = false;
  }

  Dnp3Settings settings;
  ProcessImage& image;
  Traffic traffic;
  bool needs_time;
  std::vector<Master> masters;
  std::int64_t clock_ahead_ns = 0;  // of the bench's, as the master set it
  std::vector<double> said_binaries, said_numbers, values;
  std::int64_t utc_ns = 0, next_scan_ns = 0;
  bool shows = false;

  /// Looks at the plant; what moved is kept as events.
  void scan(Now now);
  /// Events that are wanted and not on their way yet, in their order; of those that go unasked no more than
  /// one fragment holds.
  void put_events(Master& master, Dnp3Objects& out, unsigned classes,
                  const std::vector<Dnp3Wish::Events>& of_kinds, bool one_fragment);
  /// Values as they stand; false where one is wanted that is not there.
  [[nodiscard]] bool put_static(Dnp3Objects& out, const Dnp3Wish::Static& wish);

 private:
  void keep_for(Master& master, const Dnp3Event& event, int of) {
    const auto same = [&](const Dnp3Event& other) { return class_of(other) == of; };
    if (static_cast<std::size_t>(std::count_if(master.events.begin(), master.events.end(), same)) >=
        settings.most_events) {
      master.events.erase(std::find_if(master.events.begin(), master.events.end(), same));
      if (master.was_met) ++traffic.lost;
      master.overflowed = true;
    }
    master.events.push_back(event);
  }
  void put_event(Dnp3Objects& out, const Dnp3Event& event, std::uint8_t variation);
  void put_flagged(std::vector<std::uint8_t>& value, Dnp3Analogue type, double is);
};

}  // namespace outstation
}  // namespace zavrek::wire::internal
