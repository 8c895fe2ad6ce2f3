#include "fs/chained/heap.h"

#include <fmt/format.h>

namespace undershelf::chained {
namespace {

constexpr uint64_t kEntrySize = 32;  // bytes of an entry in a folder, on both

}  // namespace

void Heap::damage(const VolumeRange& range, std::string what) const {
  if (sink_ != nullptr) sink_->add(Damage{on_space(range), std::move(what)});
}

void Heap::add_pieces(Stream& stream, const std::vector<VolumeRange>& where) const {
  for (const VolumeRange& range : where) {
    append_piece(stream.pieces, {Piece::Kind::range, base_ + range.offset, range.length});
  }
}

bool Heap::check(Stream& stream, Entry& entry, uint32_t first) const {
  const bool live = entry.state == State::live;
  const bool valid = geometry_.is_cluster(first);
  if (valid) stream.first = place_of(first);
  if (geometry_.clusters_of(stream.size) > geometry_.cluster_count) {
    // No file is larger than its volume: the number is damaged.
    entry.evidence.push_back({"size-impossible", stream.size});
    stream.size = stream.valid_size = 0;
    stream.size_known = false;
    if (live) {
      damage(
          {entry.key, kEntrySize},
          fmt::format("The size of the file {} is more than the volume holds.", entry.name.text));
    }
    return false;
  }
  if (!valid) {
    append_piece(stream.pieces, {Piece::Kind::unknown, 0, stream.size});
    entry.evidence.push_back({"first-cluster-invalid", first});
    if (live) {
      damage({entry.key, kEntrySize},
             fmt::format("The file {} starts at cluster {}, which the volume has not.",
                         entry.name.text, first));
    }
    return false;
  }
  if (stream.size == 0) {
    entry.evidence.push_back({"size-lost", 0});
    stream.size_known = false;
  }
  return true;
}

void Heap::place(Stream& stream, Entry& entry, const Chain& chain, uint64_t wanted) {
  if (chain.clusters == 0) {
    stream.open = true;  // the FAT knows nothing of it: as if it were lost
    entry.evidence.push_back({"chain-lost", 0});
    return count_lost_chain();
  }
  stream.placement = Placement::exact;
  add_pieces(stream, geometry_.ranges_of(chain.runs));
  note_short(stream, entry, chain.clusters * geometry_.cluster_size);
  const bool sound = chain.end == Chain::End::marked || chain.end == Chain::End::enough;
  if (!sound || chain.clusters < wanted) {
    damage({entry.key, kEntrySize},
           fmt::format("The chain of the file {} {} after {} of {} clusters.", entry.name.text,
                       to_text(chain.end), chain.clusters, wanted));
  }
}

void Heap::note_short(Stream& stream, Entry& entry, uint64_t placed) const {
  if (placed >= stream.size) return;
  append_piece(stream.pieces, {Piece::Kind::unknown, 0, stream.size - placed});
  entry.evidence.push_back({"chain-short", stream.size - placed});
}

void Heap::refuse_folder(Entry& entry, uint32_t first) const {
  const bool valid = geometry_.is_cluster(first);
  entry.evidence.push_back({valid ? "folder-read-before" : "first-cluster-invalid", first});
  if (entry.state != State::live) return;
  damage({entry.key, kEntrySize},
         valid ? fmt::format(
                     "The folder {} starts where a folder read before does; it is not entered.",
                     entry.name.text)
               : fmt::format("The folder {} starts at cluster {}, which the volume has not.",
                             entry.name.text, first));
}

Entry Heap::nameless_folder(uint32_t first, uint64_t key) const {
  Entry entry;
  entry.key = key;
  entry.kind = Kind::folder;
  entry.state = State::deleted;
  entry.name = {fmt::format("[folder {}]", first), {}, false};
  entry.evidence.push_back({"name-lost", 0});
  return entry;
}

void Heap::report_lost_chains() const {
  if (chains_lost_ == 0) return;
  damage({geometry_.fat_offset, geometry_.fat_size},
         fmt::format("The FAT has no chain for {} living files and folders.", chains_lost_));
}

}  // namespace undershelf::chained
