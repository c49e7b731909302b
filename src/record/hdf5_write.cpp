#include <algorithm>
#include <cstring>
#include <set>

#include <fmt/format.h>

#include "record/file_beside.hpp"
#include "record/hdf5_file.hpp"
#include "record/plain.hpp"
#include "record/rows.hpp"
#include "zavrek/record/hdf5.hpp"

namespace zavrek::record {
namespace internal::hdf5 {

constexpr std::size_t chunk_bytes = 1U << 18U;
constexpr unsigned packed = 1;  // of 0 to 9: the first takes most of what can be taken

/// Cut where a letter begins.
template <std::size_t Bytes>
void put(std::array<char, Bytes>& into, const std::string& text) {
  std::size_t count = std::min(text.size(), Bytes - 1);
  while (count < text.size() && count > 0 && (static_cast<unsigned char>(text[count]) & 0xC0U) == 0x80)
    --count;
  into.fill('\0');
  std::memcpy(into.data(), text.data(), count);
}
EventRow row_of(const Event& event) {
  EventRow row{};
  row.time_s = event.time_s;
  put(row.text, event.text);
  put(row.of, event.of);
  row.on = event.on ? 1 : 0;
  return row;
}

/// Datasets that grow by rows.
class Writer {
 public:
  Writer(const std::filesystem::path& path, const Record& head, double rate_Hz)
      : path_(path.string()), analogs_(head.analogs.size()), states_(head.binaries.size()) {
    be_quiet();
    const Handle access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
    H5Pset_libver_bounds(access.get(), H5F_LIBVER_V110, H5F_LIBVER_V110);
    file_ = Handle(H5Fcreate(path_.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, access.get()), H5Fclose);
    if (!file_.good()) refuse(path_, "cannot be written");
    put_attributes(head, rate_Hz);
    put_channels(head);
    time_ = grown("time_s", H5T_NATIVE_DOUBLE, 0);
    if (analogs_ > 0) values_ = grown("analogs", H5T_NATIVE_DOUBLE, analogs_);
    if (states_ > 0) bits_ = grown("states", H5T_NATIVE_UINT8, states_);
    event_type_ = type_of(static_cast<const EventRow*>(nullptr));
    events_ = grown("events", event_type_.get(), 0);
  }

  void append(std::span<const double> times, std::span<const double> values,
              std::span<const std::uint8_t> bits) {
    append(time_, H5T_NATIVE_DOUBLE, rows_, times.size(), 0, times.data());
    append(values_, H5T_NATIVE_DOUBLE, rows_, times.size(), analogs_, values.data());
    append(bits_, H5T_NATIVE_UINT8, rows_, times.size(), states_, bits.data());
    rows_ += times.size();
  }
  void append(const std::vector<EventRow>& events) {
    append(events_, event_type_.get(), events_kept_, events.size(), 0, events.data());
    events_kept_ += events.size();
  }
  void let_others_read() {
    if (H5Fstart_swmr_write(file_.get()) < 0) refuse(path_, "cannot be read by others while it grows");
  }
  void flush() {
    // In the order in which a reader looks: rows before the instants that say how many there are.
    for (const Handle* of : {&values_, &bits_, &events_, &time_}) {
      if (of->good() && H5Dflush(of->get()) < 0) refuse(path_, "could not be flushed to the disk");
    }
  }
  [[nodiscard]] std::size_t rows() const noexcept { return rows_; }
  [[nodiscard]] const std::string& path() const noexcept { return path_; }

 private:
  void attribute(hid_t at, const std::string& name, hid_t type, const void* value) {
    const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
    const Handle one(H5Acreate2(at, name.c_str(), type, space.get(), H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    if (!one.good() || H5Awrite(one.get(), type, value) < 0)
      refuse(path_, fmt::format("\"{}\" could not be written", name));
  }
  void attribute(hid_t at, const std::string& name, const std::string& text) {
    const Handle type = text_type(text.size() + 1);
    attribute(at, name, type.get(), text.c_str());
  }
  void put_attributes(const Record& head, double rate_Hz) {
    const hid_t root = file_.get();
    attribute(root, "layout", H5T_NATIVE_INT, &layout);
    attribute(root, "station", internal::readable(head.station));
    attribute(root, "device", internal::readable(head.device));
    attribute(root, "frequency_Hz", H5T_NATIVE_DOUBLE, &head.frequency_Hz);
    attribute(root, "rate_Hz", H5T_NATIVE_DOUBLE, &rate_Hz);
    attribute(root, "start_utc_ns", H5T_NATIVE_INT64, &head.start_utc_ns);
    attribute(root, "trigger_s", H5T_NATIVE_DOUBLE, &head.trigger_s);
    const Handle facts(H5Gcreate2(root, "facts", H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
    std::set<std::string> known;
    for (const auto& [name, value] : head.facts) {
      if (known.insert(name).second)
        attribute(facts.get(), internal::readable(name), internal::readable(value));
    }
  }
  void put_channels(const Record& head) {
    std::vector<ChannelRow> channels(analogs_);
    for (std::size_t k = 0; k < analogs_; ++k) {
      const Analog& from = head.analogs[k];
      put(channels[k].name, from.name);
      put(channels[k].phase, from.phase);
      put(channels[k].unit, from.unit);
      channels[k].primary = from.primary;
      channels[k].secondary = from.secondary;
    }
    std::vector<StateRow> states(states_);
    for (std::size_t k = 0; k < states_; ++k) {
      put(states[k].name, head.binaries[k].name);
      states[k].normal = head.binaries[k].normal ? 1 : 0;
    }
    put_table("analog_channels", channels);
    put_table("state_channels", states);
  }
  template <class Row>
  void put_table(const char* name, const std::vector<Row>& rows) {
    const Handle type = type_of(rows.data());
    const hsize_t count = rows.size();
    const Handle space(H5Screate_simple(1, &count, nullptr), H5Sclose);
    const Handle data(
        H5Dcreate2(file_.get(), name, type.get(), space.get(), H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT),
        H5Dclose);
    if (!data.good() ||
        (count > 0 && H5Dwrite(data.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) < 0))
      refuse(path_, fmt::format("\"{}\" could not be written", name));
  }
  /// A dataset of rows, each of `width` values, or of one thing where that is 0.
  Handle grown(const char* name, hid_t type, std::size_t width) {
    const int rank = width == 0 ? 1 : 2;
    const std::size_t across = std::max<std::size_t>(1, width);
    const std::size_t rows = std::clamp<std::size_t>(chunk_bytes / (across * H5Tget_size(type)), 16, 8192);
    const std::array<hsize_t, 2> now{0, across}, most{H5S_UNLIMITED, across}, chunk{rows, across};
    const Handle space(H5Screate_simple(rank, now.data(), most.data()), H5Sclose);
    const Handle how(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
    H5Pset_chunk(how.get(), rank, chunk.data());
    H5Pset_shuffle(how.get());
    H5Pset_deflate(how.get(), packed);
    Handle data(H5Dcreate2(file_.get(), name, type, space.get(), H5P_DEFAULT, how.get(), H5P_DEFAULT),
                H5Dclose);
    if (!data.good()) refuse(path_, fmt::format("\"{}\" could not be made", name));
    return data;
  }
  void append(const Handle& to, hid_t type, std::size_t first, std::size_t count, std::size_t width,
              const void* from) {
    if (!to.good() || count == 0) return;
    const int rank = width == 0 ? 1 : 2;
    const std::array<hsize_t, 2> all{first + count, width}, begin{first, 0}, more{count, width};
    if (H5Dset_extent(to.get(), all.data()) >= 0) {
      const Handle space(H5Dget_space(to.get()), H5Sclose),
          piece(H5Screate_simple(rank, more.data(), nullptr), H5Sclose);
      H5Sselect_hyperslab(space.get(), H5S_SELECT_SET, begin.data(), nullptr, more.data(), nullptr);
      if (H5Dwrite(to.get(), type, piece.get(), space.get(), H5P_DEFAULT, from) >= 0) return;
    }
    refuse(path_, fmt::format("its rows could not be kept from number {} on; is the disk full?", first + 1));
  }

  std::string path_;
  std::size_t analogs_, states_, rows_ = 0, events_kept_ = 0;
  Handle file_, event_type_, time_, values_, bits_, events_;
};

/// Rows as they come one by one, to be written many at once.
class Gathered {
 public:
  Gathered(Writer& to, std::size_t analogs, std::size_t states)
      : to_(to), analogs_(analogs), states_(states) {}
  void add(double time_s, const double* row) {
    times_.push_back(time_s);
    values_.insert(values_.end(), row, row + analogs_);
    for (std::size_t k = 0; k < states_; ++k) bits_.push_back(row[analogs_ + k] != 0 ? 1 : 0);
    if (times_.size() >= rows_at_once) write();
  }
  void write() {
    to_.append(times_, values_, bits_);
    times_.clear(), values_.clear(), bits_.clear();
  }

 private:
  Writer& to_;
  std::size_t analogs_, states_;
  std::vector<double> times_, values_;
  std::vector<std::uint8_t> bits_;
};

static void write(const Record& head, Rows& rows, double rate_Hz, const std::filesystem::path& path) {
  internal::FileBeside place(path);
  {
    Writer writer(place.path(), head, rate_Hz);
    Gathered gathered(writer, head.analogs.size(), head.binaries.size());
    for (std::size_t k = 0; k < rows.count(); ++k) gathered.add(rows.time_s(k), rows.row(k));
    gathered.write();
    std::vector<EventRow> events;
    for (const Event& event : head.events) events.push_back(row_of(event));
    writer.append(events);
  }
  place.move_in();
}

}  // namespace internal::hdf5

using namespace internal::hdf5;

void write_hdf5(const Record& record, const std::filesystem::path& path) {
  internal::RowsInMemory rows(record);
  internal::hdf5::write(record, rows, record.rate_Hz, path);
}

void write_hdf5(const Record& head, const RowFile& file, const std::filesystem::path& path) {
  internal::RowsOnDisk rows(file);
  internal::hdf5::write(head, rows, file.rate_Hz(), path);
}

class GrowingHdf5::File {
 public:
  File(const std::filesystem::path& path, const Record& head)
      : writer(path, head, head.rate_Hz),
        gathered(writer, head.analogs.size(), head.binaries.size()),
        rate_Hz(head.rate_Hz),
        width(head.analogs.size() + head.binaries.size()) {
    writer.let_others_read();
  }
  Writer writer;
  Gathered gathered;
  double rate_Hz;
  std::size_t width, taken = 0;
};

GrowingHdf5::GrowingHdf5(const std::filesystem::path& path, const Record& head) {
  if (path.has_parent_path()) {
    std::error_code ignored;
    std::filesystem::create_directories(path.parent_path(), ignored);
  }
  file_ = std::make_unique<File>(path, head);
}
GrowingHdf5::~GrowingHdf5() {
  try {
    flush();
  } catch (const Error&) {  // whoever wanted to know has flushed before
  }
}

void GrowingHdf5::append(std::span<const double> rows) {
  for (std::size_t k = 0; k + file_->width <= rows.size(); k += file_->width)
    file_->gathered.add(static_cast<double>(file_->taken++) / file_->rate_Hz, rows.data() + k);
}
void GrowingHdf5::append(const Event& event) { file_->writer.append({row_of(event)}); }
void GrowingHdf5::flush() {
  file_->gathered.write();
  file_->writer.flush();
}
std::size_t GrowingHdf5::rows() const noexcept { return file_->taken; }

}  // namespace zavrek::record
