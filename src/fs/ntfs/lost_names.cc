#include "fs/ntfs/lost_names.h"

#include <algorithm>
#include <unordered_map>

namespace undershelf::ntfs {
namespace {

constexpr size_t kMostSeen = 4'000'000;  // hashes of what was told
constexpr size_t kMostOfOneMoment = 64;  // files made at one moment that are told apart

bool same_name(const FoundName& a, const FoundName& b) {
  return number_of(a.parent) == number_of(b.parent) && a.text == b.text;
}

uint64_t hash_of(const FoundName& name) {
  return std::hash<std::u16string>{}(name.text) ^ number_of(name.parent) * 0x9E3779B97F4A7C15;
}

// Of a name without a reference: files that had it in turn were made at different times.
uint64_t key_of(const Sighting& sighting) {
  const auto made = static_cast<uint64_t>(sighting.name.created.value_or(Time{}).ticks);
  return hash_of(sighting.name) ^ made * 0xBF58476D1CE4E5B9;
}

bool holds(const std::vector<FoundName>& names, const FoundName& name) {
  return std::ranges::any_of(names, [&](const FoundName& n) { return same_name(n, name); });
}

}  // namespace

void LostNames::add(const Sighting& found) {
  // A reference that no record can have was overwritten, by the mark of an index's end for one.
  Sighting sighting = found;
  if (number_of(found.reference) >= catalogue_.size() || sequence_of(found.reference) == 0) {
    sighting.reference = 0;
  }
  // Journals name a file at each change: only what was not told before is looked at closely.
  uint64_t hash = hash_of(sighting.name);
  // An index tells times and sizes besides, which may differ from one entry to the next.
  const auto ticks = [](const std::optional<Time>& time) {
    return time ? static_cast<uint64_t>(time->ticks) : 0;
  };
  for (const uint64_t part :
       {sighting.reference, sighting.deleted ? uint64_t{1} : 0, sighting.current ? uint64_t{1} : 0,
        ticks(sighting.name.created), ticks(sighting.name.modified),
        sighting.name.size.value_or(UINT64_MAX)}) {
    hash = (hash ^ part) * 0x9E3779B97F4A7C15;
    hash ^= hash >> 29;
  }
  if (const auto number = catalogue_.resolve(sighting.reference)) {
    // In an index in use such an entry only says once more what the record says.
    if (sighting.current && catalogue_.standing(*number) == Catalogue::Standing::in_use) return;
    if (!is_told_again(hash)) add_to_record(*number, sighting);
    return;
  }
  if (sighting.reference == 0) {
    if (limit_.is_full() || (!is_told_again(hash) && !some_record_has(sighting))) {
      if (limit_.take(0)) nameless_.push_back(sighting);
    }
    return;
  }
  if (limit_.is_full() && !by_reference_.contains(sighting.reference)) {
    limit_.take(0);
    return;
  }
  Ghost& ghost = by_reference_[sighting.reference];
  ghost.reference = sighting.reference;
  ghost.current = ghost.current || sighting.current;
  keep(ghost.sightings, sighting);
}

// Being forgotten costs a closer look only.
bool LostNames::is_told_again(uint64_t hash) {
  if (seen_.size() >= kMostSeen) seen_.clear();
  return !seen_.insert(hash).second;
}

void LostNames::keep(std::vector<Sighting>& names, const Sighting& sighting) {
  if (is_seen_before(names, sighting)) return;
  if (limit_.take(names.size())) names.push_back(sighting);
}

void LostNames::add(File copy) {
  // Deletion adds one to the sequence number of a record that is free.
  if (!copy.in_use) --copy.sequence;
  const uint64_t reference = make_reference(copy.number, copy.sequence);
  if (copy.names.empty() || copy.sequence == 0 || copy.number >= catalogue_.size()) return;
  for (const FoundName& name : copy.names) {
    add({reference, name, false, copy.modified, std::nullopt});
  }
  const auto ghost = by_reference_.find(reference);
  if (ghost == by_reference_.end()) return;
  copy.in_use = false;  // whatever it was: the record is another file's now
  if (!ghost->second.copy || ghost->second.copy->modified <= copy.modified) {
    ghost->second.copy = std::make_unique<File>(std::move(copy));
  }
}

bool LostNames::is_seen_before(std::vector<Sighting>& names, const Sighting& sighting) {
  for (Sighting& known : names) {
    if (!same_name(known.name, sighting.name)) continue;
    known.seen = std::max(known.seen, sighting.seen);
    if (known.name.size && sighting.name.size) {
      known.name.size = std::max(known.name.size, sighting.name.size);
    }
    if (!known.deleted) known.deleted = sighting.deleted;
    // A journal knows neither size nor times.
    if (!known.name.size && sighting.name.size) {
      FoundName fuller = sighting.name;
      fuller.folder = fuller.folder || known.name.folder;
      known.name = std::move(fuller);
    }
    return true;
  }
  return false;
}

void LostNames::add_to_record(uint64_t number, const Sighting& sighting) {
  const File file = file_of_(number);
  const bool deleted = catalogue_.standing(number) == Catalogue::Standing::deleted;
  const bool own = holds(file.names, sighting.name);
  if (!deleted && (own || sighting.name.name_space == kDos)) return;
  Known& known = of_records_[number];
  if (deleted && sighting.deleted) known.deleted = std::max(known.deleted, sighting.deleted);
  if (deleted && sighting.name.size) known.size = std::max(known.size, *sighting.name.size);
  if (own || (sighting.name.name_space == kDos && !file.names.empty())) return;
  keep(known.names, sighting);
}

// A name whose reference was overwritten, as it stands behind the end of an index: of a file that
// has it, or had it.
bool LostNames::some_record_has(const Sighting& sighting) const {
  for (const uint32_t number : catalogue_.candidates(sighting.name.parent, sighting.name.text)) {
    if (holds(file_of_(number).names, sighting.name)) return true;
  }
  return false;
}

// Whether a record's file is, or later became, what an index entry says. Drivers keep the moment at
// which a file was made to 100 ns; one of whole seconds, as some programs set it, many may share.
bool LostNames::is_told_by(uint64_t number, const Sighting& sighting) const {
  const File file = file_of_(number);
  const FoundName& name = sighting.name;
  if (file.folder != name.folder) return false;
  if (name.created && file.created != name.created) return false;
  if (name.created && name.created->ticks % kTicksPerSecond != 0) {
    return name.modified <= file.modified;
  }
  const FileStream* main = file.stream(u"");
  const uint64_t size = main == nullptr ? 0 : main->size;
  return file.modified == name.modified && (file.folder || size == name.size);
}

void LostNames::settle() {
  // By the moment at which it was made or, where that was overwritten, last changed.
  const auto moment_of = [](const Sighting& sighting) {
    return Catalogue::hash_of_time(sighting.name.created ? sighting.name.created
                                                         : sighting.name.modified);
  };
  std::unordered_set<uint32_t> moments;
  for (const Sighting& sighting : nameless_) {
    if (sighting.name.size) moments.insert(moment_of(sighting));
  }
  if (moments.empty()) return;
  const auto records = catalogue_.of_moments(moments);
  std::erase_if(nameless_, [&](const Sighting& sighting) {
    if (!sighting.name.size) return false;
    std::optional<uint32_t> only;
    size_t looked_at = 0;
    const uint32_t moment = moment_of(sighting);
    auto record = std::ranges::lower_bound(records, std::pair(moment, uint32_t{0}));
    for (; record != records.end() && record->first == moment; ++record) {
      const uint32_t number = record->second;
      if (++looked_at > kMostOfOneMoment) return false;
      if (!is_told_by(number, sighting)) continue;
      if (only) return false;  // of two files alike, it tells neither
      only = number;
    }
    if (only) add_to_record(*only, sighting);
    return only.has_value();
  });
}

std::vector<Ghost> LostNames::ghosts() {
  std::vector<Ghost> found;
  found.reserve(by_reference_.size());
  while (!by_reference_.empty()) {
    found.push_back(std::move(by_reference_.extract(by_reference_.begin()).mapped()));
  }
  constexpr size_t kOfRecord = SIZE_MAX;
  std::unordered_multimap<uint64_t, std::pair<FoundName, size_t>> told;  // with ghosts' indexes
  std::unordered_set<uint64_t> asked;
  for (const Sighting& sighting : nameless_) asked.insert(hash_of(sighting.name));
  const auto tell = [&](const Sighting& s, size_t index) {
    const uint64_t hash = hash_of(s.name);
    if (asked.contains(hash)) told.emplace(hash, std::pair(s.name, index));
  };
  for (size_t i = 0; i < found.size(); ++i) {
    for (const Sighting& sighting : found[i].sightings) tell(sighting, i);
  }
  for (const auto& [number, known] : of_records_) {
    for (const Sighting& sighting : known.names) tell(sighting, kOfRecord);
  }
  for (Sighting& sighting : nameless_) {
    const uint64_t hash = hash_of(sighting.name);
    const auto [begin, end] = told.equal_range(hash);
    const auto known = std::find_if(begin, end, [&](const auto& one) {
      const FoundName& name = one.second.first;
      return same_name(name, sighting.name) &&
             (!name.created || !sighting.name.created || name.created == sighting.name.created);
    });
    if (known == end) {
      tell(sighting, found.size());
      const uint64_t key = key_of(sighting);
      found.push_back({0, false, {std::move(sighting)}, nullptr, key});
    } else if (known->second.second != kOfRecord) {
      Ghost& ghost = found[known->second.second];
      if (!ghost.by_name) ghost.by_name = key_of(sighting);
    }
  }
  for (Ghost& ghost : found) {
    // A short name stands for the long one only where there is no other.
    const auto is_short = [](const Sighting& s) { return s.name.name_space == kDos; };
    if (!std::ranges::all_of(ghost.sightings, is_short)) {
      std::erase_if(ghost.sightings, is_short);
    }
    std::ranges::stable_sort(ghost.sightings, [](const Sighting& a, const Sighting& b) {
      if (a.current != b.current) return a.current;
      return a.seen > b.seen;
    });
  }
  return found;
}

}  // namespace undershelf::ntfs
