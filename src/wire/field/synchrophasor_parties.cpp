#include <algorithm>

#include "zavrek/wire/field/synchrophasor.hpp"

namespace zavrek::wire {
namespace {

constexpr std::size_t most_waiting_bytes = 256 * 1024;  // of one who does not read
constexpr std::size_t command_size_118 = 18;

/// Takes whole frames off what came; false when something is no frame.
template <class Take>
bool take_frames_118(std::vector<std::uint8_t>& in, std::size_t most, Traffic& traffic, Take&& take) {
  std::size_t at = 0;
  bool good = true;
  while (good && in.size() - at >= 4) {
    const Bytes rest = Bytes(in).subspan(at);
    const std::size_t size = synchrophasor_size(rest);
    good = size != 0 && size <= most;
    if (!good || rest.size() < size) break;
    if (is_whole_synchrophasor(rest.first(size))) {
      ++traffic.received;
      take(rest.first(size));
    } else {
      ++traffic.malformed;
    }
    at += size;
  }
  if (!good) ++traffic.malformed;
  in.erase(in.begin(), in.begin() + static_cast<std::ptrdiff_t>(at));
  return good;
}

}  // namespace

class SynchrophasorUnit::Body {
 public:
  Body(SynchrophasorConfiguration given, std::string text)
      : configuration(std::move(given)), header(std::move(text)) {}
  SynchrophasorConfiguration configuration;
  std::string header;
  Traffic traffic;
  std::vector<Talk*> talks;
};

class SynchrophasorUnit::Talk final : public Conversation {
 public:
  explicit Talk(Body& body) : body_(body) { body_.talks.push_back(this); }
  ~Talk() override { std::erase(body_.talks, this); }
  Talk(const Talk&) = delete;
  Talk& operator=(const Talk&) = delete;
  void receive(Bytes bytes, Now now) override {
    constexpr std::size_t most = 2048;  // of a command with its extension
    in_.insert(in_.end(), bytes.begin(), bytes.end());
    if (!take_frames_118(in_, most, body_.traffic, [&](Bytes frame) { take(frame, now); }))
      end("no frame of IEEE C37.118");
  }
  void poll(Now /*now*/) override {}
  void give(Bytes frame) {
    if (!wants_) return;
    if (out().size() + frame.size() > most_waiting_bytes) {
      ++body_.traffic.lost;
      return;
    }
    send(frame);
    ++body_.traffic.sent;
  }

 private:
  void take(Bytes frame, Now now) {
    const int id = static_cast<int>(static_cast<unsigned>(frame[4]) << 8U | frame[5]);
    const bool command = frame[1] >> 4 == static_cast<int>(SynchrophasorFrame::command);
    if (!command || frame.size() < command_size_118 || (id != body_.configuration.id && id != 0xFFFF)) {
      ++body_.traffic.refused;
      return;
    }
    const auto word = static_cast<SynchrophasorCommand>(static_cast<unsigned>(frame[14]) << 8U | frame[15]);
    const auto tell = [&](SynchrophasorFrame kind) {
      send(encode(body_.configuration, kind, now.utc_ns));
      ++body_.traffic.sent;
    };
    switch (word) {
      case SynchrophasorCommand::data_off:
        wants_ = false;
        return;
      case SynchrophasorCommand::data_on:
        wants_ = true;
        return;
      case SynchrophasorCommand::send_header:
        send(encode_header(body_.configuration.id, body_.header, now.utc_ns));
        ++body_.traffic.sent;
        return;
      case SynchrophasorCommand::send_configuration1:
        return tell(SynchrophasorFrame::configuration1);
      case SynchrophasorCommand::send_configuration2:
        return tell(SynchrophasorFrame::configuration2);
      case SynchrophasorCommand::send_configuration3:
        return tell(SynchrophasorFrame::configuration3);
    }
    ++body_.traffic.refused;
  }
  Body& body_;
  std::vector<std::uint8_t> in_;
  bool wants_ = false;
};

SynchrophasorUnit::SynchrophasorUnit(SynchrophasorConfiguration configuration, std::string header)
    : body_(std::make_unique<Body>(std::move(configuration), std::move(header))) {}
SynchrophasorUnit::~SynchrophasorUnit() = default;
std::unique_ptr<Conversation> SynchrophasorUnit::connected(Now /*now*/) {
  ++body_->traffic.connections;
  return std::make_unique<Talk>(*body_);
}
const Traffic& SynchrophasorUnit::traffic() const noexcept { return body_->traffic; }
void SynchrophasorUnit::give(const SynchrophasorData& data) {
  if (body_->talks.empty()) return;
  const std::vector<std::uint8_t> frame = encode(body_->configuration, data, body_->traffic.saturated);
  for (Talk* talk : body_->talks) talk->give(frame);
}

class SynchrophasorClient::Body {
 public:
  int id;
  Heard heard;
  Traffic traffic;
};

class SynchrophasorClient::Talk final : public Conversation {
 public:
  Talk(Body& body, Now now) : body_(body), asked_ns_(now.steady_ns) {
    ask(SynchrophasorCommand::send_configuration2, now);
  }
  void receive(Bytes bytes, Now now) override {
    constexpr std::size_t most = 65'535;
    in_.insert(in_.end(), bytes.begin(), bytes.end());
    if (!take_frames_118(in_, most, body_.traffic, [&](Bytes frame) { take(frame, now); }))
      end("no frame of IEEE C37.118");
  }
  void poll(Now now) override {
    constexpr std::int64_t patience_ns = 5'000'000'000;
    if (configuration_ || now.steady_ns - asked_ns_ < patience_ns) return;
    ++body_.traffic.lost;
    end("no configuration came");
  }

 private:
  void ask(SynchrophasorCommand command, Now now) {
    send(encode_command(body_.id, command, now.utc_ns));
    ++body_.traffic.sent;
  }
  void take(Bytes frame, Now now) {
    if (auto taken = take_configuration(frame)) {
      const bool first = !configuration_;
      configuration_ = std::move(taken);
      if (first) ask(SynchrophasorCommand::data_on, now);
    } else if (frame[1] >> 4 == static_cast<int>(SynchrophasorFrame::data) && configuration_) {
      if (!take_data(frame, *configuration_, data_)) {
        ++body_.traffic.malformed;
        return;
      }
      constexpr std::uint16_t changed = 1U << 10U;
      if ((data_.status & changed) != 0 && !asked_anew_) ask(SynchrophasorCommand::send_configuration2, now);
      asked_anew_ = (data_.status & changed) != 0;
      body_.heard(*configuration_, data_, now);
    }
  }
  Body& body_;
  std::vector<std::uint8_t> in_;
  std::int64_t asked_ns_;
  bool asked_anew_ = false;
  std::optional<SynchrophasorConfiguration> configuration_;
  SynchrophasorData data_;
};

SynchrophasorClient::SynchrophasorClient(int id, Heard heard)
    : body_(std::make_unique<Body>(Body{id, std::move(heard), {}})) {}
SynchrophasorClient::~SynchrophasorClient() = default;
std::unique_ptr<Conversation> SynchrophasorClient::connected(Now now) {
  ++body_->traffic.connections;
  return std::make_unique<Talk>(*body_, now);
}
const Traffic& SynchrophasorClient::traffic() const noexcept { return body_->traffic; }

}  // namespace zavrek::wire
