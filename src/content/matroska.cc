// Matroska and WebM: EBML elements (RFC 8794, 4 to 6; RFC 9559).
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

// Behind the cluster; `end` is kOpen where its size is not stated.
std::optional<uint64_t> cluster(Bytes& bytes, uint64_t at, uint64_t end) {
  const uint64_t stop = std::min(end, bytes.size());
  while (at < stop) {
    const auto element = element_at(bytes, at);
    if (element && end == kOpen && is_of_segment(element->id) && !is_of_cluster(element->id)) break;
    if (!element || !is_of_cluster(element->id) || element->size > stop - element->body) {
      return std::nullopt;
    }
    at = element->body + element->size;
  }
  return at;
}

Walk walk(Bytes& bytes, std::string_view) {
  const auto head = element_at(bytes, 0);
  if (!head || head->size > 4096) return broken(0, "Its header is none.");
  uint64_t at = head->body + head->size;
  const auto segment = element_at(bytes, at);
  if (!segment || segment->id != kSegment) return broken(at, "Its header is followed by nothing.");
  const uint64_t end = segment->size == kOpen ? kOpen : segment->body + segment->size;
  at = segment->body;
  while (at < std::min(end, bytes.size())) {
    const auto element = element_at(bytes, at);
    if (!element || !is_of_segment(element->id)) {
      return broken(at, "No element begins where one must.");
    }
    const uint64_t next = element->size == kOpen ? kOpen : element->body + element->size;
    if (next != kOpen && next > bytes.size()) {
      return broken(bytes.size(), "It ends inside an element.");
    }
    if (element->id == kCluster) {
      const auto behind = cluster(bytes, element->body, next);
      if (!behind) return broken(at, "The parts of a cluster of frames do not add up.");
      at = *behind;
    } else {
      if (next == kOpen) return broken(at, "An element has no length.");
      at = next;
    }
  }
  if (end == kOpen) return endless(at);
  if (at < end) return broken(at, "It is shorter than its header says.");
  return ended(Level::consistent, at);
}

}  // namespace

const Family kMatroska{recognise, walk};

}  // namespace undershelf::content
