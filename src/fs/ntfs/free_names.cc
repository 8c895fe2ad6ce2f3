#include "fs/ntfs/free_names.h"

#include <algorithm>

#include "fs/ntfs/journal.h"
#include "fs/ntfs/mft.h"
#include "fs/ntfs/reader.h"
#include "fs/trace_kinds.h"

namespace undershelf::ntfs {
namespace {

constexpr size_t kUsualRecord = 1024;
constexpr uint64_t kNumbers = uint64_t{1} << 32;  // of records that a volume may have
constexpr size_t kMostParts = 200'000;            // read: what they name is held in memory

FoundNames::Kind kind_of(const Trace& trace) {
  return trace.kind == kIndexBlock    ? FoundNames::Kind::index_block
         : trace.kind == kChangePages ? FoundNames::Kind::changes
                                      : FoundNames::Kind::log;
}

}  // namespace

FreeNames::FreeNames(const Scene& scene) : scene_(scene) {
  std::vector<std::pair<FoundNames, uint64_t>> free;  // with VCNs
  for (const TraceKind kind : {kIndexBlock, kChangePages, kLogPages}) {
    for (const Trace& trace : scene.of_kind(kind)) {
      for (const FoundNames& names : free_parts(trace)) free.emplace_back(names, trace.number);
    }
  }
  // Of too many, those are kept that lie evenly over the source.
  if (const size_t count = free.size(); count > kMostParts) {
    for (size_t i = 0; i < kMostParts; ++i) free[i] = std::move(free[i * count / kMostParts]);
    free.resize(kMostParts);
    left_out_ = count - kMostParts;
  }
  if (free.empty()) return;
  for (const Scene::Current& one : scene.current) {
    if (one.reader->volume().file_system == "ntfs") note(one);
  }
  for (const auto& [names, vcn] : free) sort(names, vcn);
}

// The parts of a trace that nothing holds: all of an index block or none of it, pages one by one;
// pages of a log that follow each other stay together, as what they hold goes on from one to the
// next.
std::vector<FoundNames> FreeNames::free_parts(const Trace& trace) const {
  std::vector<FoundNames> parts;
  const FoundNames::Kind kind = kind_of(trace);
  const uint64_t step = kind == FoundNames::Kind::index_block ? trace.length : kPage;
  for (uint64_t at = trace.offset; at < trace.end(); at += step) {
    const ByteRange part{at, std::min(step, trace.end() - at)};
    if (scene_.is_held(part)) continue;
    if (kind == FoundNames::Kind::log && !parts.empty() && parts.back().range.end() == at) {
      parts.back().range.length += part.length;
      continue;
    }
    parts.emplace_back();
    parts.back().kind = kind;
    parts.back().range = part;
    if (kind == FoundNames::Kind::index_block) parts.back().folder = trace.other;
  }
  return parts;
}

void FreeNames::note(const Scene::Current& current) {
  const Volume& volume = current.reader->volume();
  if (volume.before > 0) return;  // its numbers count from what is not there
  const auto window = std::make_shared<Window>(scene_.source, volume.offset, volume.length);
  const std::optional<Geometry> geometry = find_geometry(window, true);
  if (!geometry) return;
  const UnitSpace space{volume.offset, geometry->cluster_size, geometry->cluster_count()};
  std::vector<std::string> notes;  // the reader makes its own
  present_.push_back({{volume.offset, volume.length},
                      *geometry,
                      Mft(scene_.source, space, *geometry, notes).count(),
                      current.oldest,
                      {}});
}

// A present volume's own are those that name only records it has, and that were written to when it
// had files.
void FreeNames::sort(FoundNames names, uint64_t vcn) {
  std::optional<Time> last;
  uint64_t records = 0;
  read_names(
      scene_.source, names, kUsualRecord,
      [&](const Sighting& sighting) {
        last = std::max(last, sighting.seen);
        // A reference that was written over, by the mark of an index's end for one, is none.
        const uint64_t number = number_of(sighting.reference);
        if (number < kNumbers) records = std::max(records, number + 1);
      },
      [](const Record&) {});
  for (Present& present : present_) {
    if (overlap(present.range, names.range).length == 0) continue;
    const bool known = number_of(names.folder) < present.records && records <= present.records;
    if (!known || !last || !present.oldest || *last < *present.oldest) break;
    names.current = false;
    names.sure = true;
    present.names.push_back(names);
    return;
  }
  if (names.kind == FoundNames::Kind::index_block) {
    blocks_[number_of(names.folder)].push_back({vcn, names});
  } else if (records > 0) {
    pages_.push_back({names, records});
  }
}

std::vector<Assembled> FreeNames::of_present() {
  std::vector<Assembled> found;
  for (Present& present : present_) {
    if (present.names.empty()) continue;
    found.push_back({make_reader({scene_.source, present.range, scene_.options}, present.geometry,
                                 {{}, std::move(present.names)}),
                     true});
  }
  return found;
}

}  // namespace undershelf::ntfs
