// Puts former and lost volumes of FAT and exFAT together: from their headers where one is left, or
// else from what the folders on them and the content of files tell of where their clusters lie.
#pragma once

#include <algorithm>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "fs/assembly/layouts.h"
#include "fs/chained/geometry.h"
#include "model/make_set.h"

namespace undershelf::chained {

// What a system derives from: its types, its functions of those names, its rules, and how many
// clusters it has at most.
template <typename Boot, typename GeometryOf, typename FoundOf, auto find, auto make,
          const Rules& rules, uint32_t most_clusters>
struct SystemOf {
  using BootSector = Boot;
  using Geometry = GeometryOf;
  using Found = FoundOf;
  static constexpr auto find_geometry = find;
  static constexpr auto make_reader = make;
  static constexpr const Rules& kRules = rules;
  static constexpr uint32_t kMostClusters = most_clusters;
};

// `System` is a SystemOf, and has kFamily and from_header(boot). To be run
// once.
template <typename System>
class Assembler {
 public:
  using Geometry = typename System::Geometry;
  using Found = typename System::Found;

  explicit Assembler(const Scene& scene) : scene_(scene), layouts_(scene, System::kRules) {}
  virtual ~Assembler() = default;

  std::vector<Assembled> run() {
    for (const Scene::Current& current : scene_.current) take_current(current);
    take_headers();
    while (drafts_.size() < kMostVolumes && take_next()) {
    }
    for (const Draft& draft : present_) add_to_current(draft);
    for (Draft& draft : drafts_) finish(draft);
    take_rest();
    return std::move(assembled_);
  }

 protected:
  // A volume on its way.
  struct Draft {
    Grid grid;                         // its unit 0 is cluster 2
    std::optional<Geometry> geometry;  // of its header, if one is left
    uint64_t volume_start = 0;         // byte of the source
    size_t votes = 0;                  // pieces of evidence that agree with it
    uint64_t end = 0;                  // byte of the source: of the last of them, if that is known
    std::vector<Trace> starts;         // folders that name their own place, and lie on the grid
    // What lies on the grid belongs to it if it was made before that, or not before that.
    std::optional<Time> before, since;
  };

  // What a volume that is there now explains goes to `present`, what is older than it to `former`.
  virtual void take_lives(Draft present, Draft former) = 0;
  // Whether something is where a header says; counts what votes for it.
  virtual bool is_there(Draft& draft, const Geometry& geometry) = 0;
  // Takes what a volume explains: that is no evidence for another one.
  virtual void explain(Draft& draft) = 0;
  // Adds the volume that most of what is left speaks for; false if there is none.
  virtual bool take_next() = 0;
  // The layout of a volume without a header, besides its frame.
  virtual void infer(const Draft& draft, Geometry& geometry) = 0;
  // What a sweep found of a volume; nothing if that is no volume. `inferred`: it has no header.
  virtual std::optional<Found> found_of(const Draft& draft, Geometry& geometry, bool inferred) = 0;
  // What a sweep found of a present volume that its own structures do not lead to.
  virtual std::optional<Found> found_of_present(const Draft& draft) = 0;
  // When the first of the entries at a place (byte of the source) was made.
  virtual std::optional<Time> time_at(uint64_t place) const = 0;
  // How it is known where a volume without a header lies: a sentence.
  virtual std::string note(size_t votes) const = 0;
  // What no volume explains.
  virtual void take_rest() {}

  void add(Draft draft) {
    explain(draft);
    drafts_.push_back(std::move(draft));
  }

  // Whether the entries at a place (byte of the source) were made when the draft's volume was
  // there.
  bool belongs(const Draft& draft, uint64_t place) const {
    if (!draft.before && !draft.since) return true;
    const std::optional<Time> time = time_at(place);
    if (draft.before) return !time || *time < *draft.before;
    return time && *time >= *draft.since;
  }

  // Behind the last cluster: byte of the source.
  uint64_t end_of(const Draft& draft) const {
    if (draft.geometry) return draft.grid.place_of(draft.geometry->cluster_count);
    return std::min(std::max(scene_.end_around(draft.grid.start), draft.end),
                    scene_.source->size());
  }

  // Calls `visit` with the number and the place of each cluster that begins in a part of the
  // source, and, where `around`, of the one in which the part begins.
  template <typename Visit>
  void each_cluster(const Draft& draft, const ByteRange& part, bool around,
                    const Visit& visit) const {
    const Grid& grid = draft.grid;
    if (part.offset >= end_of(draft)) return;
    const uint64_t end = std::min(part.end(), end_of(draft));
    const uint64_t from = std::max(part.offset, grid.start) - grid.start;
    uint64_t unit = around ? from / grid.unit_size : (from + grid.unit_size - 1) / grid.unit_size;
    for (; grid.place_of(unit) < end; ++unit) {
      visit(static_cast<uint32_t>(unit + kFirstCluster), grid.place_of(unit));
    }
  }

  const Scene& scene_;
  const Layouts layouts_;
  std::vector<Draft> present_;  // what of present volumes their own structures do not lead to
  std::vector<Draft> drafts_;
  std::vector<Assembled> assembled_;

 private:
  void take_current(const Scene::Current& current) {
    const Volume& volume = current.reader->volume();
    if (!volume.file_system.starts_with(System::kFamily)) return;
    Draft former;
    former.grid = {volume.heap_offset, volume.cluster_size};
    former.volume_start = volume.offset;
    Draft present = former;
    const auto window = std::make_shared<Window>(scene_.source, volume.offset,
                                                 scene_.source->size() - volume.offset);
    present.geometry = System::find_geometry(window, true);
    if (!present.geometry) return;
    present.since = former.before = current.oldest;
    take_lives(std::move(present), std::move(former));
  }

  void take_headers() {
    using BootSector = typename System::BootSector;
    each_free_header<BootSector>(
        scene_, System::kFamily, [&](uint64_t place, const BootSector& boot) {
          const std::optional<Geometry> geometry = System::from_header(boot);
          if (!geometry || drafts_.size() >= kMostVolumes || has_header_at(place)) return;
          Draft draft;
          draft.grid = {place + geometry->heap_offset, geometry->cluster_size};
          draft.volume_start = place;
          // A header and its backup are alike, and fields may make sense by chance.
          if (!is_there(draft, *geometry)) return;
          draft.geometry = geometry;
          add(std::move(draft));
        });
  }

  bool has_header_at(uint64_t place) const {
    return std::ranges::any_of(
        drafts_, [&](const Draft& draft) { return draft.geometry && draft.volume_start == place; });
  }

  void add_to_current(const Draft& draft) {
    if (auto found = found_of_present(draft)) push(draft, *draft.geometry, std::move(*found), true);
  }

  void finish(Draft& draft) {
    const bool inferred = !draft.geometry;
    Geometry geometry = inferred ? frame(draft) : *draft.geometry;
    if (inferred) infer(draft, geometry);
    draft.geometry = geometry;
    std::optional<Found> found = found_of(draft, geometry, inferred);
    if (!found) return;
    geometry.confidence = System::kRules.confidence(!inferred, true, draft.votes);
    if (inferred) {
      geometry.notes.push_back(note(draft.votes));
      geometry.notes.push_back(kAssumedBeginning);
    }
    push(draft, geometry, std::move(*found), false);
  }

  // What a grid alone tells of a layout.
  Geometry frame(Draft& draft) const {
    const Grid& grid = draft.grid;
    const uint64_t end = end_of(draft);
    // The nearest place before it at which a volume may have begun.
    draft.volume_start = scene_.start_before(grid.start);
    Geometry geometry;
    geometry.cluster_size = static_cast<uint32_t>(grid.unit_size);
    geometry.sector_size = std::min(geometry.cluster_size, scene_.source->sector_size());
    geometry.volume_size = end - draft.volume_start;
    geometry.heap_offset = grid.start - draft.volume_start;
    geometry.cluster_count = static_cast<uint32_t>(
        std::min<uint64_t>((end - grid.start) / grid.unit_size, System::kMostClusters));
    return geometry;
  }

  void push(const Draft& draft, const Geometry& geometry, Found found, bool adds_to_current) {
    const ByteRange where{draft.volume_start, scene_.source->size() - draft.volume_start};
    assembled_.push_back(
        {System::make_reader({scene_.source, where, scene_.options}, geometry, std::move(found)),
         adds_to_current});
  }
};

}  // namespace undershelf::chained
