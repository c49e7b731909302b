// Messages out and in: what one port publishes another reads, over a real link of this computer.
#include <unistd.h>

#include <chrono>
#include <optional>
#include <thread>

#include <fmt/format.h>

#include <gtest/gtest.h>

#include "bench/probe.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::test {
extern long long allocations;  // counting_allocator.cpp
}

namespace zavrek::bench {
namespace {

bench::Setup talking_to_itself() {
  bench::Setup setup;
  setup.network.buses = {{"quay", 11e3}, {"feed", 11e3}, {"berth", 11e3}};
  setup.network.elements = {
      network::Source{.name = "grid", .bus = "quay", .short_circuit_VA = 140e6},
      network::Breaker{.name = "Q1", .between = {"quay", "feed"}},
      network::Contactor{.name = "K1", .between = {"feed", "berth"}, .closed = true, .opening_time_s = 0},
      network::Load{.name = "ferry", .bus = "berth", .active_W = 3e6, .reactive_var = 1e6}};
  setup.bench.medium = "datagram";
  setup.bench.contacts = {"remote"};
  // Other tests talk on the same link at the same time.
  const std::string id = "yard" + std::to_string(getpid());
  setup.bench.ports = {
      Message{.name = "M1", .id = id, .entries = {"Q1", "bench.remote"}, .appid = 0x301},
      Subscription{.name = "S1", .id = id, .entries = {"q1", "go"}, .opens = {"K1: go"}, .appid = 0x301}};
  return setup;
}

TEST(Ports, CarryAContactOutAndItsMessageBackToAContactor) {
  const bench::Setup setup = talking_to_itself();
  ASSERT_TRUE(validate(setup).empty());
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_TRUE(run.paced()) << "somebody outside is listened to";
  run.record(0.2, 0, {});
  run.schedule({{.at_s = 0.1, .kind = Deed::Kind::close, .what = "bench.remote"}});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.2);
  ASSERT_EQ(run.failure(), "");
  EXPECT_NE(run.medium().find("datagrams"), std::string::npos) << run.medium();
  std::vector<std::string> texts;
  const record::Record record = run.take_record(0);
  for (const record::Event& event : record.events) texts.push_back(event.text);
  EXPECT_EQ(texts, (std::vector<std::string>{"S1 q1", "bench.remote closed", "S1 go", "K1 open"}));
  const std::vector<Account> accounts = run.accounts();
  ASSERT_EQ(accounts.size(), 3U) << "and the clock";
  EXPECT_GT(accounts[0].sent, 4);
  EXPECT_EQ(accounts[0].unsent, 0);
  EXPECT_GT(accounts[1].received, 3);
  EXPECT_EQ(accounts[1].malformed, 0);
  EXPECT_EQ(accounts[1].delay.count(), 1) << "one change, one measured delay";
  EXPECT_EQ(run.paths().at(1).to, "K1");
}

TEST(Ports, AllocateNothingWhileTheySendAndReceive) {
  const bench::Setup setup = talking_to_itself();
  bench::Run run(setup, setup.network, {.free = true});
  auto probe = std::make_unique<Probe>();
  long long before = 0, after = -1;
  probe->given = [&](Exchange& exchange) {
    if (exchange.time_s() < 0.05) before = zavrek::test::allocations;
    if (exchange.time_s() < 0.25) after = zavrek::test::allocations;
  };
  run.add(std::move(probe));
  run.record(0.3, 0, {});
  std::vector<Deed> deeds;
  for (int k = 0; k < 5; ++k)
    deeds.push_back({.at_s = 0.1 + 0.02 * k,
                     .kind = k % 2 == 0 ? Deed::Kind::close : Deed::Kind::open,
                     .what = "bench.remote"});
  run.schedule(deeds);
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.3);
  ASSERT_EQ(run.failure(), "");
  EXPECT_GT(run.accounts().at(1).received, 8);
  EXPECT_EQ(after - before, 0) << "allocations";
}

TEST(Ports, GiveUpOnAPublisherThatIsNotThere) {
  bench::Setup setup = talking_to_itself();
  setup.bench.ports = {Subscription{.name = "S1", .id = "nobody", .entries = {"q1"}, .appid = 0x302}};
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_EQ(run.start(), "no message from S1 at the start");
}

/// Somebody else on the link, who repeats one message each millisecond.
class Rival {
 public:
  Rival(const std::string& id, std::uint16_t appid, std::vector<bool> entries)
      : link_(wire::open_link("lo", wire::Medium::datagram, {wire::ethertype_goose, {0xFFFF}})) {
    message_.address = wire::goose_address(appid);
    message_.address.source = wire::random_source();
    message_.id = id;
    message_.state = 77;
    message_.set(entries);
    speaker_ = std::jthread([this](const std::stop_token& stop) {
      std::array<std::uint8_t, wire::longest_frame> frame{};
      for (; !stop.stop_requested(); ++message_.sequence) {
        (void)link_->send(wire::Bytes(frame).first(wire::encode(message_, frame)));
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
      }
    });
  }
  [[nodiscard]] std::string source() const { return wire::to_string(message_.address.source); }

 private:
  std::unique_ptr<wire::Link> link_;
  wire::Goose message_;
  std::jthread speaker_;
};

TEST(Ports, DoNotStartWhereSomebodyElseSpeaksUnderTheirName) {
  bench::Setup setup = talking_to_itself();
  const std::string id = setup.bench.all<Message>().at(0)->id;
  const Rival rival(id, 0x301, {true, true});
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_EQ(run.start(), fmt::format("\"{}\" under 0x0301 is already live on lo, from {}; end it, or choose "
                                     "another appid",
                                     id, rival.source()));

  setup.bench.ports = {Subscription{.name = "S1", .id = id, .entries = {"q1"}, .appid = 0x301}};
  bench::Run reading(setup, setup.network, {.free = true});
  EXPECT_EQ(reading.start(), "") << "one publisher is as it should be";
  const Rival second(id, 0x301, {false});
  bench::Run torn(setup, setup.network, {.free = true});
  EXPECT_NE(torn.start().find("is already live"), std::string::npos) << "two are not";
}

TEST(Ports, DoNotBelieveWhoJoinsLater) {
  bench::Setup setup = talking_to_itself();
  const std::string id = setup.bench.all<Message>().at(0)->id;
  std::optional<Rival> rival;
  bench::Run run(setup, setup.network, {.free = true});
  run.record(0.3, 0, {});
  ASSERT_EQ(run.start(), "");
  rival.emplace(id, 0x301, std::vector<bool>{true, true});
  (void)run.execute(0.3);
  EXPECT_EQ(run.failure(), "");
  for (const record::Event& event : run.take_record(0).events)
    EXPECT_NE(event.text, "K1 open") << "by the rival's word";
  const std::vector<Account> accounts = run.accounts();
  EXPECT_GT(accounts.at(1).conflicting, 20);
  EXPECT_NE(to_string(accounts.at(1), 50e-6).find("CONFLICTING"), std::string::npos);
}

TEST(Account, IsReadBackFromItsLines) {
  Account account{.port = "device.R1", .sent = 4, .lost = 1, .restarts = 2};
  EXPECT_EQ(to_lines(account), "sent 4\nlost 1\nrestarts 2\n");
  Account read;
  take_lines("sent 4\nlost 1x\nnothing\nlate\n malformed 3\nrestarts 2\nunknown 8\nlost 1", read);
  EXPECT_EQ(to_lines(read), to_lines(account));
}

TEST(Ports, AreReadFromAFileByTheirFieldTables) {
  const auto folder = std::filesystem::temp_directory_path() / "zavrek_ports_test";
  std::filesystem::create_directories(folder);
  record::write_file(folder / "network.toml",
                     "[bus]\nquay = \"11 kV\"\nberth = \"11 kV\"\n[source.grid]\nbus = \"quay\"\n"
                     "short_circuit = \"140 MVA\"\n[breaker.Q1]\nbetween = [\"quay\", \"berth\"]\n"
                     "[load.ferry]\nbus = \"berth\"\nactive = \"3 MW\"\n");
  record::write_file(folder / "bench.toml",
                     "[message.M1]\nid = \"yard\"\nentries = [\"Q1\"]\nappid = 0x301\n"
                     "[subscription.S1]\nentries = [\"go\"]\nopens = [\"Q1: go\"]\nappid = 0x302\n");
  const trial::Case all = casefile::read_case(folder);
  ASSERT_EQ(all.bench.ports.size(), 2U);
  EXPECT_EQ(all.bench.all<Message>().at(0)->identifier(), "yard");
  EXPECT_EQ(all.bench.all<Subscription>().at(0)->identifier(), "S1");
  record::write_file(folder / "bench.toml",
                     "[message.M1]\nentries = [\"Q7\"]\n[subscription.S1]\nentries = []\n"
                     "opens = [\"Q1: went\"]\n");
  try {
    (void)casefile::read_case(folder);
    ADD_FAILURE() << "read";
  } catch (const Error& error) {
    const std::string text = error.what();
    for (const char* flaw : {"message.M1, entries: no breaker, switch or contactor \"Q7\"",
                             "subscription.S1, entries: 1 to 128 entries are wanted",
                             "subscription.S1, opens: no output \"went\""})
      EXPECT_NE(text.find(flaw), std::string::npos) << flaw << "\nnot in\n" << text;
  }
  std::filesystem::remove_all(folder);
}

}  // namespace
}  // namespace zavrek::bench
