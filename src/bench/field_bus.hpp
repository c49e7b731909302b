// What all field buses of a bench have: rows of what is shown and asked, with their scales; a thread beside
// that of the plant, which carries the party of the protocol to and from its medium; the settings "silent"
// and "cut"; an account with the age of what was seen.
#pragma once

#include <atomic>
#include <functional>
#include <mutex>
#include <optional>
#include <thread>

#include "bench/bus_row.hpp"
#include "bench/make_port.hpp"
#include "zavrek/bench/beside.hpp"
#include "zavrek/wire/stream_driver.hpp"

namespace zavrek::bench::internal {

/// The rows of one kind in a field bus, such as its input registers.
struct BusRows {
  enum class What { numbers, points, asked } what = What::numbers;
  std::vector<BusRow> rows;
};

/// What a row is once its names have become places.
struct BusPlace {
  /// Among all that is shown; of what is asked: its position, or what it was set to last.
  std::size_t shown = 0;
  std::size_t asked = 0;  ///< among all that is asked
  double per_count = 1;
  double within = 0;  ///< in counts
};

class FieldBus : public Beside, public wire::ProcessImage {
 public:
  struct Identity {
    std::string kind;  ///< "modbus_server"
    std::string name;
    bool connected = true;  ///< whether anybody can be there in this run
  };
  FieldBus(Identity identity, const Setup& setup, std::vector<BusRows> rows);
  ~FieldBus() override;

  void declare(Exchange& exchange) override;
  void wire(Exchange& exchange) override;
  [[nodiscard]] std::string open(const Opening& how) override;
  bool each_step() const noexcept override { return identity_.connected; }
  bool by_the_clock() const noexcept override { return identity_.connected; }
  void take(Exchange& exchange) noexcept override;
  void give(Exchange& exchange) noexcept override;
  /// Whoever is at the other end goes on: nothing is remembered of him.
  void visit_state(StateArchive& archive) override { Beside::visit_state(archive); }
  void end() override;
  [[nodiscard]] std::string medium() const override;
  [[nodiscard]] std::vector<Account> accounts() const override;
  [[nodiscard]] std::vector<Path> paths() const override;

  // --- the image, for the party, by its thread -----------------------------------------------------
  bool read(std::vector<double>& into, std::int64_t& utc_ns) override;
  bool allows(std::size_t place, double value) const override;
  std::uint64_t ask(std::size_t place, double value) override;
  Outcome outcome(std::uint64_t ticket) const override;

 protected:
  /// Of row `row` of the kind `kind`, behind `wire`.
  [[nodiscard]] const BusPlace& place(std::size_t kind, std::size_t row) const { return places_[kind][row]; }
  [[nodiscard]] const std::vector<BusRow>& rows(std::size_t kind) const { return rows_[kind].rows; }
  /// The party of its protocol; behind `wire`. None where no stream carries it.
  [[nodiscard]] virtual std::unique_ptr<wire::Party> make_party() { return nullptr; }
  /// Where its streams begin; none where `turn` carries it in another way.
  [[nodiscard]] virtual std::optional<wire::StreamPlace> stream_place() const { return std::nullopt; }
  /// "Modbus, unit 1"
  [[nodiscard]] virtual std::string carries() const = 0;
  /// What it is carried by, where no stream does.
  [[nodiscard]] virtual std::string other_medium() const { return {}; }
  /// Opens that. Why it cannot; empty when it can.
  [[nodiscard]] virtual std::string open_other() { return {}; }
  /// What goes over the medium, again and again until it ends; a stream of bytes where it is not overridden.
  virtual void turn(bool cut, bool silent);
  /// What its party has counted; of the party's own where it is none of streams.
  [[nodiscard]] virtual const wire::Traffic* traffic() const { return party_ ? &party_->traffic() : nullptr; }
  [[nodiscard]] bool connected() const noexcept { return identity_.connected; }

 private:
  /// A knob that is set, or what is opened and closed.
  struct Asked {
    Asked(AskId what, bool position) : id(what), has_position(position) {}
    AskId id;
    bool has_position;
    double per_count = 1, low = 0, high = 1;
    std::atomic<double> last{0};  // as it was set here, in counts
  };
  void serve();

  Identity identity_;
  std::vector<BusRows> rows_;
  std::vector<std::string> values_, points_, asks_;  // names, as the view and the questions have them
  std::vector<std::vector<BusPlace>> places_;
  std::vector<double> scale_;  // of the values
  std::vector<std::unique_ptr<Asked>> asked_;
  std::string shown_words_, asked_words_;
  SettingId silent_, cut_;
  long long steps_between_views_ = 1, steps_to_view_ = 0;
  std::atomic<bool> silent_now_{false}, cut_now_{false}, ends_{false};
  View view_;  // of the thread alone
  pace::Histogram age_;
  mutable std::mutex lock_;  // of the age and the driver, between the threads and who asks for the account
  long long turned_away_ = 0;
  std::string medium_;
  std::unique_ptr<wire::Party> party_;
  std::unique_ptr<wire::StreamDriver> driver_;
  std::thread thread_;
};

/// Whether anybody is elsewhere in a run: none is where all devices are in the plant's process.
[[nodiscard]] inline bool is_connected(const RunPlan& plan) { return plan.place.empty(); }

/// Reads rows, and reports what is wrong with them; those that could be read.
std::vector<BusRow> check_rows(Flaws& flaws, const std::string& place, const std::string& field,
                               const std::vector<std::string>& texts, BusRows::What what,
                               BusAt at = BusAt::number);

}  // namespace zavrek::bench::internal
