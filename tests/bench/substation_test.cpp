// The configuration of a substation: read as others write it, written, read back, and held against a bench.
#include <gtest/gtest.h>

#include "bench/quay.hpp"
#include "zavrek/bench/substation.hpp"
#include "zavrek/scl.hpp"

namespace zavrek::bench {
namespace {

/// As an engineering tool writes it: two logical devices, types in templates, an address that is no default.
constexpr const char* written_elsewhere = R"(<?xml version="1.0"?>
<SCL xmlns="http://www.iec.ch/61850/2003/SCL" version="2007" revision="B">
  <Header id="Veskar"/>
  <Communication><SubNetwork name="W1">
    <ConnectedAP iedName="AA1F1" apName="S1">
      <GSE ldInst="CTRL" cbName="trips"><Address>
        <P type="VLAN-ID">00A</P><P type="VLAN-PRIORITY">5</P>
        <P type="MAC-Address">01-0C-CD-01-00-2A</P><P type="APPID">0042</P></Address>
        <MinTime unit="s" multiplier="m">4</MinTime><MaxTime unit="s" multiplier="m">2000</MaxTime></GSE>
    </ConnectedAP>
    <ConnectedAP iedName="AA1MU1" apName="S1">
      <SMV ldInst="MU" cbName="MSVCB01"><Address>
        <P type="MAC-Address">01-0C-CD-04-00-07</P><P type="APPID">4007</P></Address></SMV>
    </ConnectedAP>
  </SubNetwork></Communication>
  <IED name="AA1F1"><AccessPoint name="S1"><Server>
    <LDevice inst="PROT"><LN0 lnClass="LLN0" inst="" lnType="L0"/>
      <LN prefix="P" lnClass="PTRC" inst="1" lnType="Trip" desc="general trip"/></LDevice>
    <LDevice inst="CTRL"><LN0 lnClass="LLN0" inst="" lnType="L0">
      <DataSet name="set1">
        <FCDA ldInst="PROT" prefix="P" lnClass="PTRC" lnInst="1" doName="Tr" daName="general" fc="ST"/>
        <FCDA ldInst="PROT" prefix="P" lnClass="PTRC" lnInst="1" doName="Tr" daName="q" fc="ST"/>
        <FCDA ldInst="CTRL" lnClass="CSWI" lnInst="3" doName="Pos" fc="ST"/>
        <FCDA ldInst="CTRL" lnClass="MMXU" lnInst="1" doName="TotW" daName="mag.f" fc="MX"/>
      </DataSet>
      <GSEControl name="trips" appID="AA1F1/trips" datSet="set1" confRev="12"/></LN0>
      <LN lnClass="CSWI" inst="3" lnType="Switch"/><LN lnClass="MMXU" inst="1" lnType="Power"/></LDevice>
  </Server></AccessPoint></IED>
  <IED name="AA1MU1"><AccessPoint name="S1"><Server><LDevice inst="MU"><LN0 lnClass="LLN0" inst="" lnType="L0">
      <DataSet name="PhsMeas1">
        <FCDA ldInst="MU" prefix="I" lnClass="TCTR" lnInst="1" doName="Amp" daName="instMag.i" fc="MX"/>
        <FCDA ldInst="MU" prefix="I" lnClass="TCTR" lnInst="1" doName="Amp" daName="q" fc="MX"/>
      </DataSet>
      <SampledValueControl name="MSVCB01" smvID="xxxxMU07" datSet="PhsMeas1" confRev="1" smpRate="14400" smpMod="SmpPerSec" nofASDU="6">
        <SmvOpts refreshTime="true" sampleRate="false"/></SampledValueControl></LN0></LDevice></Server></AccessPoint></IED>
  <DataTypeTemplates>
    <LNodeType id="L0" lnClass="LLN0"/>
    <LNodeType id="Trip" lnClass="PTRC"><DO name="Tr" type="ACT1"/></LNodeType>
    <LNodeType id="Switch" lnClass="CSWI"><DO name="Pos" type="DPC1"/></LNodeType>
    <LNodeType id="Power" lnClass="MMXU"><DO name="TotW" type="MV1"/></LNodeType>
    <DOType id="ACT1" cdc="ACT"><DA name="general" fc="ST" bType="BOOLEAN"/><DA name="q" fc="ST" bType="Quality"/><DA name="t" fc="ST" bType="Timestamp"/></DOType>
    <DOType id="DPC1" cdc="DPC"><DA name="stVal" fc="ST" bType="Dbpos"/><DA name="q" fc="ST" bType="Quality"/><DA name="t" fc="ST" bType="Timestamp"/><DA name="ctlModel" fc="CF" bType="Enum"/></DOType>
    <DOType id="MV1" cdc="MV"><DA name="mag" fc="MX" bType="Struct" type="AV"/></DOType>
    <DAType id="AV"><BDA name="f" bType="FLOAT32"/></DAType>
  </DataTypeTemplates>
</SCL>
)";

TEST(Scl, ReadsWhatIsWrittenElsewhere) {
  const scl::Substation all = scl::read(written_elsewhere, "veskar.scd");
  EXPECT_EQ(all.ieds, (std::vector<std::string>{"AA1F1", "AA1MU1"}));
  ASSERT_EQ(all.messages.size(), 1U);
  const scl::Message& m = all.messages[0];
  EXPECT_EQ(m.reference, "AA1F1CTRL/LLN0$GO$trips");
  EXPECT_EQ(m.data_set, "AA1F1CTRL/LLN0$set1");
  EXPECT_EQ(m.id, "AA1F1/trips");
  EXPECT_EQ(m.revision, 12);
  EXPECT_EQ(m.line, 26);
  ASSERT_TRUE(m.address);
  EXPECT_EQ(m.address->appid, 0x42);
  EXPECT_EQ(m.address->vlan, 10);
  EXPECT_EQ(m.address->priority, 5);
  EXPECT_EQ(wire::to_string(m.address->destination), "01-0c-cd-01-00-2a");
  EXPECT_EQ(m.first_ms, 4);
  EXPECT_EQ(m.slowest_ms, 2000);
  std::vector<std::string> types;
  for (const scl::Entry& entry : m.entries) types.push_back(entry.type);
  EXPECT_EQ(types, (std::vector<std::string>{"BOOLEAN", "Quality", "structure", "Dbpos", "Quality",
                                             "Timestamp", "FLOAT32"}));
  EXPECT_EQ(m.entries[0].reference, "PROT/PPTRC1.Tr.general [ST]");
  EXPECT_EQ(m.entries[0].of, "general trip");
  EXPECT_EQ(m.entries[2].members, 3);
  ASSERT_EQ(all.streams.size(), 1U);
  EXPECT_EQ(all.streams[0].samples_per_s(50), 14400);
  EXPECT_EQ(all.streams[0].group, 6);
  EXPECT_TRUE(all.streams[0].refresh_time);
  EXPECT_FALSE(all.streams[0].address->tagged);
}

TEST(Scl, GivesWhatABenchLeavesOut) {
  bench::Setup setup = quay();
  Subscription reading;
  reading.name = "AA1F1";
  reading.id = "AA1F1/trips";
  StreamIn in;
  in.name = "MU7";
  in.id = "xxxxMU07";
  in.values = {"ia"};
  setup.bench.ports = {reading, in};
  EXPECT_TRUE(take(scl::read(written_elsewhere, "veskar.scd"), setup).empty());
  const auto& taken = std::get<Subscription>(setup.bench.ports[0]);
  EXPECT_EQ(taken.appid, 0x42);
  EXPECT_EQ(taken.revision, 12);
  EXPECT_EQ(taken.entries,
            (std::vector<std::string>{"PPTRC1_Tr", "quality of PPTRC1_Tr",
                                      "{ CSWI3_Pos as position, quality of CSWI3_Pos, time of CSWI3_Pos }",
                                      "MMXU1_TotW as float"}));
  EXPECT_TRUE(validate(setup).empty());
  EXPECT_EQ(std::get<StreamIn>(setup.bench.ports[1]).rate_Hz, 14400);
  EXPECT_EQ(std::get<StreamIn>(setup.bench.ports[1]).appid, 0x4007);
}

TEST(Scl, TellsWhatABenchSaysOtherwiseWithItsLine) {
  bench::Setup setup = quay();
  Subscription reading;
  reading.name = "bay";
  reading.id = "AA1F1/trips";
  reading.appid = 0x43;
  reading.entries = {"trip", "quality of trip", "position"};
  setup.bench.ports = {reading};
  setup.bench.ied = "AA1F2";
  std::string text;
  for (const Flaw& flaw : take(scl::read(written_elsewhere, "veskar.scd"), setup))
    text += flaw.place + ", " + flaw.field + ": " + flaw.text + "\n";
  for (const char* flaw : {"bench, ied: no IED \"AA1F2\" in veskar.scd, did you mean \"AA1F1\"?",
                           "subscription.bay, appid: is 67, and 66 in veskar.scd:26 (GSEControl trips)",
                           "subscription.bay, entries: is \"position\" at place 3, and CTRL/CSWI3.Pos [ST] "
                           "of type structure in veskar.scd:26"})
    EXPECT_NE(text.find(flaw), std::string::npos) << flaw << "\nnot in\n" << text;
}

TEST(Scl, ABenchWrittenAndReadBackIsTheSame) {
  bench::Setup setup = quay();
  Stream stream;
  stream.name = "M1";
  stream.ct = "CT1";
  stream.vt = "VT1";
  stream.appid = 0x4123;
  stream.rate_Hz = 4800;
  stream.group = 2;
  stream.revision = 7;
  stream.includes = {"refrTm"};
  stream.vlan = 33;
  stream.priority = 5;
  Message message;
  message.name = "bay";
  message.appid = 0x123;
  message.revision = 4;
  message.tagged = false;
  message.slowest_repeat_s = 1;
  message.destination = "01-0c-cd-01-01-77";
  message.entries = {"Q1", "{ Q1 as position, quality of Q1, time of Q1 }", "CT1.ia as float",
                     "VT1.va as integer"};
  setup.bench.ports = {stream, message};
  const std::string text = scl::write(substation_of(setup, "Quay"));
  const scl::Substation read = scl::read(text, "bench.cid");
  bench::Setup bare = quay();
  Stream bare_stream;
  bare_stream.name = "M1";
  bare_stream.ct = "CT1";
  bare_stream.vt = "VT1";
  Message bare_message;
  bare_message.name = "bay";
  bare_message.entries = message.entries;
  bare.bench.ports = {bare_stream, bare_message};
  bare.bench.ied = "Quay";
  for (const Flaw& flaw : take(read, bare))
    ADD_FAILURE() << flaw.place << " " << flaw.field << " " << flaw.text;
  const auto& s = std::get<Stream>(bare.bench.ports[0]);
  EXPECT_EQ(s.appid, stream.appid);
  EXPECT_EQ(s.rate_Hz, stream.rate_Hz);
  EXPECT_EQ(s.group, stream.group);
  EXPECT_EQ(s.revision, stream.revision);
  EXPECT_EQ(s.includes, stream.includes);
  EXPECT_EQ(s.vlan, stream.vlan);
  EXPECT_EQ(s.priority, stream.priority);
  const auto& m = std::get<Message>(bare.bench.ports[1]);
  EXPECT_EQ(m.appid, message.appid);
  EXPECT_EQ(m.revision, message.revision);
  EXPECT_EQ(m.destination, message.destination);
  EXPECT_FALSE(m.tagged);
  EXPECT_EQ(m.slowest_repeat_s, 1);
  EXPECT_EQ(scl::write(substation_of(bare, "Quay")), text);
  message.entries = {"{ Q1, CT1.ia as float }"};
  setup.bench.ports = {message};
  EXPECT_THROW((void)substation_of(setup, "Quay"), Error);
}

TEST(Scl, WhatIsNoConfigurationIsRefusedByLine) {
  const auto refused = [](std::string_view text) {
    try {
      (void)scl::read(text, "x.scd");
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("read");
  };
  EXPECT_EQ(refused("<SCL>\n<IED"), "x.scd:2: is no XML: Error parsing start element tag");
  EXPECT_NE(refused("<Other/>").find("x.scd:1: has no element SCL"), std::string::npos);
  std::string text = written_elsewhere;
  const auto with = [&](const std::string& from, const std::string& to) {
    std::string changed = text;
    changed.replace(changed.find(from), from.size(), to);
    return refused(changed);
  };
  EXPECT_EQ(with("confRev=\"12\"", "confRev=\"-1\""),
            "x.scd:26: GSEControl: confRev \"-1\" is no whole number from 0 to 1000000000");
  EXPECT_EQ(with("<P type=\"APPID\">0042</P>", "<P type=\"APPID\">42 </P>"),
            "x.scd:8: GSE trips: APPID \"42 \" is no hexadecimal number up to FFFF");
  EXPECT_NE(with("datSet=\"set1\"", "datSet=\"set2\"")
                .find("x.scd:26: GSEControl trips: names a data set \"set2\""),
            std::string::npos);
  EXPECT_NE(with("01-0C-CD-01-00-2A", "01-0C-CD").find("is no hardware address"), std::string::npos);
}

}  // namespace
}  // namespace zavrek::bench
