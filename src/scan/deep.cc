#include "scan/deep.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>

#include "model/error.h"
#include "model/make_set.h"
#include "placing/claims.h"
#include "shelf/rows.h"
#include "sweep/content_starts.h"
#include "sweep/sweep.h"

namespace undershelf {
namespace {

ByteRange wanted_range(const Source& source, const ScanOptions& options) {
  return options.range.value_or(ByteRange{0, source.size()});
}

SweepRecord begin_or_continue(SweepStore& store, const Source& source, const ScanOptions& options,
                              const std::vector<std::string>& systems) {
  SweepRecord wanted;
  wanted.range = wanted_range(source, options);
  wanted.systems = fmt::format("{}", fmt::join(systems, ","));
  wanted.position = wanted.range.offset;
  const std::optional<SweepRecord> begun = store.record();
  if (!begun) {
    store.begin(wanted);
    return wanted;
  }
  if (begun->systems != wanted.systems) {
    throw Error(
        Failure::refused,
        fmt::format("The shelf holds a deep scan for {}. Give the same --only to go on with "
                    "it, or --replace it.",
                    begun->systems));
  }
  return *begun;
}

// What holds the places of traces now. Such traces are no remnants: they are the present file
// systems' own metadata, or lie inside a file. File systems' own files are only what they are long,
// as what stands behind may be older. `looking_inside`: a system that keeps what was deleted inside
// its own files is looked for, which then hold nothing. `by_sweep`: 1 for what a sweep led to as
// well, 0 without: traces are put together each time, and would lie in what they led to before.
ClaimMap holders(const Shelf& shelf, const FileSystem* looking_inside, int by_sweep) {
  ClaimMap claims;
  SQLite::Statement row(shelf.db(), R"sql(
    SELECT s.entry, s.pieces, e.system AND e.kind='file', s.size, v.file_system
    FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
    WHERE s.open=0 AND v.standing='current' AND v.space=0 AND e.by_sweep<=?1 AND
      (e.merged_into IS NULL OR ?1<(SELECT by_sweep FROM entries WHERE id=e.merged_into)) AND
      (e.state='live' OR (e.kind='folder' AND s.name IS NULL AND e.state='deleted'))
    UNION ALL
    SELECT 0, structures, 0, 0, '' FROM volumes
    WHERE standing='current' AND space=0 AND by_sweep<=?1)sql");
  row.bind(1, by_sweep);
  while (row.executeStep()) {
    const bool own = row.getColumn(2).getInt() != 0;
    const std::string_view system = row.getColumn(4).getText();
    if (own && looking_inside != nullptr && system.starts_with(looking_inside->traits.family)) {
      continue;
    }
    Pieces pieces = pieces_of(row.getColumn(1));
    if (own) pieces = truncated(pieces, size_of(row.getColumn(3)));
    for (const Piece& piece : pieces) {
      if (piece.kind != Piece::Kind::range) continue;
      claims.add({piece.offset, piece.length}, id_of<EntryId>(row.getColumn(0)));
    }
  }
  claims.settle();
  return claims;
}

bool holds(const ClaimMap& claims, const ByteRange& range) {
  const Claim* claim = claims.at_or_after(range.offset);
  return claim != nullptr && overlap(claim->range, range).length > 0;
}

// The systems a scan looks for, in the order of file_systems().
std::vector<const FileSystem*> wanted_systems(const ScanOptions& options) {
  std::vector<const FileSystem*> wanted;
  for (const FileSystem& system : file_systems()) {
    const bool all = options.systems.empty();
    if (all || std::ranges::find(options.systems, system.name) != options.systems.end()) {
      wanted.push_back(&system);
    }
  }
  return wanted;
}

ByteRange range_of(const Volume& volume) { return {volume.offset, volume.length}; }

}  // namespace

SweepRecord sweep_source(Shelf& shelf, const Source& source, const ScanOptions& options,
                         const Budget& budget) {
  std::vector<std::string> systems;
  Detectors detectors;
  for (const FileSystem* system : wanted_systems(options)) {
    systems.emplace_back(system->name);
    detectors.push_back(system->make_detector());
  }
  const size_t file_systems = systems.size();
  systems.emplace_back(kContentStarts);
  detectors.push_back(make_content_detector());
  SweepStore store(shelf);
  SweepRecord record = begin_or_continue(store, source, options, systems);
  const ByteRange wanted = wanted_range(source, options);
  SweepProgress progress{wanted, record.position, record.position, {}};
  SweepCallbacks callbacks;
  callbacks.progress = [&](uint64_t position, const SweepFinds& finds) {
    progress.position = position;
    progress.found.clear();
    for (size_t i = 0; i < file_systems; ++i) {
      progress.found.emplace_back(systems[i], store.count(systems[i]) + finds.traces[i].size());
    }
    options.sweeping(progress);
    return !budget.is_stopped();
  };
  callbacks.checkpoint = [&](uint64_t position, SweepFinds&& finds) {
    record.position = position;
    store.add(record, systems, finds.traces, finds.unreadable);
  };
  for (std::vector<ByteRange> left; !(left = not_swept(shelf, wanted)).empty();) {
    // A stretch that was begun goes on where it was stopped; any other is a new one.
    if (record.done() || left.front().offset != record.position) {
      store.begin_further(record, left.front());
    }
    sweep(source, {record.position, record.range.end() - record.position}, detectors, callbacks);
    if (!record.done()) return record;
  }
  return record;
}

bool is_swept(Shelf& shelf, const Source& source, const std::optional<ByteRange>& range) {
  const SweepStore store(shelf);
  return store.record() && not_swept(shelf, range.value_or(ByteRange{0, source.size()})).empty();
}

std::optional<Time> oldest_file(Shelf& shelf, VolumeId volume) {
  SQLite::Statement row(shelf.db(),
                        "SELECT min(coalesce(created, modified)) FROM entries "
                        "WHERE volume=? AND by_sweep=0");
  row.bind(1, number_of(volume));
  return row.executeStep() ? maybe_time(row.getColumn(0)) : std::nullopt;
}

std::vector<EntryId> files_with_headers(Shelf& shelf) {
  const ClaimMap held = holders(shelf, nullptr, 1);
  const SweepStore store(shelf);
  std::vector<EntryId> files;
  for (const FileSystem& system : file_systems()) {
    for (const Trace& trace : store.traces(system.name, kHeaderTrace)) {
      const Claim* claim = held.at_or_after(trace.offset);
      if (claim != nullptr && claim->range.offset <= trace.offset) files.push_back(claim->entry);
    }
  }
  make_set(files);
  SQLite::Statement row(shelf.db(),
                        "SELECT 1 FROM entries WHERE id=? AND kind='file' AND system=0");
  std::erase_if(files, [&](EntryId entry) {
    row.reset();
    row.bind(1, number_of(entry));
    return !row.executeStep();
  });
  return files;
}

std::vector<FoundBySweep> volumes_of_sweep(Shelf& shelf, const SourcePtr& source,
                                           const ScanOptions& options, const Present& present,
                                           Budget& budget) {
  const ClaimMap held = holders(shelf, nullptr, 0);
  const SweepStore store(shelf);
  std::vector<ContentStart> contents;
  for (const Trace& trace : store.numbered_traces(kContentStarts)) {
    if (!holds(held, {trace.offset, 1}))
      contents.push_back({static_cast<unsigned>(trace.number), trace.offset});
  }
  std::vector<Assembled> assembled;
  for (const FileSystem* system : wanted_systems(options)) {
    const bool inside = system->traits.keeps_old_inside;
    const ClaimMap held_besides = inside ? holders(shelf, system, 0) : ClaimMap();
    const ClaimMap& claims = inside ? held_besides : held;
    Scene scene;
    scene.source = source;
    scene.options = options.read;
    scene.set_traces(store.traces(system->name), *system);
    scene.contents = contents;
    scene.is_held = [&](const ByteRange& range) {
      budget.step();
      return holds(claims, range);
    };
    scene.current = present.current;
    scene.starts = present.starts;
    for (Assembled& one : system->assemble(scene)) assembled.push_back(std::move(one));
  }
  // The most believable first: what then overlaps it came before it.
  std::ranges::stable_sort(assembled, [](const Assembled& a, const Assembled& b) {
    return a.reader->volume().confidence > b.reader->volume().confidence;
  });
  std::vector<ByteRange> taken = present.others;
  for (const Scene::Current& one : present.current) taken.push_back(range_of(one.reader->volume()));
  std::vector<FoundBySweep> found;
  for (Assembled& one : assembled) {
    FoundBySweep volume{std::move(one.reader), {}, one.adds_to_current};
    volume.volume = volume.reader->volume();
    const ByteRange range = range_of(volume.volume);
    const bool former =
        !one.adds_to_current && std::ranges::any_of(taken, [&](const ByteRange& other) {
          return overlap(range, other).length > 0;
        });
    volume.volume.standing = former ? "former" : "current";
    if (former) volume.volume.structures.clear();
    if (!former && !one.adds_to_current) taken.push_back(range);
    found.push_back(std::move(volume));
  }
  return found;
}

}  // namespace undershelf
