// An element of one's own: i = G v + J from its law (network/own_law.hpp), in each phase alone or in all
// together. What it gives is looked at: a conductance that is not passive does not compile, a number that is
// none ends the run with the element's name. `NAME.i*` flows from the first bus into it.
#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "emt/parts/assembly.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr std::size_t most_own_ends = 12, most_own_states = 64;

class OwnElementModel final : public Model {
 public:
  struct Parts {
    network::OwnLawSource source;
    const network::OwnLaw* law;
    std::vector<double> parameters;
    std::vector<std::pair<std::size_t, Slot>> knobs;  // of parameters
    double omega;
  };
  explicit OwnElementModel(Parts parts)
      : parts_(std::move(parts)),
        ends_(static_cast<std::size_t>(parts_.law->ends())),
        states_(parts_.law->states().size()),
        varies_(parts_.law->varies()),
        now_parameters_(parts_.parameters),
        voltages_(ends_),
        next_(states_) {}
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<OwnElementModel>(*this);
  }
  void visit_state(StateArchive& archive) override { archive(now_parameters_, ill_); }
  [[nodiscard]] int slots() const override { return static_cast<int>(ends_ + states_); }
  [[nodiscard]] std::vector<Slot> knobs() const override {
    std::vector<Slot> all;
    for (const auto& [parameter, slot] : parts_.knobs) all.push_back(slot);
    return all;
  }
  [[nodiscard]] bool varies() const override { return varies_; }
  [[nodiscard]] bool ill() const noexcept override { return ill_; }
  [[nodiscard]] int state_count() const override { return static_cast<int>(states_); }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override {
    std::vector<double> g(ends_ * ends_, 0.0);
    parts_.law->conductance(parts_.parameters, step_s, g);
    return matrix_of(g);
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double omega) const override {
    std::vector<std::complex<double>> y(ends_ * ends_);
    parts_.law->admittance(parts_.parameters, s, omega, y);
    s_ = s;
    return matrix_of(y);
  }
  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double step_s,
             double* values) override {
    double* slots = values + places.first;
    for (std::size_t k = 0; k < ends_; ++k) slots[k] = i[static_cast<Eigen::Index>(k)].real();
    const std::vector<std::complex<double>> volts(v.begin(), v.end()), amperes(i.begin(), i.end());
    const std::complex<double> s =
        s_ == 0.0 ? std::complex<double>(0, 2 / step_s * std::tan(parts_.omega * step_s / 2)) : s_;
    parts_.law->start(parts_.parameters, s, parts_.omega, volts, amperes, {slots + ends_, states_});
  }
  bool begin(const Interval& span, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    read(places, old);
    const double* slots = old + places.first;
    const bool changed =
        parts_.law->begin(span_of(span), now_parameters_, {slots + ends_, states_}, voltages_, {slots, ends_},
                          {history, ends_}, {conductance, varies_ ? ends_ * ends_ : 0});
    for (std::size_t k = 0; k < ends_; ++k) ill_ = ill_ || !std::isfinite(history[k]);
    for (std::size_t k = 0; varies_ && k < ends_; ++k)
      ill_ = ill_ || !(conductance[k * ends_ + k] >= 0) || !std::isfinite(conductance[k * ends_ + k]);
    if (ill_) std::fill_n(history, ends_, std::nan(""));
    return varies_ && changed;
  }
  void end(const Interval& span, const Places& places, const double* old, double* now, const double* history,
           const double* conductance) noexcept override {
    read(places, now);
    double* slots = now + places.first;
    for (std::size_t k = 0; k < ends_; ++k) {
      slots[k] = history[k];
      for (std::size_t m = 0; m < ends_; ++m)
        slots[k] += (varies_ ? conductance : fixed_.data())[k * ends_ + m] * voltages_[m];
    }
    if (states_ == 0) return;
    const double* before = old + places.first + ends_;
    parts_.law->finish(span_of(span), now_parameters_, {before, states_}, voltages_, {slots, ends_}, next_);
    for (std::size_t k = 0; k < states_; ++k) ill_ = ill_ || !std::isfinite(next_[k]);
    std::copy(next_.begin(), next_.end(), slots + ends_);
  }
  /// Throws Error (text only) where what it gives at the start cannot be.
  void check(double step_s) {
    std::vector<double> g(ends_ * ends_, 0.0);
    parts_.law->conductance(parts_.parameters, step_s, g);
    fixed_ = g;
    const Eigen::MatrixXd matrix = matrix_of(g);
    if (!matrix.allFinite()) throw Error("its conductance is no number");
    const double scale = matrix.cwiseAbs().maxCoeff();
    if ((matrix - matrix.transpose()).cwiseAbs().maxCoeff() > 1e-9 * scale)
      throw Error("its conductance is not symmetric");
    if (const double least = symmetric_eigenvalues(matrix)[0]; least < -1e-9 * scale)
      throw Error(fmt::format("its conductance gives energy: it has an eigenvalue of {:.3g} S", least));
  }

 private:
  template <class Number>
  [[nodiscard]] Eigen::Matrix<Number, Eigen::Dynamic, Eigen::Dynamic> matrix_of(
      const std::vector<Number>& rows) const {
    Eigen::Matrix<Number, Eigen::Dynamic, Eigen::Dynamic> matrix(static_cast<Eigen::Index>(ends_),
                                                                 static_cast<Eigen::Index>(ends_));
    for (std::size_t k = 0; k < rows.size(); ++k)
      matrix(static_cast<Eigen::Index>(k / ends_), static_cast<Eigen::Index>(k % ends_)) = rows[k];
    return matrix;
  }
  void read(const Places& places, const double* values) noexcept {
    for (std::size_t k = 0; k < ends_; ++k) voltages_[k] = values[places.p[k]] - values[places.q[k]];
    for (std::size_t k = 0; k < parts_.knobs.size(); ++k)
      now_parameters_[parts_.knobs[k].first] = values[places.knobs[k]];
  }
  [[nodiscard]] network::OwnLaw::Span span_of(const Interval& span) const noexcept {
    return {span.step_s, span.rule == Rule::trapezoidal, span.until_s, parts_.omega};
  }

  Parts parts_;
  std::size_t ends_, states_;
  bool varies_;
  std::vector<double> now_parameters_, voltages_, next_, fixed_;
  mutable std::complex<double> s_ = 0;
  bool ill_ = false;
};

/// Its parameters, by the law's order.
std::vector<double> parameters_of(const network::OwnElement& element, const network::OwnLaw& law,
                                  const std::string& owner) {
  const auto refuse = [&](std::string text) {
    throw Error(Flaw{.file = {}, .place = owner, .field = "parameters", .text = std::move(text)});
  };
  std::vector<double> values;
  std::vector<std::string> known;
  const std::vector<network::OwnLaw::Parameter> all = law.parameters();
  for (const auto& one : all) {
    values.push_back(one.start);
    known.push_back(one.name);
  }
  for (const std::string& text : element.parameters) {
    const std::size_t colon = text.find(':');
    const std::string name = text.substr(0, colon);
    const auto at = std::find(known.begin(), known.end(), name);
    if (colon == std::string::npos || at == known.end())
      refuse(fmt::format("\"{}\": no parameter \"{}\"{}", text, name, suggestion(name, known)));
    const auto k = static_cast<std::size_t>(at - known.begin());
    try {
      values[k] = parse_quantity_as(text.substr(colon + 1), all[k].unit);
    } catch (const Error& error) {
      refuse(error.what());
    }
    if (values[k] < all[k].least || values[k] > all[k].most)
      refuse(
          fmt::format("\"{}\" is not within {:g} and {:g} {}", text, all[k].least, all[k].most, all[k].unit));
  }
  return values;
}

}  // namespace

template <>
void assemble(const network::OwnElement& element, Assembly& assembly) {
  const std::string owner = "own_element." + element.name;
  const auto refuse = [&](const char* field, std::string text) {
    throw Error(Flaw{.file = {}, .place = owner, .field = field, .text = std::move(text)});
  };
  if (!element.law)
    refuse(element.library.empty() ? "code" : "library",
           element.library.empty() && element.code.empty()
               ? "missing; a library, or code that the program gives"
               : "was not opened");
  const network::OwnLaw& law = *element.law();
  const Span span = assembly.span(owner, element.between);
  const auto ends = static_cast<std::size_t>(std::max(law.ends(), 0));
  const std::vector<network::OwnLaw::State> states = law.states();
  if (ends == 0 || ends > most_own_ends || states.size() > most_own_states)
    refuse("library", fmt::format("has {} ends and {} states; 1 to {} and up to {} can be", ends,
                                  states.size(), most_own_ends, most_own_states));
  if (ends != 1 && ends != span.letters.size())
    refuse("between",
           fmt::format("its buses have {} phases in common, the library {} ends", span.letters.size(), ends));
  OwnElementModel::Parts parts{element.law, &law, parameters_of(element, law, owner), {}, assembly.omega()};
  const std::vector<network::OwnLaw::Parameter> parameters = law.parameters();
  for (std::size_t k = 0; k < parameters.size(); ++k) {
    const network::OwnLaw::Parameter& one = parameters[k];
    if (one.changeable)
      parts.knobs.emplace_back(k, assembly.knob(element.name + "." + one.name, one.unit, parts.parameters[k],
                                                one.least, one.most));
  }
  std::vector<Terms> currents;
  for (std::size_t first = 0; first < span.letters.size(); first += ends) {
    ModelPart part{.owner = owner, .ends = {}, .model = nullptr};
    for (std::size_t k = first; k < first + ends; ++k) part.ends.push_back({span.near[k], span.far[k]});
    auto model = std::make_unique<OwnElementModel>(parts);
    try {
      model->check(assembly.step_s());
    } catch (const Error& error) {
      refuse("library", error.what());
    }
    part.model = std::move(model);
    const Slot slot = assembly.model(std::move(part));
    for (std::size_t k = 0; k < ends; ++k) currents.push_back({value_of({slot.index + static_cast<int>(k)})});
    for (std::size_t k = 0; k < states.size(); ++k) {
      if (states[k].name.empty()) continue;
      const std::string phase =
          ends == 1 && span.letters.size() > 1 ? fmt::format("_{}", span.letters[first]) : "";
      assembly.signal(element.name + "." + states[k].name + phase, states[k].unit,
                      {value_of({slot.index + static_cast<int>(ends + k)})});
    }
  }
  assembly.phase_signals(element.name + ".i", "A", currents, span.letters);
}

}  // namespace zavrek::emt::internal
