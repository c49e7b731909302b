// Keeps what a run shows: values at each sample, points where they change. All of the run, or the latest
// stretch of it, in memory, or all of it on disk: then a thread beside the run carries rows there, and memory
// holds those that wait for it.
#pragma once

#include <atomic>
#include <filesystem>
#include <memory>
#include <string>
#include <thread>
#include <vector>

#include "zavrek/bench/exchange.hpp"
#include "zavrek/record.hpp"
#include "zavrek/record/row_file.hpp"

namespace zavrek::bench::internal {

class Recorder {
 public:
  /// Room for so many samples at a rate; what comes beyond is left out (`whole`), takes the place of the
  /// oldest
  /// (`latest`), or does so once that is on disk (`on_disk`).
  enum class Keep { whole, latest, on_disk };
  Recorder(std::size_t samples, double rate_Hz, Keep keep);
  ~Recorder();
  Recorder(const Recorder&) = delete;
  Recorder& operator=(const Recorder&) = delete;

  // --- before the run ---------------------------------------------------------------------------
  /// A column; the value is looked up by its id at each sample.
  void add(record::Analog as, ValueId from);
  [[nodiscard]] bool has(const std::string& analog) const { return record_.find_analog(analog) != nullptr; }
  /// A two-state column, named `as`.
  void add(PointId point, std::string as, bool on);
  [[nodiscard]] bool has_binary(const std::string& name) const {
    return record_.find_binary(name) != nullptr;
  }
  [[nodiscard]] record::Record& head() noexcept { return record_; }

  /// Where rows go that are kept on disk, and whether a run may wait for the disk. Throws Error.
  void open(const std::filesystem::path& folder, bool may_wait);
  /// All that is shown has its place.
  void begin(const Exchange& exchange);

  // --- during it --------------------------------------------------------------------------------
  void sample(const Exchange& exchange) noexcept;
  /// How far it is. What it keeps is no part of it: one that goes back begins anew there, and only one that
  /// keeps the latest can.
  void visit_state(StateArchive& archive);
  /// From the next sample on.
  void change(PointId point, bool on) noexcept;

  /// The record in order of time, with the events of `exchange` as text; without its samples where they are
  /// on disk.
  [[nodiscard]] record::Record take(const Exchange& exchange);
  /// Those on disk, once `take` was called.
  [[nodiscard]] std::shared_ptr<record::RowFile> rows() const { return rows_; }
  /// Why rows are missing on disk; empty while all is well.
  [[nodiscard]] std::string failure() const;

 private:
  struct Column {
    ValueId from;
    double* samples;
    std::size_t place = 0;  // of `from` among what is shown
  };
  /// Written where it changes: `since` is the number of the first sample that is not.
  struct Lane {
    std::uint8_t* samples;
    long long since = 0;
    bool on = false;
  };
  [[nodiscard]] bool has_room() noexcept;
  void carry(const std::stop_token& stop);
  /// Some of what waits; whether there was any.
  bool carry_some();
  static constexpr std::size_t none = static_cast<std::size_t>(-1);
  [[nodiscard]] std::size_t place(long long sample) const noexcept {
    return keep_ == Keep::whole ? static_cast<std::size_t>(sample)
                                : static_cast<std::size_t>(sample) % samples_;
  }
  void write(Lane& lane) noexcept;

  std::size_t samples_;
  double rate_Hz_;
  Keep keep_;
  record::Record record_;
  std::vector<Column> columns_;
  std::vector<Lane> lanes_;
  std::vector<std::size_t> lane_of_point_;
  std::vector<bool> is_position_;
  long long taken_ = 0;  // samples
  long long begun_ = 0;  // the first of them that is here

  // On disk only.
  std::shared_ptr<record::RowFile> rows_;
  bool may_wait_ = false;
  std::vector<double> carried_;         // rows on their way
  std::atomic<long long> ready_ = 0;    // samples that may be carried
  std::atomic<long long> done_ = 0;     // that are on disk
  std::atomic<bool> given_up_ = false;  // the disk did not take them, or not in time
  std::string why_;                     // it did not; read once the carrier has ended
  std::jthread carrier_;
};

}  // namespace zavrek::bench::internal
