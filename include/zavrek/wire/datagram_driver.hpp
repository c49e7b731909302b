#pragma once

#include <memory>
#include <string>
#include <vector>

#include <netinet/in.h>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire {

/// Carries the conversations of one party over UDP (IPv4), one with each address that spoke lately. As a
/// StreamDriver it has no thread.
class DatagramDriver {
 public:
  /// Where it listens; `to`: whom it speaks to unasked, "127.0.0.1:4713", or nobody.
  DatagramDriver(std::string address, int port, std::string to, Party& party);
  DatagramDriver(const DatagramDriver&) = delete;
  DatagramDriver& operator=(const DatagramDriver&) = delete;
  ~DatagramDriver();
  [[nodiscard]] std::string open();
  void turn(int most_ms);
  void keep_silent(bool silent) noexcept { silent_ = silent; }
  [[nodiscard]] std::string description() const;
  [[nodiscard]] long long turned_away() const noexcept { return turned_away_; }
  /// Of a datagram: what an answer is cut into, at the ends of its messages.
  static constexpr std::size_t most_peers = 32;

 private:
  struct Peer {
    sockaddr_in address;
    std::int64_t heard_ns;
    bool stays;
    std::unique_ptr<Conversation> conversation;
  };
  Peer* find(const sockaddr_in& address, Now now, bool stays);
  void send_from(Peer& peer);

  std::string address_, to_;
  int port_, socket_ = -1;
  Party& party_;
  std::vector<Peer> peers_;
  bool silent_ = false;
  Count turned_away_;
};

}  // namespace zavrek::wire
