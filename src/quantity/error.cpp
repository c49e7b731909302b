#include "zavrek/error.hpp"

#include <utility>

namespace zavrek {

std::string to_string(const Flaw& flaw) {
  std::string line;
  if (!flaw.file.empty()) {
    line += flaw.file;
    if (flaw.line > 0) line += ":" + std::to_string(flaw.line);
    line += ": ";
  }
  line += flaw.place;
  if (!flaw.field.empty()) line += (flaw.place.empty() ? "" : ", ") + flaw.field;
  if (!flaw.place.empty() || !flaw.field.empty()) line += ": ";
  return line + flaw.text;
}

Error::Error(std::string text) : Error(Flaw{.file = {}, .place = {}, .field = {}, .text = std::move(text)}) {}

Error::Error(Flaw flaw) : Error(std::vector<Flaw>{std::move(flaw)}) {}

Error::Error(std::vector<Flaw> flaws) : flaws_(std::move(flaws)) {
  for (const Flaw& flaw : flaws_) what_ += (what_.empty() ? "" : "\n") + to_string(flaw);
}

}  // namespace zavrek
