// HTTP in front of the table of calls, and the stream of what happens. On the loopback only: who else may ask
// is decided by the host name, the origin and the token of a request.
#include <algorithm>
#include <chrono>
#include <thread>

#include <fmt/format.h>
#include <httplib.h>

#include "engine/calls.hpp"
#include "engine/page.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::engine {

using internal::Asked;
using internal::Call;
using internal::Calls;
using internal::Refusal;
using nlohmann::json;

namespace {

constexpr std::size_t most_body = 64U << 10U, most_target = 8U << 10U;
constexpr int most_threads = 48;  // requests and streams at a time
constexpr int most_streams = 40;
constexpr int patience_s = 5;
constexpr double stream_every_s = 0.1;
constexpr int pixels_of_stream = 100;  // in each of its pieces

/// The same time for any two of one length.
bool same_secret(const std::string& a, const std::string& b) {
  if (a.size() != b.size()) return false;
  unsigned char differs = 0;
  for (std::size_t k = 0; k < a.size(); ++k) differs |= static_cast<unsigned char>(a[k] ^ b[k]);
  return differs == 0;
}

/// Numbers and truth values of a query are texts.
json field_of(const Call& call, const std::string& name, const std::string& text) {
  for (const Call::Field& field : call.fields) {
    if (field.name != name || field.type == "string") continue;
    json value = json::parse(text, nullptr, false);
    if (value.is_discarded())
      throw Refusal{400, name, fmt::format("a {} is wanted: {}", field.type, field.says)};
    return value;
  }
  return text;
}

}  // namespace

class Engine::Served {
 public:
  explicit Served(const EngineOptions& options) : options_(options), calls_(sessions_) {
    for (const std::filesystem::path& folder : options.cases) {
      bench::RunOptions how;
      how.relay_program = options.program;
      trial::Case all = casefile::read_case(folder);
      std::string name = std::filesystem::canonical(folder).filename().string();
      for (const auto& other : sessions_) {
        if (other->name() == name)
          throw Error(fmt::format("two cases are called \"{}\"; rename a folder", name));
      }
      sessions_.push_back(std::make_unique<internal::Session>(std::move(name), std::move(all), how));
    }
    server_.new_task_queue = [] { return new httplib::ThreadPool(most_threads); };
    server_.set_payload_max_length(most_body);
    server_.set_read_timeout(patience_s);
    server_.set_write_timeout(patience_s);
    server_.set_keep_alive_timeout(patience_s);
    server_.set_pre_routing_handler(
        [this](const auto& request, auto& response) { return admit(request, response); });
    server_.Get("/", [](const httplib::Request&, httplib::Response& response) {
      response.set_header("Content-Security-Policy",
                          "default-src 'self' 'unsafe-inline'; img-src data:; frame-ancestors 'none'");
      response.set_content(internal::page(), "text/html; charset=utf-8");
    });
    server_.Get("/api/v1/run/stream",
                [this](const auto& request, auto& response) { stream(request, response); });
    server_.Get(".*", [this](const auto& request, auto& response) { answer(request, response); });
    server_.Post(".*", [this](const auto& request, auto& response) { answer(request, response); });
    server_.set_error_handler([](const httplib::Request&, httplib::Response& response) {
      if (!response.body.empty()) return;
      const char* text =
          response.status == 413 ? "the body is larger than 64 KiB" : "the request is not understood";
      say(response, {response.status, "", text});
    });
    server_.set_exception_handler([](const auto&, auto& response, std::exception_ptr) {
      say(response, {500, "", "the engine could not answer"});
    });
    port_ = options.port == 0                                 ? server_.bind_to_any_port("127.0.0.1")
            : server_.bind_to_port("127.0.0.1", options.port) ? options.port
                                                              : -1;
    if (port_ <= 0)
      throw Error(
          fmt::format("port {} of 127.0.0.1 cannot be taken; is another engine there?", options.port));
  }
  ~Served() {
    server_.stop();
    if (listening_.joinable()) listening_.join();
  }
  [[nodiscard]] int port() const noexcept { return port_; }

  void serve(const std::atomic<bool>& stop) {
    listening_ = std::thread([this] { server_.listen_after_bind(); });
    while (!stop) std::this_thread::sleep_for(std::chrono::milliseconds(20));
    ending_ = true;
    calls_.stop_all();
    server_.stop();
    listening_.join();
  }

 private:
  using Handled = httplib::Server::HandlerResponse;

  static void say(httplib::Response& response, const Refusal& refusal) {
    response.status = refusal.status;
    response.set_content(json{{"error", {{"field", refusal.field}, {"text", refusal.text}}}}.dump(),
                         "application/json");
  }

  /// A page from elsewhere may send a browser here: it is told from our own by its origin, or by a name for
  /// this computer that is none of ours.
  Handled admit(const httplib::Request& request, httplib::Response& response) const {
    response.set_header("X-Content-Type-Options", "nosniff");
    response.set_header("Cache-Control", "no-store");
    const auto refused = [&](int status, const char* text) {
      say(response, {status, "", text});
      return Handled::Handled;
    };
    if (request.target.size() > most_target) return refused(414, "the address is too long");
    const std::string here = fmt::format(":{}", port_);
    const std::string host = request.get_header_value("Host");
    if (host != "127.0.0.1" + here && host != "localhost" + here)
      return refused(421, "Host is none of this engine's");
    if (request.has_header("Origin") && request.get_header_value("Origin") != "http://" + host)
      return refused(403, "Origin is another page's");
    if (request.path == "/" && request.method == "GET") return Handled::Unhandled;
    std::map<std::string, std::string> parts;
    bool other = false;
    const Call* call = Calls::find(request.method, request.path, parts, other);
    const bool acts = !call || call->acts;
    const bool is_stream = request.path == "/api/v1/run/stream";
    if (options_.operator_token.empty() && options_.viewer_token.empty()) return Handled::Unhandled;
    constexpr std::string_view bearer = "Bearer ";
    const std::string header = request.get_header_value("Authorization");
    const std::string token = header.starts_with(bearer) ? header.substr(bearer.size()) : std::string();
    if (token.empty()) return refused(401, "a token is wanted: Authorization: Bearer TOKEN");
    if (!options_.operator_token.empty() && same_secret(token, options_.operator_token))
      return Handled::Unhandled;
    if (options_.viewer_token.empty() || !same_secret(token, options_.viewer_token))
      return refused(401, "the token is wrong");
    if (acts && !is_stream) return refused(403, "this token may look, not act");
    return Handled::Unhandled;
  }

  void answer(const httplib::Request& request, httplib::Response& response) {
    try {
      Asked asked;
      bool other = false;
      const Call* call = Calls::find(request.method, request.path, asked.parts, other);
      if (!call)
        throw Refusal{
            other ? 405 : 404, "",
            other ? "another method is wanted" : "no such call; GET /api/v1/openapi.json lists them"};
      if (call->method == "POST") {
        if (!request.get_header_value("Content-Type").starts_with("application/json"))
          throw Refusal{415, "", "Content-Type: application/json is wanted"};
        asked.fields = request.body.empty() ? json::object() : json::parse(request.body, nullptr, false);
        if (asked.fields.is_discarded()) throw Refusal{400, "", "the body is no JSON"};
      } else {
        for (const auto& [name, text] : request.params) asked.fields[name] = field_of(*call, name, text);
      }
      Calls::check(*call, asked.fields);
      response.set_content(calls_.answer(*call, asked).dump(-1, ' ', false, json::error_handler_t::replace),
                           "application/json");
    } catch (const Refusal& refusal) {
      say(response, refusal);
    }
  }

  /// Server-sent events: state, what changed, and curves of the signals that are asked for, ten times a
  /// second.
  void stream(const httplib::Request& request, httplib::Response& response) {
    const std::string signals = request.get_param_value("signals");
    if (streams_.fetch_add(1) >= most_streams) {
      streams_.fetch_sub(1);
      return say(response, {503, "", "too many watch already"});
    }
    struct Seen {
      double until_s = -1;
      std::int64_t events = 0;
      std::string life;
    };
    auto seen = std::make_shared<Seen>();
    response.set_chunked_content_provider(
        "text/event-stream",
        [this, seen, signals](std::size_t, httplib::DataSink& sink) {
          if (ending_) {
            sink.done();
            return false;
          }
          std::string piece;
          try {
            piece = next_piece(signals, seen->until_s, seen->events);
          } catch (const Refusal& refusal) {
            piece = "event: error\ndata: " + json{{"field", refusal.field}, {"text", refusal.text}}.dump() +
                    "\n\n";
          }
          if (!sink.write(piece.data(), piece.size())) return false;
          std::this_thread::sleep_for(std::chrono::duration<double>(stream_every_s));
          return true;
        },
        [this](bool) { streams_.fetch_sub(1); });
  }
  std::string next_piece(const std::string& signals, double& until_s, std::int64_t& events) const {
    json status = calls_.status();
    status.erase("ports");
    std::string text = "event: status\ndata: " + status.dump() + "\n\n";
    if (status["case"].is_null()) return text;
    const double now_s = status["time_s"].get<double>();
    if (now_s < until_s) {  // it began anew
      until_s = -1;
      events = 0;
    }
    json list = json::array();
    for (const internal::Happened& one : calls_.current().events(events, events))
      list.push_back({{"time_s", one.time_s}, {"text", one.text}});
    if (!list.empty()) text += "event: events\ndata: " + list.dump() + "\n\n";
    if (!signals.empty() && calls_.current().traces() && now_s > until_s) {
      const double from_s = until_s < 0 ? std::max(0.0, now_s - stream_every_s) : until_s;
      text +=
          "event: traces\ndata: " + calls_.traces(signals, from_s, now_s, pixels_of_stream).dump() + "\n\n";
      until_s = now_s;
    }
    return text;
  }

  EngineOptions options_;
  std::vector<std::unique_ptr<internal::Session>> sessions_;
  Calls calls_;
  httplib::Server server_;
  int port_ = 0;
  std::atomic<bool> ending_ = false;
  std::atomic<int> streams_ = 0;
  std::thread listening_;
};

Engine::Engine(const EngineOptions& options) : served_(std::make_unique<Served>(options)) {}
Engine::~Engine() = default;
std::string Engine::address() const { return fmt::format("http://127.0.0.1:{}", served_->port()); }
void Engine::serve(const std::atomic<bool>& stop) { served_->serve(stop); }

}  // namespace zavrek::engine
