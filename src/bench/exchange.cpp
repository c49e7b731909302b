#include "zavrek/bench/exchange.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "bench/control_seat.hpp"
#include "bench/names.hpp"
#include "bench/recorder.hpp"
#include "bench/time_source.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench {

using internal::contact_of;
using internal::contact_prefix;
using internal::resistance_suffix;

Exchange::Exchange(const Setup& setup, Source& source, internal::ControlSeat* control)
    : setup_(setup),
      source_(source),
      plant_(source.plant()),
      control_(control),
      time_source_(std::make_unique<internal::TimeSource>(setup.bench)) {
  clock_lost_ = add_setting("clock", {"lost", "", 0, 1});
  for (const std::string& text : setup.bench.contacts) {
    const internal::Contact contact = contact_of(text);
    (void)add(std::string(contact_prefix) + contact.name, Sort::contact, contact.closed());
  }
  if (plant_) {
    for (const std::string& name : internal::switchgear_of(setup.network)) {
      const emt::SignalId signal = plant_->signal(name + ".closed");
      const PointId point = add(name, Sort::position, plant_->value(signal) > 0);
      positions_.push_back({signal, point.index});
    }
  }
  changes_.reserve(most_changes);
}

Exchange::~Exchange() = default;

PointId Exchange::add(std::string name, Sort sort, bool on) {
  points_.push_back({std::move(name), sort, on});
  return {points_.size() - 1};
}

PointId Exchange::add_output(const std::string& device, const std::string& output) {
  return add(device + "." + output, Sort::output, false);
}

std::optional<PointId> Exchange::find_point(const std::string& name) const {
  for (std::size_t k = 0; k < points_.size(); ++k) {
    if (points_[k].name == name) return PointId{k};
  }
  return std::nullopt;
}

ValueId Exchange::add_value(const std::string& owner, const std::string& name, const std::string& unit) {
  told_names_.push_back({owner + "." + name, unit});
  told_.push_back(0);
  return {told_.size() - 1, ValueId::Of::port};
}

SettingId Exchange::add_setting(const std::string& owner, const PortSetting& setting, bool idle) {
  settings_.push_back(
      {owner + "." + setting.name, setting.unit, setting.least, setting.greatest, setting.initial, idle});
  return {settings_.size() - 1};
}

bool Exchange::knows_value(const std::string& name) const {
  const auto same = [&](const Told& told) { return told.name == name; };
  if (std::any_of(told_names_.begin(), told_names_.end(), same)) return true;
  if (control_ && control_->output_named(name)) return true;
  if (plant_) {
    const std::vector<std::string> names = plant_->signal_names();
    return std::find(names.begin(), names.end(), name) != names.end();
  }
  try {
    (void)source_.signal(name);
  } catch (const Error&) {
    return false;
  }
  return true;
}

ValueId Exchange::value_of(const std::string& name, double factor) {
  if (const auto output = control_ ? control_->output_named(name) : std::nullopt) {
    const auto known = std::find(read_outputs_.begin(), read_outputs_.end(), *output);
    if (known == read_outputs_.end()) read_outputs_.push_back(*output);
    const auto at = std::find(read_outputs_.begin(), read_outputs_.end(), *output) - read_outputs_.begin();
    return {static_cast<std::size_t>(at), ValueId::Of::control};
  }
  for (std::size_t k = 0; k < told_names_.size(); ++k) {
    if (told_names_[k].name == name) return {k, ValueId::Of::port};
  }
  const emt::SignalId signal = source_.signal(name);
  for (std::size_t k = 0; k < read_.size(); ++k) {
    if (read_[k].index == signal.index && scale_[k] == factor) return {k};
  }
  read_.push_back(signal);
  scale_.push_back(factor);
  return {read_.size() - 1};
}

std::array<ValueId, 3> Exchange::three_values_of(const std::string& stem, double factor) {
  return {value_of(stem + "a", factor), value_of(stem + "b", factor), value_of(stem + "c", factor)};
}

std::string Exchange::unit_of(ValueId value) const {
  if (value.of == ValueId::Of::control) return control_->unit(read_outputs_[value.index]);
  return value.of == ValueId::Of::port ? told_names_[value.index].unit : source_.unit(read_[value.index]);
}

PointId Exchange::point_of(const std::string& name) {
  if (const auto known = find_point(name)) return *known;
  if (!knows_value(name)) {
    std::vector<std::string> names;
    for (const Point& point : points_) names.push_back(point.name);
    throw Error(fmt::format("no switch, output, contact or signal \"{}\"{}", name, suggestion(name, names)));
  }
  const ValueId value = value_of(name);
  const PointId point = add(name, Sort::number, false);
  polled_.push_back({value, point.index});
  return point;
}

std::string Exchange::column_of(PointId point) const {
  const Point& it = points_[point.index];
  return it.sort == Sort::position ? it.name + ".closed" : it.name;
}

std::string Exchange::words_of(const Change& change) const {
  const Point& point = points_[change.point.index];
  switch (point.sort) {
    case Sort::position:
    case Sort::contact:
      return point.name + (change.on ? " closed" : " open");
    case Sort::output: {
      const std::size_t dot = point.name.find('.');
      return point.name.substr(0, dot) + " " + point.name.substr(dot + 1) + (change.on ? "" : " off");
    }
    case Sort::number:
      break;
  }
  return point.name + (change.on ? " on" : " off");
}

AskId Exchange::add(const std::string& name, Kind kind, int index) {
  asks_.push_back({name, kind, index});
  return {asks_.size() - 1};
}

/// A knob of the plant hides one of the control of the same name.
std::optional<AskId> Exchange::find_ask(const std::string& name) {
  for (std::size_t k = 0; k < asks_.size(); ++k) {
    if (asks_[k].name == name) return AskId{k};
  }
  // A contact of the bench hides a setting of its message of the same name.
  const bool of_bench = name.starts_with(contact_prefix);
  if (const auto point = of_bench ? find_point(name) : std::nullopt)
    return add(name, Kind::contact, static_cast<int>(point->index));
  for (std::size_t k = 0; k < settings_.size(); ++k) {
    if (settings_[k].name == name) return add(name, Kind::setting, static_cast<int>(k));
  }
  if (of_bench)
    throw Error(
        fmt::format("no contact \"{}\"{}", name, suggestion(name, internal::contacts_of(setup_.bench))));
  const auto among = [&](const std::vector<std::string>& known, Kind kind) -> std::optional<AskId> {
    const auto at = std::find(known.begin(), known.end(), name);
    if (at == known.end()) return std::nullopt;
    return add(name, kind, static_cast<int>(at - known.begin()));
  };
  std::optional<AskId> found;
  if (plant_) {
    found = among(plant_->operable_names(), Kind::operable);
    if (!found) found = among(plant_->gate_names(), Kind::gate);
    if (!found) found = among(plant_->knob_names(), Kind::knob);
    if (!found && name.ends_with(resistance_suffix)) {
      const std::vector<std::string> known = plant_->operable_names();
      const auto at =
          std::find(known.begin(), known.end(), name.substr(0, name.size() - resistance_suffix.size()));
      const auto index = static_cast<int>(at - known.begin());
      if (at != known.end() && plant_->has_resistance(emt::OperableId{index}))
        found = add(name, Kind::resistance, index);
    }
  }
  if (!found && control_) found = among(control_->controller().parameters(), Kind::parameter);
  return found;
}

AskId Exchange::ask_of(const std::string& name) {
  if (const auto found = find_ask(name)) return *found;
  std::vector<std::string> names;
  if (plant_) names = plant_->operable_names();
  throw Error(fmt::format("nothing named \"{}\" can be operated or set{}", name, suggestion(name, names)));
}

AskId Exchange::operable_of(const std::string& name) {
  const auto found = find_ask(name);
  const Kind kind = found ? asks_[found->index].kind : Kind::knob;
  if (kind == Kind::knob || kind == Kind::parameter || kind == Kind::setting || kind == Kind::resistance) {
    if (plant_) (void)plant_->operable(name);  // says what is known
    throw Error(fmt::format("nothing named \"{}\" opens and closes", name));
  }
  return *found;
}

AskId Exchange::settable_of(const std::string& name) {
  const auto found = find_ask(name);
  const Kind kind = found ? asks_[found->index].kind : Kind::operable;
  if (kind == Kind::contact || kind == Kind::knob || kind == Kind::parameter || kind == Kind::setting ||
      kind == Kind::resistance)
    return *found;
  std::vector<std::string> of_ports;
  for (const Setting& setting : settings_) of_ports.push_back(setting.name);
  if (const std::string near = nearest_name(name, of_ports); !near.empty())
    throw Error(fmt::format("nothing named \"{}\" can be set, did you mean \"{}\"?", name, near));
  if (control_) (void)control_->controller().parameter(name);  // say what is known
  if (plant_) (void)plant_->knob(name);
  throw Error(fmt::format("nothing named \"{}\" can be set", name));
}

AskId Exchange::gate_of(const std::string& name) {
  if (plant_) (void)plant_->gate(name);  // says what is known
  return ask_of(name);
}

std::string Exchange::unit_of(AskId what) const {
  const Ask& ask = asks_[what.index];
  if (ask.kind == Kind::knob) return plant_->unit(emt::KnobId{ask.index});
  if (ask.kind == Kind::resistance) return "ohm";
  if (ask.kind == Kind::parameter) return control_->controller().unit(static_cast<std::size_t>(ask.index));
  if (ask.kind == Kind::setting) return settings_[static_cast<std::size_t>(ask.index)].unit;
  return {};
}

std::pair<double, double> Exchange::range_of(AskId what) const {
  const Ask& ask = asks_[what.index];
  constexpr double any = std::numeric_limits<double>::infinity();
  if (ask.kind == Kind::resistance) return {0, any};
  if (ask.kind == Kind::knob) return plant_->bounds(emt::KnobId{ask.index});
  if (ask.kind == Kind::parameter) return control_->controller().bounds(static_cast<std::size_t>(ask.index));
  if (ask.kind != Kind::setting) return {-any, any};
  const Setting& setting = settings_[static_cast<std::size_t>(ask.index)];
  return {setting.least, setting.greatest};
}

double Exchange::initial_of(AskId what) const {
  const Ask& ask = asks_[what.index];
  const auto place = static_cast<std::size_t>(ask.index);
  if (ask.kind == Kind::knob) return plant_->value(plant_->signal(ask.name));
  if (ask.kind == Kind::parameter) return control_->controller().value(place);
  if (ask.kind == Kind::setting) return settings_[place].value;
  if (ask.kind == Kind::contact) return points_[place].on ? 1 : 0;
  if (const auto point = ask.kind == Kind::operable ? find_point(ask.name) : std::nullopt)
    return points_[point->index].on ? 1 : 0;
  return std::numeric_limits<double>::quiet_NaN();
}

bool Exchange::is_idle(AskId what) const {
  return is_of_port(what) && settings_[static_cast<std::size_t>(asks_[what.index].index)].idle;
}

std::vector<std::pair<std::string, std::string>> Exchange::port_settings() const {
  std::vector<std::pair<std::string, std::string>> all;
  for (const Setting& setting : settings_) all.emplace_back(setting.name, setting.unit);
  return all;
}

void Exchange::begin(internal::Recorder* recorder, double rate_Hz) {
  recorder_ = recorder;
  now_.assign(read_.size() + read_outputs_.size() + told_.size(), 0.0);
  before_ = between_ = now_;
  shown_ = now_.data();
  read();
  // Signals that are read at about every step anyway are kept up by the plant.
  constexpr double often = 8;  // steps
  if (plant_ && often * step_s() * rate_Hz >= 1) plant_->watch(read_);
}

void Exchange::read() noexcept {
  std::swap(before_, now_);
  source_.read(read_, now_.data());
  for (std::size_t k = 0; k < scale_.size(); ++k) now_[k] *= scale_[k];
  for (std::size_t k = 0; k < read_outputs_.size(); ++k)
    now_[scale_.size() + k] = control_->output(read_outputs_[k]);
  std::copy(told_.begin(), told_.end(),
            now_.begin() + static_cast<std::ptrdiff_t>(scale_.size() + read_outputs_.size()));
}

void Exchange::show(double share, double time_s) noexcept {
  shown_ = now_.data();
  if (share != 1) {
    for (std::size_t k = 0; k < now_.size(); ++k) between_[k] = before_[k] + share * (now_[k] - before_[k]);
    shown_ = between_.data();
  }
  shown_s_ = time_s;
}

void Exchange::tell(PointId id, bool on, double at_s) noexcept {
  Point& point = points_[id.index];
  if (point.on == on) return;
  point.on = on;
  if (recorder_) recorder_->change(id, on);
  if (changes_.size() < most_changes)
    changes_.push_back({at_s, id, on});
  else if (keeps_latest_)
    changes_[static_cast<std::size_t>(change_count_) % most_changes] = {at_s, id, on};
  else
    return void(++lost_changes_);
  ++change_count_;
}

std::vector<Change> Exchange::changes() const {
  std::vector<Change> all;
  const long long kept = std::min(change_count_, static_cast<long long>(most_changes));
  for (long long k = change_count_ - kept; k < change_count_; ++k) all.push_back(change(k));
  return all;
}

void Exchange::visit_state(StateArchive& archive) {
  archive(told_, now_, before_, sample_, discontinuities_seen_);
  for (Setting& setting : settings_) archive(setting.value);
  for (Point& point : points_) archive(point.on);
}

/// Positions change at discontinuities only.
void Exchange::look() noexcept {
  if (plant_ && plant_->discontinuities() != discontinuities_seen_) {
    discontinuities_seen_ = plant_->discontinuities();
    for (const Watched& watched : positions_) tell({watched.point}, plant_->value(watched.signal) > 0);
  }
  if (polled_.empty()) return;
  const double half = 0.5;
  for (const Polled& polled : polled_) {
    tell({polled.point}, latest(polled.value) > half);
  }
}

double Exchange::latest(ValueId value) const noexcept {
  switch (value.of) {
    case ValueId::Of::control:
      return control_->output(read_outputs_[value.index]);
    case ValueId::Of::port:
      return told_[value.index];
    case ValueId::Of::plant:
      break;
  }
  double is = 0;
  if (plant_)
    is = plant_->value(read_[value.index]);
  else
    source_.read({&read_[value.index], 1}, &is);
  return scale_[value.index] * is;
}

bool Exchange::ask(AskId what, double value, double at_s) noexcept {
  const Ask& ask = asks_[what.index];
  const bool on = value > 0.5;
  switch (ask.kind) {
    case Kind::operable:
      return on ? plant_->close(emt::OperableId{ask.index}, at_s)
                : plant_->open(emt::OperableId{ask.index}, at_s);
    case Kind::gate:  // blocked or not: the control goes on firing it
      plant_->fail(emt::GateId{ask.index}, on ? emt::Failure::none : emt::Failure::lost);
      break;
    case Kind::knob:
      plant_->turn(emt::KnobId{ask.index}, value);
      break;
    case Kind::resistance:
      return plant_->set_resistance(emt::OperableId{ask.index}, value);
    case Kind::contact:
      tell({static_cast<std::size_t>(ask.index)}, on, at_s);
      break;
    case Kind::parameter:
      control_->set(static_cast<std::size_t>(ask.index), value);
      break;
    case Kind::setting: {
      Setting& setting = settings_[static_cast<std::size_t>(ask.index)];
      setting.value = std::clamp(value, setting.least, setting.greatest);
      break;
    }
  }
  return true;
}

void Exchange::fail(AskId gate, emt::Failure how, double late_s) noexcept {
  plant_->fail(emt::GateId{asks_[gate.index].index}, how, late_s);
}

std::int64_t Exchange::now_ns() const noexcept { return pace::system_clock().now_ns(); }
wire::Now Exchange::now() const noexcept { return {now_ns(), time_source_->utc_ns()}; }

void Exchange::begin_pace(std::int64_t zero_ns, std::int64_t utc_zero_ns) noexcept {
  zero_ns_ = zero_ns;
  if (utc_zero_ns_ == 0) utc_zero_ns_ = utc_zero_ns;
}

std::int64_t Exchange::plant_utc_ns() const noexcept {
  if (zero_ns_ == 0) return time_source_->utc_ns();
  return utc_zero_ns_ + static_cast<std::int64_t>(1e9 * time_s());
}

/// Samples whose numbers are further off their second are not synchronised, whatever the clock is.
int Exchange::synchronised() const noexcept {
  constexpr std::int64_t most_lead_ns = 100'000;
  const bool lost = setting(clock_lost_) > 0.5 || std::abs(lead_ns_) > most_lead_ns;
  return lost ? 0 : time_source_->synchronised();
}

std::int64_t Exchange::look_for_lead() noexcept {
  const wire::Now is = now();
  lead_ns_ = (is.utc_ns - utc_zero_ns_) - (is.steady_ns - zero_ns_);
  return lead_ns_;
}

void Exchange::watch_time() {
  time_source_->watch();
  if (time_source_->follows_pulses() && !pulse_) pulse_ = point_of(setup_.bench.clock_pulse);
}

void Exchange::look_for_pulse() noexcept {
  if (!pulse_) return;
  const bool is = on(*pulse_);
  if (is && !std::exchange(pulsed_, is)) time_source_->pulse(now_ns());
  pulsed_ = is;
}

std::uint8_t Exchange::clock_quality() const noexcept {
  constexpr std::uint8_t accuracy_bits = 10;  // a millisecond, as a process of a busy computer tells the time
  return synchronised() > 0 ? accuracy_bits : wire::Stamp::not_synchronised | accuracy_bits;
}

long long Exchange::count_at_zero(double rate_Hz) const noexcept {
  return std::llround(1e-9 * static_cast<double>(utc_zero_ns_ % 1'000'000'000) * rate_Hz);
}

std::vector<PointId> Exchange::points_in_order() const {
  std::vector<PointId> order;
  for (const Sort sort : {Sort::output, Sort::position, Sort::contact, Sort::number}) {
    for (std::size_t k = 0; k < points_.size(); ++k) {
      if (points_[k].sort == sort) order.push_back({k});
    }
  }
  return order;
}

}  // namespace zavrek::bench
