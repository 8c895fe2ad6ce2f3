// The file systems that can be read, behind one interface. A new one is a line in file_systems().
#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/sink.h"
#include "model/time.h"
#include "source/source.h"

namespace undershelf {

struct ReadOptions {
  Zone zone;                          // of local times on FAT and exFAT
  std::string code_page = "ibm-437";  // of 8.3 names, by its ICU name
  bool headless = false;              // also volumes whose header is gone
};

// Where a volume lies, and how it is to be read.
struct VolumePlace {
  SourcePtr source;
  ByteRange where;  // bytes of the space
  ReadOptions options;
};

// One volume that was recognised. Not to be shared between threads.
class VolumeReader {
 public:
  virtual ~VolumeReader() = default;
  virtual const Volume& volume() const = 0;
  // Pushes every live and deleted entry that the volume's own structures still tell.
  virtual void read(Sink& sink) = 0;
  // The first clusters in `within` (bytes of the space) that are in use, or marked bad, by the
  // file system's own accounts: FAT, bitmap. What these cannot tell is not in use. Length 0 if
  // none.
  virtual ByteRange next_used(const ByteRange& within) = 0;
  // Bytes of the clusters in use now, by those accounts.
  virtual uint64_t used_bytes();
};

// Where up to `most` clusters lie that are free now, spread over the volume: bytes of the space.
std::vector<uint64_t> free_places(VolumeReader& reader, size_t most);
// Whether the cluster at `place` (byte of the space) is one of the volume's, and free now.
bool is_free(VolumeReader& reader, uint64_t place);

class Detector;
struct Scene;
struct Assembled;

// A file system's ways that matter beyond its reader. Nothing outside fs/ asks which one it is.
struct Traits {
  std::string_view family;      // how Volume::file_system begins on its volumes
  std::string_view spelling;    // of `name` in sentences
  std::string_view blkid_type;  // what libblkid calls it
  // Renaming an empty file leaves an entry behind that looks like a deleted one.
  bool leaves_entries_on_rename = false;
  // Its own files in use hold what was deleted: a sweep looks inside them.
  bool keeps_old_inside = false;
  // Keys are given to entries in the order in which these are made, and never again.
  bool numbers_in_order = false;
  uint64_t key_mask = UINT64_MAX;  // bits of an entry's key by which people know it
};

struct FileSystem {
  std::string_view name;
  Traits traits;
  // A reader for the volume that lies there; null if none of this file system does.
  std::unique_ptr<VolumeReader> (*open)(const VolumePlace& place);
  // So many bytes before a window's first one a volume of it begins whose end lies in the window,
  // by what its structures say of their own places; 0 if there is none. Null: never asked.
  uint64_t (*bytes_before)(const SourcePtr& window);
  // What recognises pieces of its metadata during a sweep.
  std::unique_ptr<Detector> (*make_detector)();
  // The volumes that such pieces tell of, besides those that are known.
  std::vector<Assembled> (*assemble)(const Scene& scene);
};

std::span<const FileSystem> file_systems();
// The traits of the one whose volumes have that Volume::file_system; none if a shelf says what no
// reader does.
const Traits& traits_of(std::string_view file_system);
// A Volume::file_system as it is written in sentences and tables: FAT16, exFAT, NTFS, HFS+.
std::string spelled(std::string_view file_system);

// The reader of whichever file system lies there; null if none is recognised. Where a later format
// left the header of an earlier one standing, the more believable one is taken.
std::unique_ptr<VolumeReader> open_volume(const VolumePlace& place);

}  // namespace undershelf
