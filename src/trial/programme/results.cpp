// Results of a programme in SQLite.
//
//   programme(key, value)       fingerprint, format, "planned SWEEP": its trials
//   trial(number, sweep, name, fields (JSON), passed, failure, fault_current_A, simulated_s, spent_s, record)
//   verdict(trial, row, expectation, expected, measured, margin, passed, value, left_share)
//   doubt(trial, row, text): of verdicts where a second reckoning expects something else
//   finding(trial, text, low, high)
//   real_time(trial, steps, late_steps, longest_late_steps, longest_late_s, worst_late_s, worst_at_s,
//             held_back_s): of trials that followed the clock
#include <sqlite3.h>

#include <cmath>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {

namespace {

constexpr const char* format_version = "1";
constexpr int busy_ms = 10'000;
constexpr const char* schema = R"(
CREATE TABLE IF NOT EXISTS programme (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS trial (
  number INTEGER PRIMARY KEY, sweep TEXT NOT NULL, name TEXT NOT NULL, fields TEXT NOT NULL,
  passed INTEGER NOT NULL, failure TEXT NOT NULL, fault_current_A REAL, simulated_s REAL, spent_s REAL,
  record TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS verdict (
  trial INTEGER NOT NULL, row INTEGER NOT NULL, expectation TEXT NOT NULL, expected TEXT NOT NULL,
  measured TEXT NOT NULL, margin TEXT NOT NULL, passed INTEGER NOT NULL, value REAL, left_share REAL,
  PRIMARY KEY (trial, row));
CREATE TABLE IF NOT EXISTS doubt (
  trial INTEGER NOT NULL, row INTEGER NOT NULL, text TEXT NOT NULL, PRIMARY KEY (trial, row));
CREATE TABLE IF NOT EXISTS uncertainty (
  trial INTEGER NOT NULL, row INTEGER NOT NULL, spare REAL, uncertain REAL, PRIMARY KEY (trial, row));
CREATE TABLE IF NOT EXISTS finding (
  trial INTEGER NOT NULL, text TEXT NOT NULL, low REAL NOT NULL, high REAL NOT NULL, PRIMARY KEY (trial, text));
CREATE TABLE IF NOT EXISTS cause (
  place INTEGER PRIMARY KEY, text TEXT NOT NULL, explained INTEGER NOT NULL, of INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS real_time (
  trial INTEGER PRIMARY KEY, steps INTEGER NOT NULL, late_steps INTEGER NOT NULL,
  longest_late_steps INTEGER NOT NULL, longest_late_s REAL NOT NULL, worst_late_s REAL NOT NULL,
  worst_at_s REAL NOT NULL, held_back_s REAL NOT NULL);
)";

}  // namespace

struct Results::Handle {
  sqlite3* database = nullptr;
  std::string file;
  ~Handle() { sqlite3_close_v2(database); }

  [[noreturn]] void fail() const {
    throw Error(fmt::format("the results in \"{}\" cannot be used: {}", file, sqlite3_errmsg(database)));
  }
  void run(const std::string& sql) const {
    if (sqlite3_exec(database, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) fail();
  }
};

namespace {

/// A prepared statement.
class Statement {
 public:
  template <class Handle>
  Statement(const Handle& handle, const char* sql) : database_(handle.database) {
    if (sqlite3_prepare_v2(database_, sql, -1, &statement_, nullptr) != SQLITE_OK) handle.fail();
  }
  ~Statement() { sqlite3_finalize(statement_); }
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;

  Statement& bind(const std::string& text) {
    sqlite3_bind_text(statement_, ++bound_, text.c_str(), static_cast<int>(text.size()), SQLITE_TRANSIENT);
    return *this;
  }
  Statement& bind(double value) {
    if (std::isnan(value)) {
      sqlite3_bind_null(statement_, ++bound_);
    } else {
      sqlite3_bind_double(statement_, ++bound_, value);
    }
    return *this;
  }
  Statement& bind(long long value) {
    sqlite3_bind_int64(statement_, ++bound_, value);
    return *this;
  }
  /// True when there is a row; throws Error otherwise than done.
  bool step() {
    const int code = sqlite3_step(statement_);
    if (code == SQLITE_ROW) return true;
    if (code != SQLITE_DONE)
      throw Error(fmt::format("the results cannot be written or read: {}", sqlite3_errmsg(database_)));
    return false;
  }
  [[nodiscard]] std::string text(int column) const {
    const auto* at = reinterpret_cast<const char*>(sqlite3_column_text(statement_, column));
    return at ? std::string(at, static_cast<std::size_t>(sqlite3_column_bytes(statement_, column)))
              : std::string();
  }
  [[nodiscard]] double number(int column) const {
    return sqlite3_column_type(statement_, column) == SQLITE_NULL ? unset
                                                                  : sqlite3_column_double(statement_, column);
  }
  [[nodiscard]] long long whole(int column) const { return sqlite3_column_int64(statement_, column); }

 private:
  sqlite3* database_;
  sqlite3_stmt* statement_ = nullptr;
  int bound_ = 0;
};

}  // namespace

Results::Results(const std::filesystem::path& file, const std::string& wanted) : handle_(new Handle) {
  handle_->file = file.string();
  if (file.has_parent_path()) std::filesystem::create_directories(file.parent_path());
  if (sqlite3_open(handle_->file.c_str(), &handle_->database) != SQLITE_OK) handle_->fail();
  sqlite3_busy_timeout(handle_->database, busy_ms);
  handle_->run("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;");
  handle_->run(schema);
  const std::string held = fingerprint();
  if (!wanted.empty() && !held.empty() && held != wanted)
    throw Error(
        fmt::format("\"{}\" holds results of another programme (its case has changed since); remove it or "
                    "choose another folder with --out",
                    handle_->file));
  if (held.empty() && !wanted.empty()) {
    Statement put(*handle_, "INSERT INTO programme VALUES ('fingerprint', ?), ('format', ?)");
    (void)put.bind(wanted).bind(std::string(format_version)).step();
  }
}

Results::~Results() = default;

std::string Results::fingerprint() const {
  Statement get(*handle_, "SELECT value FROM programme WHERE key = 'fingerprint'");
  return get.step() ? get.text(0) : std::string();
}

void Results::put(const StoredTrial& trial) {
  nlohmann::json fields = nlohmann::json::array();
  for (const auto& [field, value] : trial.fields) fields.push_back({field, value});
  handle_->run("BEGIN IMMEDIATE");
  Statement row(*handle_, "INSERT OR REPLACE INTO trial VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  (void)row.bind(trial.number)
      .bind(trial.sweep)
      .bind(trial.name)
      .bind(fields.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace))
      .bind(static_cast<long long>(trial.passed))
      .bind(trial.failure)
      .bind(trial.fault_current_A)
      .bind(trial.simulated_s)
      .bind(trial.spent_s)
      .bind(trial.record)
      .step();
  for (std::size_t k = 0; k < trial.verdicts.size(); ++k) {
    const Verdict& v = trial.verdicts[k];
    Statement put(*handle_, "INSERT OR REPLACE INTO verdict VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)");
    (void)put.bind(trial.number)
        .bind(static_cast<long long>(k))
        .bind(v.expectation)
        .bind(v.expected)
        .bind(v.measured)
        .bind(v.margin)
        .bind(static_cast<long long>(v.passed))
        .bind(v.value)
        .bind(v.left)
        .step();
    if (network::is_set(v.spare)) {
      Statement edge(*handle_, "INSERT OR REPLACE INTO uncertainty VALUES (?, ?, ?, ?)");
      (void)edge.bind(trial.number).bind(static_cast<long long>(k)).bind(v.spare).bind(v.uncertain).step();
    }
    if (v.doubt.empty()) continue;
    Statement doubt(*handle_, "INSERT OR REPLACE INTO doubt VALUES (?, ?, ?)");
    (void)doubt.bind(trial.number).bind(static_cast<long long>(k)).bind(v.doubt).step();
  }
  for (const Explanation& e : trial.findings) {
    Statement put(*handle_, "INSERT OR IGNORE INTO finding VALUES (?, ?, ?, ?)");
    (void)put.bind(trial.number).bind(e.text).bind(e.low).bind(e.high).step();
  }
  if (trial.kept.paced) {
    const pace::Punctuality& kept = trial.kept;
    Statement put(*handle_, "INSERT OR REPLACE INTO real_time VALUES (?, ?, ?, ?, ?, ?, ?, ?)");
    (void)put.bind(trial.number)
        .bind(static_cast<long long>(kept.steps))
        .bind(static_cast<long long>(kept.late_steps))
        .bind(static_cast<long long>(kept.longest_late_steps))
        .bind(kept.longest_late_s)
        .bind(kept.worst_late_s)
        .bind(kept.worst_at_s)
        .bind(kept.held_back_s)
        .step();
  }
  handle_->run("COMMIT");
}

void Results::plan(const std::string& sweep, long long trials) {
  Statement put(*handle_, "INSERT OR REPLACE INTO programme VALUES (?, ?)");
  (void)put.bind("planned " + sweep).bind(std::to_string(trials)).step();
}

long long Results::planned() const {
  Statement get(*handle_, "SELECT SUM(CAST(value AS INTEGER)) FROM programme WHERE key LIKE 'planned %'");
  return get.step() ? get.whole(0) : 0;
}

void Results::put_causes(const std::vector<Finding>& causes) {
  handle_->run("BEGIN IMMEDIATE; DELETE FROM cause");
  for (std::size_t k = 0; k < causes.size(); ++k) {
    Statement put(*handle_, "INSERT INTO cause VALUES (?, ?, ?, ?)");
    (void)put.bind(static_cast<long long>(k))
        .bind(causes[k].text)
        .bind(causes[k].explained)
        .bind(causes[k].of)
        .step();
  }
  handle_->run("COMMIT");
}

std::vector<Finding> Results::causes() const {
  std::vector<Finding> found;
  Statement rows(*handle_, "SELECT text, explained, of FROM cause ORDER BY place");
  while (rows.step()) found.push_back({rows.text(0), rows.whole(1), rows.whole(2)});
  return found;
}

std::vector<long long> Results::numbers() const {
  std::vector<long long> found;
  Statement rows(*handle_, "SELECT number FROM trial ORDER BY number");
  while (rows.step()) found.push_back(rows.whole(0));
  return found;
}

std::optional<double> Results::left_of(long long number) const {
  StoredTrial trial;
  Statement one(*handle_, "SELECT failure FROM trial WHERE number = ?");
  if (!one.bind(number).step()) return std::nullopt;
  trial.failure = one.text(0);
  Statement verdicts(*handle_, "SELECT passed, left_share FROM verdict WHERE trial = ?");
  (void)verdicts.bind(number);
  while (verdicts.step()) {
    Verdict& verdict = trial.verdicts.emplace_back();
    verdict.passed = verdicts.whole(0) != 0;
    verdict.left = verdicts.number(1);
  }
  return least_left(trial);
}

std::vector<StoredTrial> Results::all() const {
  std::vector<StoredTrial> found;
  Statement rows(
      *handle_,
      "SELECT number, sweep, name, fields, passed, failure, fault_current_A, simulated_s, spent_s, record "
      "FROM trial ORDER BY number");
  while (rows.step()) {
    StoredTrial& t = found.emplace_back();
    t.number = rows.whole(0);
    t.sweep = rows.text(1);
    t.name = rows.text(2);
    for (const auto& pair : nlohmann::json::parse(rows.text(3)))
      t.fields.emplace_back(pair.at(0).get<std::string>(), pair.at(1).get<std::string>());
    t.passed = rows.whole(4) != 0;
    t.failure = rows.text(5);
    t.fault_current_A = rows.number(6);
    t.simulated_s = rows.number(7);
    t.spent_s = rows.number(8);
    t.record = rows.text(9);
  }
  /// The trial that a row of another table belongs to, in order of trials; null where there is none.
  const auto owner = [&found, at = std::size_t{0}](long long number) mutable -> StoredTrial* {
    while (at < found.size() && found[at].number < number) ++at;
    return at < found.size() && found[at].number == number ? &found[at] : nullptr;
  };
  Statement verdicts(
      *handle_,
      "SELECT trial, expectation, expected, measured, margin, passed, value, left_share FROM verdict "
      "ORDER BY trial, row");
  for (auto of = owner; verdicts.step();) {
    if (StoredTrial* trial = of(verdicts.whole(0)))
      trial->verdicts.push_back({verdicts.text(1), verdicts.text(2), verdicts.text(3), verdicts.text(4),
                                 verdicts.whole(5) != 0, verdicts.number(6), verdicts.number(7)});
  }
  Statement doubts(*handle_, "SELECT trial, row, text FROM doubt ORDER BY trial");
  for (auto of = owner; doubts.step();) {
    StoredTrial* trial = of(doubts.whole(0));
    const auto row = static_cast<std::size_t>(doubts.whole(1));
    if (trial && row < trial->verdicts.size()) trial->verdicts[row].doubt = doubts.text(2);
  }
  Statement edges(*handle_, "SELECT trial, row, spare, uncertain FROM uncertainty ORDER BY trial");
  for (auto of = owner; edges.step();) {
    StoredTrial* trial = of(edges.whole(0));
    const auto row = static_cast<std::size_t>(edges.whole(1));
    if (!trial || row >= trial->verdicts.size()) continue;
    trial->verdicts[row].spare = edges.number(2);
    trial->verdicts[row].uncertain = edges.number(3);
  }
  Statement findings(*handle_, "SELECT trial, text, low, high FROM finding ORDER BY trial, rowid");
  for (auto of = owner; findings.step();) {
    if (StoredTrial* trial = of(findings.whole(0)))
      trial->findings.push_back({findings.text(1), findings.number(2), findings.number(3)});
  }
  Statement kept(
      *handle_,
      "SELECT trial, steps, late_steps, longest_late_steps, longest_late_s, worst_late_s, worst_at_s, "
      "held_back_s FROM real_time ORDER BY trial");
  for (auto of = owner; kept.step();) {
    if (StoredTrial* trial = of(kept.whole(0)))
      trial->kept = {true,           kept.whole(1),  kept.whole(2),  kept.whole(3),
                     kept.number(4), kept.number(5), kept.number(6), kept.number(7)};
  }
  return found;
}

long long Results::merge(const std::filesystem::path& other) {
  if (!std::filesystem::exists(other)) throw Error(fmt::format("no results in \"{}\"", other.string()));
  if (std::filesystem::equivalent(other, handle_->file))
    throw Error(fmt::format("\"{}\" is the whole itself; name the folders of its shards", other.string()));
  {
    const Results held(other, "");
    if (held.fingerprint() != fingerprint() && !fingerprint().empty())
      throw Error(fmt::format("\"{}\" holds results of another programme", other.string()));
    if (fingerprint().empty()) {
      Statement put(*handle_, "INSERT INTO programme VALUES ('fingerprint', ?), ('format', ?)");
      (void)put.bind(held.fingerprint()).bind(std::string(format_version)).step();
    }
  }
  {
    Statement attach(*handle_, "ATTACH ? AS other");
    (void)attach.bind(other.string()).step();
  }
  handle_->run(
      "BEGIN IMMEDIATE; INSERT OR IGNORE INTO programme SELECT * FROM other.programme; INSERT OR IGNORE INTO "
      "verdict SELECT * FROM other.verdict WHERE trial NOT IN (SELECT "
      "number "
      "FROM trial); INSERT OR IGNORE INTO finding SELECT * FROM other.finding; INSERT OR IGNORE INTO doubt "
      "SELECT * FROM "
      "other.doubt; INSERT OR IGNORE INTO uncertainty SELECT * FROM other.uncertainty; INSERT OR IGNORE INTO "
      "real_time SELECT "
      "* FROM other.real_time; INSERT OR IGNORE INTO trial "
      "SELECT * FROM other.trial;");
  const long long taken = sqlite3_changes64(handle_->database);
  handle_->run("COMMIT; DETACH other;");
  return taken;
}

}  // namespace zavrek::trial
