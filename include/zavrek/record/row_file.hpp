#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <span>
#include <vector>

#include "zavrek/record.hpp"

namespace zavrek::record {

/// Rows of a record on disk, for one that is too long for memory: values of its analogs, then 0 or 1 of its
/// binaries, at an even rate. The file has no name: it is gone with this process, however that ends.
class RowFile {
 public:
  /// In `folder`. Throws Error when nothing can be written there.
  RowFile(const std::filesystem::path& folder, std::size_t analogs, std::size_t binaries, double rate_Hz);
  ~RowFile();
  RowFile(const RowFile&) = delete;
  RowFile& operator=(const RowFile&) = delete;

  [[nodiscard]] std::size_t width() const noexcept { return analogs_ + binaries_; }
  /// Whole rows of `width` values. Throws Error when they cannot be written.
  void append(std::span<const double> rows);
  [[nodiscard]] std::size_t rows() const noexcept { return rows_; }
  [[nodiscard]] double rate_Hz() const noexcept { return rate_Hz_; }
  /// Largest magnitude of a signal.
  [[nodiscard]] double peak(std::size_t analog) const noexcept { return peaks_[analog]; }
  /// Whole rows from `first` on, as many as there are and `into` holds; how many. Throws Error.
  std::size_t read(std::size_t first, std::span<double> into) const;

 private:
  std::size_t analogs_, binaries_, rows_ = 0;
  double rate_Hz_;
  int file_ = -1;
  std::vector<double> peaks_;
};

/// As the functions without rows do; `head` has the signals, without samples, and all else. Memory does not
/// grow with the rows.
void write_comtrade(const Record& head, const RowFile& rows, const std::filesystem::path& path,
                    Encoding encoding);
void write_csv(const Record& head, const RowFile& rows, const std::filesystem::path& path);
void write_record(const Record& head, const RowFile& rows, const std::filesystem::path& path,
                  Encoding encoding);

}  // namespace zavrek::record
