// What viewers read, and the table of calls, without a socket.
#include <gtest/gtest.h>

#include <atomic>
#include <cmath>
#include <thread>

#include <nlohmann/json.hpp>

#include "engine/calls.hpp"
#include "engine/trace.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::engine {
namespace {

using internal::Calls;
using internal::Refusal;
using internal::RowRing;
using nlohmann::json;

TEST(RowRing, GivesWhatIsLeftOfWhatIsAskedFor) {
  RowRing ring(8, 2);
  std::vector<double> rows;
  EXPECT_EQ(ring.read(0, 100, {0, 1}, rows), 0);
  EXPECT_TRUE(rows.empty());
  for (int k = 0; k < 20; ++k) {
    ring.put(0, k);
    ring.put(1, -k);
    ring.commit();
  }
  EXPECT_EQ(ring.read(0, 100, {1}, rows), 13) << "one of eight may be written just now";
  EXPECT_EQ(rows, (std::vector<double>{-13, -14, -15, -16, -17, -18, -19}));
  EXPECT_EQ(ring.read(15, 17, {0, 1}, rows), 15);
  EXPECT_EQ(rows, (std::vector<double>{15, -15, 16, -16}));
}

/// A reader beside a writer that never waits sees whole rows in order, and knows from where on.
TEST(RowRing, NeverMixesRowsOfAWriterThatGoesOn) {
  RowRing ring(64, 3);
  std::atomic<bool> stop = false;
  std::thread writer([&] {
    for (double k = 0; !stop; ++k) {
      for (std::size_t c = 0; c < 3; ++c) ring.put(c, k);
      ring.commit();
    }
  });
  std::vector<double> rows;
  long long seen = 0;
  for (int look = 0; look < 20'000; ++look) {
    const std::int64_t first = ring.read(ring.written() - 40, ring.written(), {0, 1, 2}, rows);
    for (std::size_t k = 0; k + 2 < rows.size(); k += 3, ++seen) {
      const double wanted = static_cast<double>(first) + static_cast<double>(k / 3);
      if (rows[k] != wanted || rows[k + 1] != wanted || rows[k + 2] != wanted) {
        ADD_FAILURE() << rows[k] << " " << rows[k + 1] << " " << rows[k + 2] << " at " << wanted;
        look = 20'000;
        break;
      }
    }
  }
  stop = true;
  writer.join();
  EXPECT_GT(seen, 1000);
}

TEST(Pixels, HoldLeastAndGreatest) {
  std::vector<double> rows;
  for (int k = 0; k < 1000; ++k) {
    rows.push_back(std::sin(0.5 * k));
    rows.push_back(k == 417 ? 9 : 0);
  }
  const internal::Pixels pixels = internal::pixels_of(rows, 2, 4000, 1000, 100);
  ASSERT_EQ(pixels.time_s.size(), 100U);
  EXPECT_NEAR(pixels.time_s[0], 4.0045, 1e-12);
  for (std::size_t k = 0; k < 100; ++k) {
    EXPECT_EQ(pixels.greatest[1][k], k == 41 ? 9 : 0);
    for (std::size_t row = 10 * k; row < 10 * k + 10; ++row) {
      EXPECT_LE(pixels.least[0][k], rows[2 * row]);
      EXPECT_GE(pixels.greatest[0][k], rows[2 * row]);
    }
  }
  EXPECT_EQ(internal::pixels_of(rows, 2, 0, 1000, 5000).time_s.size(), 1000U) << "never more than rows";
  EXPECT_TRUE(internal::pixels_of({}, 2, 0, 1000, 10).time_s.empty());
}

TEST(Calls, AreFoundByMethodAndPath) {
  std::map<std::string, std::string> parts;
  bool other = false;
  const internal::Call* start = Calls::find("POST", "/api/v1/cases/bay/start", parts, other);
  ASSERT_NE(start, nullptr);
  EXPECT_EQ(parts.at("case"), "bay");
  EXPECT_TRUE(start->acts);
  EXPECT_EQ(Calls::find("GET", "/api/v1/cases/bay/start", parts, other), nullptr);
  EXPECT_TRUE(other);
  EXPECT_EQ(Calls::find("GET", "/api/v2/engine", parts, other), nullptr);
  EXPECT_FALSE(other);
  for (const internal::Call& call : Calls::table()) EXPECT_EQ(call.acts, call.method == "POST") << call.path;
}

std::string refused_field(const internal::Call& call, const json& fields) {
  try {
    Calls::check(call, fields);
  } catch (const Refusal& refusal) {
    return refusal.field + ": " + refusal.text;
  }
  return "taken";
}

TEST(Calls, CheckTheirFieldsByTheTable) {
  std::map<std::string, std::string> parts;
  bool other = false;
  const internal::Call& ask = *Calls::find("POST", "/api/v1/run/ask", parts, other);
  EXPECT_EQ(refused_field(ask, {{"what", "Q1"}, {"value", 1}}), "taken");
  EXPECT_EQ(refused_field(ask, {{"what", "Q1"}, {"value", "2 MW"}}), "taken");
  EXPECT_TRUE(refused_field(ask, {{"what", "Q1"}}).starts_with("value: missing"));
  EXPECT_TRUE(refused_field(ask, {{"what", 3}, {"value", 1}}).starts_with("what: a string is wanted"));
  EXPECT_TRUE(
      refused_field(ask, {{"wat", "Q1"}, {"value", 1}}).starts_with("wat: no such field, did you mean"));
  EXPECT_FALSE(refused_field(ask, json::array()).empty());
}

TEST(Calls, AreDescribedFromTheTable) {
  const json described = json::parse(openapi());
  EXPECT_EQ(described["openapi"], "3.0.3");
  EXPECT_EQ(described["paths"].size(), Calls::table().size());
  const json& body =
      described["paths"]["/api/v1/run/ask"]["post"]["requestBody"]["content"]["application/json"]["schema"];
  EXPECT_EQ(body["required"], json::array({"what", "value"}));
  EXPECT_EQ(described["paths"]["/api/v1/cases/{case}"]["get"]["parameters"][0]["in"], "path");
}

/// A case from its load to the record of its second run.
TEST(Session, RunsIsAskedAndRunsAgain) {
  bench::RunOptions how;
  internal::Session session("bay", casefile::read_case(std::filesystem::path(ZAVREK_DEMO) / "bay"), how);
  EXPECT_EQ(session.status().state, "stopped");
  EXPECT_EQ(session.ask(0, 1), internal::Outcome::not_running);
  EXPECT_FALSE(session.values());
  for (int run = 0; run < 2; ++run) {
    session.start(3, true, "plant");
    while (session.status().state != "ended") std::this_thread::sleep_for(std::chrono::milliseconds(2));
    EXPECT_EQ(session.status().failure, "");
    EXPECT_NEAR(session.status().time_s, 3, 1e-6);
    const auto record = session.record();
    ASSERT_TRUE(record);
    EXPECT_NEAR(record->time_s.back(), 3, 1e-3);
    std::int64_t next = 0;
    const auto events = session.events(0, next);
    EXPECT_GE(events.size(), 2U);
    EXPECT_EQ(next, static_cast<std::int64_t>(events.size()));
    EXPECT_GT(session.traces()->rows().written(), 11'900);
  }
  session.start(0, true, "plant");
  EXPECT_THROW(session.start(1, true, "plant"), Error);
  while (session.status().state != "running") std::this_thread::sleep_for(std::chrono::milliseconds(2));
  const auto& asks = session.askables();
  const auto open =
      std::find_if(asks.begin(), asks.end(), [](const auto& one) { return one.name == "bench.order_open"; });
  ASSERT_NE(open, asks.end());
  EXPECT_EQ(session.ask(static_cast<std::size_t>(open - asks.begin()), 1, 5), internal::Outcome::done);
  session.stop();
  EXPECT_EQ(session.status().state, "ended");
  std::int64_t next = 0;
  bool opened = false;
  for (const internal::Happened& one : session.events(0, next)) opened = opened || one.text == "Q1 open";
  EXPECT_TRUE(opened);
}

}  // namespace
}  // namespace zavrek::engine
