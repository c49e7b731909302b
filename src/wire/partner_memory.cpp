#include <algorithm>
#include <cerrno>
#include <cstring>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include "wire/message_ring.hpp"
#include "zavrek/error.hpp"
#include "zavrek/wire/partner.hpp"

namespace zavrek::wire {
namespace {

/// Two rings, one for what the leading side says and one for the other's. A side that died may leave messages
/// of its run behind; the next one that hears knows them by their run.
struct PartnerMemoryMap {
  using Ring = internal::MessageRing<longest_partner_message, 64>;
  Ring rings[2];  // said by who follows, by who leads
};

class PartnerMemory final : public PartnerWay {
 public:
  PartnerMemory(const std::string& name, bool leads) : name_("/zavrek-partner-" + name), leads_(leads) {
    file_ = ::shm_open(name_.c_str(), O_CREAT | O_RDWR | O_CLOEXEC, 0600);
    if (file_ < 0) refuse(std::strerror(errno));
    if (!lock(leads_ ? 1 : 0))
      refuse(fmt::format("somebody else already {} there", leads_ ? "leads" : "follows"));
    struct stat is {};
    if (::fstat(file_, &is) != 0) refuse(std::strerror(errno));
    if (is.st_size != static_cast<off_t>(sizeof(PartnerMemoryMap)) &&
        ::ftruncate(file_, sizeof(PartnerMemoryMap)) != 0)
      refuse(std::strerror(errno));
    void* bytes = ::mmap(nullptr, sizeof(PartnerMemoryMap), PROT_READ | PROT_WRITE, MAP_SHARED, file_, 0);
    if (bytes == MAP_FAILED) refuse(std::strerror(errno));
    map_ = static_cast<PartnerMemoryMap*>(bytes);
    in().pass_over();
  }
  ~PartnerMemory() override {
    // The last one takes the name away.
    if (lock(leads_ ? 0 : 1)) ::shm_unlink(name_.c_str());
    ::munmap(map_, sizeof(PartnerMemoryMap));
    ::close(file_);
  }
  bool send(Bytes message) noexcept override { return map_->rings[leads_ ? 1 : 0].put(message); }
  /// What cannot be a message is one octet, which nobody takes for one.
  std::size_t receive(std::span<std::uint8_t> into) noexcept override {
    return in().empty() ? 0 : std::max<std::size_t>(in().take(into), 1);
  }
  std::string description() const override { return "memory of this computer, " + name_.substr(1); }

 private:
  [[nodiscard]] PartnerMemoryMap::Ring& in() noexcept { return map_->rings[leads_ ? 0 : 1]; }
  [[nodiscard]] bool lock(off_t byte) const noexcept {
    struct flock range {};
    range.l_type = F_WRLCK;
    range.l_whence = SEEK_SET;
    range.l_start = byte;
    range.l_len = 1;
    return ::fcntl(file_, F_OFD_SETLK, &range) == 0;
  }
  [[noreturn]] void refuse(const std::string& why) {
    if (file_ >= 0) ::close(file_);
    throw Error(fmt::format("no memory \"{}\" to share with a partner: {}", name_, why));
  }
  std::string name_;
  bool leads_;
  int file_ = -1;
  PartnerMemoryMap* map_ = nullptr;
};

}  // namespace

std::unique_ptr<PartnerWay> make_partner_memory(const std::string& name, bool leads) {
  return std::make_unique<PartnerMemory>(name, leads);
}

}  // namespace zavrek::wire
