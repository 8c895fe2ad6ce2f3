#include "content/zip.h"

#include <algorithm>
#include <array>
#include <string>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint32_t kLocal = 0x04034B50, kCentral = 0x02014B50, kEnd = 0x06054B50,
                   kEnd64 = 0x06064B50, kLocator64 = 0x07064B50;
constexpr uint64_t kEndLength = 22;

// Whether some text stands among the last bytes, where the names of all members are.
bool ends_with_name(Bytes& bytes, std::string_view name) {
  constexpr uint64_t kLook = 64 << 10;
  const uint64_t from = bytes.size() - std::min(bytes.size(), kLook);
  const auto tail = bytes.at(from, kLook);
  const std::string_view text(reinterpret_cast<const char*>(tail.data()), tail.size());
  return text.find(name) != std::string_view::npos;
}

std::string_view recognise(Bytes& bytes) {
  if (bytes.le32(0) == kEnd) return "zip";  // an empty one
  if (bytes.le32(0) != kLocal) return {};
  if (bytes.has(30, "mimetype")) {
    const uint64_t at = 30 + uint64_t{bytes.le16(26)} + bytes.le16(28);
    for (const auto& [kind, format] : std::array<std::array<std::string_view, 2>, 4>{
             {{"application/epub+zip", "epub"},
              {"application/vnd.oasis.opendocument.text", "odt"},
              {"application/vnd.oasis.opendocument.spreadsheet", "ods"},
              {"application/vnd.oasis.opendocument.presentation", "odp"}}}) {
      if (bytes.has(at, kind)) return format;
    }
  }
  const auto head = bytes.at(0, 4096);
  const std::string start(reinterpret_cast<const char*>(head.data()), head.size());
  const bool office = start.find("[Content_Types].xml") != std::string::npos ||
                      ends_with_name(bytes, "[Content_Types].xml");
  for (const auto& [name, format] : std::array<std::array<std::string_view, 2>, 3>{
           {{"word/", "docx"}, {"xl/", "xlsx"}, {"ppt/", "pptx"}}}) {
    const bool named = start.find(name) != std::string::npos || ends_with_name(bytes, name);
    if (office && named) return format;
  }
  if (start.find("META-INF/") != std::string::npos) return "jar";
  return "zip";
}

// Where the end record is, looking back from the end of the file.
std::optional<uint64_t> find_end(Bytes& bytes) {
  constexpr uint64_t kMostComment = 65535;
  const uint64_t most = std::min(bytes.size(), kEndLength + kMostComment);
  const uint64_t from = bytes.size() - most;
  const auto tail = bytes.at(from, most);
  if (tail.size() < kEndLength) return std::nullopt;
  const std::string_view text(reinterpret_cast<const char*>(tail.data()), tail.size());
  for (size_t at = text.rfind("PK\5\6"); at != std::string_view::npos;) {
    if (tail.size() - at >= kEndLength) return from + at;
    if (at == 0) break;
    at = text.rfind("PK\5\6", at - 1);
  }
  return std::nullopt;
}

struct Directory {
  uint64_t at = 0, length = 0, count = 0;
};

Directory directory_of(Bytes& bytes, uint64_t end) {
  Directory found{bytes.le32(end + 16), bytes.le32(end + 12), bytes.le16(end + 10)};
  const bool wide = found.at == UINT32_MAX || found.length == UINT32_MAX || found.count == 0xFFFF;
  if (wide && end >= 20 && bytes.le32(end - 20) == kLocator64) {
    const uint64_t at = bytes.le64(end - 12);
    if (bytes.le32(at) == kEnd64) {
      found = {bytes.le64(at + 48), bytes.le64(at + 40), bytes.le64(at + 32)};
    }
  }
  return found;
}

// Sizes and places beyond 32 bits (4.5.3), in the order in which they are missing.
void read_wide(Bytes& bytes, uint64_t at, uint64_t end, ZipMember& member) {
  for (; at + 4 <= end; at += 4 + uint64_t{bytes.le16(at + 2)}) {
    if (bytes.le16(at) != 1) continue;
    uint64_t field = at + 4;
    for (uint64_t* value : {&member.size, &member.stored, &member.header}) {
      if (*value != UINT32_MAX) continue;
      *value = bytes.le64(field);
      field += 8;
    }
    return;
  }
}

}  // namespace

Walk each_zip_member(Bytes& bytes, const std::function<bool(const ZipMember&)>& then) {
  const auto end = find_end(bytes);
  if (!end) return broken(bytes.size(), "Its directory, which stands at the end, is missing.");
  const Directory directory = directory_of(bytes, *end);
  if (directory.at > *end || directory.length > *end - directory.at) {
    return broken(*end, "Its directory is not where it must be.");
  }
  uint64_t at = directory.at;
  for (uint64_t i = 0; i < directory.count; ++i) {
    if (at >= *end || bytes.le32(at) != kCentral)
      return broken(at, "Its directory does not add up.");
    const uint64_t name = bytes.le16(at + 28);
    const uint64_t extra = bytes.le16(at + 30);
    ZipMember member;
    member.encrypted = (bytes.le16(at + 8) & 1) != 0;
    member.method = bytes.le16(at + 10);
    member.crc = bytes.le32(at + 16);
    member.stored = bytes.le32(at + 20);
    member.size = bytes.le32(at + 24);
    member.header = bytes.le32(at + 42);
    read_wide(bytes, at + 46 + name, at + 46 + name + extra, member);
    if (bytes.le32(member.header) != kLocal || bytes.le16(member.header + 26) != name) {
      return broken(std::min(member.header, bytes.size()),
                    "A member does not begin where one must.");
    }
    member.data = member.header + 30 + name + bytes.le16(member.header + 28);
    if (member.stored > directory.at || member.data > directory.at - member.stored) {
      return broken(std::min(member.header, bytes.size()), "A member reaches into the directory.");
    }
    if (!then(member)) break;
    at += 46 + name + extra + bytes.le16(at + 32);
  }
  return ended(Level::consistent, *end + kEndLength + bytes.le16(*end + 20));
}

namespace {

Walk walk(Bytes& bytes, std::string_view) {
  return each_zip_member(bytes, [](const ZipMember&) { return true; });
}

}  // namespace

const Family kZip{recognise, walk};

}  // namespace undershelf::content
