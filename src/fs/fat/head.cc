#include "fs/fat/head.h"

#include <algorithm>
#include <map>

namespace undershelf::fat {
namespace {

constexpr uint64_t kLeastMiddle = 4085, kLeastWide = 65525;  // clusters: of FAT16, of FAT32

// Tables before the clusters, one trace for each, by place; at most two: those with most of them
// left.
std::vector<Trace> tables_of(const Head& head) {
  std::map<std::pair<uint64_t, uint64_t>, uint64_t> left;  // begin and bits, to bytes left
  for (const Trace& trace : head.tables) {
    const bool before = trace.number > head.start && trace.end() <= head.data;
    if (before) left[{trace.number, trace.other}] += trace.length;
  }
  std::vector<std::pair<uint64_t, Trace>> ranked;
  for (const auto& [table, bytes] : left) {
    ranked.push_back({bytes, {table.first, bytes, 0, table.first, table.second}});
  }
  std::ranges::stable_sort(ranked, std::ranges::greater{}, &std::pair<uint64_t, Trace>::first);
  std::vector<Trace> tables;
  for (const auto& [bytes, table] : ranked) {
    if (tables.size() == 2 || (!tables.empty() && table.other != tables[0].other)) break;
    tables.push_back(table);
  }
  std::ranges::sort(tables, {}, &Trace::number);
  return tables;
}

// Whether entries lie where a fixed root would, or reach into it.
bool is_in_fixed_root(const Trace& entries, const Head& head) {
  return entries.end() <= head.data && entries.end() + kMostRoot > head.data;
}

// The width of a table's entries tells the type, or a fixed root does, or else the room there is:
// FAT32 keeps two tables of four bytes a cluster before its data, which is more than FAT16 and its
// root can take.
bool is_wide(const Head& head, std::span<const Trace> tables, uint64_t clusters) {
  constexpr uint64_t kMostNarrow = 2 * 2 * 65536 + kMostRoot + 65536;
  if (!tables.empty()) return tables.front().other == 32;
  const bool fixed_root = std::ranges::any_of(
      head.entries, [&](const Trace& entries) { return is_in_fixed_root(entries, head); });
  if (head.high || fixed_root) return head.high;
  return clusters >= kLeastWide || head.data - head.start > kMostNarrow;
}

// Where tables and a fixed root lie, by the tables of which chains are left.
void add_tables(std::span<const Trace> tables, const Head& head, Geometry& g) {
  constexpr uint64_t kUsualRoot = 16384;  // bytes: 512 entries
  g.fat_offset = tables.front().number - head.start;
  g.fat_count = tables.size() > 1 ? 2 : 1;
  const uint64_t room = head.data - tables.back().number;  // of the last table, and the root
  const uint64_t needed = (uint64_t{g.cluster_count} + 2) * tables.front().other / 8;
  g.fat_size = tables.size() > 1 ? tables[1].number - tables[0].number : std::min(needed, room);
  if (g.type == Type::fat32) return;
  g.root_size = std::min(room, kUsualRoot);
  g.root_offset = g.heap_offset - g.root_size;
  g.fat_size = std::min(g.fat_size, g.root_offset - (tables.back().number - head.start));
}

}  // namespace

void infer_head(const Head& head, Geometry& geometry) {
  const std::vector<Trace> tables = tables_of(head);
  const uint64_t clusters = geometry.cluster_count;
  geometry.type = is_wide(head, tables, clusters) ? Type::fat32
                  : clusters < kLeastMiddle       ? Type::fat12
                                                  : Type::fat16;
  geometry.fat_count = 0;
  if (!tables.empty()) add_tables(tables, head, geometry);
}

std::vector<VolumeRange> parts_of_fixed_root(const Scene& scene, const Head& head) {
  std::vector<VolumeRange> parts;
  for (const Trace& trace : head.entries) {
    if (!is_in_fixed_root(trace, head) || trace.offset < head.start) continue;
    if (!scene.is_held(trace.range())) parts.push_back({trace.offset - head.start, trace.length});
  }
  return parts;
}

}  // namespace undershelf::fat
