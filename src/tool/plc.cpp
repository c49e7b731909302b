// A programmable controller as a stand-in: the master of a field bus, whose own outputs follow what its
// slaves show.
#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/wire/field/ethercat_master.hpp"

namespace zavrek::tool {
namespace {

using wire::EtherCatMaster;
using Entry = EtherCatMaster::Entry;

std::vector<std::uint8_t> exchange_over(wire::EtherCatLink& link, wire::Bytes frame, std::int64_t within_ns) {
  std::vector<std::uint8_t> back(2048);
  if (!link.send(frame)) return {};
  const std::int64_t until_ns = pace::system_clock().now_ns() + within_ns;
  for (;;) {
    const std::size_t size = link.receive(back);
    // Its own frame with another index is one that came too late.
    if (size > 17 && back[17] == frame[17]) {
      back.resize(size);
      return back;
    }
    const std::int64_t left_ns = until_ns - pace::system_clock().now_ns();
    if (left_ns <= 0) return {};
    link.wait(std::max(1, static_cast<int>(left_ns / 1'000'000)));
  }
}

/// Whoever starts it may start the slaves at the same time: they are waited for.
void scan_until_there(EtherCatMaster& master, const std::atomic<bool>& stop) {
  constexpr std::int64_t patience_ns = 10'000'000'000;
  const std::int64_t until_ns = pace::system_clock().now_ns() + patience_ns;
  for (;;) {
    try {
      return master.scan();
    } catch (const Error&) {
      if (stop || pace::system_clock().now_ns() > until_ns) throw;
    }
  }
}

void print_tree(const EtherCatMaster& master) {
  const auto list = [](const char* direction, const std::vector<Entry>& entries) {
    for (const Entry& entry : entries) {
      if (!entry.name.empty())
        fmt::print("  {} {:<20} {} bit{}\n", direction, entry.name, entry.bits, entry.bits == 1 ? "" : "s");
    }
  };
  for (const EtherCatMaster::Slave& slave : master.slaves()) {
    fmt::print("slave {:#x} {}: vendor {:#010x}, product {}, revision {}, serial number {}\n", slave.station,
               slave.name, slave.vendor, slave.product, slave.revision, slave.serial);
    list("in ", slave.inputs);
    list("out", slave.outputs);
  }
}

const Entry& entry_of(const EtherCatMaster& master, const std::string& name, bool of_inputs) {
  std::vector<std::string> names;
  for (const EtherCatMaster::Slave& slave : master.slaves()) {
    for (const Entry& entry : of_inputs ? slave.inputs : slave.outputs) {
      if (entry.name == name) return entry;
      if (!entry.name.empty()) names.push_back(entry.name);
    }
  }
  throw Error(fmt::format("no {} \"{}\"{}", of_inputs ? "input" : "output", name, suggestion(name, names)));
}

/// An input that an own output, or an output of the bus, follows.
struct FollowedBit {
  const Entry* from;
  const Entry* to;  // null: an output of the controller's own
  std::string name;
  double last = NAN;
};

/// "main -> main2", "bit0 -> lamp 0"
FollowedBit followed_by(const EtherCatMaster& master, const std::string& text) {
  const std::size_t arrow = text.find("->");
  if (arrow == std::string::npos)
    throw Error(fmt::format("\"{}\" links nothing; write one such as \"bit0 -> lamp0\"", text));
  const auto trimmed = [](std::string word) {
    word.erase(0, word.find_first_not_of(' '));
    word.erase(word.find_last_not_of(' ') + 1);
    return word;
  };
  const std::string from = trimmed(text.substr(0, arrow)), to = trimmed(text.substr(arrow + 2));
  FollowedBit bit{&entry_of(master, from, true), nullptr, to, NAN};
  for (const EtherCatMaster::Slave& slave : master.slaves()) {
    for (const Entry& entry : slave.outputs) {
      if (entry.name == to) bit.to = &entry;
    }
  }
  return bit;
}

}  // namespace

int plc(const PlcOptions& options) {
  const double cycle_s = positive_time("--cycle", options.cycle);
  const double lasts_s = options.duration.empty() ? INFINITY : positive_time("--for", options.duration);
  wire::EtherCatLink link(options.interface);
  EtherCatMaster master(
      [&](wire::Bytes frame, std::int64_t within_ns) { return exchange_over(link, frame, within_ns); });
  const std::atomic<bool>& stop = stop_on_signal();
  scan_until_there(master, stop);
  print_tree(master);
  if (options.scan) return done;
  master.start();
  std::vector<FollowedBit> bits;
  for (const std::string& text : options.links) bits.push_back(followed_by(master, text));
  for (const std::string& text : options.sets) {
    const std::size_t sign = text.find('=');
    if (sign == std::string::npos)
      throw Error(fmt::format("\"{}\" sets nothing; write one such as \"wanted=2500\"", text));
    master.set(entry_of(master, text.substr(0, sign), false), parse_quantity_as(text.substr(sign + 1), ""));
  }
  fmt::print("operational; a cycle each {}\n", print_rounded(cycle_s, "s", 3));
  std::fflush(stdout);
  pace::Histogram took;
  long long cycles = 0, lost = 0, changes = 0;
  const auto cycle_ns = static_cast<std::int64_t>(1e9 * cycle_s);
  const std::int64_t begun_ns = pace::system_clock().now_ns();
  while (!stop && 1e-9 * static_cast<double>(pace::system_clock().now_ns() - begun_ns) < lasts_s) {
    const std::int64_t at_ns = pace::system_clock().now_ns();
    if (master.cycle(std::max<std::int64_t>(cycle_ns, 20'000'000)))
      took.add(pace::system_clock().now_ns() - at_ns);
    else
      ++lost;
    ++cycles;
    for (FollowedBit& bit : bits) {
      const double is = master.input(*bit.from);
      if (is == bit.last) continue;
      if (bit.to) master.set(*bit.to, is);
      if (!options.quiet && !bit.to)
        fmt::print("{:10.4f} s  {} {}\n", 1e-9 * static_cast<double>(at_ns - begun_ns), bit.name,
                   is > 0.5 ? "on" : "off");
      if (!std::isnan(bit.last)) ++changes;
      bit.last = is;
    }
    std::fflush(stdout);
    pace::system_clock().sleep_until_ns(begun_ns + cycles * cycle_ns);
  }
  const auto us = [&](double share) { return 1e-3 * static_cast<double>(took.quantile_ns(share)); };
  fmt::print(
      "{} cycles, {} without their answer, {} changes; to the slaves and back: median {:.0f} us, 99.9 % "
      "{:.0f}, worst {:.0f}\n",
      cycles, lost, changes, us(0.5), us(0.999), 1e-3 * static_cast<double>(took.max_ns()));
  try {
    master.stop();
  } catch (const Error&) {
    fmt::print("the slaves are gone\n");
  }
  return done;
}

int slave(const SlaveOptions& options) {
  const trial::Case all = casefile::read_case(options.folder);
  std::vector<std::string> names;
  for (const bench::EtherCatSlave* one : all.bench.all<bench::EtherCatSlave>()) {
    names.push_back(one->name);
    if (!options.name.empty() && one->name != options.name) continue;
    fmt::print("{}", bench::slave_description(*one));
    return done;
  }
  if (names.empty())
    throw Error("the bench of the case has no slave; write [ethercat_slave.quay] in bench.toml");
  throw Error(fmt::format("no slave \"{}\"{}", options.name, suggestion(options.name, names)));
}

}  // namespace zavrek::tool
