// Two records laid over each other.
#include <algorithm>
#include <cmath>
#include <deque>

#include <fmt/format.h>

#include "zavrek/quantity.hpp"
#include "zavrek/record.hpp"

namespace zavrek::record {
namespace {

/// Straight between samples; instants outside are the caller's care.
double at(const std::vector<double>& time_s, const std::vector<double>& samples, double t) {
  const auto above = std::upper_bound(time_s.begin(), time_s.end(), t);
  if (above == time_s.begin()) return samples.front();
  if (above == time_s.end()) return samples.back();
  const auto k = static_cast<std::size_t>(above - time_s.begin());
  const double share = (t - time_s[k - 1]) / (time_s[k] - time_s[k - 1]);
  return samples[k - 1] + share * (samples[k] - samples[k - 1]);
}

struct Pair {
  const Analog* first;
  const Analog* second;
  double peak;
  Band band;
};

double peak_of(const std::vector<double>& samples) {
  double peak = 0;
  for (const double x : samples) peak = std::max(peak, std::isfinite(x) ? std::abs(x) : 0);
  return peak;
}

std::vector<Pair> pairs_of(const Record& first, const Record& second, const CompareOptions& options) {
  std::vector<Pair> pairs;
  const auto names = [](const Record& record) {
    std::vector<std::string> all;
    for (const Analog& analog : record.analogs) all.push_back(analog.name);
    return all;
  };
  if (options.signals.empty()) {
    for (const Analog& analog : first.analogs) {
      if (const Analog* other = second.find_analog(analog.name))
        pairs.push_back({&analog, other, peak_of(analog.samples), {}});
    }
    if (pairs.empty()) throw Error("the two records have no signal of the same name");
    return pairs;
  }
  for (const Band& band : options.signals) {
    const Analog* a = first.find_analog(band.signal);
    const Analog* b = second.find_analog(band.signal);
    if (!a || !b) {
      throw Error(fmt::format("the {} record has no signal \"{}\"{}", a ? "second" : "first", band.signal,
                              suggestion(band.signal, names(a ? second : first))));
    }
    pairs.push_back({a, b, peak_of(a->samples), band});
  }
  return pairs;
}

/// Mean square of all differences, each over its signal's peak, with the second record moved by `shift`.
class Misfit {
 public:
  Misfit(const Record& first, const Record& second, const std::vector<Pair>& pairs, double from, double until)
      : first_(first), second_(second), pairs_(pairs), from_(from), until_(until) {}

  [[nodiscard]] double operator()(double shift) const {
    // At most some thousand instants: the shift is found on these, the errors on all.
    const std::size_t stride = std::max<std::size_t>(1, first_.time_s.size() / 4000);
    double sum = 0;
    std::size_t count = 0;
    for (std::size_t k = 0; k < first_.time_s.size(); k += stride) {
      const double t = first_.time_s[k];
      if (t < from_ || t > until_) continue;
      for (const Pair& pair : pairs_) {
        if (pair.peak == 0) continue;
        const double d =
            (at(second_.time_s, pair.second->samples, t + shift) - pair.first->samples[k]) / pair.peak;
        sum += d * d;
        ++count;
      }
    }
    return count == 0 ? 0 : sum / static_cast<double>(count);
  }

 private:
  const Record& first_;
  const Record& second_;
  const std::vector<Pair>& pairs_;
  double from_, until_;
};

/// A grid of shifts, then the golden section around the best.
double find_shift(const Misfit& misfit, double most, double spacing) {
  double best = 0, least = misfit(0);
  const int steps = static_cast<int>(std::clamp(std::ceil(most / spacing), 1.0, 200.0));
  const double grid = most / steps;
  for (int k = -steps; k <= steps; ++k) {
    const double value = misfit(k * grid);
    if (value < least) {
      least = value;
      best = k * grid;
    }
  }
  constexpr double golden = 0.6180339887498949;
  double low = std::max(-most, best - grid), high = std::min(most, best + grid);
  for (int k = 0; k < 60 && high - low > 1e-6 * spacing; ++k) {
    const double a = high - golden * (high - low), b = low + golden * (high - low);
    (misfit(a) < misfit(b) ? high : low) = misfit(a) < misfit(b) ? b : a;
  }
  return (low + high) / 2;
}

/// Least and greatest of samples over a window of time around each, either way.
struct Surroundings {
  std::vector<double> least, greatest;
  Surroundings(const std::vector<double>& time_s, const std::vector<double>& samples, double over_s) {
    std::deque<std::size_t> low, high;  // candidates, each beyond those behind it
    std::size_t ahead = 0;
    for (const double t : time_s) {
      for (; ahead < samples.size() && time_s[ahead] <= t + over_s; ++ahead) {
        while (!low.empty() && samples[low.back()] >= samples[ahead]) low.pop_back();
        while (!high.empty() && samples[high.back()] <= samples[ahead]) high.pop_back();
        low.push_back(ahead);
        high.push_back(ahead);
      }
      while (time_s[low.front()] < t - over_s) low.pop_front();
      while (time_s[high.front()] < t - over_s) high.pop_front();
      least.push_back(samples[low.front()]);
      greatest.push_back(samples[high.front()]);
    }
  }
};

/// The second of a pair beside the first, on the instants of the comparison.
SignalComparison laid_over(const Pair& pair, const Record& first, const Record& second,
                           const Comparison& comparison, double band) {
  SignalComparison s;
  s.name = pair.first->name;
  s.unit = pair.first->unit;
  s.over_s = pair.band.over_s;
  for (const double t : comparison.time_s) {
    s.first.push_back(at(first.time_s, pair.first->samples, t));
    s.second.push_back(at(second.time_s, pair.second->samples, t + comparison.shift_s));
  }
  s.peak = peak_of(s.first);
  s.band = pair.band.within > 0 ? pair.band.within : band * s.peak;
  const Surroundings around(comparison.time_s, s.first, s.over_s);
  double squares = 0;
  std::size_t outside = 0;
  for (std::size_t k = 0; k < s.first.size(); ++k) {
    s.difference.push_back(s.second[k] - std::clamp(s.second[k], around.least[k], around.greatest[k]));
    const double error = std::abs(s.difference[k]);
    squares += error * error;
    if (error > s.largest) {
      s.largest = error;
      s.largest_at_s = comparison.time_s[k];
    }
    if (error > s.band) ++outside;
  }
  const auto [least, most] = std::minmax_element(s.first.begin(), s.first.end());
  const auto count = static_cast<double>(s.first.size());
  s.rms = std::sqrt(squares / count);
  s.nrmse = *most > *least ? s.rms / (*most - *least) : 0;
  s.outside = static_cast<double>(outside) / count;
  s.passed = outside == 0;
  return s;
}

}  // namespace

Band parse_band(const std::string& text) {
  std::vector<std::string> words;
  for (std::size_t from = 0; from < text.size();) {
    const std::size_t end = std::min(text.find(' ', from), text.size());
    if (end > from) words.push_back(text.substr(from, end - from));
    from = end + 1;
  }
  const auto refuse = [&](const std::string& why) {
    throw Error(
        fmt::format("\"{}\": {}; write one such as \"battery.p within 10 kW over 50 ms\"", text, why));
  };
  if (words.empty()) refuse("no signal");
  Band band;
  band.signal = words[0];
  for (std::size_t k = 1; k < words.size();) {
    const std::string& what = words[k++];
    if (what != "within" && what != "over") refuse(fmt::format("\"{}\" is neither within nor over", what));
    std::string value;
    for (; k < words.size() && words[k] != "within" && words[k] != "over"; ++k)
      value += (value.empty() ? "" : " ") + words[k];
    const double number = what == "over" ? parse_quantity_as(value, "s") : parse_quantity(value).value;
    if (!(number > 0)) refuse(fmt::format("{} wants more than nothing", what));
    (what == "over" ? band.over_s : band.within) = number;
  }
  return band;
}

bool Comparison::passed() const {
  return std::all_of(signals.begin(), signals.end(), [](const SignalComparison& s) { return s.passed; });
}

Comparison compare(const Record& first, const Record& second, const CompareOptions& options) {
  if (first.time_s.empty() || second.time_s.empty())
    throw Error("a record without samples cannot be compared");
  const std::vector<Pair> pairs = pairs_of(first, second, options);
  const double from =
      std::max({options.from_s, first.time_s.front(), second.time_s.front() + options.most_shift_s});
  const double until =
      std::min({options.until_s, first.time_s.back(), second.time_s.back() - options.most_shift_s});
  Comparison comparison;
  if (options.most_shift_s > 0) {
    const double spacing =
        (first.time_s.back() - first.time_s.front()) / static_cast<double>(first.time_s.size());
    comparison.shift_s = find_shift(Misfit(first, second, pairs, from, until), options.most_shift_s, spacing);
  }
  const double slack = 1e-9;
  for (const double t : first.time_s) {
    if (t >= from - slack && t <= until + slack) comparison.time_s.push_back(t);
  }
  if (comparison.time_s.empty()) throw Error("the two records share no time");
  for (const Pair& pair : pairs)
    comparison.signals.push_back(laid_over(pair, first, second, comparison, options.band));
  return comparison;
}

}  // namespace zavrek::record
