#include "source/image_copy.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <utility>

#include "model/blank.h"
#include "model/error.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

constexpr uint64_t kLongestRun = uint64_t{64} << 20;  // bytes that are hashed as one
constexpr size_t kHole = 65536;                       // bytes: whole ones of zeros are left out
constexpr std::chrono::seconds kFlushEvery(5);

[[noreturn]] void cannot_write(const std::string& path) {
  throw Error(Failure::incomplete,
              fmt::format("{} cannot be written: {}. What was copied so far is kept; the same call "
                          "goes on.",
                          path, std::strerror(errno)));
}

void write_all(int file, const std::string& path, const char* bytes, size_t length) {
  while (length > 0) {
    const ssize_t n = ::write(file, bytes, length);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) cannot_write(path);
    bytes += n;
    length -= static_cast<size_t>(n);
  }
}

// Writes the ledger anew, whole, in the place of what is there: what a kill cut off is gone then.
// Returns the file, open for more.
int rewrite(const Ledger& ledger, const std::string& path) {
  const std::string next = path + ".new";
  const int file = ::open(next.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_APPEND | O_CLOEXEC, 0644);
  if (file < 0) cannot_write(next);
  try {
    const std::string text = ledger.text();
    write_all(file, next, text.data(), text.size());
    if (::fsync(file) != 0 || ::rename(next.c_str(), path.c_str()) != 0) cannot_write(path);
  } catch (...) {
    ::close(file);
    throw;
  }
  const int folder = ::open(fs::absolute(path).parent_path().c_str(), O_RDONLY | O_CLOEXEC);
  if (folder >= 0) {
    ::fsync(folder);
    ::close(folder);
  }
  return file;
}

Ledger load_fitting(const std::string& path, const LedgerHeader& header) {
  Ledger ledger = Ledger::load(ledger_of(path));
  const LedgerHeader& known = ledger.header();
  std::string how;
  if (known.size != header.size) {
    how = fmt::format("it has {} bytes where that had {}", header.size, known.size);
  } else if (!known.serial.empty() && !header.serial.empty() && known.serial != header.serial) {
    how = fmt::format("its serial number is {} where that's was {}", header.serial, known.serial);
  }
  if (!how.empty()) {
    throw Error(Failure::unavailable,
                fmt::format("{} is the copy of another medium than {}: {}. Give the right medium, "
                            "or another file.",
                            path, header.source, how));
  }
  return ledger;
}

}  // namespace

ImageCopy::ImageCopy(const std::string& path, const LedgerHeader& header)
    : path_(path), ledger_(header) {
  const bool there = fs::exists(path);
  goes_on_ = fs::exists(ledger_of(path));
  // One that was killed before its first byte left no more than this.
  if (there != goes_on_ && !(there && fs::is_empty(path))) {
    throw Error(Failure::refused,
                there ? fmt::format("{} exists, and no ledger beside it tells what it is. Nothing "
                                    "is overwritten: choose another name.",
                                    path)
                      : fmt::format("{} is the ledger of an image that is not there. Put the image "
                                    "back beside it, or choose another name.",
                                    ledger_of(path)));
  }
  image_ = ::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0644);
  if (image_ < 0) {
    throw Error(Failure::refused, fmt::format("{} cannot be written: {}. Choose another place.",
                                              path, std::strerror(errno)));
  }
  if (::flock(image_, LOCK_EX | LOCK_NB) != 0) {
    ::close(image_);
    throw Error(
        Failure::refused,
        fmt::format("{} is being filled by another run of this program. Wait for its end.", path));
  }
  try {
    if (goes_on_) ledger_ = load_fitting(path, header);
    require_length();
    // In this order a kill leaves nothing that cannot be gone on with.
    lines_ = rewrite(ledger_, ledger_of(path));
    if (::ftruncate(image_, static_cast<off_t>(header.size)) != 0) cannot_write(path);
  } catch (...) {
    if (lines_ >= 0) ::close(lines_);
    ::close(image_);
    throw;
  }
  flusher_ = std::thread([this] { flush_now_and_then(); });
}

void ImageCopy::require_length() const {
  struct stat status {};
  const bool known = ::fstat(image_, &status) == 0;
  const uint64_t length = known ? static_cast<uint64_t>(status.st_size) : 0;
  if (length == ledger_.header().size || ledger_.bytes(Finding::State::read) == 0) return;
  throw Error(Failure::unavailable,
              fmt::format("{} has {} bytes, and its ledger is of {}: it was cut, or belongs to "
                          "another. Give the right one back, or choose another name.",
                          path_, length, ledger_.header().size));
}

ImageCopy::~ImageCopy() {
  {
    const std::lock_guard lock(mutex_);
    last_ = true;
  }
  changed_.notify_all();
  flusher_.join();
  try {
    flush();
  } catch (const std::exception&) {
    // Whoever needed it to last has called flush().
  }
  ::close(lines_);
  ::close(image_);
}

void ImageCopy::put(uint64_t offset, std::span<const std::byte> bytes, bool slow) {
  write(offset, bytes);
  tell(offset, bytes, slow);
}

void ImageCopy::write(uint64_t offset, std::span<const std::byte> bytes) {
  for (size_t at = 0; at < bytes.size();) {
    // Zeros up to the next multiple are a hole.
    const size_t step = std::min<uint64_t>(bytes.size() - at, kHole - (offset + at) % kHole);
    const auto part = bytes.subspan(at, step);
    for (size_t done = 0; !is_zeros(part) && done < step;) {
      const ssize_t n =
          ::pwrite(image_, part.data() + done, step - done, static_cast<off_t>(offset + at + done));
      if (n < 0 && errno == EINTR) continue;
      if (n <= 0) cannot_write(path_);
      done += static_cast<size_t>(n);
    }
    at += step;
  }
}

void ImageCopy::tell(uint64_t offset, std::span<const std::byte> bytes, bool slow) {
  const std::lock_guard lock(mutex_);
  rethrow();
  const bool follows = run_.length > 0 && run_.end() == offset && run_slow_ == slow &&
                       run_.length + bytes.size() <= kLongestRun;
  if (!follows) {
    close_run();
    run_ = {offset, 0};
    run_slow_ = slow;
  }
  hash_.update(bytes);
  run_.length += bytes.size();
  ledger_.note({offset, bytes.size()}, {Finding::State::read, slow});
}

void ImageCopy::note(const ByteRange& range, const Finding& finding) {
  if (range.length == 0) return;
  const std::lock_guard lock(mutex_);
  ledger_.note(range, finding);
  rethrow();
  pending_ += Ledger::line(range, finding);
}

bool ImageCopy::get(uint64_t offset, std::span<std::byte> out) const {
  for (size_t done = 0; done < out.size();) {
    const ssize_t n =
        ::pread(image_, out.data() + done, out.size() - done, static_cast<off_t>(offset + done));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return false;
    done += static_cast<size_t>(n);
  }
  return true;
}

void ImageCopy::flush() {
  const std::lock_guard flushing(flushing_);
  std::string lines;
  {
    const std::lock_guard lock(mutex_);
    rethrow();
    close_run();
    lines = std::exchange(pending_, {});
  }
  if (lines.empty()) return;
  // Meanwhile more may be written; what is said of it waits for the next time.
  if (::fdatasync(image_) != 0) cannot_write(path_);
  write_all(lines_, ledger_of(path_), lines.data(), lines.size());
  if (::fdatasync(lines_) != 0) cannot_write(ledger_of(path_));
}

void ImageCopy::flush_now_and_then() {
  std::unique_lock lock(mutex_);
  while (!changed_.wait_for(lock, kFlushEvery, [&] { return last_; })) {
    lock.unlock();
    std::exception_ptr failure;
    try {
      flush();
    } catch (...) {
      failure = std::current_exception();
    }
    lock.lock();
    if (!failure_) failure_ = failure;
  }
}

void ImageCopy::rethrow() const {
  if (failure_) std::rethrow_exception(failure_);
}

void ImageCopy::close_run() {
  if (run_.length == 0) return;
  const std::string sha256 = hash_.hex();
  pending_ += Ledger::line(run_, {Finding::State::read, run_slow_}, sha256);
  ledger_.note_hash(run_, sha256);
  run_ = {};
}

std::vector<Noted> ImageCopy::in(const ByteRange& within) const {
  const std::lock_guard lock(mutex_);
  return ledger_.in(within);
}

std::vector<ByteRange> ImageCopy::in(const ByteRange& within, Finding::State state) const {
  const std::lock_guard lock(mutex_);
  return ledger_.in(within, state);
}

uint64_t ImageCopy::bytes(Finding::State state) const {
  const std::lock_guard lock(mutex_);
  return ledger_.bytes(state);
}

}  // namespace undershelf
