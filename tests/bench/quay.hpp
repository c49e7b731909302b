#pragma once

#include "zavrek/bench.hpp"

namespace zavrek::bench {

/// A source, a breaker, a load, with transformers, on a bench that talks in datagrams and listens to nobody
/// first.
inline bench::Setup quay() {
  bench::Setup setup;
  setup.network.buses = {{"quay", 11e3}, {"berth", 11e3}};
  setup.network.elements = {
      network::Source{.name = "grid", .bus = "quay", .short_circuit_VA = 140e6},
      network::Breaker{.name = "Q1", .between = {"quay", "berth"}},
      network::CurrentTransformer{.name = "CT1", .on = "Q1", .primary_A = 300, .secondary_A = 1},
      network::VoltageTransformer{.name = "VT1", .bus = "quay", .primary_V = 11e3, .secondary_V = 110},
      network::Load{.name = "ferry", .bus = "berth", .active_W = 3e6, .reactive_var = 1e6}};
  setup.bench.medium = "datagram";
  setup.bench.contacts = {"remote"};
  setup.bench.listen_s = 0;
  return setup;
}

/// Of its transformers, sent whoever reads it.
inline Stream stream_of_quay(const std::string& id, int appid) {
  Stream stream;
  stream.name = "M1";
  stream.id = id;
  stream.ct = "CT1";
  stream.vt = "VT1";
  stream.appid = appid;
  stream.published = "always";
  return stream;
}

}  // namespace zavrek::bench
