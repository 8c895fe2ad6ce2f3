#include "exporting/bag.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fcntl.h>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstring>
#include <ctime>
#include <filesystem>
#include <map>
#include <unordered_map>
#include <unordered_set>

#include "access/apple_double.h"
#include "access/content.h"
#include "access/written_paths.h"
#include "exporting/archive_writer.h"
#include "exporting/bag_head.h"
#include "exporting/bag_writer.h"
#include "exporting/buffers.h"
#include "exporting/earlier_bag.h"
#include "exporting/iso_writer.h"
#include "exporting/plan.h"
#include "exporting/target.h"
#include "model/error.h"
#include "shelf/line.h"
#include "shelf/rows.h"
#include "source/hash.h"
#include "stream/unpacker.h"

namespace undershelf {
namespace {

constexpr size_t kChunk = 1 << 20;  // bytes copied at a time
constexpr std::chrono::milliseconds kBetweenProgress{100};

class Exporter {
 public:
  Exporter(const Shelf& shelf, const SourcePtr& source, const ExportOptions& options)
      : shelf_(shelf),
        options_(options),
        spaces_(shelf, source),
        opener_(shelf, spaces_),
        target_(options.archive ? examine_archive_target(options.to, *options.archive)
                                : examine_target(options.to)),
        path_rules_{target_.names, options.layout, options.original_paths,
                    options.forks == Forks::in_double} {}

  ExportResult run(const Selection& selection) {
    ExportPlan plan;
    paths_.emplace(shelf_, selection, path_rules_,
                   [&](const Row& row) { add_to_plan(plan, row, options_, target_); });
    settle_plan(plan, shelf_, selection, options_, target_);
    if (!options_.resume) require_room(plan, target_);
    wanted_ = plan.wanted;
    result_.selected = plan.selected;
    result_.gone = plan.gone;
    result_.too_large = plan.too_large;
    result_.failures = plan.refused;
    result_.room = plan.room() * static_cast<uint64_t>(target_.times_the_room);
    result_.free = target_.free_bytes;
    if (options_.archive) {
      require_new_archive(options_.to);
    } else if (options_.dry_run) {
      require_usable_folder(options_);
    }
    if (options_.dry_run) return foresee(selection);
    find_linked();
    try {
      write_payload(selection, *make_sink(selection));
    } catch (const TargetFailed& failure) {
      throw Error(Failure::refused,
                  fmt::format("{} cannot be written to: {}. Choose another target.", options_.to,
                              std::strerror(failure.error)));
    }
    return std::move(result_);
  }

 private:
  // Entries whose content has several names: their first one takes the content.
  void find_linked() {
    SQLite::Statement row(shelf_.db(), "SELECT DISTINCT entry FROM names WHERE kind='link'");
    while (row.executeStep()) linked_.insert(id_of<EntryId>(row.getColumn(0)));
  }

  // Throws Error (refused), TargetFailed.
  std::unique_ptr<BagSink> make_sink(const Selection& selection) {
    if (options_.archive == ArchiveForm::iso) return std::make_unique<IsoWriter>(options_.to);
    if (options_.archive) return std::make_unique<ArchiveWriter>(options_.to, *options_.archive);
    Unpacker::shared().start();  // before the writer's thread
    std::optional<std::map<BagKey, std::string>> proven;
    const auto is_still_right = [&](const BagKey& key, const ListedFile& listed) {
      if (!proven) proven = proven_records(selection);
      const auto now = proven->find(key);
      return now != proven->end() && now->second == listed.record;
    };
    prepare_bag(shelf_, options_, started_, earlier_, is_still_right, [&](uint64_t bytes) {
      done_ += bytes;
      show_progress();
    });
    done_ = 0;
    if (options_.unique) {
      for (const auto& [key, kept] : earlier_.files()) {
        if (!kept.has_gaps && !kept.changed)
          contents_[kept.sha256] = {kept.path, kept.sha256, {}, kept.bytes, false};
      }
    }
    TargetTree(options_.to).make_folder("data");
    return std::make_unique<BagWriter>(options_.to, options_.read_back);
  }

  // What the list would say of each file whose bytes the shelf knows, by what it is known again in
  // a bag.
  std::map<BagKey, std::string> proven_records(const Selection& selection) {
    std::map<BagKey, std::string> proven;
    each_row(shelf_, selection, [&](const Row& row) {
      if (row.is_folder() || !is_written(row) || !can_share_content(row)) return true;
      const std::string path = "data/" + paths_->of(row, paths_->true_path(row));
      proven.emplace(BagKey{row.id, row.stream.value_or(""), path},
                     describe(row, path, *row.size, *row.sha256, 0, {}, false).record);
      return true;
    });
    return proven;
  }

  bool is_written(const Row& row) const {
    if (row.is_folder()) return options_.layout == FolderLayout::tree;
    return !is_left_out_as_gone(row, options_) && !is_too_large(row, target_);
  }

  // What would be written, by what the shelf knows.
  ExportResult foresee(const Selection& selection) {
    each_row(shelf_, selection, [&](const Row& row) {
      if (row.is_folder() || !is_written(row)) return true;
      (row.size && row.intact_bytes == row.size ? result_.full : result_.with_gaps)
          .add(row.size.value_or(0));
      const std::string wanted = paths_->true_path(row);
      note_name(row, wanted, "data/" + paths_->of(row, wanted));
      return true;
    });
    return std::move(result_);
  }

  // `wanted`: its true path.
  void note_name(const Row& row, const std::string& wanted, const std::string& path) {
    const size_t slash = wanted.find('/');  // behind the volume's folder, whose name is ours
    if (path.ends_with(slash == std::string::npos ? '/' + wanted : wanted.substr(slash))) return;
    ++result_.renamed;
    if (options_.dry_run) result_.renames.push_back(fmt::format("{} -> {}", row.path, path));
  }

  bool stopped() const { return options_.interrupts != nullptr && *options_.interrupts > 0; }

  // Folder by folder; in the order that was asked for, if one was.
  void write_payload(Selection selection, BagSink& writer) {
    selection.by_folder = selection.sort.empty() && !selection.limit;
    writer.start(wanted_.files);
    each_row(shelf_, selection, [&](const Row& row) {
      result_.stopped = result_.stopped || stopped();
      if (result_.stopped) return false;
      return !is_written(row) || write_row(row, writer);
    });
    BagOutcome outcome = writer.finish(bag_info(shelf_, options_, started_), kept_.payload);
    outcome.written.add(kept_);
    result_.full = outcome.written.full;
    result_.with_gaps = outcome.written.with_gaps;
    result_.changed = outcome.written.changed;
    result_.kept = kept_.payload.files;
    result_.failed = outcome.failed_files;
    // What is in no other sum was not reached.
    const auto rest = [&](uint64_t FileSum::*of) {
      uint64_t told = 0;
      for (const FileSum& sum : {result_.full, result_.with_gaps, result_.changed, result_.gone,
                                 result_.too_large, result_.failed}) {
        told += sum.*of;
      }
      return result_.selected.*of - std::min(result_.selected.*of, told);
    };
    result_.not_reached = {rest(&FileSum::files), rest(&FileSum::bytes)};
    std::ranges::move(outcome.failed, std::back_inserter(result_.failures));
  }

  static BagPart part_of(const Row& row, const std::string& path) {
    BagPart part;
    part.id = row.id;
    part.created = row.created;
    part.accessed = row.accessed;
    part.modified = row.modified;
    part.listed.path = path;
    return part;
  }

  // False once the target has failed.
  bool write_row(const Row& row, BagSink& writer) {
    const std::string wanted = paths_->true_path(row);
    const std::string path = "data/" + paths_->of(row, wanted);
    if (row.is_folder()) {
      BagPart folder = part_of(row, path);
      folder.then = BagPart::Then::folder;
      return writer.put(std::move(folder));
    }
    note_name(row, wanted, path);
    const ListedFile* const earlier = earlier_.find({row.id, row.stream.value_or(""), path});
    if (earlier != nullptr) {
      keep(*earlier, row);
      return true;
    }
    if (!writer.has_links()) return write_file(row, path, writer);
    const auto first = written_.find(row.stream_id);
    if (first != written_.end()) return write_link(row, path, first->second, writer);
    if (options_.unique && can_share_content(row) && !is_double(row, path_rules_)) {
      const auto same = contents_.find(*row.sha256);
      if (same != contents_.end()) return write_link(row, path, same->second, writer);
    }
    return write_file(row, path, writer);
  }

  // What an earlier run wrote, and lists already.
  void keep(const ListedFile& earlier, const Row& row) {
    ListedFile kept = earlier;
    kept.content = row.size.value_or(0);
    kept_.add(kept);
    done_ += row.size.value_or(0);
    // Which bytes it lacks is not read back: a further name of a file with gaps is written out, so
    // that the list says what that one lacks.
    if (linked_.contains(row.id) && !earlier.has_gaps && !earlier.changed) {
      written_[row.stream_id] = {earlier.path, earlier.sha256, {}, earlier.bytes, false};
    }
  }

  void remember_content(const Row& row, const std::string& path, const std::string& sha256,
                        uint64_t size) {
    if (!options_.unique || !can_share_content(row) || *row.sha256 != sha256) return;
    contents_[sha256] = {path, sha256, {}, size, false};
  }

  // What was written of a stream whose entry has several names.
  struct Written {
    std::string path, sha256;
    Losses losses;
    uint64_t bytes = 0;
    bool changed = false;
  };

  bool write_link(const Row& row, const std::string& path, const Written& first, BagSink& writer) {
    BagPart part = part_of(row, path);
    part.then = BagPart::Then::link;
    part.link_to = first.path;
    part.listed = describe(row, path, first.bytes, first.sha256, 0, first.losses, first.changed);
    done_ += row.size.value_or(0);
    return writer.put(std::move(part));
  }

  // False once the target has failed.
  bool write_file(const Row& row, const std::string& path, BagSink& writer) {
    const StreamReader stream = opener_.open(row.stream_id, row.volume);
    Losses losses;  // that turn up in reading
    const std::string head = is_double(row, path_rules_)
                                 ? apple_double_head_of(shelf_, row.id, row.size.value_or(0))
                                 : "";
    const uint64_t size = head.size() + stream.size();
    for (uint64_t at = 0; at < size || size == 0;) {
      BagPart part = part_of(row, path);
      part.begins = at == 0;
      part.listed.bytes = size;
      part.listed.content = row.size.value_or(0);
      if (stopped() && (at == 0 || writer.can_abandon())) {
        result_.stopped = true;
        part.then = BagPart::Then::abandon;
        return at == 0 || writer.put(std::move(part));
      }
      const size_t ahead = at == 0 ? head.size() : 0;  // bytes of the head in this part
      const uint64_t from = at + ahead - head.size();  // in the stream
      part.size = ahead + std::min<uint64_t>(kChunk - ahead, stream.size() - from);
      const std::shared_ptr<std::byte[]> room = buffers_.take(part.size);
      const std::span bytes(room.get(), part.size);
      std::ranges::copy(std::as_bytes(std::span(head).first(ahead)), bytes.begin());
      for (const Loss& loss : stream.read(from, bytes.subspan(ahead))) append_loss(losses, loss);
      part.bytes = room;
      hash_.update(bytes);
      if (!head.empty()) content_hash_.update(bytes.subspan(ahead));
      at += part.size;
      done_ += part.size - ahead;
      show_progress();
      if (at == size) {
        part.then = BagPart::Then::complete;
        finish_file(row, path, size, head.size(), stream, std::move(losses), part);
        return writer.put(std::move(part));
      }
      if (!writer.put(std::move(part))) return false;
    }
    return true;
  }

  void finish_file(const Row& row, const std::string& path, uint64_t size, uint64_t ahead,
                   const StreamReader& stream, Losses found, BagPart& part) {
    for (const Loss& known : stream.known_losses()) {
      // What could not be read once may be read by now; then it is no loss.
      if (!is_met_in_reading(known.cause)) found.push_back(known);
    }
    found = settled(found, stream.size());
    const std::string sha256 = hash_.hex();
    const std::string content_sha256 = ahead == 0 ? sha256 : content_hash_.hex();
    const bool changed = found.empty() && row.sha256 && *row.sha256 != content_sha256;
    part.listed = describe(row, path, size, sha256, ahead, found, changed);
    if (changed) {
      result_.failures.push_back(
          fmt::format("{} (id {}) is not what the scan read: the source gives other bytes now.",
                      row.path, row.id));
    }
    if (found.empty() && ahead == 0) remember_content(row, path, sha256, size);
    if (linked_.contains(row.id)) {
      written_[row.stream_id] = {path, sha256, std::move(found), size, changed};
    }
  }

  void show_progress() {
    const auto now = std::chrono::steady_clock::now();
    if (now - shown_ < kBetweenProgress) return;
    shown_ = now;
    options_.progress(done_, wanted_.bytes);
  }

  // `ahead`: bytes of the file in front of the stream, from whose start the losses count.
  ListedFile describe(const Row& row, const std::string& path, uint64_t size,
                      const std::string& sha256, uint64_t ahead, const Losses& losses,
                      bool changed) {
    ListedFile listed{path,   sha256, {}, size, row.size.value_or(0), !losses.empty() || !row.size,
                      changed};
    std::string missing = "[";
    if (!row.size) {
      missing += R"({"offset":0,"length":null,"why":"unknown: nothing tells the file's size"})";
    }
    for (const Loss& loss : losses) {
      missing += fmt::format(R"({}{{"offset":{},"length":{},"why":"{}, filled with {}"}})",
                             missing.size() > 1 ? "," : "", ahead + loss.offset, loss.length,
                             why_of(loss.cause),
                             is_zero_filled(loss.cause) ? "zeros" : "what is there now");
    }
    missing += ']';
    line_.begin();
    add_fields(line_, row, sha256);
    line_.text("written", path);
    line_.number("bytes", static_cast<int64_t>(size));
    line_.raw("missing", missing);
    line_.boolean("changed", changed);
    listed.record = line_.end();
    return listed;
  }

  const Shelf& shelf_;
  const ExportOptions& options_;
  const std::time_t started_ = std::time(nullptr);
  Spaces spaces_;
  ContentOpener opener_;
  Target target_;
  PathRules path_rules_;
  std::optional<WrittenPaths> paths_;
  Line line_{Line::Form::json};
  Sha256 hash_;                                        // of the file being read,
  Sha256 content_hash_;                                // and without the head, if it has one
  std::unordered_set<EntryId> linked_;                 // entries with further hard links
  std::unordered_map<StreamId, Written> written_;      // by stream, of those entries
  std::unordered_map<std::string, Written> contents_;  // by hash, if each is written once
  FileSum wanted_;     // what is to be written; the bytes once for each content
  uint64_t done_ = 0;  // bytes
  std::chrono::steady_clock::time_point shown_;
  EarlierBag earlier_;
  WrittenSums kept_;  // of an earlier run
  Buffers buffers_{kChunk};
  ExportResult result_;
};

}  // namespace

ExportResult export_bag(const Shelf& shelf, const SourcePtr& source, Selection selection,
                        const ExportOptions& options) {
  selection.secondary = options.forks != Forks::skip;
  // One look at the shelf, which need not be checked for changes at each file.
  const SQLite::Transaction reading(shelf.db());
  return Exporter(shelf, source, options).run(selection);
}

}  // namespace undershelf
