// SQLite's own check of a database, in memory.
#include <sqlite3.h>

#include <charconv>
#include <cstring>
#include <string_view>

#include "checking/decoders.h"

namespace undershelf::checking {
namespace {

constexpr uint64_t kMostBytes = 128 << 20;

// The page that a sentence of the check names; 0 if none.
uint64_t page_in(std::string_view said) {
  for (const std::string_view word : {"Page ", "page "}) {
    const size_t at = said.find(word);
    if (at == std::string_view::npos) continue;
    uint64_t page = 0;
    std::from_chars(said.data() + at + word.size(), said.data() + said.size(), page);
    return page;
  }
  return 0;
}

}  // namespace

content::Walk decode_sqlite(content::Bytes& bytes, const content::Walk& structure) {
  const uint64_t size = structure.end.value_or(0);
  if (size == 0 || size > kMostBytes) return structure;
  auto* copy = static_cast<unsigned char*>(sqlite3_malloc64(size));
  if (copy == nullptr) return structure;
  const uint64_t got = read_into(bytes, 0, std::as_writable_bytes(std::span(copy, size)));
  if (got < size) {
    sqlite3_free(copy);
    return content::broken(got, "It ends inside a page.");
  }
  // A write-ahead log is a file beside it, which is not here (file format, 1.3.3).
  copy[18] = copy[19] = 1;
  const uint64_t page_size = bytes.be16(16) == 1 ? 65536 : bytes.be16(16);
  sqlite3* db = nullptr;
  bool sound = false;
  bool asked = false;
  uint64_t page = 0;
  const auto length = static_cast<sqlite3_int64>(size);
  if (sqlite3_open_v2(":memory:", &db, SQLITE_OPEN_READWRITE, nullptr) == SQLITE_OK &&
      sqlite3_deserialize(db, "main", copy, length, length,
                          SQLITE_DESERIALIZE_FREEONCLOSE | SQLITE_DESERIALIZE_READONLY) ==
          SQLITE_OK) {
    sqlite3_stmt* check = nullptr;
    const int code = sqlite3_prepare_v2(db, "PRAGMA integrity_check(1)", -1, &check, nullptr);
    if (code == SQLITE_OK && sqlite3_step(check) == SQLITE_ROW) {
      const auto* text = reinterpret_cast<const char*>(sqlite3_column_text(check, 0));
      const std::string_view said = text == nullptr ? "" : text;
      asked = true;
      sound = said == "ok";
      page = page_in(said);
    } else if (code == SQLITE_CORRUPT || code == SQLITE_NOTADB ||
               sqlite3_errcode(db) == SQLITE_CORRUPT) {
      asked = true;
    }
    sqlite3_finalize(check);
  }
  sqlite3_close(db);
  if (!asked || sound) return structure;
  const uint64_t at = page == 0 ? 0 : std::min((page - 1) * page_size, size);
  return content::broken(at, "The database's own check fails.");
}

}  // namespace undershelf::checking
