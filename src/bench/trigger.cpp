#include "bench/trigger.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <sstream>

#include <fmt/format.h>

#include "bench/measured.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr double least_share = 0.2;  // of the largest phasor, for a frequency

std::vector<std::string> split(const std::string& text, const std::string& by) {
  std::vector<std::string> parts;
  std::size_t from = 0;
  for (std::size_t at; (at = text.find(by, from)) != std::string::npos; from = at + by.size())
    parts.push_back(text.substr(from, at - from));
  parts.push_back(text.substr(from));
  return parts;
}

}  // namespace

void RmsOfCycle::push(double value) noexcept {
  sum_ += value * value - squares_[at_];
  squares_[at_] = value * value;
  if (++at_ < squares_.size()) return;
  at_ = 0;
  whole_ = true;
  sum_ = 0;  // afresh, so that rounding cannot gather
  for (const double square : squares_) sum_ += square;
}

double RmsOfCycle::get() const noexcept {
  return std::sqrt(std::max(0.0, sum_) / static_cast<double>(squares_.size()));
}

FrequencyOfPhasor::FrequencyOfPhasor(int samples_per_cycle, double nominal_Hz)
    : phasor_(samples_per_cycle),
      past_(static_cast<std::size_t>(samples_per_cycle)),
      found_Hz_(static_cast<std::size_t>(samples_per_cycle / 2), nominal_Hz),
      nominal_Hz_(nominal_Hz),
      frequency_Hz_(nominal_Hz) {}

void FrequencyOfPhasor::push(double value) noexcept {
  phasor_.push(value);
  const protection::Phasor is = phasor_.peak(), was = std::exchange(past_[at_], is);
  at_ = (at_ + 1) % past_.size();
  const double size = protection::size_of(is);
  most_ = std::max(most_, size);
  if (pushed_ < 2 * static_cast<int>(past_.size())) {
    ++pushed_;
    return;
  }
  known_ = size >= least_share * most_ && protection::size_of(was) >= least_share * most_;
  if (!known_) return;
  found_Hz_[found_at_] = nominal_Hz_ * (1 + std::arg(is * std::conj(was)) / (2 * std::numbers::pi));
  found_at_ = (found_at_ + 1) % found_Hz_.size();
  double sum = 0;
  for (const double one : found_Hz_) sum += one;
  frequency_Hz_ = sum / static_cast<double>(found_Hz_.size());
}

Trigger::Trigger(std::string text, Exchange& exchange, double rate_Hz)
    : text_(std::move(text)), rate_Hz_(rate_Hz) {
  std::string conditions = text_;
  if (const std::size_t at = conditions.rfind(" for "); at != std::string::npos) {
    const double lasting_s = parse_quantity_as(conditions.substr(at + 5), "s");
    if (!(lasting_s >= 0 && lasting_s <= 3600))
      throw Error(fmt::format("\"{}\": a trigger may wait for 0 to 3600 s", text_));
    lasting_ = std::llround(lasting_s * rate_Hz);
    conditions.erase(at);
  }
  for (const std::string& term : split(conditions, " and ")) terms_.push_back(term_of(term, exchange));
}

Trigger::Term Trigger::term_of(const std::string& text, Exchange& exchange) const {
  std::istringstream in(text);
  std::vector<std::string> words;
  for (std::string word; in >> word;) words.push_back(word);
  const auto refuse = [&](const std::string& why) {
    throw Error(
        fmt::format("\"{}\" {}; write it like \"R1.trip\", \"not Q1\", \"CT1.ia above 3 kA\" or \"rms "
                    "of VT1.va below 5 kV for 20 ms\"",
                    text, why));
  };
  Term term;
  if (!words.empty() && words.front() == "not") {
    term.negated = true;
    words.erase(words.begin());
  }
  if (words.size() == 1) {
    term.point = exchange.point_of(words[0]);
    return term;
  }
  if (words.size() > 2 && words[1] == "of") {
    using What = Term::What;
    constexpr std::array kinds{std::pair{"magnitude", What::magnitude}, std::pair{"slope", What::slope},
                               std::pair{"rms", What::rms}, std::pair{"frequency", What::frequency}};
    const auto at =
        std::find_if(kinds.begin(), kinds.end(), [&](const auto& one) { return words[0] == one.first; });
    if (at == kinds.end()) refuse("asks for none of magnitude, slope, rms, frequency");
    term.what = at->second;
    words.erase(words.begin(), words.begin() + 2);
  } else {
    term.what = Term::What::value;
  }
  if (words.size() < 3 || (words[1] != "above" && words[1] != "below")) refuse("is not understood");
  term.above = words[1] == "above";
  const Ratio ratio = ratio_of(exchange, words[0]);
  term.value = exchange.value_of(words[0], ratio.primary / ratio.secondary);
  std::string unit = exchange.unit_of(term.value);
  std::string level = words[2];
  for (std::size_t k = 3; k < words.size(); ++k) level += " " + words[k];
  if (term.what == Term::What::frequency) unit = "Hz";
  if (term.what == Term::What::slope) unit = unit.empty() ? "1/s" : unit + "/s";
  term.level = parse_quantity_or_plain(level, unit);
  const double nominal_Hz = exchange.setup().network.frequency_Hz, per_cycle = rate_Hz_ / nominal_Hz;
  if (term.what == Term::What::rms)
    term.rms.emplace(static_cast<std::size_t>(std::max(4L, std::lround(per_cycle))));
  if (term.what == Term::What::frequency) {
    if (std::abs(per_cycle - std::round(per_cycle)) > 1e-9 * per_cycle || per_cycle < 4)
      refuse(fmt::format("needs a whole number of samples in a cycle, not {:.6g}", per_cycle));
    term.frequency.emplace(static_cast<int>(std::lround(per_cycle)), nominal_Hz);
  }
  return term;
}

std::optional<bool> Trigger::holds(Term& term, const Exchange& exchange) const noexcept {
  if (term.what == Term::What::point) return exchange.on(term.point) != term.negated;
  double is = exchange.value(term.value);
  switch (term.what) {
    case Term::What::point:
    case Term::What::value:
      break;
    case Term::What::magnitude:
      is = std::abs(is);
      break;
    case Term::What::slope: {
      const std::optional<double> before = std::exchange(term.before, is);
      if (!before) return std::nullopt;
      is = (is - *before) * rate_Hz_;
      break;
    }
    case Term::What::rms:
      term.rms->push(is);
      if (!term.rms->whole()) return std::nullopt;
      is = term.rms->get();
      break;
    case Term::What::frequency:
      term.frequency->push(is);
      if (!term.frequency->known()) return std::nullopt;
      is = term.frequency->get_Hz();
      break;
  }
  return (term.above ? is > term.level : is < term.level) != term.negated;
}

void Trigger::visit_state(StateArchive& archive) {
  for (Term& term : terms_) {
    archive(term.before);
    if (term.rms) term.rms->visit_state(archive);
    if (term.frequency) term.frequency->visit_state(archive);
  }
  archive(lasting_, held_, known_, true_);
}

bool Trigger::comes_true(const Exchange& exchange) noexcept {
  bool all = true, known = true;
  for (Term& term : terms_) {  // each sees every sample
    const std::optional<bool> is = holds(term, exchange);
    known = known && is.has_value();
    all = all && is.value_or(false);
  }
  held_ = all ? held_ + 1 : 0;
  const bool is = all && held_ > lasting_;
  const bool first = !std::exchange(known_, known_ || known);
  const bool was = std::exchange(true_, is);
  return is && !was && !first;
}

}  // namespace zavrek::bench::internal
