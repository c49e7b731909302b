#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire {

/// Where the streams of a party begin.
struct StreamPlace {
  enum class Kind { listens, connects, line } kind = Kind::listens;
  std::string address = "127.0.0.1";  ///< IPv4 or IPv6, of this computer where it listens
  int port = 0;                       ///< 0 where it listens: any that is free
  /// Of a serial line: a device, or, behind "pty:", where a pseudo-terminal is to be found.
  std::string path;
  int bits_per_s = 9600;
  char parity = 'N';  ///< N, E, O
  std::int64_t between_attempts_ns = 1'000'000'000;
  std::size_t most_connections = 64;
};

/// Carries the conversations of one party over TCP or a serial line. It has no thread: `turn` is called again
/// and again by one. A peer that does not read what it is sent is let go.
class StreamDriver {
 public:
  StreamDriver(StreamPlace place, Party& party);
  StreamDriver(const StreamDriver&) = delete;
  StreamDriver& operator=(const StreamDriver&) = delete;
  ~StreamDriver();

  /// Why it cannot listen, or open its line; empty when it can. One that connects does so in `turn`.
  [[nodiscard]] std::string open();
  /// Waits for what comes, `most_ms` at most, and carries it to and fro.
  void turn(int most_ms);
  /// Ends every conversation, and takes none up while `closed`; of a line, nothing comes through.
  void keep_closed(bool closed) noexcept { closed_ = closed; }
  /// Connections stay, but nothing is heard or said.
  void keep_silent(bool silent) noexcept { silent_ = silent; }
  [[nodiscard]] std::size_t connections() const noexcept { return streams_.size(); }
  [[nodiscard]] long long turned_away() const noexcept { return turned_away_; }
  /// Where it listens.
  [[nodiscard]] int port() const noexcept { return port_; }
  /// "TCP 127.0.0.1:20000", "line /tmp/meter"
  [[nodiscard]] std::string description() const;
  /// Why the latest attempt to connect came to nothing.
  [[nodiscard]] const std::string& trouble() const noexcept { return trouble_; }

 private:
  struct Stream {
    int socket = -1;
    std::unique_ptr<Conversation> conversation;
  };
  void accept_all(Now now);
  void connect_again(Now now);
  void finish_connecting(Now now);
  void take_up(int socket, Now now);
  void read_from(Stream& stream, Now now);
  void write_to(Stream& stream);
  void close_all();
  [[nodiscard]] std::string open_line();
  [[nodiscard]] std::string listen();

  StreamPlace place_;
  Party& party_;
  /// Nothing comes through, and connections stay.
  [[nodiscard]] bool drops() const noexcept {
    return silent_ || (closed_ && place_.kind == StreamPlace::Kind::line);
  }
  std::vector<Stream> streams_;
  int listener_ = -1, connecting_ = -1, line_ = -1, line_other_end_ = -1;
  int port_ = 0;
  std::int64_t next_attempt_ns_ = 0;
  bool closed_ = false, silent_ = false;
  Count turned_away_;
  std::string trouble_;
};

}  // namespace zavrek::wire
