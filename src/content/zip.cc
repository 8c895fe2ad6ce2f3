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

// Where a member's content that began at `at`, of unknown length, ends: before a descriptor that
// tells just that length (4.3.9), which the next part follows. Nothing if there is none.
std::optional<uint64_t> behind_descriptor(Bytes& bytes, uint64_t from) {
  constexpr std::string_view kMark = "PK\7\10";
  GrowingLength length;
  for (uint64_t at = from; at < bytes.size();) {
    const auto part = bytes.at(at, length.next());
    const std::string_view text(reinterpret_cast<const char*>(part.data()), part.size());
    if (text.size() < kMark.size()) break;
    for (size_t i = text.find(kMark); i != std::string_view::npos; i = text.find(kMark, i + 1)) {
      const uint64_t mark = at + i;
      for (const bool wide : {false, true}) {
        const uint64_t stored = wide ? bytes.le64(mark + 8) : bytes.le32(mark + 8);
        const uint64_t behind = mark + (wide ? 24 : 16);
        const uint32_t next = bytes.le32(behind);
        if (stored == mark - from && (next == kLocal || next == kCentral)) return behind;
      }
    }
    at += text.size() - (kMark.size() - 1);
  }
  return std::nullopt;
}

constexpr uint16_t kDescribed = 8;  // flag: sizes may stand behind the content (4.4.4, bit 3)

// Behind the record of the directory at `at`.
uint64_t behind_record(Bytes& bytes, uint64_t at) {
  return at + 46 + bytes.le16(at + 28) + bytes.le16(at + 30) + bytes.le16(at + 32);
}

// Behind the member whose own head is at `at`; nothing if it does not say where that is.
std::optional<uint64_t> behind_member(Bytes& bytes, uint64_t at) {
  ZipMember member;
  member.stored = bytes.le32(at + 18);
  member.size = bytes.le32(at + 22);
  const uint64_t extra = at + 30 + bytes.le16(at + 26);
  const uint64_t data = extra + bytes.le16(at + 28);
  read_wide(bytes, extra, data, member);
  if ((bytes.le16(at + 6) & kDescribed) == 0) return data + member.stored;
  if (member.stored == 0) return behind_descriptor(bytes, data);
  const uint64_t end = data + member.stored;
  if (!bytes.has(end, "PK\7\10")) return end + 12;
  const uint32_t next = bytes.le32(end + 16);
  return end + (next == kLocal || next == kCentral ? 16 : 24);
}

// From member to member, through the directory, to the end record: each tells its length.
Walk walk_open(Bytes& bytes, std::string_view) {
  uint64_t at = 0;
  uint64_t before = 0;  // the part before, which holds if one begins behind it
  for (;;) {
    const uint32_t mark = bytes.le32(at);
    uint64_t next = at;
    switch (mark) {
      case kLocal: {
        const auto behind = behind_member(bytes, at);
        if (!behind) return broken(at, "A member has no end.");
        next = *behind;
        break;
      }
      case kCentral:
        next = behind_record(bytes, at);
        break;
      case kEnd64:
        next = at + 12 + std::min(bytes.le64(at + 4), bytes.size());
        break;
      case kLocator64:
        next = at + 20;
        break;
      case kEnd:
        next = at + kEndLength + bytes.le16(at + 20);
        return next > bytes.size() ? broken(at, "It ends inside its end record.")
                                   : ended(Level::consistent, next);
      default:
        return broken(before, "No member begins where one must.");
    }
    if (next > bytes.size()) return broken(at, "It ends inside a member.");
    before = at;
    at = next;
  }
}

Walk walk(Bytes& bytes, std::string_view) {
  return each_zip_member(bytes, [](const ZipMember&) { return true; });
}

// Of members and of the directory's records, which follow each other.
std::optional<uint64_t> part_end(Bytes& bytes, uint64_t at) {
  if (bytes.le32(at) == kCentral) return behind_record(bytes, at);
  const bool open = (bytes.le16(at + 6) & kDescribed) != 0 && bytes.le32(at + 18) == 0;
  return bytes.le32(at) != kLocal || open ? std::nullopt : behind_member(bytes, at);
}

bool begins_part(Bytes& bytes, uint64_t at, uint64_t) {
  const uint32_t mark = bytes.le32(at);
  return mark == kLocal || mark == kCentral || mark == kEnd;
}

}  // namespace

const Family kZip{.recognise = recognise,
                  .walk = walk,
                  .walk_open = walk_open,
                  .part_end = part_end,
                  .begins_part = begins_part};

}  // namespace undershelf::content
