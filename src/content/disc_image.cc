// ISO 9660 (ECMA-119, 8.4): the primary descriptor tells the size of the volume.
#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint64_t kDescriptor = 16 * 2048;

std::string_view recognise(Bytes& bytes) {
  return bytes.has(kDescriptor, std::string_view("\1CD001", 6)) ? "iso9660" : "";
}

Walk walk(Bytes& bytes, std::string_view) {
  const uint64_t end = uint64_t{bytes.le32(kDescriptor + 80)} * bytes.le16(kDescriptor + 128);
  if (end > bytes.size()) return broken(bytes.size(), "It is shorter than its header says.");
  return ended(Level::consistent, end);
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  found.title.put(from_any(text_at(bytes, kDescriptor + 40, 32)));
}

}  // namespace

const Family kDiscImage{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
