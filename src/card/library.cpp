#include <array>

#include <dlfcn.h>
#include <fmt/format.h>

#include "zavrek/card.h"
#include "zavrek/card.hpp"
#include "zavrek/error.hpp"

namespace zavrek::card {
namespace {

constexpr std::size_t most_channels = 4096;

class LibraryCard final : public Card {
 public:
  LibraryCard(const std::filesystem::path& path, const std::string& address)
      : handle_(::dlopen(std::filesystem::absolute(path).c_str(), RTLD_NOW | RTLD_LOCAL)) {
    const auto refuse = [&](const std::string& text) {
      if (handle_ != nullptr) ::dlclose(handle_);
      throw Error(Flaw{.file = path.string(), .place = {}, .field = {}, .text = text});
    };
    if (handle_ == nullptr) refuse(fmt::format("cannot be loaded: {}", ::dlerror()));
    using Entry = const zavrek_card_driver* (*)();
    const auto entry = reinterpret_cast<Entry>(::dlsym(handle_, "zavrek_card_entry"));
    if (entry == nullptr) refuse("exports no function zavrek_card_entry (zavrek/card.h)");
    driver_ = entry();
    if (driver_ == nullptr) refuse("zavrek_card_entry returns nothing");
    if (driver_->version != ZAVREK_CARD_VERSION)
      refuse(fmt::format("is of version {}; {} is wanted", driver_->version, ZAVREK_CARD_VERSION));
    if (driver_->open == nullptr || driver_->read == nullptr || driver_->write == nullptr)
      refuse("has no open, no read or no write");
    zavrek_card_limits has{};
    std::array<char, 256> why{};
    card_ = driver_->open(address.c_str(), &has, why.data(), why.size());
    why.back() = '\0';
    if (card_ == nullptr)
      refuse(fmt::format("cannot open \"{}\": {}", address,
                         why[0] == '\0' ? "it does not say why" : why.data()));
    limits_ = {has.analogue_outputs, has.analogue_inputs, has.contact_outputs,
               has.contact_inputs,   has.range_V,         static_cast<int>(has.bits)};
    const bool sound = limits_.analogue_outputs <= most_channels &&
                       limits_.analogue_inputs <= most_channels && limits_.contact_outputs <= most_channels &&
                       limits_.contact_inputs <= most_channels && limits_.range_V > 0 && limits_.bits >= 1 &&
                       limits_.bits <= 32;
    if (!sound) {
      close();
      refuse("says that it has channels, a range or bits that no card has");
    }
  }
  LibraryCard(const LibraryCard&) = delete;
  LibraryCard& operator=(const LibraryCard&) = delete;
  ~LibraryCard() override {
    close();
    ::dlclose(handle_);
  }
  const Limits& limits() const noexcept override { return limits_; }
  bool read(double* analogue, double* contacts) noexcept override {
    return driver_->read(card_, analogue, contacts) == 0;
  }
  bool write(const double* analogue, const double* contacts, double) noexcept override {
    return driver_->write(card_, analogue, contacts) == 0;
  }

 private:
  void close() noexcept {
    if (driver_->close != nullptr) driver_->close(card_);
  }
  void* handle_;
  const zavrek_card_driver* driver_ = nullptr;
  zavrek_card* card_ = nullptr;
  Limits limits_;
};

}  // namespace

std::unique_ptr<Card> load_card(const std::filesystem::path& library, const std::string& address) {
  if (!std::filesystem::exists(library))
    throw Error(Flaw{.file = library.string(),
                     .place = {},
                     .field = {},
                     .text = "is not there; build it, or mend `library`"});
  return std::make_unique<LibraryCard>(library, address);
}

}  // namespace zavrek::card
