#include "exported/instance.hpp"

#include <fstream>
#include <sstream>

#include <dlfcn.h>
#include <fmt/format.h>

#include "casefile/model_contents.hpp"

namespace zavrek::exported {
namespace {

using casefile::internal::Reader;

void refuse_flaws(Reader& reader) {
  if (!reader.flaws().empty()) throw Error(reader.flaws());
}

const std::string& part(const Parts& parts, const std::string& name) {
  const auto found = parts.find(name);
  if (found == parts.end())
    throw Error(fmt::format("the library carries no {}; it is damaged, export it again", name));
  return found->second;
}

}  // namespace

const Parts& own_parts() {
  static const Parts own = [] {
    Dl_info where{};
    if (dladdr(reinterpret_cast<const void*>(&own_parts), &where) == 0 || where.dli_fname == nullptr)
      throw Error("the library does not find its own file");
    std::ifstream file(where.dli_fname, std::ios::binary);
    std::stringstream whole;
    whole << file.rdbuf();
    Parts parts = parts_of(whole.view());
    if (parts.empty()) throw Error(fmt::format("{} carries no model; export it again", where.dli_fname));
    return parts;
  }();
  return own;
}

std::unique_ptr<model::Model> make_model(const Parts& parts) {
  Reader network_reader(part(parts, "network"), "network");
  network::Network network = casefile::internal::read_network(network_reader);
  refuse_flaws(network_reader);
  network.step_s = std::stod(part(parts, "step"));
  control::Description control;
  for (int k = 0;; ++k) {
    const auto found = parts.find(fmt::format("control.{}", k));
    if (found == parts.end()) break;
    Reader reader(found->second, found->first);
    control::Description more = casefile::internal::read_control(reader);
    k == 0 ? void(control = std::move(more)) : casefile::internal::add(std::move(more), reader, control);
    refuse_flaws(reader);
  }
  std::vector<std::string> outputs;
  std::istringstream names(part(parts, "outputs"));
  for (std::string name; std::getline(names, name);) outputs.push_back(name);
  return std::make_unique<model::Model>(network, control, outputs);
}

}  // namespace zavrek::exported
