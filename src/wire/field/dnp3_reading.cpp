// What an outstation answers when it is read: events, then values as they stand.
#include "wire/field/dnp3_outstation.hpp"
#include "wire/field/seconds.hpp"

namespace zavrek::wire::internal {
namespace {

bool knows(const Dnp3Header& header) {
  const int variation = header.variation;
  switch (header.group) {
    case 1:
    case 10:
    case 2:
      return variation <= 2;
    case 30:
      return variation <= 5;
    case 32:
      return variation <= 5 || variation == 7;
    case 40:
      return variation <= 3;
    default:
      return false;
  }
}

template <class Point, class Put>
bool put_run(const std::vector<Point>& points, const Dnp3Wish::Static& wish, Put&& put_one) {
  if (wish.all) {
    for (const Point& point : points) put_one(point);
    return true;
  }
  for (std::uint32_t k = 0; k < wish.count; ++k) {
    const Point* point = find_index(points, wish.first + k);
    if (!point) return false;
    put_one(*point);
  }
  return true;
}

}  // namespace

std::optional<Dnp3Wish> dnp3_wish_of(Bytes objects, unsigned& indication) {
  Dnp3Wish wish;
  while (!objects.empty()) {
    const auto header = take_dnp3_header(objects);
    if (!header || header->indexed) {
      indication = iin_parameter;
      return std::nullopt;
    }
    if (header->group == 60 && header->variation >= 2 && header->variation <= 4) {
      wish.classes |= 1U << (header->variation - 1U);
    } else if (header->group == 60 && header->variation == 1) {
      for (const std::uint8_t group : {std::uint8_t{1}, std::uint8_t{30}, std::uint8_t{10}, std::uint8_t{40}})
        wish.statics.push_back({group, 0, true, 0, 0});
    } else if ((header->group == 2 || header->group == 32) && knows(*header)) {
      wish.events.push_back({header->group == 2, header->variation});
    } else if (knows(*header)) {
      wish.statics.push_back({header->group, header->variation, header->all, header->first, header->count});
    } else {
      indication = iin_unknown_object;
      return std::nullopt;
    }
  }
  return wish;
}

namespace outstation {

void Body::put_events(Master& master, Dnp3Objects& out, unsigned classes,
                      const std::vector<Dnp3Wish::Events>& of_kinds, bool one_fragment) {
  for (Dnp3Event& event : master.events) {
    if (event.told) continue;
    std::uint8_t variation = 0;
    bool wanted = (classes >> static_cast<unsigned>(class_of(event)) & 1U) != 0;
    for (const Dnp3Wish::Events& kind : of_kinds) {
      if (kind.binary != event.binary) continue;
      wanted = true;
      variation = kind.variation;
    }
    if (!wanted) continue;
    if (one_fragment && out.fragments() > 0 && out.room() < 24) return;
    put_event(out, event, variation);
    event.told = true;
  }
}
void Body::put_event(Dnp3Objects& out, const Dnp3Event& event, std::uint8_t variation) {
  std::vector<std::uint8_t> value;
  const std::int64_t at_ns = event.utc_ns + clock_ahead_ns;
  if (event.binary) {
    value.push_back(static_cast<std::uint8_t>(flag_online | (event.value > 0.5 ? flag_state : 0)));
    if (variation != 1) put_dnp3_time(value, at_ns);
    return out.add_indexed(2, variation == 1 ? 1 : 2, settings.binaries[event.point].index, value);
  }
  const Dnp3Number& point = settings.numbers[event.point];
  if (variation == 0) variation = dnp3_event_variation(point.type);
  const bool timed = variation == 3 || variation == 4 || variation == 7;
  const Dnp3Analogue type = variation == 1 || variation == 3   ? Dnp3Analogue::int32
                            : variation == 2 || variation == 4 ? Dnp3Analogue::int16
                                                               : Dnp3Analogue::float32;
  put_flagged(value, type, event.value);
  if (timed) put_dnp3_time(value, at_ns);
  out.add_indexed(32, variation, point.index, value);
}
void Body::put_flagged(std::vector<std::uint8_t>& value, Dnp3Analogue type, double is) {
  bool over = false;
  value.push_back(flag_online);
  put_dnp3_number(value, type, is, over);
  if (!over) return;
  value.front() |= flag_over_range;
  ++traffic.saturated;
}

bool Body::put_static(Dnp3Objects& out, const Dnp3Wish::Static& wish) {
  const auto state = [&](std::uint8_t group, int index, bool on) {
    if (wish.variation == 1) return out.add_bit(group, 1, index, on);
    const std::uint8_t flags = static_cast<std::uint8_t>(flag_online | (on ? flag_state : 0));
    out.add_run(group, 2, index, Bytes(&flags, 1));
  };
  if (wish.group == 1)
    return put_run(settings.binaries, wish,
                   [&](const Dnp3Binary& point) { state(1, point.index, values[point.place] > 0.5); });
  if (wish.group == 10)
    return put_run(settings.controls, wish,
                   [&](const Dnp3Output& point) { state(10, point.index, values[point.shown] > 0.5); });
  if (wish.group == 30) {
    return put_run(settings.numbers, wish, [&](const Dnp3Number& point) {
      const std::uint8_t variation = wish.variation == 0 ? dnp3_static_variation(point.type) : wish.variation;
      const Dnp3Analogue type = variation == 5                     ? Dnp3Analogue::float32
                                : variation == 2 || variation == 4 ? Dnp3Analogue::int16
                                                                   : Dnp3Analogue::int32;
      std::vector<std::uint8_t> value;
      put_flagged(value, type, values[point.place]);
      if (variation == 3 || variation == 4) value.erase(value.begin());
      out.add_run(30, variation, point.index, value);
    });
  }
  return put_run(settings.set_points, wish, [&](const Dnp3Output& point) {
    const std::uint8_t variation =
        wish.variation == 0 ? dnp3_output_status_variation(point.type) : wish.variation;
    std::vector<std::uint8_t> value;
    put_flagged(value, static_cast<Dnp3Analogue>(variation - 1), values[point.shown]);
    out.add_run(40, variation, point.index, value);
  });
}

void Body::scan(Now now) {
  if (!image.read(values, utc_ns)) return;
  shows = true;
  const bool scans = now.steady_ns >= next_scan_ns;
  if (scans) next_scan_ns = now.steady_ns + ns_of(settings.scan_s);
  const auto look = [&](bool binary, std::size_t k, std::size_t place, double within, double& said) {
    const double value = values[place];
    const bool first = std::isnan(said);
    if (!first && (value == said || std::abs(value - said) <= within)) return;
    said = value;
    if (!first) keep({binary, k, value, utc_ns});
  };
  for (std::size_t k = 0; k < settings.binaries.size(); ++k)
    look(true, k, settings.binaries[k].place, 0, said_binaries[k]);
  for (std::size_t k = 0; scans && k < settings.numbers.size(); ++k)
    look(false, k, settings.numbers[k].place, settings.numbers[k].within, said_numbers[k]);
}

}  // namespace outstation
}  // namespace zavrek::wire::internal
