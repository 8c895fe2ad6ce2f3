#include "fs/fat/streams.h"

#include "fs/fat/content.h"

namespace undershelf::fat {
namespace {

// Clusters that one step of the high half of a first cluster stands for.
constexpr uint32_t kHighStep = 65536;

}  // namespace

Chain StreamMaker::folder_chain(uint32_t first) {
  Chain chain = best_chain(first, kMostFolderBytes / geometry_.cluster_size, std::nullopt);
  // A folder whose first cluster is known can be read even if its chain is lost.
  if (chain.runs.empty() && geometry_.is_cluster(first)) chain.runs.push_back({first, 1});
  return chain;
}

// The chain in the copy of the FAT in which it makes most sense: it must end, and be long enough
// for `wanted` clusters if that is known.
Chain StreamMaker::best_chain(uint32_t first, uint64_t most, std::optional<uint64_t> wanted) {
  const auto good = [&](const Chain& chain) {
    return (chain.end == Chain::End::marked || chain.end == Chain::End::enough) &&
           (!wanted || chain.clusters >= *wanted);
  };
  Chain best = table_.chain(first, most, table_.main_copy());
  for (unsigned copy = 0; copy < geometry_.fat_count && !good(best); ++copy) {
    if (copy == table_.main_copy()) continue;
    Chain other = table_.chain(first, most, copy);
    if (good(other) || other.clusters > best.clusters) best = std::move(other);
  }
  return best;
}

Stream StreamMaker::of_file(const FolderEntry& found, Entry& entry) {
  uint32_t first = first_cluster(found.raw, geometry_);
  Stream stream;
  stream.size = found.raw.DIR_FileSize.value();
  stream.valid_size = stream.size;
  if (first == 0 && stream.size == 0) {  // an empty file has no cluster
    stream.placement = Placement::exact;
    return stream;
  }
  const bool high_lost = may_lack_high_half(found);
  if (high_lost && !geometry_.is_cluster(first)) first += kHighStep;
  if (!heap_.check(stream, entry, first)) return stream;
  if (high_lost) stream.first_step = uint64_t{kHighStep} * geometry_.cluster_size;
  const uint64_t wanted = geometry_.clusters_of(stream.size);
  if (entry.state == State::live) {
    // One more tells whether it goes on; what is beyond is in use by the FAT's own account.
    heap_.place(stream, entry, best_chain(first, wanted + 1, wanted), wanted);
  } else {
    stream.open = true;
    // Some drivers leave the chain; it counts if it is just as long as the file.
    if (!high_lost) add_left_chain(stream, first, wanted);
  }
  return stream;
}

void StreamMaker::add_left_chain(Stream& stream, uint32_t first, uint64_t wanted) {
  // Of a former volume's tables, either may be written over where the other is not.
  const unsigned copies = former_ ? geometry_.fat_count : 1;
  for (unsigned i = 0; i < copies; ++i) {
    const unsigned copy = former_ ? i : table_.main_copy();
    const Chain chain = table_.chain(first, wanted, copy);
    if (chain.end != Chain::End::marked || chain.clusters != wanted) continue;
    return heap_.add_pieces(stream, geometry_.ranges_of(chain.runs));
  }
}

// Some systems clear the high half of the first cluster when they delete a file. Where the volume
// is large enough for that to matter, a deleted entry without one may have had any.
bool StreamMaker::may_lack_high_half(const FolderEntry& found) const {
  return found.marked && geometry_.type == Type::fat32 && geometry_.cluster_count + 2 > kHighStep &&
         found.raw.DIR_FstClusHI.value() == 0;
}

bool StreamMaker::begins_with_folder(uint32_t cluster) const {
  const Content content = load_start(*heap_.volume(), geometry_, cluster);
  return begins_folder(content.entries, cluster, geometry_);
}

bool StreamMaker::is_backed(const FolderEntry& found) {
  const uint32_t first = first_cluster(found.raw, geometry_);
  if ((found.raw.DIR_Attr & kAttrDirectory) != 0) return begins_with_folder(first);
  if (found.deleted) return found.raw.DIR_FileSize.value() > 0;
  const uint64_t wanted = geometry_.clusters_of(found.raw.DIR_FileSize.value());
  const Chain chain = best_chain(first, wanted + 1, wanted);
  return wanted > 0 && chain.end == Chain::End::marked && chain.clusters == wanted;
}

uint32_t StreamMaker::find_deleted_folder(const FolderEntry& found) {
  const uint32_t first = first_cluster(found.raw, geometry_);
  if (!may_lack_high_half(found)) return first;
  for (uint64_t candidate = first; candidate < uint64_t{geometry_.cluster_count} + 2;
       candidate += kHighStep) {
    const auto cluster = static_cast<uint32_t>(candidate);
    if (geometry_.is_cluster(cluster) && begins_with_folder(cluster)) return cluster;
  }
  return first;
}

}  // namespace undershelf::fat
