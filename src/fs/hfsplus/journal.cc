#include "fs/hfsplus/journal.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>

namespace undershelf::hfsplus {
namespace {

constexpr uint32_t kMagic = 0x4A4E4C78;   // "JNLx"
constexpr uint32_t kEndian = 0x12345678;  // in the byte order of the machine that wrote it

// "Journal Header".
struct JournalHeader {
  uint32_t magic, endian;
  uint64_t start, end, size;
  uint32_t blhdr_size, checksum, jhdr_size;
};

// In the byte order of this machine; nothing if there is no header.
std::optional<JournalHeader> header_at(Bytes bytes) {
  auto header = load<JournalHeader>(bytes);
  if (!header) return std::nullopt;
  // The magic reads right in one order of bytes.
  const bool as_written = header->magic == kMagic && header->endian == kEndian;
  if (!as_written) {
    boost::endian::endian_reverse_inplace(header->magic);
    boost::endian::endian_reverse_inplace(header->endian);
    boost::endian::endian_reverse_inplace(header->size);
    boost::endian::endian_reverse_inplace(header->jhdr_size);
    if (header->magic != kMagic || header->endian != kEndian) return std::nullopt;
  }
  return header;
}

}  // namespace

ByteRange journal_range(const Source& volume, const VolumeHeader& header) {
  if ((header.attributes.value() & kJournaledBit) == 0 || header.journalInfoBlock.value() == 0) {
    return {};
  }
  JournalInfoBlock info{};
  const uint64_t at = uint64_t{header.journalInfoBlock.value()} * header.blockSize.value();
  if (!read_at(volume, at, info) || (info.flags.value() & kJournalInVolume) == 0) {
    return {};
  }
  return overlap({info.offset.value(), info.size.value()}, {0, volume.size()});
}

std::optional<uint64_t> journal_size(Bytes bytes) {
  const std::optional<JournalHeader> header = header_at(bytes);
  if (!header || header->jhdr_size == 0) return std::nullopt;
  return header->size;
}

void each_journaled_node(const Source& volume, const ByteRange& journal,
                         const std::vector<size_t>& node_sizes,
                         const std::function<void(Bytes node)>& visit) {
  constexpr size_t kStep = 512;  // blocks in the ring begin at sectors
  constexpr uint64_t kMostJournal = 1ULL << 30;
  if (journal.length == 0 || journal.length > kMostJournal) return;
  std::vector<std::byte> head(kStep);
  volume.read(journal.offset, head);
  const std::optional<JournalHeader> header = header_at(head);
  const uint64_t skipped =
      std::clamp<uint64_t>(header ? header->jhdr_size : 0, kStep, journal.length);
  const size_t largest = std::ranges::max(node_sizes);
  // Read in pieces, each with as much of the next as a node may reach into; the last reaches into
  // the beginning of the ring.
  const uint64_t begin = journal.offset + skipped / kStep * kStep;
  const uint64_t length = journal.end() - begin;
  std::vector<std::byte> block((1 << 20) + largest);
  for (uint64_t at = 0; at < length; at += 1 << 20) {
    const uint64_t here = std::min<uint64_t>(block.size(), length - at);
    auto bytes = std::span(block);
    volume.read(begin + at, bytes.first(here));
    if (here < bytes.size()) {
      const auto wrapped = bytes.subspan(here, std::min<uint64_t>(bytes.size() - here, length));
      volume.read(begin, wrapped);
      bytes = bytes.first(here + wrapped.size());
    }
    for (uint64_t offset = 0; offset < std::min<uint64_t>(1 << 20, length - at); offset += kStep) {
      for (const size_t size : node_sizes) {
        if (offset + size > bytes.size()) continue;
        const Bytes node = bytes.subspan(offset, size);
        if (looks_like_node(node, kLeafNode)) visit(node);
      }
    }
  }
}

}  // namespace undershelf::hfsplus
