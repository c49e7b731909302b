// HTTP in front of the table of calls, and the stream of what happens. Who may ask is decided by the host
// name, the origin and the token of a request; beyond the loopback nothing is said without TLS and tokens.
#include <algorithm>
#include <chrono>
#include <memory>
#include <thread>

#include <malloc.h>
#include <pthread.h>

#include <fmt/format.h>
#include <httplib.h>

#include "engine/bundle.hpp"
#include "engine/calls.hpp"
#include "engine/page.hpp"
#include "engine/rates.hpp"
#include "engine/views.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::engine {

using internal::Asked;
using internal::Call;
using internal::Calls;
using internal::House;
using internal::Refusal;
using internal::Reply;
using nlohmann::json;

namespace {

constexpr std::size_t most_text = 64U << 10U, most_target = 8U << 10U;
constexpr int most_threads = 48;  // requests and streams at a time
constexpr int most_streams = 40;
constexpr int patience_s = 5;
constexpr std::size_t stack_bytes = 1U << 20U;  // of each thread: a paced run locks them all in memory
constexpr int most_arenas = 4;                  // of the allocator, for the same reason
constexpr double stream_every_s = 0.1;
constexpr int pixels_of_stream = 100;  // in each of its pieces

/// The same time for any two of one length.
bool same_secret(const std::string& a, const std::string& b) {
  if (a.size() != b.size()) return false;
  unsigned char differs = 0;
  for (std::size_t k = 0; k < a.size(); ++k) differs |= static_cast<unsigned char>(a[k] ^ b[k]);
  return differs == 0;
}

/// In a query all are texts: numbers and truth values too, and lists with commas between.
json field_of(const Call& call, const std::string& name, const std::string& text) {
  for (const Call::Field& field : call.fields) {
    if (field.name != name || field.type == "string") continue;
    if (field.type == "texts") return text.empty() ? json::array() : json(internal::split(text, ','));
    json value = json::parse(text, nullptr, false);
    if (field.type == "value") return value.is_number() ? value : json(text);
    if (value.is_discarded())
      throw Refusal{400, name, fmt::format("a {} is wanted: {}", field.type, field.says)};
    return value;
  }
  return text;
}

bool is_loopback(const std::string& address) { return address == "127.0.0.1" || address == "localhost"; }

/// Throws Error for what would be heard by others.
void check(const EngineOptions& options) {
  const bool secured = !options.certificate.empty() && !options.key.empty();
  if (options.certificate.empty() != options.key.empty()) throw Error("--certificate and --key go together");
  if (is_loopback(options.listen)) return;
  if (!secured)
    throw Error(fmt::format(
        "--listen {}: beyond the loopback an engine speaks TLS alone; give --certificate and --key "
        "(PEM files)",
        options.listen));
  if (options.operator_token.empty() || options.viewer_token.empty())
    throw Error(fmt::format("--listen {}: beyond the loopback --operator-token and --viewer-token are wanted",
                            options.listen));
  if (options.listen == "0.0.0.0" && options.names.empty())
    throw Error("--listen 0.0.0.0: say by which names it is asked for, with --name");
}

}  // namespace

class Engine::Served {
 public:
  explicit Served(const EngineOptions& options) : options_((check(options), options)), house_(options) {
    mallopt(M_ARENA_MAX, most_arenas);
    pthread_attr_t attributes;
    pthread_attr_init(&attributes);
    pthread_attr_setstacksize(&attributes, stack_bytes);
    pthread_setattr_default_np(&attributes);
    pthread_attr_destroy(&attributes);
    if (options_.certificate.empty())
      server_ = std::make_unique<httplib::Server>();
    else
      server_ = std::make_unique<httplib::SSLServer>(options_.certificate.c_str(), options_.key.c_str());
    if (!server_->is_valid())
      throw Error(fmt::format("--certificate {}: no certificate and key in PEM that belong together",
                              options_.certificate.string()));
    server_->new_task_queue = [] { return new httplib::ThreadPool(most_threads); };
    server_->set_payload_max_length(internal::most_bundle_bytes);
    server_->set_read_timeout(patience_s);
    server_->set_write_timeout(patience_s);
    server_->set_keep_alive_timeout(patience_s);
    server_->set_pre_routing_handler(
        [this](const auto& request, auto& response) { return admit(request, response); });
    server_->Get("/api/v1/run/stream",
                 [this](const auto& request, auto& response) { stream(request, response); });
    server_->Get(".*", [this](const auto& request, auto& response) { answer(request, response); });
    server_->Post(".*", [this](const auto& request, auto& response) { answer(request, response); });
    server_->set_error_handler([](const httplib::Request&, httplib::Response& response) {
      if (!response.body.empty()) return;
      const char* text = response.status == 413 ? "the body is too large" : "the request is not understood";
      say(response, {response.status, "", text});
    });
    server_->set_exception_handler([](const auto&, auto& response, std::exception_ptr) {
      say(response, {500, "", "the engine could not answer"});
    });
    port_ = options.port == 0 ? server_->bind_to_any_port(options_.listen)
            : server_->bind_to_port(options_.listen, options.port) ? options.port
                                                                   : -1;
    if (port_ <= 0)
      throw Error(fmt::format("port {} of {} cannot be taken; is another engine there?", options.port,
                              options_.listen));
  }
  ~Served() {
    server_->stop();
    if (listening_.joinable()) listening_.join();
  }
  [[nodiscard]] std::string address() const {
    const std::string& host = options_.listen == "0.0.0.0" ? options_.names.front() : options_.listen;
    return fmt::format("{}://{}:{}", scheme(), host, port_);
  }

  void serve(const std::atomic<bool>& stop) {
    listening_ = std::thread([this] { server_->listen_after_bind(); });
    while (!stop) std::this_thread::sleep_for(std::chrono::milliseconds(20));
    ending_ = true;
    house_.stop_all();
    server_->stop();
    listening_.join();
  }

 private:
  using Handled = httplib::Server::HandlerResponse;

  [[nodiscard]] const char* scheme() const { return options_.certificate.empty() ? "http" : "https"; }

  static void say(httplib::Response& response, const Refusal& refusal) {
    response.status = refusal.status;
    response.set_content(json{{"error", {{"field", refusal.field}, {"text", refusal.text}}}}.dump(
                             -1, ' ', false, json::error_handler_t::replace),
                         "application/json");
  }

  [[nodiscard]] bool is_ours(const std::string& host) const {
    const std::string here = fmt::format(":{}", port_);
    if (host == options_.listen + here) return true;
    if (is_loopback(options_.listen) && (host == "127.0.0.1" + here || host == "localhost" + here))
      return true;
    return std::any_of(options_.names.begin(), options_.names.end(),
                       [&](const std::string& name) { return host == name + here; });
  }

  /// Who asks, by the token: "operator", "viewer", "anybody", or nothing where the token is wrong.
  [[nodiscard]] std::string role_of(const httplib::Request& request) const {
    if (options_.operator_token.empty() && options_.viewer_token.empty()) return "anybody";
    constexpr std::string_view bearer = "Bearer ";
    const std::string header = request.get_header_value("Authorization");
    const std::string token = header.starts_with(bearer) ? header.substr(bearer.size()) : std::string();
    if (!options_.operator_token.empty() && same_secret(token, options_.operator_token)) return "operator";
    if (!options_.viewer_token.empty() && same_secret(token, options_.viewer_token)) return "viewer";
    return {};
  }

  /// A page from elsewhere may send a browser here: it is told from our own by its origin, or by a name for
  /// this computer that is none of ours.
  Handled admit(const httplib::Request& request, httplib::Response& response) {
    response.set_header("X-Content-Type-Options", "nosniff");
    response.set_header("Cache-Control", "no-store");
    const auto refused = [&](int status, const char* text) {
      say(response, {status, "", text});
      return Handled::Handled;
    };
    if (!rates_.takes(request.remote_addr)) return refused(429, "too many requests; wait a second");
    if (request.target.size() > most_target) return refused(414, "the address is too long");
    const std::string host = request.get_header_value("Host");
    if (!is_ours(host)) return refused(421, "Host is none of this engine's");
    if (request.has_header("Origin") &&
        request.get_header_value("Origin") != fmt::format("{}://{}", scheme(), host))
      return refused(403, "Origin is another page's");
    // The page itself says nothing that a token would have to guard.
    if (request.method == "GET" && !internal::page_file(request.path).content.empty())
      return Handled::Unhandled;
    std::map<std::string, std::string> parts;
    bool other = false;
    const Call* call = Calls::find(request.method, request.path, parts, other);
    const std::string role = role_of(request);
    if (role.empty())
      return refused(401, request.has_header("Authorization")
                              ? "the token is wrong"
                              : "a token is wanted: Authorization: Bearer TOKEN");
    if (role == "viewer" && (!call || call->acts())) return refused(403, "this token may look, not act");
    return Handled::Unhandled;
  }

  void answer(const httplib::Request& request, httplib::Response& response) {
    if (request.method == "GET") {
      if (const internal::PageFile file = internal::page_file(request.path); !file.content.empty()) {
        response.set_header(
            "Content-Security-Policy",
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
            "frame-src 'self' blob:; frame-ancestors 'none'");
        response.set_content(file.content.data(), file.content.size(), file.type);
        return;
      }
    }
    try {
      Asked asked;
      bool other = false;
      const Call* call = Calls::find(request.method, request.path, asked.parts, other);
      if (!call)
        throw Refusal{
            other ? 405 : 404, "",
            other ? "another method is wanted" : "no such call; GET /api/v1/openapi.json lists them"};
      const std::string type = request.get_header_value("Content-Type");
      if (call->method == "POST" && !call->takes_bytes) {
        if (!type.starts_with("application/json"))
          throw Refusal{415, "", "Content-Type: application/json is wanted"};
        if (request.body.size() > most_text) throw Refusal{413, "", "the body is larger than 64 KiB"};
        asked.fields = request.body.empty() ? json::object() : json::parse(request.body, nullptr, false);
        if (asked.fields.is_discarded()) throw Refusal{400, "", "the body is no JSON"};
      } else {
        if (call->takes_bytes && !type.starts_with("application/octet-stream"))
          throw Refusal{415, "", "Content-Type: application/octet-stream is wanted"};
        for (const auto& [name, text] : request.params) asked.fields[name] = field_of(*call, name, text);
        if (call->takes_bytes) asked.body = request.body;
      }
      asked.who = fmt::format("{} at {}", role_of(request), request.remote_addr);
      Calls::check(*call, asked.fields);
      give(Calls::answer(house_, *call, asked), response);
    } catch (const Refusal& refusal) {
      say(response, refusal);
    } catch (const Error& error) {
      say(response, {409, "", error.what()});
    }
  }

  static void give(const Reply& reply, httplib::Response& response) {
    if (reply.type.empty()) {
      response.set_content(reply.content.dump(-1, ' ', false, json::error_handler_t::replace),
                           "application/json");
      return;
    }
    // A report has its own scripts; it stands apart from the page, and may ask nobody.
    response.set_header("Content-Security-Policy",
                        "sandbox allow-scripts; default-src 'unsafe-inline' data:");
    if (!reply.type.starts_with("text/html"))
      response.set_header("Content-Disposition", fmt::format("attachment; filename=\"{}\"", reply.file));
    response.set_content(reply.bytes, reply.type);
  }

  struct Seen {
    double until_s = -1;
    std::int64_t events = 0;
    long long run = -1, deeds = 0;
    std::string work;
  };

  /// Server-sent events ten times a second.
  void stream(const httplib::Request& request, httplib::Response& response) {
    std::map<std::string, std::string> parts;
    bool other = false;
    const Call* call = Calls::find("GET", "/api/v1/run/stream", parts, other);
    json fields = json::object();
    try {
      for (const auto& [name, text] : request.params) fields[name] = field_of(*call, name, text);
      Calls::check(*call, fields);
    } catch (const Refusal& refusal) {
      return say(response, refusal);
    }
    if (streams_.fetch_add(1) >= most_streams) {
      streams_.fetch_sub(1);
      return say(response, {503, "", "too many watch already"});
    }
    auto seen = std::make_shared<Seen>();
    response.set_chunked_content_provider(
        "text/event-stream",
        [this, seen, fields](std::size_t, httplib::DataSink& sink) {
          if (ending_) {
            sink.done();
            return false;
          }
          std::string piece;
          try {
            piece = next_piece(fields, *seen);
          } catch (const Refusal& refusal) {
            piece = event("error", {{"field", refusal.field}, {"text", refusal.text}});
          }
          if (!sink.write(piece.data(), piece.size())) return false;
          std::this_thread::sleep_for(std::chrono::duration<double>(stream_every_s));
          return true;
        },
        [this](bool) { streams_.fetch_sub(1); });
  }

  static std::string event(const char* kind, const json& data) {
    return fmt::format("event: {}\ndata: {}\n\n", kind,
                       data.dump(-1, ' ', false, json::error_handler_t::replace));
  }

  std::string next_piece(const json& fields, Seen& seen) {
    const json status = internal::status_of(house_);
    std::string text = event("status", status);
    json acts = json::array();
    for (const internal::Deeded& one : house_.deeds(seen.deeds)) {
      acts.push_back(
          {{"at_utc_ns", one.at_utc_ns}, {"time_s", one.time_s}, {"who", one.who}, {"text", one.text}});
      seen.deeds = one.number + 1;
    }
    if (!acts.empty()) text += event("acts", acts);
    if (std::string work = house_.work().status().dump(-1, ' ', false, json::error_handler_t::replace);
        work != seen.work) {
      text += "event: work\ndata: " + work + "\n\n";
      seen.work = std::move(work);
    }
    const auto current = house_.current_or_null();
    if (!current) return text;
    if (const long long run = status["number"].get<long long>(); run != seen.run) {
      seen = {-1, 0, run, seen.deeds, seen.work};
      text += event("began", {{"number", run}, {"case", current->name()}});
    }
    json list = json::array();
    for (const internal::Happened& one : current->events(seen.events, seen.events))
      list.push_back({{"time_s", one.time_s}, {"text", one.text}, {"point", one.point}, {"on", one.on}});
    if (!list.empty()) text += event("events", list);
    const auto traces = current->traces();
    if (!traces) return text;
    const double now_s = status["time_s"].get<double>();
    const std::vector<std::string> signals = internal::texts_of(fields, "signals");
    if (!signals.empty() && now_s > seen.until_s) {
      const double from_s = seen.until_s < 0 ? std::max(0.0, now_s - stream_every_s) : seen.until_s;
      text += event("traces", internal::curves_of(*traces, signals, from_s, now_s, pixels_of_stream));
      seen.until_s = now_s;
    }
    if (fields.value("values", false)) text += event("values", internal::present_values(*current, *traces));
    return text;
  }

  EngineOptions options_;
  House house_;
  std::unique_ptr<httplib::Server> server_;
  internal::Rates rates_;
  int port_ = 0;
  std::atomic<bool> ending_ = false;
  std::atomic<int> streams_ = 0;
  std::thread listening_;
};

Engine::Engine(const EngineOptions& options) : served_(std::make_unique<Served>(options)) {}
Engine::~Engine() = default;
std::string Engine::address() const { return served_->address(); }
void Engine::serve(const std::atomic<bool>& stop) { served_->serve(stop); }

Bundle bundle_of(const std::filesystem::path& folder) {
  internal::BundleHead head;
  std::string bytes = internal::pack(folder, &head);
  return {std::move(bytes), head.name, head.sha256};
}

}  // namespace zavrek::engine
