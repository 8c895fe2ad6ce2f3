#include "fs/fat/open_folders.h"

#include <algorithm>
#include <utility>

namespace undershelf::fat {
namespace {

// How much may be read in search of the later clusters of folders without a chain, if no sweep
// found them: behind each folder, and in all. Bytes.
constexpr uint64_t kSearchPerFolder = 16 << 20;
constexpr uint64_t kSearchInAll = 512 << 20;

bool is_full(const std::vector<DirectoryEntry>& entries) {
  return !entries.empty() && entries.back().DIR_Name[0] != 0 &&
         entries.size() * sizeof(DirectoryEntry) < kMostFolderBytes;
}

}  // namespace

void OpenFolders::clear() {
  taken_.clear();
  held_.clear();
  later_.clear();
  is_settled_ = false;
}

void OpenFolders::take(const std::vector<VolumeRange>& where) {
  for (const VolumeRange& range : where) {
    for (uint64_t at = range.offset; at < range.end(); at += geometry_.cluster_size) {
      taken_.insert(geometry_.cluster_at(at));
    }
  }
}

bool OpenFolders::hold(OpenFolder& folder) {
  if (!is_full(folder.content.entries)) return false;
  if (is_settled_) {
    go_on(folder);
    return false;
  }
  held_.push_back(std::move(folder));
  return true;
}

void OpenFolders::go_on(OpenFolder& folder) {
  const auto later = later_.find(folder.site.first);
  if (later == later_.end()) return;
  for (const uint32_t cluster : later->second) {
    if (!take(cluster)) continue;
    const VolumeRange range = heap_.range_of(cluster);
    folder.content.append(*heap_.volume(), range);
    folder.where.push_back(range);
  }
}

std::vector<OpenFolder> OpenFolders::settle() {
  is_settled_ = true;
  std::vector<FolderEnd> ends;
  // First clusters of folders that are not read yet.
  std::vector<uint32_t> heads = found_.folders;
  for (const OpenFolder& folder : held_) {
    ends.push_back({folder.site.first, geometry_.cluster_at(folder.content.parts.back().offset),
                    tail_of(folder.content.entries)});
    list_folders(folder.content.entries, heads);
  }
  const std::vector<Inside> insides = insides_behind(ends, heads);
  if (!insides.empty()) {
    add_unread(std::move(heads), ends);
    later_ = find_continuations(ends, insides);
  }
  return std::exchange(held_, {});
}

// `heads`: folders that they list are added.
std::vector<Inside> OpenFolders::insides_behind(const std::vector<FolderEnd>& ends,
                                                std::vector<uint32_t>& heads) {
  std::vector<Inside> insides;
  for (const uint32_t cluster : inside_clusters(ends)) {
    const Content content = load_cluster(cluster);
    if (!looks_like_continuation(content.entries, geometry_)) continue;
    insides.push_back({cluster, head_of(content.entries), {}, parent_of(content)});
    if (is_full(content.entries)) insides.back().tail = tail_of(content.entries);
    list_folders(content.entries, heads);
  }
  return insides;
}

void OpenFolders::list_folders(std::span<const DirectoryEntry> entries,
                               std::vector<uint32_t>& first) const {
  for (const DirectoryEntry& entry : entries) {
    const bool folder = (entry.DIR_Attr & (kAttrDirectory | kAttrVolumeId)) == kAttrDirectory;
    const uint32_t cluster = first_cluster(entry, geometry_);
    if (folder && entry.DIR_Name[0] != 0 && geometry_.is_cluster(cluster)) {
      first.push_back(cluster);
    }
  }
}

// The ends of folders that begin at these clusters, and of those in them.
void OpenFolders::add_unread(std::vector<uint32_t> heads, std::vector<FolderEnd>& ends) {
  std::unordered_set<uint32_t> known;
  while (!heads.empty()) {
    const uint32_t head = heads.back();
    heads.pop_back();
    const bool chained = !found_.former && table_.use(head) == Table::Use::used;
    if (chained || is_taken(head) || !known.insert(head).second) continue;
    const Content content = load_cluster(head);
    if (!begins_folder(content.entries, head, geometry_)) continue;
    list_folders(std::span(content.entries).subspan(2), heads);
    if (is_full(content.entries)) ends.push_back({head, head, tail_of(content.entries)});
  }
}

// Clusters that may hold the inside of a folder: those that a sweep found, or those behind the ends
// of folders.
std::vector<uint32_t> OpenFolders::inside_clusters(const std::vector<FolderEnd>& ends) {
  const auto may_be = [&](uint32_t c) {
    return !is_taken(c) && (found_.former || table_.use(c) != Table::Use::used);
  };
  std::vector<uint32_t> clusters;
  if (found_.swept) {
    std::ranges::copy_if(found_.insides, std::back_inserter(clusters), may_be);
    return clusters;
  }
  std::vector<uint32_t> last;
  for (const FolderEnd& end : ends) last.push_back(end.last);
  std::ranges::sort(last);
  uint64_t left = kSearchInAll / geometry_.cluster_size;
  uint32_t next = 0;
  for (const uint32_t from : last) {
    const uint64_t end =
        from + 1 + std::max<uint64_t>(1, kSearchPerFolder / geometry_.cluster_size);
    for (next = std::max(next, from + 1); next < end && left > 0 && geometry_.is_cluster(next);
         ++next) {
      if (!may_be(next)) continue;
      clusters.push_back(next);
      --left;
    }
  }
  return clusters;
}

// The folder that a cluster belongs to, as the folders that it lists have it in their `..`.
std::optional<uint32_t> OpenFolders::parent_of(const Content& content) const {
  constexpr size_t kMostAsked = 8;
  std::vector<uint32_t> children;
  list_folders(content.entries, children);
  for (const uint32_t child : std::span(children).first(std::min(kMostAsked, children.size()))) {
    const Content start = load_start(*heap_.volume(), geometry_, child);
    if (!begins_folder(start.entries, child, geometry_)) continue;
    const uint32_t parent = first_cluster(start.entries[1], geometry_);
    return parent == geometry_.root_cluster ? 0 : parent;
  }
  return std::nullopt;
}

bool OpenFolders::follow_left_chain(OpenFolder& folder) {
  const size_t per_cluster = geometry_.cluster_size / sizeof(DirectoryEntry);
  for (unsigned copy = 0; found_.former && copy < geometry_.fat_count; ++copy) {
    const Chain chain =
        table_.chain(folder.site.first, kMostFolderBytes / geometry_.cluster_size, copy);
    if (chain.end != Chain::End::marked) continue;
    std::vector<VolumeRange> parts = geometry_.ranges_of(chain.runs);
    Content whole = heap_.load<DirectoryEntry>(parts);
    bool fits = true;
    for (size_t slot = per_cluster; slot < whole.entries.size(); slot += per_cluster) {
      const auto part = std::span(whole.entries).subspan(slot, per_cluster);
      fits = fits && (part[0].DIR_Name[0] == 0 || looks_like_continuation(part, geometry_));
    }
    if (!fits) continue;
    take(parts);
    folder.content = std::move(whole);
    folder.where = std::move(parts);
    return true;
  }
  return false;
}

Content OpenFolders::load_cluster(uint32_t cluster) const {
  return heap_.load<DirectoryEntry>({heap_.range_of(cluster)});
}

}  // namespace undershelf::fat
