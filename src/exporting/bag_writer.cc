#include "exporting/bag_writer.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <iterator>
#include <utility>

#include "exporting/bag_head.h"

namespace undershelf {
namespace {

constexpr uint64_t kBytesQueued = 16 << 20;    // at most this much waits to be written
constexpr uint64_t kBytesAtOnce = 256 << 10;   // the thread is woken for
constexpr uint64_t kBytesOfPart = 1024;        // what a part takes besides its content
constexpr uint64_t kBytesPerFlush = 32 << 20;  // at most this much is unflushed
constexpr uint64_t kBytesWorthAStart = 1 << 20;
constexpr size_t kFilesPerFlush = 2048;  // likewise
constexpr uint64_t kListBytesPerFile = 2048;
constexpr uint64_t kListBytes = 256 << 10;
constexpr size_t kReadAtATime = 1 << 20;  // bytes read from the target at a time

// Files of a batch are written below it as they will be in the bag.
std::string staged_folder(uint64_t batch) {
  return std::string(kStagingFolder) + '/' + std::to_string(batch);
}

std::string staged_path(const std::string& path, uint64_t batch) {
  return staged_folder(batch) + '/' + path;
}

// Without its full stop.
std::string sentence_of(const std::exception_ptr& failure) {
  try {
    std::rethrow_exception(failure);
  } catch (const TargetFailed& target) {
    return undershelf::sentence_of(target);
  } catch (const std::bad_alloc&) {
    return "There was not enough memory to go on writing";
  } catch (const std::exception& e) {
    return fmt::format("Writing failed: {}", e.what());
  }
}

}  // namespace

BagWriter::BagWriter(std::string directory, bool read_back)
    : directory_(std::move(directory)), read_back_(read_back) {}

BagWriter::~BagWriter() {
  fail(nullptr);
  end_thread();
  try {
    end_flush();
  } catch (...) {  // what it concerned was discarded
  }
}

void BagWriter::start(size_t files) {
  try {
    tree_.emplace(directory_);
    places_.emplace(directory_);
    tree_->make_folder(kStagingFolder);
    manifest_.emplace(tree_->root(), "manifest-sha256.txt");
    exported_.emplace(tree_->root(), "exported.jsonl");
    const Descriptor reserve = tree_->create(kReserveFile);
    if (!reserve.ok()) throw TargetFailed{errno};
    const auto size = static_cast<off_t>(kListBytes + files * kListBytesPerFile);
    if (const int error = ::posix_fallocate(reserve.get(), 0, size); error == ENOSPC) {
      throw TargetFailed{error};
    }
    thread_ = std::thread([this] { run(); });
  } catch (const TargetFailed&) {
    fail(std::current_exception());
  } catch (const std::system_error&) {
    fail(std::current_exception());
  }
}

bool BagWriter::put(BagPart part) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return failed_ || queued_ < kBytesQueued; });
  if (failed_) return false;
  queued_ += part.size + kBytesOfPart;
  queue_.push_back(std::move(part));
  if (queued_ >= kBytesAtOnce) changed_.notify_all();
  return true;
}

void BagWriter::fail(std::exception_ptr what) noexcept {
  {
    const std::lock_guard lock(mutex_);
    if (!failed_) failure_ = std::move(what);
    failed_ = true;
  }
  changed_.notify_all();
}

bool BagWriter::has_failed() {
  const std::lock_guard lock(mutex_);
  return failed_;
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

BagOutcome BagWriter::finish(const std::string& info, FileSum payload) {
  end_thread();
  if (failed_) {
    outcome_.failed.push_back(
        fmt::format("{}. What was done before is kept.", sentence_of(failure_)));
  }
  if (!tree_) return std::move(outcome_);
  tree_->remove(kReserveFile);
  try {
    begin_flush();
    end_flush();
  } catch (...) {
    discard_unflushed();
    outcome_.failed.push_back(fmt::format("{}. The last files are not in the bag.",
                                          sentence_of(std::current_exception())));
  }
  try {
    finish_lists(info, payload);
    outcome_.lists_complete = true;
  } catch (const TargetFailed& failure) {
    outcome_.failed.push_back(fmt::format("The bag's own lists could not be completed: {}.",
                                          std::strerror(failure.error)));
  }
  finish_folders();
  return std::move(outcome_);
}

// Whatever goes wrong is a value that the other thread is told.
void BagWriter::run() {
  try {
    work();
  } catch (...) {
    fail(std::current_exception());
  }
  // A file that was not completed does not stay.
  if (open_.file) remove_open();
  open_ = {};
}

void BagWriter::work() {
  std::deque<BagPart> taken;
  uint64_t written = 0;  // bytes of the parts taken, since the others were told
  while (true) {
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return failed_ || ended_ || queued_ >= kBytesAtOnce; });
      if (failed_ || queue_.empty()) return;
      taken.swap(queue_);
    }
    for (; !taken.empty() && !has_failed(); taken.pop_front()) {
      BagPart& part = taken.front();
      written += part.size + kBytesOfPart;
      write(part);
      if (written < kBytesQueued / 8 && taken.size() > 1) continue;
      {
        const std::lock_guard lock(mutex_);
        queued_ -= std::exchange(written, 0);
      }
      changed_.notify_all();
    }
  }
}

void BagWriter::write(BagPart& part) {
  if (part.then == BagPart::Then::link) return queue_up(std::move(part));
  if (part.then == BagPart::Then::folder) {
    folders_.emplace_back(std::move(part.listed.path), part.modified);
    return;
  }
  if (part.begins) {
    open_ = {staged_path(part.listed.path, batches_),
             part.id,
             part.listed.path,
             part.listed.content,
             {}};
    Descriptor file = tree_->create(open_.staged);
    if (!file.ok()) return give_up(errno);
    open_.file.emplace(std::move(file));
  }
  if (!open_.file) return;
  if (!write_sparsely(open_.file->get(), {part.bytes.get(), part.size})) return give_up(errno);
  if (part.then == BagPart::Then::complete) return complete(part);
  if (part.then == BagPart::Then::abandon) {
    remove_open();
    open_ = {};
  }
}

void BagWriter::remove_open() { tree_->remove(open_.staged); }

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
  if (part.created && sets_created_) {
    sets_created_ = set_created(open_.file->get(), *part.created);
  }
  const timespec times[2] = {time_to_set(part.accessed), time_to_set(part.modified)};
  ::futimens(open_.file->get(), times);
  queue_up(std::move(part));
}

// The file that is being written cannot be; the target may be able to take others.
void BagWriter::give_up(int error) {
  remove_open();
  open_.file.reset();
  if (is_fatal(error)) throw TargetFailed{error};
  outcome_.failed_files.add(open_.content);
  outcome_.failed.push_back(fmt::format("{} (id {}) could not be written: {}.", open_.path,
                                        open_.id, std::strerror(error)));
}

void BagWriter::queue_up(BagPart part) {
  const bool link = part.then == BagPart::Then::link;
  pending_bytes_ += link ? 0 : part.listed.bytes;
  part.bytes.reset();
  pending_.push_back({std::move(part), batches_, false, {}});
  if (!link) open_.file.reset();
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
  flushing_ =
      std::async(std::launch::async, [this, batch = batches_] { return flush_and_place(batch); });
  ++batches_;
}

int BagWriter::flush_and_place(uint64_t batch) {
  // By the one descriptor that is told of each failure once.
  if (::syncfs(tree_->root()) != 0) return errno;
  buffer_.resize(kReadAtATime);
  if (read_back_) read_back(batch);
  put_in_place(batch);
  for (Staged& one : batch_) {
    const ListedFile& listed = one.part.listed;
    if (one.part.then != BagPart::Then::link || places_->link(one.part.link_to, listed.path) ||
        places_->copy(one.part.link_to, listed.path, buffer_)) {
      continue;
    }
    one.failure = listed.path + " could not be written as one more name of a file that was.";
  }
  // At once: until then there are files in the bag that its lists do not tell of.
  append_lists();
  return 0;
}

// Files of the batch that are not on the target as they were written go away.
void BagWriter::read_back(uint64_t batch) {
  for (Staged& one : batch_) {
    const ListedFile& listed = one.part.listed;
    if (one.part.then == BagPart::Then::link) continue;
    const std::string name = staged_path(listed.path, batch);
    if (hash_of(places_->open_to_read(name), buffer_, true) == listed.sha256) continue;
    places_->remove(name);
    one.failure =
        listed.path + " reads back from the target other than it was written; it was removed.";
  }
}

// Moves what is on the medium by now to where it belongs.
void BagWriter::put_in_place(uint64_t batch) {
  const std::string staged = staged_folder(batch);
  // Whatever happens now, any of them may be there: folders take along what is in them.
  for (Staged& one : batch_) one.placed = true;
  for (const Staged& one : batch_) {
    if (one.part.then != BagPart::Then::link && one.failure.empty()) {
      places_->place(staged, one.part.listed.path);
    }
  }
}

void BagWriter::end_flush() {
  if (!flushing_.valid()) return;
  try {
    const int error = flushing_.get();
    if (error != 0) throw TargetFailed{error};
  } catch (...) {
    // Which of the files it concerns is not told.
    discard_unflushed();
    throw;
  }
  batch_.clear();
  outcome_.failed_files.add(listed_.failed_files);
  outcome_.failed.insert(outcome_.failed.end(), listed_.failed.begin(), listed_.failed.end());
  outcome_.written.add(listed_.written);
}

// Both lists take the batch, or neither does.
void BagWriter::append_lists() {
  manifest_lines_.clear();
  exported_lines_.clear();
  BagOutcome counted;
  for (const Staged& staged : batch_) {
    const ListedFile& listed = staged.part.listed;
    if (!staged.failure.empty()) {
      counted.failed_files.add(listed.content);
      counted.failed.push_back(staged.failure);
      continue;
    }
    manifest_lines_.append(listed.sha256).append("  ").append(listed.path).append("\n");
    exported_lines_ += listed.record;
    counted.written.add(listed);
  }
  const uint64_t before = manifest_->length();
  manifest_->append(manifest_lines_);
  try {
    exported_->append(exported_lines_);
  } catch (...) {
    manifest_->take_back(before);
    throw;
  }
  listed_ = std::move(counted);
}

// Files that are not sure to be on the medium, or not in the lists, do not stay.
void BagWriter::discard_unflushed() {
  for (std::vector<Staged>* files : {&batch_, &pending_}) {
    for (const Staged& staged : *files) {
      if (staged.part.then == BagPart::Then::link && !staged.placed) continue;
      tree_->remove(staged_path(staged.part.listed.path, staged.batch));
      if (staged.placed) tree_->remove(staged.part.listed.path);
    }
    files->clear();
  }
}

// Files have made most of them. Their times come last, the innermost first.
void BagWriter::finish_folders() {
  for (const auto& [path, modified] : folders_) {
    try {
      tree_->make_folder(path);
    } catch (const TargetFailed& failure) {
      outcome_.failed.push_back(
          fmt::format("The folder {} could not be made: {}.", path, std::strerror(failure.error)));
      if (is_fatal(failure.error)) return;
    }
  }
  for (auto folder = folders_.rbegin(); folder != folders_.rend(); ++folder) {
    tree_->set_modified(folder->first, folder->second);
  }
}

void BagWriter::finish_lists(const std::string& info, FileSum payload) {
  if (!manifest_ || !exported_) return;
  std::error_code error;
  std::filesystem::remove_all(directory_ + "/" + kStagingFolder, error);
  payload.add(outcome_.written.payload);
  replace_file(tree_->root(), "bag-info.txt", with_payload_sum(info, payload));
  std::string tags = manifest_->close() + exported_->close();
  for (const char* name : {"bagit.txt", "bag-info.txt"})
    tags += TagFile(tree_->root(), name).close();
  replace_file(tree_->root(), "tagmanifest-sha256.txt", tags);
  // The last moves are to be on the medium too.
  if (::syncfs(tree_->root()) != 0) throw TargetFailed{errno};
}

}  // namespace undershelf
