#include "fs/fat/streams.h"

#include <algorithm>

#include "fs/fat/content.h"

namespace undershelf::fat {
namespace {

u8 name_begins_with(const DirectoryEntry& entry) { return entry.DIR_Name[0]; }

// Clusters that one step of the high half of a first cluster stands for.
constexpr uint32_t kHighStep = 65536;

}  // namespace

Chain StreamMaker::folder_chain(uint32_t first) {
  const uint64_t most = kMostFolderBytes / geometry_.cluster_size;
  Chain chain = table_.chain(first, most);
  std::vector<Chain> others = other_chains(first, most);
  std::erase_if(others, [&](const Chain& other) { return other.runs == chain.runs; });
  int best = others.empty() ? 0 : merit_of(chain);
  for (Chain& other : others) {
    const int merit = merit_of(other);
    if (merit <= best) continue;
    best = merit;
    chain = std::move(other);
  }
  // A folder whose first cluster is known can be read even if its chain is lost.
  if (chain.runs.empty() && geometry_.is_cluster(first)) chain.runs.push_back({first, 1});
  return chain;
}

// What speaks for a chain that a folder is said to have: clusters in which it goes on, up to its
// end.
int StreamMaker::merit_of(const Chain& chain) const {
  int merit = chain.end == Chain::End::marked ? 1 : 0;
  bool ended = false;
  bool is_first = true;
  for (const Run& run : chain.runs) {
    for (uint32_t i = 0; i < run.count; ++i) {
      const Content content = heap_.load<DirectoryEntry>({heap_.range_of(run.first + i)});
      const auto end = std::ranges::find(content.entries, u8{0}, name_begins_with);
      const bool goes_on = is_first || looks_like_continuation(content.entries, geometry_);
      const bool is_clear = end == content.entries.begin();
      // Behind the end of a folder drivers clear what they have not used yet.
      merit += ended ? (is_clear ? 0 : -4) : goes_on || is_clear ? 2 : -4;
      ended = ended || end != content.entries.end();
      is_first = false;
    }
  }
  return merit;
}

std::vector<Chain> StreamMaker::other_chains(uint32_t first, uint64_t most) {
  std::vector<Chain> others;
  if (geometry_.active_fat) return others;
  for (unsigned copy = 0; copy < geometry_.fat_count; ++copy) {
    others.push_back(table_.chain(first, most, copy));
  }
  others.push_back(table_.chain_of_any(first, most));
  return others;
}

// The chain in the copy of the FAT in which it makes most sense for a file of so many clusters: one
// that ends with the file, or else behind it, or else is the longest.
Chain StreamMaker::best_chain(uint32_t first, uint64_t most, uint64_t wanted) {
  const auto rank = [&](const Chain& chain) {
    const bool ends = chain.end == Chain::End::marked;
    if (ends && chain.clusters == wanted) return 3;
    const bool reaches = chain.clusters >= wanted && (ends || chain.end == Chain::End::enough);
    return reaches ? 2 : ends ? 0 : 1;
  };
  Chain best = table_.chain(first, most);
  if (rank(best) == 3) return best;
  for (Chain& other : other_chains(first, most)) {
    const bool better = rank(other) > rank(best) || (rank(best) < 2 && rank(other) == rank(best) &&
                                                     other.clusters > best.clusters);
    if (better) best = std::move(other);
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
    const Chain chain = former_ ? table_.chain(first, wanted, i) : table_.chain(first, wanted);
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
