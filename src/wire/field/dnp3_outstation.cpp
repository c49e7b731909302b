#include <algorithm>
#include <cmath>
#include <deque>
#include <map>

#include "wire/field/dnp3_outstation.hpp"
#include "wire/field/party_over.hpp"
#include "wire/field/seconds.hpp"

namespace zavrek::wire {

using namespace internal;

namespace {

constexpr std::size_t most_objects = 2044;  // octets of a fragment of 2,048 behind its head
constexpr int silent_retries_wait =
    1;  // times the time for a confirmation, until an unsolicited one is repeated

}  // namespace

namespace internal::outstation {

class Talk final : public Dnp3Link {
 public:
  Talk(Body& body, Now /*now*/)
      : Dnp3Link(body.settings.address, body.addresses(), false, body.traffic), body_(body) {
    meet();
  }
  ~Talk() override {
    if (!master_ || master_->talk != this) return;
    master_->talk = nullptr;
    Body::forget_told(*master_, false);
  }
  Talk(const Talk&) = delete;
  Talk& operator=(const Talk&) = delete;

  void poll(Now now) override {
    meet();
    if (!over().empty() || !master_ || master_->talk != this) return;
    settle(now);
    if (awaits_ && now.steady_ns >= awaits_until_ns_) {
      ++body_.traffic.lost;
      awaits_ = false;
      rest_.clear();
      Body::forget_told(*master_, false);
      unasked_again_ns_ = now.steady_ns + silent_retries_wait * ns_of(body_.settings.confirmation_s);
      if (awaits_unasked_) unasked_number_ = (unasked_number_ + 15U) & 15U;  // the same again
    }
    if (body_.settings.unsolicited && !awaits_ && orders_.empty() && now.steady_ns >= unasked_again_ns_)
      speak_unasked(now);
  }

 private:
  /// Once it is known which master is at the other end: whatever connection it had before is over.
  void meet() {
    if (master_ || other() < 0) return;
    master_ = &body_.master_at(other());
    if (master_->talk) master_->talk->end("another connection came");
    master_->talk = this;
    Body::forget_told(*master_, false);
  }
  /// What was asked of the plant, and where its status stands in the answer.
  struct Order {
    std::uint64_t ticket;
    std::size_t status_at;
  };

  // --- answers ---------------------------------------------------------------------------------
  void put_response(std::uint8_t function, std::uint8_t control, Bytes objects, unsigned more_indications) {
    std::vector<std::uint8_t> fragment{control, function};
    put_low_first(fragment, body_.indications(*master_) | more_indications, 2);
    fragment.insert(fragment.end(), objects.begin(), objects.end());
    last_response_ = fragment;
    put(fragment);
  }
  void answer(unsigned more_indications = 0) {
    put_response(dnp3_response, static_cast<std::uint8_t>(dnp3_first | dnp3_final | number_), {},
                 more_indications);
  }
  /// The first of some fragments goes, the others wait for its confirmation.
  void answer_with(std::vector<std::vector<std::uint8_t>> fragments, bool events, unsigned more_indications,
                   Now now) {
    rest_.assign(std::make_move_iterator(fragments.begin()), std::make_move_iterator(fragments.end()));
    rest_has_events_ = events;
    rest_indications_ = more_indications;
    first_of_rest_ = true;
    put_next(now);
  }
  void put_next(Now now) {
    const std::vector<std::uint8_t> objects = std::move(rest_.front());
    rest_.pop_front();
    const bool confirm = rest_has_events_ || !rest_.empty();
    const auto control =
        static_cast<std::uint8_t>((first_of_rest_ ? dnp3_first : 0) | (rest_.empty() ? dnp3_final : 0) |
                                  (confirm ? dnp3_confirms : 0) | number_);
    first_of_rest_ = false;
    put_response(dnp3_response, control, objects, rest_indications_);
    if (!confirm) return;
    awaits_ = true;
    awaits_unasked_ = false;
    awaits_number_ = number_;
    awaits_until_ns_ = now.steady_ns + ns_of(body_.settings.confirmation_s);
    number_ = (number_ + 1) & 15U;
  }

  void speak_unasked(Now now) {
    Dnp3Objects objects(most_objects);
    if (!greeted_) {
      // The first is empty, and says that it has restarted (5.1.1.1.1).
    } else {
      body_.put_events(*master_, objects, unasked_classes_, {}, true);
      if (objects.fragments() == 0) return;
    }
    const auto control =
        static_cast<std::uint8_t>(dnp3_first | dnp3_final | dnp3_confirms | dnp3_unasked | unasked_number_);
    awaits_ = awaits_unasked_ = true;
    awaits_number_ = unasked_number_;
    awaits_until_ns_ = now.steady_ns + ns_of(body_.settings.confirmation_s);
    unasked_number_ = (unasked_number_ + 1) & 15U;
    const auto fragments = objects.take();
    put_response(dnp3_unsolicited, control, fragments.front(), 0);
  }

  // --- requests --------------------------------------------------------------------------------
  void take(Bytes fragment, bool broadcast, Now now) override {
    meet();
    master_->was_met = true;
    const std::uint8_t control = fragment[0], function = fragment[1];
    if (function == dnp3_confirm) return take_confirmation(control, now);
    const bool whole = (control & (dnp3_first | dnp3_final)) == (dnp3_first | dnp3_final);
    if (!whole || (control & dnp3_unasked) != 0) {
      ++body_.traffic.malformed;
      return;
    }
    if (!orders_.empty()) {  // one thing at a time; the latest waits for its turn
      held_.assign(fragment.begin(), fragment.end());
      return;
    }
    // The same once more: its answer was lost. It is not done twice.
    const bool repeated = last_request_.size() == fragment.size() &&
                          std::equal(fragment.begin(), fragment.end(), last_request_.begin());
    if (repeated && function != dnp3_read) return put(last_response_);
    last_request_.assign(fragment.begin(), fragment.end());
    if (awaits_ && !awaits_unasked_) {
      awaits_ = false;  // whoever asks anew does not want the rest
      rest_.clear();
      Body::forget_told(*master_, false);
    }
    number_ = control & 15U;
    const Bytes objects = fragment.subspan(2);
    switch (function) {
      case dnp3_read:
        return broadcast ? void() : read(objects, now);
      case dnp3_write:
        return write(objects, broadcast, now);
      case dnp3_select:
      case dnp3_operate:
      case dnp3_direct:
      case dnp3_direct_unanswered:
        return broadcast ? void() : operate(function, objects, now);
      case dnp3_enable:
      case dnp3_disable:
        return let_speak(function == dnp3_enable, objects);
      case dnp3_delay: {
        const std::vector<std::uint8_t> delay{52, 2, 7, 1, 0, 0};
        return put_response(dnp3_response, static_cast<std::uint8_t>(dnp3_first | dnp3_final | number_),
                            delay, 0);
      }
      case dnp3_record_time:
        recorded_utc_ns_ = now.utc_ns;
        return answer();
      default:
        ++body_.traffic.refused;
        return broadcast ? void() : answer(iin_no_function);
    }
  }

  void take_confirmation(std::uint8_t control, Now now) {
    const bool unasked = (control & dnp3_unasked) != 0;
    if (!awaits_ || unasked != awaits_unasked_ || (control & 15U) != awaits_number_) return;
    awaits_ = false;
    if (unasked && !greeted_) {
      greeted_ = true;
      return;
    }
    // Events are told once the last fragment of them is confirmed.
    if (unasked || rest_.empty()) Body::forget_told(*master_, true);
    if (!unasked && !rest_.empty()) put_next(now);
  }

  void refuse(unsigned indication) {
    ++body_.traffic.refused;
    answer(indication);
  }

  void read(Bytes objects, Now now) {
    unsigned indication = 0;
    const auto wish = dnp3_wish_of(objects, indication);
    if (!wish) return refuse(indication);
    if (!body_.shows) return answer();
    Dnp3Objects out(most_objects);
    body_.put_events(*master_, out, wish->classes, wish->events, false);
    const bool events = out.fragments() > 0;
    for (const Dnp3Wish::Static& one : wish->statics) {
      if (!body_.put_static(out, one)) return refuse(iin_parameter);
    }
    answer_with(out.take(), events, 0, now);
  }

  void write(Bytes objects, bool broadcast, Now now) {
    unsigned indication = 0;
    while (!objects.empty()) {
      const auto header = take_dnp3_header(objects);
      const bool is_restart = header && header->group == 80 && header->variation == 1 && header->first == 7 &&
                              header->count == 1 && !objects.empty();
      const bool is_time = header && header->group == 50 &&
                           (header->variation == 1 || header->variation == 3) && header->count == 1 &&
                           objects.size() >= 6;
      if (is_restart) {
        if ((objects[0] & 1) == 0) master_->restarted = false;
        objects = objects.subspan(1);
      } else if (is_time) {
        set_clock(take_dnp3_time(objects), header->variation == 3 ? recorded_utc_ns_ : now.utc_ns);
        objects = objects.subspan(6);
      } else {
        indication = header ? iin_unknown_object : iin_parameter;
        break;
      }
    }
    if (indication != 0) ++body_.traffic.refused;
    if (!broadcast) answer(indication);
  }
  void set_clock(std::int64_t utc_ns, std::int64_t at_ns) {
    if (!body_.settings.takes_time) return;  // the time comes from the clock of the bench
    body_.clock_ahead_ns = utc_ns - at_ns;
    body_.needs_time = false;
  }

  void let_speak(bool may, Bytes objects) {
    unsigned classes = 0;
    while (!objects.empty()) {
      const auto header = take_dnp3_header(objects);
      if (!header || header->group != 60 || header->variation < 2 || header->variation > 4)
        return refuse(header ? iin_unknown_object : iin_parameter);
      classes |= 1U << (header->variation - 1U);
    }
    if (!body_.settings.unsolicited) return refuse(iin_no_function);
    unasked_classes_ = may ? unasked_classes_ | classes : unasked_classes_ & ~classes;
    answer();
  }

  // --- controls --------------------------------------------------------------------------------
  /// One control of a request: what it asks for, or why not.
  struct Control {
    std::uint8_t status = control_not_supported;
    const Dnp3Output* output = nullptr;
    double value = 0;
  };
  [[nodiscard]] Control control_of(const Dnp3Header& header, std::uint32_t index, Bytes object) const {
    Control control;
    if (header.group == 12) {
      control.output = find_index(body_.settings.controls, index);
      // Latched on and off, or one pulse of the coil that closes, or trips (annex A, 12.1).
      const std::uint8_t code = object[0] & 0xCF, count = object[1];
      const bool on = code == 3 || code == 0x41, off = code == 4 || code == 0x81;
      if (!control.output || (!on && !off) || count != 1) return control;
      control.value = on ? 1 : 0;
    } else {
      control.output = find_index(body_.settings.set_points, index);
      if (!control.output) return control;
      control.value = take_dnp3_number(object, static_cast<Dnp3Analogue>(header.variation - 1));
    }
    control.status =
        body_.image.allows(control.output->asked, control.value) ? control_done : control_out_of_range;
    return control;
  }

  void operate(std::uint8_t function, Bytes objects, Now now) {
    std::vector<std::uint8_t> echo(objects.begin(), objects.end());
    std::vector<std::pair<Control, std::size_t>> controls;  // and where its status stands
    Bytes rest = objects;
    while (!rest.empty()) {
      const auto header = take_dnp3_header(rest);
      const bool known = header && header->indexed &&
                         ((header->group == 12 && header->variation == 1) ||
                          (header->group == 41 && header->variation >= 1 && header->variation <= 3));
      if (!known) return refuse(header ? iin_unknown_object : iin_parameter);
      const std::size_t size = *dnp3_size(header->group, header->variation);
      for (std::uint32_t k = 0; k < header->count; ++k) {
        if (rest.size() < header->index_size + size) return refuse(iin_parameter);
        const auto index =
            static_cast<std::uint32_t>(low_first(rest.data(), static_cast<int>(header->index_size)));
        rest = rest.subspan(header->index_size);
        const std::size_t at = static_cast<std::size_t>(rest.data() - objects.data());
        controls.emplace_back(control_of(*header, index, rest.first(size)), at + size - 1);
        rest = rest.subspan(size);
      }
    }
    judge(function, objects, controls, now);
    if (function != dnp3_select) ask_for(controls);
    bool refused = false;
    for (const auto& [control, at] : controls) {
      echo[at] = control.status;
      refused = refused || control.status != control_done;
    }
    if (refused) ++body_.traffic.refused;
    echo_ = std::move(echo);
    echo_is_wanted_ = function != dnp3_direct_unanswered;
    orders_until_ns_ = now.steady_ns + ns_of(body_.settings.confirmation_s);
    if (function == dnp3_select && !refused) {
      selected_.assign(objects.begin(), objects.end());
      selected_number_ = number_;
      selected_until_ns_ = now.steady_ns + ns_of(body_.settings.select_time_s);
    }
    if (orders_.empty()) put_echo();
  }
  /// Statuses that follow from selecting: an operation fits what was selected, in time, with the next number.
  void judge(std::uint8_t function, Bytes objects, std::vector<std::pair<Control, std::size_t>>& controls,
             Now now) {
    std::uint8_t status = control_done;
    if (function == dnp3_operate) {
      const bool same = selected_.size() == objects.size() &&
                        std::equal(objects.begin(), objects.end(), selected_.begin()) &&
                        number_ == ((selected_number_ + 1) & 15U);
      status = !same                                 ? control_not_selected
               : now.steady_ns >= selected_until_ns_ ? control_timeout
                                                     : control_done;
      selected_.clear();
    }
    for (auto& [control, at] : controls) {
      const bool directly = function == dnp3_direct || function == dnp3_direct_unanswered;
      if (status != control_done)
        control.status = status;
      else if (directly && control.output && control.output->select)
        control.status = control_not_selected;
    }
  }
  void ask_for(std::vector<std::pair<Control, std::size_t>>& controls) {
    orders_.clear();
    for (auto& [control, at] : controls) {
      if (control.status != control_done) continue;
      const std::uint64_t ticket = body_.image.ask(control.output->asked, control.value);
      if (ticket != 0)
        orders_.push_back({ticket, at});
      else
        control.status = control_limited;
    }
  }
  /// Answers once the plant has.
  void settle(Now now) {
    if (orders_.empty()) return;
    for (const Order& order : orders_) {
      if (body_.image.outcome(order.ticket) == ProcessImage::Outcome::waiting &&
          now.steady_ns < orders_until_ns_)
        return;
    }
    for (const Order& order : orders_) {
      if (body_.image.outcome(order.ticket) == ProcessImage::Outcome::done) continue;
      echo_[order.status_at] = control_inhibited;
      ++body_.traffic.refused;
    }
    orders_.clear();
    put_echo();
    const std::vector<std::uint8_t> held = std::move(held_);
    held_.clear();
    if (!held.empty()) take(held, false, now);
  }
  void put_echo() {
    if (echo_is_wanted_)
      put_response(dnp3_response, static_cast<std::uint8_t>(dnp3_first | dnp3_final | number_), echo_, 0);
  }

  Body& body_;
  Master* master_ = nullptr;
  unsigned number_ = 0;  // of the request that is answered
  std::vector<std::uint8_t> last_request_, last_response_;
  std::deque<std::vector<std::uint8_t>> rest_;  // fragments that wait for confirmations
  bool rest_has_events_ = false, first_of_rest_ = true;
  unsigned rest_indications_ = 0;
  bool awaits_ = false, awaits_unasked_ = false;
  unsigned awaits_number_ = 0;
  std::int64_t awaits_until_ns_ = 0;
  bool greeted_ = false;
  unsigned unasked_classes_ = 0, unasked_number_ = 0;
  std::int64_t unasked_again_ns_ = 0, recorded_utc_ns_ = 0;
  std::vector<std::uint8_t> selected_, echo_, held_;
  unsigned selected_number_ = 0;
  std::int64_t selected_until_ns_ = 0, orders_until_ns_ = 0;
  bool echo_is_wanted_ = true;
  std::vector<Order> orders_;
};

}  // namespace internal::outstation

std::unique_ptr<Party> make_dnp3_outstation(Dnp3Settings settings, ProcessImage& image) {
  return std::make_unique<internal::PartyOver<internal::outstation::Body, internal::outstation::Talk>>(
      std::move(settings), image);
}

}  // namespace zavrek::wire
