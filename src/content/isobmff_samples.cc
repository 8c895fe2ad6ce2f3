// Samples of ISO/IEC 14496-12: those that the tables of `moov` tell of, and those of fragments.
#include <algorithm>
#include <array>

#include "content/isobmff.h"

namespace undershelf::content::isobmff {
namespace {

constexpr uint32_t kMostSamples = 4'000'000;
constexpr size_t kMostTracks = 256;

// How many of the lines that a table declares lie in it. `head`: bytes before them.
uint32_t lines_of(Bytes& bytes, const Box& table, uint64_t head, uint64_t width) {
  const uint64_t length = table.end - table.body;
  const uint64_t declared = bytes.be32(table.body + head - 4);
  return static_cast<uint32_t>(std::min(declared, length < head ? 0 : (length - head) / width));
}

uint32_t id_of_track(Bytes& bytes, const Box& trak) {
  const auto head = find(bytes, trak, "tkhd");
  if (!head) return 0;
  const bool wide = bytes.u8(head->body) == 1;
  return bytes.be32(head->body + (wide ? 20 : 12));
}

// Bytes of the lengths in front of units of H.264 and H.265; 0 in tracks of other kinds.
unsigned prefix_of(Bytes& bytes, const Box& stbl) {
  const auto stsd = find(bytes, stbl, "stsd");
  if (!stsd) return 0;
  const uint64_t entry = stsd->body + 8;
  constexpr uint64_t kVisualEntry = 86;  // bytes, 14496-12, 12.1.3
  for (const std::string_view kind : {"avc1", "avc3", "hvc1", "hev1"}) {
    if (!bytes.has(entry + 4, kind)) continue;
    const Box visual{entry, entry + kVisualEntry, std::min(entry + bytes.be32(entry), stsd->end)};
    const bool hevc = kind[0] == 'h';
    if (const auto config = find(bytes, visual, hevc ? "hvcC" : "avcC")) {
      return 1 + (bytes.u8(config->body + (hevc ? 21 : 4)) & 3);
    }
  }
  return 0;
}

}  // namespace

std::optional<Box> box_at(Bytes& bytes, uint64_t at, uint64_t limit) {
  if (at + 8 > limit || bytes.at(at, 8).size() < 8) return std::nullopt;
  uint64_t length = bytes.be32(at);
  uint64_t head = 8;
  if (length == 1) {
    length = bytes.be64(at + 8);
    head = 16;
  } else if (length == 0) {
    length = limit - at;
  }
  if (length < head || length > limit - at) return std::nullopt;
  return Box{at, at + head, at + length};
}

std::optional<Box> find(Bytes& bytes, const Box& in, std::string_view name) {
  auto box = box_at(bytes, in.body, in.end);
  while (box && !bytes.has(box->at + 4, name)) box = box_at(bytes, box->end, in.end);
  return box;
}

std::optional<Box> find(Bytes& bytes, Box in, std::initializer_list<std::string_view> path) {
  for (const std::string_view name : path) {
    const auto next = find(bytes, in, name);
    if (!next) return std::nullopt;
    in = *next;
  }
  return in;
}

std::optional<Walk> Samples::fault_in_movie(const Box& moov) {
  auto box = box_at(bytes_, moov.body, moov.end);
  for (; box; box = box_at(bytes_, box->end, moov.end)) {
    const auto stbl = bytes_.has(box->at + 4, "trak") ? find(bytes_, *box, {"mdia", "minf", "stbl"})
                                                      : std::nullopt;
    if (!stbl) continue;
    const Track track{id_of_track(bytes_, *box), prefix_of(bytes_, *stbl), 0};
    if (tracks_.size() < kMostTracks) tracks_.push_back(track);
    if (auto fault = fault_in_track(*stbl, track)) return fault;
  }
  take_defaults(moov);
  return std::nullopt;
}

// 14496-12, 8.8.3.
void Samples::take_defaults(const Box& moov) {
  const auto extends = find(bytes_, moov, "mvex");
  if (!extends) return;
  auto trex = box_at(bytes_, extends->body, extends->end);
  for (size_t i = 0; trex && i < kMostTracks; ++i) {
    const auto track = std::ranges::find(tracks_, bytes_.be32(trex->body + 4), &Track::id);
    if (bytes_.has(trex->at + 4, "trex") && track != tracks_.end()) {
      track->size = bytes_.be32(trex->body + 16);
    }
    trex = box_at(bytes_, trex->end, extends->end);
  }
}

std::optional<Walk> Samples::fault_in_track(const Box& stbl, const Track& track) {
  const auto sizes = find(bytes_, stbl, "stsz");
  const auto chunks = find(bytes_, stbl, "stsc");
  const auto wide = find(bytes_, stbl, "co64");
  const auto places = wide ? wide : find(bytes_, stbl, "stco");
  if (!sizes || !chunks || !places) return std::nullopt;
  const uint32_t same = bytes_.be32(sizes->body + 4);
  const uint32_t count = std::min(
      same != 0 ? bytes_.be32(sizes->body + 8) : lines_of(bytes_, *sizes, 12, 4), kMostSamples);
  const uint32_t chunk_count = lines_of(bytes_, *places, 8, wide ? 8 : 4);
  const uint32_t runs = lines_of(bytes_, *chunks, 8, 12);
  uint32_t sample = 0;
  uint32_t run = 0;
  for (uint32_t chunk = 0; chunk < chunk_count && sample < count; ++chunk) {
    while (run + 1 < runs && bytes_.be32(chunks->body + 8 + uint64_t{run + 1} * 12) <= chunk + 1) {
      ++run;
    }
    const uint32_t in_chunk =
        std::min(bytes_.be32(chunks->body + 12 + uint64_t{run} * 12), count - sample);
    uint64_t at = wide ? bytes_.be64(places->body + 8 + uint64_t{chunk} * 8)
                       : bytes_.be32(places->body + 8 + uint64_t{chunk} * 4);
    // Those of one size are taken as one, unless each is to be looked into.
    const bool each = same == 0 || (track.prefix != 0 && looks_in());
    for (uint32_t i = 0; i < in_chunk; i += each ? 1 : in_chunk) {
      uint64_t size = each ? same : uint64_t{same} * in_chunk;
      if (same == 0) size = bytes_.be32(sizes->body + 12 + uint64_t{sample + i} * 4);
      if (auto fault = fault_at(at, size, track.prefix)) return fault;
      at += size;
    }
    sample += in_chunk;
  }
  return std::nullopt;
}

std::optional<Walk> Samples::fault_in_fragment(const Box& moof) {
  uint64_t next = moof.at;
  auto box = box_at(bytes_, moof.body, moof.end);
  for (; box; box = box_at(bytes_, box->end, moof.end)) {
    if (!bytes_.has(box->at + 4, "traf")) continue;
    if (auto fault = fault_in_track_fragment(*box, moof, next)) return fault;
  }
  return std::nullopt;
}

Samples::Track Samples::known(uint32_t id) const {
  const auto track = std::ranges::find(tracks_, id, &Track::id);
  return track == tracks_.end() ? Track{id, 0, 0} : *track;
}

// `next`: byte behind the samples before it.
std::optional<Walk> Samples::fault_in_track_fragment(const Box& traf, const Box& moof,
                                                     uint64_t& next) {
  const auto head = find(bytes_, traf, "tfhd");
  if (!head) return std::nullopt;
  const uint32_t flags = bytes_.be32(head->body) & 0xFFFFFF;
  Track track = known(bytes_.be32(head->body + 4));
  uint64_t at = head->body + 8;
  uint64_t base = next;
  if ((flags & 0x20000) != 0) base = moof.at;
  if ((flags & 0x1) != 0) {
    base = bytes_.be64(at);
    at += 8;
  }
  next = base;
  if ((flags & 0x2) != 0) at += 4;
  if ((flags & 0x8) != 0) at += 4;
  if ((flags & 0x10) != 0) track.size = bytes_.be32(at);
  auto run = box_at(bytes_, traf.body, traf.end);
  for (; run; run = box_at(bytes_, run->end, traf.end)) {
    if (!bytes_.has(run->at + 4, "trun")) continue;
    if (auto fault = fault_in_run(*run, track, base, next)) return fault;
  }
  return std::nullopt;
}

// `base`: from where it counts; `next`: where it begins if it does not tell that, then the byte
// behind it.
std::optional<Walk> Samples::fault_in_run(const Box& trun, const Track& track, uint64_t base,
                                          uint64_t& next) {
  constexpr uint32_t kDataOffset = 0x1, kFirstFlags = 0x4, kSize = 0x200;
  constexpr std::array<uint32_t, 4> kOfSamples = {0x100, kSize, 0x400, 0x800};
  const uint32_t flags = bytes_.be32(trun.body) & 0xFFFFFF;
  uint64_t line = trun.body + 8;
  if ((flags & kDataOffset) != 0) {
    next = base + static_cast<uint64_t>(int64_t{static_cast<int32_t>(bytes_.be32(line))});
    line += 4;
  }
  if ((flags & kFirstFlags) != 0) line += 4;
  uint64_t width = 0;
  for (const uint32_t flag : kOfSamples) width += (flags & flag) != 0 ? 4 : 0;
  const uint64_t before_size = (flags & kOfSamples[0]) != 0 ? 4 : 0;
  uint64_t count = bytes_.be32(trun.body + 4);
  if (width > 0) count = std::min(count, (trun.end - std::min(line, trun.end)) / width);
  const bool each = (flags & kSize) != 0 || track.prefix != 0;
  if (!each) {
    const uint64_t all = count * track.size;
    auto fault = fault_at(next, all, 0);
    next += all;
    return fault;
  }
  for (uint64_t i = 0; i < count && looks_in(); ++i, line += width) {
    const uint64_t of_sample = (flags & kSize) != 0 ? bytes_.be32(line + before_size) : track.size;
    if (auto fault = fault_at(next, of_sample, track.prefix)) return fault;
    next += of_sample;
  }
  return std::nullopt;
}

std::optional<Walk> Samples::fault_at(uint64_t at, uint64_t size, unsigned prefix) {
  if (size > bytes_.size() || at > bytes_.size() - size) {
    return broken(bytes_.size(), "It ends before its last frame.");
  }
  if (prefix != 0 && looks_in() && !adds_up(at, size, prefix)) {
    return broken(at, "The parts of a frame do not add up.");
  }
  if (prefix != 0) checked_ += std::max<uint64_t>(size, 1);
  end_ = std::max(end_, at + size);
  return std::nullopt;
}

bool Samples::adds_up(uint64_t at, uint64_t size, unsigned prefix) {
  const uint64_t stop = at + size;
  while (at + prefix <= stop) {
    uint64_t length = 0;
    for (unsigned i = 0; i < prefix; ++i) length = length << 8 | bytes_.u8(at + i);
    const bool forbidden = (bytes_.u8(at + prefix) & 0x80) != 0;
    if (length == 0 || length > stop - at - prefix || forbidden) return false;
    at += prefix + length;
  }
  return at == stop;
}

}  // namespace undershelf::content::isobmff
