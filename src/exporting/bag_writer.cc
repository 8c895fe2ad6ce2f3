#include "exporting/bag_writer.h"

#include <fcntl.h>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <ctime>
#include <iterator>
#include <utility>

namespace undershelf {
namespace {

constexpr uint64_t kBytesQueued = 16 << 20;    // at most this much waits to be written
constexpr uint64_t kBytesAtOnce = 256 << 10;   // the thread is woken for
constexpr uint64_t kBytesOfPart = 1024;        // what a part takes besides its content
constexpr uint64_t kBytesPerFlush = 32 << 20;  // at most this much is unflushed
constexpr uint64_t kBytesWorthAStart = 1 << 20;
constexpr size_t kFilesPerFlush = 2048;  // likewise
constexpr uint64_t kListBytesPerFile = 1024;
constexpr uint64_t kListBytes = 256 << 10;

}  // namespace

BagWriter::BagWriter(std::string directory, bool lists_beside, bool read_back)
    : directory_(std::move(directory)), lists_beside_(lists_beside), read_back_(read_back) {}

BagWriter::~BagWriter() {
  fail(ECANCELED);
  end_thread();
}

void BagWriter::start(size_t files) {
  try {
    flushed_.emplace(::open(directory_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (!flushed_->ok()) throw TargetFailed{errno};
    manifest_.emplace(directory_, "manifest-sha256.txt", lists_beside_);
    exported_.emplace(directory_, "exported.jsonl", lists_beside_);
    const Descriptor reserve(::open(full(kReserveFile).c_str(),
                                    O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666));
    if (!reserve.ok()) throw TargetFailed{errno};
    const auto size = static_cast<off_t>(kListBytes + files * kListBytesPerFile);
    if (const int error = ::posix_fallocate(reserve.get(), 0, size); error == ENOSPC) {
      throw TargetFailed{error};
    }
  } catch (const TargetFailed& failure) {
    fail(failure.error);
    return;
  }
  thread_ = std::thread([this] { run(); });
}

bool BagWriter::put(BagPart part) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return failure_ != 0 || queued_ < kBytesQueued; });
  if (failure_ != 0) return false;
  queued_ += part.size + kBytesOfPart;
  queue_.push_back(std::move(part));
  if (queued_ >= kBytesAtOnce) changed_.notify_all();
  return true;
}

void BagWriter::fail(int error) {
  {
    const std::lock_guard lock(mutex_);
    if (failure_ == 0) failure_ = error;
  }
  changed_.notify_all();
}

bool BagWriter::has_failed() {
  const std::lock_guard lock(mutex_);
  return failure_ != 0;
}

void BagWriter::end_thread() {
  if (!thread_.joinable()) return;
  {
    const std::lock_guard lock(mutex_);
    ended_ = true;
  }
  changed_.notify_all();
  thread_.join();
}

BagWriter::Outcome BagWriter::finish() {
  end_thread();
  if (failure_ != 0) {
    outcome_.failed.push_back(fmt::format("The target failed: {}. What was done before is kept.",
                                          std::strerror(failure_)));
  }
  ::unlink(full(kReserveFile).c_str());
  try {
    begin_flush();
    end_flush();
    finish_lists();
  } catch (const TargetFailed& failure) {
    discard_unflushed();
    outcome_.failed.push_back(fmt::format("The bag's own lists could not be completed: {}.",
                                          std::strerror(failure.error)));
  }
  return std::move(outcome_);
}

void BagWriter::run() {
  std::deque<BagPart> taken;
  uint64_t written = 0;  // bytes of the parts taken, since the others were told
  while (true) {
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return failure_ != 0 || ended_ || queued_ >= kBytesAtOnce; });
      if (failure_ != 0 || queue_.empty()) break;
      taken.swap(queue_);
    }
    for (; !taken.empty() && !has_failed(); taken.pop_front()) {
      BagPart& part = taken.front();
      written += part.size + kBytesOfPart;
      try {
        write(part);
      } catch (const TargetFailed& failure) {
        fail(failure.error);
      }
      if (written < kBytesQueued / 8 && taken.size() > 1) continue;
      {
        const std::lock_guard lock(mutex_);
        queued_ -= std::exchange(written, 0);
      }
      changed_.notify_all();
    }
  }
  // A file that was not completed does not stay.
  if (open_.file) ::unlink(full(open_.path).c_str());
  open_ = {};
}

void BagWriter::write(BagPart& part) {
  if (part.then == BagPart::Then::kept) return list(std::move(part.listed));
  if (part.begins) {
    open_ = {part.listed.path, part.id,
             std::make_unique<Descriptor>(
                 ::open(full(part.listed.path).c_str(),
                        O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666))};
    // What is there already under its name is not ours to remove.
    if (!open_.file->ok()) {
      const int error = errno;
      open_.file.reset();
      return give_up(error);
    }
  }
  if (!open_.file) return;
  if (!write_sparsely(open_.file->get(), {part.bytes.get(), part.size})) return give_up(errno);
  if (part.then == BagPart::Then::complete) return complete(part);
  if (part.then == BagPart::Then::abandon) {
    ::unlink(full(open_.path).c_str());
    open_ = {};
  }
}

void BagWriter::complete(BagPart& part) {
  const uint64_t size = part.listed.bytes;
  // It may end in a hole.
  if (size >= kHoleBlock && ::ftruncate(open_.file->get(), static_cast<off_t>(size)) != 0) {
    return give_up(errno);
  }
  // The medium begins to take a large file now, so that less is left for the flush.
  if (size >= kBytesWorthAStart) {
    ::sync_file_range(open_.file->get(), 0, 0, SYNC_FILE_RANGE_WRITE);
  }
  const timespec times[2] = {to_timespec(part.accessed), to_timespec(part.modified)};
  ::futimens(open_.file->get(), times);
  open_ = {};
  pending_bytes_ += size;
  list(std::move(part.listed));
}

void BagWriter::give_up(int error) {
  if (open_.file) ::unlink(full(open_.path).c_str());
  open_.file.reset();
  if (is_fatal(error)) throw TargetFailed{error};
  outcome_.failed.push_back(fmt::format("{} (id {}) could not be written: {}.", open_.path,
                                        open_.id, std::strerror(error)));
}

void BagWriter::list(ListedFile listed) {
  pending_.push_back(std::move(listed));
  if (pending_.size() >= kFilesPerFlush || pending_bytes_ >= kBytesPerFlush) begin_flush();
}

// Files count as done only when the medium has them. Other files are written meanwhile.
void BagWriter::begin_flush() {
  end_flush();
  // A batch that could not be listed is still there.
  batch_.insert(batch_.end(), std::make_move_iterator(pending_.begin()),
                std::make_move_iterator(pending_.end()));
  pending_.clear();
  pending_bytes_ = 0;
  if (batch_.empty()) return;
  flushing_ = std::async(std::launch::async,
                         [file = flushed_->get()] { return ::syncfs(file) == 0 ? 0 : errno; });
}

void BagWriter::end_flush() {
  if (!flushing_.valid()) return;
  if (const int error = flushing_.get(); error != 0) {
    // Which of the files it concerns is not told.
    discard_unflushed();
    throw TargetFailed{error};
  }
  std::string manifest;
  std::string exported;
  std::vector<std::byte> buffer(read_back_ ? 1 << 20 : 0);
  for (const ListedFile& listed : batch_) {
    if (read_back_ && hash_of(full(listed.path), buffer, true) != listed.sha256) {
      ::unlink(full(listed.path).c_str());
      outcome_.failed.push_back(fmt::format(
          "{} reads back from the target other than it was written; it was removed.", listed.path));
      continue;
    }
    manifest += fmt::format("{}  {}\n", listed.sha256, listed.path);
    exported += listed.record;
    outcome_.bytes += listed.bytes;
    outcome_.with_holes += listed.has_holes;
    ++outcome_.files;
  }
  manifest_->write(manifest);
  exported_->write(exported);
  batch_.clear();
}

// Files that were written but are not sure to be on the medium do not stay.
void BagWriter::discard_unflushed() {
  for (std::vector<ListedFile>* files : {&batch_, &pending_}) {
    for (const ListedFile& listed : *files) ::unlink(full(listed.path).c_str());
    files->clear();
  }
}

void BagWriter::finish_lists() {
  if (!manifest_ || !exported_) return;
  std::string tags = manifest_->close() + exported_->close();
  TagFile declaration(directory_, "bagit.txt");
  declaration.write("BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n");
  tags += declaration.close();
  TagFile info(directory_, "bag-info.txt");
  info.write(fmt::format(
      "Bag-Software-Agent: undershelf {}\nBagging-Date: {:%Y-%m-%d}\n"
      "Payload-Oxum: {}.{}\n",
      UNDERSHELF_VERSION, fmt::gmtime(std::time(nullptr)), outcome_.bytes, outcome_.files));
  tags += info.close();
  TagFile list(directory_, "tagmanifest-sha256.txt");
  list.write(tags);
  list.close();
}

}  // namespace undershelf
