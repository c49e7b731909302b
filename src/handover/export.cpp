#include <algorithm>
#include <chrono>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "exported/parts.hpp"
#include "handover/fmu_description.hpp"
#include "record/archive_file.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/handover.hpp"
#include "zavrek/record.hpp"

namespace zavrek::handover {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

[[noreturn]] void refuse(const std::string& place, const std::string& text) {
  throw Error(
      Flaw{.file = {}, .place = place, .field = {}, .text = text + ", which an exported model cannot carry"});
}

void check_can_leave(const trial::Case& all) {
  for (const control::Block& block : all.control.blocks) {
    if (std::holds_alternative<control::OwnCode>(block))
      refuse("own." + control::name_of(block), "is code of its own");
  }
  for (const network::Element& element : all.network.elements) {
    if (const auto* own = std::get_if<network::OwnElement>(&element))
      refuse("own_element." + own->name, "is code of its own");
    const auto* source = std::get_if<network::Source>(&element);
    if (source && !source->playback.empty()) refuse("source." + source->name, "plays a record");
  }
}

/// Names that are signals or outputs; what the bench records beside (positions of devices) is not the
/// model's.
std::vector<std::string> outputs_of(const trial::Case& all, const ExportOptions& options) {
  if (!options.outputs.empty()) return options.outputs;
  const emt::Plant plant = emt::compile(all.network);
  std::vector<std::string> known = plant.signal_names();
  if (trial::has_control(all)) {
    const control::Controller controller(all.control, known);
    known.insert(known.end(), controller.outputs().begin(), controller.outputs().end());
  }
  std::vector<std::string> chosen;
  for (const std::string& name : all.bench.record) {
    if (std::find(known.begin(), known.end(), name) != known.end()) chosen.push_back(name);
  }
  return chosen.empty() ? emt::voltages_and_currents(plant) : chosen;
}

/// Of one step: median over batches of a model that is thrown away.
double cost_of(model::Model& model) {
  using Steady = std::chrono::steady_clock;
  constexpr int batches = 21, each = 200;
  std::vector<double> took;
  for (int k = 0; k < batches; ++k) {
    const auto begun = Steady::now();
    for (int n = 0; n < each; ++n) {
      if (!model.step()) throw Error("the model: " + model.failure());
    }
    took.push_back(std::chrono::duration<double>(Steady::now() - begun).count() / each);
  }
  std::nth_element(took.begin(), took.begin() + batches / 2, took.end());
  return took[batches / 2];
}

json listed(const std::vector<model::Variable>& variables, bool settable) {
  json all = json::array();
  for (const model::Variable& one : variables) {
    json entry{{"name", one.name}, {"unit", one.unit}};
    if (settable) entry["start"] = one.start;
    if (settable && one.least > -1e299) entry["least"] = one.least;
    if (settable && one.most < 1e299) entry["most"] = one.most;
    if (one.is_switch) entry["switch"] = true;
    all.push_back(std::move(entry));
  }
  return all;
}

/// Hexadecimal digits that another model has not: of all that goes into it.
std::string token_of(const exported::Parts& parts) {
  std::uint64_t low = 0xCBF29CE484222325, high = 0x84222325CBF29CE4;
  for (const auto& [name, content] : parts) {
    for (const std::string* text : {&name, &content}) {
      for (const char c : *text) {
        low = (low ^ static_cast<unsigned char>(c)) * 0x100000001B3;
        high = (high ^ static_cast<unsigned char>(c)) * 0x10000000233;
      }
    }
  }
  return fmt::format("{{{:08x}-{:04x}-{:04x}-{:04x}-{:012x}}}", high >> 32, high >> 16 & 0xFFFF,
                     high & 0xFFFF, low >> 48, low & 0xFFFFFFFFFFFF);
}

/// Letters, digits and _ only: the name of a file, and of functions in other languages.
std::string identifier_of(const fs::path& out) {
  std::string name = out.stem().string();
  std::replace_if(
      name.begin(), name.end(), [](unsigned char c) { return std::isalnum(c) == 0 && c != '_'; }, '_');
  return name.empty() || std::isdigit(static_cast<unsigned char>(name[0])) != 0 ? "m" + name : name;
}

std::string title_of(const trial::Case& all, const fs::path& folder) {
  return all.network.title.empty() ? folder.filename().string() : all.network.title;
}

Exported export_c(const trial::Case& all, const std::string& title, const ExportOptions& options) {
  trial::Case written = all;
  if (options.without_control) written.control = {};
  network::Network network = all.network;
  if (!options.trial.empty()) {
    std::vector<std::string> known;
    for (const trial::Trial& trial : all.trials) known.push_back(trial.name);
    const auto at = std::find(known.begin(), known.end(), options.trial);
    if (at == known.end())
      throw Error(fmt::format("no trial \"{}\"{}", options.trial, suggestion(options.trial, known)));
    network = trial::network_with_faults(all, all.trials[static_cast<std::size_t>(at - known.begin())]);
  }
  const std::vector<std::string> outputs = outputs_of(written, options);
  fs::path source = options.out, header = options.out;
  source.replace_extension(".c");
  header.replace_extension(".h");
  const emt::WrittenModel model = model::write_c(network, written.control,
                                                 {.name = identifier_of(options.out),
                                                  .title = title,
                                                  .header = header.filename().string(),
                                                  .outputs = outputs});
  record::write_file(source, model.source);
  record::write_file(header, model.header);
  return {.file = source,
          .header = header,
          .bytes = model.source.size(),
          .inputs = model.inputs.size(),
          .outputs = outputs.size(),
          .step_s = model.step_s};
}

}  // namespace

Exported export_model(const fs::path& folder, const ExportOptions& options) {
  const trial::Case all = casefile::read_case(folder);
  check_can_leave(all);
  if (options.as != "c" && (options.without_control || !options.trial.empty()))
    throw Error("--trial and --without-control go with --as c");
  if (options.as == "c") return export_c(all, title_of(all, folder), options);
  const std::vector<std::string> outputs = outputs_of(all, options);
  model::Model model(all.network, all.control, outputs);

  exported::Parts parts;
  const casefile::ModelTexts texts = casefile::model_texts(folder);
  parts["network"] = texts.network;
  parts["step"] = fmt::format("{}", all.network.step_s);
  for (std::size_t k = 0; k < texts.control.size(); ++k)
    parts[fmt::format("control.{}", k)] = texts.control[k];
  for (const std::string& name : outputs) parts["outputs"] += name + "\n";
  parts["token"] = token_of(parts);

  Exported made{.file = options.out,
                .inputs = model.inputs().size(),
                .parameters = model.parameters().size(),
                .outputs = outputs.size(),
                .step_s = model.step_s()};
  const std::string title = title_of(all, folder);
  const std::string description =
      internal::fmu_description({model, title, identifier_of(options.out), parts["token"]}, options.fmi);
  json manifest{{"format", "zavrek model 1"},
                {"title", title},
                {"step_s", model.step_s()},
                {"processor", "x86-64-v3"},
                {"inputs", listed(model.inputs(), true)},
                {"parameters", listed(model.parameters(), true)},
                {"outputs", listed(model.outputs(), false)}};
  if (trial::has_control(all)) manifest["control_period_s"] = all.control.period_s;
  manifest["step_cost_s"] = made.step_cost_s = cost_of(model);
  parts["manifest"] = manifest.dump(2);

  std::string library = record::read_file(options.blank) + exported::joined(parts);
  if (options.as == "fmu") {
    const bool third = options.fmi == "3.0";
    const std::string at = third ? "binaries/x86_64-linux/" : "binaries/linux64/";
    library = record::internal::packed({{"modelDescription.xml", description},
                                        {at + identifier_of(options.out) + ".so", std::move(library)},
                                        {"documentation/manifest.json", parts["manifest"]}},
                                       record::internal::Packing::zip);
  }
  record::write_file(options.out, library);
  made.bytes = library.size();
  return made;
}

}  // namespace zavrek::handover
