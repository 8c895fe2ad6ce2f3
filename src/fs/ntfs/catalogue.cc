#include "fs/ntfs/catalogue.h"

#include <algorithm>
#include <functional>

#include "model/make_set.h"

namespace undershelf::ntfs {
namespace {

uint32_t hash_of(uint64_t parent, std::u16string_view text) {
  const uint64_t mixed =
      std::hash<std::u16string_view>{}(text) ^ (number_of(parent) + 1) * 0x9E3779B97F4A7C15;
  return static_cast<uint32_t>(mixed ^ mixed >> 32);
}

}  // namespace

void Catalogue::add(const File& file) {
  Known& known = records_[file.number];
  known.sequence = file.sequence;
  known.made = hash_of_time(file.created);
  known.changed = hash_of_time(file.modified);
  known.standing = file.in_use ? Standing::in_use : Standing::deleted;
  for (const FoundName& name : file.names) add_name(file.number, name);
}

void Catalogue::add_name(uint64_t number, const FoundName& name) {
  names_.push_back({hash_of(name.parent, name.text), static_cast<uint32_t>(number)});
}

void Catalogue::settle() { std::ranges::sort(names_, {}, &HashedName::hash); }

std::optional<uint64_t> Catalogue::resolve(uint64_t reference) const {
  const uint64_t number = number_of(reference);
  if (reference == 0) return std::nullopt;
  if (standing(number) == Standing::none) return std::nullopt;
  const Known& known = records_[number];
  const uint16_t wanted = sequence_of(reference);
  const auto next = static_cast<uint16_t>(wanted + 1 == 0x10000 ? 1 : wanted + 1);
  const bool same = wanted == 0 || wanted == known.sequence;
  if (same || (known.standing == Standing::deleted && next == known.sequence)) return number;
  return std::nullopt;
}

std::vector<uint32_t> Catalogue::candidates(uint64_t parent, std::u16string_view text) const {
  std::vector<uint32_t> found;
  const uint32_t hash = hash_of(parent, text);
  for (auto name = std::ranges::lower_bound(names_, hash, {}, &HashedName::hash);
       name != names_.end() && name->hash == hash; ++name) {
    found.push_back(name->number);
  }
  return found;
}

uint32_t Catalogue::hash_of_time(const std::optional<Time>& time) {
  const auto ticks = static_cast<uint64_t>(time.value_or(Time{}).ticks);
  return static_cast<uint32_t>((ticks * 0x9E3779B97F4A7C15) >> 32);
}

std::vector<std::pair<uint32_t, uint32_t>> Catalogue::of_moments(
    const std::unordered_set<uint32_t>& moments) const {
  std::vector<std::pair<uint32_t, uint32_t>> found;
  for (size_t number = 0; number < records_.size(); ++number) {
    const Known& known = records_[number];
    if (known.standing == Standing::none) continue;
    for (const uint32_t moment : {known.made, known.changed}) {
      if (moments.contains(moment)) found.emplace_back(moment, static_cast<uint32_t>(number));
    }
  }
  make_set(found);
  return found;
}

}  // namespace undershelf::ntfs
