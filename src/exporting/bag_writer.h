// Puts files and lists of a bag (RFC 8493) onto its target, in a thread of its own, while the next
// files are read and hashed.
#pragma once

#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <future>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "exporting/target_file.h"
#include "model/time.h"

namespace undershelf {

// A file as the bag's lists tell it.
struct ListedFile {
  std::string path;  // relative to the bag
  std::string sha256;
  std::string record;  // line of exported.jsonl
  uint64_t bytes = 0;
  bool has_holes = false;  // some of its bytes are missing
};

// The next piece of work: a piece of a file, or a file that is there already.
struct BagPart {
  enum class Then {
    more,      // other parts of the file follow
    complete,  // the file ends with this part; `listed` and the times count
    abandon,   // the file will not be completed; it is removed
    kept,      // not a new file: `listed` tells of one that is there
  };
  bool begins = false;  // a file: `id` and the path of `listed` say which
  int64_t id = 0;
  std::shared_ptr<const std::byte[]> bytes;
  size_t size = 0;  // bytes
  Then then = Then::more;
  std::optional<Time> accessed, modified;
  ListedFile listed;
};

class BagWriter {
 public:
  struct Outcome {
    uint64_t files = 0;
    uint64_t bytes = 0;
    uint64_t with_holes = 0;
    std::vector<std::string> failed;  // one sentence each
  };

  // `lists_beside`: the lists of an earlier export stay until the new ones are complete.
  // `read_back`: each file is read from the target again, and compared.
  BagWriter(std::string directory, bool lists_beside, bool read_back);
  // Does nothing more with what was put and not finished.
  ~BagWriter();
  BagWriter(const BagWriter&) = delete;
  BagWriter& operator=(const BagWriter&) = delete;

  // Begins the lists and the thread. The lists grow with each flush, so that an export that is
  // killed leaves them too. Room for `files` files in them is held from the start, so that a target
  // that fills up can still take them.
  void start(size_t files);
  // False once the target has failed: nothing more can be written then. Waits while much is to be
  // written still.
  bool put(BagPart part);
  // Says that the target failed (errno).
  void fail(int error);
  // Waits until all is on the medium, and completes the lists. To be called once, in any case.
  Outcome finish();

 private:
  void run();
  void write(BagPart& part);
  void complete(BagPart& part);
  void give_up(int error);
  void list(ListedFile listed);
  void begin_flush();
  void end_flush();
  void discard_unflushed();
  void finish_lists();
  bool has_failed();
  void end_thread();
  std::string full(const std::string& path) const { return directory_ + "/" + path; }

  const std::string directory_;
  const bool lists_beside_, read_back_;

  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<BagPart> queue_;
  uint64_t queued_ = 0;  // bytes
  bool ended_ = false;
  int failure_ = 0;  // errno of the target
  std::thread thread_;

  // The thread's own while it runs.
  struct Open {
    std::string path;
    int64_t id = 0;
    std::unique_ptr<Descriptor> file;  // none: it failed, and its other parts are passed over
  };
  Open open_;
  std::optional<Descriptor>
      flushed_;  // the bag's folder: tells of each failure since it was opened
  std::optional<TagFile> manifest_, exported_;
  std::vector<ListedFile> pending_;  // written, not yet flushed
  std::vector<ListedFile> batch_;    // being flushed, while others are written
  std::future<int> flushing_;        // 0 or errno
  uint64_t pending_bytes_ = 0;
  Outcome outcome_;
};

}  // namespace undershelf
