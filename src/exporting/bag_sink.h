// Where an export's files go: into a bag's folder, or into an archive with a bag in it.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "model/ids.h"
#include "model/time.h"

namespace undershelf {

// A file as the bag's lists tell it.
struct ListedFile {
  std::string path;  // relative to the bag
  std::string sha256;
  std::string record;     // line of exported.jsonl
  uint64_t bytes = 0;     // of the file
  uint64_t content = 0;   // of these, the selected content: AppleDouble files have a head besides
  bool has_gaps = false;  // some of its bytes are missing
  bool changed = false;   // none is, and they are others than the scan read
};

// The next piece of work: a piece of a file, one more name of a file that is written, or a folder.
struct BagPart {
  enum class Then {
    more,      // other parts of the file follow
    complete,  // the file ends with this part; `listed` and the times count
    abandon,   // the file will not be completed; it is removed
    link,      // no new content: `listed` is one more name of the file at `link_to`
    folder,    // at the path of `listed`
  };
  bool begins = false;  // a file: `id`, the times, and of `listed` path and bytes say which
  EntryId id{};
  std::shared_ptr<const std::byte[]> bytes;
  size_t size = 0;  // bytes
  Then then = Then::more;
  std::optional<Time> created, accessed, modified;
  ListedFile listed;
  std::string link_to;
};

// A number of files, and their bytes.
struct FileSum {
  uint64_t files = 0;
  uint64_t bytes = 0;
  void add(uint64_t size) {
    ++files;
    bytes += size;
  }
  void add(const FileSum& more) {
    files += more.files;
    bytes += more.bytes;
  }
};

// What was written.
struct WrittenSums {
  FileSum full, with_gaps, changed;  // bytes: of content
  FileSum payload;                   // all of it, as written
  void add(const ListedFile& listed) {
    (listed.changed ? changed : listed.has_gaps ? with_gaps : full).add(listed.content);
    payload.add(listed.bytes);
  }
  void add(const WrittenSums& more) {
    full.add(more.full);
    with_gaps.add(more.with_gaps);
    changed.add(more.changed);
    payload.add(more.payload);
  }
};

// What it came to.
struct BagOutcome {
  WrittenSums written;
  FileSum failed_files;             // begun, and not in the bag; bytes of content
  std::vector<std::string> failed;  // one sentence each
  bool lists_complete = false;
};

// Not to be called by two threads at a time.
class BagSink {
 public:
  BagSink() = default;
  virtual ~BagSink() = default;
  BagSink(const BagSink&) = delete;
  BagSink& operator=(const BagSink&) = delete;

  virtual void start(size_t files) = 0;
  // False once the target has failed: nothing more can be written then.
  virtual bool put(BagPart part) = 0;
  virtual bool has_links() const = 0;    // parts may be links
  virtual bool can_abandon() const = 0;  // a file that was begun
  // Completes the lists; `info` is what bag-info.txt says. To be called once, in any case.
  // `payload`: files and bytes the bag holds besides what was put.
  virtual BagOutcome finish(const std::string& info, FileSum payload) = 0;
};

}  // namespace undershelf
