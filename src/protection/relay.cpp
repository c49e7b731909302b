#include "zavrek/protection/relay.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "protection/function.hpp"

namespace zavrek::protection {

namespace {

constexpr std::size_t start_bit = 0;
constexpr std::size_t trip_bit = 1;
constexpr std::size_t most_conditions = 3;

MeasuringOptions measuring_of(const RelaySettings& settings, double rate_Hz, double frequency_Hz, int ends) {
  const auto stages = settings.all<Stage>();
  const bool harmonics = !settings.all<Differential>().empty() ||
                         std::any_of(stages.begin(), stages.end(),
                                     [](const Stage* s) { return network::is_set(s->second_harmonic); });
  std::vector<int> frequency_of;
  for (const FunctionSettings& function : settings.functions) {
    const int end = base_of(function).end - 1;
    const bool known = std::find(frequency_of.begin(), frequency_of.end(), end) != frequency_of.end();
    if (sees_frequency(function) && !known) frequency_of.push_back(end);
  }
  return {.rate_Hz = rate_Hz,
          .frequency_Hz = frequency_Hz,
          .filter = filter_of(settings.filter),
          .ends = ends,
          .neutral_channel = settings.earth == "neutral",
          .harmonics = harmonics,
          .frequency_of = std::move(frequency_of),
          .track_frequency = settings.track_frequency,
          .decisions = settings.decisions,
          .current_scale = settings.current_scale(),
          .voltage_scale = settings.voltage_scale()};
}

RelaySettings checked(RelaySettings settings) {
  if (auto flaws = validate(settings); !flaws.empty()) throw Error(std::move(flaws));
  return settings;
}

}  // namespace

struct Relay::Row {
  std::unique_ptr<Function> function;  // null: the relay's own start and trip, made of its functions'
  std::size_t index = 0;               // of the settings
  std::size_t first_bit = 0, bit_count = 0;
  bool trips = false;
  Condition blocked;
  std::vector<Condition> conditions;
};

Relay::Relay(Relay&&) noexcept = default;
Relay::~Relay() = default;

Relay::Relay(RelaySettings settings, double rate_Hz, double frequency_Hz, int ends)
    : settings_(checked(std::move(settings))),
      measuring_(measuring_of(settings_, rate_Hz, frequency_Hz, ends)),
      names_{"start", "trip"},
      outputs_(outputs_of(settings_)),
      output_bits_{start_bit, trip_bit} {
  const Surroundings around{settings_, frequency_Hz};
  std::vector<Row> rows;
  for (const FunctionSettings& function : settings_.functions) {
    Row row;
    row.function = std::visit([&](const auto& s) { return make_function(s, around); }, function);
    row.index = rows.size();
    row.trips = base_of(function).trips;
    const std::string& name = base_of(function).name;
    const bool output = std::holds_alternative<Output>(function);
    own_start_ = own_start_ && !(output && name == "start");
    own_trip_ = own_trip_ && !(output && name == "trip");
    row.first_bit = output && name == "start"  ? start_bit
                    : output && name == "trip" ? trip_bit
                                               : names_.size();
    const auto signals = signals_of(function);
    row.bit_count = signals.size();
    if (row.first_bit > trip_bit) {
      if (output) output_bits_.push_back(names_.size());
      for (const std::string& signal : signals) names_.push_back(signal.empty() ? name : name + "." + signal);
    }
    rows.push_back(std::move(row));
  }
  // Conditions, now that all signals have their place; inputs are known by their use.
  std::vector<std::vector<std::size_t>> needs(rows.size() + 1);  // of each row: bits
  for (Row& row : rows) {
    const auto find = [&](const std::string& name) {
      if (name.starts_with("input.") && std::find(names_.begin(), names_.end(), name) == names_.end()) {
        inputs_.push_back(name.substr(6));
        input_bits_.push_back(names_.size());
        names_.push_back(name);
      }
      needs[row.index].push_back(find_signal(name));
      return needs[row.index].back();
    };
    row.blocked = Condition(base_of(settings_.functions[row.index]).blocked_by, find);
    for (const std::string& text : row.function->conditions()) row.conditions.emplace_back(text, find);
  }
  bits_.assign(names_.size(), 0);

  // Each after what it needs; a row within a loop sees what was there one sample before.
  Row own;
  own.index = rows.size();
  const auto row_of = [&](std::size_t bit) {
    for (const Row& row : rows) {
      if (bit >= row.first_bit && bit < row.first_bit + row.bit_count) return row.index;
    }
    return bit <= trip_bit ? own.index : needs.size();
  };
  std::vector<char> visited(needs.size(), 0);
  std::vector<std::size_t> order;
  const auto visit = [&](auto&& self, std::size_t index) -> void {
    if (index >= needs.size() || visited[index]) return;
    visited[index] = 1;
    if (index == own.index) {
      for (const Row& row : rows) {
        if (row.trips) self(self, row.index);
      }
    } else {
      for (const std::size_t bit : needs[index]) self(self, row_of(bit));
    }
    order.push_back(index);
  };
  for (std::size_t k = 0; k < needs.size(); ++k) visit(visit, k);
  rows.push_back(std::move(own));
  for (const std::size_t index : order) rows_.push_back(std::move(rows[index]));
}

std::size_t Relay::find_signal(const std::string& name) const {
  const auto found = std::find(names_.begin(), names_.end(), name);
  if (found == names_.end()) throw Error(fmt::format("no signal \"{}\"{}", name, suggestion(name, names_)));
  return static_cast<std::size_t>(found - names_.begin());
}

void Relay::reset() noexcept {
  measuring_.clear();
  std::fill(bits_.begin(), bits_.end(), char{0});
  for (Row& row : rows_) {
    if (row.function) row.function->rest();
  }
  tripped_by_.reset();
}

void Relay::visit_state(StateArchive& archive) {
  measuring_.visit_state(archive);
  archive(bits_, tripped_by_, tripped_before_s_);
  for (Row& row : rows_) {
    if (row.function) row.function->visit_state(archive);
  }
}

bool Relay::push(std::span<const Sample> samples) noexcept {
  if (!measure(samples)) return false;
  decide(measuring_.measured(), measuring_.interval_s());
  return true;
}

void Relay::decide(const Measured& measured, double dt_s) noexcept {
  const bool tripped = trip();
  for (Row& row : rows_) {
    if (!row.function) {
      bool start = false, trip = false;
      for (const Row& other : rows_) {
        if (!other.trips) continue;
        start = start || bits_[other.first_bit] != 0;
        trip = trip || bits_[other.first_bit + 1] != 0;
      }
      if (own_start_) bits_[start_bit] = start ? 1 : 0;
      if (own_trip_) bits_[trip_bit] = trip ? 1 : 0;
      continue;
    }
    const std::span<char> own(bits_.data() + row.first_bit, row.bit_count);
    if (row.blocked.holds(bits_)) {
      row.function->rest();
      std::fill(own.begin(), own.end(), char{0});
      continue;
    }
    std::array<bool, most_conditions> holds{};
    for (std::size_t k = 0; k < row.conditions.size(); ++k) holds[k] = row.conditions[k].holds(bits_);
    row.function->run({measured, dt_s, std::span(holds.data(), row.conditions.size())}, own);
  }
  if (!trip() || tripped || tripped_by_) return;
  tripped_before_s_ = 0;
  for (const Row& row : rows_) {
    if (!row.function || !row.trips || bits_[row.first_bit + 1] == 0) continue;
    if (tripped_by_ && row.function->tripped_before_s() <= tripped_before_s_) continue;
    tripped_by_ = row.index;
    tripped_before_s_ = row.function->tripped_before_s();
  }
}

}  // namespace zavrek::protection
