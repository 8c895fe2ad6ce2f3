// The shelf: the SQLite catalogue of one source's scans. Its tables: docs/shelf.md.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "model/ids.h"
#include "model/volume.h"
#include "source/identity.h"

namespace SQLite {
class Database;
}

namespace undershelf {

// One scan of the source, as recorded in the shelf.
struct ScanRecord {
  std::string depth;    // quick or deep
  std::string check;    // none, sample or full
  std::string state;    // running (or killed), stopped, finished
  std::string started;  // RFC 3339
  std::string ended;    // RFC 3339, or empty
  uint64_t gaps = 0;    // bytes that the source was known not to have then
};

// How local times and short names are read: the same in all scans of a shelf.
struct ReadingRecord {
  std::string time_zone = "UTC";      // IANA name
  std::string code_page = "ibm-437";  // ICU name
};

// A volume as stored, with what was counted.
struct VolumeRecord {
  VolumeId id{};
  Volume volume;
  std::optional<EntryId> inside;  // the lost file in which it seems to lie, on the source
  // The living file on which it lies (a disk image), or the source. All places of the volume, of
  // its entries and streams are bytes of that.
  SpaceId space = SpaceId::source;
  int64_t live = 0, deleted = 0, former = 0;  // files
  int64_t trashed = 0;                        // of the living ones: in a trash folder
};

// Not to be shared between threads. All members throw Error (unavailable) if the file turns out
// to be damaged.
class Shelf {
 public:
  // Makes a new shelf; there must be no file at `path`.
  static Shelf create(const std::string& path, const SourceIdentity& source,
                      const ReadingRecord& reading);
  // Opens an existing one. Throws Error (unavailable) if it is not a shelf.
  static Shelf open_to_read(const std::string& path);
  static Shelf open_to_write(const std::string& path);
  // Whether the file at `path` is a shelf of this or a later version.
  static bool is_shelf(const std::string& path);
  // Takes back what a writer that was killed had half written into the file itself. For who holds
  // its lock.
  static void roll_back(const std::string& path);

  Shelf(Shelf&&) noexcept;
  ~Shelf();

  SQLite::Database& db() const { return *db_; }
  SourceIdentity source() const;
  ReadingRecord reading() const;
  std::vector<ScanRecord> scans() const;
  // The most believable and most useful one first. Without `counted` they are in no such order, and
  // the numbers of files stay 0.
  std::vector<VolumeRecord> volumes(bool counted = true) const;
  uint64_t damage_count() const;
  std::vector<std::string> damage_sentences(uint64_t most) const;

  int64_t begin_scan(const std::string& depth, const std::string& check, uint64_t gaps);
  // `state` is stopped or finished. Leaves one self-contained file, whenever it is killed; false if
  // another call that reads the shelf keeps it from that: then its log stays beside it.
  bool end_scan(int64_t scan, const std::string& state);
  // What the log beside it holds goes into the shelf, which then needs none; false as above.
  bool leave_log();

 private:
  Shelf(const std::string& path, int flags, const std::string& vfs = {});
  bool take_in_log();  // whether nobody kept it from that
  static Shelf open_with_leftover_log(const std::string& path);
  void keep_temporary_files_near(const std::string& path);
  void prepare(const std::string& path);
  std::unique_ptr<SQLite::Database> db_;
};

}  // namespace undershelf
