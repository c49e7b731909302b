#include "bench/capture_keeper.hpp"

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cmath>

#include <fmt/format.h>

#include "zavrek/record/row_file.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr long long rows_at_once = 1024;
constexpr std::chrono::milliseconds look_again{5};
constexpr std::chrono::seconds flush_again{1};

/// The number in "NAME-NUMBER.ENDING"; 0 where it is none such.
int number_in(const std::filesystem::path& file, const std::string& name) {
  const std::string stem = file.stem().string();
  if (!stem.starts_with(name + "-")) return 0;
  int number = 0;
  const char *from = stem.data() + name.size() + 1, *to = stem.data() + stem.size();
  const auto [end, error] = std::from_chars(from, to, number);
  return error == std::errc{} && end == to ? number : 0;
}

}  // namespace

CaptureKeeper::CaptureKeeper(Plan plan)
    : plan_(std::move(plan)),
      width_(plan_.head.analogs.size() + plan_.head.binaries.size()),
      ring_(plan_.rows * width_, 0.0) {}

CaptureKeeper::~CaptureKeeper() = default;

void CaptureKeeper::open(const std::filesystem::path& folder, bool afresh) {
  if (thread_.joinable()) return;
  folder_ = folder;
  std::error_code trouble;
  std::filesystem::create_directories(folder_, trouble);
  std::vector<std::filesystem::path> there;
  for (const auto& file : std::filesystem::directory_iterator(folder_, trouble)) {
    if (number_in(file.path(), plan_.name) > 0) there.push_back(file.path());
  }
  if (trouble)
    throw Error(Flaw{
        .file = folder_.string(), .place = {}, .field = {}, .text = "cannot be used: " + trouble.message()});
  for (const std::filesystem::path& file : there) {
    if (afresh)
      std::filesystem::remove(file, trouble);
    else
      number_ = std::max(number_, number_in(file, plan_.name) + 1);
  }
  if (plan_.all) {
    growing_ = std::make_unique<record::GrowingHdf5>(next_file(), plan_.head);
    ++files_;
  }
  thread_ = std::jthread([this](const std::stop_token& stop) { work(stop); });
}

std::filesystem::path CaptureKeeper::next_file() {
  return folder_ / fmt::format("{}-{:03}{}", plan_.name, number_++, plan_.ending);
}

bool CaptureKeeper::is_needed(long long number) const noexcept {
  if (plan_.all && number >= done_.load(std::memory_order_acquire)) return true;
  const std::size_t next = taken_.load(std::memory_order_acquire);
  return !plan_.all && next != handed_in_.load(std::memory_order_relaxed) &&
         number >= waiting_[next % most_waiting].first;
}

/// A run without pace waits for the disk, which it may outrun; one by the clock must not.
double* CaptureKeeper::next_row() noexcept {
  const long long at = rows(), overwritten = at - static_cast<long long>(plan_.rows);
  const bool kept = thread_.joinable();
  while (kept && overwritten >= 0 && !given_up() && is_needed(overwritten)) {
    if (plan_.may_wait) {
      std::this_thread::yield();
      continue;
    }
    if (!plan_.all) break;  // that capture is lost, and its writer sees it
    late_.store(true, std::memory_order_relaxed);
  }
  if (plan_.all && given_up()) {
    lost_.fetch_add(1, std::memory_order_relaxed);
    return nullptr;
  }
  return ring_.data() + static_cast<std::size_t>(at % static_cast<long long>(plan_.rows)) * width_;
}

void CaptureKeeper::visit_state(StateArchive& archive, long long rows) {
  long long written = this->rows();
  archive(written);
  written_.store(written, std::memory_order_release);
  const auto room = static_cast<long long>(plan_.rows);
  for (long long k = std::max(0LL, written - std::min(rows, room)); k < written; ++k)
    archive.carry(ring_.data() + static_cast<std::size_t>(k % room) * width_, width_ * sizeof(double));
}

void CaptureKeeper::hand_in(const Capture& capture) noexcept {
  if (!thread_.joinable()) return;
  const std::size_t at = handed_in_.load(std::memory_order_relaxed);
  while (at - taken_.load(std::memory_order_acquire) >= most_waiting) {
    if (plan_.may_wait && !given_up()) {
      std::this_thread::yield();
      continue;
    }
    lost_.fetch_add(1, std::memory_order_relaxed);
    return;
  }
  waiting_[at % most_waiting] = capture;
  handed_in_.store(at + 1, std::memory_order_release);
}

void CaptureKeeper::work(const std::stop_token& stop) {
  auto flushed = std::chrono::steady_clock::now();
  try {
    for (;;) {
      const bool over = stop.stop_requested();
      const bool wrote = write_some();
      const auto now = std::chrono::steady_clock::now();
      if (growing_ && (over || now - flushed > flush_again)) {
        growing_->flush();
        flushed = now;
      }
      if (wrote) continue;
      if (over) return;
      std::this_thread::sleep_for(look_again);
    }
  } catch (const std::exception& error) {
    why_ = error.what();
    broken_.store(true, std::memory_order_release);
  }
}

bool CaptureKeeper::write_some() {
  const long long until = written_.load(std::memory_order_acquire);
  const bool rows = plan_.all && until > done_.load(std::memory_order_relaxed);
  if (rows) write_rows(std::min(until, done_.load(std::memory_order_relaxed) + rows_at_once));
  const std::size_t next = taken_.load(std::memory_order_relaxed);
  if (next == handed_in_.load(std::memory_order_acquire)) return rows;
  write(waiting_[next % most_waiting]);
  taken_.store(next + 1, std::memory_order_release);
  return true;
}

/// With what changed among the states as events.
void CaptureKeeper::write_rows(long long until) {
  const std::size_t analogs = plan_.head.analogs.size();
  for (long long k = done_.load(std::memory_order_relaxed); k < until; ++k) {
    const std::span<const double> is(row(k), width_);
    const std::span<const double> states = is.subspan(analogs);
    const double time_s = static_cast<double>(k) / plan_.head.rate_Hz;
    for (std::size_t c = 0; c < states_.size(); ++c) {
      if (states[c] == states_[c]) continue;
      const std::string& of = plan_.head.binaries[c].name;
      growing_->append(
          record::Event{time_s, fmt::format("{} {}", of, states[c] != 0 ? "on" : "off"), of, states[c] != 0});
    }
    states_.assign(states.begin(), states.end());
    growing_->append(is);
  }
  done_.store(until, std::memory_order_release);
}

void CaptureKeeper::write(const Capture& capture) {
  const double rate_Hz = plan_.head.rate_Hz;
  if (growing_) {
    growing_->append(record::Event{
        static_cast<double>(capture.at) / rate_Hz, "trigger: " + plan_.triggers[capture.trigger], {}, true});
    return;
  }
  record::Record record = plan_.head;
  const double begins_s = static_cast<double>(capture.first) / rate_Hz;
  record.trigger_s = static_cast<double>(capture.at - capture.first) / rate_Hz;
  record.start_utc_ns = capture.utc_zero_ns + std::llround(1e9 * begins_s);
  record.facts.emplace_back("begins", fmt::format("{:.9g} s", begins_s));
  record.facts.emplace_back("recorder", plan_.name);
  record.facts.emplace_back("trigger", plan_.triggers[capture.trigger]);
  record.events.push_back({record.trigger_s, "trigger: " + plan_.triggers[capture.trigger]});
  for (long long k = capture.first; k <= capture.last; ++k) {
    const double* from = row(k);
    const double time_s = static_cast<double>(k - capture.first) / rate_Hz;
    record.time_s.push_back(time_s);
    for (record::Analog& analog : record.analogs) analog.samples.push_back(*from++);
    for (record::Binary& binary : record.binaries) {
      const bool on = *from++ != 0;
      if (!binary.samples.empty() && (binary.samples.back() != 0) != on)
        record.events.push_back(
            {time_s, fmt::format("{} {}", binary.name, on ? "on" : "off"), binary.name, on});
      binary.samples.push_back(on ? 1 : 0);
    }
  }
  if (rows() - static_cast<long long>(plan_.rows) > capture.first) {
    lost_.fetch_add(1, std::memory_order_relaxed);
    return;
  }
  for (record::Binary& binary : record.binaries) binary.normal = binary.samples.front() != 0;
  std::stable_sort(record.events.begin(), record.events.end(),
                   [](const auto& a, const auto& b) { return a.time_s < b.time_s; });
  record::write_record(record, next_file(), record::Encoding::float32);
  ++files_;
}

void CaptureKeeper::end() {
  thread_.request_stop();
  if (thread_.joinable()) thread_.join();
  growing_.reset();
}

std::string CaptureKeeper::failure() const {
  if (broken_.load(std::memory_order_acquire)) return fmt::format("{}: {}", plan_.name, why_);
  if (late_.load(std::memory_order_relaxed))
    return plan_.name + ": the disk did not take what it keeps in time";
  return {};
}

}  // namespace zavrek::bench::internal
