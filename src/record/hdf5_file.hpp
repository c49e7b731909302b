// What writing and reading HDF5 share: handles of the library, and the rows of the tables.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <initializer_list>
#include <string>
#include <utility>

#include <hdf5.h>

#include "zavrek/error.hpp"

namespace zavrek::record::internal::hdf5 {

inline constexpr int layout = 1;
inline constexpr std::size_t name_bytes = 256, text_bytes = 512, short_bytes = 16;
inline constexpr std::size_t rows_at_once = 1024;

[[noreturn]] inline void refuse(const std::string& file, const std::string& text) {
  throw Error(Flaw{.file = file, .place = {}, .field = {}, .text = text});
}

/// Something of the library that is closed behind its last use.
class Handle {
 public:
  using Closer = herr_t (*)(hid_t);
  Handle() = default;
  Handle(hid_t id, Closer close) : id_(id), close_(close) {}
  Handle(Handle&& other) noexcept : id_(std::exchange(other.id_, -1)), close_(other.close_) {}
  Handle& operator=(Handle&& other) noexcept {
    std::swap(id_, other.id_);
    std::swap(close_, other.close_);
    return *this;
  }
  Handle(const Handle&) = delete;
  Handle& operator=(const Handle&) = delete;
  ~Handle() {
    if (id_ >= 0) close_(id_);
  }
  [[nodiscard]] hid_t get() const noexcept { return id_; }
  [[nodiscard]] bool good() const noexcept { return id_ >= 0; }

 private:
  hid_t id_ = -1;
  Closer close_ = nullptr;
};

/// The library's own report of errors goes nowhere: what is wrong is said here.
inline void be_quiet() { (void)H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr); }

struct ChannelRow {
  std::array<char, name_bytes> name;
  std::array<char, short_bytes> phase, unit;
  double primary, secondary;
};
struct StateRow {
  std::array<char, name_bytes> name;
  std::uint8_t normal;
};
struct EventRow {
  double time_s;
  std::array<char, text_bytes> text;
  std::array<char, name_bytes> of;
  std::uint8_t on;
};

inline Handle text_type(std::size_t bytes) {
  Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
  H5Tset_size(type.get(), bytes);
  H5Tset_strpad(type.get(), H5T_STR_NULLTERM);
  H5Tset_cset(type.get(), H5T_CSET_UTF8);
  return type;
}

/// A field of a table's rows.
struct Member {
  const char* name;
  std::size_t place;
  std::size_t text = 0;  ///< bytes; 0 for a number
  hid_t number = -1;
};
inline Handle row_type(std::size_t size, std::initializer_list<Member> members) {
  Handle type(H5Tcreate(H5T_COMPOUND, size), H5Tclose);
  for (const Member& member : members) {
    if (member.text == 0) {
      H5Tinsert(type.get(), member.name, member.place, member.number);
      continue;
    }
    const Handle text = text_type(member.text);
    H5Tinsert(type.get(), member.name, member.place, text.get());
  }
  return type;
}
inline Handle type_of(const ChannelRow*) {
  return row_type(sizeof(ChannelRow), {{"name", offsetof(ChannelRow, name), name_bytes},
                                       {"phase", offsetof(ChannelRow, phase), short_bytes},
                                       {"unit", offsetof(ChannelRow, unit), short_bytes},
                                       {"primary", offsetof(ChannelRow, primary), 0, H5T_NATIVE_DOUBLE},
                                       {"secondary", offsetof(ChannelRow, secondary), 0, H5T_NATIVE_DOUBLE}});
}
inline Handle type_of(const StateRow*) {
  return row_type(sizeof(StateRow), {{"name", offsetof(StateRow, name), name_bytes},
                                     {"normal", offsetof(StateRow, normal), 0, H5T_NATIVE_UINT8}});
}
inline Handle type_of(const EventRow*) {
  return row_type(sizeof(EventRow), {{"time_s", offsetof(EventRow, time_s), 0, H5T_NATIVE_DOUBLE},
                                     {"text", offsetof(EventRow, text), text_bytes},
                                     {"of", offsetof(EventRow, of), name_bytes},
                                     {"on", offsetof(EventRow, on), 0, H5T_NATIVE_UINT8}});
}

}  // namespace zavrek::record::internal::hdf5
