// Carries what a disturbance recorder keeps from the thread of a run to files: rows pass through a ring, and
// a thread beside the run writes each capture as it ends, or all rows as they come.
#pragma once

#include <array>
#include <atomic>
#include <filesystem>
#include <memory>
#include <string>
#include <thread>
#include <vector>

#include "zavrek/count.hpp"
#include "zavrek/record.hpp"
#include "zavrek/record/hdf5.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::bench::internal {

/// A stretch of rows, both ends in it.
struct Capture {
  long long first = 0, last = 0, at = 0;  ///< numbers of rows; `at`: where it was triggered
  std::size_t trigger = 0;                ///< which one
  std::int64_t utc_zero_ns = 0;           ///< UTC of row 0
};

class CaptureKeeper {
 public:
  struct Plan {
    record::Record head;                ///< without samples
    std::vector<std::string> triggers;  ///< as texts
    std::string name;
    std::string ending;     ///< ".cfg", ".csv", ".h5"
    bool all = false;       ///< all rows in one file
    std::size_t rows = 0;   ///< of the ring
    bool may_wait = false;  ///< the run for the disk
  };
  explicit CaptureKeeper(Plan plan);
  ~CaptureKeeper();
  CaptureKeeper(const CaptureKeeper&) = delete;
  CaptureKeeper& operator=(const CaptureKeeper&) = delete;

  /// Numbers of files go on behind those in `folder`, or begin again, and those that were there go. Throws
  /// Error.
  void open(const std::filesystem::path& folder, bool afresh);

  // --- on the thread of the run -------------------------------------------------------------------
  /// Where the next row goes: values of the analogs, then 0 or 1 of the states. Null once the disk was given
  /// up.
  [[nodiscard]] double* next_row() noexcept;
  void commit() noexcept {
    written_.store(written_.load(std::memory_order_relaxed) + 1, std::memory_order_release);
  }
  [[nodiscard]] long long rows() const noexcept { return written_.load(std::memory_order_relaxed); }
  /// A capture whose rows are all there, or, where all rows are kept, a trigger for its events.
  void hand_in(const Capture& capture) noexcept;

  /// The latest `rows`; where rows go back, no capture may wait for the disk.
  void visit_state(StateArchive& archive, long long rows);

  // --- behind the run -----------------------------------------------------------------------------
  /// Writes what is left.
  void end();
  [[nodiscard]] long long files() const noexcept { return files_; }
  [[nodiscard]] long long lost() const noexcept { return lost_.load(); }
  [[nodiscard]] std::string failure() const;
  [[nodiscard]] std::size_t bytes() const noexcept { return ring_.size() * sizeof(double); }

 private:
  void work(const std::stop_token& stop);
  [[nodiscard]] bool given_up() const noexcept {
    return late_.load(std::memory_order_relaxed) || broken_.load(std::memory_order_acquire);
  }
  [[nodiscard]] bool is_needed(long long number) const noexcept;
  [[nodiscard]] bool write_some();
  void write_rows(long long until);
  void write(const Capture& capture);
  [[nodiscard]] std::filesystem::path next_file();
  [[nodiscard]] const double* row(long long number) const noexcept {
    return ring_.data() + static_cast<std::size_t>(number % static_cast<long long>(plan_.rows)) * width_;
  }

  static constexpr std::size_t most_waiting = 64;
  Plan plan_;
  std::size_t width_;
  std::vector<double> ring_;
  std::filesystem::path folder_;
  int number_ = 1;
  std::unique_ptr<record::GrowingHdf5> growing_;
  std::vector<double> states_;          // that were written last
  std::atomic<long long> written_ = 0;  // rows
  std::atomic<long long> done_ = 0;     // rows that may be overwritten, where all are kept or captures wait
  std::array<Capture, most_waiting> waiting_;
  std::atomic<std::size_t> handed_in_ = 0, taken_ = 0;
  std::atomic<long long> lost_ = 0;   // rows, or captures, that had no place
  std::atomic<bool> late_ = false;    // by the run: the disk did not take rows in time
  std::atomic<bool> broken_ = false;  // by the writer: `why_` says how
  Count files_;
  std::string why_;
  std::jthread thread_;
};

}  // namespace zavrek::bench::internal
