#include "scan/inspect.h"

#include <blkid/blkid.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <memory>
#include <vector>

#include "model/blank.h"

namespace undershelf {
namespace {

constexpr size_t kMostSamples = 64;   // of each kind, about
constexpr size_t kSampleSize = 4096;  // bytes

// A place that held data, or the first of several, `step` bytes apart, of which one did.
struct Place {
  uint64_t first = 0;
  uint64_t step = 0;
};

// Keeps where lost files begin, evenly thinned out to at most kMostSamples places.
class LostBeginnings : public Sink {
 public:
  EntryId add(const Entry& entry) override {
    if (entry.state == State::live || entry.kind == Kind::folder) return EntryId::none;
    for (const Stream& stream : entry.streams) {
      if (!stream.first || stream.size < kSampleSize || seen_++ % every_ != 0) continue;
      places_.push_back({*stream.first, stream.first_step});
      if (places_.size() < 2 * kMostSamples) continue;
      for (size_t i = 0; i < kMostSamples; ++i) places_[i] = places_[2 * i];
      places_.resize(kMostSamples);
      every_ *= 2;
    }
    return EntryId::none;
  }
  void add(EntryId, const OtherName&) override {}
  void add(const Damage&) override {}
  const std::vector<Place>& places() const { return places_; }

 private:
  std::vector<Place> places_;
  size_t seen_ = 0;
  size_t every_ = 1;
};

enum class Reads { blank, filled, unreadable };

Reads look_at(const Source& source, uint64_t place) {
  std::array<std::byte, kSampleSize> bytes{};
  if (!source.read(place, bytes).ok()) return Reads::unreadable;
  return is_one_value(bytes) ? Reads::blank : Reads::filled;
}

void count(Reads reads, Blankness& found) {
  ++found.sampled;
  found.blank += reads == Reads::blank;
  found.unreadable += reads == Reads::unreadable;
}

}  // namespace

SpaceSample sample_space(VolumeReader& reader, const Source& source) {
  LostBeginnings lost;
  reader.read(lost);
  const Volume& volume = reader.volume();
  const uint64_t end = volume.heap_offset + volume.cluster_count * volume.cluster_size;
  SpaceSample sample;
  std::vector<Place> places = lost.places();
  std::ranges::sort(places, {}, &Place::first);
  for (const Place& place : places) {
    // What is in use again tells nothing of how lost space reads. Of several candidates, one that
    // is not blank is enough.
    if (!is_free(reader, place.first)) continue;
    std::optional<Reads> reads;
    for (uint64_t at = place.first; at < end; at += place.step) {
      if (is_free(reader, at) && reads != Reads::filled) reads = look_at(source, at);
      if (place.step == 0) break;
    }
    if (reads) count(*reads, sample.lost);
  }
  for (const uint64_t place : free_places(reader, kMostSamples)) {
    count(look_at(source, place), sample.free);
  }
  return sample;
}

std::string meaning_of(const SpaceSample& sample) {
  const Blankness& lost = sample.lost;
  if (lost.sampled >= 3 && lost.blank == lost.sampled) {
    return "Every place sampled that held a lost file reads as blank: the drive discards deleted "
           "blocks, or the space was wiped. Expect names, not contents.";
  }
  if (lost.sampled >= 3 && lost.blank * 2 > lost.sampled) {
    return "Most places that held lost files read as blank: part of them was discarded or wiped.";
  }
  if (lost.sampled == 0 && sample.free.sampled > 0 && sample.free.blank == sample.free.sampled) {
    return "All free space that was sampled is blank. It may never have been used; no lost file "
           "is known whose place could tell.";
  }
  return {};
}

namespace {

using Probe = std::unique_ptr<blkid_struct_probe, decltype(&blkid_free_probe)>;

std::string value_of(const Probe& probe, const char* name) {
  const char* value = nullptr;
  const bool found = blkid_do_safeprobe(probe.get()) == 0 &&
                     blkid_probe_lookup_value(probe.get(), name, &value, nullptr) == 0;
  return found ? value : "";
}

// A file without a name, as long as `where`, with the source's bytes at its beginning and its end,
// where file systems are known by; negative if it cannot be had. Whatever the source is, each of
// its bytes is asked for by one way.
int shown_part(const Source& source, const ByteRange& where) {
  constexpr uint64_t kShown = 1 << 20;
  const int file = ::memfd_create("part", MFD_CLOEXEC);
  if (file < 0) return file;
  std::vector<std::byte> bytes(std::min(kShown, where.length));
  const uint64_t last = where.length - bytes.size();
  bool fine = ::ftruncate(file, static_cast<off_t>(where.length)) == 0;
  for (const uint64_t at : {uint64_t{0}, last}) {
    source.read(where.offset + at, bytes);
    fine = fine && ::pwrite(file, bytes.data(), bytes.size(), static_cast<off_t>(at)) ==
                       static_cast<ssize_t>(bytes.size());
  }
  if (fine) return file;
  ::close(file);
  return -1;
}

// Shows libblkid a part of a source, and asks `ask` about it.
template <typename Ask>
std::string probed(const Source& source, const ByteRange& part, Ask ask) {
  const ByteRange where = overlap(part, {0, source.size()});
  const int file = where.length == 0 ? -1 : shown_part(source, where);
  if (file < 0) return {};
  std::string found;
  const Probe probe(blkid_new_probe(), blkid_free_probe);
  if (probe &&
      blkid_probe_set_device(probe.get(), file, 0, static_cast<blkid_loff_t>(where.length)) == 0) {
    found = ask(probe);
  }
  ::close(file);
  return found;
}

}  // namespace

std::string name_of_other_system(const Source& source, const ByteRange& where) {
  const std::string name = probed(source, where, [](const Probe& probe) {
    blkid_probe_enable_superblocks(probe.get(), 1);
    blkid_probe_set_superblocks_flags(probe.get(), BLKID_SUBLKS_TYPE);
    return value_of(probe, "TYPE");
  });
  // Those we read ourselves.
  const bool ours = std::ranges::any_of(
      file_systems(), [&](const FileSystem& system) { return system.traits.blkid_type == name; });
  return ours ? std::string() : name;
}

std::string name_of_other_map(const Source& source) {
  const std::string name = probed(source, {0, source.size()}, [](const Probe& probe) {
    blkid_probe_enable_superblocks(probe.get(), 0);
    blkid_probe_enable_partitions(probe.get(), 1);
    return value_of(probe, "PTTYPE");
  });
  constexpr std::array<std::string_view, 3> kOurs = {"dos", "gpt", "mac"};
  return std::ranges::find(kOurs, name) == kOurs.end() ? name : std::string();
}

}  // namespace undershelf
