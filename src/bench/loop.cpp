#include "bench/loop.hpp"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <numeric>
#include <thread>

#include <fmt/format.h>

#include "bench/make_port.hpp"
#include "bench/measured.hpp"
#include "bench/names.hpp"
#include "bench/time_source.hpp"
#include "zavrek/pace/machine.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::bench {
namespace {

constexpr double startup_s = 3;  // that devices have until they must be heard
constexpr double look_at_clock_s = 0.25, made_up_in_s = 1, most_turned = 500e-6;
constexpr std::int64_t taken_ahead_ns = 300'000;  // of the first step
constexpr int most_looks = 100'000;
constexpr std::chrono::microseconds between_looks{100};
constexpr double pulses_s = 1;  // besides, where three pulses must come
constexpr int poll_ms = 5;
constexpr double waiting_s = 8;        // of a record on its way to the disk, at most
constexpr double same_instant = 1e-6;  // of a step
constexpr double looks_apart = 1.09;   // cycles: each looks at another angle

std::optional<internal::ControlSeat> control_of(const Setup& setup, Source& source,
                                                const RunOptions& options) {
  const bool any = !setup.control.blocks.empty() || !setup.control.ready.empty();
  if (!any || !source.plant()) return std::nullopt;
  const std::string& place = options.place.empty() ? setup.bench.control : options.place;
  std::optional<internal::ControlSeat> seat;
  seat.emplace(setup, *source.plant(), place != "plant");
  seat->watch(*source.plant());
  return seat;
}

/// Of the k-th port that is made: as its file calls it.
std::string place_of(const Bench& bench, std::size_t k) {
  if (k < bench.ports.size()) return table_of(bench.ports[k]).kind + "." + name_of(bench.ports[k]);
  k -= bench.ports.size();
  return k < bench.devices.size() ? "device." + bench.devices[k].name : std::string("bench");
}

}  // namespace

/// One step, with all that belongs to it.
bool Run::Loop::advance() noexcept {
  if (frames_.open()) frames_.take(exchange_.now_ns());
  if (cards_.open()) cards_.take();
  for (Port* port : stepped_) port->take(exchange_);
  exchange_.look_for_pulse();
  timetable_.tell_others(exchange_, exchange_.time_s() + same_instant * exchange_.step_s());
  if (control_) control_->run_due(*plant_);
  goes_on_ = stride_ > 1 ? take_stride() : step();
  take_samples();
  for (const auto& port : ports_) port->give(exchange_);
  if (cards_.open()) cards_.give(exchange_.time_s());
  exchange_.look();
  if (plant_ && exchange_.time_s() >= next_look_s_) {
    plant_->look_over();
    next_look_s_ += looks_apart / setup_.network.frequency_Hz;
  }
  if (options_.states && exchange_.time_s() >= options_.states->next_s()) keep_state();
  return goes_on_ && (!control_ || control_->failure().empty()) &&
         std::all_of(stepped_.begin(), stepped_.end(), [](const Port* port) { return port->well(); });
}

bool Run::Loop::step() noexcept {
  timetable_.operate_plant(exchange_);
  return source_->step();
}

/// At once if nothing is commanded within, else step by step.
bool Run::Loop::take_stride() noexcept {
  const double step = exchange_.step_s(), until = exchange_.time_s() + stride_ * step;
  if (timetable_.next_of_plant_s() >= until && plant_->leap()) {
    timetable_.tell_others(exchange_, until - step);
    return true;
  }
  for (int k = 0; k < stride_; ++k) {
    timetable_.tell_others(exchange_, exchange_.time_s() + same_instant * step);
    if (!this->step()) return false;
    exchange_.look();
  }
  return true;
}

/// All whose instants lie within the step, or at the end of the stride.
void Run::Loop::take_samples() noexcept {
  const double step = exchange_.step_s(), now = exchange_.time_s(), slack = same_instant * step;
  // What a sample is interpolated between is read at the two ends of its step only.
  if (stride_ == 1 && next_instant_s() > now + step + slack) return;
  exchange_.read();
  if (stride_ > 1) return take_next(1);  // samples lie on the grid
  while (next_instant_s() <= now + slack) take_next(1 - (now - next_instant_s()) / step);
}

void Run::Loop::take_next(double share) noexcept {
  const double at = next_instant_s(), same = at + same_instant / record_rate_Hz_;
  const bool row = static_cast<double>(next_row_) / record_rate_Hz_ <= same;
  exchange_.show(share, at);
  for (Sampling& sampling : samplings_) {
    if (sampling.next_s() > same) continue;
    exchange_.count(sampling.next++);
    for (Port* port : sampling.ports) port->sample(exchange_);
  }
  if (!row) return;
  ++next_row_;
  if (recorder_) recorder_->sample(exchange_);
}

Run::Loop::Loop(const Setup& setup, std::unique_ptr<Source> source, const RunOptions& options)
    : setup_(setup),
      options_(options),
      source_(std::move(source)),
      plant_(source_->plant()),
      control_(control_of(setup, *source_, options)),
      exchange_(setup, *source_, control_ ? &*control_ : nullptr),
      frames_(options.interface.empty() ? setup.bench.interface : options.interface,
              wire::medium_of(setup.bench.medium)),
      cards_(setup),
      record_rate_Hz_(setup.bench.points_per_cycle * setup.network.frequency_Hz) {
  if (plant_ && options.cores > 1 && plant_->summary().shards > 1) {
    crew_ = std::make_unique<pace::Crew>(std::min(options.cores, plant_->summary().shards));
    plant_->share(crew_.get());
  }
  make_ports();
}

void Run::Loop::make_ports() {
  const Bench& bench = setup_.bench;
  std::vector<std::unique_ptr<Port>> made = internal::make_ports({setup_, options_.place});
  for (const auto& port : made) {
    if (port) port->declare(exchange_);
  }
  std::vector<Flaw> flaws;
  for (std::size_t k = 0; k < made.size(); ++k) {
    if (!made[k]) continue;
    try {
      made[k]->wire(exchange_);
    } catch (const Error& error) {
      for (Flaw flaw : error.flaws()) {
        if (flaw.place.empty()) flaw.place = place_of(bench, k);
        flaws.push_back(std::move(flaw));
      }
    }
  }
  if (!flaws.empty()) throw Error(std::move(flaws));
  std::erase(made, nullptr);
  ports_ = std::move(made);
}

void Run::Loop::add(std::unique_ptr<Port> port) {
  port->declare(exchange_);
  port->wire(exchange_);
  ports_.push_back(std::move(port));
}

void Run::Loop::record(double duration_s, double kept_s, const std::vector<std::string>& further,
                       const std::vector<std::string>& points) {
  using Keep = internal::Recorder::Keep;
  const Keep keep = !options_.rows_in.empty() ? Keep::on_disk : duration_s == 0 ? Keep::latest : Keep::whole;
  const double held_s = keep == Keep::whole ? duration_s : keep == Keep::latest ? kept_s : waiting_s;
  if (keep == Keep::latest) exchange_.keep_latest_changes();
  recorder_.emplace(static_cast<std::size_t>(std::ceil(held_s * record_rate_Hz_)) + 2, record_rate_Hz_, keep);
  recorder_->head().station = setup_.network.title;
  recorder_->head().frequency_Hz = setup_.network.frequency_Hz;
  record_transformers();
  std::vector<std::string> names = setup_.bench.record;
  names.insert(names.end(), further.begin(), further.end());
  for (const StreamIn* stream : setup_.bench.all<StreamIn>()) {
    for (const std::string& value : stream->values) {
      if (value != "-") names.push_back(stream->name + "." + value);
    }
  }
  if (plant_) {
    for (const std::string& name : plant_->signal_names()) {
      if (name.starts_with("fault.") || (name.starts_with("fault") && name.find(".i") != std::string::npos))
        names.push_back(name);
    }
  }
  for (const std::string& name : names) {
    if (recorder_->has(name)) continue;
    const ValueId value = exchange_.value_of(name);
    recorder_->add({.name = name, .phase = {}, .unit = exchange_.unit_of(value), .samples = {}}, value);
  }
  const auto add_point = [&](PointId point) {
    recorder_->add(point, exchange_.column_of(point), exchange_.on(point));
  };
  for (const std::string& name : points) (void)exchange_.point_of(name);
  for (const PointId point : exchange_.points_in_order()) add_point(point);
  recorder_->open(options_.rows_in, options_.free && !anybody_outside());
}

/// Each current or voltage transformer that feeds a stream is recorded once, under its own name, in
/// primary values.
void Run::Loop::record_transformers() {
  for (const Stream* stream : setup_.bench.all<Stream>()) {
    if (stream->ct.empty() || stream->vt.empty()) continue;
    internal::MeasuredStream measured;
    measured.wire(exchange_, *stream);
    const auto add = [&](const std::string& stem, const char* unit, internal::Ratio ratio,
                         const std::array<ValueId, 3>& values) {
      if (recorder_->has(stem + "a")) return;
      for (std::size_t k = 0; k < 3; ++k)
        recorder_->add({.name = stem + static_cast<char>('a' + k),
                        .phase = std::string(1, static_cast<char>('A' + k)),
                        .unit = unit,
                        .primary = ratio.primary,
                        .secondary = ratio.secondary,
                        .samples = {}},
                       values[k]);
    };
    add(stream->ct + ".i", "A", internal::current_ratio(setup_.network, stream->ct), measured.currents());
    add(stream->vt + ".v", "V", internal::voltage_ratio(setup_.network, stream->vt), measured.voltages());
  }
}

bool Run::Loop::anybody_outside() const {
  return std::any_of(ports_.begin(), ports_.end(), [](const auto& port) { return port->by_the_clock(); });
}

/// Whole steps between two rows of the record, if nobody sees or does anything on the bench in between and
/// the plant can take them at once.
void Run::Loop::find_stride() {
  const double steps = 1 / (record_rate_Hz_ * exchange_.step_s());
  const int whole = static_cast<int>(std::lround(steps));
  const bool watched = exchange_.looks_each_step() || !stepped_.empty() || samplings_.size() > 1 ||
                       setup_.bench.points_per_cycle % samples_per_cycle != 0;
  if (!plant_ || control_ || watched || whole < 2 || std::abs(steps - whole) > 1e-9 * steps) return;
  if (plant_->ready_leaps(whole)) stride_ = whole;
}

void Run::Loop::find_samplings() {
  samplings_.push_back({samples_per_cycle * setup_.network.frequency_Hz, {}});
  for (const auto& port : ports_) {
    const double rate_Hz = port->rate_Hz() == 0 ? samplings_.front().rate_Hz : port->rate_Hz();
    const auto same = std::find_if(samplings_.begin(), samplings_.end(),
                                   [&](const Sampling& one) { return one.rate_Hz == rate_Hz; });
    if (same != samplings_.end())
      same->ports.push_back(port.get());
    else
      samplings_.push_back({rate_Hz, {port.get()}});
  }
}

void Run::Loop::begin() {
  if (std::exchange(begun_, true)) return;
  find_samplings();
  double fastest_Hz = record_rate_Hz_;
  for (const Sampling& sampling : samplings_) fastest_Hz = std::max(fastest_Hz, sampling.rate_Hz);
  exchange_.begin(recorder_ ? &*recorder_ : nullptr, fastest_Hz);
  if (recorder_) recorder_->begin(exchange_);
  for (const auto& port : ports_) {
    if (port->each_step()) stepped_.push_back(port.get());
  }
  find_stride();
  if (plant_ && options_.plants) options_.plants->keep_start();
  if (stride_ == 1) return;
  exchange_.read();  // as all stands at the start
  take_next(1);
}

void Run::Loop::visit_state(StateArchive& archive) {
  exchange_.visit_state(archive);
  timetable_.visit_state(archive);
  if (control_) control_->visit_state(archive);
  if (recorder_) recorder_->visit_state(archive);
  for (const auto& port : ports_) port->visit_state(archive);
  for (Sampling& sampling : samplings_) archive(sampling.next);
  archive(next_row_, next_look_s_);
}

bool Run::Loop::save(RunState& into) {
  into.time_s = exchange_.time_s();
  plant_->save(into.plant);
  StateArchive archive(into.rest);
  visit_state(archive);
  return archive.whole();
}

void Run::Loop::keep_first_state() {
  if (!plant_ || !options_.states || anybody_outside()) return;
  if (RunState first; save(first)) options_.states->begin(std::move(first));
}

void Run::Loop::keep_state() {
  RunState& into = options_.states->room_for_next();
  if (save(into)) options_.states->commit();
}

bool Run::Loop::begin_at(const RunState& state) {
  begin();
  RunState present;
  if (!plant_ || anybody_outside() || !save(present) || present.rest.size() == 0) return false;
  try {
    plant_->restore(state.plant);
  } catch (const Error&) {
    return false;
  }
  StateArchive archive(std::span<const std::byte>(state.rest));
  visit_state(archive);
  if (options_.states) options_.states->go_on_from(state.time_s);
  return true;
}

/// Whether somebody else already speaks as this run will: what devices hear would be a mixture.
std::string Run::Loop::listen() {
  if (!options_.listens || setup_.bench.listen_s == 0) return {};
  std::vector<wire::Identity> identities;
  for (const auto& port : ports_) {
    for (wire::Identity& identity : port->identities()) identities.push_back(std::move(identity));
  }
  if (identities.empty()) return {};
  const auto live = wire::find_live(frames_.interface(), frames_.medium(), identities,
                                    static_cast<int>(std::lround(1e3 * setup_.bench.listen_s)));
  if (!live) return {};
  return fmt::format("\"{}\" under {:#06x} is already live on {}, from {}; end it, or choose another appid",
                     live->identity.id, live->identity.appid, frames_.interface(),
                     wire::to_string(live->source));
}

std::string Run::Loop::start() {
  begin();
  if (std::string taken = listen(); !taken.empty()) return taken;
  const Opening how{frames_,
                    cards_,
                    options_.relay_program,
                    options_.place,
                    !options_.free || anybody_outside(),
                    options_.captures_in,
                    options_.captures_afresh};
  if (control_) {
    if (std::string why = control_->open(how); !why.empty()) return why;
  }
  for (const auto& port : ports_) {
    if (std::string why = port->open(how); !why.empty()) return why;
  }
  if (how.paced && sends_beside()) frames_.send_beside();
  if (how.paced) exchange_.watch_time();
  const bool pulses = how.paced && exchange_.time_source().follows_pulses();
  const std::int64_t until =
      exchange_.now_ns() +
      static_cast<std::int64_t>(std::max(startup_s + (pulses ? pulses_s : 0), patience_s()) * 1e9);
  for (;;) {
    frames_.take(exchange_.now_ns());
    cards_.take();
    for (const auto& port : ports_) port->take(exchange_);
    exchange_.look_for_pulse();
    for (const auto& port : ports_) port->give(exchange_);
    cards_.give(exchange_.time_s());
    const auto mute = std::find_if(ports_.begin(), ports_.end(), [](const auto& p) { return !p->ready(); });
    const bool known = !pulses || exchange_.time_source().knows_second();
    if (mute == ports_.end() && known) {
      keep_first_state();
      return {};
    }
    const bool over = exchange_.now_ns() > until;
    if (over && !known)
      return fmt::format("no second comes from the pulses of {} (three of them, 1 s apart, are wanted)",
                         setup_.bench.clock_pulse);
    if (mute != ports_.end() && (over || (*mute)->ended())) return (*mute)->failure();
    if (!pulses) frames_.wait(poll_ms);  // pulses are seen as they come
  }
}

std::int64_t Run::Loop::waited_ns() const noexcept {
  std::int64_t longest_ns = 0;
  for (const Port* port : stepped_) longest_ns = std::max(longest_ns, port->waited_ns());
  return longest_ns;
}

double Run::Loop::patience_s() const {
  double longest_s = 0;
  for (const auto& port : ports_) longest_s = std::max(longest_s, port->patience_s());
  return longest_s;
}

/// The port whose other side gives the pace, if any.
Port* Run::Loop::pacemaker() const {
  const auto at =
      std::find_if(ports_.begin(), ports_.end(), [](const auto& port) { return port->gives_pace(); });
  return at == ports_.end() ? nullptr : at->get();
}

int Run::Loop::processor() const {
  int wanted = -1;
  for (const auto& port : ports_) {
    if (port->processor() != -1) wanted = port->processor();
  }
  return wanted;
}

/// Whether frames are sent by a thread of their own.
bool Run::Loop::sends_beside() const {
  constexpr double longest_step_s = 25e-6;
  if (setup_.bench.frames_by != "automatic") return setup_.bench.frames_by == "thread";
  return exchange_.step_s() <= longest_step_s && pace::processors_allowed().size() > 1;
}

/// When the first run may begin, so that the plant's beginning falls on a sample of every stream, or on a
/// second, of the clock.
std::int64_t Run::Loop::begin_on_the_clock() {
  if (exchange_.utc_zero_ns() != 0) return 0;
  long long common_Hz = 0;
  for (const Sampling& sampling : samplings_)
    common_Hz = std::gcd(common_Hz, static_cast<long long>(std::llround(sampling.rate_Hz)));
  if (setup_.bench.begins == "on the second" || common_Hz == 0) common_Hz = 1;
  const std::int64_t step_ns = std::llround(exchange_.step_s() * 1e9);
  const std::int64_t second_ns = 1'000'000'000;
  const wire::Now now = exchange_.now();
  // Instants of the clock k / common_Hz behind a full second, the first that leaves a step to get there; some
  // of the plant's time may have passed as fast as it went.
  const std::int64_t soonest = now.utc_ns + 2 * step_ns - std::llround(exchange_.time_s() * 1e9);
  const std::int64_t of_second = soonest % second_ns;
  const long long k = (of_second * common_Hz + second_ns - 1) / second_ns;
  utc_wanted_ns_ = soonest - of_second + k * second_ns / common_Hz;
  return utc_wanted_ns_ - now.utc_ns + now.steady_ns + std::llround(exchange_.time_s() * 1e9) + step_ns;
}

void Run::Loop::begin_pace(std::int64_t zero_ns) noexcept {
  if (first_zero_ns_ == 0) first_zero_ns_ = zero_ns;
  exchange_.begin_pace(zero_ns, utc_wanted_ns_);
}

/// What the clock did against that of the steps.
std::optional<Account> Run::Loop::clock_account() const {
  if (exchange_.zero_ns() == 0 || !anybody_outside()) return std::nullopt;
  static const std::array<std::string, 3> words{"not synchronised", "synchronised",
                                                "synchronised to a global clock"};
  std::string said = exchange_.time_source().said();
  if (!said.empty()) said = " (" + said + ")";
  const wire::Now now = exchange_.now();
  const std::int64_t moved_ns = (now.utc_ns - exchange_.utc_zero_ns()) - (now.steady_ns - first_zero_ns_);
  Account account;
  account.port = "clock";
  account.carries = fmt::format("{}, {}; it moved {:+.1f} us in {:.1f} s, and leads the steps by {:+.1f} us",
                                exchange_.time_source().name(),
                                words[static_cast<std::size_t>(exchange_.synchronised())] + said,
                                1e-3 * static_cast<double>(moved_ns), exchange_.time_s(),
                                1e-3 * static_cast<double>(exchange_.lead_ns()));
  return account;
}

/// What waits on the network, and what comes up to an instant of the clock that never jumps.
void Run::Loop::take_until(std::int64_t until_ns) {
  if (!frames_.open()) return;
  for (int looks = 0; looks < most_looks; ++looks) {
    while (frames_.take(exchange_.now_ns()) && ++looks < most_looks) {
    }
    if (exchange_.now_ns() >= until_ns) return;
    std::this_thread::sleep_for(between_looks);
  }
}

/// The pace of the steps follows the clock that numbers samples, as slowly as no device notices: by 500 parts
/// in a million at most.
void Run::Loop::follow_clock(pace::Executive& executive, std::int64_t number,
                             std::int64_t ahead_ns) noexcept {
  const double stride_s = stride_ * exchange_.step_s();
  if (number == 0) {
    begin_pace(executive.start_ns() + executive.shift_ns() - ahead_ns);
    strides_to_look_ = std::max<std::int64_t>(1, std::llround(look_at_clock_s / stride_s));
    next_clock_look_ = strides_to_look_;
  }
  exchange_.shift_pace(executive.start_ns() - ahead_ns + executive.shift_ns());
  if (number < next_clock_look_ || executive.follows()) return;
  next_clock_look_ = number + strides_to_look_;
  const double lead_s = 1e-9 * static_cast<double>(exchange_.look_for_lead());
  const double share = std::clamp(lead_s / made_up_in_s, -most_turned, most_turned);
  executive.turn(std::llround(-share * stride_s * 1e12));
}

pace::Timing Run::Loop::execute(double duration_s, const std::function<bool()>& until, bool by_the_clock) {
  begin();
  const bool wall = by_the_clock && (!options_.free || anybody_outside());
  const double stride_s = stride_ * exchange_.step_s();
  const auto strides = duration_s == 0 ? std::numeric_limits<std::int64_t>::max()
                                       : static_cast<std::int64_t>(std::ceil(duration_s / stride_s - 1e-6));
  pace::RealtimeGrants grants;
  if (wall) exchange_.watch_time();
  if (std::exchange(set_out_, true) == false) {
    for (const auto& port : ports_) port->begin(exchange_);
  }
  if (wall) grants = pace::acquire_realtime(processor());
  if (wall && control_) control_->meet(*plant_);
  pace::Executive executive(pace::system_clock(), grants.waiting());
  executive.treat_late_steps({setup_.bench.catches_up_at, std::llround(setup_.bench.ends_when_late_s * 1e9)});
  if (Port* const pacemaker = this->pacemaker(); wall && pacemaker) {
    executive.follow([this, pacemaker] { (void)pacemaker->await(exchange_); });
  } else if (wall) {
    // Who samples or tells has done so all the while: the first step does not find what is old by then.
    take_until(0);
    const std::int64_t begins_ns = begin_on_the_clock();
    take_until(begins_ns - taken_ahead_ns);
    executive.begin_at(begins_ns);
  }
  // A step that begins on its tick ends one step later in the plant's time, long before by the clock.
  const std::int64_t begun_ns = std::llround(exchange_.time_s() * 1e9);
  const std::int64_t step_ns = std::llround(exchange_.step_s() * 1e9);
  const auto strides_to_look = static_cast<std::int64_t>(std::ceil(look_at_clock_s / stride_s));
  std::int64_t next_look = strides_to_look;
  OwnWorkOfStrides own_work;
  pace::Timing timing = executive.run(wall ? pace::Pace::wall : pace::Pace::free,
                                      std::llround(stride_s * 1e9), strides, [&](std::int64_t number) {
                                        if (wall) follow_clock(executive, number, begun_ns + step_ns);
                                        if (options_.look && number >= next_look) {
                                          next_look = number + strides_to_look;
                                          options_.look(executive.live());
                                        }
                                        const bool stopped =
                                            options_.stop && options_.stop->load(std::memory_order_relaxed);
                                        if (wall) own_work.look(executive.live(), work_so_far());
                                        const bool goes_on = advance();
                                        if (wall) executive.tell_waited(waited_ns());
                                        return goes_on && !(until && until()) && !stopped;
                                      });
  own_work.look(timing, work_so_far());
  own_work.write(timing);
  if (timing.gave_up_step >= 0) gave_up_ = timing;
  if (wall) pace::leave_realtime();
  timing.grants = grants;
  timing.plant_steps = stride_;
  return timing;
}

std::string Run::Loop::failure() {
  if (!goes_on_ && plant_)
    return fmt::format("the model diverged at {} (t = {:.6g} s); take a smaller step", plant_->culprit(),
                       plant_->time_s());
  if (gave_up_)
    return fmt::format(
        "the run ended: its step at t = {:.6g} s began {} late, and the bench ends it beyond {} "
        "(ends_when_late)",
        exchange_.time_s(), print_rounded(1e-9 * static_cast<double>(gave_up_->gave_up_late_ns), "s", 3),
        print_rounded(setup_.bench.ends_when_late_s, "s", 3));
  if (control_ && !control_->failure().empty()) return control_->failure();
  for (const auto& port : ports_) {
    if (std::string why = port->failure(); !why.empty()) return why;
  }
  if (recorder_) {
    if (std::string why = recorder_->failure(); !why.empty()) return why;
  }
  if (exchange_.lost_changes() > 0)
    return fmt::format("{} changes of outputs and switches beyond {} were not kept; something chatters",
                       exchange_.lost_changes(), Exchange::most_changes);
  return {};
}

}  // namespace zavrek::bench
