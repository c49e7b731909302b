// Switch pole: i = g v with a conductance of two values.
//   continuous  closed, i / g - v = 0; open, i - g v = 0. The current is an unknown: found from voltages next
//               to each other it would be as coarse as their tolerance times g
#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

class PoleEquations final : public PartEquations {
 public:
  explicit PoleEquations(ContinuousFrame& frame) : PartEquations(frame) {
    for (const PolePart& part : frame.assembly.pole_parts)
      frame.pole_unknowns.push_back(frame.take(1, part.owner, frame.current_scale, {}));
  }

  void hold(ContinuousFrame::Held& held) const override {
    for_each([&](const PolePart& part, const Pole& pole, int) {
      if (pole.siemens() >= weak_S) held.tied.push_back(part.ends);
    });
  }
  void start(double* y) const override {
    for_each([&](const PolePart& part, const Pole&, int at) { y[at] = frame_.value(part.current); });
  }
  void read(double /*t*/, const double* y) override {
    for_each([&](const PolePart& part, const Pole& pole, int at) {
      frame_.value(part.current) = y[at];
      frame_.value(part.position) = pole.closed ? 1 : 0;
    });
  }
  void residual(double /*t*/, const double* y, const double* /*dy*/, double* f) override {
    for_each([&](const PolePart& part, const Pole& pole, int at) {
      const double current = y[at], v = frame_.across(part.ends);
      f[at] = pole.closed ? current / pole.closed_S - v : current - pole.open_S * v;
      frame_.add_current(part.ends, current, f);
    });
  }

 private:
  template <class Use>
  void for_each(Use&& use) const {
    for (std::size_t k = 0; k < frame_.assembly.pole_parts.size(); ++k)
      use(frame_.assembly.pole_parts[k], frame_.core.poles[k], frame_.pole_unknowns[k]);
  }
};

class PoleKind final : public ListedKind<PolePart, &Assembly::pole_parts, PoleEquations> {
 public:
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const PolePart& part : assembly.pole_parts) stamps.reserve({part.ends});
  }
  void place(const Assembly& assembly, SlotPlaces& places) const override {
    for (const PolePart& part : assembly.pole_parts) {
      places.take(part.current, 1);
      places.take(part.position, 1);
    }
  }

  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    for (const PolePart& part : lowering.assembly.pole_parts) {
      Pole pole{.p = lowering.at(part.ends.p),
                .q = lowering.at(part.ends.q),
                .current = lowering.at(part.current),
                .position = lowering.at(part.position),
                .closed_S = part.closed_S,
                .open_S = part.open_S,
                .number = -1,
                .chop_A = part.chop_A,
                .late_open_s = part.late_open_s,
                .late_close_s = part.late_close_s,
                .strength = part.strength,
                .closed = part.closed};
      pole.number = lowering.add_adjustable({part.ends}, Eigen::MatrixXd::Constant(1, 1, pole.siemens()));
      lowering.core.poles.add(std::move(pole));
    }
    lowering.core.poles.set_alarm();
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (const PolePart& part : phasors.assembly.pole_parts)
      phasors.add(part.ends, part.ends, part.closed ? part.closed_S : part.open_S);
  }
  void put_phasors(Phasors& phasors) const override {
    for (const PolePart& part : phasors.assembly.pole_parts)
      phasors.put(part.current, (part.closed ? part.closed_S : part.open_S) * phasors.across({part.ends}));
  }
  void start(Lowering& lowering) const override {
    for (const PolePart& part : lowering.assembly.pole_parts)
      lowering.start_value(part.position) = part.closed ? 1 : 0;
  }
};

}  // namespace

const PartKind& pole_kind() { return the_only<PoleKind>(); }

}  // namespace zavrek::emt::internal
