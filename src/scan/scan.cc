#include "scan/scan.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <new>
#include <set>
#include <stdexcept>

#include "access/spaces.h"
#include "content/types.h"
#include "model/make_set.h"
#include "model/text.h"
#include "placing/joining.h"
#include "placing/placing.h"
#include "rating/rate_pass.h"
#include "rating/rating.h"
#include "rating/sampling.h"
#include "scan/budgeted_sink.h"
#include "scan/check_files.h"
#include "scan/deep.h"
#include "scan/disputes.h"
#include "scan/former_sink.h"
#include "scan/images.h"
#include "scan/needed.h"
#include "scan/survey.h"
#include "scan/volumes_with.h"
#include "shelf/interruptible.h"
#include "shelf/schema.h"
#include "shelf/traces.h"
#include "shelf/writer.h"
#include "source/container.h"
#include "tree/merge.h"
#include "tree/nested.h"
#include "tree/trash.h"
#include "tree/tree.h"

namespace undershelf {

namespace {

StoredRating rate_sound(uint64_t bytes) {
  Facts facts;
  facts.size = bytes;
  facts.placement = Placement::exact;
  const Verdict verdict = rate(facts, format_by_name({}));
  return {to_text(verdict.rating), verdict.score};
}

constexpr size_t kMostImages = 1000;  // looked into
constexpr int kMostNested = 4;        // images inside each other: one may hold itself

class Scan {
 public:
  Scan(Shelf& shelf, const SourcePtr& source, const ScanOptions& options)
      : shelf_(shelf),
        budget_(options.interrupts),
        source_(source),
        spaces_(shelf, source, &budget_),
        options_(options) {}

  ScanResult run() {
    const bool deep = options_.depth == Depth::deep;
    // A narrower look than the depth has by itself is not all: the same call without its limits
    // adds.
    const bool narrower = !options_.kinds.empty() || (deep && !options_.carve);
    const Check told = narrower ? std::min(options_.check, Check::sample) : options_.check;
    const uint64_t gaps = gaps_length(*source_);
    const std::vector<ScanRecord> scans = shelf_.scans();
    if (!scans.empty() && scans.back().gaps > gaps) SweepStore(shelf_).begin_anew();
    const int64_t scan =
        shelf_.begin_scan(deep ? "deep" : "quick", std::string(to_text(told)), gaps);
    look_quickly();
    look_into_images();
    // While a sweep goes on, what the quick depth found is there to be used.
    put_together(!deep);
    if (deep && !result_.stopped) look_deeply();
    const bool done = !result_.stopped && !result_.incomplete;
    result_.has_log = !shelf_.end_scan(scan, done ? "finished" : "stopped");
    result_.damage = shelf_.damage_count();
    return result_;
  }

 private:
  struct Image {
    EntryId entry;
    int depth;  // on how many files inside each other it lies, itself included
  };
  struct Known {
    VolumeReader* reader;
    bool former;
    SpaceId space;
  };

  void look_quickly() {
    budget_.begin({});
    try {
      survey_ = survey(spaces_.at(SpaceId::source), options_.read, options_.name_other);
    } catch (const Stopped&) {
      result_.stopped = true;
    }
    result_.notes = survey_.layout.notes;
    read_volumes(survey_, SpaceId::source, 0);
  }

  // `depth`: on how many files inside each other the space lies.
  void read_volumes(const Survey& found_there, SpaceId space, int depth) {
    for (const FoundVolume& found : found_there.volumes) {
      if (result_.stopped) break;
      Volume volume = found.reader->volume();
      options_.progress(fmt::format("Reading {} at byte {}{}", volume.file_system, volume.offset,
                                    space == SpaceId::source ? "" : " of a disk image"));
      try {
        begin_reading(space);
        volume.used = found.reader->used_bytes();
      } catch (const Stopped&) {
        result_.stopped = true;
        break;
      } catch (const Overspent&) {  // how much is in use stays unknown
      }
      VolumeWriter writer(shelf_, volume, rate_sound, {space, ToldBy::volume, options_.found});
      std::vector<EntryId> images;
      ImageNoter noter(writer, images);
      result_.stopped = !read(*found.reader, noter, space);
      for (const EntryId image : images) images_.push_back({image, depth + 1});
      take(writer, *found.reader, volume, space);
    }
  }

  // Volumes on the disk images among the living files that were found, and on the images on those.
  void look_into_images() {
    for (; !result_.stopped && looked_into_ < images_.size(); ++looked_into_) {
      const Image image = images_[looked_into_];
      if (looked_into_ >= kMostImages) {
        result_.notes.push_back(fmt::format(
            "{} disk images among the living files are more than are looked into: the first {} "
            "were. Export the others and scan them.",
            images_.size(), kMostImages));
        return;
      }
      look_into(image);
    }
  }

  void look_into(const Image& image) {
    options_.progress("Looking for volumes on disk images");
    if (image.depth > kMostNested) return;
    const SpaceId space = space_on(image.entry);
    Survey found;
    try {
      begin_reading(space);
      if (note_container(image.entry)) return;
      found = survey_image(spaces_.at(space), options_.read);
    } catch (const Stopped&) {
      result_.stopped = true;
    } catch (const Overspent&) {
      // What leads nowhere is no disk image.
    } catch (const std::bad_alloc&) {
      result_.incomplete = true;
    }
    read_volumes(found, space, image.depth);
    on_images_.push_back(std::move(found));
  }

  // Whether a file holds a disk in a form that is not read here: then the user is told.
  bool note_container(EntryId file) {
    constexpr size_t kMostTold = 10;
    SQLite::Statement name(shelf_.db(), "SELECT name FROM entries WHERE id=?");
    name.bind(1, number_of(file));
    if (!name.executeStep()) return true;
    const std::optional<std::string> advice = container_advice(
        *spaces_.at(space_on(file)),
        fmt::format("The living file {} (id {})", printable(name.getColumn(0).getString()), file),
        "FILE");
    if (advice && ++containers_ <= kMostTold)
      result_.notes.push_back(*advice + " Export it first.");
    return advice.has_value();
  }

  // False if the user asked to stop. One volume's failure is that volume's: others are read all the
  // same.
  bool read(VolumeReader& reader, Sink& sink, SpaceId space) {
    const auto incomplete = [&](const std::string& why) {
      result_.incomplete = true;
      sink.add(Damage{{reader.volume().offset, 0},
                      fmt::format("It could not be read to its end: {}.", why)});
    };
    begin_reading(space);
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

  void take(VolumeWriter& writer, VolumeReader& reader, const Volume& volume, SpaceId space) {
    writer.finish();
    const bool is_former = volume.standing == "former";
    readers_.try_emplace(writer.volume_id(), Known{&reader, is_former, space});
    ++result_.volumes;
    const bool ends_late = volume.offset + volume.length > source_->size();
    result_.source_is_short =
        result_.source_is_short || (ends_late && !is_former && space == SpaceId::source);
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
      swept_ = volumes_of_sweep(shelf_, spaces_.at(SpaceId::source), options_, present(), budget_);
    } catch (const Stopped&) {
      result_.stopped = result_.unsettled = true;
      return;
    }
    store_swept();
    look_into_files_with_headers();
    result_.volumes = shelf_.volumes(false).size();
    put_together(true);
  }

  // Disk images under any name.
  void look_into_files_with_headers() {
    std::set<EntryId> known;
    for (const Image& image : images_) known.insert(image.entry);
    for (const EntryId file : files_with_headers(shelf_)) {
      if (!known.contains(file)) images_.push_back({file, 1});
    }
    look_into_images();
  }

  void store_swept() {
    SweepStore store(shelf_);
    store.begin_storing();
    std::set<VolumeId> stored;
    for (const FoundBySweep& found : swept_) {
      options_.progress(fmt::format("Reading {} {} at byte {}", found.volume.standing,
                                    found.volume.file_system, found.volume.offset));
      VolumeWriter writer(shelf_, found.volume, rate_sound,
                          {SpaceId::source, ToldBy::sweep, options_.found});
      bool goes_on = true;
      if (found.adds_to_current) {
        goes_on = read(*found.reader, writer, SpaceId::source);
      } else {
        FormerSink sink(writer, found.volume.standing == "former",
                        traits_of(found.volume.file_system).key_mask);
        goes_on = read(*found.reader, sink, SpaceId::source);
        sink.finish();
      }
      take(writer, *found.reader, found.volume, SpaceId::source);
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
    make_set(found);
    for (const auto& [id, known] : readers_) {
      if (known.space != SpaceId::source) continue;
      present.current.push_back({known.reader, oldest_file(shelf_, id)});
    }
    std::ranges::sort(present.current, {},
                      [](const Scene::Current& one) { return one.reader->volume().offset; });
    return present;
  }

  // What a volume's file system holds in use; over a former one, what is there now.
  ByteRange next_used(VolumeId volume, const ByteRange& within) {
    budget_.step();
    const auto own = readers_.find(volume);
    if (own == readers_.end()) return {};
    if (!own->second.former) return own->second.reader->next_used(within);
    ByteRange nearest;
    for (const auto& [id, known] : readers_) {
      if (known.former || known.space != own->second.space) continue;
      const ByteRange used = known.reader->next_used(within);
      if (used.length > 0 && (nearest.length == 0 || used.offset < nearest.offset)) nearest = used;
    }
    return nearest;
  }

  void begin_reading(SpaceId space) {
    const uint64_t size = std::min(spaces_.at(space)->size(), source_->size());
    budget_.begin(options_.most.value_or(limits_of_reading(size)));
  }

  // Once the user has asked to stop: what was found is put together, until they ask again.
  void heed_stop() {
    if (!result_.stopped) return;
    budget_.heed();
    options_.progress("Stopping: putting together what was found so far");
  }

  // The passes over the shelf; the user may ask to leave them. `last`: all is found.
  void put_together(bool last) {
    heed_stop();
    budget_.begin({});
    const Interruptible statements(shelf_, budget_);
    try {
      run_passes(last);
    } catch (const Stopped&) {
      result_.stopped = result_.unsettled = true;
    } catch (const std::exception& e) {
      if (!is_interruption(e)) throw;
      result_.stopped = result_.unsettled = true;
    }
  }

  bool carves() const { return options_.depth == Depth::deep && options_.carve; }

  void run_passes(bool last) {
    shelf_.db().exec(kIndexes);
    if (carves()) undo_joins(shelf_);  // what was not known then may decide otherwise
    options_.progress("Joining names and folders");
    merge_twins(shelf_, volumes_with(shelf_, &Traits::leaves_entries_on_rename), budget_);
    build_tree(shelf_);
    options_.progress("Placing lost files");
    const Claims claims = load_claims(shelf_);
    note_disputes(shelf_, claims);
    const NextUsed used = [this](VolumeId volume, const ByteRange& within) {
      return next_used(volume, within);
    };
    place_open_streams(shelf_, claims, used, options_.check == Check::none ? nullptr : &spaces_,
                       budget_);
    if (last) SweepStore(shelf_).restore_checks();
    mark_nested_volumes(shelf_);
    options_.progress("Reading trash folders");
    read_trash(shelf_, spaces_, options_.read.zone);
    if (options_.check != Check::none) {
      options_.progress("Looking at samples of lost files");
      sample_lost_files(shelf_, spaces_);
    }
    options_.progress("Rating");
    rate_streams(shelf_, claims, used, spaces_);
    if (options_.check != Check::full || !last || result_.stopped) return;
    check_files(shelf_, spaces_, claims, options_, budget_, result_);
    heed_stop();
    rate_streams(shelf_, claims, used, spaces_);
    if (!carves() || result_.stopped) return;
    carve_files(shelf_, spaces_, claims, options_, budget_, result_);
    heed_stop();
    rate_streams(shelf_, claims, used, spaces_);
    if (result_.carved == 0 || result_.stopped) return;
    join_found_files(shelf_, volumes_with(shelf_, &Traits::numbers_in_order), budget_, result_);
    if (result_.joined > 0) rate_streams(shelf_, claims, used, spaces_);
  }

  Shelf& shelf_;
  Budget budget_;  // before all that reads
  const SourcePtr& source_;
  Spaces spaces_;  // what all but the sweep reads
  const ScanOptions& options_;
  ScanResult result_;
  Survey survey_;
  std::vector<FoundBySweep> swept_;
  std::map<VolumeId, Known> readers_;  // by volume id
  std::vector<Image> images_;          // disk images among the living files
  size_t containers_ = 0;              // of these, that cannot be read
  size_t looked_into_ = 0;             // of them, the first
  std::vector<Survey> on_images_;      // what was found there: their readers are asked later
};

}  // namespace

ScanResult scan(Shelf& shelf, const SourcePtr& source, const ScanOptions& options) {
  return Scan(shelf, source, options).run();
}

}  // namespace undershelf
