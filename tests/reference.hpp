// Columns of a reference file in tests/data: answers computed without this project's code.
#pragma once

#include <fstream>
#include <sstream>
#include <stdexcept>
#include <string>
#include <vector>

namespace zavrek::test {

/// One column of numbers, without its heading.
inline std::vector<double> read_column(const std::string& path, std::size_t column) {
  std::ifstream in(path);
  if (!in) throw std::runtime_error("no reference " + path);
  std::vector<double> values;
  std::string line;
  std::getline(in, line);
  while (std::getline(in, line)) {
    std::stringstream cells(line);
    std::string cell;
    for (std::size_t k = 0; k <= column; ++k) std::getline(cells, cell, ',');
    values.push_back(std::stod(cell));
  }
  return values;
}

struct Reference {
  std::vector<double> time_s;
  std::vector<double> value;
};

/// The first column as time, another as value.
inline Reference read_reference(const std::string& path, std::size_t column) {
  return {read_column(path, 0), read_column(path, column)};
}

}  // namespace zavrek::test
