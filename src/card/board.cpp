#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cmath>
#include <csignal>
#include <cstring>
#include <limits>
#include <utility>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include "zavrek/card.hpp"
#include "zavrek/error.hpp"

namespace zavrek::card {
namespace {

constexpr std::size_t board_bytes = 3648;
constexpr char magic[] = "ZVBOARD1";
constexpr std::size_t counts_at = 8, server_at = 28, bench_writes_at = 32, device_writes_at = 40,
                      time_at = 48;

template <class Number>
std::atomic_ref<Number> at(unsigned char* bytes, std::size_t offset) {
  return std::atomic_ref<Number>(*reinterpret_cast<Number*>(bytes + offset));
}

std::string path_of(const std::string& name) {
  if (name.empty() || name.size() > 100 || name.find_first_of("/ \t\n") != std::string::npos)
    throw Error(fmt::format("\"{}\" is no name of a terminal board; write a word without slashes", name));
  return "/zavrek-" + name;
}

unsigned char* map(int file) {
  void* bytes = ::mmap(nullptr, board_bytes, PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
  ::close(file);
  return bytes == MAP_FAILED ? nullptr : static_cast<unsigned char*>(bytes);
}

bool runs(std::uint32_t process) {
  return process != 0 && (::kill(static_cast<pid_t>(process), 0) == 0 || errno == EPERM);
}

}  // namespace

Card::Told Card::told(std::size_t) const noexcept {
  constexpr double nothing = std::numeric_limits<double>::quiet_NaN();
  return {nothing, nothing, nothing};
}

Board::Board(std::string path, unsigned char* bytes, bool made)
    : path_(std::move(path)), bytes_(bytes), made_(made) {}
Board::Board(Board&& other) noexcept
    : path_(std::move(other.path_)), bytes_(std::exchange(other.bytes_, nullptr)), made_(other.made_) {}

Board Board::make(const std::string& name) {
  std::string path = path_of(name);
  const int file = ::shm_open(path.c_str(), O_CREAT | O_RDWR | O_CLOEXEC, 0600);
  const auto fail = [&] {
    throw Error(fmt::format("no terminal board \"{}\" in shared memory: {}", name, std::strerror(errno)));
  };
  if (file < 0) fail();
  struct stat was {};
  const bool there = ::fstat(file, &was) == 0 && was.st_size == static_cast<off_t>(board_bytes);
  if (::ftruncate(file, board_bytes) != 0) {
    ::close(file);
    fail();
  }
  unsigned char* bytes = map(file);
  if (bytes == nullptr) fail();
  Board board(std::move(path), bytes, true);
  const auto own = static_cast<std::uint32_t>(::getpid());
  const std::uint32_t server = there ? at<std::uint32_t>(bytes, server_at).load() : 0;
  if (server != own && runs(server)) {
    board.made_ = false;  // it stays the other's
    throw Error(fmt::format(
        "terminal board \"{}\" is served by process {}; end it, or choose another address", name, server));
  }
  std::memset(bytes, 0, board_bytes);
  const std::uint32_t count = terminals;
  for (std::size_t k = 0; k < 5; ++k) std::memcpy(bytes + counts_at + 4 * k, &count, sizeof count);
  for (const Part part : {Part::measured, Part::angles, Part::seen}) {
    for (std::size_t k = 0; k < terminals; ++k) board.put(part, k, std::numeric_limits<double>::quiet_NaN());
  }
  at<std::uint32_t>(bytes, server_at).store(own);
  std::copy_n(magic, 8, bytes);
  return board;
}

bool Board::there(const std::string& name) {
  try {
    return find(name).served();
  } catch (const Error&) {
    return false;
  }
}

Board Board::find(const std::string& name) {
  std::string path = path_of(name);
  const int file = ::shm_open(path.c_str(), O_RDWR | O_CLOEXEC, 0600);
  struct stat is {};
  if (file < 0 || ::fstat(file, &is) != 0 || is.st_size != static_cast<off_t>(board_bytes)) {
    if (file >= 0) ::close(file);
    throw Error(fmt::format("no terminal board \"{}\"; start the bench that serves it first", name));
  }
  unsigned char* bytes = map(file);
  if (bytes == nullptr || std::memcmp(bytes, magic, 8) != 0) {
    if (bytes != nullptr) ::munmap(bytes, board_bytes);
    throw Error(fmt::format("\"{}\" in shared memory is no terminal board", path));
  }
  return {std::move(path), bytes, false};
}

Board::~Board() {
  if (bytes_ == nullptr) return;
  if (made_) {
    at<std::uint32_t>(bytes_, server_at).store(0);
    ::shm_unlink(path_.c_str());
  }
  ::munmap(bytes_, board_bytes);
}

double Board::get(Part part, std::size_t k) const noexcept {
  return at<double>(bytes_, static_cast<std::size_t>(part) + 8 * k).load(std::memory_order_relaxed);
}
void Board::put(Part part, std::size_t k, double value) noexcept {
  at<double>(bytes_, static_cast<std::size_t>(part) + 8 * k).store(value, std::memory_order_relaxed);
}
std::uint64_t Board::bench_writes() const noexcept {
  return at<std::uint64_t>(bytes_, bench_writes_at).load();
}
std::uint64_t Board::device_writes() const noexcept {
  return at<std::uint64_t>(bytes_, device_writes_at).load();
}
double Board::time_s() const noexcept { return at<double>(bytes_, time_at).load(std::memory_order_relaxed); }
void Board::count_bench_write(double time_s) noexcept {
  at<double>(bytes_, time_at).store(time_s, std::memory_order_relaxed);
  at<std::uint64_t>(bytes_, bench_writes_at).fetch_add(1, std::memory_order_release);
}
void Board::count_device_write() noexcept {
  at<std::uint64_t>(bytes_, device_writes_at).fetch_add(1, std::memory_order_release);
}
bool Board::served() const noexcept { return at<std::uint32_t>(bytes_, server_at).load() != 0; }

namespace {

class BoardCard final : public Card {
 public:
  explicit BoardCard(const std::string& name) : board_(Board::make(name)) {
    limits_.analogue_outputs = limits_.analogue_inputs = Board::terminals;
    limits_.contact_outputs = limits_.contact_inputs = Board::terminals;
  }
  const Limits& limits() const noexcept override { return limits_; }
  bool read(double* analogue, double* contacts) noexcept override {
    for (std::size_t k = 0; k < Board::terminals; ++k) {
      analogue[k] = board_.get(Board::Part::in, k);
      contacts[k] = board_.get(Board::Part::contacts_in, k);
    }
    return true;
  }
  bool write(const double* analogue, const double* contacts, double time_s) noexcept override {
    for (std::size_t k = 0; k < Board::terminals; ++k) {
      board_.put(Board::Part::out, k, analogue[k]);
      board_.put(Board::Part::contacts_out, k, contacts[k]);
    }
    board_.count_bench_write(time_s);
    return true;
  }
  bool carries_terminals() const noexcept override { return true; }
  std::uint64_t device_writes() const noexcept override { return board_.device_writes(); }
  Told told(std::size_t terminal) const noexcept override {
    return {board_.get(Board::Part::measured, terminal), board_.get(Board::Part::angles, terminal),
            board_.get(Board::Part::seen, terminal)};
  }

 private:
  Board board_;
  Limits limits_;
};

}  // namespace

std::unique_ptr<Card> board_card(const std::string& name) { return std::make_unique<BoardCard>(name); }

}  // namespace zavrek::card
