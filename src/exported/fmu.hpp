// What both versions of the Functional Mock-up Interface share: one model, its variables by their value
// references.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "exported/instance.hpp"

namespace zavrek::exported {

/// Value references: 0 the time, then inputs, parameters, outputs, as the description lists them.
class Fmu {
 public:
  using Log = std::function<void(const char* category, const std::string& text)>;
  /// Throws Error: a token of another model, or what `make_model` says.
  Fmu(const char* token, Log log);

  [[nodiscard]] bool get(unsigned reference, double& value) const noexcept;
  /// False, and told, for what is not there, cannot be set, or is no number.
  bool set(unsigned reference, double value);
  /// From a point by a whole number of steps. False, and told, when it is none, when the model stands
  /// elsewhere, or when it cannot go on.
  bool advance(double from_s, double by_s);
  void begin_at(double start_s) noexcept { begins_s_ = start_s; }
  [[nodiscard]] double time_s() const noexcept { return begins_s_ + model_->time_s(); }

  void save(std::vector<std::byte>& into) { model_->save(into); }
  bool restore(const std::vector<std::byte>& from);
  bool reset();
  bool refuse(const std::string& text) const {
    log_("logStatusError", text);
    return false;
  }

 private:
  enum class Kind { time, input, parameter, output, none };
  [[nodiscard]] std::pair<Kind, std::size_t> find(unsigned reference) const noexcept;
  std::unique_ptr<model::Model> model_;
  Log log_;
  double begins_s_ = 0;
};

}  // namespace zavrek::exported
