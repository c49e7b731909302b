#pragma once

#include <filesystem>
#include <memory>
#include <span>

#include "zavrek/record.hpp"
#include "zavrek/record/row_file.hpp"

namespace zavrek::record {

// A record as one HDF5 file:
//
//   attributes of "/"   layout (1), station, device, frequency_Hz, rate_Hz (0: uneven), start_utc_ns,
//   trigger_s attributes of "/facts"   what else belongs to it, by name /time_s             instants of the
//   rows, s /analogs            rows of values, a column for each row of /analog_channels (name, phase, unit,
//   primary,
//                       secondary)
//   /states             rows of 0 and 1, a column for each row of /state_channels (name, normal)
//   /events             time_s, text, of, on
//
// Numbers are doubles and stand as they are; rows are compressed without loss.

/// Throws Error when it cannot.
void write_hdf5(const Record& record, const std::filesystem::path& path);
/// `head` has the signals, without samples, and all else. Memory does not grow with the rows.
void write_hdf5(const Record& head, const RowFile& rows, const std::filesystem::path& path);
/// Throws Error with file name and what is wrong. Reads one that is being written, or whose writer died, as
/// far as it had been flushed.
[[nodiscard]] Record read_hdf5(const std::filesystem::path& path);

/// One that grows while others read it (single writer, many readers), and that stands on the disk up to the
/// latest flush however its writer ends.
class GrowingHdf5 {
 public:
  /// Makes the file and the folders above it. Throws Error.
  GrowingHdf5(const std::filesystem::path& path, const Record& head);
  ~GrowingHdf5();
  GrowingHdf5(const GrowingHdf5&) = delete;
  GrowingHdf5& operator=(const GrowingHdf5&) = delete;

  /// Whole rows at an even rate, the first at 0 s: values of the analogs, then 0 or 1 of the states. Throws
  /// Error.
  void append(std::span<const double> rows);
  void append(const Event& event);
  void flush();
  [[nodiscard]] std::size_t rows() const noexcept;

 private:
  class File;
  std::unique_ptr<File> file_;
};

}  // namespace zavrek::record
