#include "fs/ntfs/found_names.h"

#include "fs/ntfs/journal.h"

namespace undershelf::ntfs {

void read_names(const SourcePtr& source, const FoundNames& names, size_t record_size,
                const Sight& sight, const std::function<void(const Record&)>& copied) {
  if (names.kind == FoundNames::Kind::index_block) {
    std::vector<std::byte> bytes(names.range.length);
    source->read(names.range.offset, bytes);
    apply_fixups(bytes);
    constexpr size_t kHead = sizeof(IndexBlock) - sizeof(IndexHeader);
    if (bytes.size() < sizeof(IndexBlock)) return;
    read_index_node(std::span<const std::byte>(bytes).subspan(kHead), number_of(names.folder),
                    names.current, sight);
    return;
  }
  const Window pages(source, names.range.offset, names.range.length);
  if (names.kind == FoundNames::Kind::changes) {
    read_change_journal(pages, {{0, names.range.length}}, sight);
  } else {
    read_log(pages, record_size, sight, copied);
  }
}

}  // namespace undershelf::ntfs
