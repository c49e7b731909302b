#include "engine/house.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numbers>
#include <thread>

#include <fmt/format.h>

#include "engine/bundle.hpp"
#include "engine/page_file.hpp"
#include "report/json.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::engine::internal {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

constexpr std::size_t most_deeds = 2000, most_cases = 50, most_struck = 100;
constexpr double lead_s = 5e-3;  // from when a strike is decided to its instant, at least
constexpr double begins_within_s = 10;

bool runs(const Session& session) {
  const std::string state = session.status().state;
  return state == "running" || state == "starting";
}

/// Names of cases become names of folders.
void require_name(const std::string& name) {
  const bool plain = !name.empty() && name.size() <= 80 && name.front() != '.' &&
                     std::all_of(name.begin(), name.end(), [](unsigned char c) {
                       return std::isalnum(c) != 0 || c == '-' || c == '_' || c == '.';
                     });
  if (!plain)
    refuse(400, "name", "letters, digits, \"-\", \"_\" and \".\" make the name of a case, 80 at most");
}

}  // namespace

void refuse(int status, const std::string& field, const std::string& text) {
  throw Refusal{status, field, text};
}

House::House(const EngineOptions& options) : options_(options), store_(options.store), work_(store_) {
  for (const fs::path& folder : options.cases) {
    const std::string name = fs::canonical(folder).filename().string();
    for (const Loaded& other : loaded_) {
      if (other.session->name() == name)
        throw Error(fmt::format("two cases are called \"{}\"; rename a folder", name));
    }
    load(name, folder, "", {});
  }
  for (const std::string& name : store_.cases()) {
    const bool hidden = std::any_of(loaded_.begin(), loaded_.end(),
                                    [&](const Loaded& one) { return one.session->name() == name; });
    if (hidden) continue;
    try {
      load_sent(name);
    } catch (const Error& error) {
      note("engine", fmt::format("{} was sent before and is not loaded: {}", name, error.what()));
    }
  }
}

House::~House() { stop_all(); }

void House::load(const std::string& name, const fs::path& folder, const std::string& sum,
                 const fs::path& within) {
  trial::Case all = within.empty() ? casefile::read_case(folder) : casefile::read_case_within(folder, within);
  if (!within.empty() && !options_.own_libraries) {
    if (const auto wants = casefile::wants_of_computer(all); !wants.empty())
      throw Error(
          fmt::format("{}: a case that was sent may not use what is this computer's; its owner allows it "
                      "with --own-libraries",
                      wants.front()));
  }
  bench::open_laws(all);
  bench::RunOptions how;
  how.relay_program = options_.program;
  auto session = std::make_shared<Session>(
      name, std::move(all), how, [this](const Session& one, const Ended& ended) { keep(one, ended); });
  json page = read_page_file(folder, session->loaded(), *session->known());
  const std::lock_guard lock(mutex_);
  loaded_.push_back({std::move(session), folder, sum, std::move(page)});
}

void House::load_sent(const std::string& name) {
  const json about = store_.case_note(name);
  const fs::path root = store_.case_folder(name);
  load(name, root / "files" / about.value("folder", ""), about.value("sha256", ""), root / "files");
}

std::vector<std::shared_ptr<Session>> House::sessions() const {
  const std::lock_guard lock(mutex_);
  std::vector<std::shared_ptr<Session>> all;
  for (const Loaded& one : loaded_) all.push_back(one.session);
  return all;
}

std::shared_ptr<Session> House::session(const std::string& name) const {
  std::vector<std::string> names;
  for (const auto& one : sessions()) {
    if (one->name() == name) return one;
    names.push_back(one->name());
  }
  refuse(404, "case", fmt::format("no case \"{}\"{}", name.substr(0, 100), suggestion(name, names)));
}

std::shared_ptr<Session> House::take_bundle(const std::string& bytes, const std::string& wanted) {
  const std::lock_guard starting(starting_);
  const std::string sum = record::sha256(bytes);
  const fs::path fresh = store_.case_folder(".new-" + sum.substr(0, 16));
  std::error_code ignored;
  fs::remove_all(fresh, ignored);
  try {
    fs::create_directories(fresh);
    const BundleHead head = unpack(bytes, fresh / "files");
    const std::string name = wanted.empty() ? head.name : wanted;
    require_name(name);
    for (const auto& other : sessions()) {
      if (other->name() != name) continue;
      if (sum_of(name).empty())
        refuse(409, "name", name + " is a case of the engine's own; give another name");
      if (runs(*other) || (work_.under_way() && work_.status()["case"] == name))
        refuse(409, "name", name + " runs; stop it first");
    }
    if (sessions().size() >= most_cases)
      refuse(409, "", fmt::format("{} cases are loaded; remove one", most_cases));
    write_whole(fresh / "case.json",
                json{{"folder", head.folder}, {"sha256", head.sha256}, {"name", head.name}}.dump(1));
    // Read before it takes the place of another.
    (void)casefile::read_case_within(fresh / "files" / head.folder, fresh / "files");
    {
      const std::lock_guard lock(mutex_);
      std::erase_if(loaded_, [&](const Loaded& one) { return one.session->name() == name; });
      if (current_ && current_->name() == name) current_.reset();
    }
    store_.forget_case(name);
    fs::rename(fresh, store_.case_folder(name));
    try {
      load_sent(name);
    } catch (...) {
      store_.forget_case(name);
      throw;
    }
    return session(name);
  } catch (const Error& error) {
    fs::remove_all(fresh, ignored);
    refuse(400, "bundle", error.what());
  } catch (const Refusal&) {
    fs::remove_all(fresh, ignored);
    throw;
  }
}

void House::remove(const std::string& name) {
  const std::lock_guard starting(starting_);
  const auto session = this->session(name);
  if (sum_of(name).empty()) refuse(409, "case", name + " is a case of the engine's own");
  if (runs(*session) || (work_.under_way() && work_.status()["case"] == name))
    refuse(409, "case", name + " runs; stop it first");
  const std::lock_guard lock(mutex_);
  std::erase_if(loaded_, [&](const Loaded& one) { return one.session == session; });
  if (current_ == session) current_.reset();
  store_.forget_case(name);
}

json House::page_of(const std::string& name) const {
  const std::lock_guard lock(mutex_);
  for (const Loaded& one : loaded_) {
    if (one.session->name() == name) return one.page;
  }
  return json::object();
}

std::string House::sum_of(const std::string& name) const {
  const std::lock_guard lock(mutex_);
  for (const Loaded& one : loaded_) {
    if (one.session->name() == name) return one.sum;
  }
  return {};
}

std::shared_ptr<Session> House::current_or_null() const {
  const std::lock_guard lock(mutex_);
  return current_;
}

std::shared_ptr<Session> House::current() const {
  auto current = current_or_null();
  if (!current) refuse(409, "", "nothing runs, and nothing has run; start a case");
  return current;
}

void House::require_idle(const Session* but_for) const {
  if (work_.under_way()) refuse(409, "", "trials are under way; stop them first");
  const auto running = current_or_null();
  if (running && running.get() != but_for && runs(*running))
    refuse(409, "case", fmt::format("{} runs; stop it first", running->name()));
}

void House::start(const std::shared_ptr<Session>& wanted, const Start& how) {
  const std::lock_guard starting(starting_);
  require_idle(wanted.get());
  try {
    wanted->start(how);
  } catch (const Error& error) {
    refuse(409, "case", error.what());
  }
  const std::lock_guard lock(mutex_);
  current_ = wanted;
  if (how.again_until_s == 0) struck_.clear();
}

void House::stop() {
  const auto running = current();
  const std::lock_guard starting(starting_);
  running->stop();
}

void House::go_back(double to_s, const std::vector<network::FaultPlace>* places) {
  const auto session = current();
  const std::lock_guard starting(starting_);
  if (session->status().bound)
    refuse(409, "",
           "somebody outside lives by the clock of this run; only one with all devices in the plant's "
           "process (place = \"plant\") goes back");
  if (!(to_s > 0 && to_s <= session->status().time_s))
    refuse(400, "to",
           fmt::format("between 0 and {:.3f} s, the present of the run", session->status().time_s));
  std::vector<Act> acts;
  session->stop();
  const bool whole = session->diary(acts);
  const bool needs_first =
      places != nullptr || acts.empty() || session->state_behind(to_s) < acts.front().time_s;
  if (!whole && needs_first)
    refuse(409, "",
           "too much was done since the start for it to be kept, and no state behind the first of it");
  Start how = session->started();
  how.past_whole = whole;
  std::erase_if(acts, [&](const Act& act) { return std::max(act.time_s, act.at_s) >= to_s; });
  how.past = std::move(acts);
  how.again_until_s = to_s;
  try {
    if (places) session->make_ready(*places);
    session->start(how);
  } catch (const Error& error) {
    refuse(409, "", error.what());
  }
  const std::lock_guard lock(mutex_);
  std::erase_if(struck_, [&](const Struck& one) { return one.at_s >= to_s; });
}

Struck House::strike(const Strike& wanted) {
  const network::FaultPlace place = place_named(wanted.on, wanted.at);
  std::vector<PoleAsk> asks;
  try {
    asks = asks_of(wanted, place.name);
  } catch (const Error& error) {
    refuse(400, "phases", error.what());
  }
  auto session = current();
  if (session->status().state != "running") refuse(409, "", "nothing runs; start a case");
  // One that has only just begun takes its first steps before; an angle is found on two cycles.
  const double first_s = !wanted.angle_rad ? 0 : 2.5 / session->loaded().network.frequency_Hz;
  const auto begun = std::chrono::steady_clock::now() + std::chrono::seconds(1);
  while (session->status().time_s <= first_s && session->status().state == "running" &&
         std::chrono::steady_clock::now() < begun)
    std::this_thread::sleep_for(std::chrono::milliseconds(5));
  const auto ready = [&](const network::FaultPlace& one) { return one.name == place.name; };
  if (auto places = session->known()->places; std::none_of(places.begin(), places.end(), ready)) {
    if (session->status().bound) {
      std::string names;
      for (const network::FaultPlace& one : places) names += (names.empty() ? "" : ", ") + one.name.substr(6);
      refuse(409, "on",
             fmt::format("this run has no place for a fault there (only at {}), and somebody outside "
                         "lives by its clock; start it with faults = [\"{}\"]",
                         names, place.name.substr(6)));
    }
    // The same again up to now, with that place.
    places.push_back(place);
    go_back(session->status().time_s, &places);
    const auto until = std::chrono::steady_clock::now() + std::chrono::duration<double>(begins_within_s);
    while (session->status().state == "starting" || session->status().again_until_s > 0) {
      if (std::chrono::steady_clock::now() > until)
        refuse(503, "", "it takes long to make that place ready; ask again");
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    if (session->status().state != "running") refuse(409, "on", session->status().failure);
  }
  const auto known = session->known();
  const auto number_of = [&](const std::string& name) -> std::optional<std::size_t> {
    const auto at = std::find_if(known->askables.begin(), known->askables.end(),
                                 [&](const Askable& one) { return one.name == name; });
    if (at == known->askables.end()) return std::nullopt;
    return static_cast<std::size_t>(at - known->askables.begin());
  };
  const auto ask = [&](const PoleAsk& one, double at_s) {
    const auto number = number_of(one.what);
    if (!number) {
      if (std::isnan(one.after_s) && wanted.resistance_ohm == 0) return;  // solid as it is
      refuse(409, std::isnan(one.after_s) ? "resistance" : "on",
             fmt::format("{} cannot be set here: its part of the network is solved as a whole", one.what));
    }
    switch (session->ask({*number, one.value, at_s, 0, 0})) {
      case Outcome::done:
        return;
      case Outcome::refused:
        refuse(409, "", one.what + " was refused");
      case Outcome::not_running:
        refuse(409, "", "nothing runs; start a case");
      case Outcome::late:
        refuse(503, "", "the plant has not answered in time");
    }
  };
  for (const PoleAsk& one : asks) {
    if (std::isnan(one.after_s)) ask(one, 0);
  }
  double at_s = session->status().time_s + lead_s;
  if (wanted.angle_rad) {
    try {
      at_s = instant_of_angle(*session->traces(), place.name, wanted.phases, *wanted.angle_rad, at_s,
                              session->loaded().network.frequency_Hz);
    } catch (const Error& error) {
      refuse(409, "angle", error.what());
    }
  }
  for (const PoleAsk& one : asks) {
    if (!std::isnan(one.after_s)) ask(one, at_s + one.after_s);
  }
  Struck struck{wanted, place.name, at_s, wanted.angle_rad.value_or(0)};
  if (!wanted.angle_rad) {
    try {
      const double frequency_Hz = session->loaded().network.frequency_Hz;
      const double zero_s = instant_of_angle(*session->traces(), place.name, wanted.phases, 0,
                                             at_s - 1 / frequency_Hz, frequency_Hz);
      struck.angle_rad = 2 * std::numbers::pi * std::fmod((at_s - zero_s) * frequency_Hz + 1, 1.0);
    } catch (const Error&) {
      struck.angle_rad = 0;
    }
  }
  const std::lock_guard lock(mutex_);
  struck_.push_back(struck);
  if (struck_.size() > most_struck) struck_.erase(struck_.begin());
  return struck;
}

void House::clear() {
  const auto session = current();
  const auto known = session->known();
  const auto view = session->values();
  if (!view) refuse(409, "", "nothing runs; start a case");
  for (std::size_t k = 0; k < known->askables.size(); ++k) {
    const Askable& one = known->askables[k];
    if (one.operated && one.name.starts_with("fault@")) (void)session->ask({k, 0, 0, 0, 0});
  }
}

std::vector<Struck> House::struck() const {
  const std::lock_guard lock(mutex_);
  return struck_;
}

void House::begin_work(const std::shared_ptr<Session>& wanted, const WorkAsked& asked) {
  const std::lock_guard starting(starting_);
  require_idle(nullptr);
  try {
    work_.begin(wanted, asked);
  } catch (const Error& error) {
    refuse(400, "trials", error.what());
  }
}

void House::stop_work() {
  const std::lock_guard starting(starting_);
  work_.stop();
}

void House::stop_all() {
  const std::lock_guard starting(starting_);
  work_.stop();
  for (const auto& session : sessions()) session->stop();
}

/// Of a run that has ended: status, timing, accounts and record, so that the next engine still has them.
void House::keep(const Session& session, const Ended& ended) {
  try {
    const std::string id = store_.begin_result();
    const fs::path folder = store_.result_folder(id);
    json about{{"kind", "run"},
               {"case", session.name()},
               {"at_utc_ns", pace::utc_ns()},
               {"time_s", ended.status.time_s},
               {"paced", ended.status.paced},
               {"failure", ended.status.failure},
               {"real_time", report::punctuality_json(pace::punctuality(ended.timing))},
               {"ports", report::ports_json(ended.accounts)},
               {"record", nullptr}};
    if (ended.record.time_s.size() > 1) {
      record::write_comtrade(ended.record, folder / "run.cfg", record::Encoding::float32);
      about["record"] = "run";
    }
    store_.finish_result(id, about);
  } catch (const std::exception& error) {
    note("engine", fmt::format("the run of {} was not kept: {}", session.name(), error.what()));
  }
}

void House::note(const std::string& who, const std::string& text) {
  const auto running = current_or_null();
  const double time_s = running ? running->status().time_s : 0;
  const std::lock_guard lock(mutex_);
  deeds_.push_back({next_deed_++, pace::utc_ns(), time_s, who, text});
  if (deeds_.size() > most_deeds) deeds_.pop_front();
}

std::vector<Deeded> House::deeds(long long from) const {
  const std::lock_guard lock(mutex_);
  std::vector<Deeded> all;
  for (const Deeded& one : deeds_) {
    if (one.number >= from) all.push_back(one);
  }
  return all;
}

}  // namespace zavrek::engine::internal
