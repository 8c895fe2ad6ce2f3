#include "fs/fat/streams.h"

#include <fmt/format.h>

#include "fs/fat/content.h"

namespace undershelf::fat {
namespace {

// Clusters that one step of the high half of a first cluster stands for.
constexpr uint32_t kHighStep = 65536;

}  // namespace

void StreamMaker::add_pieces(Stream& stream, const std::vector<ByteRange>& where) const {
  chained::append_pieces(stream.pieces, where, base_);
}

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
  if (stream.size > uint64_t{geometry_.cluster_count} * geometry_.cluster_size) {
    // No file is larger than its volume: the number is damaged.
    entry.evidence.push_back({"size-impossible", stream.size});
    stream.size = stream.valid_size = 0;
    stream.size_known = false;
    if (geometry_.is_cluster(first)) stream.first = base_ + geometry_.offset_of(first);
    if (entry.state == State::live) {
      report_(
          {entry.key, sizeof(DirectoryEntry)},
          fmt::format("The size of the file {} is more than the volume holds.", entry.name.text));
    }
    return stream;
  }
  const bool high_lost = may_lack_high_half(found);
  if (high_lost && !geometry_.is_cluster(first)) first += kHighStep;
  if (!geometry_.is_cluster(first)) {
    append_piece(stream.pieces, {Piece::Kind::unknown, 0, stream.size});
    report_invalid(entry, first);
    return stream;
  }
  stream.first = base_ + geometry_.offset_of(first);
  if (high_lost) stream.first_step = uint64_t{kHighStep} * geometry_.cluster_size;
  if (stream.size == 0) {
    entry.evidence.push_back({"size-lost", 0});
    stream.size_known = false;
  }
  const uint64_t wanted = geometry_.clusters_of(stream.size);
  if (entry.state == State::live) {
    place_live(stream, entry, first, wanted);
  } else {
    stream.open = true;
    // Some drivers leave the chain; it counts if it is just as long as the file.
    if (!high_lost) add_left_chain(stream, first, wanted);
  }
  return stream;
}

void StreamMaker::report_invalid(Entry& entry, uint32_t first) {
  entry.evidence.push_back({"first-cluster-invalid", first});
  if (entry.state != State::live) return;
  report_({entry.key, sizeof(DirectoryEntry)},
          fmt::format("The file {} starts at cluster {}, which the volume has not.",
                      entry.name.text, first));
}

void StreamMaker::add_left_chain(Stream& stream, uint32_t first, uint64_t wanted) {
  // Of a former volume's tables, either may be written over where the other is not.
  const unsigned copies = former_ ? geometry_.fat_count : 1;
  for (unsigned i = 0; i < copies; ++i) {
    const unsigned copy = former_ ? i : table_.main_copy();
    const Chain chain = table_.chain(first, wanted, copy);
    if (chain.end != Chain::End::marked || chain.clusters != wanted) continue;
    return add_pieces(stream, geometry_.ranges_of(chain.runs));
  }
}

// Some systems clear the high half of the first cluster when they delete a file. Where the volume
// is large enough for that to matter, a deleted entry without one may have had any.
bool StreamMaker::may_lack_high_half(const FolderEntry& found) const {
  return found.marked && geometry_.type == Type::fat32 && geometry_.cluster_count + 2 > kHighStep &&
         found.raw.DIR_FstClusHI.value() == 0;
}

bool StreamMaker::is_backed(const FolderEntry& found, const Source& window) {
  const uint32_t first = first_cluster(found.raw, geometry_);
  if ((found.raw.DIR_Attr & kAttrDirectory) != 0) {
    Content content;
    content.append(window, {geometry_.offset_of(first), 2 * sizeof(DirectoryEntry)});
    return begins_folder(content.entries, first, geometry_);
  }
  if (found.deleted) return found.raw.DIR_FileSize.value() > 0;
  const uint64_t wanted = (found.raw.DIR_FileSize.value() + uint64_t{geometry_.cluster_size} - 1) /
                          geometry_.cluster_size;
  const Chain chain = best_chain(first, wanted + 1, wanted);
  return wanted > 0 && chain.end == Chain::End::marked && chain.clusters == wanted;
}

uint32_t StreamMaker::find_deleted_folder(const FolderEntry& found, const Source& window) {
  const uint32_t first = first_cluster(found.raw, geometry_);
  if (!may_lack_high_half(found)) return first;
  for (uint64_t candidate = first; candidate < uint64_t{geometry_.cluster_count} + 2;
       candidate += kHighStep) {
    if (!geometry_.is_cluster(candidate)) continue;
    const auto cluster = static_cast<uint32_t>(candidate);
    Content content;
    content.append(window, {geometry_.offset_of(cluster), 2 * sizeof(DirectoryEntry)});
    if (begins_folder(content.entries, cluster, geometry_)) return cluster;
  }
  return first;
}

void StreamMaker::place_live(Stream& stream, Entry& entry, uint32_t first, uint64_t wanted) {
  // One more tells whether it goes on; what is beyond is in use by the FAT's own account.
  const Chain chain = best_chain(first, wanted + 1, wanted);
  if (chain.clusters == 0) {
    stream.open = true;  // the FAT knows nothing of it: as if it were lost
    entry.evidence.push_back({"chain-lost", 0});
    count_lost_chain();
    return;
  }
  stream.placement = Placement::exact;
  add_pieces(stream, geometry_.ranges_of(chain.runs));
  const uint64_t there = chain.clusters * geometry_.cluster_size;
  if (there < stream.size) {
    append_piece(stream.pieces, {Piece::Kind::unknown, 0, stream.size - there});
    entry.evidence.push_back({"chain-short", stream.size - there});
  }
  const bool sound = chain.end == Chain::End::marked || chain.end == Chain::End::enough;
  if (!sound || there < stream.size) {
    report_({entry.key, sizeof(DirectoryEntry)},
            fmt::format("The chain of the file {} {} after {} of {} clusters.", entry.name.text,
                        to_text(chain.end), chain.clusters, wanted));
  }
}

}  // namespace undershelf::fat
