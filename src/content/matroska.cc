// Matroska and WebM: EBML elements (RFC 8794, 4 to 6; RFC 9559).
#include <bit>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint32_t kEbml = 0x1A45DFA3, kSegment = 0x18538067, kCluster = 0x1F43B675;
constexpr uint64_t kOpen = UINT64_MAX;  // of a size that is not stated

std::string_view recognise(Bytes& bytes) {
  if (bytes.be32(0) != kEbml) return {};
  for (uint64_t at = 4; at < 60; ++at) {
    if (bytes.has(at, "webm")) return "webm";
    if (bytes.has(at, "matroska")) return "mkv";
  }
  return {};
}

struct Element {
  uint32_t id = 0;
  uint64_t body = 0, size = 0;  // bytes
};

std::optional<Element> element_at(Bytes& bytes, uint64_t at) {
  const auto head = bytes.at(at, 12);
  if (head.empty()) return std::nullopt;
  const auto byte = [&](size_t i) -> uint64_t {
    return i < head.size() ? std::to_integer<uint64_t>(head[i]) : 0;
  };
  size_t id_bytes = 1;
  while (id_bytes <= 4 && (byte(0) & (0x100U >> id_bytes)) == 0) ++id_bytes;
  if (id_bytes > 4) return std::nullopt;
  Element element;
  for (size_t i = 0; i < id_bytes; ++i)
    element.id = static_cast<uint32_t>(element.id << 8 | byte(i));
  size_t size_bytes = 1;
  while (size_bytes <= 8 && (byte(id_bytes) & (0x100U >> size_bytes)) == 0) ++size_bytes;
  if (size_bytes > 8 || id_bytes + size_bytes > head.size()) return std::nullopt;
  element.size = byte(id_bytes) & ((0x100U >> size_bytes) - 1);
  bool open = element.size == (0x100U >> size_bytes) - 1;
  for (size_t i = 1; i < size_bytes; ++i) {
    open = open && byte(id_bytes + i) == 0xFF;
    element.size = element.size << 8 | byte(id_bytes + i);
  }
  if (open) element.size = kOpen;
  element.body = at + id_bytes + size_bytes;
  return element;
}

// Elements that stand directly in a segment (RFC 9559, 5.1) or may stand anywhere.
bool is_of_segment(uint32_t id) {
  switch (id) {
    case 0x114D9B74:
    case 0x1549A966:
    case 0x1654AE6B:
    case kCluster:
    case 0x1C53BB6B:
    case 0x1941A469:
    case 0x1043A770:
    case 0x1254C367:
    case 0xEC:
    case 0xBF:
      return true;
    default:
      return false;
  }
}

bool is_of_cluster(uint32_t id) {
  switch (id) {
    case 0xE7:
    case 0x5854:
    case 0xA7:
    case 0xAB:
    case 0xA3:
    case 0xA0:
    case 0xAF:
    case 0xEC:
    case 0xBF:
      return true;
    default:
      return false;
  }
}

// Behind what adds up of the cluster; `end` is kOpen where its size is not stated.
uint64_t cluster(Bytes& bytes, uint64_t at, uint64_t end, bool& is_sound) {
  const uint64_t stop = std::min(end, bytes.size());
  is_sound = true;
  while (at < stop) {
    const auto element = element_at(bytes, at);
    if (element && end == kOpen && is_of_segment(element->id) && !is_of_cluster(element->id)) break;
    if (!element || !is_of_cluster(element->id) || element->size > stop - element->body) {
      is_sound = false;
      break;
    }
    at = element->body + element->size;
  }
  return at;
}

// `open`: the file may be followed by what is not its own.
Walk elements(Bytes& bytes, bool open) {
  const auto head = element_at(bytes, 0);
  if (!head || head->size > 4096) return broken(0, "Its header is none.");
  uint64_t at = head->body + head->size;
  const auto segment = element_at(bytes, at);
  if (!segment || segment->id != kSegment) return broken(at, "Its header is followed by nothing.");
  const uint64_t end = segment->size == kOpen ? kOpen : segment->body + segment->size;
  at = segment->body;
  uint64_t clusters = 0;
  while (at < std::min(end, bytes.size())) {
    const auto element = element_at(bytes, at);
    if (!element || !is_of_segment(element->id)) {
      if (open && end == kOpen && clusters > 0) return ended(Level::consistent, at);
      return broken(at, "No element begins where one must.");
    }
    const uint64_t next = element->size == kOpen ? kOpen : element->body + element->size;
    if (next != kOpen && next > bytes.size() && (!open || element->id != kCluster)) {
      return broken(open ? at : bytes.size(), "It ends inside an element.");
    }
    if (element->id == kCluster) {
      bool is_sound = false;
      at = cluster(bytes, element->body, next, is_sound);
      if (!is_sound) return broken(at, "The parts of a cluster of frames do not add up.");
      ++clusters;
    } else {
      if (next == kOpen) return broken(at, "An element has no length.");
      at = next;
    }
  }
  if (end == kOpen) return endless(at);
  if (at < end) return broken(at, "It is shorter than its header says.");
  return ended(Level::consistent, at);
}

Walk walk(Bytes& bytes, std::string_view) { return elements(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return elements(bytes, true); }

std::optional<uint64_t> stated_end(Bytes& bytes, uint64_t at) {
  const auto element = element_at(bytes, at);
  if (!element || (!is_of_segment(element->id) && !is_of_cluster(element->id))) return std::nullopt;
  return element->size == kOpen ? kNeverWritten : element->body + element->size;
}

// Numbers and floats of up to eight bytes (RFC 8794, 7).
uint64_t number_in(Bytes& bytes, const Element& element) {
  uint64_t value = 0;
  for (uint64_t i = 0; i < std::min<uint64_t>(element.size, 8); ++i) {
    value = value << 8 | bytes.u8(element.body + i);
  }
  return value;
}

double float_in(Bytes& bytes, const Element& element) {
  const uint64_t bits = number_in(bytes, element);
  return element.size == 4 ? std::bit_cast<float>(static_cast<uint32_t>(bits))
                           : std::bit_cast<double>(bits);
}

struct Played {
  double duration = 0, scale = 1'000'000;
  uint64_t width = 0;
};

// What the elements from `at` to `end` say, and those in the ones that may hold some.
void describe_elements(Bytes& bytes, uint64_t at, uint64_t end, int depth, Description& found,
                       Played& played) {
  for (int i = 0; i < 256 && at < std::min(end, bytes.size()); ++i) {
    const auto element = element_at(bytes, at);
    if (!element || element->size == kOpen || element->id == kCluster) return;
    const uint64_t next = element->body + element->size;
    switch (element->id) {
      case 0x1549A966:  // Info, Tracks, TrackEntry, Video
      case 0x1654AE6B:
      case 0xAE:
      case 0xE0:
        if (depth < 4) describe_elements(bytes, element->body, next, depth + 1, found, played);
        break;
      case 0x7BA9:
        found.title.put(text_at(bytes, element->body, std::min<uint64_t>(element->size, 512)));
        break;
      case 0x2AD7B1:
        played.scale = static_cast<double>(number_in(bytes, *element));
        break;
      case 0x4489:
        played.duration = float_in(bytes, *element);
        break;
      case 0x4461: {
        constexpr int64_t kEpoch = 978'307'200;  // 2001
        const auto ticks = static_cast<int64_t>(number_in(bytes, *element));
        found.made.put(date_of(kEpoch + ticks / 1'000'000'000));
        break;
      }
      case 0xB0:
        played.width = number_in(bytes, *element);
        break;
      case 0xBA:
        found.put_size(played.width, number_in(bytes, *element));
        break;
      default:
        break;
    }
    at = next;
  }
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  const auto head = element_at(bytes, 0);
  const auto segment = head ? element_at(bytes, head->body + head->size) : std::nullopt;
  if (!segment) return;
  Played played;
  describe_elements(bytes, segment->body, bytes.size(), 0, found, played);
  const double milliseconds = played.duration * played.scale / 1'000'000;
  if (milliseconds > 0 && milliseconds < 1e12)
    found.milliseconds = static_cast<uint64_t>(milliseconds);
}

}  // namespace

const Family kMatroska{.recognise = recognise,
                       .walk = walk,
                       .walk_open = walk_open,
                       .stated_end = stated_end,
                       .describe = describe};

}  // namespace undershelf::content
