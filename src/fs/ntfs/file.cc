#include "fs/ntfs/file.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>

#include "fs/pieces_source.h"
#include "model/make_set.h"
#include "model/text.h"

namespace undershelf::ntfs {
namespace {

constexpr uint64_t kMostListBytes = 256 << 10;    // what drivers allow an attribute list
constexpr uint64_t kMostReparseBytes = 16 << 10;  // [MS-FSCC] 2.1.2: of a reparse point
constexpr uint64_t kMostBitsBytes = 1 << 20;      // of a folder's bitmap: 8,388,608 index blocks

std::string read_all(const SourcePtr& source, const Pieces& pieces, uint64_t size) {
  std::string bytes(size, '\0');
  const ReadResult result =
      PiecesSource(source, pieces, size).read(0, std::as_writable_bytes(std::span(bytes)));
  return result.bad.empty() ? bytes : std::string();
}

std::string to_bytes(std::span<const std::byte> bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

// Targets of links: `\??\C:\Charts` as people write it.
std::string to_target(std::u16string_view text) {
  std::string target = to_utf8(text);
  if (target.starts_with("\\??\\")) target.erase(0, 4);
  return target;
}

// [MS-FSCC] 2.1.2.4 and 2.1.2.5: symbolic links have four more bytes of flags than mount points.
std::string link_target(std::span<const std::byte> data, bool symbolic) {
  struct Names {
    le16 substitute_offset, substitute_length, print_offset, print_length;
  };
  const auto names = load<Names>(data, sizeof(ReparseHeader));
  if (!names) return {};
  const size_t paths = sizeof(ReparseHeader) + sizeof(Names) + (symbolic ? 4 : 0);
  const auto path = [&](const le16& offset, const le16& length) {
    return to_target(utf16_at(data, paths + offset.value(), length.value() / 2));
  };
  const std::string shown = path(names->print_offset, names->print_length);
  return shown.empty() ? path(names->substitute_offset, names->substitute_length) : shown;
}

// The provider's information: version 1, provider 2 (a file), then version 1 and the algorithm.
std::optional<Codec> system_compression(std::span<const std::byte> data) {
  struct Provider {
    le32 version, provider, file_version, algorithm;
  };
  const auto found = load<Provider>(data, sizeof(ReparseHeader));
  if (!found || found->provider.value() != 2) return std::nullopt;
  constexpr Codec kCodecs[] = {Codec::xpress4k, Codec::lzx, Codec::xpress8k, Codec::xpress16k};
  const uint32_t algorithm = found->algorithm.value();
  if (algorithm >= std::size(kCodecs)) return std::nullopt;
  return kCodecs[algorithm];
}

ReparsePoint parse_reparse(std::span<const std::byte> data) {
  ReparsePoint point;
  const auto header = load<ReparseHeader>(data);
  if (!header) return point;
  point.tag = header->tag.value();
  if (point.tag == kTagLinuxLink) {
    // A version of four bytes, and the path in UTF-8.
    const auto path = data.subspan(std::min(data.size(), sizeof(ReparseHeader) + 4));
    point.target = to_utf8(to_utf16(to_bytes(path)));
  } else if (point.tag == kTagSymbolicLink || point.tag == kTagMountPoint) {
    point.target = link_target(data, point.tag == kTagSymbolicLink);
  } else if (point.tag == kTagCompressed) {
    point.codec = system_compression(data);
  }
  return point;
}

void append_all(Pieces& to, const Pieces& from) {
  for (const Piece& piece : from) {
    if (piece.kind == Piece::Kind::range) append_piece(to, piece);
  }
}

}  // namespace

std::optional<Time> to_time(uint64_t stored) {
  constexpr uint64_t kFrom1601To1970 = 116'444'736'000'000'000;
  constexpr uint64_t kYear10000 = 2'650'467'744'000'000'000;
  if (stored == 0 || stored >= kYear10000) return std::nullopt;
  return Time{static_cast<int64_t>(stored) - static_cast<int64_t>(kFrom1601To1970)};
}

std::optional<FoundName> parse_file_name(std::span<const std::byte> bytes) {
  const auto value = load<FileName>(bytes);
  if (!value || value->name_length == 0 || value->name_space > kWin32AndDos ||
      sizeof(FileName) + 2 * size_t{value->name_length} > bytes.size()) {
    return std::nullopt;
  }
  FoundName name;
  name.parent = value->parent.value();
  name.text = utf16_at(bytes, sizeof(FileName), value->name_length);
  name.name_space = value->name_space;
  name.folder = (value->file_attributes.value() & kFolderAttribute) != 0;
  name.hidden = (value->file_attributes.value() & kHiddenAttribute) != 0;
  name.size = value->data_size.value();
  name.created = to_time(value->created.value());
  name.modified = to_time(value->modified.value());
  name.accessed = to_time(value->accessed.value());
  return name;
}

std::vector<FoundName> names_behind(const Record& record) {
  constexpr size_t kHead = sizeof(AttributeHeader) + sizeof(ResidentPart);
  std::vector<FoundName> names;
  const size_t used = std::min<size_t>(record.header.bytes_in_use.value(), record.bytes.size());
  // The mark of the end may have taken the place of the attribute's type and length.
  for (size_t at = used / 8 * 8 - std::min<size_t>(used / 8 * 8, 8);
       at + kHead <= record.bytes.size(); at += 8) {
    const auto part = load<ResidentPart>(record.bytes, at + sizeof(AttributeHeader));
    if (!part || part->value_offset.value() != kHead || part->indexed != 1) continue;
    auto name = parse_file_name(record.bytes.subspan(at + kHead));
    if (name && part->value_length.value() == sizeof(FileName) + 2 * name->text.size()) {
      names.push_back(std::move(*name));
    }
  }
  return names;
}

const FileStream* File::stream(std::u16string_view name) const {
  const auto found = std::ranges::find(streams, name, &FileStream::name);
  return found == streams.end() ? nullptr : &*found;
}

void FileBuilder::add(const Record& record, bool is_base) {
  if (is_base) {
    file_.sequence = record.header.sequence.value();
    file_.in_use = record.in_use();
    file_.folder = record.folder();
  }
  file_.torn = file_.torn || record.torn;
  if (!each_attribute(record, [&](const Attribute& attribute) { add_attribute(attribute); })) {
    file_.damaged = true;
  }
}

void FileBuilder::add_attribute(const Attribute& attribute) {
  if (attribute.resident()) return add_resident(attribute);
  const auto part = attribute.non_resident();
  if (!part) {
    file_.damaged = true;
    return;
  }
  Runs runs = decode_runs(attribute, *part, space_);
  const uint64_t lowest = part->lowest_vcn.value();
  if (lowest > UINT64_MAX / 4 / space_.unit_size) {
    file_.damaged = true;
    return;
  }
  if (attribute.type() == kAttributeList) {
    has_list_ = true;
    list_pieces_ = runs.pieces;
    list_size_ = std::min(part->data_size.value(), kMostListBytes);
    append_all(file_.structures, runs.pieces);
    return;
  }
  const unsigned log2 = part->compression_unit;
  const uint64_t unit = log2 > 0 && log2 <= 8 ? space_.unit_size << log2 : 0;
  parts_.push_back({attribute.type(), attribute.name, lowest * space_.unit_size, std::move(runs),
                    attribute.header.flags.value(), unit, std::nullopt});
  if (lowest == 0) parts_.back().sizes = part;
}

void FileBuilder::add_resident(const Attribute& attribute) {
  const std::span<const std::byte> value = attribute.value();
  switch (attribute.type()) {
    case kStandardInformation:
      if (const auto info = load<StandardInformation>(value)) {
        file_.created = to_time(info->created.value());
        file_.modified = to_time(info->modified.value());
        file_.accessed = to_time(info->accessed.value());
        file_.hidden = (info->file_attributes.value() & kHiddenAttribute) != 0;
      }
      break;
    case kAttributeList:
      has_list_ = true;
      list_ = to_bytes(value);
      break;
    case kFileName:
      if (auto name = parse_file_name(value)) {
        file_.names.push_back(std::move(*name));
      } else {
        file_.damaged = true;
      }
      break;
    case kData:
    case kLoggedUtilityStream:
      if (attribute.type() == kData || attribute.name == u"$EFS") {
        FileStream stream;
        stream.name = attribute.name;
        stream.resident = true;
        stream.size = stream.initialized = value.size();
        stream.flags = attribute.header.flags.value();
        stream.inline_data = to_bytes(value);
        file_.streams.push_back(std::move(stream));
      }
      break;
    case kBitmap:
      if (attribute.name == u"$I30") file_.index_bits = to_bytes(value);
      break;
    case kVolumeName:
      file_.volume_name = to_utf8(utf16_at(value, 0, value.size() / 2));
      break;
    case kVolumeInformation:
      if (const auto flags = load<le16>(value, 10)) file_.volume_flags = flags->value();
      break;
    case kReparsePoint:
      file_.reparse = parse_reparse(value);
      break;
    case kExtendedAttributes:
      file_.extended = value.size();
      break;
    default:
      break;
  }
}

std::vector<uint64_t> FileBuilder::listed_records(const SourcePtr& source) const {
  std::string bytes = list_;
  if (list_size_ > 0) {
    bytes.resize(list_size_);
    PiecesSource(source, list_pieces_, list_size_)
        .read(0, std::as_writable_bytes(std::span(bytes)));
  }
  const auto list = std::as_bytes(std::span(bytes));
  std::vector<uint64_t> records;
  for (size_t at = 0; at < list.size();) {
    const auto entry = load<AttributeListEntry>(list, at);
    if (!entry || entry->length.value() < sizeof(AttributeListEntry)) break;
    records.push_back(entry->reference.value());
    at += entry->length.value();
  }
  make_set(records);
  return records;
}

// Parts of one attribute follow each other by VCN, wherever their records lie.
void FileBuilder::join_parts() {
  std::ranges::sort(parts_, [](const Part& a, const Part& b) {
    if (a.type != b.type) return a.type < b.type;
    return a.name != b.name ? a.name < b.name : a.lowest < b.lowest;
  });
  for (size_t begin = 0; begin < parts_.size();) {
    const Part& first = parts_[begin];
    FileStream joined;
    joined.name = first.name;
    joined.flags = first.flags;
    joined.unit = (first.flags & 0xFF) != 0 ? first.unit : 0;
    uint64_t covered = 0;
    size_t end = begin;
    for (; end < parts_.size() && parts_[end].type == first.type && parts_[end].name == first.name;
         ++end) {
      const Part& part = parts_[end];
      joined.sound = joined.sound && part.runs.sound && part.lowest == covered;
      if (part.lowest < covered) continue;  // told before
      append_piece(joined.pieces, {Piece::Kind::unknown, 0, part.lowest - covered});
      for (const Piece& piece : part.runs.pieces) append_piece(joined.pieces, piece);
      covered = part.lowest + part.runs.length;
    }
    if (first.sizes) {
      joined.size = first.sizes->data_size.value();
      joined.initialized = first.sizes->initialized_size.value();
    } else {  // the first part, which has the sizes, is lost
      joined.size = joined.initialized = covered;
      joined.sound = false;
    }
    // More than the volume holds can only be sparse, and that would be in the runs.
    const uint64_t most = space_.size();
    if (joined.size > std::max(most, covered)) {
      joined.size = joined.initialized = covered;
      joined.sound = false;
    }
    begin = end;
    if (first.type == kData) {
      if (covered < joined.size) {
        append_piece(joined.pieces, {Piece::Kind::unknown, 0, joined.size - covered});
        joined.sound = false;
      }
      file_.streams.push_back(std::move(joined));
    } else if (first.type == kIndexAllocation && first.name == u"$I30") {
      file_.index = std::move(joined.pieces);
    } else if (first.type == kBitmap && first.name == u"$I30") {
      bits_size_ = std::min({joined.size, joined.initialized, kMostBitsBytes});
      bits_pieces_ = joined.pieces;
      append_all(file_.structures, joined.pieces);
    } else if (first.type == kReparsePoint) {
      reparse_size_ = std::min(joined.size, kMostReparseBytes);
      reparse_pieces_ = joined.pieces;
      append_all(file_.structures, joined.pieces);
    } else if (first.type == kLoggedUtilityStream && first.name == u"$EFS") {
      file_.streams.push_back(std::move(joined));
    } else {
      if (first.type == kExtendedAttributes) file_.extended = joined.size;
      append_all(file_.structures, joined.pieces);
    }
  }
  parts_.clear();
}

File FileBuilder::finish(const SourcePtr& source) {
  join_parts();
  if (source != nullptr && bits_size_ > 0) {
    std::string bits = read_all(source, bits_pieces_, bits_size_);
    if (!bits.empty()) file_.index_bits = std::move(bits);
  }
  if (source != nullptr && reparse_size_ > 0) {
    const std::string point = read_all(source, reparse_pieces_, reparse_size_);
    if (!point.empty()) file_.reparse = parse_reparse(std::as_bytes(std::span(point)));
  }
  return std::move(file_);
}

}  // namespace undershelf::ntfs
