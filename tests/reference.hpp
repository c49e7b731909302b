// Columns of a reference file in tests/data: answers computed without this project's code.
#pragma once

#include <fstream>
#include <sstream>
#include <stdexcept>
#include <string>
#include <vector>

namespace zavrek::test {

struct Reference {
  std::vector<double> time_s;
  std::vector<double> value;
};

inline Reference read_reference(const std::string& path, std::size_t column) {
  std::ifstream in(path);
  if (!in) throw std::runtime_error("no reference " + path);
  Reference reference;
  std::string line;
  std::getline(in, line);
  while (std::getline(in, line)) {
    std::stringstream cells(line);
    std::string cell;
    for (std::size_t k = 0; std::getline(cells, cell, ','); ++k) {
      if (k == 0) reference.time_s.push_back(std::stod(cell));
      if (k == column) reference.value.push_back(std::stod(cell));
    }
  }
  return reference;
}

}  // namespace zavrek::test
