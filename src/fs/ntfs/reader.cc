#include "fs/ntfs/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "fs/bitmap_reader.h"
#include "fs/guessed_sink.h"
#include "fs/ntfs/entries.h"
#include "fs/ntfs/folder_index.h"
#include "fs/ntfs/geometry.h"
#include "fs/ntfs/journal.h"
#include "fs/ntfs/mft.h"
#include "model/make_set.h"

namespace undershelf::ntfs {
namespace {

class Reader : public BitmapReader {
 public:
  Reader(const VolumePlace& place, Geometry geometry, Found found)
      : source_(place.source),
        geometry_(std::move(geometry)),
        names_(std::move(found.names)),
        assembled_(found.records),
        space_{place.where.offset, geometry_.cluster_size, geometry_.cluster_count()},
        mft_(assembled_ ? Mft(source_, space_, geometry_, *found.records)
                        : Mft(source_, space_, geometry_, geometry_.notes)) {
    describe();
  }

  void read(Sink& sink) override {
    GuessedSink guessed(sink);
    sink_ = geometry_.has_clusters ? &sink : &guessed;
    catalogue_.emplace(mft_.count());
    maker_.emplace(*catalogue_, volume_.length);
    extensions_.clear();
    deferred_.clear();
    deleted_.clear();
    nameless_.clear();
    folders_.clear();
    journal_.reset();

    read_records();
    std::ranges::sort(extensions_);
    for (const uint32_t number : deferred_) {
      const File file = collect(number);
      catalogue_->add(file);  // with the names its other records hold
      if (file.in_use) take_live(file);
    }
    take_orphaned_extensions();
    catalogue_->settle();
    LostNames names(*catalogue_, [this](uint64_t number) { return collect(number); });
    read_names_behind(names);
    read_indexes(names);
    read_journals(names);
    read_found_names(names);
    names.settle();
    push_former_names(names);
    push_deleted(names);
    push_ghosts(names);
    if (names.left_out() > 0) {
      damage({space_.base, 0},
             fmt::format("{} names of lost files are more than can be kept.", names.left_out()));
    }
  }

 private:
  void describe() {
    volume_.file_system = "ntfs";
    volume_.serial = geometry_.serial;
    volume_.offset = space_.base;
    volume_.length = geometry_.volume_size;
    volume_.sector_size = geometry_.sector_size;
    volume_.cluster_size = geometry_.cluster_size;
    volume_.heap_offset = space_.base;
    volume_.cluster_count = space_.unit_count;
    volume_.confidence = geometry_.confidence;
    volume_.notes = geometry_.notes;
    const File own = collect(kVolumeRecord);
    volume_.label = own.volume_name;
    constexpr unsigned kDirty = 0x0001;
    if ((own.volume_flags.value_or(0) & kDirty) != 0) {
      volume_.notes.emplace_back(
          "It is marked dirty: it was not unmounted cleanly, or a driver found damage.");
    }
    const File bits = collect(kClusterBitmap);
    if (const FileStream* data = bits.stream(u""); data != nullptr && !data->resident) {
      bitmap_.emplace(std::make_shared<PiecesSource>(source_, data->pieces, data->initialized),
                      volume_.heap(), geometry_.cluster_size, BitOrder::least_first);
    } else if (!assembled_) {
      volume_.notes.emplace_back("The bitmap of clusters in use is lost.");
    }
  }

  void damage(const ByteRange& range, std::string what) {
    sink_->add(Damage{range, std::move(what)});
  }

  void read_records() {
    mft_.each([&](uint64_t number, const Mft::Read& read) {
      if (!read.record) {
        if (read.state != Mft::State::blank && !assembled_) report_record(number, read.state);
        return;
      }
      const Record& record = *read.record;
      const uint64_t base = number_of(record.header.base_record.value());
      if (base != 0) {
        extensions_.emplace_back(static_cast<uint32_t>(base), static_cast<uint32_t>(number));
        return;
      }
      if (record.torn && record.in_use()) {
        damage({mft_.place_of(number), record.bytes.size()},
               fmt::format("The record {} was torn by an interrupted write.", number));
      }
      FileBuilder builder(number, space_);
      builder.add(record, true);
      const bool more = builder.has_list();
      File file = builder.finish(source_);
      if (file.folder) folders_.push_back(static_cast<uint32_t>(number));
      if (!file.in_use) {
        if (file.names.empty() && file.streams.empty() && !more) return;  // never held a file
        deleted_.push_back(static_cast<uint32_t>(number));
        if (file.names.empty()) nameless_.push_back(static_cast<uint32_t>(number));
      }
      if (more) {
        deferred_.push_back(static_cast<uint32_t>(number));
      } else {
        catalogue_->add(file);
        if (file.in_use) take_live(file);
      }
    });
  }

  void report_record(uint64_t number, Mft::State state) {
    damage(
        {mft_.place_of(number), geometry_.record_size},
        fmt::format("The record {} {}.", number,
                    state == Mft::State::unreadable ? "cannot be read" : "holds something else"));
  }

  void take_live(const File& file) {
    // Reserved records are in use without being files.
    if (file.names.empty() && file.number < kFirstOrdinary + 8) return;
    if (file.damaged) {
      damage({mft_.place_of(file.number), geometry_.record_size},
             fmt::format("The record {} is damaged; parts of it are lost.", file.number));
    }
    for (const FileStream& stream : file.streams) {
      if (stream.sound) continue;
      damage({mft_.place_of(file.number), geometry_.record_size},
             fmt::format("A run list in record {} breaks off or leads outside the volume.",
                         file.number));
    }
    const Entry entry = maker_->live(file);
    if (entry.name.text == "$UsnJrnl" && entry.parent && number_of(*entry.parent) == kExtend) {
      if (const FileStream* stream = file.stream(u"$J")) journal_ = *stream;
    }
    catalogue_->set_id(file.number, sink_->add(entry));
  }

  // A file with all its records: those its list names, and those that name it.
  File collect(uint64_t number) {
    FileBuilder builder(number, space_);
    std::vector<uint64_t> wanted;
    uint16_t sequence = 0;
    if (const Mft::Read base = mft_.read(number); base.record) {
      sequence = base.record->header.sequence.value();
      builder.add(*base.record, true);
      for (const uint64_t reference : builder.listed_records(source_)) {
        wanted.push_back(number_of(reference));
      }
    }
    if (!builder.has_list() && wanted.empty() && extensions_.empty())
      return builder.finish(source_);
    for (auto own =
             std::ranges::lower_bound(extensions_, std::pair{static_cast<uint32_t>(number), 0U});
         own != extensions_.end() && own->first == number; ++own) {
      wanted.push_back(own->second);
    }
    make_set(wanted);
    for (const uint64_t other : wanted) {
      if (other == number) continue;
      const Mft::Read read = mft_.read(other);
      if (!read.record) continue;
      const uint64_t base = read.record->header.base_record.value();
      if (number_of(base) != number) continue;
      // Deletion may have added one to the sequence of the base.
      const uint16_t of_base = sequence_of(base);
      if (of_base == sequence || static_cast<uint16_t>(of_base + 1) == sequence) {
        builder.add(*read.record, false);
      }
    }
    return builder.finish(source_);
  }

  // Extension records in use whose base record is lost still tell what they hold of the file.
  void take_orphaned_extensions() {
    for (size_t begin = 0; begin < extensions_.size();) {
      const uint32_t number = extensions_[begin].first;
      size_t end = begin;
      while (end < extensions_.size() && extensions_[end].first == number) ++end;
      if (catalogue_->standing(number) == Catalogue::Standing::none && number < mft_.count()) {
        take_orphaned(number, begin, end);
      }
      begin = end;
    }
  }

  void take_orphaned(uint32_t number, size_t begin, size_t end) {
    FileBuilder builder(number, space_);
    std::optional<uint16_t> sequence;
    for (size_t i = begin; i < end; ++i) {
      const Mft::Read read = mft_.read(extensions_[i].second);
      if (!read.record || !read.record->in_use()) continue;
      const uint16_t of_base = sequence_of(read.record->header.base_record.value());
      if (sequence.value_or(of_base) != of_base) continue;
      sequence = of_base;
      builder.add(*read.record, false);
    }
    if (!sequence) return;
    File file = builder.finish(source_);
    file.sequence = *sequence;
    file.in_use = file.damaged = true;
    catalogue_->add(file);
    take_live(file);
  }

  void read_names_behind(LostNames& names) {
    const auto read_behind = [&](uint32_t number, bool is_base) {
      const Mft::Read read = mft_.read(number);
      if (!read.record || read.record->in_use()) return;
      const uint64_t reference =
          is_base ? catalogue_->key_of(number) : read.record->header.base_record.value();
      for (FoundName& name : names_behind(*read.record)) {
        names.add({reference, std::move(name), false, std::nullopt, std::nullopt});
      }
    };
    for (const uint32_t number : nameless_) read_behind(number, true);
    for (const auto& [base, number] : extensions_) read_behind(number, false);
  }

  void read_indexes(LostNames& names) {
    const FolderIndex index(
        source_, geometry_,
        [this](const ByteRange& range, std::string what) { damage(range, std::move(what)); },
        [&](const Sighting& sighting) { names.add(sighting); });
    for (const uint32_t number : folders_) {
      const Mft::Read read = mft_.read(number);
      if (!read.record) continue;
      // What is seen in it makes the table read other records, into the same memory.
      const std::vector<std::byte> bytes(read.record->bytes.begin(), read.record->bytes.end());
      Record record = *read.record;
      record.bytes = bytes;
      index.read_record(record, number, mft_.place_of(number));
      index.read_blocks(collect(number), record.in_use());
    }
  }

  // What a sweep found outside of records and streams, as far as it belongs here.
  void read_found_names(LostNames& names) {
    for (const FoundNames& found : names_) {
      std::vector<Sighting> sightings;
      std::vector<File> copies;
      size_t fitting = 0;
      size_t conflicting = 0;
      const Sight sight = [&](const Sighting& sighting) {
        if (const auto number = catalogue_->resolve(sighting.reference)) {
          const auto same = catalogue_->candidates(sighting.name.parent, sighting.name.text);
          ++(std::ranges::find(same, *number) != same.end() ? fitting : conflicting);
        }
        sightings.push_back(sighting);
      };
      read_names(source_, found, geometry_.record_size, sight,
                 [&](const Record& record) { copies.push_back(copied_file(record)); });
      // Another volume's entries name records that are others here, or none.
      const bool index = found.kind == FoundNames::Kind::index_block;
      const bool of_folder = index && catalogue_->resolve(found.folder).has_value();
      const bool believed = found.sure || of_folder || (found.only && conflicting == 0) ||
                            (index ? fitting > 0 : fitting > conflicting);
      if (!believed) continue;
      for (const Sighting& sighting : sightings) names.add(sighting);
      for (File& copy : copies) names.add(std::move(copy));
    }
  }

  File copied_file(const Record& record) {
    FileBuilder builder(record.header.record_number.value(), space_);
    builder.add(record, true);
    return builder.finish(nullptr);
  }

  void read_journals(LostNames& names) {
    const Sight sight = [&](const Sighting& sighting) { names.add(sighting); };
    if (journal_ && !journal_->resident) {
      std::vector<ByteRange> parts;
      uint64_t at = 0;
      for (const Piece& piece : journal_->pieces) {
        if (piece.kind == Piece::Kind::range) parts.push_back({at, piece.length});
        at += piece.length;
      }
      read_change_journal(PiecesSource(source_, journal_->pieces, at), parts, sight);
    }
    const File log = collect(kLogFile);
    if (const FileStream* data = log.stream(u""); data != nullptr && !data->resident) {
      const uint64_t size = std::min({total_length(data->pieces), volume_.length, source_->size()});
      read_log(PiecesSource(source_, data->pieces, size), geometry_.record_size, sight,
               [&](const Record& record) { names.add(copied_file(record)); });
    }
  }

  void push_former_names(const LostNames& names) {
    for (const auto& [number, known] : names.of_records()) {
      if (catalogue_->standing(number) != Catalogue::Standing::in_use) continue;
      for (const Sighting& sighting : known.names) {
        sink_->add(catalogue_->id_of(number), maker_->former(sighting.name));
      }
    }
  }

  void push_deleted(const LostNames& names) {
    for (const bool folders : {true, false}) {
      for (const uint32_t number : deleted_) {
        const Mft::Read read = mft_.read(number);
        if (!read.record || read.record->folder() != folders) continue;
        const File file = collect(number);
        const auto known = names.of_records().find(number);
        sink_->add(
            maker_->deleted(file, known == names.of_records().end() ? nullptr : &known->second));
      }
    }
  }

  void push_ghosts(LostNames& names) {
    for (const Ghost& ghost : names.ghosts()) {
      if (number_of(ghost.reference) < kFirstOrdinary && ghost.reference != 0) continue;
      sink_->add(maker_->ghost(ghost));
    }
  }

  SourcePtr source_;
  Geometry geometry_;
  std::vector<FoundNames> names_;
  bool assembled_;  // from what a sweep found
  UnitSpace space_;
  Mft mft_;
  std::optional<Catalogue> catalogue_;
  std::optional<EntryMaker> maker_;
  std::vector<std::pair<uint32_t, uint32_t>> extensions_;  // base record, extension record
  std::vector<uint32_t> deferred_;                         // files with extension records
  std::vector<uint32_t> deleted_;
  std::vector<uint32_t> nameless_;  // deleted ones whose base record has no name
  std::vector<uint32_t> folders_;
  std::optional<FileStream> journal_;
};

}  // namespace

std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          Found found) {
  return std::make_unique<Reader>(place, geometry, std::move(found));
}

}  // namespace undershelf::ntfs
