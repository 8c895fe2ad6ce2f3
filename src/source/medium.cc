#include "source/medium.h"

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <condition_variable>
#include <cstdlib>
#include <cstring>
#include <mutex>
#include <new>
#include <thread>

#include "source/nbd.h"
#include "source/open_file.h"

namespace undershelf {
namespace {

constexpr int kMostHanging = 8;  // requests that nobody waits for any more, at one time

// Reads all of it or up to the first error; errno, 0 if all. `got`: bytes that are there.
int read_fully(int descriptor, uint64_t offset, std::span<std::byte> out, size_t& got) {
  got = 0;
  while (got < out.size()) {
    const ssize_t n =
        ::pread(descriptor, out.data() + got, out.size() - got, static_cast<off_t>(offset + got));
    if (n > 0) {
      got += static_cast<size_t>(n);
    } else if (n == 0) {
      return ENODATA;  // shorter than it was
    } else if (errno != EINTR) {
      return errno;
    }
  }
  return 0;
}

// A thread that asks the kernel, which cannot be told to give up a request: one that hangs is left
// behind with its own buffer and descriptor, and ends when it is answered.
class Asker {
 public:
  Asker(int descriptor, std::shared_ptr<std::atomic<int>> hanging)
      : state_(std::make_shared<State>()) {
    state_->descriptor = descriptor;
    state_->hanging = std::move(hanging);
    std::thread([state = state_] { work(*state); }).detach();
  }
  ~Asker() {
    const std::lock_guard lock(state_->mutex);
    state_->last = true;
    if (state_->asked) ++*state_->hanging;
    state_->changed.notify_all();
  }
  Asker(const Asker&) = delete;
  Asker& operator=(const Asker&) = delete;

  // False if no answer came in time; then it is of no more use.
  bool read(uint64_t offset, std::span<std::byte> out, Medium::Seconds limit, size_t& got,
            int& error) {
    State& s = *state_;
    std::unique_lock lock(s.mutex);
    if (s.capacity < out.size()) {
      s.buffer = aligned_bytes(out.size());
      s.capacity = out.size();
    }
    s.offset = offset;
    s.length = out.size();
    s.asked = true;
    s.changed.notify_all();
    if (!s.changed.wait_for(lock, limit, [&] { return !s.asked; })) return false;
    got = s.got;
    error = s.error;
    std::memcpy(out.data(), s.buffer.get(), got);
    return true;
  }

 private:
  struct State {
    std::mutex mutex;
    std::condition_variable changed;
    int descriptor = -1;
    AlignedBytes buffer;
    size_t capacity = 0, length = 0, got = 0;
    uint64_t offset = 0;
    int error = 0;
    bool asked = false, last = false;
    std::shared_ptr<std::atomic<int>> hanging;
    ~State() { ::close(descriptor); }
  };

  static void work(State& s) {
    std::unique_lock lock(s.mutex);
    while (true) {
      s.changed.wait(lock, [&] { return s.asked || s.last; });
      if (!s.asked) return;
      lock.unlock();
      size_t got = 0;
      const int error = read_fully(s.descriptor, s.offset, {s.buffer.get(), s.length}, got);
      lock.lock();
      s.got = got;
      s.error = error;
      s.asked = false;
      if (s.last) {
        --*s.hanging;
        return;
      }
      s.changed.notify_all();
    }
  }

  std::shared_ptr<State> state_;
};

class FileMedium : public Medium {
 public:
  explicit FileMedium(std::string path) : path_(std::move(path)) {
    use(open_file(path_));
    size_ = opened_.size;
  }
  ~FileMedium() override { close_both(); }
  FileMedium(const FileMedium&) = delete;
  FileMedium& operator=(const FileMedium&) = delete;

  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return opened_.sector_size; }
  // Files lie on file systems whose direct reads may want this much.
  uint32_t unit() const override {
    if (!opened_.is_device) return kAlignment;
    return std::clamp<uint32_t>(opened_.physical_size, opened_.sector_size, kAlignment);
  }

  Attempt read(uint64_t offset, std::span<std::byte> out, Seconds limit) override {
    size_t got = 0;
    int error = ETIMEDOUT;
    if (!opened_.is_device) {
      error = read_fully(descriptor_, offset, out, got);
      // The end of a file is seldom where direct reads may end.
      if (error == EINVAL) error = read_fully(opened_.descriptor, offset, out, got);
    } else if (*hanging_ < kMostHanging) {
      if (asker_ == nullptr) asker_ = std::make_unique<Asker>(::dup(descriptor_), hanging_);
      if (!asker_->read(offset, out, limit, got, error)) asker_.reset();
    }
    if (got == out.size()) return {};
    got = got / unit() * unit();
    const bool hangs = *hanging_ >= kMostHanging;
    return {{{offset + got, out.size() - got}}, error, hangs || is_gone(error)};
  }

  bool is_back() override {
    if (*hanging_ >= kMostHanging) return false;
    try {
      OpenedFile opened = open_file(path_);
      if (opened.size != size_) {
        opened.kept.reset();
        ::close(opened.descriptor);
        return false;
      }
      asker_.reset();
      close_both();
      use(std::move(opened));
    } catch (const std::exception&) {
      return false;
    }
    return true;
  }

 private:
  void use(OpenedFile opened) {
    opened_ = std::move(opened);
    const int direct = open_direct(path_);
    descriptor_ = direct < 0 ? opened_.descriptor : direct;
  }

  void close_both() {
    opened_.kept.reset();
    ::close(opened_.descriptor);
    if (descriptor_ != opened_.descriptor) ::close(descriptor_);
  }

  bool is_gone(int error) const {
    if (error == ENODEV || error == ENXIO || error == ENOMEDIUM) return true;
    uint64_t size = 0;
    if (opened_.is_device && (::ioctl(descriptor_, BLKGETSIZE64, &size) != 0 || size == 0))
      return true;
    struct stat status {};
    return ::stat(path_.c_str(), &status) != 0;
  }

  std::string path_;
  OpenedFile opened_{};
  int descriptor_ = -1;  // reads past the page cache where it can; or else the same
  uint64_t size_ = 0;
  std::shared_ptr<std::atomic<int>> hanging_ = std::make_shared<std::atomic<int>>(0);
  std::unique_ptr<Asker> asker_;
};

}  // namespace

void FreeAligned::operator()(std::byte* bytes) const { std::free(bytes); }

AlignedBytes aligned_bytes(size_t size) {
  const size_t whole = (size + Medium::kAlignment - 1) / Medium::kAlignment * Medium::kAlignment;
  auto* bytes = static_cast<std::byte*>(std::aligned_alloc(Medium::kAlignment, whole));
  if (bytes == nullptr) throw std::bad_alloc();
  return AlignedBytes(bytes);
}

std::unique_ptr<Medium> open_medium(const std::string& path) {
  if (is_nbd(path)) return open_nbd(path);
  return std::make_unique<FileMedium>(path);
}

}  // namespace undershelf
