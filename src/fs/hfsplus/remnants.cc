#include "fs/hfsplus/remnants.h"

#include <algorithm>

namespace undershelf::hfsplus {
namespace {

uint32_t changed(const CatalogRecord& record) {
  return std::max(record.file.contentModDate.value(), record.file.attributeModDate.value());
}

// Whether `a` tells more than `b`, or the same of a later time.
bool is_better(const CatalogRecord& a, const CatalogRecord& b) {
  constexpr size_t kToDataFork = offsetof(FileRecord, resourceFork);
  const auto has_place = [](const CatalogRecord& r) {
    return r.type == kFolder || r.known >= kToDataFork;
  };
  if (has_place(a) != has_place(b)) return has_place(a);
  if (changed(a) != changed(b)) return changed(a) > changed(b);
  // Of the same moment, one that was written out has its extents.
  if (a.type == kFile && b.type == kFile) {
    return a.file.dataFork.totalBlocks.value() > b.file.dataFork.totalBlocks.value();
  }
  return a.known > b.known;
}

}  // namespace

uint32_t hash_of(const PlacedName& name) {
  const uint64_t mixed =
      std::hash<std::u16string>{}(name.name) ^ (name.parent + 1ULL) * 0x9E3779B97F4A7C15;
  return static_cast<uint32_t>(mixed ^ mixed >> 32);
}

void LiveIndex::add(uint32_t cnid, const PlacedName& name) {
  known_.push_back({cnid, hash_of(name)});
}

void LiveIndex::settle() { std::ranges::sort(known_, {}, &Known::cnid); }

bool LiveIndex::has(uint32_t cnid) const {
  return std::ranges::binary_search(known_, cnid, {}, &Known::cnid);
}

bool LiveIndex::has(uint32_t cnid, const PlacedName& name) const {
  const uint32_t hash = hash_of(name);
  for (auto known = std::ranges::lower_bound(known_, cnid, {}, &Known::cnid);
       known != known_.end() && known->cnid == cnid; ++known) {
    if (known->hash == hash) return true;
  }
  return false;
}

int LiveIndex::strangeness(const CatalogRecord& thread) const {
  if (has(thread.cnid(), {thread.thread_parent, thread.thread_name})) return -1;
  return has(thread.cnid()) ? 1 : 0;
}

bool VolumeAge::is_older(const CatalogRecord& record) const {
  if (next_cnid != 0 && record.cnid() >= next_cnid) return true;
  // Threads have no times.
  if (record.is_thread() || formatted == 0) return false;
  const FileRecord& file = record.file;
  return std::max({file.createDate.value(), file.contentModDate.value(),
                   file.attributeModDate.value()}) < formatted;
}

std::optional<bool> VolumeAge::are_older(std::span<const CatalogRecord> records) const {
  size_t dated = 0;
  size_t older = 0;
  int strange = 0;  // threads, less those that are copies of living ones
  for (const CatalogRecord& record : records) {
    if (record.is_thread()) {
      strange += live ? live->strangeness(record) : 0;
      continue;
    }
    ++dated;
    older += is_older(record);
  }
  if (dated > 0) return older * 2 > dated;
  if (strange != 0) return strange > 0;
  return std::nullopt;
}

bool VolumeAge::is_older(uint32_t cnid, const Remnant& remnant) const {
  if (remnant.record) return is_older(*remnant.record);
  return next_cnid != 0 && cnid >= next_cnid;
}

void Remnants::add(const CatalogRecord& record) {
  const uint32_t cnid = record.cnid();
  if (cnid < kFirstUser) return;
  const auto [place, fresh] = by_cnid_.try_emplace(cnid);
  Remnant& remnant = place->second;
  PlacedName name = record.is_thread() ? PlacedName{record.thread_parent, record.thread_name}
                                       : PlacedName{record.parent, record.name};
  // A record leads over threads, and over records that tell less.
  const bool leads =
      fresh || (!record.is_thread() && (!remnant.record || is_better(record, *remnant.record)));
  if (leads) {
    std::swap(name, remnant.last);
    remnant.folder = record.type == kFolder || record.type == kFolderThread;
    if (!record.is_thread()) {
      remnant.record = record;
      remnant.record->name = {};  // it is in `last`
    }
    if (fresh) return;
  }
  if (name == remnant.last || std::ranges::find(remnant.others, name) != remnant.others.end())
    return;
  if (limit_.take(remnant.others.size())) remnant.others.push_back(std::move(name));
}

void StaleThreads::note_beside(const CatalogRecord& record, bool is_older) {
  if (is_older) older_.emplace(record.cnid(), hash_of({record.parent, record.name}));
  more_older_[node_] += is_older ? 1 : -1;
}

void StaleThreads::settle(const LiveIndex& live, Remnants& remnants) {
  std::unordered_map<uint64_t, int> strange;  // where nothing beside them has dates
  for (const Thread& thread : threads_) {
    if (!more_older_.contains(thread.node)) {
      strange[thread.node] += live.strangeness(thread.record);
    }
  }
  more_older_.insert(strange.begin(), strange.end());
  for (const auto& [record, node] : threads_) {
    const uint32_t name = hash_of({record.thread_parent, record.thread_name});
    if (more_older_[node] <= 0 && !older_.contains({record.cnid(), name})) remnants.add(record);
  }
  *this = {};
}

}  // namespace undershelf::hfsplus
