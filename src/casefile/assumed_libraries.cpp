// Libraries of `own` blocks that are not run: what a case expects of them.
#include <algorithm>
#include <cctype>
#include <filesystem>

#include <fmt/format.h>

#include "zavrek/casefile.hpp"
#include "zavrek/record.hpp"

namespace zavrek::casefile {
namespace {

/// All that follows NAME and a point in the files of a case: what it expects of a block whose code is not
/// run.
std::vector<std::string> asked_of(const std::filesystem::path& folder, const std::string& name) {
  std::vector<std::string> outputs;
  for (const auto& entry : std::filesystem::directory_iterator(folder)) {
    if (entry.path().extension() != ".toml") continue;
    const std::string text = record::read_file(entry.path());
    for (std::size_t at = text.find(name + "."); at != std::string::npos;
         at = text.find(name + ".", at + 1)) {
      const auto is_letter = [](char c) {
        return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_';
      };
      if (at > 0 && (is_letter(text[at - 1]) || text[at - 1] == '.')) continue;
      const std::size_t begin = at + name.size() + 1;
      std::size_t end = begin;
      while (end < text.size() && is_letter(text[end])) ++end;
      const std::string output = text.substr(begin, end - begin);
      if (!output.empty() && std::find(outputs.begin(), outputs.end(), output) == outputs.end())
        outputs.push_back(output);
    }
  }
  if (outputs.empty()) outputs.emplace_back("output");
  return outputs;
}

/// A library taken to be what the case expects of it.
class Assumed final : public control::Own {
 public:
  Assumed(const control::OwnCode& block, std::vector<std::string> outputs)
      : inputs_(names_in(block.inputs)),
        parameters_(names_in(block.parameters)),
        outputs_(std::move(outputs)) {}
  [[nodiscard]] std::vector<std::string> inputs() const override { return inputs_; }
  [[nodiscard]] std::vector<std::string> outputs() const override { return outputs_; }
  [[nodiscard]] std::vector<std::string> parameters() const override { return parameters_; }
  std::string step(double, std::span<const double>, std::span<double>) override { return "is not run"; }

 private:
  static std::vector<std::string> names_in(const std::vector<std::string>& pairs) {
    std::vector<std::string> names;
    for (const std::string& pair : pairs) names.push_back(pair.substr(0, pair.find(':')));
    return names;
  }
  std::vector<std::string> inputs_, parameters_, outputs_;
};

}  // namespace

std::vector<std::string> assume_libraries(trial::Case& all) {
  std::vector<std::string> notes = bench::leave_laws_out(all);
  for (const control::Block& block : all.control.blocks) {
    const auto* own = std::get_if<control::OwnCode>(&block);
    if (!own || own->library.empty()) continue;
    if (!std::filesystem::exists(all.folder / own->library)) (void)bench::own_maker(all)(*own);  // says so
    notes.push_back(
        fmt::format("own.{}: {} was not run, its names are taken from the case; --execute asks it", own->name,
                    own->library));
  }
  all.own_library = [folder = all.folder](const control::OwnCode& block) {
    return std::make_unique<Assumed>(block, asked_of(folder, block.name));
  };
  return notes;
}

}  // namespace zavrek::casefile
