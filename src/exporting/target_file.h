// Files on an export's target, written so that what failed is known. For the exporting folder's own
// use.
#pragma once

#include <sys/stat.h>
#include <unistd.h>

#include <cstddef>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/time.h"
#include "source/files.h"
#include "source/hash.h"

namespace undershelf {

// The target itself failed; nothing more can be written to it.
struct TargetFailed {
  int error;
};

// That sentence, without its full stop.
std::string sentence_of(const TargetFailed& failure);

// Whether an error (errno) concerns the whole target, not one file.
bool is_fatal(int error);

// For utimensat: nothing becomes "leave as it is".
timespec time_to_set(const std::optional<Time>& time);

// When an open file was created, where the target's driver lets that be set (ntfs-3g: the attribute
// system.ntfs_crtime_be). False if it does not.
bool set_created(int fd, const Time& created);

// SHA-256 of an open file; empty if it cannot be read. `from_medium`: not from memory.
std::string hash_of(const Descriptor& file, std::vector<std::byte>& buffer, bool from_medium);

constexpr size_t kHoleBlock = 65536;  // bytes

// Writes the next bytes of a file; whole blocks of zeros are left out, as holes. False if that
// failed (errno says why).
bool write_sparsely(int fd, std::span<const std::byte> bytes);

// Holds room on the target for the bag's lists while an export runs.
constexpr const char* kReserveFile = ".reserve";

// Where files are written before they are moved to their places.
constexpr const char* kStagingFolder = ".partial";

// A text file of the bag that grows by whole lines: what could not be written in full is taken
// back. It is on the medium when close() returns.
class TagFile {
 public:
  enum class Name {
    own,   // goes on with a file that is there
    none,  // of its own; it goes away by itself
  };
  // `directory`: where it lies, open. Throws TargetFailed.
  TagFile(int directory, std::string name, Name kind = Name::own);
  const std::string& name() const { return name_; }
  uint64_t length() const { return length_; }  // bytes
  void append(std::string_view text);
  // Takes back all that was appended since it had that length.
  void take_back(uint64_t length);
  // Calls `take` with all of it, part by part.
  void read(const std::function<void(std::span<const std::byte>)>& take) const;
  // Flushes. Returns the line for the tag manifest.
  std::string close();

 private:
  std::string name_;
  uint64_t length_ = 0;
  Descriptor file_;
  Sha256 hash_;         // of all that is in it,
  bool hashed_ = true;  // unless some of that was not appended here
};

// Writes a whole file of the bag at once, so that it is there in full or as it was before. Throws
// TargetFailed.
void replace_file(int directory, const std::string& name, std::string_view content);

}  // namespace undershelf
