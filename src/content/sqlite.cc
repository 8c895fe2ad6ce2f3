// SQLite database files (file format, 1.3), and the stores of Outlook ([MS-PST] 2.2.2.6): the
// header tells the size.
#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  if (bytes.has(0, std::string_view("SQLite format 3\0", 16))) return "sqlite";
  if (bytes.has(0, "!BDN") && bytes.has(8, "SM")) return "pst";
  return bytes.has(4, std::string_view("Standard Jet DB\0", 16)) ? "mdb" : "";
}

Walk sqlite(Bytes& bytes) {
  const uint64_t page = bytes.be16(16) == 1 ? 65536 : bytes.be16(16);
  if (page < 512 || (page & (page - 1)) != 0)
    return broken(16, "Its pages have an impossible size.");
  // The number of pages counts if the last writer kept it (1.3.7).
  if (bytes.be32(24) != bytes.be32(92) || bytes.be32(28) == 0) {
    return bytes.size() % page == 0 ? ended(Level::consistent, bytes.size())
                                    : broken(bytes.size() / page * page, "It ends inside a page.");
  }
  const uint64_t end = page * bytes.be32(28);
  if (end > bytes.size()) return broken(bytes.size(), "It is shorter than its header says.");
  return ended(Level::consistent, end);
}

Walk walk(Bytes& bytes, std::string_view format) {
  if (format == "sqlite") return sqlite(bytes);
  if (format == "mdb") return endless(0);
  const uint64_t end = bytes.le16(10) >= 23 ? bytes.le64(184) : bytes.le32(168);
  if (end > bytes.size()) return broken(bytes.size(), "It is shorter than its header says.");
  return ended(Level::consistent, end);
}

// Without the number of pages nothing tells the end.
Walk walk_open(Bytes& bytes, std::string_view format) {
  const bool kept = bytes.be32(24) == bytes.be32(92) && bytes.be32(28) != 0;
  return format == "sqlite" && !kept ? endless(0) : walk(bytes, format);
}

}  // namespace

const Family kSqlite{recognise, walk, walk_open};

}  // namespace undershelf::content
