// What compound files say of themselves: the property set of documents ([MS-OLEPS] 2), and the
// properties of messages ([MS-OXMSG] 2).
#include <algorithm>
#include <optional>
#include <string>

#include "content/compound.h"
#include "content/families.h"
#include "model/text.h"

namespace undershelf::content {
namespace {

constexpr uint64_t kMostStream = 64 << 10;  // bytes looked at of one
constexpr uint64_t kMostEntries = 4096;     // of the directory

// The streams of a compound file, by their names.
class Storage {
 public:
  explicit Storage(Bytes& bytes)
      : bytes_(bytes),
        sector_(compound_sector(bytes)),
        tables_(compound_tables(bytes, bytes.size() / sector_)) {
    const uint64_t in_sector = sector_ / kEntry;
    uint32_t at = bytes.le32(48);
    for (uint64_t seen = 0; at <= kMostCompoundSector && seen < kMostEntries; seen += in_sector) {
      for (uint64_t i = 0; i < in_sector; ++i) directory_.push_back(place(at) + i * kEntry);
      at = next(at);
    }
  }

  // At most kMostStream of a stream; empty if there is none of that name.
  std::string read(std::string_view name) {
    for (const uint64_t entry : directory_) {
      if (bytes_.u8(entry + 66) != kStreamObject || name_of(entry) != name) continue;
      const uint64_t size = bytes_.le32(entry + 120);
      const uint32_t first = bytes_.le32(entry + 116);
      return size < bytes_.le32(56) ? read_mini(first, size) : read_chain(first, 0, size);
    }
    return {};
  }

 private:
  static constexpr uint64_t kEntry = 128;  // bytes, 2.6.1
  static constexpr uint64_t kMini = 64;    // bytes of a sector of the mini stream
  static constexpr uint8_t kStreamObject = 2;

  uint64_t place(uint32_t sector) const { return (uint64_t{sector} + 1) * sector_; }

  uint32_t next(uint32_t sector) {
    const uint64_t in_sector = sector_ / 4;
    const uint64_t table = sector / in_sector;
    if (table >= tables_.size() || steps_left_ == 0) return UINT32_MAX;
    --steps_left_;
    return bytes_.le32(place(tables_[table]) + 4 * (sector % in_sector));
  }

  std::string name_of(uint64_t entry) {
    const uint64_t length = std::min<uint64_t>(bytes_.le16(entry + 64), 64);
    return from_utf16(text_at(bytes_, entry, length), false);
  }

  // `size` bytes from byte `from` of the chain that begins at `first`.
  std::string read_chain(uint32_t first, uint64_t from, uint64_t size) {
    std::string text;
    size = std::min(size, kMostStream);
    uint64_t steps = 0;
    const uint64_t most = bytes_.size() / sector_;
    for (uint64_t skipped = 0; first <= kMostCompoundSector && text.size() < size;
         first = next(first)) {
      if (++steps > most) break;
      if (skipped + sector_ > from + text.size()) {
        const uint64_t in = from + text.size() - skipped;
        text += text_at(bytes_, place(first) + in, std::min(sector_ - in, size - text.size()));
      }
      skipped += sector_;
    }
    return text;
  }

  // A small stream, which lies in the mini stream: that of the root, the first entry (2.4).
  std::string read_mini(uint32_t first, uint64_t size) {
    if (directory_.empty()) return {};
    const uint32_t root = bytes_.le32(directory_[0] + 116);
    std::string text;
    size = std::min(size, kMostStream);
    for (uint64_t steps = 0; steps <= size / kMini && text.size() < size; ++steps) {
      if (first > kMostCompoundSector) break;
      const std::string part =
          read_chain(root, uint64_t{first} * kMini, std::min(kMini, size - text.size()));
      if (part.empty()) break;
      text += part;
      const std::string entry = read_chain(bytes_.le32(60), uint64_t{first} * 4, 4);
      if (entry.size() < 4) break;
      first = boost::endian::endian_load<uint32_t, 4, boost::endian::order::little>(
          reinterpret_cast<const unsigned char*>(entry.data()));
    }
    return text;
  }

  Bytes& bytes_;
  const uint64_t sector_;
  const std::vector<uint32_t> tables_;
  std::vector<uint64_t> directory_;  // places of its entries
  uint64_t steps_left_ = 1 << 17;    // along chains: a mini stream is walked for each of its parts
};

// A count of 100 nanoseconds since 1601.
std::string date_of_filetime(uint64_t ticks) {
  constexpr int64_t kFrom1601To1970 = 11'644'473'600;
  return date_of(static_cast<int64_t>(ticks / 10'000'000) - kFrom1601To1970);
}

MemoryBytes over(const std::string& text) {
  return MemoryBytes(std::as_bytes(std::span(text.data(), text.size())));
}

std::string from_code_page(const std::string& text, uint16_t page) {
  constexpr uint16_t kUtf16 = 1200, kUtf8 = 65001;
  if (page == kUtf16) return from_utf16(text, false);
  if (page == kUtf8 || page == 0) return from_any(text);
  return from_charset("windows-" + std::to_string(page), text.substr(0, text.find('\0')));
}

// The first property set of a stream ([MS-OLEPS] 2.20 to 2.23).
class PropertySet {
 public:
  explicit PropertySet(const std::string& stream) : bytes_(over(stream)) {
    set_ = bytes_.le16(0) == 0xFFFE ? bytes_.le32(44) : UINT32_MAX;
    if (const auto at = find(1)) page_ = bytes_.le16(*at + 4);
  }

  std::string text(uint32_t id) {
    constexpr uint16_t kNarrow = 0x1E, kWide = 0x1F;
    const auto at = find(id);
    if (!at) return {};
    const uint64_t length = bytes_.le32(*at + 4);
    const uint16_t type = bytes_.le16(*at);
    if (type == kNarrow) return from_code_page(text_at(bytes_, *at + 8, length), page_);
    return type == kWide ? from_utf16(text_at(bytes_, *at + 8, length * 2), false) : std::string();
  }

  std::string date(uint32_t id) {
    constexpr uint16_t kFileTime = 0x40;
    const auto at = find(id);
    return at && bytes_.le16(*at) == kFileTime ? date_of_filetime(bytes_.le64(*at + 4))
                                               : std::string();
  }

 private:
  // Where the value of a property begins, with its type.
  std::optional<uint64_t> find(uint32_t id) {
    constexpr uint32_t kMostProperties = 256;
    const uint32_t count = std::min(bytes_.le32(set_ + 4), kMostProperties);
    for (uint32_t i = 0; i < count; ++i) {
      if (bytes_.le32(set_ + 8 + 8 * i) == id) return set_ + bytes_.le32(set_ + 12 + 8 * i);
    }
    return std::nullopt;
  }

  MemoryBytes bytes_;
  uint64_t set_ = 0;   // byte at which the set begins
  uint16_t page_ = 0;  // code page of narrow text
};

void describe_document(Storage& storage, Description& found) {
  const std::string summary = storage.read("\5SummaryInformation");
  PropertySet set(summary);
  found.title.put(set.text(2));
  found.title.put(set.text(3));  // its subject
  found.author.put(set.text(4));
  found.made.put(set.date(12));
  found.made.put(set.date(13));  // when it was last saved
}

void describe_message(Storage& storage, Description& found) {
  // [MS-OXPROPS]: PidTagSubject, PidTagSenderName; wide, or narrow.
  const auto text = [&](const std::string& tag) {
    const std::string wide = storage.read("__substg1.0_" + tag + "001F");
    return wide.empty() ? from_any(storage.read("__substg1.0_" + tag + "001E"))
                        : from_utf16(wide, false);
  };
  found.title.put(text("0037"));
  found.author.put(text("0C1A"));
  // Properties of fixed size, of 16 bytes each behind a head of 32 ([MS-OXMSG] 2.4).
  constexpr uint32_t kSubmitted = 0x00390040, kDelivered = 0x0E060040;
  const std::string fixed = storage.read("__properties_version1.0");
  MemoryBytes properties = over(fixed);
  for (const uint32_t tag : {kSubmitted, kDelivered}) {
    for (uint64_t at = 32; at + 16 <= fixed.size(); at += 16) {
      if (properties.le32(at) == tag) found.made.put(date_of_filetime(properties.le64(at + 8)));
    }
  }
}

}  // namespace

void describe_compound(Bytes& bytes, std::string_view format, Description& found) {
  Storage storage(bytes);
  format == "msg" ? describe_message(storage, found) : describe_document(storage, found);
}

}  // namespace undershelf::content
