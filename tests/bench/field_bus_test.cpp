// Rows of field buses as files write them, and a bus within a run.
#include <gtest/gtest.h>

#include "bench/bus_row.hpp"
#include "bench/quay.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::bench {
namespace {

using internal::BusAt;
using internal::BusRow;
using internal::read_bus_row;

std::string refusal_of_row(const std::string& text, const std::string& unit = "W") {
  try {
    const BusRow row = read_bus_row(text);
    (void)internal::per_count(row, unit);
  } catch (const Error& error) {
    return error.what();
  }
  return "none";
}

TEST(BusRow, SaysWhatStandsWhereAndHow) {
  const BusRow row = read_bus_row("40: battery.p in 0.1 kW as int16 within 1 kW class 3 select");
  EXPECT_EQ(row.address, 40);
  EXPECT_EQ(row.name, "battery.p");
  EXPECT_EQ(row.as, "int16");
  EXPECT_EQ(row.within, "1 kW");
  EXPECT_EQ(row.event_class, 3);
  EXPECT_TRUE(row.has_class);
  EXPECT_TRUE(row.select);
  EXPECT_DOUBLE_EQ(internal::per_count(row, "W"), 100);
  EXPECT_DOUBLE_EQ(internal::per_count(read_bus_row("1: p in kW"), "W"), 1000);
  EXPECT_DOUBLE_EQ(internal::per_count(read_bus_row("1: p in -0.1 kW"), "W"), -100)
      << "counted the other way";
  EXPECT_DOUBLE_EQ(internal::per_count(read_bus_row("1: share in 0.01"), ""), 0.01);
  EXPECT_DOUBLE_EQ(internal::per_count(read_bus_row("1: p"), "W"), 1);
  EXPECT_EQ(read_bus_row("Drive.speed: n as float32", BusAt::name).at, "Drive.speed");
  EXPECT_FALSE(read_bus_row("1: p").has_class);
}

TEST(BusRow, NamesWhatIsWrongAndHowItIsWritten) {
  const std::string cure = "; write one such as \"40: battery.p in 0.1 kW as int16 within 1 kW\"";
  EXPECT_EQ(refusal_of_row("40 battery.p"), "\"40 battery.p\": no address with a colon in front" + cure);
  EXPECT_EQ(refusal_of_row("x: battery.p"), "\"x: battery.p\": \"x\" is no address" + cure);
  EXPECT_EQ(refusal_of_row("-1: battery.p"), "\"-1: battery.p\": \"-1\" is no address" + cure);
  EXPECT_EQ(refusal_of_row("1:"), "\"1:\": nothing is named behind the address" + cure);
  EXPECT_EQ(refusal_of_row("1: p kW"), "\"1: p kW\": \"kW\" is not understood" + cure);
  EXPECT_EQ(refusal_of_row("1: p in kW in W"), "\"1: p in kW in W\": \"in\" stands there twice" + cure);
  EXPECT_EQ(refusal_of_row("1: p class x"), "\"1: p class x\": \"x\" is no class" + cure);
  EXPECT_EQ(refusal_of_row("1: p in 0 kW"), "\"1: p in 0 kW\": one count must be something" + cure);
  EXPECT_NE(refusal_of_row("1: p in kV").find("is a voltage"), std::string::npos)
      << refusal_of_row("1: p in kV");
}

TEST(FieldBus, IsThereWhereSomebodyCanBeAndNamesWhatItDoesNotKnow) {
  bench::Setup setup = quay();
  ModbusServer server;
  server.name = "meter";
  server.port = 0;
  server.input_registers = {"0: quay.va in 10 V"};
  server.coils = {"0: Q1"};
  setup.bench.ports = {server};
  ASSERT_TRUE(validate(setup).empty());
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_TRUE(run.paced());
  run.record(0.01, 0, {});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.01);
  ASSERT_EQ(run.failure(), "");
  EXPECT_NE(run.medium().find("TCP 127.0.0.1:"), std::string::npos) << run.medium();
  EXPECT_EQ(run.accounts().at(0).port, "modbus_server.meter");
  bench::Run alone(setup, setup.network, {.place = "plant", .free = true});
  EXPECT_FALSE(alone.paced()) << "nobody is there";
  std::get<ModbusServer>(setup.bench.ports[0]).input_registers = {"0: quay.vx"};
  try {
    bench::Run unknown(setup, setup.network, {.free = true});
    unknown.record(0.01, 0, {});
    FAIL() << unknown.start();
  } catch (const Error& error) {
    EXPECT_NE(std::string(error.what()).find("\"quay.vx\""), std::string::npos) << error.what();
  }
}

}  // namespace
}  // namespace zavrek::bench
