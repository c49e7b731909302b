// The state of a plant out of it and back, and a second plant beside it.
#include <array>

#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

void Core::make_room() {
  poles.make_room();
  valves.make_room();
  ahead.poles_changed.reserve(poles.size());
  due.poles.reserve(poles.size());
  due.segments.reserve(segments.size());
  due.valves.reserve(valves.size());
  controls.refusals.reserve(Controls::most_refusals);
}

void Core::visit_state(StateArchive& archive) {
  const std::array<std::size_t, 4> own{
      at.present.size(), conductances.adjustable.size(),
      static_cast<std::size_t>(std::count(map.evaluated_each_step.begin(), map.evaluated_each_step.end(), 1)),
      models.size()};
  std::array<std::size_t, 4> of_state = own;
  archive(of_state);
  if (of_state != own)
    throw Error(
        "the state is that of another network, or from before other signals were watched; save it "
        "again behind compile and watch");
  archive(counters);
  archive(excesses);
  archive(restart);
  at.visit_state(archive);
  history.visit_state(archive);
  ahead.visit_state(archive);
  due.visit_state(archive);
  for (Shard& shard : shards) for_each_history(shard.parts, archive);
  lines.visit_state(archive);
  segments.visit_state(archive);
  valves.visit_state(archive);
  legs.visit_state(archive);
  poles.visit_state(archive);
  sources.visit_state(archive);
  models.visit_state(archive);
  if (!valves.empty()) commutator.visit_state(archive);
  controls.visit_state(archive);
  for (std::size_t k = 0; k < conductances.adjustable.size(); ++k) {
    double siemens = conductances.adjustable[k];
    archive(siemens);
    if (siemens != conductances.adjustable[k]) conductances.adjust(static_cast<int>(k), siemens);
  }
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->visit_state(archive);
  }
  if (!archive.restores()) return;
  refactor();
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->choose();
  }
}

std::unique_ptr<Core> Core::clone() const {
  std::unique_ptr<Core> copy(new Core(*this));
  copy->workers = nullptr;
  copy->make_room();
  for (std::size_t k = 0; k < shards.size(); ++k) {
    if (shards[k].condensed)
      copy->shards[k].condensed = shards[k].condensed->clone(copy->view_of(copy->shards[k]), copy->models);
  }
  return copy;
}

}  // namespace zavrek::emt::internal
