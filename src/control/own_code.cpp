// A user's own code as a block: what it gives is looked at before anything uses it.
#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "control/function.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {
namespace {

class OwnFunction final : public BlockFunction {
 public:
  OwnFunction(const OwnCode& b, std::unique_ptr<Own> code, std::size_t inputs, std::size_t outputs)
      : name_("own." + b.name), code_(std::move(code)), inputs_(inputs), given_(outputs) {}
  void step(const Instant& instant, const double* in, double* out) noexcept override {
    if (!failure_.empty()) return;
    std::fill(given_.begin(), given_.end(), std::numeric_limits<double>::quiet_NaN());
    const std::string why = attempt(instant.time_s, in);
    if (!why.empty()) {
      failure_ = fmt::format("{}: {} (t = {:.6g} s)", name_, why, instant.time_s);
      return;
    }
    std::copy(given_.begin(), given_.end(), out);
  }
  [[nodiscard]] bool may_fail() const override { return true; }
  [[nodiscard]] const std::string* failure() const noexcept override {
    return failure_.empty() ? nullptr : &failure_;
  }
  void visit_state(StateArchive& archive) override { archive.miss(); }

 private:
  std::string attempt(double time_s, const double* in) noexcept {
    try {
      if (std::string why = code_->step(time_s, {in, inputs_}, given_); !why.empty()) return why;
    } catch (const std::exception& error) {
      return fmt::format("threw \"{}\"", error.what());
    } catch (...) {
      return "threw something that is no std::exception";
    }
    for (std::size_t k = 0; k < given_.size(); ++k) {
      if (!std::isfinite(given_[k]))
        return fmt::format("its output \"{}\" was not set to a finite value", code_->outputs()[k]);
    }
    return {};
  }

  std::string name_;
  std::unique_ptr<Own> code_;
  std::size_t inputs_;
  std::vector<double> given_;
  std::string failure_;
};

/// "NAME: TEXT" pairs by the order of `names`; empty for one that is not given.
std::vector<std::string> by_name(const OwnCode& b, const char* field, const std::vector<std::string>& pairs,
                                 const std::vector<std::string>& names) {
  std::vector<std::string> texts(names.size());
  for (const std::string& pair : pairs) {
    const std::size_t colon = pair.find(':');
    const std::string name = pair.substr(0, colon);
    const auto at = std::find(names.begin(), names.end(), name);
    if (colon == std::string::npos || at == names.end()) {
      reject("own", b.name, field,
             fmt::format("\"{}\" is none; \"NAME: VALUE\" with a name that the code knows is wanted{}", pair,
                         suggestion(name, names)));
    }
    const std::size_t begin = pair.find_first_not_of(' ', colon + 1);
    texts[static_cast<std::size_t>(at - names.begin())] =
        begin == std::string::npos ? std::string() : pair.substr(begin);
  }
  return texts;
}

}  // namespace

Made make_own(const OwnCode& b, double period_s, const OwnMaker& maker) {
  if (b.library.empty() == b.code.empty())
    reject("own", b.name, "library", "exactly one of `library` and `code` is wanted");
  std::unique_ptr<Own> code = maker ? maker(b) : nullptr;
  if (code == nullptr) {
    reject("own", b.name, b.library.empty() ? "code" : "library",
           fmt::format("nothing here gives \"{}\"", b.library.empty() ? b.code : b.library));
  }
  Made m{nullptr, by_name(b, "inputs", b.inputs, code->inputs()), code->outputs(), {}};
  for (std::size_t k = 0; k < m.inputs.size(); ++k) {
    if (m.inputs[k].empty())
      reject("own", b.name, "inputs", fmt::format("\"{}\" is missing", code->inputs()[k]));
  }
  std::vector<double> parameters;
  for (const std::string& text : by_name(b, "parameters", b.parameters, code->parameters()))
    parameters.push_back(text.empty() ? unset : parse_quantity(text).value);
  code->start(period_s, parameters);
  const std::size_t inputs = m.inputs.size(), outputs = m.outputs.size();
  m.function = std::make_unique<OwnFunction>(b, std::move(code), inputs, outputs);
  return m;
}

}  // namespace zavrek::control
