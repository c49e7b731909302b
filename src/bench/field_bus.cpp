#include "bench/field_bus.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "bench/names.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr int turn_ms = 1;
/// From one view that is published to the next, at least: at short steps each would cost more than the step.
constexpr double between_views_s = 100e-6;
constexpr double same_bound = 1e-9;  // of a bound, by which rounding on the wire may miss it

std::vector<std::string> all_names(const std::vector<BusRows>& rows, BusRows::What what) {
  std::vector<std::string> names;
  for (const BusRows& kind : rows) {
    if (kind.what != what) continue;
    for (const BusRow& row : kind.rows) names.push_back(row.name);
  }
  return names;
}

/// What has a position, so that whoever asks for it reads that back.
bool has_position(const Setup& setup, const std::string& name) {
  if (name.starts_with(contact_prefix)) return true;
  const std::vector<std::string> known = switchgear_of(setup.network);
  return std::find(known.begin(), known.end(), name) != known.end();
}

std::vector<std::string> all_points(const Setup& setup, const std::vector<BusRows>& rows) {
  std::vector<std::string> names = all_names(rows, BusRows::What::points);
  for (const std::string& name : all_names(rows, BusRows::What::asked)) {
    if (has_position(setup, name)) names.push_back(name);
  }
  return names;
}

std::string in_words(const std::vector<std::string>& names) {
  constexpr std::size_t most = 4;
  std::string words;
  for (std::size_t k = 0; k < std::min(most, names.size()); ++k) words += (k == 0 ? "" : ", ") + names[k];
  if (names.size() > most) words += fmt::format(" and {} more", names.size() - most);
  return words;
}

}  // namespace

FieldBus::FieldBus(Identity identity, const Setup& setup, std::vector<BusRows> rows)
    : Beside(identity.kind + "." + identity.name, all_names(rows, BusRows::What::numbers),
             all_points(setup, rows), all_names(rows, BusRows::What::asked)),
      identity_(std::move(identity)),
      rows_(std::move(rows)),
      values_(all_names(rows_, BusRows::What::numbers)),
      points_(all_points(setup, rows_)),
      asks_(all_names(rows_, BusRows::What::asked)) {
  std::vector<std::string> shown = values_;
  for (const std::string& name : all_names(rows_, BusRows::What::points)) shown.push_back(name);
  shown_words_ = in_words(shown);
  asked_words_ = in_words(asks_);
}

FieldBus::~FieldBus() { FieldBus::end(); }

void FieldBus::declare(Exchange& exchange) {
  silent_ = exchange.add_setting(identity_.name, {"silent", "", 0, 1}, !identity_.connected);
  cut_ = exchange.add_setting(identity_.name, {"cut", "", 0, 1}, !identity_.connected);
}

/// The image has the values, then the points, then what is set without having a position.
void FieldBus::wire(Exchange& exchange) {
  std::size_t number = 0, point = values_.size(), asked = 0;
  std::size_t position = values_.size() + all_names(rows_, BusRows::What::points).size();
  std::size_t knob = values_.size() + points_.size();
  for (const BusRows& kind : rows_) {
    std::vector<BusPlace>& places = places_.emplace_back();
    for (const BusRow& row : kind.rows) {
      BusPlace& place = places.emplace_back();
      switch (kind.what) {
        case BusRows::What::numbers: {
          const std::string unit = exchange.unit_of(exchange.value_of(row.name));
          place.per_count = per_count(row, unit);
          if (!row.within.empty())
            place.within = std::abs(parse_quantity_or_plain(row.within, unit) / place.per_count);
          scale_.push_back(1 / place.per_count);
          place.shown = number++;
          break;
        }
        case BusRows::What::points:
          place.shown = point++;
          break;
        case BusRows::What::asked: {
          const bool operated = has_position(exchange.setup(), row.name);
          const AskId id = operated ? exchange.operable_of(row.name) : exchange.settable_of(row.name);
          Asked& one = *asked_.emplace_back(std::make_unique<Asked>(id, operated));
          place.asked = asked++;
          place.shown = operated ? position++ : knob++;
          if (operated) break;
          one.per_count = place.per_count = per_count(row, exchange.unit_of(id));
          std::tie(one.low, one.high) = exchange.range_of(id);
          const double initial = exchange.initial_of(id);
          one.last = (std::isfinite(initial) ? initial : 0) / one.per_count;
          if (!row.within.empty())
            place.within =
                std::abs(parse_quantity_or_plain(row.within, exchange.unit_of(id)) / place.per_count);
          break;
        }
      }
    }
  }
  Beside::wire(exchange);
  steps_between_views_ = std::max(1LL, std::llround(between_views_s / exchange.step_s()));
}

std::string FieldBus::open(const Opening& /*how*/) {
  if (!identity_.connected) return {};
  party_ = make_party();
  const auto place = stream_place();
  if (place) driver_ = std::make_unique<wire::StreamDriver>(*place, *party_);
  if (const std::string trouble = driver_ ? driver_->open() : open_other(); !trouble.empty())
    return fmt::format("{}.{}: {}", identity_.kind, identity_.name, trouble);
  medium_ = driver_ ? driver_->description() : other_medium();
  ends_ = false;
  thread_ = std::thread([this] { serve(); });
  return {};
}

void FieldBus::turn(bool cut, bool silent) {
  driver_->keep_closed(cut);
  driver_->keep_silent(silent);
  driver_->turn(turn_ms);
}

void FieldBus::serve() {
  pace::keep_off_plant_processor();
  while (!ends_.load(std::memory_order_acquire))
    turn(cut_now_.load(std::memory_order_relaxed), silent_now_.load(std::memory_order_relaxed));
  turn(false, false);
}

void FieldBus::end() {
  if (thread_.joinable()) {
    ends_.store(true, std::memory_order_release);
    thread_.join();
  }
  const std::lock_guard held(lock_);
  if (driver_) turned_away_ = driver_->turned_away();
  driver_.reset();  // its conversations end ahead of their party
}

void FieldBus::take(Exchange& exchange) noexcept {
  if (!identity_.connected) return;
  silent_now_.store(exchange.setting(silent_) > 0.5, std::memory_order_relaxed);
  cut_now_.store(exchange.setting(cut_) > 0.5, std::memory_order_relaxed);
  Beside::take(exchange);
}

void FieldBus::give(Exchange& exchange) noexcept {
  if (!identity_.connected || steps_to_view_-- > 0) return;
  steps_to_view_ = steps_between_views_ - 1;
  Beside::give(exchange);
}

bool FieldBus::read(std::vector<double>& into, std::int64_t& utc_ns) {
  if (!Beside::read(view_)) return false;
  into = view_.values;
  for (std::size_t k = 0; k < scale_.size(); ++k) into[k] *= scale_[k];
  for (const auto& asked : asked_) {
    if (!asked->has_position) into.push_back(asked->last.load(std::memory_order_relaxed));
  }
  utc_ns = view_.utc_ns;
  const std::lock_guard held(lock_);
  age_.add(static_cast<std::int64_t>(1e9 * view_.age_s));
  return true;
}

bool FieldBus::allows(std::size_t place, double value) const {
  const Asked& asked = *asked_[place];
  const double is = value * asked.per_count;
  const double span = same_bound * std::max(std::abs(asked.low), std::abs(asked.high));
  return std::isfinite(is) && !(is < asked.low - span) && !(is > asked.high + span);
}

std::uint64_t FieldBus::ask(std::size_t place, double value) {
  Asked& asked = *asked_[place];
  const std::uint64_t ticket = post({place, value * asked.per_count});
  if (ticket != 0) asked.last.store(value, std::memory_order_relaxed);
  return ticket;
}

FieldBus::Outcome FieldBus::outcome(std::uint64_t ticket) const {
  switch (Beside::outcome(ticket)) {
    case AskQueue::Outcome::waiting:
      return Outcome::waiting;
    case AskQueue::Outcome::refused:
      return Outcome::refused;
    default:
      return Outcome::done;
  }
}

std::string FieldBus::medium() const { return medium_; }

std::vector<Account> FieldBus::accounts() const {
  const wire::Traffic* counted = traffic();
  if (!counted) return {};
  Account account = Beside::accounts().front();
  const std::lock_guard held(lock_);
  account.port = fmt::format("{}.{}", identity_.kind, identity_.name);
  account.carries = carries();
  account.received = counted->received;
  account.sent = counted->sent;
  account.refused += counted->refused;
  account.malformed = counted->malformed;
  account.lost += counted->lost;
  account.late = counted->late;
  account.saturated = counted->saturated;
  account.connections = counted->connections;
  account.turned_away = counted->turned_away + (driver_ ? driver_->turned_away() : turned_away_);
  account.delay_of = "the plant's instant to its reading for the bus";
  account.delay = age_;
  return {account};
}

std::vector<Path> FieldBus::paths() const {
  if (!identity_.connected) return {};
  const std::string by = fmt::format("{} {}", identity_.kind, identity_.name);
  std::vector<Path> paths;
  if (!shown_words_.empty())
    paths.push_back({shown_words_, by, "whoever reads it", static_cast<double>(steps_between_views_),
                     "a millisecond, the polling, the wire"});
  if (!asked_words_.empty())
    paths.push_back({"whoever asks", by, asked_words_, 1, "the wire, a millisecond"});
  return paths;
}

std::vector<BusRow> check_rows(Flaws& flaws, const std::string& place, const std::string& field,
                               const std::vector<std::string>& texts, BusRows::What what, BusAt at) {
  std::vector<BusRow> rows;
  for (const std::string& text : texts) {
    try {
      rows.push_back(read_bus_row(text, at));
    } catch (const Error& error) {
      flaws.report(place, field, error.what());
      continue;
    }
    if (what == BusRows::What::points) flaws.need_point(place, field, rows.back().name);
    const auto same =
        std::count_if(rows.begin(), rows.end(), [&](const BusRow& row) { return row.at == rows.back().at; });
    if (same > 1) flaws.report(place, field, fmt::format("{} stands there twice", rows.back().at));
  }
  return rows;
}

}  // namespace zavrek::bench::internal
