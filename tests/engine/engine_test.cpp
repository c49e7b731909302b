// What viewers read, and the table of calls, without a socket.
#include <gtest/gtest.h>

#include <set>
#include <thread>

#include <nlohmann/json.hpp>

#include "engine/calls.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::engine {
namespace {

using internal::Calls;
using internal::Refusal;
using nlohmann::json;

TEST(Calls, AreFoundByMethodAndPath) {
  std::map<std::string, std::string> parts;
  bool other = false;
  const internal::Call* start = Calls::find("POST", "/api/v1/cases/bay/start", parts, other);
  ASSERT_NE(start, nullptr);
  EXPECT_EQ(parts.at("case"), "bay");
  EXPECT_TRUE(start->acts());
  EXPECT_EQ(Calls::find("GET", "/api/v1/cases/bay/start", parts, other), nullptr);
  EXPECT_TRUE(other);
  EXPECT_EQ(Calls::find("GET", "/api/v2/engine", parts, other), nullptr);
  EXPECT_FALSE(other);
  for (const internal::Call& call : Calls::table())
    EXPECT_EQ(call.answer == nullptr, call.path == "/api/v1/run/stream") << call.path;
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
  std::set<std::string> paths;
  for (const internal::Call& call : Calls::table()) paths.insert(call.path);
  EXPECT_EQ(described["paths"].size(), paths.size());
  EXPECT_LT(paths.size(), Calls::table().size()) << "what is kept is asked for where going back is";
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
  EXPECT_EQ(session.ask({0, 1}), internal::Outcome::not_running);
  EXPECT_FALSE(session.values());
  for (int run = 0; run < 2; ++run) {
    session.start({.duration_s = 3, .free = true, .place = "plant"});
    while (session.status().state != "ended") std::this_thread::sleep_for(std::chrono::milliseconds(2));
    EXPECT_EQ(session.status().failure, "");
    EXPECT_NEAR(session.status().time_s, 3, 1e-6);
    const auto ended = session.ended();
    ASSERT_TRUE(ended);
    EXPECT_NEAR(ended->record.time_s.back(), 3, 1e-3);
    std::int64_t next = 0;
    const auto events = session.events(0, next);
    EXPECT_GE(events.size(), 2U);
    EXPECT_EQ(next, static_cast<std::int64_t>(events.size()));
    EXPECT_GT(session.traces()->rows.written(), 11'900);
  }
  session.start({.free = true, .place = "plant"});
  EXPECT_THROW(session.start({.duration_s = 1}), Error);
  while (session.status().state != "running") std::this_thread::sleep_for(std::chrono::milliseconds(2));
  const auto known = session.known();
  const auto& asks = known->askables;
  const auto open =
      std::find_if(asks.begin(), asks.end(), [](const auto& one) { return one.name == "bench.order_open"; });
  ASSERT_NE(open, asks.end());
  EXPECT_EQ(session.ask({static_cast<std::size_t>(open - asks.begin()), 1}, 5), internal::Outcome::done);
  bool opened = false;
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(20);
  while (!opened && std::chrono::steady_clock::now() < until) {
    std::int64_t next = 0;
    for (const internal::Happened& one : session.events(0, next)) opened = opened || one.text == "Q1 open";
  }
  session.stop();
  EXPECT_EQ(session.status().state, "ended");
  EXPECT_TRUE(opened);
}

}  // namespace
}  // namespace zavrek::engine
