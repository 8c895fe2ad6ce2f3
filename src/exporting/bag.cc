#include "exporting/bag.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fcntl.h>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <unordered_map>

#include "exporting/apple_double.h"
#include "exporting/content.h"
#include "exporting/safe_names.h"
#include "exporting/target.h"
#include "exporting/target_file.h"
#include "model/error.h"
#include "source/hash.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

constexpr size_t kChunk = 1 << 20;              // bytes copied at a time
constexpr uint64_t kBytesPerFlush = 256 << 20;  // at most this much is unflushed
constexpr size_t kFilesPerFlush = 2048;         // likewise
constexpr uint64_t kRoomPerFile = 4096;         // for the target's own accounts
constexpr uint64_t kRoomForTags = 1 << 20;

struct Written {
  std::string path;  // relative to the bag
  std::string sha256;
  std::string record;  // line of exported.jsonl
  uint64_t bytes = 0;
};

class Exporter {
 public:
  Exporter(const Shelf& shelf, const SourcePtr& source, const ExportOptions& options)
      : shelf_(shelf),
        options_(options),
        opener_(shelf, source),
        target_(examine_target(options.directory)),
        paths_(target_),
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
  void choose(const Selection& selection) {
    for (const VolumeRecord& record : shelf_.volumes(false)) {
      const std::string& label = record.volume.label;
      volume_folders_[record.id] =
          fmt::format("volume-{}{}{}", record.id, label.empty() ? "" : "-", label);
    }
    each_row(shelf_, selection, [&](const Row& row) {
      if (row.stream && options_.forks == Forks::skip) return true;
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
    std::string too_large;
    for (const Row& row : chosen_) {
      if (target_.most_file_bytes == 0 || row.size.value_or(0) <= target_.most_file_bytes) continue;
      if (too_large.size() < 500) too_large += fmt::format("\n  {} (id {})", row.path, row.id);
    }
    if (!too_large.empty()) {
      throw Error(Failure::refused,
                  fmt::format("The target's file system holds files of at most {} bytes. Choose "
                              "another target, or leave these out with --size ..{}:{}",
                              target_.most_file_bytes, target_.most_file_bytes, too_large));
    }
    const uint64_t needed = total_ + chosen_.size() * kRoomPerFile + kRoomForTags;
    if (needed > target_.free_bytes && !options_.resume) {
      throw Error(Failure::refused,
                  fmt::format("The export needs {} bytes and {} has {} free. Choose another "
                              "target, or fewer files.",
                              needed, target_.where, target_.free_bytes));
    }
  }

  void prepare_directory() {
    std::error_code error;
    const fs::path directory(options_.directory);
    const bool exists = fs::exists(fs::symlink_status(directory, error));
    const bool is_folder = exists && fs::is_directory(directory, error);
    if (options_.resume && is_folder && fs::exists(directory / "exported.jsonl")) {
      load_earlier();
    } else if (exists && !(is_folder && fs::is_empty(directory, error))) {
      throw Error(Failure::refused,
                  fmt::format("{} is not an empty folder{}. Nothing is overwritten: choose a new "
                              "folder.",
                              options_.directory,
                              options_.resume ? ", nor an export that can be gone on with" : ""));
    }
    fs::create_directories(directory / "data", error);
    if (error) {
      throw Error(Failure::refused, fmt::format("The folder {} cannot be made: {}. Choose another "
                                                "target.",
                                                options_.directory, error.message()));
    }
  }

  // What an earlier export into the same folder wrote, by its own list.
  void load_earlier() {
    resuming_ = true;
    std::ifstream in(options_.directory + "/exported.jsonl");
    for (std::string line; std::getline(in, line);) {
      const auto record = nlohmann::json::parse(line, nullptr, false);
      if (!record.is_object() || !record.contains("path") || !record["path"].is_string() ||
          !record.contains("sha256") || !record["sha256"].is_string()) {
        continue;  // a line that was cut off
      }
      earlier_[record["path"]] = {record["sha256"], line + "\n"};
    }
    std::error_code error;
    for (const char* name : {"manifest-sha256.txt.new", "exported.jsonl.new", ".reserve",
                             "bagit.txt", "bag-info.txt", "tagmanifest-sha256.txt"}) {
      fs::remove(fs::path(options_.directory) / name, error);
    }
  }

  // The lists grow with each flush, so that an export that is killed leaves them too. Room for them
  // is held from the start, so that a target that fills up can still take them.
  void start_lists() {
    manifest_.emplace(options_.directory, "manifest-sha256.txt", resuming_);
    exported_.emplace(options_.directory, "exported.jsonl", resuming_);
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

  bool is_double(const Row& row) const {
    return options_.forks == Forks::in_double && row.stream && *row.stream == "resource-fork";
  }

  // What is written in front of a row's content.
  std::string head_of(const Row& row) const {
    if (!is_double(row)) return {};
    SQLite::Statement finder(shelf_.db(), "SELECT finder_info FROM entries WHERE id=?");
    finder.bind(1, row.id);
    return apple_double_head(finder.executeStep() ? finder.getColumn(0).getString() : "",
                             row.size.value_or(0));
  }

  // The path of a row in the shelf, below a folder for its volume.
  std::string payload_path(const Row& row) const {
    const auto volume = row.volume ? volume_folders_.find(*row.volume) : volume_folders_.end();
    std::string path = row.path;
    if (is_double(row)) {
      path = apple_double_path(path.substr(0, path.size() - row.stream->size() - 1));
    }
    if (options_.original_paths && row.original_path) {
      path = *row.original_path + (row.stream ? ":" + *row.stream : "");
    }
    return fmt::format("{}/{}", volume == volume_folders_.end() ? "carved" : volume->second, path);
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
      if (!keep_earlier(row, path)) {
        make_folder(path.substr(0, path.rfind('/') + 1));
        write_file(row, path);
      }
      if (pending_.size() >= kFilesPerFlush || pending_bytes_ >= kBytesPerFlush) flush();
    }
    flush();
  }

  // Whether an earlier export wrote the file, and it is still as it was written. What is not is
  // removed, to be written again.
  bool keep_earlier(const Row& row, const std::string& path) {
    if (!resuming_) return false;
    const std::string full = options_.directory + "/" + path;
    const auto known = earlier_.find(path);
    if (known == earlier_.end() || hash_of(full, buffer_, false) != known->second.sha256) {
      ::unlink(full.c_str());
      return false;
    }
    Written written;
    written.path = path;
    written.bytes = row.size.value_or(0) + head_of(row).size();
    written.sha256 = known->second.sha256;
    written.record = known->second.record;
    result_.with_holes += written.record.find("\"missing\":[]") == std::string::npos;
    ++result_.kept;
    done_ += written.bytes;
    pending_.push_back(std::move(written));
    return true;
  }

  // `path` ends in `/`. No part of it may be a link that was laid there to lead elsewhere.
  void make_folder(const std::string& path) {
    if (path == last_folder_) return;
    std::error_code error;
    for (size_t slash = path.find('/'); resuming_ && slash != std::string::npos;
         slash = path.find('/', slash + 1)) {
      const fs::path part = fs::path(options_.directory) / path.substr(0, slash);
      if (fs::is_symlink(fs::symlink_status(part, error))) fs::remove(part, error);
    }
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
    const std::string head = head_of(row);
    const auto head_bytes = std::as_bytes(std::span(head));
    if (!write_sparsely(file, head_bytes)) return std::nullopt;
    hash.update(head_bytes);
    for (uint64_t at = 0; at < stream.size();) {
      if (stopped()) {
        errno = EINTR;
        return std::nullopt;
      }
      const auto chunk = std::span(buffer_).first(std::min<uint64_t>(kChunk, stream.size() - at));
      for (const Hole& hole : stream.read(at, chunk)) append_hole(holes, hole);
      if (!write_sparsely(file, chunk)) return std::nullopt;
      hash.update(chunk);
      at += chunk.size();
      done_ += chunk.size();
      options_.progress(done_, total_);
    }
    // It may end in a hole.
    const uint64_t size = head.size() + stream.size();
    if (size >= kHoleBlock && ::ftruncate(file, static_cast<off_t>(size)) != 0) return std::nullopt;
    std::ranges::sort(holes, {}, &Hole::offset);
    result_.with_holes += !holes.empty();
    Written written;
    written.path = path;
    written.bytes = size;
    written.sha256 = hash.hex();
    nlohmann::ordered_json record = {{"id", row.id},
                                     {"path", path},
                                     {"bytes", size},
                                     {"sha256", written.sha256},
                                     {"missing", nlohmann::ordered_json::array()}};
    if (row.stream) record["stream"] = *row.stream;
    if (!path.ends_with("/" + row.path)) record["true_path"] = row.path;
    for (const Hole& hole : holes) {
      record["missing"].push_back(
          {{"offset", head.size() + hole.offset},
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
      if (options_.read_back &&
          hash_of(options_.directory + "/" + written.path, buffer_, true) != written.sha256) {
        ::unlink((options_.directory + "/" + written.path).c_str());
        result_.failed.push_back(
            fmt::format("{} reads back from the target other than it was written; it was removed.",
                        written.path));
        continue;
      }
      manifest += fmt::format("{}  {}\n", written.sha256, written.path);
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
  Target target_;
  PathMaker paths_;
  std::vector<std::byte> buffer_;
  std::map<int64_t, std::string> volume_folders_;
  std::vector<Row> chosen_;
  uint64_t total_ = 0;
  uint64_t done_ = 0;
  struct Earlier {
    std::string sha256;
    std::string record;  // its line, to be written again
  };
  bool resuming_ = false;
  std::unordered_map<std::string, Earlier> earlier_;  // by path in the bag
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
  // One look at the shelf, which need not be checked for changes at each file.
  const SQLite::Transaction reading(shelf.db());
  return Exporter(shelf, source, options).run(selection);
}

}  // namespace undershelf
