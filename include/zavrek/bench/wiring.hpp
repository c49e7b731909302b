// The list of what is wired to the terminals of devices, and the proof that it is.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "zavrek/bench/run.hpp"

namespace zavrek::bench {

/// A channel between the bench and a terminal.
struct Wire {
  std::string device;  ///< empty where it belongs to none
  std::string port;    ///< "analogue_out.R1i"
  std::string card;
  int channel = 0;
  std::string signal;    ///< what the bench has there: "CT1.ia", "Q1", "in.v"
  std::string input;     ///< what it is to the device: "ia", "block", "trip"
  std::string terminal;  ///< its label
  std::string ratio;     ///< "400 A : 1 A"
  std::string rated;     ///< what stands there at rated value: "1 A"; "110 V wet", "dry"
  std::string full_scale;
};

/// In the order of the ports of the bench.
[[nodiscard]] std::vector<Wire> wires_of(const Setup& setup);
/// What cannot be right, or is left open: a label or a channel used twice, a quantity of a device that
/// nothing feeds, an output that nothing brings, a ratio that its settings reckon otherwise.
[[nodiscard]] std::vector<std::string> wiring_flaws(const Setup& setup);

/// A table for a terminal, and one for a spreadsheet; its first line names the columns.
[[nodiscard]] std::string to_string(const std::vector<Wire>& wires);
[[nodiscard]] std::string to_csv(const std::vector<Wire>& wires);
/// What `csv`, a list as to_csv writes it with changes made by hand, says otherwise than the bench, a line
/// each. Throws Error with line and column where it is no such list.
[[nodiscard]] std::vector<std::string> differences(const std::vector<Wire>& wires, std::string_view csv,
                                                   const std::string& file);

/// What came of a known quantity on one channel.
struct Proof {
  Wire wire;
  std::string applied, found;
  enum class Verdict : char { passed, failed, not_proven } verdict = Verdict::not_proven;
  std::string remark;  ///< the fault by its name, or why nothing is proven
};
struct ProofOptions {
  std::filesystem::path program;  ///< that has the verb `relay`
  double tolerance = 0.02;        ///< of a quantity
  double each_s = 0.4;            ///< for which a quantity stands on a channel
  const std::atomic<bool>* stop = nullptr;
};
/// Puts a known quantity on one channel after the other and reads it back: from what the device says that it
/// measures, or by a loop to an input with the same label. Last, currents of ten times the rated value, so
/// that the device closes its contacts. Throws Error when the bench cannot be opened.
[[nodiscard]] std::vector<Proof> prove(const Setup& setup, const ProofOptions& options);
[[nodiscard]] std::string to_string(const std::vector<Proof>& proofs);

}  // namespace zavrek::bench
