// What the readers of FAT and exFAT say of clusters: the content of files and folders as pieces,
// and what is wrong with the numbers that entries give.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "fs/chained/folder_bytes.h"
#include "fs/chained/geometry.h"
#include "model/sink.h"
#include "source/source.h"

namespace undershelf::chained {

// Not to be shared between threads. Ranges without a further word are bytes of the volume.
class Heap {
 public:
  // `geometry` must outlive it. `where`: bytes of the space.
  Heap(const SourcePtr& space, const ByteRange& where, const Geometry& geometry)
      : volume_(std::make_shared<Window>(space, where.offset, where.length)),
        base_(where.offset),
        geometry_(geometry) {}

  // Damage met from now on goes to `sink`; counts begin anew.
  void begin(Sink& sink) {
    sink_ = &sink;
    chains_lost_ = 0;
  }

  const SourcePtr& volume() const { return volume_; }
  uint64_t base() const { return base_; }  // byte of the space at which the volume starts
  // Byte of the space at which a cluster begins.
  uint64_t place_of(uint64_t cluster) const { return base_ + geometry_.offset_of(cluster); }
  // All of a cluster.
  VolumeRange range_of(uint64_t cluster) const {
    return {geometry_.offset_of(cluster), geometry_.cluster_size};
  }
  ByteRange on_space(const VolumeRange& range) const {
    return {base_ + range.offset, range.length};
  }

  // Nothing is told before begin().
  void damage(const VolumeRange& range, std::string what) const;

  template <typename DirectoryEntry>
  FolderBytes<DirectoryEntry> load(const std::vector<VolumeRange>& where) const {
    FolderBytes<DirectoryEntry> content;
    for (const VolumeRange& range : where) content.append(*volume_, range);
    return content;
  }
  // Likewise of a folder in use: what cannot be read of it is damage.
  template <typename DirectoryEntry>
  FolderBytes<DirectoryEntry> load_in_use(const std::vector<VolumeRange>& where) const {
    FolderBytes<DirectoryEntry> content;
    for (const VolumeRange& range : where) {
      for (const ByteRange& bad : content.append(*volume_, range).bad) {
        damage({bad.offset, bad.length},
               std::to_string(bad.length) + " bytes of a folder cannot be read.");
      }
    }
    return content;
  }

  void add_pieces(Stream& stream, const std::vector<VolumeRange>& where) const;
  // Checks what an entry says of a file with content: sets where it starts if it can start there.
  // False if its size or its place cannot be; all is then said. `stream.size` must be set.
  bool check(Stream& stream, Entry& entry, uint32_t first) const;
  // Places a living file by its chain, of which so many clusters are wanted, and says if that is
  // lost or short.
  void place(Stream& stream, Entry& entry, const Chain& chain, uint64_t wanted);
  // Says how many bytes of a stream, placed as far as that, have no place.
  void note_short(Stream& stream, Entry& entry, uint64_t placed) const;

  // Says of a folder's entry why the folder is not entered: its first cluster is none of the
  // volume's, or it is that of a folder that was read before.
  void refuse_folder(Entry& entry, uint32_t first) const;
  // A folder of which nothing tells the name. `key`: of its entry.
  Entry nameless_folder(uint32_t first, uint64_t key) const;

  void count_lost_chain() { ++chains_lost_; }
  // Says how many living files and folders have no chain.
  void report_lost_chains() const;

 private:
  SourcePtr volume_;
  uint64_t base_;
  const Geometry& geometry_;
  Sink* sink_ = nullptr;
  uint64_t chains_lost_ = 0;
};

}  // namespace undershelf::chained
