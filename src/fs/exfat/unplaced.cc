#include "fs/exfat/unplaced.h"

#include <fmt/format.h>

#include <algorithm>

#include "fs/chained/folder_bytes.h"
#include "fs/exfat/entries.h"

namespace undershelf::exfat {
namespace {

constexpr uint64_t kMostPart = 16 << 20;  // bytes taken for one folder

class Unplaced : public VolumeReader {
 public:
  Unplaced(const SourcePtr& source, const ByteRange& where, const std::vector<ByteRange>& parts,
           const ReadOptions& options)
      : bytes_(source, where.offset, source->size() - where.offset), zone_(options.zone) {
    for (const ByteRange& part : parts) {
      VolumeRange left{part.offset - where.offset, part.length};
      for (; left.length > kMostPart; left = {left.offset + kMostPart, left.length - kMostPart}) {
        parts_.push_back({left.offset, kMostPart});
      }
      parts_.push_back(left);
    }
    volume_.file_system = "exfat";
    volume_.offset = volume_.heap_offset = where.offset;
    volume_.length = where.length;
    volume_.sector_size = bytes_.sector_size();
    volume_.cluster_size = volume_.sector_size;
    volume_.confidence = kConfidence;
    volume_.notes.emplace_back(
        "Nothing tells its layout: of its files only what stands in their folders is left, and "
        "where they lay is not known.");
  }

  const Volume& volume() const override { return volume_; }
  ByteRange next_used(const ByteRange&) override { return {}; }

  void read(Sink& sink) override {
    const UpcaseTable upcase;
    for (const VolumeRange& part : parts_) {
      chained::FolderBytes<DirectoryEntry> bytes;
      bytes.append(bytes_, part);
      const FolderContent content = parse_folder(bytes.entries, upcase);
      if (content.sets.empty()) continue;
      Entry folder;
      folder.key = part.offset + 1;  // no entry lies there
      folder.kind = Kind::folder;
      folder.state = State::deleted;
      folder.proof = Proof::old;
      folder.orphan = true;
      folder.name = {fmt::format("[folder at byte {}]", volume_.offset + part.offset), {}, false};
      folder.evidence.push_back({"name-lost", 0});
      folder.streams.emplace_back();
      sink.add(folder);
      for (const EntrySet& set : content.sets) {
        Entry entry = entry_from(set, bytes.offset_of(set.slot), State::deleted, zone_);
        entry.parent = folder.key;
        entry.streams.push_back(stream_of(set, entry));
        sink.add(entry);
      }
    }
  }

 private:
  static constexpr int kConfidence = 20;  // names, and nothing that they lead to

  Stream stream_of(const EntrySet& set, Entry& entry) const {
    Stream stream;
    if (set.folder()) return stream;
    if (set.stream.DataLength.value() > volume_.length) {
      entry.evidence.push_back({"size-impossible", set.stream.DataLength.value()});
      stream.size_known = false;
      return stream;
    }
    stream.size = set.stream.DataLength.value();
    stream.valid_size = std::min(set.stream.ValidDataLength.value(), stream.size);
    const bool empty = stream.size == 0 && set.stream.FirstCluster.value() == 0;
    if (empty) {
      stream.placement = Placement::exact;
    } else {
      stream.size_known = stream.size > 0;
      append_piece(stream.pieces, {Piece::Kind::unknown, 0, stream.size});
    }
    return stream;
  }

  Window bytes_;  // from where the volume may have begun
  std::vector<VolumeRange> parts_;
  Zone zone_;
  Volume volume_;
};

}  // namespace

std::unique_ptr<VolumeReader> make_unplaced(const SourcePtr& source, const ByteRange& where,
                                            const std::vector<ByteRange>& parts,
                                            const ReadOptions& options) {
  return std::make_unique<Unplaced>(source, where, parts, options);
}

}  // namespace undershelf::exfat
