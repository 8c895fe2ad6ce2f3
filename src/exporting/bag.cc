#include "exporting/bag.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <unordered_map>

#include "exporting/apple_double.h"
#include "exporting/bag_writer.h"
#include "exporting/content.h"
#include "exporting/safe_names.h"
#include "exporting/target.h"
#include "exporting/target_file.h"
#include "model/error.h"
#include "source/hash.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

constexpr size_t kChunk = 1 << 20;       // bytes copied at a time
constexpr uint64_t kRoomPerFile = 4096;  // for the target's own accounts
constexpr uint64_t kRoomForTags = 1 << 20;
constexpr std::chrono::milliseconds kBetweenProgress{100};

class Exporter {
 public:
  Exporter(const Shelf& shelf, const SourcePtr& source, const ExportOptions& options)
      : shelf_(shelf),
        options_(options),
        opener_(shelf, source),
        target_(examine_target(options.directory)),
        paths_(target_) {}

  ExportResult run(const Selection& selection) {
    name_volumes();
    require_room(selection);
    prepare_directory();
    write_payload(selection);
    set_folder_times();
    return std::move(result_);
  }

 private:
  void name_volumes() {
    for (const VolumeRecord& record : shelf_.volumes(false)) {
      const std::string& label = record.volume.label;
      volume_folders_[record.id] =
          fmt::format("volume-{}{}{}", record.id, label.empty() ? "" : "-", label);
    }
  }

  bool is_left_out(const Row& row) const {
    return row.rating && *row.rating == "gone" && !options_.even_gone;
  }

  void require_room(const Selection& selection) {
    if (target_.most_file_bytes != 0) require_small_files(selection);
    const TotalsByLoss totals = total_rows(shelf_, selection);
    total_ = totals.others;
    if (options_.even_gone) {
      total_.rows += totals.gone.rows;
      total_.bytes += totals.gone.bytes;
    } else {
      result_.gone_left_out = totals.gone.rows;
    }
    const uint64_t needed = total_.bytes + total_.rows * kRoomPerFile + kRoomForTags;
    if (needed > target_.free_bytes && !options_.resume) {
      throw Error(Failure::refused,
                  fmt::format("The export needs {} bytes and {} has {} free. Choose another "
                              "target, or fewer files.",
                              needed, target_.where, target_.free_bytes));
    }
  }

  void require_small_files(const Selection& selection) const {
    std::string too_large;
    each_row(shelf_, selection, [&](const Row& row) {
      if (row.size.value_or(0) > target_.most_file_bytes && !is_left_out(row)) {
        too_large += fmt::format("\n  {} (id {})", row.path, row.id);
      }
      return too_large.size() < 500;
    });
    if (!too_large.empty()) {
      throw Error(Failure::refused,
                  fmt::format("The target's file system holds files of at most {} bytes. Choose "
                              "another target, or leave these out with --size ..{}:{}",
                              target_.most_file_bytes, target_.most_file_bytes, too_large));
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
    for (const char* name : {"manifest-sha256.txt.new", "exported.jsonl.new", kReserveFile,
                             "bagit.txt", "bag-info.txt", "tagmanifest-sha256.txt"}) {
      fs::remove(fs::path(options_.directory) / name, error);
    }
  }

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

  void write_payload(const Selection& selection) {
    BagWriter writer(options_.directory, resuming_, options_.read_back);
    writer.start(total_.rows);
    each_row(shelf_, selection, [&](const Row& row) {
      result_.stopped = result_.stopped || stopped();
      return !result_.stopped && (is_left_out(row) || write_row(row, writer));
    });
    BagWriter::Outcome outcome = writer.finish();
    result_.files = outcome.files;
    result_.bytes = outcome.bytes;
    result_.with_holes = outcome.with_holes;
    result_.failed = std::move(outcome.failed);
  }

  // False once the target has failed.
  bool write_row(const Row& row, BagWriter& writer) {
    const std::string wanted = payload_path(row);
    if (row.kind == "folder" && !row.stream) {
      const std::string made = "data/" + paths_.folder(wanted);
      folder_times_.emplace_back(made, row.modified);
      return make_folder(made, writer);
    }
    const std::string path = "data/" + paths_.file(wanted, row.id);
    result_.renamed += path != "data/" + wanted;
    if (auto earlier = find_earlier(row, path)) {
      BagPart part;
      part.listed = std::move(*earlier);
      part.then = BagPart::Then::kept;
      return writer.put(std::move(part));
    }
    return make_folder(path.substr(0, path.rfind('/') + 1), writer) &&
           write_file(row, path, writer);
  }

  // What an earlier export wrote, if it is still as it was written. What is not is removed, to be
  // written again.
  std::optional<ListedFile> find_earlier(const Row& row, const std::string& path) {
    if (!resuming_) return std::nullopt;
    const std::string full = options_.directory + "/" + path;
    const auto known = earlier_.find(path);
    if (known == earlier_.end() || hash_of(full, hashing_, false) != known->second.sha256) {
      ::unlink(full.c_str());
      return std::nullopt;
    }
    ListedFile listed;
    listed.path = path;
    listed.bytes = row.size.value_or(0) + head_of(row).size();
    listed.sha256 = known->second.sha256;
    listed.record = known->second.record;
    listed.has_holes = listed.record.find("\"missing\":[]") == std::string::npos;
    ++result_.kept;
    done_ += listed.bytes;
    return listed;
  }

  // `path` ends in `/`. No part of it may be a link that was laid there to lead elsewhere. False if
  // the target failed.
  bool make_folder(const std::string& path, BagWriter& writer) {
    if (path == last_folder_) return true;
    std::error_code error;
    for (size_t slash = path.find('/'); resuming_ && slash != std::string::npos;
         slash = path.find('/', slash + 1)) {
      const fs::path part = fs::path(options_.directory) / path.substr(0, slash);
      if (fs::is_symlink(fs::symlink_status(part, error))) fs::remove(part, error);
    }
    fs::create_directories(fs::path(options_.directory) / path, error);
    if (error && is_fatal(error.value())) {
      writer.fail(error.value());
      return false;
    }
    last_folder_ = path;
    return true;
  }

  // False once the target has failed.
  bool write_file(const Row& row, const std::string& path, BagWriter& writer) {
    const StreamReader stream = opener_.open(row.stream_id);
    std::vector<Hole> holes = stream.known_holes();
    const std::string head = head_of(row);
    const uint64_t size = head.size() + stream.size();
    for (uint64_t at = 0; at < size || size == 0;) {
      BagPart part;
      part.begins = at == 0;
      part.id = row.id;
      part.listed.path = path;
      if (stopped()) {
        result_.stopped = true;
        part.then = BagPart::Then::abandon;
        return at == 0 || writer.put(std::move(part));
      }
      const size_t ahead = at == 0 ? head.size() : 0;  // bytes of the head in this part
      const uint64_t from = at + ahead - head.size();  // in the stream
      part.size = ahead + std::min<uint64_t>(kChunk - ahead, stream.size() - from);
      const std::shared_ptr<std::byte[]> room = room_for(part.size);
      const std::span bytes(room.get(), part.size);
      std::ranges::copy(std::as_bytes(std::span(head).first(ahead)), bytes.begin());
      for (const Hole& hole : stream.read(from, bytes.subspan(ahead))) append_hole(holes, hole);
      part.bytes = room;
      hash_.update(bytes);
      at += part.size;
      done_ += part.size - ahead;
      show_progress();
      if (at == size) {
        part.then = BagPart::Then::complete;
        part.accessed = row.accessed;
        part.modified = row.modified;
        describe(part.listed, row, size, hash_.hex(), head.size(), holes);
        return writer.put(std::move(part));
      }
      if (!writer.put(std::move(part))) return false;
    }
    return true;
  }

  void show_progress() {
    const auto now = std::chrono::steady_clock::now();
    if (now - shown_ < kBetweenProgress) return;
    shown_ = now;
    options_.progress(done_, total_.bytes);
  }

  // Memory for a piece of a file, which the other thread gives back. It is used again, and small
  // pieces share it: to ask for it anew each time would cost as much as all else that is done for a
  // small file.
  std::shared_ptr<std::byte[]> room_for(size_t size) {
    if (!room_ || size > kChunk - room_used_) {
      room_ = free_room();
      room_used_ = 0;
    }
    std::byte* bytes = room_.get() + room_used_;
    room_used_ += size;
    return {room_, bytes};
  }

  std::shared_ptr<std::byte[]> free_room() {
    room_.reset();
    for (const auto& room : rooms_) {
      if (room.use_count() > 1) continue;
      std::atomic_thread_fence(std::memory_order_acquire);  // after the other thread's last look
      return room;
    }
    return rooms_.emplace_back(std::make_shared_for_overwrite<std::byte[]>(kChunk));
  }

  // `ahead`: bytes of the file in front of the stream, from whose start the holes count.
  static void describe(ListedFile& listed, const Row& row, uint64_t size, std::string sha256,
                       uint64_t ahead, std::vector<Hole>& holes) {
    std::ranges::sort(holes, {}, &Hole::offset);
    const auto quoted = [](const std::string& text) {
      return nlohmann::json(text).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
    };
    std::string& record = listed.record;
    record = fmt::format(R"({{"id":{},"path":{},"bytes":{},"sha256":"{}","missing":[)", row.id,
                         quoted(listed.path), size, sha256);
    const char* separator = "";
    for (const Hole& hole : holes) {
      record += fmt::format(R"({}{{"offset":{},"length":{},"why":"{}, filled with zeros"}})",
                            separator, ahead + hole.offset, hole.length, to_text(hole.why));
      separator = ",";
    }
    record += ']';
    if (row.stream) record += ",\"stream\":" + quoted(*row.stream);
    if (!listed.path.ends_with("/" + row.path)) record += ",\"true_path\":" + quoted(row.path);
    record += "}\n";
    listed.bytes = size;
    listed.sha256 = std::move(sha256);
    listed.has_holes = !holes.empty();
  }

  void set_folder_times() const {
    for (auto folder = folder_times_.rbegin(); folder != folder_times_.rend(); ++folder) {
      const timespec times[2] = {{0, UTIME_OMIT}, to_timespec(folder->second)};
      ::utimensat(AT_FDCWD, (options_.directory + "/" + folder->first).c_str(), times, 0);
    }
  }

  const Shelf& shelf_;
  const ExportOptions& options_;
  ContentOpener opener_;
  Target target_;
  PathMaker paths_;
  std::vector<std::byte> hashing_ = std::vector<std::byte>(kChunk);  // read at a time
  Sha256 hash_;                                                      // of the file being read
  std::map<int64_t, std::string> volume_folders_;
  Totals total_;
  uint64_t done_ = 0;  // bytes
  std::chrono::steady_clock::time_point shown_;
  struct Earlier {
    std::string sha256;
    std::string record;  // its line, to be written again
  };
  bool resuming_ = false;
  std::unordered_map<std::string, Earlier> earlier_;  // by path in the bag
  std::string last_folder_;
  std::vector<std::shared_ptr<std::byte[]>> rooms_;  // kChunk bytes each
  std::shared_ptr<std::byte[]> room_;                // one of them
  size_t room_used_ = 0;                             // bytes of it
  std::vector<std::pair<std::string, std::optional<Time>>> folder_times_;
  ExportResult result_;
};

}  // namespace

ExportResult export_bag(const Shelf& shelf, const SourcePtr& source, Selection selection,
                        const ExportOptions& options) {
  selection.with_contents = true;
  selection.secondary = options.forks != Forks::skip;
  // One look at the shelf, which need not be checked for changes at each file.
  const SQLite::Transaction reading(shelf.db());
  return Exporter(shelf, source, options).run(selection);
}

}  // namespace undershelf
