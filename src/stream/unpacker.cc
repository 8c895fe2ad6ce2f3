#include "stream/unpacker.h"

#include <fcntl.h>
#include <poll.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <csignal>
#include <map>
#include <optional>

#include "box/shut.h"
#include "model/error.h"
#include "stream/decode.h"

namespace undershelf {
namespace {

constexpr int kPatience = 10'000;           // milliseconds
constexpr uint64_t kMemory = 256ULL << 20;  // bytes that the process may take

// What both processes see.
struct Shared {
  std::array<std::byte, Unpacker::kMostUnit> stored, unpacked;
};

struct Order {
  Codec codec{};
  size_t stored = 0, unpacked = 0;  // bytes
};

[[noreturn]] void serve(int in, int out, Shared& shared) {
  box::shut(in, out, kMemory);
  std::map<Codec, ChunkDecoder> decoders;
  Order order;
  while (box::read_all(&order, sizeof order)) {
    const auto stored = std::span(shared.stored).first(order.stored);
    const auto unpacked = std::span(shared.unpacked).first(order.unpacked);
    const bool zlib = order.codec == Codec::zlib || order.codec == Codec::zlib_blocks;
    const char good =
        zlib
            ? decode_zlib(stored, unpacked)
            : decoders.try_emplace(order.codec, order.codec).first->second.decode(stored, unpacked);
    box::write_all(&good, sizeof good);
  }
  ::_exit(0);
}

}  // namespace

class Unpacker::Process {
 public:
  Process() {
    void* memory =
        ::mmap(nullptr, sizeof(Shared), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    int down[2] = {-1, -1}, up[2] = {-1, -1};
    const bool ready =
        memory != MAP_FAILED && ::pipe2(down, O_CLOEXEC) == 0 && ::pipe2(up, O_CLOEXEC) == 0;
    if (ready) process_ = ::fork();
    if (process_ == 0) serve(down[0], up[1], *static_cast<Shared*>(memory));
    for (const int end : {down[0], up[1]}) {
      if (end >= 0) ::close(end);
    }
    to_ = down[1];
    from_ = up[0];
    if (memory != MAP_FAILED) shared_ = static_cast<Shared*>(memory);
    if (process_ < 0) {
      end();
      throw Error(Failure::unavailable,
                  "No process for unpacking compressed files could be started: the system is out "
                  "of memory, of files or of processes. Close others and try again.");
    }
  }
  ~Process() { end(); }
  Process(const Process&) = delete;
  Process& operator=(const Process&) = delete;

  // Nothing if it did not answer.
  std::optional<bool> unpack(Codec codec, std::span<const std::byte> stored,
                             std::span<std::byte> out) {
    std::ranges::copy(stored, shared_->stored.begin());
    const Order order{codec, stored.size(), out.size()};
    char good = 0;
    if (::write(to_, &order, sizeof order) != sizeof order) return std::nullopt;
    pollfd answer{from_, POLLIN, 0};
    int come = 0;
    do come = ::poll(&answer, 1, kPatience);
    while (come < 0 && errno == EINTR);
    if (come <= 0 || ::read(from_, &good, sizeof good) != sizeof good) return std::nullopt;
    if (good != 0) std::copy_n(shared_->unpacked.begin(), out.size(), out.begin());
    return good != 0;
  }

  // False if it had ended itself, as there can be no box here.
  bool end() {
    int status = 0;
    if (process_ > 0) {
      ::kill(process_, SIGKILL);
      while (::waitpid(process_, &status, 0) < 0 && errno == EINTR) {
      }
    }
    process_ = -1;
    for (int* pipe : {&to_, &from_}) {
      if (*pipe >= 0) ::close(*pipe);
      *pipe = -1;
    }
    if (shared_ != nullptr) ::munmap(shared_, sizeof(Shared));
    shared_ = nullptr;
    return !WIFEXITED(status) || WEXITSTATUS(status) != box::kNoBox;
  }

 private:
  pid_t process_ = -1;
  int to_ = -1, from_ = -1;
  Shared* shared_ = nullptr;
};

Unpacker::Unpacker() { box::tell_broken_pipes_by_errors(); }
Unpacker::~Unpacker() = default;

Unpacker& Unpacker::shared() {
  static Unpacker unpacker;
  return unpacker;
}

void Unpacker::start() {
  const std::lock_guard turn(turn_);
  if (process_ == nullptr) process_ = std::make_unique<Process>();
}

bool Unpacker::unpack(Codec codec, std::span<const std::byte> stored, std::span<std::byte> out) {
  if (stored.size() > kMostUnit || out.size() > kMostUnit) return false;
  const std::lock_guard turn(turn_);
  if (process_ == nullptr) process_ = std::make_unique<Process>();
  if (const auto good = process_->unpack(codec, stored, out)) return *good;
  const bool can_be = process_->end();
  process_.reset();
  if (!can_be) {
    throw Error(
        Failure::unavailable,
        "Compressed files cannot be unpacked here: no process could be made that gives up its "
        "rights. Memory or descriptors may be short, /proc missing, or seccomp switched "
        "off. Free some, or use another system.");
  }
  return false;
}

}  // namespace undershelf
