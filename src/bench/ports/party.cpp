#include "zavrek/bench/ports/party.hpp"

#include <fmt/format.h>

#include "bench/field_bus.hpp"
#include "pace/program.hpp"

namespace zavrek::bench::internal {
namespace {

/// A process that runs another case until this run ends. It is nobody's wire: its ports and those of this
/// case meet.
class PartyPort final : public Port {
 public:
  PartyPort(const Party& settings, const Setup& setup)
      : settings_(settings), folder_(setup.folder / settings.at) {}

  void wire(Exchange& /*exchange*/) override {}
  bool each_step() const noexcept override { return false; }
  bool by_the_clock() const noexcept override { return true; }
  std::string open(const Opening& how) override {
    if (settings_.place == "outside") return {};
    if (how.program.empty())
      return fmt::format("no program is known that could run the party {}", settings_.name);
    process_.emplace(std::vector<std::string>{how.program.string(), "run", folder_.string(),
                                              "--until-stopped", "--keep", "1 s", "--pace", "wall"},
                     pace::internal::Program::Options{.heard = true, .errors_shown = true});
    begun_ns_ = pace::system_clock().now_ns();
    return {};
  }
  /// One whose files have flaws ends at once: it is given the time to say so.
  bool ready() override {
    return !process_ || (process_->running() && pace::system_clock().now_ns() - begun_ns_ > reading_ns);
  }
  bool ended() override { return process_ && !over_ && !process_->running(); }
  std::string failure() override {
    return ended() ? fmt::format("the party {} has ended: {}", settings_.name, process_->ended())
                   : std::string();
  }
  void end() override {
    if (process_ && !std::exchange(over_, true)) said_ = process_->end();
  }
  std::vector<Account> accounts() const override {
    Account account;
    account.port = "party." + settings_.name;
    account.carries =
        fmt::format("{}, {}", settings_.at, settings_.place == "process" ? "a process" : "outside");
    return {account};
  }

 private:
  static constexpr std::int64_t reading_ns = 400'000'000;
  Party settings_;
  std::filesystem::path folder_;
  std::int64_t begun_ns_ = 0;
  std::optional<pace::internal::Program> process_;
  bool over_ = false;
  std::string said_;
};

}  // namespace

/// None where all is in the plant's process: then what it would do is not done, or done by the case's own
/// control.
template <>
std::unique_ptr<Port> make_port(const Party& settings, const RunPlan& plan) {
  return is_connected(plan) ? std::make_unique<PartyPort>(settings, plan.setup) : nullptr;
}

template <>
void check(const Party& settings, Flaws& flaws) {
  const std::string place = "party." + settings.name;
  const std::filesystem::path way = std::filesystem::path(settings.at).lexically_normal();
  if (way.is_absolute() || way.empty() || *way.begin() == "..")
    return flaws.report(place, "case",
                        fmt::format("\"{}\" leads out of the case; keep it within", settings.at));
  std::error_code ignored;
  if (!flaws.setup.folder.empty() &&
      !std::filesystem::is_directory(flaws.setup.folder / settings.at, ignored))
    flaws.report(place, "case", fmt::format("no folder \"{}\" in this case", settings.at));
}

}  // namespace zavrek::bench::internal
