// Model, n ends with equations of their own (parts/model.hpp).
//   step        i = G v + J; a G that changes stands among the adjustable conductances
//   continuous  x' - slope(x, v) = 0 of its states; a capacitive one between unknown nodes has w - v = 0 with
//               unknowns w besides
#include <algorithm>
#include <cmath>

#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

/// The remembered slots of one model.
class KeptSlots final : public Past {
 public:
  KeptSlots(const KeptValues& kept, std::size_t first) : kept_(kept), first_(first) {}
  [[nodiscard]] double begins_s() const noexcept override { return kept_.begins_s(); }
  [[nodiscard]] double at(int k, double time_s) const noexcept override {
    return kept_.at(first_ + static_cast<std::size_t>(k), time_s);
  }

 private:
  const KeptValues& kept_;
  std::size_t first_;
};

class ModelEquations final : public PartEquations {
 public:
  explicit ModelEquations(ContinuousFrame& frame) : PartEquations(frame) {
    for (std::size_t k = 0; k < frame.core.models.size(); ++k)
      add(frame.core.models[k], frame.assembly.model_parts[k]);
  }

  void hold(ContinuousFrame::Held& held) const override {
    for (const Row& row : rows_) {
      auto& list = row.states.inductive ? held.inductive : held.tied;
      list.insert(list.end(), row.ends->begin(), row.ends->end());
    }
  }
  void start(double* y) const override {
    for (const Row& row : rows_) {
      for (int s = 0; s < row.states.count; ++s) y[row.states_at + s] = state_values(row)[s];
      for (std::size_t e = 0; row.voltages_at >= 0 && e < row.ends->size(); ++e)
        y[row.voltages_at + static_cast<int>(e)] = frame_.across((*row.ends)[e]);
    }
  }
  void read(double /*t*/, const double* y) override {
    for (const Row& row : rows_) std::copy_n(y + row.states_at, row.states.count, state_values(row));
  }
  void residual(double t, const double* y, const double* dy, double* f) override {
    for (const Row& row : rows_) {
      row.model->look_back(KeptSlots(frame_.kept, row.kept_at), t);
      if (row.states.capacitive) take_rates(row, t, y, dy, f);
      std::vector<double> currents(row.ends->size()), slopes(static_cast<std::size_t>(row.states.count));
      evaluate(row, currents, slopes);
      for (int s = 0; s < row.states.count; ++s)
        f[row.states_at + s] = dy[row.states_at + s] - slopes[static_cast<std::size_t>(s)];
      for (std::size_t e = 0; e < row.ends->size(); ++e) frame_.add_current((*row.ends)[e], currents[e], f);
      if (row.states.inductive) add_slopes(row, y, dy);
    }
  }
  bool act(double t) override {
    bool changed = false;
    for (const Row& row : rows_) changed = row.model->act(*row.places, t, frame_.values.data()) || changed;
    return changed;
  }
  /// Slots that depend on the instant: the equations write them.
  void keep(double t) override {
    for (const Row& row : rows_) {
      if (row.states.remembered == 0) continue;
      row.model->look_back(KeptSlots(frame_.kept, row.kept_at), t);
      std::vector<double> currents(row.ends->size()), slopes(static_cast<std::size_t>(row.states.count));
      evaluate(row, currents, slopes);
      const double* slots =
          &frame_.values[static_cast<std::size_t>(row.places->first + row.states.first_remembered)];
      for (int s = 0; s < row.states.remembered; ++s)
        frame_.kept.push(row.kept_at + static_cast<std::size_t>(s), slots[s]);
    }
  }
  void add_travel_times(std::vector<double>& times_s) const override {
    for (const Row& row : rows_) {
      for (const double time : row.model->travel_times_s()) times_s.push_back(time);
    }
  }

 private:
  struct Row {
    Model* model;
    const Places* places;
    const std::vector<Ends>* ends;
    Model::States states;
    int states_at;        // among the unknowns
    int voltages_at;      // voltages of a capacitive model between unknown nodes; or -1
    std::size_t kept_at;  // the first of its remembered slots
    int currents_at;      // of its ends among the values; or -1
  };

  void add(const ModelRow& from, const ModelPart& part) {
    const Model::States states = from.model->states();
    if (!states.known)
      throw Error(Flaw{.file = {},
                       .place = part.owner,
                       .field = {},
                       .text = "has no continuous equations that the reference could solve"});
    if (from.model->varies()) frame_.bend_all();
    Row row{from.model.get(), &from.places, &part.ends, states, frame_.size(), -1, 0, from.currents};
    for (int s = 0; s < states.count; ++s)
      frame_.take(1, part.owner, std::max(0.1, std::abs(state_values(row)[s])),
                  {.differential = true, .bent = true});
    const bool floating = states.capacitive && frame_.floats(part.ends);
    if (floating)
      row.voltages_at = frame_.take(static_cast<int>(part.ends.size()), part.owner, frame_.voltage_scale,
                                    {.differential = true, .bent = true});
    if (states.capacitive && !floating)
      std::for_each(part.ends.begin(), part.ends.end(), [&](const Ends& e) { frame_.mark_differential(e); });
    row.kept_at = frame_.kept.add(static_cast<std::size_t>(states.remembered));
    rows_.push_back(row);
  }
  [[nodiscard]] double* state_values(const Row& row) const {
    return &frame_.values[static_cast<std::size_t>(row.places->first + row.states.first)];
  }
  void evaluate(const Row& row, std::vector<double>& currents, std::vector<double>& slopes) const {
    row.model->slopes(*row.places, frame_.values.data(), currents.data(), slopes.data());
    if (row.currents_at >= 0)
      std::copy(currents.begin(), currents.end(), frame_.values.begin() + row.currents_at);
  }
  void take_rates(const Row& row, double t, const double* y, const double* dy, double* f) {
    std::vector<double> rates(row.ends->size());
    for (std::size_t e = 0; e < rates.size(); ++e) {
      const Ends& ends = (*row.ends)[e];
      const int own = row.voltages_at + static_cast<int>(e);
      rates[e] = row.voltages_at >= 0 ? dy[own] : frame_.rate_across(ends, dy, t);
      if (row.voltages_at >= 0) f[own] = y[own] - frame_.across(ends);
    }
    row.model->take_rates(rates.data());
  }
  /// The derivative of its currents, along the way of its states.
  void add_slopes(const Row& row, const double* y, const double* dy) {
    constexpr double apart_s = 1e-7;
    std::vector<double> earlier(row.ends->size()), later(earlier.size()), now(earlier.size()),
        unused(static_cast<std::size_t>(row.states.count));
    double* x = state_values(row);
    const auto at = [&](double off_s, std::vector<double>& currents) {
      for (int s = 0; s < row.states.count; ++s) x[s] = y[row.states_at + s] + off_s * dy[row.states_at + s];
      evaluate(row, currents, unused);
    };
    // Either way: what bends would else add up, for nothing but slopes holds such nodes.
    at(-apart_s, earlier);
    at(apart_s, later);
    at(0, now);
    for (std::size_t e = 0; e < now.size(); ++e)
      frame_.add_slope((*row.ends)[e], (later[e] - earlier[e]) / (2 * apart_s));
  }

  std::vector<Row> rows_;
};

class ModelKind final : public ListedKind<ModelPart, &Assembly::model_parts, ModelEquations> {
 public:
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const ModelPart& part : assembly.model_parts)
      part.model->varies() ? stamps.reserve(part.ends)
                           : stamps.add(part.ends, part.model->conductance(assembly.step_s()));
  }
  void place(const Assembly& assembly, SlotPlaces& places) const override {
    for (const ModelPart& part : assembly.model_parts) {
      places.take(part.first, static_cast<std::size_t>(part.model->slots()));
      if (part.currents.index >= 0) places.take(part.currents, part.ends.size());
    }
  }

  /// The models move into the core.
  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    for (ModelPart& part : lowering.assembly.model_parts) {
      ModelRow row{.model = std::move(part.model), .places = places_of(part, lowering), .owner = part.owner};
      for (const Slot slot : row.model->knobs()) row.places.knobs.push_back(lowering.at(slot));
      row.input_phasors = std::vector<std::complex<double>>(part.inputs.size());
      row.history.assign(part.ends.size(), 0.0);
      row.in_condensed.assign(part.ends.size(), 0);
      const Eigen::MatrixXd g = row.model->conductance(lowering.step_s());
      for (Eigen::Index r = 0; r < g.rows(); ++r) {
        for (Eigen::Index c = 0; c < g.cols(); ++c) row.conductance.push_back(g(r, c));
      }
      if (part.currents.index >= 0) row.currents = lowering.at(part.currents);
      if (row.model->varies()) mark_columns(row, lowering.add_adjustable(part.ends, g), lowering.core);
      if (const auto [first, count] = row.model->charging_slots(); count > 0)
        lowering.enter_charging(row.places.first + first, count);
      lowering.core.models.add(std::move(row));
    }
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (std::size_t k = 0; k < phasors.models.size(); ++k) {
      phasors.model_admittance.push_back(phasors.models[k].model->admittance(phasors.s, phasors.omega));
      phasors.add(phasors.assembly.model_parts[k].ends, phasors.model_admittance.back());
    }
  }
  void put_phasors(Phasors& phasors) const override {
    for (std::size_t k = 0; k < phasors.models.size(); ++k) {
      const ModelPart& part = phasors.assembly.model_parts[k];
      Eigen::VectorXcd& injected = phasors.component.model_currents[k];
      phasors.component.model_voltages[k] = phasors.across(part.ends);
      Eigen::VectorXcd current = phasors.model_admittance[k] * phasors.component.model_voltages[k];
      if (injected.size() == current.size()) current += injected;
      injected = current;
      phasors.put(part.first, current);
      if (part.currents.index >= 0) phasors.put(part.currents, current);
    }
  }

  void count(const Lowering& lowering, Summary& summary) const override {
    for (const ModelRow& row : lowering.core.models) {
      summary.states += row.model->state_count();
      summary.largest_step_s = std::min(summary.largest_step_s, row.model->largest_step_s());
    }
  }

 private:
  static Places places_of(const ModelPart& part, const Lowering& lowering) {
    Places places;
    for (const Ends& ends : part.ends) {
      places.p.push_back(lowering.at(ends.p));
      places.q.push_back(lowering.at(ends.q));
    }
    places.first = lowering.at(part.first);
    for (const Terms& terms : part.inputs) {
      places.inputs.emplace_back();
      for (const Term& term : lowering.assembly.resolved(terms))
        places.inputs.back().emplace_back(
            term.is_node ? lowering.at(term.index) : lowering.at(Slot{term.index}), term.coefficient);
    }
    return places;
  }
  static void mark_columns(ModelRow& row, int number, const Core& core) {
    row.number = number;
    for (std::size_t k = 0; k < row.conductance.size(); ++k) {
      for (const PartitionColumn& mark : core.conductances.columns[static_cast<std::size_t>(number) + k]) {
        if (std::find(row.marks.begin(), row.marks.end(), mark) == row.marks.end()) row.marks.push_back(mark);
      }
    }
  }
};

}  // namespace

const PartKind& model_kind() { return the_only<ModelKind>(); }

}  // namespace zavrek::emt::internal
