#include "fs/ntfs/folder_index.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "fs/pieces_source.h"

namespace undershelf::ntfs {

void FolderIndex::read_record(const Record& record, uint64_t number, uint64_t place) const {
  const bool live = record.in_use();
  each_attribute(record, [&](const Attribute& attribute) {
    if (attribute.type() != kIndexRoot || attribute.name != u"$I30") return;
    const auto value = attribute.value();
    constexpr size_t kHead = sizeof(IndexRoot) - sizeof(IndexHeader);
    if (value.size() < sizeof(IndexRoot)) return;
    if (!read_index_node(value.subspan(kHead), number, live, sight_) && live) {
      report_({place, geometry_.record_size},
              fmt::format("The index in record {} is damaged.", number));
    }
  });
  const size_t used = std::min<size_t>(record.header.bytes_in_use.value(), record.bytes.size());
  read_index_slack(record.bytes, used, number, sight_);
}

void FolderIndex::read_blocks(const File& file, bool live) const {
  if (file.index.empty()) return;
  // A size that no volume of this length can hold is damage; what is declared counts only as far
  // as the source reaches.
  const uint64_t size =
      std::min({total_length(file.index), geometry_.volume_size, source_->size()});
  const PiecesSource stream(source_, file.index, size);
  const size_t block_size = geometry_.block_size;
  std::vector<std::byte> bytes(std::max<size_t>(block_size, 256 << 10));
  for (uint64_t base = 0; base < size; base += bytes.size()) {
    const auto part = std::span(bytes).first(std::min<uint64_t>(bytes.size(), size - base));
    const ReadResult result = stream.read(base, part);
    for (const ByteRange& bad : result.bad) {
      report_({stream.place_of(bad.offset).value_or(0), bad.length},
              fmt::format("{} bytes of the index of folder {} cannot be read.", bad.length,
                          file.number));
    }
    for (size_t at = 0; at + block_size <= part.size(); at += block_size) {
      read_block(part.subspan(at, block_size), (base + at) / block_size, file, live,
                 stream.place_of(base + at).value_or(0));
    }
  }
}

void FolderIndex::read_block(std::span<std::byte> block, uint64_t number, const File& file,
                             bool live, uint64_t place) const {
  const bool is_block = std::memcmp(block.data(), "INDX", 4) == 0;
  const bool in_use = live && file.index_in_use(number);
  const bool sound = is_block && apply_fixups(block);
  constexpr size_t kHead = sizeof(IndexBlock) - sizeof(IndexHeader);
  bool read = false;
  if (is_block) {
    read = read_index_node(block.subspan(kHead), file.number, in_use, sight_);
  } else {
    read_index_slack(block, 0, file.number, sight_);
  }
  if (in_use && (!sound || !read)) {
    report_({place, block.size()},
            fmt::format("A block of the index of folder {} is damaged.", file.number));
  }
}

}  // namespace undershelf::ntfs
