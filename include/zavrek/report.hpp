#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/bench/wiring.hpp"
#include "zavrek/emt/frequency_line.hpp"
#include "zavrek/record.hpp"
#include "zavrek/report/provenance.hpp"
#include "zavrek/trial.hpp"
#include "zavrek/trial/coverage.hpp"
#include "zavrek/trial/injection.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::report {

/// What a page of trials says beside their verdicts.
struct TrialPage {
  std::vector<trial::Explanation> causes;  ///< of what failed, in all trials together
  std::optional<Provenance> provenance;
  std::optional<std::vector<Change>> changes;  ///< since an earlier run
  std::vector<std::string> stems;              ///< of the record and figure of each trial, beside the page
};
/// One self-contained HTML page: summary, verdicts with numbers that can be cited, and zoomable waveforms
/// with event marks of each trial; of many trials the waveforms of those that did not pass, and of the first.
[[nodiscard]] std::string html_report(const trial::Case& all, const std::vector<trial::TrialResult>& results,
                                      const TrialPage& with = {});

/// Which signals of a record go together into one panel of a figure.
struct Panel {
  std::string title;
  std::string unit;
  std::vector<const record::Analog*> analogs;
};
/// Signals grouped by what stands before the phase letter: "S1.ia", "S1.ib", "S1.ic" make one panel.
/// Panels of the signals named in `first` come first, in that order; then those in which most happens, by how
/// far the peak behind the trigger exceeds the one before. States (`states_of`) are left out.
[[nodiscard]] std::vector<Panel> panels_of(const record::Record& record,
                                           const std::vector<std::string>& first = {});
/// What is 0 or 1 all the time: the record's two-state signals, and analogs without a unit that take no other
/// value.
[[nodiscard]] std::vector<record::Binary> states_of(const record::Record& record);
/// A state machine of the control over time, by the names of its states.
struct NamedStates {
  std::string name;
  std::vector<std::pair<double, std::string>> from;  ///< s, and the state from there on
};
/// Those that the record's facts give names for, "states of NAME".
[[nodiscard]] std::vector<NamedStates> named_states_of(const record::Record& record);
/// The signals that the expectations of a trial judge, each once.
[[nodiscard]] std::vector<std::string> judged_signals(const trial::Case& all, const std::string& trial);

/// Draws a record with gnuplot: a panel for each of at most `most_panels` groups of signals and one for
/// the two-state signals that change, with marks at the events. The format follows from the extension,
/// .png or .svg. Throws Error when gnuplot is missing or refuses.
void draw_record(const record::Record& record, const std::string& title, const std::filesystem::path& path,
                 std::size_t most_panels = 4, const std::vector<std::string>& first = {});

/// One way of calculating a case, and what it gave.
struct Calculation {
  std::string name;
  record::Record record;
};
/// Draws signals as several calculations give them over each other, the first one broad and grey below the
/// others, from an instant on. Throws as `draw_record` does.
void draw_calculations(const std::vector<Calculation>& calculations, const std::vector<std::string>& signals,
                       const std::string& title, double from_s, const std::filesystem::path& path);

/// Draws two records laid over each other: per signal both curves and, below, their difference over the
/// first's peak with the band of tolerance. The signals that differ most come first. Throws as `draw_record`
/// does.
void draw_overlay(const record::Comparison& comparison, const std::string& first, const std::string& second,
                  const std::string& title, const std::filesystem::path& path, std::size_t most_signals = 3);

/// A line over frequency: resistance and inductance of its sequences (of its phases, when it has not three),
/// and the propagation of its modes with what was fitted to it. Throws as `draw_record` does.
void draw_line(const network::LineGeometry& geometry, const emt::FrequencyLine& fit,
               const emt::FrequencyLineOptions& options, const std::string& title,
               const std::filesystem::path& path);

/// Characteristics of relays: operating times over primary current, one curve for each quantity; zones in the
/// impedance plane; differentials. Throws as `draw_record` does, and when there is none.
void draw_characteristics(const std::vector<protection::RelaySettings>& relays, const std::string& title,
                          const std::filesystem::path& path);
/// What was injected over the set characteristics with their tolerance; false where there is no plane to draw
/// it in (frequencies, powers), and nothing is written. Throws as `draw_record` does.
bool draw_injection(const trial::InjectionReport& report, const std::string& title,
                    const std::filesystem::path& path);

/// A measured value as people read it: "1.504 s", "840 A", "never" when it is not finite.
[[nodiscard]] std::string shown(double value, const std::string& unit);
/// "0.4 s to 0.5 s", "never", "0.4 s or later, or never".
[[nodiscard]] std::string shown_band(double low, double high, const std::string& unit);
/// Its rows, ways in which the same setting is never found in one.
[[nodiscard]] std::vector<trial::CoverageRow> coverage_rows(const trial::Coverage& coverage);
/// "found from +5 % on", "found"; of what is never found, how wrong it was made: "+5 %, +10 %".
[[nodiscard]] std::string found_words(const trial::CoverageRow& row);
/// "212 of 240 mistakes are found: 88.3 %".
[[nodiscard]] std::string coverage_summary(const trial::Coverage& coverage);
/// One self-contained HTML page of what is found and what is not.
[[nodiscard]] std::string coverage_page(const trial::Coverage& coverage, const std::string& title);
/// A row for each setting and way, with a heading line.
[[nodiscard]] std::string coverage_csv(const trial::Coverage& coverage);
/// One self-contained HTML page of element tests, with `figure` (SVG) in it when not empty.
[[nodiscard]] std::string injection_page(const trial::InjectionReport& report, const std::string& figure,
                                         const std::optional<Provenance>& provenance = {});
/// A row for each thing tried, with a heading line.
[[nodiscard]] std::string injection_csv(const trial::InjectionReport& report);

/// Verdicts as JUnit XML, which test servers read.
struct JunitCase {
  std::string group, name;
  bool passed = false;
  std::string failure;  ///< why it did not pass
  double seconds = 0;
  std::vector<std::pair<std::string, std::string>> properties = {};
  std::string skipped = {};  ///< why it could not be judged; empty when it was
};
/// How far it kept to real time, as properties; none where it did not follow the clock.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> properties_of(const pace::Punctuality& kept);
/// A case for each trial.
[[nodiscard]] std::vector<JunitCase> trial_cases(const std::vector<trial::TrialResult>& results);
[[nodiscard]] std::string junit(const std::string& suite, const std::vector<JunitCase>& cases);

/// Measured times of each expectation over the fields varied, and a histogram of margins. Throws as
/// `draw_record` does.
void draw_programme(const std::vector<trial::StoredTrial>& trials, const std::string& title,
                    const std::filesystem::path& path);
/// One self-contained HTML page of a programme, with charts of the measured times and the margins that can be
/// zoomed and name the trial of each point.
/// With `planned` above the number of trials it says that the others were not run. `found` would explain what
/// failed.
[[nodiscard]] std::string programme_page(const std::string& title,
                                         const std::vector<trial::StoredTrial>& trials, long long planned = 0,
                                         const std::vector<trial::Finding>& found = {},
                                         const std::optional<Provenance>& provenance = {});
/// "R1 behaves as if ...: explains 11 of 12 verdicts".
[[nodiscard]] std::string finding_words(const trial::Finding& finding);
/// A row for each verdict, with a heading line.
[[nodiscard]] std::string programme_csv(const std::vector<trial::StoredTrial>& trials);
[[nodiscard]] std::vector<JunitCase> programme_cases(const std::vector<trial::StoredTrial>& trials);

/// One self-contained HTML page of what is wired to the terminals of devices, with room to tick it off.
[[nodiscard]] std::string wiring_page(const std::string& title, const std::vector<bench::Wire>& wires,
                                      const std::vector<std::string>& flaws);

/// Prints a page as PDF with the browser of the system. Throws Error when none is installed or it refuses.
void print_page(const std::filesystem::path& page, const std::filesystem::path& pdf);

/// File name for a trial: its number and its name in plain letters, "02-two-phase-fault-far".
[[nodiscard]] std::string file_stem(std::size_t number, const std::string& name);

}  // namespace zavrek::report
