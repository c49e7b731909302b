// The models of a plant, with what each gives to a solution.
#pragma once

#include <complex>
#include <memory>
#include <string>
#include <vector>

#include "emt/groups/conductances.hpp"
#include "emt/parts/model.hpp"

namespace zavrek::emt::internal {

/// A model, its places and its stretch of the adjustable conductances.
struct ModelRow {
  std::unique_ptr<Model> model;
  Places places;
  int number = -1;  // first of ends * ends adjustable conductances; -1 when it does not vary
  std::vector<PartitionColumn> marks{};  // that it touches
  std::vector<char> in_condensed{};      // per end: a condensed part takes its history current itself
  std::vector<std::complex<double>> input_phasors{};
  std::vector<double> history{};      // A, per end, from p to q
  std::vector<double> conductance{};  // S, ends * ends
  int currents = -1;                  // where those of its ends go; nowhere when -1
  std::string owner{};
  /// Behind a solution.
  void write_currents(double* now) const noexcept {
    const double* g = conductance.data();
    for (std::size_t k = 0; k < history.size(); ++k) {
      double sum = history[k];
      for (std::size_t m = 0; m < history.size(); ++m) sum += *g++ * (now[places.p[m]] - now[places.q[m]]);
      now[static_cast<std::size_t>(currents) + k] = sum;
    }
  }
};

class ModelGroup {
 public:
  ModelGroup() = default;
  ModelGroup(const ModelGroup& other) {
    for (const ModelRow& row : other.rows_)
      rows_.push_back({row.model->clone(), row.places, row.number, row.marks, row.in_condensed,
                       row.input_phasors, row.history, row.conductance, row.currents, row.owner});
  }
  ModelGroup& operator=(const ModelGroup&) = delete;

  void add(ModelRow row) { rows_.push_back(std::move(row)); }
  [[nodiscard]] bool empty() const noexcept { return rows_.empty(); }
  [[nodiscard]] std::size_t size() const noexcept { return rows_.size(); }
  [[nodiscard]] ModelRow& operator[](std::size_t k) noexcept { return rows_[k]; }
  [[nodiscard]] const ModelRow& operator[](std::size_t k) const noexcept { return rows_[k]; }
  [[nodiscard]] auto begin() noexcept { return rows_.begin(); }
  [[nodiscard]] auto end() noexcept { return rows_.end(); }
  [[nodiscard]] auto begin() const noexcept { return rows_.begin(); }
  [[nodiscard]] auto end() const noexcept { return rows_.end(); }

  /// Ahead of a solution: their conductances, and their history currents into `rhs`.
  void begin_solution(const Interval& interval, const double* old, Conductances& conductances,
                      double* rhs) noexcept {
    for (ModelRow& row : rows_) {
      if (row.model->begin(interval, row.places, old, row.history.data(), row.conductance.data())) {
        std::copy(row.conductance.begin(), row.conductance.end(),
                  conductances.adjustable.begin() + row.number);
        conductances.mark(row.marks);
      }
      for (std::size_t k = 0; k < row.history.size(); ++k) {
        if (row.in_condensed[k]) continue;
        rhs[row.places.p[k]] -= row.history[k];
        rhs[row.places.q[k]] += row.history[k];
      }
    }
  }
  /// Behind it: their slots in `now`; whether one meets other equations from now on.
  [[nodiscard]] bool end_solution(const Interval& interval, const double* old, double* now) noexcept {
    bool jumps = false;
    for (ModelRow& row : rows_) {
      row.model->end(interval, row.places, old, now, row.history.data(), row.conductance.data());
      if (row.currents >= 0) row.write_currents(now);
      jumps = row.model->jumps(row.places, now) || jumps;
    }
    return jumps;
  }

  void stand_behind(const double* second, double* now) const noexcept {
    for (const ModelRow& row : rows_) row.model->stand_behind(row.places, second, now);
  }

  void visit_state(StateArchive& archive) {
    for (ModelRow& row : rows_) {
      archive(row.history);
      archive(row.conductance);
      row.model->visit_state(archive);
    }
  }

 private:
  std::vector<ModelRow> rows_;
};

}  // namespace zavrek::emt::internal
