#include "access/apple_double.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <boost/endian/conversion.hpp>

#include "shelf/shelf.h"

namespace undershelf {

std::string apple_double_head(const std::string& finder_info, uint64_t fork_size) {
  constexpr uint32_t kMagic = 0x00051607;
  constexpr uint32_t kVersion = 0x00020000;
  constexpr uint32_t kFinderInfo = 9, kResourceFork = 2;  // entry IDs
  constexpr uint32_t kFinderInfoSize = 32;
  constexpr uint32_t kEntriesEnd = 26 + 2 * 12;
  std::string head;
  const auto put32 = [&](uint32_t value) {
    boost::endian::native_to_big_inplace(value);
    head.append(reinterpret_cast<const char*>(&value), sizeof(value));
  };
  put32(kMagic);
  put32(kVersion);
  head.append(16, '\0');
  head.append({'\0', '\2'});  // entries
  put32(kFinderInfo);
  put32(kEntriesEnd);
  put32(kFinderInfoSize);
  put32(kResourceFork);
  put32(kEntriesEnd + kFinderInfoSize);
  put32(static_cast<uint32_t>(fork_size));
  head += finder_info.substr(0, kFinderInfoSize);
  head.resize(kEntriesEnd + kFinderInfoSize, '\0');
  return head;
}

std::string apple_double_head_of(const Shelf& shelf, EntryId entry, uint64_t fork_size) {
  SQLite::Statement finder(shelf.db(), "SELECT finder_info FROM entries WHERE id=?");
  finder.bind(1, number_of(entry));
  return apple_double_head(finder.executeStep() ? finder.getColumn(0).getString() : "", fork_size);
}

std::string apple_double_path(const std::string& path) {
  const size_t name = path.rfind('/') + 1;  // 0 if there is no folder
  return path.substr(0, name) + "._" + path.substr(name);
}

}  // namespace undershelf
