// Two of a kind: nodes of CAN, a master and slaves of EtherCAT, a unit and a client of synchrophasors, in
// simulated time.
#include <malloc.h>

#include <cmath>
#include <map>

#include <gtest/gtest.h>

#include "wire/field_parties.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/can.hpp"
#include "zavrek/wire/field/ethercat.hpp"
#include "zavrek/wire/field/ethercat_master.hpp"
#include "zavrek/wire/field/iec104.hpp"
#include "zavrek/wire/field/synchrophasor.hpp"

namespace zavrek::wire {
namespace {

using test::Desk;

// --- CAN ----------------------------------------------------------------------------------------

constexpr const char* quay_database =
    "BO_ 256 Drive: 8 X\n"
    " SG_ power : 7|16@0- (0.1,0) [-3200|3200] \"kW\" Y\n"
    " SG_ main : 16|1@1+ (1,0) [0|1] \"\" Y\n"
    " SG_ count : 20|4@1+ (1,0) [0|15] \"\" Y\n"
    " SG_ check : 56|8@1+ (1,0) [0|255] \"\" Y\n"
    "BA_ \"GenMsgCycleTime\" BO_ 256 20;\n";

CanNodeSettings drive(bool sends) {
  CanNodeSettings settings;
  settings.database = parse_can_database(quay_database, "quay.dbc");
  (sends ? settings.sends : settings.reads) = {{0, 0, 0, 5}, {0, 1, 1, 0}};
  settings.checks = {{0, 2, std::nullopt}, {0, 3, CanChecksum::crc8}};
  return settings;
}

TEST(CanNode, SaysTheSameOnBothSidesAfterADayOfLossAndDamage) {
  Desk here, there;
  here.shown = {0, 0};
  CanNode sender(drive(true), here), reader(drive(false), there);
  std::mt19937 random(11);
  Now now{1'000'000'000, 0};
  std::size_t after_an_hour = 0;
  long long damaged = 0;
  for (int hour = 0; hour < 24; ++hour) {
    for (int k = 0; k < 360'000; ++k) {
      now.steady_ns += 10'000'000;
      const bool calm = k > 350'000;
      if (!calm && random() % 50 == 0)
        here.shown = {static_cast<double>(random() % 6000) - 3000, static_cast<double>(random() % 2)};
      sender.poll(now);
      for (CanFrame& frame : sender.out()) {
        const bool lost = !calm && random() % 20 == 0, spoiled = !calm && random() % 50 == 0;
        if (spoiled) frame.data[random() % 7] ^= static_cast<std::uint8_t>(1U << random() % 8);
        damaged += spoiled && !lost ? 1 : 0;
        if (!lost) reader.receive(frame, now);
      }
      sender.out().clear();
      reader.poll(now);
    }
    EXPECT_NEAR(there.asked[0], here.shown[0], 0.05) << "hour " << hour;
    EXPECT_EQ(there.asked[1], here.shown[1]) << "hour " << hour;
    EXPECT_TRUE(reader.alive());
    const std::size_t used = mallinfo2().uordblks;
    if (hour == 0) after_an_hour = used;
    EXPECT_LT(used, after_an_hour + 64 * 1024) << "memory grows";
  }
  EXPECT_EQ(reader.traffic().malformed, damaged) << "every damage is seen by its sum";
  EXPECT_NEAR(static_cast<double>(reader.traffic().lost), 0.07 * static_cast<double>(sender.traffic().sent),
              0.02 * static_cast<double>(sender.traffic().sent))
      << "a twentieth was lost, and a fiftieth not believed";
  now.steady_ns += 61'000'000;
  reader.poll(now);
  EXPECT_FALSE(reader.alive()) << "three cycles without it";
}

TEST(CanNode, SendsAtOnceWhatLeavesItsBandAndNoMoreThanItMay) {
  Desk desk;
  desk.shown = {100, 0};
  CanNodeSettings settings = drive(true);
  settings.database.messages[0].cycle_s = 0;
  settings.at_change = {0};
  settings.least_gap_s = 0.005;
  CanNode node(settings, desk);
  Now now{1'000'000'000, 0};
  const auto sent = [&] {
    now.steady_ns += 1'000'000;
    node.poll(now);
    const std::size_t count = node.out().size();
    node.out().clear();
    return count;
  };
  EXPECT_EQ(sent(), 1U) << "how things stand";
  EXPECT_EQ(sent(), 0U);
  desk.shown[0] = 104;
  for (int k = 0; k < 10; ++k) EXPECT_EQ(sent(), 0U) << "within 5 kW";
  desk.shown[0] = 106;
  EXPECT_EQ(sent(), 1U);
  desk.shown[1] = 1;
  std::size_t count = 0;
  int when = 0;
  for (int k = 1; k <= 8; ++k) {
    if (sent() == 1 && count++ == 0) when = k;
  }
  EXPECT_EQ(count, 1U);
  EXPECT_EQ(when, 5) << "five milliseconds behind the one before";
}

// --- EtherCAT -----------------------------------------------------------------------------------

/// Slaves in a row: a frame passes each and comes back.
class Row {
 public:
  EtherCatSlave& add(const EtherCatSettings& settings, Desk& desk) {
    slaves_.push_back(std::make_unique<EtherCatSlave>(settings, desk));
    return *slaves_.back();
  }
  bool broken = false;
  std::int64_t passing_ns = 1'000'000;  // from one frame to the next
  EtherCatMaster::Exchange exchange() {
    return [this](Bytes frame, std::int64_t) {
      now_.steady_ns += passing_ns;
      std::vector<std::uint8_t> passing(frame.begin(), frame.end());
      for (const auto& slave : slaves_) {
        slave->poll(now_);
        if (broken || !slave->pass(passing, now_)) return std::vector<std::uint8_t>();
      }
      return passing;
    };
  }
  void wait(double seconds) {
    now_.steady_ns += static_cast<std::int64_t>(1e9 * seconds);
    for (const auto& slave : slaves_) slave->poll(now_);
  }

 private:
  std::vector<std::unique_ptr<EtherCatSlave>> slaves_;
  Now now_{1'000'000'000, 0};
};

EtherCatSettings slave_named(const std::string& name) {
  EtherCatSettings settings;
  settings.name = name;
  settings.product = static_cast<std::uint32_t>(name.size());
  settings.inputs = {{name + " speed", EtherCatType::float32, 0},
                     {name + " power", EtherCatType::int16, 1},
                     {name + " main", EtherCatType::boolean, 2},
                     {name + " fault", EtherCatType::boolean, 3}};
  settings.outputs = {{name + " wanted", EtherCatType::float64, 0}, {name + " on", EtherCatType::boolean, 1}};
  return settings;
}

const EtherCatMaster::Entry& entry_named(const EtherCatMaster& master, const std::string& name) {
  for (const EtherCatMaster::Slave& slave : master.slaves()) {
    for (const auto* entries : {&slave.inputs, &slave.outputs}) {
      for (const EtherCatMaster::Entry& entry : *entries) {
        if (entry.name == name) return entry;
      }
    }
  }
  throw Error("no entry " + name);
}

TEST(EtherCatMaster, FindsNamesAndExchangesTheImagesOfSlavesInARow) {
  Row row;
  std::array<Desk, 3> desks;
  const std::array<std::string, 3> names{"crane", "roof", "lamps"};
  std::vector<EtherCatSlave*> slaves;
  for (std::size_t k = 0; k < 3; ++k) {
    desks[k].shown = {1.5 + static_cast<double>(k), -20.0 - static_cast<double>(k), 1, 0};
    slaves.push_back(&row.add(slave_named(names[k]), desks[k]));
  }
  EtherCatMaster master(row.exchange());
  master.scan();
  ASSERT_EQ(master.slaves().size(), 3U);
  for (std::size_t k = 0; k < 3; ++k) {
    EXPECT_EQ(master.slaves()[k].name, names[k]);
    EXPECT_EQ(master.slaves()[k].product, names[k].size());
    EXPECT_EQ(master.slaves()[k].station, 0x1001 + k);
  }
  master.start();
  for (const EtherCatSlave* slave : slaves) EXPECT_EQ(slave->state(), EtherCatState::operational);
  for (std::size_t k = 0; k < 3; ++k) {
    master.set(entry_named(master, names[k] + " wanted"), 1000.25 * static_cast<double>(k + 1));
    master.set(entry_named(master, names[k] + " on"), k == 1 ? 1 : 0);
  }
  ASSERT_TRUE(master.cycle(0));
  for (std::size_t k = 0; k < 3; ++k) {
    EXPECT_EQ(master.input(entry_named(master, names[k] + " speed")), 1.5 + static_cast<double>(k));
    EXPECT_EQ(master.input(entry_named(master, names[k] + " power")), -20.0 - static_cast<double>(k));
    EXPECT_EQ(master.input(entry_named(master, names[k] + " main")), 1);
    EXPECT_EQ(master.input(entry_named(master, names[k] + " fault")), 0);
    EXPECT_EQ(desks[k].asked[0], 1000.25 * static_cast<double>(k + 1));
    EXPECT_EQ(desks[k].asked[1], k == 1 ? 1 : 0);
    EXPECT_EQ(master.output(entry_named(master, names[k] + " wanted")), desks[k].asked[0]);
  }
  desks[2].shown[3] = 1;
  ASSERT_TRUE(master.cycle(0));
  EXPECT_EQ(master.input(entry_named(master, "lamps fault")), 1);
  row.broken = true;
  EXPECT_FALSE(master.cycle(0));
  row.broken = false;
  row.wait(0.5);
  EXPECT_EQ(slaves[0]->state(), EtherCatState::safe_operational)
      << "its outputs were not written for a tenth of a second";
  desks[0].asked.clear();
  (void)master.cycle(0);
  EXPECT_TRUE(desks[0].asked.empty()) << "outputs count in operation only";
  master.stop();
  for (const EtherCatSlave* slave : slaves) EXPECT_EQ(slave->state(), EtherCatState::init);
}

TEST(EtherCatMaster, ExchangesForADayWithoutGrowing) {
  Row row;
  Desk desk;
  desk.shown = {0, 0, 0, 0};
  EtherCatSlave& slave = row.add(slave_named("crane"), desk);
  EtherCatMaster master(row.exchange());
  master.scan();
  master.start();
  row.passing_ns = 60'000'000;
  const auto& wanted = entry_named(master, "crane wanted");
  const auto& speed = entry_named(master, "crane speed");
  std::size_t at_first = 0;
  for (int k = 0; k < 24 * 3600 * 1000 / 60; ++k) {
    desk.shown[0] = k % 1000;
    master.set(wanted, k % 777);
    ASSERT_TRUE(master.cycle(0)) << k;
    ASSERT_EQ(master.input(speed), k % 1000);
    ASSERT_EQ(desk.asked[0], k % 777);
    if (k == 1000) at_first = mallinfo2().uordblks;
  }
  EXPECT_EQ(slave.state(), EtherCatState::operational);
  EXPECT_LT(mallinfo2().uordblks, at_first + 32 * 1024);
}

TEST(EtherCatMaster, SaysWhoIsNotThere) {
  Row row;
  EtherCatMaster master(row.exchange());
  row.broken = true;
  Desk desk;
  desk.shown = {0, 0, 0, 0};
  (void)row.add(slave_named("crane"), desk);
  EXPECT_THROW(master.scan(), Error);
  row.broken = false;
  master.scan();
  row.broken = true;
  try {
    master.start();
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "slave 0x1001 does not answer where 0x0120 is written");
  }
}

TEST(EtherCat, TellsOfItselfInItsDescription) {
  const std::string text = slave_description(slave_named("a<b&\"c\""));
  EXPECT_NE(text.find("<Name>a&lt;b&amp;&quot;c&quot;</Name>"), std::string::npos);
  EXPECT_NE(text.find("<Index>#x6000</Index><SubIndex>2</SubIndex><BitLen>16</BitLen>"), std::string::npos);
  EXPECT_NE(text.find("<Entry><Index>0</Index><BitLen>6</BitLen></Entry>"), std::string::npos)
      << "filled up to an octet";
}

// --- synchrophasors -----------------------------------------------------------------------------

TEST(SynchrophasorUnit, TellsThoseWhoWantItAndLosesWhatNobodyReads) {
  SynchrophasorConfiguration configuration;
  configuration.id = 7;
  configuration.phasors = {{"VA", false, 4}};
  SynchrophasorUnit unit(configuration, "header");
  std::vector<double> heard;
  SynchrophasorClient client(7,
                             [&](const SynchrophasorConfiguration& of, const SynchrophasorData& data, Now) {
                               EXPECT_EQ(of.phasors.at(0).name, "VA");
                               heard.push_back(data.phasors.at(0).real());
                             });
  test::Line line(unit, client);
  SynchrophasorData data;
  data.phasors = {0.0};
  // A day of fifty a second over a line that breaks: what is heard is what was told, in its order.
  line.breaks_per_s = 1.0 / 600;
  heard.reserve(24 * 3600 * 5);
  std::size_t after_an_hour = 0;
  long long told = 0;
  for (int k = 0; k < 24 * 3600; ++k) {
    for (int report = 0; report < 5; ++report) {
      data.utc_ns = line.now.utc_ns;
      data.phasors[0] = static_cast<double>(++told % 1'000'000);
      unit.give(data);
    }
    line.turn(1);
    if (k == 3600) after_an_hour = mallinfo2().uordblks;
  }
  EXPECT_LT(mallinfo2().uordblks, after_an_hour + 64 * 1024) << "memory grows";
  EXPECT_GT(static_cast<double>(heard.size()), 0.97 * static_cast<double>(told));
  EXPECT_TRUE(std::is_sorted(heard.begin(), heard.end()));
  EXPECT_GT(line.connections, 100);
  EXPECT_EQ(client.traffic().malformed, 0);
  // One who turned data on and reads nothing.
  const auto deaf = unit.connected(line.now);
  deaf->receive(encode_command(7, SynchrophasorCommand::data_on, 0), line.now);
  for (int k = 0; k < 20'000; ++k) unit.give(data);
  EXPECT_LT(deaf->out().size(), 300'000U);
  EXPECT_GT(unit.traffic().lost, 10'000);
}

TEST(SynchrophasorClient, GivesUpOnOneWithoutAConfiguration) {
  SynchrophasorClient client(
      7, [](const SynchrophasorConfiguration&, const SynchrophasorData&, Now) { FAIL(); });
  const auto talk = client.connected({});
  EXPECT_EQ(talk->out(), encode_command(7, SynchrophasorCommand::send_configuration2, 0));
  talk->poll({4'900'000'000, 0});
  EXPECT_EQ(talk->over(), "");
  talk->poll({5'100'000'000, 0});
  EXPECT_EQ(talk->over(), "no configuration came");
}

// --- telecontrol --------------------------------------------------------------------------------

TEST(Iec104, KeepsItsWindowsAndTimes) {
  Desk desk;
  desk.shown = {0};
  Iec104Settings settings;
  settings.points = {{1, Iec104Kind::single_point, 0}};
  settings.timing = {.t1_s = 15, .t2_s = 10, .t3_s = 20, .k = 3, .w = 2};
  const auto station = make_iec104_station(settings, desk);
  Now now{1'000'000'000, 1'700'000'000'000'000'000};
  const auto talk = station->connected(now);
  const auto heard = [&] { return std::exchange(talk->out(), {}); };
  const auto pass = [&](double seconds) {
    now.steady_ns += static_cast<std::int64_t>(1e9 * seconds);
    station->poll(now);
    talk->poll(now);
  };
  pass(0.1);
  EXPECT_TRUE(heard().empty()) << "nothing ahead of the start";
  talk->receive(std::array<std::uint8_t, 6>{0x68, 4, 0x07, 0, 0, 0}, now);
  const auto started = heard();
  ASSERT_GE(started.size(), 6U);
  EXPECT_EQ(started[2], 0x0B);
  for (int k = 0; k < 10; ++k) {
    desk.shown[0] = k % 2 == 0 ? 1 : 0;
    pass(0.1);
  }
  // The end of initialisation went with the start; two more are all that may be under way.
  std::size_t frames = 0;
  const auto sent = heard();
  for (std::size_t at = 0; at < sent.size(); at += 2U + sent[at + 1]) ++frames;
  EXPECT_EQ(frames, 2U);
  pass(10);
  EXPECT_TRUE(heard().empty());
  EXPECT_EQ(talk->over(), "");
  pass(5);
  EXPECT_EQ(talk->over(), "no answer within t1");
  // Another, that acknowledges: it is tested in silence, and lives by the answers.
  const auto second = station->connected(now);
  second->receive(std::array<std::uint8_t, 6>{0x68, 4, 0x07, 0, 0, 0}, now);
  second->out().clear();
  for (int k = 0; k < 5; ++k) {
    second->receive(std::array<std::uint8_t, 6>{0x68, 4, 0x01, 0, 2, 0}, now);
    now.steady_ns += 19'900'000'000;
    second->poll(now);
    EXPECT_TRUE(second->out().empty());
    now.steady_ns += 200'000'000;
    second->poll(now);
    EXPECT_EQ(std::exchange(second->out(), {}), (std::vector<std::uint8_t>{0x68, 4, 0x43, 0, 0, 0}));
    second->receive(std::array<std::uint8_t, 6>{0x68, 4, 0x83, 0, 0, 0}, now);
  }
  EXPECT_EQ(second->over(), "");
  second->receive(std::array<std::uint8_t, 6>{0x68, 4, 0x01, 0, 40, 0}, now);
  EXPECT_EQ(second->over(), "an acknowledgement of what was not sent (104, 5.1)");
}

}  // namespace
}  // namespace zavrek::wire
