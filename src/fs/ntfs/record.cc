#include "fs/ntfs/record.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>

namespace undershelf::ntfs {
namespace {

constexpr size_t kStride = 512;  // bytes, on every sector size

const unsigned char* at(std::span<const std::byte> bytes, size_t offset) {
  return reinterpret_cast<const unsigned char*>(bytes.data()) + offset;
}

}  // namespace

bool apply_fixups(std::span<std::byte> record) {
  // The header of FILE, INDX and RCRD begins alike.
  const auto header = load<RecordHeader>(record);
  if (!header) return false;
  const size_t offset = header->usa_offset.value();
  const size_t count = header->usa_count.value();
  const size_t strides = record.size() / kStride;
  if (count != strides + 1 || offset % 2 != 0 || offset + 2 * count > kStride - 2) return false;
  const uint16_t check = boost::endian::load_little_u16(at(record, offset));
  bool sound = true;
  for (size_t i = 0; i < strides; ++i) {
    const size_t end = (i + 1) * kStride - 2;
    if (boost::endian::load_little_u16(at(record, end)) == check) {
      std::memcpy(record.data() + end, record.data() + offset + 2 * (i + 1), 2);
    } else {
      sound = false;
    }
  }
  return sound;
}

std::span<const std::byte> Attribute::value() const {
  const auto part = load<ResidentPart>(bytes, sizeof(AttributeHeader));
  if (!resident() || !part) return {};
  const size_t offset = part->value_offset.value();
  if (offset > bytes.size()) return {};
  return bytes.subspan(offset, std::min<size_t>(part->value_length.value(), bytes.size() - offset));
}

std::optional<NonResidentPart> Attribute::non_resident() const {
  if (resident()) return std::nullopt;
  return load<NonResidentPart>(bytes, sizeof(AttributeHeader));
}

std::optional<uint32_t> Record::own_number() const {
  if (header.usa_offset.value() < sizeof(RecordHeader)) return std::nullopt;
  return header.record_number.value();
}

std::optional<Record> parse_record(std::span<std::byte> bytes) {
  const auto header = load<RecordHeader>(bytes);
  if (!header || std::memcmp(header->magic, "FILE", 4) != 0) return std::nullopt;
  Record record;
  record.header = *header;
  record.torn = !apply_fixups(bytes);
  record.bytes = bytes;
  return record;
}

bool each_attribute(const Record& record, const std::function<void(const Attribute&)>& visit) {
  const size_t end = std::min<size_t>(record.header.bytes_in_use.value(), record.bytes.size());
  size_t offset = record.header.attributes_offset.value();
  while (true) {
    const auto type = load<le32>(record.bytes.first(end), offset);
    if (!type) return false;
    if (type->value() == kEnd) return true;
    const auto header = load<AttributeHeader>(record.bytes.first(end), offset);
    if (!header) return false;
    const size_t length = header->length.value();
    if (length < sizeof(AttributeHeader) || length % 8 != 0 || length > end - offset) return false;
    Attribute attribute{*header, {}, record.bytes.subspan(offset, length)};
    if (header->name_length > 0) {
      attribute.name = utf16_at(attribute.bytes, header->name_offset.value(), header->name_length);
    }
    visit(attribute);
    offset += length;
  }
}

std::u16string utf16_at(std::span<const std::byte> bytes, uint64_t offset, size_t units) {
  std::u16string text;
  if (offset > bytes.size()) return text;
  units = std::min<size_t>(units, (bytes.size() - offset) / 2);
  text.resize(units);
  for (size_t i = 0; i < units; ++i) {
    text[i] = static_cast<char16_t>(boost::endian::load_little_u16(at(bytes, offset + 2 * i)));
  }
  return text;
}

}  // namespace undershelf::ntfs
