// What carries the conversations of field buses, over the loopback and a pseudo-terminal of this computer.
#include <fcntl.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <cstring>
#include <filesystem>
#include <string>

#include <gtest/gtest.h>

#include "zavrek/wire/datagram_driver.hpp"
#include "zavrek/wire/stream_driver.hpp"

namespace zavrek::wire {
namespace {

/// Sends back what it hears; "end" ends it, "much" is answered by more than anybody's buffer holds.
class Echo final : public Party {
 public:
  class Talk final : public Conversation {
   public:
    void receive(Bytes bytes, Now /*now*/) override {
      const std::string text(bytes.begin(), bytes.end());
      if (text == "end") return end("as it was told");
      send(bytes);
      if (text == "much") send(std::vector<std::uint8_t>(8U << 20U, 'm'));
    }
    void poll(Now /*now*/) override {}
  };
  std::unique_ptr<Conversation> connected(Now /*now*/) override {
    ++traffic_.connections;
    return wanted ? std::make_unique<Talk>() : nullptr;
  }
  [[nodiscard]] const Traffic& traffic() const noexcept override { return traffic_; }
  bool wanted = true;

 private:
  Traffic traffic_;
};

/// A plain socket of whoever is on the other side.
class Peer {
 public:
  explicit Peer(int port) : socket_(::socket(AF_INET, SOCK_STREAM, 0)) {
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(static_cast<std::uint16_t>(port));
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    connected_ = ::connect(socket_, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0;
  }
  ~Peer() { ::close(socket_); }
  Peer(const Peer&) = delete;
  Peer& operator=(const Peer&) = delete;
  [[nodiscard]] bool connected() const { return connected_; }
  void say(const std::string& text) const { (void)::send(socket_, text.data(), text.size(), MSG_NOSIGNAL); }
  /// What is there; "closed" where the other side has ended.
  [[nodiscard]] std::string hear() const {
    std::array<char, 256> buffer{};
    const ssize_t got = ::recv(socket_, buffer.data(), buffer.size(), MSG_DONTWAIT);
    if (got == 0) return "closed";
    return got < 0 ? (errno == ECONNRESET ? "closed" : "")
                   : std::string(buffer.data(), static_cast<std::size_t>(got));
  }

 private:
  int socket_;
  bool connected_ = false;
};

void turn(StreamDriver& driver, int times = 5) {
  for (int k = 0; k < times; ++k) driver.turn(1);
}

TEST(StreamDriver, CarriesToAndFroUntilEitherSideEnds) {
  Echo echo;
  StreamDriver driver({}, echo);
  ASSERT_EQ(driver.open(), "");
  ASSERT_GT(driver.port(), 0);
  EXPECT_EQ(driver.description(), "TCP 127.0.0.1:" + std::to_string(driver.port()));
  {
    const Peer one(driver.port()), other(driver.port());
    turn(driver);
    EXPECT_EQ(driver.connections(), 2U);
    one.say("one");
    other.say("other");
    turn(driver);
    EXPECT_EQ(one.hear(), "one");
    EXPECT_EQ(other.hear(), "other");
    other.say("end");
    turn(driver);
    EXPECT_EQ(other.hear(), "closed");
    EXPECT_EQ(driver.connections(), 1U);
  }
  turn(driver);
  EXPECT_EQ(driver.connections(), 0U) << "the peer has gone";
  EXPECT_EQ(echo.traffic().connections, 2);
}

TEST(StreamDriver, TurnsAwayWhoFindsNoRoomOrIsNotWanted) {
  Echo echo;
  StreamPlace place;
  place.most_connections = 1;
  StreamDriver driver(place, echo);
  ASSERT_EQ(driver.open(), "");
  const Peer first(driver.port());
  turn(driver);
  const Peer second(driver.port());
  turn(driver);
  EXPECT_EQ(second.hear(), "closed");
  EXPECT_EQ(driver.turned_away(), 1);
  first.say("end");
  turn(driver);
  echo.wanted = false;
  const Peer third(driver.port());
  turn(driver);
  EXPECT_EQ(third.hear(), "closed");
  EXPECT_EQ(driver.turned_away(), 2);
}

TEST(StreamDriver, LetsGoOfAPeerThatDoesNotRead) {
  Echo echo;
  StreamDriver driver({}, echo);
  ASSERT_EQ(driver.open(), "");
  const Peer deaf(driver.port()), other(driver.port());
  turn(driver);
  deaf.say("much");
  turn(driver, 20);
  EXPECT_EQ(driver.connections(), 1U) << "megabytes wait for it";
  other.say("still here");
  turn(driver);
  EXPECT_EQ(other.hear(), "still here");
}

TEST(StreamDriver, IsSilentOrCutWhereItIsToldTo) {
  Echo echo;
  StreamDriver driver({}, echo);
  ASSERT_EQ(driver.open(), "");
  const Peer peer(driver.port());
  turn(driver);
  driver.keep_silent(true);
  peer.say("lost");
  turn(driver);
  EXPECT_EQ(peer.hear(), "") << "connections stay";
  driver.keep_silent(false);
  peer.say("heard");
  turn(driver);
  EXPECT_EQ(peer.hear(), "heard");
  driver.keep_closed(true);
  turn(driver);
  EXPECT_EQ(peer.hear(), "closed");
  const Peer again(driver.port());
  turn(driver);
  EXPECT_EQ(again.hear(), "closed");
  driver.keep_closed(false);
  const Peer later(driver.port());
  turn(driver);
  later.say("back");
  turn(driver);
  EXPECT_EQ(later.hear(), "back");
}

TEST(StreamDriver, ConnectsAgainWhereItWasLeft) {
  Echo served, asking;
  StreamDriver server({}, served);
  ASSERT_EQ(server.open(), "");
  StreamPlace place;
  place.kind = StreamPlace::Kind::connects;
  place.port = server.port();
  place.between_attempts_ns = 1'000'000;
  StreamDriver client(place, asking);
  ASSERT_EQ(client.open(), "");
  const auto both = [&](int times) {
    for (int k = 0; k < times; ++k) {
      server.turn(1);
      client.turn(1);
    }
  };
  both(20);
  EXPECT_EQ(server.connections(), 1U);
  server.keep_closed(true);
  both(20);
  EXPECT_EQ(server.connections(), 0U);
  server.keep_closed(false);
  both(40);
  EXPECT_EQ(server.connections(), 1U) << client.trouble();
  EXPECT_GT(asking.traffic().connections, 1);
}

TEST(StreamDriver, SaysWhyItCannotOpen) {
  Echo echo;
  StreamDriver first({}, echo);
  ASSERT_EQ(first.open(), "");
  StreamPlace place;
  place.port = first.port();
  EXPECT_EQ(StreamDriver(place, echo).open(), "cannot listen at 127.0.0.1:" + std::to_string(first.port()) +
                                                  " (Address already in use); choose another port");
  place.address = "nowhere";
  EXPECT_EQ(StreamDriver(place, echo).open(),
            "\"nowhere\" is no address of this computer; write one such as 127.0.0.1");
  place.kind = StreamPlace::Kind::connects;
  EXPECT_EQ(StreamDriver(place, echo).open(), "\"nowhere\" is no address; write one such as 127.0.0.1");
  place.kind = StreamPlace::Kind::line;
  place.path = "/nowhere/line";
  EXPECT_EQ(StreamDriver(place, echo).open(),
            "cannot open the line /nowhere/line (No such file or directory)");
  place.path = "/dev/null";
  EXPECT_EQ(StreamDriver(place, echo).open(), "/dev/null is no serial line (Inappropriate ioctl for device)");
  place.path = "pty:/nowhere/line";
  EXPECT_EQ(StreamDriver(place, echo).open(),
            "cannot put a pseudo-terminal at /nowhere/line (No such file or directory)");
}

TEST(StreamDriver, MakesAPseudoTerminalAndTakesItAway) {
  Echo echo;
  const auto path = std::filesystem::temp_directory_path() / ("zavrek-line-" + std::to_string(::getpid()));
  {
    StreamPlace place;
    place.kind = StreamPlace::Kind::line;
    place.path = "pty:" + path.string();
    StreamDriver driver(place, echo);
    ASSERT_EQ(driver.open(), "");
    const int line = ::open(path.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK);
    ASSERT_GE(line, 0);
    turn(driver);
    const auto exchanged = [&](const std::string& text) {
      (void)::write(line, text.data(), text.size());
      turn(driver);
      std::array<char, 64> buffer{};
      const ssize_t got = ::read(line, buffer.data(), buffer.size());
      return std::string(buffer.data(), static_cast<std::size_t>(std::max<ssize_t>(0, got)));
    };
    EXPECT_EQ(exchanged("\x01\x0A\x0D\x11"), "\x01\x0A\x0D\x11") << "octets are not made into others";
    driver.keep_closed(true);
    EXPECT_EQ(exchanged("lost"), "") << "a line that is cut";
    driver.keep_closed(false);
    EXPECT_EQ(exchanged("back"), "back");
    ::close(line);
  }
  EXPECT_FALSE(std::filesystem::exists(std::filesystem::symlink_status(path)));
}

TEST(DatagramDriver, HasAConversationWithEachWhoSpeaks) {
  /// Messages have their length in their third and fourth octet, as those of synchrophasors.
  Echo echo;
  DatagramDriver driver("127.0.0.1", 0, "", echo);
  EXPECT_EQ(DatagramDriver("nowhere", 0, "", echo).open(), "\"nowhere\" is no IPv4 address of this computer");
  EXPECT_EQ(DatagramDriver("127.0.0.1", 0, "127.0.0.1", echo).open(),
            "\"127.0.0.1\" is nobody's address; write one such as \"127.0.0.1:4713\"");
  const int hears = ::socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK, 0);
  sockaddr_in here{};
  here.sin_family = AF_INET;
  here.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  ASSERT_EQ(::bind(hears, reinterpret_cast<sockaddr*>(&here), sizeof here), 0);
  socklen_t length = sizeof here;
  ASSERT_EQ(::getsockname(hears, reinterpret_cast<sockaddr*>(&here), &length), 0);
  const int port = ntohs(here.sin_port);
  // Its own port is taken: it must be another.
  DatagramDriver taken("127.0.0.1", port, "", echo);
  EXPECT_NE(taken.open().find("cannot take datagrams at 127.0.0.1:"), std::string::npos);
  // Whom it speaks to unasked is there from the beginning.
  DatagramDriver speaks("127.0.0.1", 0, "127.0.0.1:" + std::to_string(port), echo);
  const long long before = echo.traffic().connections;
  ASSERT_EQ(speaks.open(), "");
  EXPECT_EQ(echo.traffic().connections, before + 1);
  ::close(hears);
}

}  // namespace
}  // namespace zavrek::wire
