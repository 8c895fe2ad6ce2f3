#include "scan/probe.h"

#include <algorithm>
#include <string_view>
#include <utility>

#include "fs/detector.h"
#include "model/make_set.h"

namespace undershelf {
namespace {

constexpr uint64_t kStep = 1 << 20;       // bytes
constexpr size_t kMostPlaces = 4096;      // at which a sector is read
constexpr size_t kLooked = 4096;          // bytes: HFS+ headers stand 1024 bytes in
constexpr uint64_t kLeastVolume = 65536;  // bytes left in a gap

std::vector<ByteRange> gaps(uint64_t size, std::vector<ByteRange>& taken) {
  std::ranges::sort(taken, {}, &ByteRange::offset);
  std::vector<ByteRange> free;
  uint64_t at = 0;
  for (const ByteRange& range : taken) {
    const uint64_t end = std::min(range.offset, size);
    if (end > at) free.push_back({at, end - at});
    at = std::max(at, range.end());
  }
  if (at < size) free.push_back({at, size - at});
  return free;
}

class Prober {
 public:
  Prober(const SourcePtr& source, const ReadOptions& options) : source_(source), options_(options) {
    options_.headless = false;
    for (const FileSystem& system : file_systems()) detectors_.push_back(system.make_detector());
  }

  void look_through(const ByteRange& gap) {
    uint64_t behind = gap.offset;  // of what was found
    // One read tells of the whole first MiB.
    std::vector<uint64_t> places = headers_in({gap.offset, std::min(kStep, gap.length)});
    for (const uint64_t place : places) take(place, gap, behind);
    for (uint64_t at = gap.offset / kStep * kStep + kStep;
         at + kLeastVolume <= gap.end() && looked_at_ < kMostPlaces; at += kStep) {
      if (at < behind) continue;
      for (const uint64_t place : headers_in({at, kLooked})) {
        if (place == at) take(place, gap, behind);
      }
    }
  }

  Probed found() { return std::move(found_); }

 private:
  // Where volumes begin whose headers stand in a range.
  std::vector<uint64_t> headers_in(const ByteRange& range) {
    ++looked_at_;
    bytes_.resize(range.length);
    source_->read(range.offset, bytes_);
    std::vector<Trace> traces;
    const size_t own = bytes_.size() / kSweepStep * kSweepStep;
    for (const auto& detector : detectors_) {
      detector->look({range.offset, std::span(bytes_).first(own), own}, traces);
    }
    std::vector<uint64_t> places;
    for (const Trace& trace : traces) {
      const bool at_its_start = trace.number <= trace.offset && trace.offset - trace.number <= 1024;
      if (trace.kind == kHeaderTrace && at_its_start) places.push_back(trace.number);
    }
    make_set(places);
    return places;
  }

  void take(uint64_t place, const ByteRange& gap, uint64_t& behind) {
    while (place >= behind && place >= gap.offset && place < gap.end()) {
      auto reader = open_volume({source_, {place, gap.end() - place}, options_});
      // What reaches into a partition is older than that; what its header does not lead to is not
      // there, as with a backup of a header.
      constexpr int kSure = 80;
      if (!reader || reader->volume().confidence < kSure) return;
      if (place + reader->volume().length > gap.end()) {
        if (place < behind || is_backup(place)) return;
        found_.reaching.push_back(reader->volume());
        return;
      }
      behind = place + reader->volume().length;
      found_.found.push_back(std::move(reader));
      const ByteRange next = overlap({behind, kLooked}, gap);
      if (next.length == 0) return;
      const std::vector<uint64_t> places = headers_in(next);
      if (std::ranges::find(places, behind) == places.end()) return;
      place = behind;
    }
  }

  // A header some sectors behind one of the same volume that is told of already.
  bool is_backup(uint64_t place) const {
    constexpr uint64_t kFar = 64 << 10;
    return !found_.reaching.empty() && place - found_.reaching.back().offset < kFar;
  }

  const SourcePtr& source_;
  ReadOptions options_;
  Detectors detectors_;
  std::vector<std::byte> bytes_;
  size_t looked_at_ = 0;
  Probed found_;
};

}  // namespace

Probed volumes_in(const SourcePtr& source, const ByteRange& where, const ReadOptions& options) {
  Prober prober(source, options);
  prober.look_through(where);
  return prober.found();
}

Probed volumes_in_gaps(const SourcePtr& source, std::vector<ByteRange> taken,
                       const ReadOptions& options) {
  Prober prober(source, options);
  for (const ByteRange& gap : gaps(source->size(), taken)) prober.look_through(gap);
  return prober.found();
}

std::optional<uint64_t> odd_beginning(const SourcePtr& source) {
  constexpr size_t kSearched = 4 << 20;  // bytes
  // What stands so many bytes behind the beginning of a volume: the names in boot sectors.
  constexpr std::pair<std::string_view, size_t> kMarks[] = {
      {"NTFS    ", 3}, {"EXFAT   ", 3}, {"FAT12   ", 54}, {"FAT16   ", 54}, {"FAT32   ", 82}};
  std::string bytes(std::min<uint64_t>(kSearched, source->size()), '\0');
  source->read(0, std::as_writable_bytes(std::span(bytes)));
  for (const auto& [mark, behind] : kMarks) {
    for (size_t at = 0; (at = bytes.find(mark, at)) != std::string::npos; ++at) {
      if (at < behind || (at - behind) % kSweepStep == 0) continue;
      const ByteRange where{at - behind, source->size() - (at - behind)};
      if (open_volume({source, where, {}})) return where.offset;
    }
  }
  return std::nullopt;
}

}  // namespace undershelf
