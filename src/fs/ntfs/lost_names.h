// Brings together what indexes, journal and log say of files whose records say it no more.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <unordered_map>
#include <unordered_set>

#include "fs/name_limit.h"
#include "fs/ntfs/catalogue.h"
#include "fs/ntfs/index.h"

namespace undershelf::ntfs {

// A file known only by what names it.
struct Ghost {
  uint64_t reference = 0;  // 0 if not known
  bool current = false;    // an index in use names it: its record is lost, not the file deleted
  std::vector<Sighting> sightings;  // by different names; the last one first
  std::unique_ptr<File> copy;       // of its record, from the log
  // Where its name stands without a reference as well (or only so): a hash of that name and its
  // folder. Which of its traces are found depends on how much was looked through.
  std::optional<uint64_t> by_name;
};

class LostNames {
 public:
  // `file_of` reads the file of a record.
  LostNames(const Catalogue& catalogue, std::function<File(uint64_t)> file_of)
      : catalogue_(catalogue), file_of_(std::move(file_of)) {}

  void add(const Sighting& found);
  // A file as an old copy of its record has it.
  void add(File copy);

  // Joins names without a reference with records that tell of the same file under another name, or
  // under none. To be called once, after the last add and before all below.
  void settle();

  // What is known besides of the file of a record. Names that are not in it come from before a
  // rename or a move, or, if it has none at all any more, are all that is left of it.
  struct Known {
    std::vector<Sighting> names;
    std::optional<Time> deleted;
    uint64_t size = 0;  // the largest recorded
  };
  const std::map<uint64_t, Known>& of_records() const { return of_records_; }
  // Names that were not kept, as there are too many.
  uint64_t left_out() const { return limit_.left_out(); }
  // Those that no record tells of. To be called once.
  std::vector<Ghost> ghosts();

 private:
  void add_to_record(uint64_t number, const Sighting& sighting);
  bool some_record_has(const Sighting& sighting) const;
  bool is_told_by(uint64_t number, const Sighting& sighting) const;
  void keep(std::vector<Sighting>& names, const Sighting& sighting);
  bool is_told_again(uint64_t hash);
  static bool is_seen_before(std::vector<Sighting>& names, const Sighting& sighting);

  const Catalogue& catalogue_;
  std::function<File(uint64_t)> file_of_;
  std::map<uint64_t, Known> of_records_;
  std::map<uint64_t, Ghost> by_reference_;
  std::vector<Sighting> nameless_;  // without a reference
  NameLimit limit_;                 // of sightings, in all three
  // Hashes of what was added lately: an index's or journal's many mentions of one name.
  std::unordered_set<uint64_t> seen_;
};

}  // namespace undershelf::ntfs
