#include "exported/fmu.hpp"

#include <cmath>

#include <fmt/format.h>

namespace zavrek::exported {

Fmu::Fmu(const char* token, Log log) : log_(std::move(log)) {
  const Parts& parts = own_parts();
  const auto own = parts.find("token");
  if (own == parts.end() || token == nullptr || own->second != token)
    throw Error("the description is that of another model: its token differs");
  model_ = make_model(parts);
}

std::pair<Fmu::Kind, std::size_t> Fmu::find(unsigned reference) const noexcept {
  if (reference == 0) return {Kind::time, 0};
  std::size_t k = reference - 1;
  const std::pair<Kind, std::size_t> lists[] = {{Kind::input, model_->inputs().size()},
                                                {Kind::parameter, model_->parameters().size()},
                                                {Kind::output, model_->outputs().size()}};
  for (const auto& [kind, count] : lists) {
    if (k < count) return {kind, k};
    k -= count;
  }
  return {Kind::none, 0};
}

bool Fmu::get(unsigned reference, double& value) const noexcept {
  const auto [kind, k] = find(reference);
  switch (kind) {
    case Kind::time:
      value = time_s();
      return true;
    case Kind::input:
      value = model_->input(k);
      return true;
    case Kind::parameter:
      value = model_->parameter(k);
      return true;
    case Kind::output:
      value = model_->output(k);
      return true;
    default:
      return false;
  }
}

bool Fmu::set(unsigned reference, double value) {
  const auto [kind, k] = find(reference);
  if (kind != Kind::input && kind != Kind::parameter)
    return refuse(fmt::format("value reference {} is neither an input nor a parameter", reference));
  if (!(kind == Kind::input ? model_->set_input(k, value) : model_->set_parameter(k, value)))
    return refuse(fmt::format("value reference {}: no finite number", reference));
  return true;
}

bool Fmu::advance(double from_s, double by_s) {
  const double step = model_->step_s();
  const double count = std::round(by_s / step);
  if (!(count >= 1) || std::abs(by_s / step - count) > 1e-6 * count)
    return refuse(fmt::format("a step of {} s is no whole number of the model's steps of {} s", by_s, step));
  if (std::abs(from_s - time_s()) > 0.5 * step)
    return refuse(fmt::format("the model stands at {} s, not at {} s", time_s(), from_s));
  for (double k = 0; k < count; ++k) {
    if (!model_->step()) return refuse(model_->failure());
  }
  return true;
}

bool Fmu::restore(const std::vector<std::byte>& from) {
  try {
    model_->restore(from);
    return true;
  } catch (const Error& error) {
    return refuse(error.what());
  }
}

bool Fmu::reset() {
  begins_s_ = 0;
  try {
    model_->reset();
    return true;
  } catch (const Error& error) {
    return refuse(error.what());
  }
}

}  // namespace zavrek::exported
