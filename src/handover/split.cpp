// A case in two halves. Its files are divided block by block, as they are written: what names things of one
// half alone goes there, what names both stays out and is told of.
#include <algorithm>
#include <functional>
#include <map>
#include <optional>
#include <set>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "handover/blocks_of_text.hpp"
#include "zavrek/bench/cut.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt/study.hpp"
#include "zavrek/handover.hpp"
#include "zavrek/network/phasor.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/record.hpp"

namespace zavrek::handover {
namespace {

namespace fs = std::filesystem;

enum Side : std::size_t { near_side, far_side };

/// Where each bus and element lies once the network is cut.
class Sides {
 public:
  Sides(const network::Network& network, const std::string& at) : network_(network) {
    const std::size_t colon = at.find(':');
    place_ = at.substr(0, colon);
    if (colon != std::string::npos)
      for (const std::string& name : words_of(at.substr(colon + 1))) hangs_there_.insert(name);
    for (const network::Bus& bus : network.buses) join(bus.name, bus.name);
    const network::Element* element = network.find_element(place_);
    line_ = element ? std::get_if<network::Line>(element) : nullptr;
    if (!line_ && !network.find_bus(place_))
      throw Error(
          fmt::format("nothing named \"{}\" can be cut: a line, or a bus with what hangs on the far half, "
                      "\"quay: Q1 Q2\"",
                      place_));
    if (!line_ && hangs_there_.empty())
      throw Error(
          fmt::format("--at \"{0}: ...\" wants the elements at {0} that belong to the far half", place_));
    for (const network::Element& one : network.elements) join_ends_of(one);
    near_ = root(line_ ? line_->between[0] : place_);
    far_ = root(line_ ? line_->between[1] : behind());
    if (near_ == far_)
      throw Error(
          fmt::format("the two halves hang together elsewhere than at {}; a cut leaves no other way", at));
    for (const network::Bus& bus : network.buses)
      sides_[bus.name] = root(bus.name) == far_ ? far_side : near_side;
    for (const network::Element& one : network.elements) sides_[network::name_of(one)] = side_of(one);
    for (const network::Fault& fault : network.faults)
      if (const auto found = sides_.find(fault.on); found != sides_.end()) sides_[fault.name] = found->second;
    if (line_) sides_.erase(place_);
    // Who measures voltages at a cut bus finds them on both halves.
    for (const network::Element& one : network.elements)
      if (!line_ && measures_there(one)) sides_.erase(network::name_of(one));
    for (const std::string& name : hangs_there_)
      if (!network.find_element(name)) throw Error(fmt::format("no element \"{}\"", name));
  }

  [[nodiscard]] const network::Line* line() const { return line_; }
  [[nodiscard]] const std::string& place() const { return place_; }
  [[nodiscard]] const std::set<std::string>& hangs_there() const { return hangs_there_; }
  void add(const std::string& name, Side side) { sides_.emplace(name, side); }
  [[nodiscard]] std::set<Side> named_in(const std::string& text) const {
    std::set<Side> found;
    for (const std::string& word : quoted_words_of(text)) {
      if (const auto at = sides_.find(word); at != sides_.end()) found.insert(at->second);
      if (line_ && word == place_) found.insert({near_side, far_side});
    }
    return found;
  }
  /// Whether it stands in both halves.
  [[nodiscard]] bool is_shared(const std::string& name) const {
    const network::Element* element = network_.find_element(name);
    return !line_ && element && measures_there(*element);
  }
  [[nodiscard]] Side of(const std::string& name) const { return sides_.at(name); }
  [[nodiscard]] bool knows(const std::string& name) const { return sides_.contains(name); }

 private:
  [[nodiscard]] bool measures_there(const network::Element& element) const {
    const auto* plain = std::get_if<network::VoltageTransformer>(&element);
    const auto* divider = std::get_if<network::CapacitiveVoltageTransformer>(&element);
    return (plain && plain->bus == place_) || (divider && divider->bus == place_);
  }
  [[nodiscard]] std::string behind() const { return place_ + "'"; }
  std::string root(const std::string& name) {
    std::string& above = above_.try_emplace(name, name).first->second;
    return above == name ? name : above = root(above);
  }
  void join(const std::string& one, const std::string& other) { above_[root(one)] = root(other); }
  /// Buses at its ends; of a cut bus, the one on its half.
  [[nodiscard]] std::vector<std::string> ends_of(const network::Element& element) const {
    std::vector<std::string> buses;
    const auto add = [&](const std::string& text) {
      std::string bus = text.substr(0, text.find('.'));
      if (!network_.find_bus(bus)) return;
      if (!line_ && bus == place_ && hangs_there_.contains(network::name_of(element))) bus = behind();
      buses.push_back(bus);
    };
    for (const network::Field& field : network::table_of(element).fields) {
      if (!field.names_bus) continue;
      const network::Value value = field.read(network::fields_of(element));
      if (const auto* text = std::get_if<std::string>(&value)) add(*text);
      if (const auto* texts = std::get_if<std::vector<std::string>>(&value))
        std::for_each(texts->begin(), texts->end(), add);
    }
    return buses;
  }
  void join_ends_of(const network::Element& element) {
    if (line_ && network::name_of(element) == place_) return;
    const std::vector<std::string> buses = ends_of(element);
    for (const std::string& bus : buses) join(bus, buses.front());
  }
  [[nodiscard]] Side side_of(const network::Element& element) {
    for (const std::string& bus : ends_of(element)) return root(bus) == far_ ? far_side : near_side;
    // What sits on another element lies where that does; at a cut line, where its end is.
    for (const network::Field& field : network::table_of(element).fields) {
      if (!field.names_element) continue;
      const network::Value value = field.read(network::fields_of(element));
      const auto* text = std::get_if<std::string>(&value);
      const network::Element* other = text ? network_.find_element(*text) : nullptr;
      if (other && network::name_of(*other) != network::name_of(element)) return side_of(*other);
    }
    return near_side;
  }

  const network::Network& network_;
  std::string place_, near_, far_;
  const network::Line* line_ = nullptr;
  std::set<std::string> hangs_there_;
  std::map<std::string, std::string> above_;
  std::map<std::string, Side> sides_;
};

/// Peak phasors of the whole's steady state, one for each phase of `bus`.
std::string phasors(const emt::Plant& whole, const std::string& letters, const std::string& stem,
                    const std::string& unit, const std::string& behind = "") {
  std::vector<std::string> texts;
  for (const char letter : letters)
    texts.push_back(fmt::format(
        "\"{}\"", network::print_phasor(whole.phasor(whole.signal(stem + letter + behind)), unit)));
  return fmt::format("[{}]", fmt::join(texts, ", "));
}

class Division {
 public:
  Division(const fs::path& folder, const SplitOptions& options)
      : folder_(folder),
        options_(options),
        all_(casefile::read_case(folder)),
        base_(casefile::base_of(folder)),
        whole_(compiled(all_)),
        sides_(all_.network, options.at) {}

  Halves make() {
    halves_.folders = {options_.out / options_.names[0], options_.out / options_.names[1]};
    sides_.line() ? divide_network() : divide_at_the_better_end();
    divide_bench();
    divide_whole_file("control.toml");
    divide_trials();
    for (const Side side : {near_side, far_side}) write(side);
    return std::move(halves_);
  }

 private:
  static emt::Plant compiled(trial::Case& all) {
    bench::open_laws(all);
    return emt::compile(all.network);
  }
  std::string& text(Side side, const std::string& file) { return texts_[side][file]; }
  /// Of the case's own files, or of its base's.
  [[nodiscard]] fs::path file_of(const std::string& name) const {
    return fs::exists(folder_ / name) || base_.empty() ? folder_ / name : base_ / name;
  }
  void leave_out(const std::string& what, const std::string& why) {
    halves_.left_out.push_back(fmt::format("{}: {}", what, why));
  }

  /// One half is told voltages, the other currents: whichever way round the loop has more gain left.
  void divide_at_the_better_end() {
    std::optional<bench::PartnerCut> best;
    std::string why;
    Side better = far_side;
    for (const Side side : {far_side, near_side}) {
      try {
        told_voltages_ = side;
        damping_S_ = 0;
        divide_network();
        const bench::PartnerCut cut =
            bench::propose_partner_cut(network_of(other(side)), network_of(side), cut_name(), options_.delay);
        const bool wins = !best || (cut.judgement.stable != best->judgement.stable
                                        ? cut.judgement.stable
                                        : cut.judgement.gain_margin > best->judgement.gain_margin);
        if (!wins) continue;
        best = cut;
        better = side;
      } catch (const Error& error) {
        why = error.what();
      }
    }
    if (!best) throw Error(fmt::format("{} cannot be cut: {}", sides_.place(), why));
    told_voltages_ = better;
    damping_S_ = best->damping_S;
    divide_network();
    halves_.judged =
        fmt::format("{}; {} is told the voltages of {}, {} its currents{}", best->judgement.words,
                    options_.names[better], sides_.place(), options_.names[other(better)],
                    damping_S_ == 0 ? "" : ", damped by " + print_rounded(damping_S_, "S", 3));
  }
  [[nodiscard]] static Side other(Side side) { return side == near_side ? far_side : near_side; }

  void divide_network() {
    const BlocksOfText blocks(file_of("network.toml"));
    // First the half that is told voltages: what it draws is what the other begins with.
    for (const Side side : {told_voltages_, other(told_voltages_)}) {
      std::string& into = text(side, "network.toml");
      into = blocks.head_with([](const std::string& key) { return key != "step"; });
      while (into.ends_with("\n\n")) into.pop_back();
      into += fmt::format("step = \"{}\"\n\n", print_quantity(all_.network.step_s, "us"));
      for (const BlocksOfText::Block& block : blocks.blocks()) {
        if (block.keys.front() == "bus" && block.keys.size() == 1)
          into += block.with_lines([&](const std::string& key) { return has_bus(side, key); });
        else if (goes_whole(block, side))
          into += block.text;
        else if (sides_.line() && block.keys.size() == 2 && block.keys[1] == sides_.place())
          into += line_end(block, side);
      }
      if (!sides_.line()) into += bus_cut(side);
    }
  }
  /// What both halves need, and what lies on this one.
  [[nodiscard]] bool goes_whole(const BlocksOfText::Block& block, Side side) const {
    if (block.keys.front() == "geometry") return true;
    if (block.keys.size() < 2) return false;
    const std::string& name = block.keys[1];
    if (block.keys.front() == "bus") return has_bus(side, name);
    return sides_.is_shared(name) || (sides_.knows(name) && sides_.of(name) == side);
  }
  [[nodiscard]] bool has_bus(Side side, const std::string& bus) const {
    return (!sides_.line() && bus == sides_.place()) || (sides_.knows(bus) && sides_.of(bus) == side);
  }
  std::string line_end(const BlocksOfText::Block& block, Side side) const {
    const network::Line& line = *sides_.line();
    const std::string &own = line.between[side], &other = line.between[1 - side];
    const std::string letters = all_.network.find_bus(own)->phases;
    std::string into = block.with_lines([](const std::string& key) { return key != "between"; });
    const std::string header = fmt::format("[line.{}]", line.name);
    if (const std::size_t at = into.find(header); at != std::string::npos)
      into.replace(at, header.size(), fmt::format("[line_end.{}]", line.name));
    while (into.ends_with("\n\n")) into.pop_back();
    return into +
           fmt::format("bus = \"{}\"\ndelay = {}\nfar_voltage = {}\nfar_current = {}\n\n", own,
                       options_.delay, phasors(whole_, letters, other + ".v", "V"),
                       phasors(whole_, letters, line.name + ".i", "A", side == near_side ? "_far" : ""));
  }
  /// What flows into the far half at the bus: the sum over all that hangs there.
  std::string bus_cut(Side side) const {
    const std::string& bus = sides_.place();
    const std::string letters = all_.network.find_bus(bus)->phases;
    if (side == told_voltages_)
      return fmt::format("\n[imposed_voltage.{}]\nbus = \"{}\"\nstarts_with = {}\n", cut_name(), bus,
                         phasors(whole_, letters, bus + ".v", "V"));
    // In the steady state it is what the other half alone draws at the bus's voltages.
    const emt::Plant plant = emt::compile(network_of(told_voltages_));
    const std::string damping = damping_S_ == 0
                                    ? std::string()
                                    : fmt::format("damping = \"{}\"\nround_trip = {}\n",
                                                  print_quantity(damping_S_, "S"), 2 * options_.delay);
    return fmt::format("\n[imposed_current.{}]\nbus = \"{}\"\n{}starts_with = {}\n", cut_name(), bus, damping,
                       phasors(plant, letters, cut_name() + ".i", "A"));
  }
  [[nodiscard]] std::string cut_name() const {
    return sides_.line() ? sides_.place() : sides_.place() + "_cut";
  }

  /// Ports and devices by what they name, those they stand on first.
  void divide_bench() {
    const fs::path file = file_of("bench.toml");
    const BlocksOfText blocks = fs::exists(file) ? BlocksOfText(file) : BlocksOfText();
    std::vector<const BlocksOfText::Block*> rest;
    for (const BlocksOfText::Block& block : blocks.blocks()) rest.push_back(&block);
    std::map<const BlocksOfText::Block*, Side> placed;
    std::set<std::string> waiting;
    for (const BlocksOfText::Block& block : blocks.blocks()) waiting.insert(block.keys.back());
    const auto waits_for_another = [&](const BlocksOfText::Block& block) {
      const std::vector<std::string> words = quoted_words_of(block.text);
      return std::any_of(words.begin(), words.end(), [&](const std::string& word) {
        return word != block.keys.back() && waiting.contains(word);
      });
    };
    for (bool any = true; any;) {
      any = false;
      for (const BlocksOfText::Block*& block : rest) {
        if (!block || block->keys.size() < 2 || waits_for_another(*block)) continue;
        const std::set<Side> named = sides_.named_in(block->text);
        if (named.size() != 1) continue;
        placed[block] = *named.begin();
        sides_.add(block->keys[1], *named.begin());
        waiting.erase(block->keys[1]);
        block = nullptr;
        any = true;
      }
    }
    for (const BlocksOfText::Block* block : rest) {
      if (!block) continue;
      leave_out(fmt::format("bench.toml: {}", fmt::join(block->keys, ".")),
                "names things of both halves, or of none");
      gone_.insert(block->keys.back());
    }
    for (const Side side : {near_side, far_side}) {
      std::string& into = text(side, "bench.toml");
      into = blocks.head_with([](const std::string& key) { return key != "record"; });
      std::vector<std::string> recorded;
      for (const std::string& name : all_.bench.record) {
        if (sides_.named_in("\"" + name + "\"") == std::set<Side>{side})
          recorded.push_back("\"" + name + "\"");
      }
      if (!recorded.empty()) into += fmt::format("record = [{}]\n", fmt::join(recorded, ", "));
      into += fmt::format(
          "\n[partner.{}]   # the other half\nleads = {}\nmeeting = \"{}\"\ncuts = [\"{}\"]\n{}\n",
          options_.names[1 - side], side == near_side, meeting(), cut_name(),
          options_.delay == 1 ? std::string() : fmt::format("delay = {}\n", options_.delay));
      for (const BlocksOfText::Block& block : blocks.blocks()) {
        const auto at = placed.find(&block);
        if (at != placed.end() && at->second == side) into += block.text;
      }
    }
    for (const std::string& name : all_.bench.record) {
      if (sides_.named_in("\"" + name + "\"").size() != 1)
        leave_out("recorded " + name, "is of both halves, or of none");
    }
  }
  [[nodiscard]] std::string meeting() const {
    return fmt::format("{}-{}-{}", fs::absolute(folder_).lexically_normal().filename().string(),
                       options_.names[0], options_.names[1]);
  }

  /// A file that is of one half, whole.
  void divide_whole_file(const std::string& name) {
    const fs::path file = file_of(name);
    if (!fs::exists(file)) return;
    const std::string all = record::read_file(file);
    const std::set<Side> named = sides_.named_in(all);
    if (named.size() == 2) return leave_out(name, "reads and drives both halves; divide it by hand");
    text(named.empty() ? near_side : *named.begin(), name) = all;
  }

  /// Each half has what happens there, and what is expected there, at the same times.
  void divide_trials() {
    for (const trial::Sweep& sweep : all_.sweeps)
      leave_out(fmt::format("sweep \"{}\"", sweep.name), "runs in the whole alone");
    for (const Side side : {near_side, far_side}) {
      std::vector<trial::Trial> halves;
      for (const trial::Trial& whole : all_.trials) {
        trial::Trial half = whole;
        if (whole.fault && side_of(whole.fault->fault) != side) {
          half.fault.reset();
          half.evolves.clear();
          half.postfault_s = trial::study_of(all_, &whole, 0).duration_s - whole.prefault_s;
        }
        std::erase_if(half.operate, [&](const trial::Operation& one) { return side_of(one) != side; });
        std::erase_if(half.expect, [&](const trial::Expectation& one) {
          if (gone_.contains(one.device) && side == near_side)
            leave_out(fmt::format("\"{}\": what is expected of {}", whole.name, one.device),
                      "is left out itself");
          return gone_.contains(one.device) || side_of(one) != side;
        });
        halves.push_back(std::move(half));
      }
      if (!halves.empty()) text(side, "trials.toml") = casefile::trials_text(halves, {});
    }
  }
  /// By what its fields name; of what stands at the cut, or nowhere, the near one.
  template <class Described>
  [[nodiscard]] Side side_of(const Described& one) const {
    for (const network::Field& field : table(&one).fields) {
      const network::Value value = field.read(&one);
      const auto* text = std::get_if<std::string>(&value);
      if (text == nullptr || field.name == "name") continue;
      if (const std::set<Side> named = sides_.named_in("\"" + *text + "\""); named.size() == 1)
        return *named.begin();
    }
    return near_side;
  }

  void write(Side side) {
    const fs::path& into = halves_.folders[side];
    fs::create_directories(into);
    for (const auto& [name, all] : texts_[side]) {
      record::write_file(into / name, all);
      // What it names of the case's own files goes with it.
      for (const std::string& quoted : quoted_texts_of(all)) {
        const fs::path file = file_of(quoted);
        if (quoted.find("..") != std::string::npos || fs::path(quoted).is_absolute()) continue;
        if (!quoted.empty() && fs::is_regular_file(file)) {
          fs::create_directories((into / quoted).parent_path());
          fs::copy_file(file, into / quoted, fs::copy_options::overwrite_existing);
        }
      }
    }
  }

  [[nodiscard]] network::Network network_of(Side side) const {
    trial::Case half;
    half.folder = folder_;
    half.bench = all_.bench;
    half.own_laws = all_.own_laws;
    half.network = casefile::read_network_text(texts_[side].at("network.toml"), "network.toml");
    bench::open_laws(half);
    return half.network;
  }
  fs::path folder_;
  SplitOptions options_;
  trial::Case all_;
  fs::path base_;
  emt::Plant whole_;
  Sides sides_;
  Side told_voltages_ = far_side;  // of a bus that is cut
  double damping_S_ = 0;
  std::set<std::string> gone_;  // of the bench
  std::array<std::map<std::string, std::string>, 2> texts_;
  Halves halves_;
};

}  // namespace

Halves split_case(const fs::path& folder, const SplitOptions& options) {
  return Division(folder, options).make();
}

}  // namespace zavrek::handover
