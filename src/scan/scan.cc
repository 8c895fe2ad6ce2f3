#include "scan/scan.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <new>
#include <set>
#include <stdexcept>

#include "content/types.h"
#include "placing/placing.h"
#include "rating/rate_pass.h"
#include "rating/rating.h"
#include "rating/sampling.h"
#include "scan/budgeted_sink.h"
#include "scan/deep.h"
#include "scan/former_sink.h"
#include "scan/survey.h"
#include "shelf/interruptible.h"
#include "shelf/schema.h"
#include "shelf/writer.h"
#include "source/metered.h"
#include "tree/merge.h"
#include "tree/nested.h"
#include "tree/trash.h"
#include "tree/tree.h"

namespace undershelf {

namespace {

// Two living entries on the same clusters: one of the two is damaged.
void note_disputes(Shelf& shelf, const ClaimMap& claims) {
  constexpr size_t kMostTold = 100;
  SQLite::Database& db = shelf.db();
  db.exec("DELETE FROM damage WHERE volume IS NULL");
  SQLite::Statement row(db, "INSERT INTO damage VALUES(NULL, ?, ?, ?)");
  SQLite::Statement named(
      db,
      "SELECT coalesce(f.path||'/','')||e.name||' (id '||e.id||')' FROM entries e "
      "LEFT JOIN folder_paths f ON f.entry=e.parent WHERE e.id=?");
  const auto name_of = [&](int64_t entry) -> std::string {
    named.reset();
    named.bind(1, entry);
    return named.executeStep() ? named.getColumn(0).getString() : "the file system itself";
  };
  std::set<std::pair<int64_t, int64_t>> told;
  for (const Dispute& dispute : claims.disputes()) {
    if (told.size() >= kMostTold) break;
    if (!told.insert(std::minmax(dispute.first, dispute.second)).second) continue;
    row.bind(1, static_cast<int64_t>(dispute.range.offset));
    row.bind(2, static_cast<int64_t>(dispute.range.length));
    row.bind(3, fmt::format("{} and {} both claim the same clusters.", name_of(dispute.first),
                            name_of(dispute.second)));
    row.exec();
    row.reset();
  }
}

StoredRating rate_sound(uint64_t bytes) {
  Facts facts;
  facts.size = bytes;
  facts.placement = Placement::exact;
  const Verdict verdict = rate(facts, format_by_name({}));
  return {to_text(verdict.rating), verdict.score};
}

// What reading a volume may cost on a source of so many bytes. Some systems look at free clusters
// too, and at what others lead to once more; every row has some bytes of its own.
Budget::Limits limits_of_reading(uint64_t source_size) {
  constexpr uint64_t kGiB = uint64_t{1} << 30;
  const uint64_t size = std::min(source_size, UINT64_MAX / 8);  // of what may be declared sparse
  return {4 * size + kGiB, size / 8 + 1'000'000, UINT64_MAX};
}

class Scan {
 public:
  Scan(Shelf& shelf, const SourcePtr& source, const ScanOptions& options)
      : shelf_(shelf),
        budget_(options.interrupts),
        source_(source),
        metered_(std::make_shared<MeteredSource>(source, budget_)),
        options_(options) {}

  ScanResult run() {
    const bool deep = options_.depth == Depth::deep;
    const int64_t scan = shelf_.begin_scan(deep ? "deep" : "quick",
                                           options_.check == Check::none ? "none" : "sample");
    look_quickly();
    // While a sweep goes on, what the quick depth found is there to be used.
    put_together();
    if (deep && !result_.stopped) look_deeply();
    const bool done = !result_.stopped && !result_.incomplete;
    shelf_.end_scan(scan, done ? "finished" : "stopped");
    result_.damage = shelf_.damage_count();
    return result_;
  }

 private:
  void look_quickly() {
    budget_.begin({});
    try {
      survey_ = survey(metered_, options_.read, options_.name_other);
    } catch (const Stopped&) {
      result_.stopped = true;
    }
    result_.notes = survey_.layout.notes;
    for (const FoundVolume& found : survey_.volumes) {
      if (result_.stopped) break;
      Volume volume = found.reader->volume();
      options_.progress(fmt::format("Reading {} at byte {}", volume.file_system, volume.offset));
      try {
        begin_reading();
        volume.used = found.reader->used_bytes();
      } catch (const Stopped&) {
        result_.stopped = true;
        break;
      } catch (const Overspent&) {
        // How much is in use stays unknown.
      }
      VolumeWriter writer(shelf_, volume, rate_sound);
      result_.stopped = !read(*found.reader, writer);
      take(writer, *found.reader, volume);
    }
  }

  // False if the user asked to stop. One volume's failure is that volume's: others are read all the
  // same.
  bool read(VolumeReader& reader, Sink& sink) {
    const auto incomplete = [&](const std::string& why) {
      result_.incomplete = true;
      sink.add(Damage{{reader.volume().offset, 0},
                      fmt::format("It could not be read to its end: {}.", why)});
    };
    begin_reading();
    try {
      BudgetedSink budgeted(sink, budget_);
      reader.read(budgeted);
    } catch (const Stopped&) {
      return false;
    } catch (const Overspent& spent) {
      incomplete(fmt::format("its records lead to more {} than the source can hold", spent.of));
    } catch (const std::bad_alloc&) {
      incomplete("there is not enough memory");
    } catch (const std::logic_error& e) {
      incomplete(e.what());
    }
    return true;
  }

  void take(VolumeWriter& writer, VolumeReader& reader, const Volume& volume) {
    writer.finish();
    readers_.try_emplace(writer.volume_id(), &reader);
    const bool is_former = volume.standing == "former";
    former_[writer.volume_id()] = is_former;
    ++result_.volumes;
    const bool ends_late = volume.offset + volume.length > source_->size();
    result_.source_is_short = result_.source_is_short || (ends_late && !is_former);
  }

  void look_deeply() {
    budget_.begin({});
    const SweepRecord record = sweep_source(shelf_, *source_, options_, budget_);
    result_.position = record.position;
    result_.left_out = record.left_out;
    result_.stopped = !record.done();
    // What was swept is put together in any case, unless the user asks once more.
    heed_stop();
    if (!result_.stopped) options_.progress("Putting former volumes together");
    try {
      swept_ = volumes_of_sweep(shelf_, metered_, options_, present(), budget_);
    } catch (const Stopped&) {
      result_.stopped = result_.unsettled = true;
      return;
    }
    store_swept();
    result_.volumes = shelf_.volumes(false).size();
    put_together();
  }

  void store_swept() {
    SweepStore store(shelf_);
    store.begin_storing();
    std::set<int64_t> stored;
    for (const FoundBySweep& found : swept_) {
      options_.progress(fmt::format("Reading {} {} at byte {}", found.volume.standing,
                                    found.volume.file_system, found.volume.offset));
      VolumeWriter writer(shelf_, found.volume, rate_sound, ToldBy::sweep);
      bool goes_on = true;
      if (found.adds_to_current) {
        goes_on = read(*found.reader, writer);
      } else {
        FormerSink sink(writer, found.volume.standing == "former",
                        traits_of(found.volume.file_system).key_mask);
        goes_on = read(*found.reader, sink);
        sink.finish();
      }
      take(writer, *found.reader, found.volume);
      stored.insert(writer.volume_id());
      if (!goes_on) {
        // What an earlier run stored of the others stays.
        result_.stopped = true;
        return;
      }
    }
    store.end_storing(stored);
  }

  // To be asked before volumes of the sweep are stored.
  Present present() const {
    Present present{{}, survey_.held_by_others, {0}};
    std::vector<uint64_t>& found = present.starts;
    for (const Partition& partition : survey_.layout.partitions) {
      found.push_back(partition.range.offset);
    }
    for (const FoundVolume& volume : survey_.volumes) {
      found.push_back(volume.reader->volume().offset);
    }
    std::ranges::sort(found);
    found.erase(std::unique(found.begin(), found.end()), found.end());
    for (const auto& [id, reader] : readers_) {
      present.current.push_back({reader, oldest_file(shelf_, id)});
    }
    std::ranges::sort(present.current, {},
                      [](const Scene::Current& one) { return one.reader->volume().offset; });
    return present;
  }

  // What a volume's file system holds in use; over a former one, what is there now.
  ByteRange next_used(int64_t volume, const ByteRange& within) {
    budget_.step();
    const auto own = readers_.find(volume);
    if (own == readers_.end()) return {};
    if (!former_[volume]) return own->second->next_used(within);
    ByteRange nearest;
    for (const auto& [id, reader] : readers_) {
      if (former_[id]) continue;
      const ByteRange used = reader->next_used(within);
      if (used.length > 0 && (nearest.length == 0 || used.offset < nearest.offset)) nearest = used;
    }
    return nearest;
  }

  void begin_reading() {
    budget_.begin(options_.most.value_or(limits_of_reading(source_->size())));
  }

  // Once the user has asked to stop: what was found is put together, until they ask again.
  void heed_stop() {
    if (!result_.stopped) return;
    budget_.heed();
    options_.progress("Stopping: putting together what was found so far");
  }

  // The passes over the shelf; the user may ask to leave them.
  void put_together() {
    heed_stop();
    budget_.begin({});
    const Interruptible statements(shelf_, budget_);
    try {
      run_passes();
    } catch (const Stopped&) {
      result_.stopped = result_.unsettled = true;
    } catch (const std::exception& e) {
      if (!is_interruption(e)) throw;
      result_.stopped = result_.unsettled = true;
    }
  }

  void run_passes() {
    shelf_.db().exec(kIndexes);
    options_.progress("Joining names and folders");
    std::vector<int64_t> leaving;
    for (const VolumeRecord& record : shelf_.volumes(false)) {
      const Traits& traits = traits_of(record.volume.file_system);
      if (traits.leaves_entries_on_rename) leaving.push_back(record.id);
    }
    merge_twins(shelf_, leaving);
    build_tree(shelf_);
    options_.progress("Placing lost files");
    const ClaimMap claims = load_claims(shelf_);
    note_disputes(shelf_, claims);
    const NextUsed used = [this](int64_t volume, const ByteRange& within) {
      return next_used(volume, within);
    };
    place_open_streams(shelf_, claims, used,
                       options_.check == Check::none ? nullptr : metered_.get());
    mark_nested_volumes(shelf_);
    options_.progress("Reading trash folders");
    read_trash(shelf_, metered_, options_.read.zone);
    if (options_.check == Check::sample) {
      options_.progress("Looking at samples of lost files");
      sample_lost_files(shelf_, metered_);
    }
    options_.progress("Rating");
    rate_streams(shelf_, claims, used, source_->size());
  }

  Shelf& shelf_;
  Budget budget_;  // before all that reads
  const SourcePtr& source_;
  const SourcePtr metered_;  // what all but the sweep reads
  const ScanOptions& options_;
  ScanResult result_;
  Survey survey_;
  std::vector<FoundBySweep> swept_;
  std::map<int64_t, VolumeReader*> readers_;  // by volume id
  std::map<int64_t, bool> former_;            // likewise
};

}  // namespace

ScanResult scan(Shelf& shelf, const SourcePtr& source, const ScanOptions& options) {
  return Scan(shelf, source, options).run();
}

}  // namespace undershelf
