#include <algorithm>
#include <cmath>
#include <cstring>

#include <fmt/format.h>

#include "record/hdf5_file.hpp"
#include "record/plain.hpp"
#include "zavrek/limits.hpp"
#include "zavrek/record/hdf5.hpp"

namespace zavrek::record {
namespace {

using namespace internal::hdf5;

constexpr unsigned attempts = 24;  // 16 ms at the last

template <std::size_t Bytes>
std::string text_of(const std::array<char, Bytes>& from) {
  return internal::readable({from.data(), strnlen(from.data(), Bytes)});
}

class Reader {
 public:
  explicit Reader(const std::filesystem::path& path) : path_(path.string()) {
    be_quiet();
    std::error_code trouble;
    const auto status = std::filesystem::status(path, trouble);
    if (std::filesystem::is_other(status)) refuse(path_, "is no ordinary file");
    if (!std::filesystem::is_regular_file(status)) refuse(path_, "cannot be read");
    file_ = Handle(H5Fopen(path_.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
    if (!file_.good()) {
      // One that is being written, or was when its writer died. What a writer is about to change is read
      // again; each time the library waits twice as long, without end unless told.
      const Handle access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
      H5Pset_metadata_read_attempts(access.get(), attempts);
      file_ = Handle(H5Fopen(path_.c_str(), H5F_ACC_RDONLY | H5F_ACC_SWMR_READ, access.get()), H5Fclose);
    }
    if (!file_.good()) refuse(path_, "is no HDF5 file, or a damaged one");
  }

  Record read() {
    Record record;
    int is = 0;
    number(file_.get(), "layout", H5T_NATIVE_INT, &is);
    if (is != layout) refuse(path_, fmt::format("its layout is {}, not {}", is, layout));
    record.station = text(file_.get(), "station");
    record.device = text(file_.get(), "device");
    number(file_.get(), "frequency_Hz", H5T_NATIVE_DOUBLE, &record.frequency_Hz);
    number(file_.get(), "rate_Hz", H5T_NATIVE_DOUBLE, &record.rate_Hz);
    number(file_.get(), "start_utc_ns", H5T_NATIVE_INT64, &record.start_utc_ns);
    number(file_.get(), "trigger_s", H5T_NATIVE_DOUBLE, &record.trigger_s);
    check_numbers(record);
    read_facts(record);
    read_times(record);
    const std::size_t rows = record.time_s.size();
    for (const ChannelRow& from : table<ChannelRow>("analog_channels"))
      record.analogs.push_back(
          {text_of(from.name), text_of(from.phase), text_of(from.unit), from.primary, from.secondary, {}});
    for (const StateRow& from : table<StateRow>("state_channels"))
      record.binaries.push_back({text_of(from.name), from.normal != 0, {}});
    columns("analogs", H5T_NATIVE_DOUBLE, rows, record.analogs);
    columns("states", H5T_NATIVE_UINT8, rows, record.binaries);
    for (Binary& binary : record.binaries) {
      for (std::uint8_t& state : binary.samples) state = state != 0 ? 1 : 0;
    }
    for (const EventRow& from : table<EventRow>("events")) {
      if (!(std::abs(from.time_s) <= limits::record_s)) refuse(path_, "an event lies beyond 30 years");
      record.events.push_back({from.time_s, text_of(from.text), text_of(from.of), from.on != 0});
    }
    std::stable_sort(record.events.begin(), record.events.end(),
                     [](const Event& a, const Event& b) { return a.time_s < b.time_s; });
    return record;
  }

 private:
  [[nodiscard]] Handle attribute(hid_t at, const char* name) const {
    Handle one(H5Aopen(at, name, H5P_DEFAULT), H5Aclose);
    if (!one.good()) refuse(path_, fmt::format("attribute \"{}\" is missing", name));
    const Handle space(H5Aget_space(one.get()), H5Sclose);
    if (H5Sget_simple_extent_npoints(space.get()) != 1)
      refuse(path_, fmt::format("attribute \"{}\" is not one value", name));
    return one;
  }
  void number(hid_t at, const char* name, hid_t type, void* into) const {
    const Handle one = attribute(at, name);
    const Handle has(H5Aget_type(one.get()), H5Tclose);
    const H5T_class_t kind = H5Tget_class(has.get());
    if ((kind != H5T_INTEGER && kind != H5T_FLOAT) || H5Aread(one.get(), type, into) < 0)
      refuse(path_, fmt::format("attribute \"{}\" is no number", name));
  }
  [[nodiscard]] std::string text(hid_t at, const char* name) const {
    const Handle one = attribute(at, name);
    const Handle has(H5Aget_type(one.get()), H5Tclose);
    const std::size_t bytes = H5Tget_size(has.get());
    if (H5Tget_class(has.get()) != H5T_STRING || H5Tis_variable_str(has.get()) != 0 ||
        bytes > 4 * limits::text_letters)
      refuse(path_, fmt::format("attribute \"{}\" is no text of fixed length", name));
    std::string content(bytes, '\0');
    if (H5Aread(one.get(), has.get(), content.data()) < 0)
      refuse(path_, fmt::format("attribute \"{}\" cannot be read", name));
    content.resize(strnlen(content.data(), content.size()));
    return internal::readable(content);
  }
  void check_numbers(const Record& record) const {
    if (!(record.frequency_Hz >= limits::least_frequency_Hz &&
          record.frequency_Hz <= limits::most_frequency_Hz))
      refuse(path_, "frequency_Hz is not between 1 and 1000");
    if (!(record.rate_Hz >= 0 && record.rate_Hz <= 1e9)) refuse(path_, "rate_Hz is not between 0 and 1e9");
    if (!(std::abs(record.trigger_s) <= limits::record_s)) refuse(path_, "trigger_s is beyond 30 years");
  }
  void read_facts(Record& record) const {
    const Handle facts(H5Gopen2(file_.get(), "facts", H5P_DEFAULT), H5Gclose);
    if (!facts.good()) return;
    std::vector<std::string> names;
    hsize_t from = 0;
    H5Aiterate2(
        facts.get(), H5_INDEX_NAME, H5_ITER_NATIVE, &from,
        [](hid_t, const char* name, const H5A_info_t*, void* into) -> herr_t {
          auto& all = *static_cast<std::vector<std::string>*>(into);
          all.emplace_back(name);
          return all.size() > 1000 ? 1 : 0;
        },
        &names);
    for (const std::string& name : names)
      record.facts.emplace_back(internal::readable(name), text(facts.get(), name.c_str()));
  }
  [[nodiscard]] Handle dataset(const char* name) const {
    Handle data(H5Dopen2(file_.get(), name, H5P_DEFAULT), H5Dclose);
    if (!data.good()) refuse(path_, fmt::format("\"{}\" is missing", name));
    return data;
  }
  /// Rows and columns; one column where it has one dimension.
  [[nodiscard]] std::array<hsize_t, 2> shape(const Handle& data, const char* name) const {
    const Handle space(H5Dget_space(data.get()), H5Sclose);
    std::array<hsize_t, 2> size{0, 1};
    const int rank = H5Sget_simple_extent_ndims(space.get());
    if (rank < 1 || rank > 2 || H5Sget_simple_extent_dims(space.get(), size.data(), nullptr) != rank)
      refuse(path_, fmt::format("\"{}\" has {} dimensions", name, rank));
    if (size[0] > limits::file_bytes || size[1] > limits::file_bytes ||
        size[0] * size[1] * sizeof(double) > 4 * limits::file_bytes)
      refuse(path_, fmt::format("\"{}\" is larger than 8 GiB; take a part of it by another program", name));
    return size;
  }
  void read_times(Record& record) const {
    const Handle data = dataset("time_s");
    const auto size = shape(data, "time_s");
    record.time_s.resize(size[0]);
    if (size[1] != 1 || record.time_s.empty() ||
        H5Dread(data.get(), H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, record.time_s.data()) < 0)
      refuse(path_, "holds no samples");
    for (std::size_t k = 0; k < record.time_s.size(); ++k) {
      const double t = record.time_s[k];
      if (!(std::abs(t) <= limits::record_s) || (k > 0 && t <= record.time_s[k - 1]))
        refuse(path_, fmt::format("time_s does not rise at row {}", k + 1));
    }
  }
  /// The columns of a dataset to channels; a writer at work may have more rows there than instants.
  template <class Channel>
  void columns(const char* name, hid_t type, std::size_t rows, std::vector<Channel>& channels) const {
    if (channels.empty()) return;
    const Handle data = dataset(name);
    const auto size = shape(data, name);
    if (size[1] != channels.size() || size[0] < rows)
      refuse(path_, fmt::format("\"{}\" has {} rows of {}, not {} of {}", name, size[0], size[1], rows,
                                channels.size()));
    using Sample = typename decltype(channels[0].samples)::value_type;
    std::vector<Sample> piece(rows_at_once * channels.size());
    for (Channel& channel : channels) channel.samples.resize(rows);
    for (std::size_t first = 0; first < rows; first += rows_at_once) {
      const std::array<hsize_t, 2> begin{first, 0},
          count{std::min(rows_at_once, rows - first), channels.size()};
      const Handle space(H5Dget_space(data.get()), H5Sclose),
          held(H5Screate_simple(2, count.data(), nullptr), H5Sclose);
      H5Sselect_hyperslab(space.get(), H5S_SELECT_SET, begin.data(), nullptr, count.data(), nullptr);
      if (H5Dread(data.get(), type, held.get(), space.get(), H5P_DEFAULT, piece.data()) < 0)
        refuse(path_, fmt::format("\"{}\" cannot be read from row {} on", name, first + 1));
      for (std::size_t k = 0; k < count[0]; ++k) {
        for (std::size_t c = 0; c < channels.size(); ++c)
          channels[c].samples[first + k] = piece[k * channels.size() + c];
      }
    }
  }
  template <class Row>
  [[nodiscard]] std::vector<Row> table(const char* name) const {
    const Handle data = dataset(name);
    const auto size = shape(data, name);
    const Handle wanted = type_of(static_cast<const Row*>(nullptr)), has(H5Dget_type(data.get()), H5Tclose);
    if (size[1] != 1 || size[0] > limits::sweep_trials || H5Tget_class(has.get()) != H5T_COMPOUND)
      refuse(path_, fmt::format("\"{}\" is no table", name));
    for (int k = 0; k < H5Tget_nmembers(wanted.get()); ++k) {
      char* member = H5Tget_member_name(wanted.get(), static_cast<unsigned>(k));
      const bool there = H5Tget_member_index(has.get(), member) >= 0;
      const std::string which = member;
      H5free_memory(member);
      if (!there) refuse(path_, fmt::format("\"{}\" has no \"{}\"", name, which));
    }
    std::vector<Row> rows(size[0]);
    if (!rows.empty() && H5Dread(data.get(), wanted.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) < 0)
      refuse(path_, fmt::format("\"{}\" cannot be read", name));
    return rows;
  }

  std::string path_;
  Handle file_;
};

}  // namespace

Record read_hdf5(const std::filesystem::path& path) { return Reader(path).read(); }

}  // namespace zavrek::record
