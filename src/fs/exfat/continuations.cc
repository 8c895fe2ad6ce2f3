#include "fs/exfat/continuations.h"

#include <algorithm>
#include <bit>

namespace undershelf::exfat {
namespace {

// How far behind a folder that was cut short a quick scan looks for the rest of it: bytes.
constexpr uint64_t kQuickReach = 4 << 20;

bool is_secondary(const DirectoryEntry& entry) { return (entry.EntryType & kSecondary) != 0; }

bool begins_with_set(std::span<const DirectoryEntry> entries) {
  return (entries[0].EntryType | kInUse) == kFile && (entries[1].EntryType | kInUse) == kStream;
}

// The time of creation in a file's entry, to be compared.
uint64_t moment_of(const DirectoryEntry& entry) {
  const auto file = std::bit_cast<FileEntry>(entry);
  return file.CreateTimestamp.value() * 256ULL + file.Create10msIncrement;
}

}  // namespace

void Continuations::Heads::add(Head head) {
  const auto first = std::ranges::find_if_not(head.entries, is_secondary);
  const auto secondaries = static_cast<size_t>(first - head.entries.begin());
  if (secondaries > 0) {
    cut[secondaries].push_back(std::move(head));
  } else if (begins_with_set(head.entries)) {
    whole.emplace(moment_of(head.entries[0]), head.cluster);
  }
}

void Continuations::clear() {
  taken_.clear();
  begun_.clear();
  named_.clear();
  heads_.reset();
  is_settled_ = false;
}

void Continuations::settle() {
  for (const uint32_t cluster : swept_) note_named(entries_at(cluster, geometry_.cluster_size));
  is_settled_ = true;
}

void Continuations::note_named(std::span<const DirectoryEntry> entries) {
  for (const EntrySet& set : parse_folder(entries, upcase_).sets) {
    if (set.folder()) named_.insert(set.stream.FirstCluster.value());
  }
}

std::vector<Run> Continuations::follow(uint32_t first, uint64_t most) {
  std::vector<Run> runs{{first, 1}};
  for (uint64_t count = 1; count < most; ++count) {
    const uint32_t last = runs.back().first + runs.back().count - 1;
    const std::optional<uint32_t> next = after(last);
    if (!next || is_taken(*next)) break;
    const bool again =
        std::ranges::any_of(runs, [&](const Run& run) { return *next - run.first < run.count; });
    if (again) break;
    if (*next == last + 1) {
      ++runs.back().count;
    } else {
      runs.push_back({*next, 1});
    }
  }
  return runs;
}

std::optional<uint32_t> Continuations::after(uint32_t cluster) {
  const auto entries = entries_at(cluster, geometry_.cluster_size);
  if (entries.back().EntryType == 0) return std::nullopt;
  if (is_settled_) note_named(entries);
  const size_t cut = cut_set(entries);
  if (cut > 0) return completing(cluster, std::span(entries).last(cut));
  if (may_continue(cluster + 1) && begins_with_set(head(cluster + 1).entries)) return cluster + 1;
  return is_settled_ ? made_next(cluster, entries) : std::nullopt;
}

std::optional<uint32_t> Continuations::completing(uint32_t cluster,
                                                  std::span<const DirectoryEntry> cut) {
  const auto completes = [&](const Head& candidate) {
    std::vector<DirectoryEntry> joined(cut.begin(), cut.end());
    joined.insert(joined.end(), candidate.entries.begin(), candidate.entries.end());
    return intact_set(joined) > cut.size();
  };
  if (may_continue(cluster + 1) && completes(head(cluster + 1))) return cluster + 1;
  // Sets follow each other without a gap: those that begin with just as many entries as are wanting
  // come in question, or with more, of a set whose first entry was used again.
  const size_t count = 1 + std::bit_cast<FileEntry>(cut.front()).SecondaryCount;
  Heads& heads = heads_behind(cluster);
  for (size_t wanting = count - cut.size(); wanting < heads.cut.size(); ++wanting) {
    std::vector<Head>& candidates = heads.cut[wanting];
    std::erase_if(candidates, [&](const Head& head) { return is_taken(head.cluster); });
    const auto found = std::ranges::find_if(candidates, completes);
    if (found != candidates.end()) return found->cluster;
  }
  return std::nullopt;
}

std::optional<uint32_t> Continuations::made_next(uint32_t cluster,
                                                 std::span<const DirectoryEntry> entries) {
  const auto last = std::find_if(entries.rbegin(), entries.rend(), [](const DirectoryEntry& e) {
    return (e.EntryType | kInUse) == kFile;
  });
  if (last == entries.rend()) return std::nullopt;
  auto& whole = heads_behind(cluster).whole;
  std::optional<std::pair<uint64_t, uint32_t>> next;
  for (auto candidate = whole.lower_bound(moment_of(*last)); candidate != whole.end();) {
    const auto [moment, found] = *candidate;
    if (next && moment != next->first) break;
    if (is_taken(found) || begun_.contains(found) || named_.contains(found)) {
      candidate = whole.erase(candidate);
      continue;
    }
    if (next) return std::nullopt;  // of two that were made at once, neither
    next = std::pair(moment, found);
    ++candidate;
  }
  return next ? std::optional(next->second) : std::nullopt;
}

Continuations::Heads& Continuations::heads_behind(uint32_t cluster) {
  if (!swept_.empty()) {
    if (!heads_) {
      heads_.emplace();
      for (const uint32_t found : swept_) heads_->add(head(found));
    }
    return *heads_;
  }
  heads_.emplace();
  const uint64_t end = cluster + std::max<uint64_t>(kQuickReach / geometry_.cluster_size, 2);
  for (uint32_t c = cluster + 1; c < end; ++c) {
    if (!may_continue(c)) continue;
    Head candidate = head(c);
    if (is_known_type(candidate.entries[0].EntryType)) heads_->add(std::move(candidate));
  }
  return *heads_;
}

bool Continuations::may_continue(uint32_t cluster) const {
  if (!geometry_.is_cluster(cluster) || is_taken(cluster)) return false;
  if (!swept_.empty()) return std::ranges::binary_search(swept_, cluster);
  return is_free_(cluster);
}

std::vector<DirectoryEntry> Continuations::entries_at(uint32_t cluster, uint64_t bytes) const {
  std::vector<DirectoryEntry> entries(bytes / sizeof(DirectoryEntry));
  volume_->read(geometry_.offset_of(cluster), std::as_writable_bytes(std::span(entries)));
  return entries;
}

Continuations::Head Continuations::head(uint32_t cluster) const {
  const uint64_t size =
      std::min<uint64_t>(geometry_.cluster_size, (kMostSetEntries - 1) * sizeof(DirectoryEntry));
  return {cluster, entries_at(cluster, size)};
}

}  // namespace undershelf::exfat
