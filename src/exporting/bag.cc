#include "exporting/bag.h"

#include <fcntl.h>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>

#include "exporting/content.h"
#include "exporting/safe_names.h"
#include "model/error.h"
#include "source/hash.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

constexpr size_t kChunk = 1 << 20;              // bytes copied at a time
constexpr uint64_t kBytesPerFlush = 256 << 20;  // at most this much is unflushed
constexpr size_t kFilesPerFlush = 512;          // likewise
constexpr uint64_t kRoomPerFile = 4096;         // for the target's own accounts
constexpr uint64_t kRoomForTags = 1 << 20;

// A file descriptor that closes itself.
class Descriptor {
 public:
  explicit Descriptor(int fd) : fd_(fd) {}
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  int get() const { return fd_; }
  bool ok() const { return fd_ >= 0; }

 private:
  int fd_;
};

// The target itself failed; nothing more can be written to it.
struct TargetFailed {
  int error;
};

bool is_fatal(int error) {
  return error == ENOSPC || error == EDQUOT || error == EROFS || error == EIO || error == ENODEV;
}

bool write_all(int fd, const void* data, size_t size) {
  const auto* bytes = static_cast<const char*>(data);
  while (size > 0) {
    const ssize_t n = ::write(fd, bytes, size);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return false;
    bytes += n;
    size -= static_cast<size_t>(n);
  }
  return true;
}

timespec to_timespec(const std::optional<Time>& time) {
  if (!time) return {0, UTIME_OMIT};
  int64_t seconds = time->ticks / kTicksPerSecond;
  int64_t fraction = time->ticks % kTicksPerSecond;
  if (fraction < 0) {
    fraction += kTicksPerSecond;
    --seconds;
  }
  return {seconds, fraction * 100};
}

// A text file of the bag, made new, that is on the medium when close() returns.
class TagFile {
 public:
  TagFile(const std::string& directory, std::string name)
      : name_(std::move(name)),
        file_(::open((directory + "/" + name_).c_str(),
                     O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666)) {
    if (!file_.ok()) throw TargetFailed{errno};
  }
  void write(std::string_view text) {
    if (!write_all(file_.get(), text.data(), text.size())) throw TargetFailed{errno};
    hash_.update(std::as_bytes(std::span(text)));
  }
  // Flushes, and returns the line for the tag manifest.
  std::string close() {
    if (::fsync(file_.get()) != 0) throw TargetFailed{errno};
    return fmt::format("{}  {}\n", hash_.hex(), name_);
  }

 private:
  std::string name_;
  Descriptor file_;
  Sha256 hash_;
};

struct Written {
  std::string path;      // relative to the bag
  std::string manifest;  // line of the manifest
  std::string record;    // line of exported.jsonl
  uint64_t bytes = 0;
};

class Exporter {
 public:
  Exporter(const Shelf& shelf, const SourcePtr& source, const ExportOptions& options)
      : shelf_(shelf),
        options_(options),
        opener_(shelf, source),
        paths_(most_name_bytes(options.directory)),
        buffer_(kChunk) {}

  ExportResult run(const Selection& selection) {
    choose(selection);
    require_room();
    prepare_directory();
    try {
      start_lists();
      write_payload();
    } catch (const TargetFailed& failure) {
      result_.failed.push_back(fmt::format("The target failed: {}. What was done before is kept.",
                                           std::strerror(failure.error)));
    }
    release_reserve();
    try {
      flush();
      finish_lists();
    } catch (const TargetFailed& failure) {
      discard_pending();
      result_.failed.push_back(fmt::format("The bag's own lists could not be completed: {}.",
                                           std::strerror(failure.error)));
    }
    set_folder_times();
    return std::move(result_);
  }

 private:
  // The longest name the target's file system takes, in bytes.
  static size_t most_name_bytes(const std::string& directory) {
    fs::path at = fs::absolute(directory);
    while (!fs::exists(at) && at.has_relative_path()) at = at.parent_path();
    const long most = ::pathconf(at.c_str(), _PC_NAME_MAX);
    return most > 0 ? static_cast<size_t>(most) : 255;
  }

  void choose(const Selection& selection) {
    for (const VolumeRecord& record : shelf_.volumes()) {
      const std::string& label = record.volume.label;
      volume_folders_[record.id] =
          fmt::format("volume-{}{}{}", record.id, label.empty() ? "" : "-", label);
    }
    each_row(shelf_, selection, [&](const Row& row) {
      if (row.rating && *row.rating == "gone" && !options_.even_gone) {
        ++result_.gone_left_out;
      } else {
        total_ += row.size.value_or(0);
        chosen_.push_back(row);
      }
      return true;
    });
  }

  void require_room() const {
    fs::path at = fs::absolute(options_.directory);
    while (!fs::exists(at) && at.has_relative_path()) at = at.parent_path();
    struct statvfs room {};
    if (::statvfs(at.c_str(), &room) != 0) return;
    const uint64_t free = uint64_t{room.f_bavail} * room.f_frsize;
    const uint64_t needed = total_ + chosen_.size() * kRoomPerFile + kRoomForTags;
    if (needed > free) {
      throw Error(Failure::refused,
                  fmt::format("The export needs {} bytes and {} has {} free. Choose another "
                              "target, or fewer files.",
                              needed, at.string(), free));
    }
  }

  void prepare_directory() {
    std::error_code error;
    const fs::path directory(options_.directory);
    if (fs::exists(fs::symlink_status(directory, error))) {
      if (!fs::is_directory(directory, error) || !fs::is_empty(directory, error)) {
        throw Error(Failure::refused,
                    fmt::format("{} is not an empty folder. Nothing is overwritten: choose a new "
                                "folder.",
                                options_.directory));
      }
    }
    fs::create_directories(directory / "data", error);
    if (error) {
      throw Error(Failure::refused, fmt::format("The folder {} cannot be made: {}. Choose another "
                                                "target.",
                                                options_.directory, error.message()));
    }
  }

  // The lists grow with each flush, so that an export that is killed leaves them too. Room for them
  // is held from the start, so that a target that fills up can still take them.
  void start_lists() {
    manifest_.emplace(options_.directory, "manifest-sha256.txt");
    exported_.emplace(options_.directory, "exported.jsonl");
    const Descriptor reserve(
        ::open(reserve_path().c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666));
    if (!reserve.ok()) throw TargetFailed{errno};
    const auto size = static_cast<off_t>(kRoomForTags / 4 + chosen_.size() * kRoomPerFile / 4);
    if (const int error = ::posix_fallocate(reserve.get(), 0, size); error == ENOSPC) {
      throw TargetFailed{error};
    }
  }
  std::string reserve_path() const { return options_.directory + "/.reserve"; }
  void release_reserve() const { ::unlink(reserve_path().c_str()); }

  bool stopped() const { return options_.stop != nullptr && options_.stop->load(); }

  // The path of a row in the shelf, below a folder for its volume.
  std::string payload_path(const Row& row) const {
    const auto volume = row.volume ? volume_folders_.find(*row.volume) : volume_folders_.end();
    return fmt::format("{}/{}", volume == volume_folders_.end() ? "carved" : volume->second,
                       row.path);
  }

  void write_payload() {
    for (const Row& row : chosen_) {
      if (stopped()) {
        result_.stopped = true;
        break;
      }
      const std::string wanted = payload_path(row);
      if (row.kind == "folder" && !row.stream) {
        const std::string made = "data/" + paths_.folder(wanted);
        make_folder(made);
        folder_times_.emplace_back(made, row.modified);
        continue;
      }
      const std::string path = "data/" + paths_.file(wanted, row.id);
      result_.renamed += path != "data/" + wanted;
      make_folder(path.substr(0, path.rfind('/') + 1));
      write_file(row, path);
      if (pending_.size() >= kFilesPerFlush || pending_bytes_ >= kBytesPerFlush) flush();
    }
    flush();
  }

  // `path` ends in `/`. Every part is made by us, so that no link can lead elsewhere.
  void make_folder(const std::string& path) {
    if (path == last_folder_) return;
    std::error_code error;
    fs::create_directories(fs::path(options_.directory) / path, error);
    if (error && is_fatal(error.value())) throw TargetFailed{error.value()};
    last_folder_ = path;
  }

  void write_file(const Row& row, const std::string& path) {
    const std::string full = options_.directory + "/" + path;
    const Descriptor file(
        ::open(full.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666));
    int error = file.ok() ? 0 : errno;
    if (file.ok()) {
      if (auto written = copy(row, path, file.get())) {
        const timespec times[2] = {to_timespec(row.accessed), to_timespec(row.modified)};
        ::futimens(file.get(), times);
        pending_bytes_ += written->bytes;
        pending_.push_back(std::move(*written));
        return;
      }
      error = errno;
      ::unlink(full.c_str());
      if (stopped()) return;
    }
    if (is_fatal(error)) throw TargetFailed{error};
    result_.failed.push_back(fmt::format("{} (id {}) could not be written: {}.", row.path, row.id,
                                         std::strerror(error)));
  }

  // Nothing if it was stopped, or could not be written (errno says why).
  std::optional<Written> copy(const Row& row, const std::string& path, int file) {
    const StreamReader stream = opener_.open(row.stream_id);
    std::vector<Hole> holes = stream.known_holes();
    Sha256 hash;
    for (uint64_t at = 0; at < stream.size();) {
      if (stopped()) {
        errno = EINTR;
        return std::nullopt;
      }
      const auto chunk = std::span(buffer_).first(std::min<uint64_t>(kChunk, stream.size() - at));
      for (const Hole& hole : stream.read(at, chunk)) append_hole(holes, hole);
      if (!write_all(file, chunk.data(), chunk.size())) return std::nullopt;
      hash.update(chunk);
      at += chunk.size();
      done_ += chunk.size();
      options_.progress(done_, total_);
    }
    std::ranges::sort(holes, {}, &Hole::offset);
    result_.with_holes += !holes.empty();
    Written written;
    written.path = path;
    written.bytes = stream.size();
    const std::string digest = hash.hex();
    written.manifest = fmt::format("{}  {}\n", digest, path);
    nlohmann::ordered_json record = {{"id", row.id},
                                     {"path", path},
                                     {"bytes", stream.size()},
                                     {"sha256", digest},
                                     {"missing", nlohmann::ordered_json::array()}};
    for (const Hole& hole : holes) {
      record["missing"].push_back(
          {{"offset", hole.offset},
           {"length", hole.length},
           {"why", fmt::format("{}, filled with zeros", to_text(hole.why))}});
    }
    written.record =
        record.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace) + "\n";
    return written;
  }

  // Files count as done only when the medium has them.
  void flush() {
    if (pending_.empty()) return;
    const Descriptor directory(
        ::open(options_.directory.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (!directory.ok() || ::syncfs(directory.get()) != 0) throw TargetFailed{errno};
    std::string manifest;
    std::string exported;
    for (const Written& written : pending_) {
      manifest += written.manifest;
      exported += written.record;
      result_.bytes += written.bytes;
      ++result_.files;
    }
    manifest_->write(manifest);
    exported_->write(exported);
    pending_.clear();
    pending_bytes_ = 0;
  }

  // Files that were written but are not sure to be on the medium do not stay.
  void discard_pending() {
    for (const Written& written : pending_) {
      ::unlink((options_.directory + "/" + written.path).c_str());
    }
    pending_.clear();
  }

  void set_folder_times() const {
    for (auto folder = folder_times_.rbegin(); folder != folder_times_.rend(); ++folder) {
      const timespec times[2] = {{0, UTIME_OMIT}, to_timespec(folder->second)};
      ::utimensat(AT_FDCWD, (options_.directory + "/" + folder->first).c_str(), times, 0);
    }
  }

  void finish_lists() {
    if (!manifest_ || !exported_) return;
    std::string tags = manifest_->close() + exported_->close();
    TagFile declaration(options_.directory, "bagit.txt");
    declaration.write("BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n");
    tags += declaration.close();
    TagFile info(options_.directory, "bag-info.txt");
    info.write(fmt::format(
        "Bag-Software-Agent: undershelf {}\nBagging-Date: {:%Y-%m-%d}\n"
        "Payload-Oxum: {}.{}\n",
        UNDERSHELF_VERSION, fmt::gmtime(std::time(nullptr)), result_.bytes, result_.files));
    tags += info.close();
    TagFile list(options_.directory, "tagmanifest-sha256.txt");
    list.write(tags);
    list.close();
  }

  const Shelf& shelf_;
  const ExportOptions& options_;
  ContentOpener opener_;
  PathMaker paths_;
  std::vector<std::byte> buffer_;
  std::map<int64_t, std::string> volume_folders_;
  std::vector<Row> chosen_;
  uint64_t total_ = 0;
  uint64_t done_ = 0;
  std::string last_folder_;
  std::optional<TagFile> manifest_, exported_;
  std::vector<Written> pending_;  // written, not yet flushed
  uint64_t pending_bytes_ = 0;
  std::vector<std::pair<std::string, std::optional<Time>>> folder_times_;
  ExportResult result_;
};

}  // namespace

ExportResult export_bag(const Shelf& shelf, const SourcePtr& source, Selection selection,
                        const ExportOptions& options) {
  selection.with_contents = true;
  return Exporter(shelf, source, options).run(selection);
}

}  // namespace undershelf
