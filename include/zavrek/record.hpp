#pragma once

#include <cstdint>
#include <filesystem>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "zavrek/error.hpp"

namespace zavrek::record {

/// One sampled signal, in primary values.
struct Analog {
  std::string name;
  std::string phase;   ///< "A", "B", "C", "N" or empty
  std::string unit;    ///< "A", "V", "kA" ...
  double primary = 1;  ///< rated ratio of the transformer in front of it
  double secondary = 1;
  std::vector<double> samples;  ///< NaN where a value is missing
};

/// One two-state signal.
struct Binary {
  std::string name;
  bool normal = false;
  std::vector<std::uint8_t> samples;  ///< 0 or 1
};

/// Something that happened at an instant between samples.
struct Event {
  double time_s = 0;
  std::string text;
  std::string of = {};  ///< the two-state signal that changed; empty for anything else
  bool on = false;      ///< what it became
};

/// Sampled signals and timed events of one run. All signals have `time_s.size()` samples.
struct Record {
  std::string station;
  std::string device;
  double frequency_Hz = 50;
  double rate_Hz = 0;             ///< 0 when samples are not evenly spaced
  std::int64_t start_utc_ns = 0;  ///< of time 0
  double trigger_s = 0;
  std::vector<double> time_s;
  std::vector<Analog> analogs;
  std::vector<Binary> binaries;
  std::vector<Event> events;
  /// What else belongs to it: name and value, such as "trial" and its name.
  std::vector<std::pair<std::string, std::string>> facts;

  /// Empty when there is none of that name.
  [[nodiscard]] std::string fact(std::string_view name) const;
  [[nodiscard]] const Analog* find_analog(std::string_view name) const;
  [[nodiscard]] const Binary* find_binary(std::string_view name) const;
};

/// Encodings of the data file of IEC 60255-24:2013.
enum class Encoding { ascii, binary, binary32, float32 };

/// The configuration and data of a COMTRADE record (IEC 60255-24:2013) as text and bytes.
struct Comtrade {
  std::string configuration;
  std::string data;
};
[[nodiscard]] Comtrade to_comtrade(const Record& record, Encoding encoding);
/// Reads revisions 1991 (no year), 1999 and 2013 with any of the four encodings. Throws Error with file
/// name (as given), line and what is wrong.
[[nodiscard]] Record from_comtrade(const Comtrade& files, const std::string& name);

/// Events with their instants, and facts, as sections of the information file of IEC 60255-24:2013, clause 9.
[[nodiscard]] std::string to_information(const Record& record);
/// Reads them back into `record`, with the instant of the trigger; sections of others are passed over. Throws
/// Error with file name and line.
void take_information(std::string_view text, const std::string& name, Record& record);
/// What is read back of a record that is written so: values as rounded as they are there.
[[nodiscard]] Record as_kept(const Record& record, Encoding encoding);

/// Writes PATH.cfg, PATH.dat and, where there are events or facts, PATH.inf (any extension of `path` is
/// replaced). Throws Error when it cannot.
void write_comtrade(const Record& record, const std::filesystem::path& path, Encoding encoding);
/// `path` names the .cfg or the .dat file.
[[nodiscard]] Record read_comtrade(const std::filesystem::path& path);

/// "time_s,NAME unit,..." and a row per sample.
[[nodiscard]] std::string to_csv(const Record& record);

/// Reads what `to_csv` writes; columns of zeros and ones without a unit are two-state signals. Throws Error
/// with file name, line and what is wrong.
[[nodiscard]] Record from_csv(std::string_view text, const std::string& name);

/// The samples and events of a record from one time to another. Throws Error when there is no sample.
[[nodiscard]] Record part_of(const Record& record, double from_s, double until_s);

/// Moves its times so that the first sample is at 0; false when it is there already.
bool begin_at_zero(Record& record);

/// A .csv file, an HDF5 file (.h5 or .hdf5; see zavrek/record/hdf5.hpp), else a COMTRADE record (.cfg or
/// .dat).
[[nodiscard]] Record read_record(const std::filesystem::path& path);
/// Likewise; `encoding` is that of COMTRADE.
void write_record(const Record& record, const std::filesystem::path& path, Encoding encoding);

/// How far one signal of a record may lie from that of another.
struct Band {
  std::string signal;
  double within = 0;  ///< half-width, in the signal's unit; 0: `CompareOptions::band` of its peak
  double over_s = 0;  ///< what stands so far away in time, either way, counts as well
};
/// "battery.p", "battery.p within 10 kW", "battery.p within 10 kW over 50 ms"; the unit of `within` is for
/// the reader, and its prefix counts. Throws Error.
[[nodiscard]] Band parse_band(const std::string& text);

struct CompareOptions {
  std::vector<Band> signals;  ///< all common ones when empty
  double most_shift_s = 0;    ///< the second record is moved by at most this to lie best over the first
  double band = 0.01;         ///< half-width of the band of tolerance, of each signal's peak
  double from_s = -1e300, until_s = 1e300;
};

/// One signal of two records laid over each other, on the instants of the first.
struct SignalComparison {
  std::string name, unit;
  double peak = 0;     ///< largest magnitude of the first
  double band = 0;     ///< half-width of what it may differ by
  double over_s = 0;   ///< in time
  double rms = 0;      ///< of the difference
  double largest = 0;  ///< magnitude of the difference ...
  double largest_at_s = 0;
  double nrmse = 0;                   ///< rms over the first's range (largest less least value)
  double outside = 0;                 ///< share of the instants at which the difference leaves the band
  bool passed = false;                ///< none does
  std::vector<double> first, second;  ///< samples on `Comparison::time_s`
  std::vector<double> difference;     ///< of the second from the nearest value of the first within `over_s`
};
struct Comparison {
  double shift_s = 0;  ///< the second record lags the first by this
  std::vector<double> time_s;
  std::vector<SignalComparison> signals;
  [[nodiscard]] bool passed() const;
};

/// Throws Error when the records share no signal or no time, or when a wanted signal is missing in one.
[[nodiscard]] Comparison compare(const Record& first, const Record& second,
                                 const CompareOptions& options = {});

/// Rms of the fundamental by full-cycle Fourier over the cycle that ends at each sample; zero during the
/// first cycle. Needs an even rate. Of several signals at once: their sum (the residual, say).
[[nodiscard]] std::vector<double> fundamental_rms(const Record& record,
                                                  const std::vector<const Analog*>& sum_of);

/// Whole file as bytes; throws Error naming it.
[[nodiscard]] std::string read_file(const std::filesystem::path& path);
/// Of bytes, in lower-case hexadecimal (FIPS 180-4).
[[nodiscard]] std::string sha256(std::string_view bytes);
void write_file(const std::filesystem::path& path, std::string_view content);

}  // namespace zavrek::record
