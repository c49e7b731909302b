#include "zavrek/model.hpp"

namespace zavrek::model {

emt::WrittenModel write_c(const network::Network& network, const control::Description& control,
                          emt::WritingOptions options) {
  if (control.blocks.empty() && control.ready.empty()) return emt::write_c(network, options);
  const emt::Plant plant = emt::compile(network);
  const control::Controller controller(control, plant.signal_names());
  const network::WrittenControl written =
      controller.written(control::output_units(control, controller.outputs(), [&](const std::string& signal) {
        return plant.unit(plant.signal(signal));
      }));
  options.control = &written;
  return emt::write_c(network, options);
}

}  // namespace zavrek::model
