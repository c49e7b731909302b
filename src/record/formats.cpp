// Which format a file has, by its ending.
#include "zavrek/record.hpp"
#include "zavrek/record/hdf5.hpp"
#include "zavrek/record/row_file.hpp"

namespace zavrek::record {
namespace {

bool is_hdf5(const std::filesystem::path& path) {
  return path.extension() == ".h5" || path.extension() == ".hdf5";
}

}  // namespace

Record read_record(const std::filesystem::path& path) {
  if (path.extension() == ".csv") return from_csv(read_file(path), path.string());
  if (is_hdf5(path)) return read_hdf5(path);
  return read_comtrade(path);
}

void write_record(const Record& record, const std::filesystem::path& path, Encoding encoding) {
  if (path.extension() == ".csv") return write_file(path, to_csv(record));
  if (is_hdf5(path)) return write_hdf5(record, path);
  write_comtrade(record, path, encoding);
}

void write_record(const Record& head, const RowFile& rows, const std::filesystem::path& path,
                  Encoding encoding) {
  if (path.extension() == ".csv") return write_csv(head, rows, path);
  if (is_hdf5(path)) return write_hdf5(head, rows, path);
  write_comtrade(head, rows, path, encoding);
}

}  // namespace zavrek::record
