#include "bench/recorder.hpp"

#include <algorithm>
#include <chrono>
#include <utility>

#include <fmt/format.h>

namespace zavrek::bench::internal {
namespace {

constexpr long long rows_at_once = 1024;
constexpr std::chrono::milliseconds look_again{5};

/// The oldest of a ring first.
template <class T>
void straighten(std::vector<T>& ring, std::size_t oldest, std::size_t count) {
  std::rotate(ring.begin(), ring.begin() + static_cast<std::ptrdiff_t>(oldest), ring.end());
  ring.resize(count);
}

void add_refusals(emt::Plant& plant, record::Record& record) {
  for (const emt::Refusal& refusal : plant.refusals())
    record.events.push_back(
        {refusal.time_s, fmt::format("{} {} refused by its interlocking", plant.name(refusal.what),
                                     refusal.close ? "close" : "open")});
}

}  // namespace

Recorder::Recorder(std::size_t samples, double rate_Hz, Keep keep)
    : samples_(samples), rate_Hz_(rate_Hz), keep_(keep) {
  record_.device = "Zavrek";
  record_.rate_Hz = rate_Hz;
}

void Recorder::add(record::Analog as, ValueId from) {
  as.samples.assign(samples_, 0.0);
  record_.analogs.push_back(std::move(as));
  columns_.push_back({from, record_.analogs.back().samples.data()});
}

void Recorder::add(PointId point, std::string as, bool on) {
  if (point.index >= lane_of_point_.size()) lane_of_point_.resize(point.index + 1, none);
  if (lane_of_point_[point.index] != none) return;
  lane_of_point_[point.index] = lanes_.size();
  record_.binaries.push_back({std::move(as), on, std::vector<std::uint8_t>(samples_, 0)});
  lanes_.push_back({record_.binaries.back().samples.data(), 0, on});
}

Recorder::~Recorder() = default;

void Recorder::open(const std::filesystem::path& folder, bool may_wait) {
  if (keep_ != Keep::on_disk || rows_) return;
  rows_ =
      std::make_shared<record::RowFile>(folder, record_.analogs.size(), record_.binaries.size(), rate_Hz_);
  may_wait_ = may_wait;
  carried_.reserve(rows_at_once * rows_->width());
  carrier_ = std::jthread([this](const std::stop_token& stop) { carry(stop); });
}

void Recorder::begin(const Exchange& exchange) {
  for (Column& column : columns_) column.place = exchange.place_of(column.from);
}

void Recorder::sample(const Exchange& exchange) noexcept {
  if (!has_room()) return;
  const std::size_t at = place(taken_);
  const double* shown = exchange.shown();
  for (const Column& column : columns_) column.samples[at] = shown[column.place];
  if (rows_) {
    for (const Lane& lane : lanes_) lane.samples[at] = static_cast<std::uint8_t>(lane.on);
  }
  ++taken_;
  if (rows_) ready_.store(taken_, std::memory_order_release);
}

/// A run without pace waits for the disk, which it may outrun; one by the clock must not.
bool Recorder::has_room() noexcept {
  if (keep_ == Keep::latest) return true;
  if (keep_ == Keep::whole) return taken_ < static_cast<long long>(samples_);
  while (!given_up_.load(std::memory_order_relaxed)) {
    if (taken_ - done_.load(std::memory_order_acquire) < static_cast<long long>(samples_)) return true;
    if (!may_wait_) given_up_.store(true, std::memory_order_relaxed);
    std::this_thread::yield();
  }
  return false;
}

void Recorder::carry(const std::stop_token& stop) {
  try {
    for (;;) {
      const bool over = stop.stop_requested();
      if (carry_some()) continue;
      if (over) return;
      std::this_thread::sleep_for(look_again);
    }
  } catch (const Error& error) {
    why_ = error.what();
    given_up_.store(true, std::memory_order_relaxed);
  }
}

bool Recorder::carry_some() {
  const long long first = done_.load(std::memory_order_relaxed);
  const long long last = std::min(ready_.load(std::memory_order_acquire), first + rows_at_once);
  if (first == last) return false;
  carried_.clear();
  for (long long k = first; k < last; ++k) {
    const std::size_t at = place(k);
    for (const Column& column : columns_) carried_.push_back(column.samples[at]);
    for (const Lane& lane : lanes_) carried_.push_back(lane.samples[at]);
  }
  rows_->append(carried_);
  done_.store(last, std::memory_order_release);
  return true;
}

std::string Recorder::failure() const {
  if (!given_up_.load(std::memory_order_relaxed)) return {};
  const std::string until =
      fmt::format("the record ends at {:.6g} s: ", static_cast<double>(taken_) / rate_Hz_);
  return until + (why_.empty() ? "the disk did not take it in time" : why_);
}

/// All samples that are not written yet, of which a ring keeps the latest.
void Recorder::write(Lane& lane) noexcept {
  lane.since = std::max(lane.since, taken_ - static_cast<long long>(samples_));
  while (lane.since < taken_) {
    const std::size_t from = place(lane.since);
    const auto count = std::min(static_cast<std::size_t>(taken_ - lane.since), samples_ - from);
    std::fill_n(lane.samples + from, count, static_cast<std::uint8_t>(lane.on));
    lane.since += static_cast<long long>(count);
  }
}

void Recorder::visit_state(StateArchive& archive) {
  if (keep_ != Keep::latest) return archive.miss();
  archive(taken_);
  for (Lane& lane : lanes_) {
    archive(lane.on);
    if (archive.restores()) lane.since = taken_;
  }
  if (archive.restores()) begun_ = taken_;
}

void Recorder::change(PointId point, bool on) noexcept {
  if (point.index >= lane_of_point_.size() || lane_of_point_[point.index] == none) return;
  Lane& lane = lanes_[lane_of_point_[point.index]];
  if (!rows_) write(lane);
  lane.on = on;
}

record::Record Recorder::take(const Exchange& exchange) {
  if (rows_) {
    carrier_.request_stop();
    if (carrier_.joinable()) carrier_.join();
  }
  for (Lane& lane : lanes_) {
    if (!rows_) write(lane);
  }
  const auto count = static_cast<std::size_t>(std::min(taken_ - begun_, static_cast<long long>(samples_)));
  const long long first = taken_ - static_cast<long long>(count);
  const std::size_t oldest = keep_ == Keep::latest ? place(first) : 0;
  const std::size_t held = rows_ ? 0 : count;
  record_.time_s.resize(held);
  for (std::size_t k = 0; k < held; ++k)
    record_.time_s[k] = static_cast<double>(first + static_cast<long long>(k)) / rate_Hz_;
  for (auto& analog : record_.analogs) straighten(analog.samples, oldest, held);
  for (auto& binary : record_.binaries) straighten(binary.samples, oldest, held);
  const auto now = std::chrono::system_clock::now().time_since_epoch();
  record_.start_utc_ns = std::chrono::duration_cast<std::chrono::nanoseconds>(now).count() -
                         static_cast<std::int64_t>(exchange.time_s() * 1e9);
  for (const Change& change : exchange.changes())
    record_.events.push_back(
        {change.time_s, exchange.words_of(change), exchange.column_of(change.point), change.on});
  if (emt::Plant* plant = exchange.plant()) add_refusals(*plant, record_);
  std::stable_sort(record_.events.begin(), record_.events.end(),
                   [](const auto& a, const auto& b) { return a.time_s < b.time_s; });
  return std::move(record_);
}

}  // namespace zavrek::bench::internal
