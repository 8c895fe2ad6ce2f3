#include "scan/scan.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <unordered_map>

#include "placing/placing.h"
#include "rating/rate_pass.h"
#include "rating/sampling.h"
#include "scan/survey.h"
#include "shelf/schema.h"
#include "shelf/writer.h"
#include "tree/merge.h"
#include "tree/trash.h"
#include "tree/tree.h"

namespace undershelf {

namespace {

// Two living entries on the same clusters: one of the two is damaged.
void note_disputes(Shelf& shelf, const ClaimMap& claims) {
  shelf.db().exec("DELETE FROM damage WHERE volume IS NULL");
  SQLite::Statement row(shelf.db(), "INSERT INTO damage VALUES(NULL, 0, 0, ?)");
  if (claims.disputed().empty()) return;
  row.bind(1, fmt::format("{} living files and folders share clusters with another.",
                          claims.disputed().size()));
  row.exec();
}

}  // namespace

ScanResult scan_quickly(Shelf& shelf, const SourcePtr& source, const ScanOptions& options) {
  ScanResult result;
  const int64_t scan = shelf.begin_scan("quick", options.check == Check::none ? "none" : "sample");

  const Survey found_here = survey(source, options.read);
  std::unordered_map<int64_t, VolumeReader*> readers;  // by volume id
  for (const FoundVolume& found : found_here.volumes) {
    const Volume& volume = found.reader->volume();
    options.progress(fmt::format("Reading {} at byte {}", volume.file_system, volume.offset));
    VolumeWriter writer(shelf, volume);
    found.reader->read(writer);
    writer.finish();
    readers[writer.volume_id()] = found.reader.get();
    ++result.volumes;
    result.source_is_short =
        result.source_is_short || volume.offset + volume.length > source->size();
  }

  shelf.db().exec(kIndexes);
  options.progress("Joining names and folders");
  merge_twins(shelf);
  build_tree(shelf);
  options.progress("Placing lost files");
  const ClaimMap claims = load_claims(shelf);
  note_disputes(shelf, claims);
  const NextUsed next_used = [&](int64_t volume, const ByteRange& within) {
    const auto reader = readers.find(volume);
    return reader == readers.end() ? ByteRange{} : reader->second->next_used(within);
  };
  place_open_streams(shelf, claims, next_used,
                     options.check == Check::none ? nullptr : source.get());
  options.progress("Reading trash folders");
  read_trash(shelf, source, options.read.zone);
  if (options.check == Check::sample) {
    options.progress("Looking at samples of lost files");
    sample_lost_files(shelf, source);
  }
  options.progress("Rating");
  rate_streams(shelf, claims, next_used, source->size());

  shelf.end_scan(scan, "finished");
  result.damage = shelf.damage_count();
  return result;
}

}  // namespace undershelf
