#include "source/image_copy.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/falloc.h>
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
constexpr off_t kRoomForLines = 1 << 20;  // bytes; a line takes some 150

[[noreturn]] void cannot_write(const std::string& path) {
  throw Error(
      Failure::incomplete,
      fmt::format("{} cannot be written: {}. What the ledger lists as read is kept; the same "
                  "call goes on.",
                  path, std::strerror(errno)));
}

void append(int file, const std::string& path, const std::string& text) {
  if (!write_all(file, text.data(), text.size())) cannot_write(path);
}

// Holds room for more lines, so that a target that fills up can still be told what it has. Not
// every file system can; that is no fault.
void hold_room(int file, const std::string& path) {
  struct stat status {};
  if (::fstat(file, &status) == 0 &&
      ::fallocate(file, FALLOC_FL_KEEP_SIZE, status.st_size, kRoomForLines) != 0 &&
      errno == ENOSPC) {
    cannot_write(path);
  }
}

// Where a ledger is written before it takes the place of what is there.
std::string next_of(const std::string& ledger) { return ledger + ".new"; }

// A rewriting that was killed leaves this; what is somebody else's is not touched.
void remove_leftover(const std::string& path) {
  std::error_code error;
  const auto status = fs::symlink_status(path, error);
  if (!fs::exists(status)) return;
  constexpr std::string_view kMark = "{\"ledger\":";
  const bool ours = fs::is_regular_file(status) && fs::hard_link_count(path, error) == 1 &&
                    content_of(open_plain(AT_FDCWD, path)).starts_with(kMark);
  if (!ours && !(fs::is_regular_file(status) && fs::is_empty(path, error))) {
    throw Error(Failure::refused,
                fmt::format("{} is in the way of the ledger, and is none. Nothing is overwritten: "
                            "move it, or choose another name for the image.",
                            path));
  }
  fs::remove(path, error);
}

// Writes the ledger anew, whole, in the place of what is there: what a kill cut off is gone then.
// Returns the file, open for more.
Descriptor rewrite(const Ledger& ledger, const std::string& path) {
  const std::string next = next_of(path);
  Descriptor file = open_to_write(AT_FDCWD, next, Place::empty_list, 0644);
  if (!file.ok()) cannot_write(next);
  append(file.get(), next, ledger.text());
  if (::fsync(file.get()) != 0 || ::rename(next.c_str(), path.c_str()) != 0) cannot_write(path);
  const Descriptor folder(::open(fs::absolute(path).parent_path().c_str(), O_RDONLY | O_CLOEXEC));
  if (folder.ok()) ::fsync(folder.get());
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
  remove_leftover(next_of(ledger_of(path)));
  image_ = open_to_write(AT_FDCWD, path, Place::own, 0644);
  if (!image_.ok()) {
    throw Error(Failure::refused, fmt::format("{} cannot be written: {}. Choose another place.",
                                              path, std::strerror(errno)));
  }
  if (::flock(image_.get(), LOCK_EX | LOCK_NB) != 0) {
    throw Error(
        Failure::refused,
        fmt::format("{} is being filled by another run of this program. Wait for its end.", path));
  }
  if (goes_on_) ledger_ = load_fitting(path, header);
  require_length();
  // In this order a kill leaves nothing that cannot be gone on with.
  lines_ = rewrite(ledger_, ledger_of(path));
  if (::ftruncate(image_.get(), static_cast<off_t>(header.size)) != 0) cannot_write(path);
  hold_room(lines_.get(), ledger_of(path));
  flusher_ = std::thread([this] { flush_now_and_then(); });
}

void ImageCopy::require_length() const {
  struct stat status {};
  const bool known = ::fstat(image_.get(), &status) == 0;
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
    const bool hole = is_zeros(part) && make_hole(offset + at, step);
    for (size_t done = 0; !hole && done < step;) {
      const ssize_t n = ::pwrite(image_.get(), part.data() + done, step - done,
                                 static_cast<off_t>(offset + at + done));
      if (n < 0 && errno == EINTR) continue;
      if (n <= 0) cannot_write(path_);
      done += static_cast<size_t>(n);
    }
    at += step;
  }
}

bool ImageCopy::make_hole(uint64_t offset, uint64_t length) const {
  // A run that was killed may have left there what no ledger tells of.
  return !goes_on_ || ::fallocate(image_.get(), FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE,
                                  static_cast<off_t>(offset), static_cast<off_t>(length)) == 0;
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
  if (finding.state != Finding::State::failed) return;
  // What failed was dear to find out: a kill does not make it be asked for again.
  is_urgent_ = true;
  changed_.notify_all();
}

bool ImageCopy::get(uint64_t offset, std::span<std::byte> out) const {
  for (size_t done = 0; done < out.size();) {
    const ssize_t n = ::pread(image_.get(), out.data() + done, out.size() - done,
                              static_cast<off_t>(offset + done));
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
  if (::fdatasync(image_.get()) != 0) cannot_write(path_);
  append(lines_.get(), ledger_of(path_), lines);
  if (::fdatasync(lines_.get()) != 0) cannot_write(ledger_of(path_));
  hold_room(lines_.get(), ledger_of(path_));
}

void ImageCopy::flush_now_and_then() {
  std::unique_lock lock(mutex_);
  while (true) {
    changed_.wait_for(lock, kFlushEvery, [&] { return last_ || is_urgent_; });
    if (last_) return;
    is_urgent_ = false;
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
