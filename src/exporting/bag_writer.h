// Puts files and lists of a bag (RFC 8493) onto its target, in a thread of its own, while the next
// files are read and hashed.
#pragma once

#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <exception>
#include <future>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "exporting/bag_sink.h"
#include "exporting/target_file.h"
#include "exporting/target_tree.h"
#include "model/ids.h"

namespace undershelf {

// Files are written in a folder of their own, `.partial`, in folders as they will be in the bag,
// and put in their places, whole folders at once where that can be, and into the lists, once the
// medium has them: the lists tell of just what is there, whenever it ends; but for the moment
// between a batch's places and its lines, after which an export that was killed has files that only
// going on with it lists.
class BagWriter final : public BagSink {
 public:
  // `read_back`: each file is read from the target again, and compared.
  BagWriter(std::string directory, bool read_back);
  // Does nothing more with what was put and not finished.
  ~BagWriter() override;
  BagWriter(const BagWriter&) = delete;
  BagWriter& operator=(const BagWriter&) = delete;

  // Begins the lists, or goes on with those that are there, and begins the thread. Room for `files`
  // files in them is held from the start, so that a target that fills up can still take them.
  void start(size_t files) override;
  // Waits while much is to be written still.
  bool put(BagPart part) override;
  bool has_links() const override { return true; }  // or copies, where the target has none
  bool can_abandon() const override { return true; }
  // Says what failed; the first that does is told of. Asks for no memory.
  void fail(std::exception_ptr what) noexcept;
  // Waits until all is on the medium, and completes the lists.
  BagOutcome finish(const std::string& info, FileSum payload) override;

 private:
  void run();
  void work();
  void write(BagPart& part);
  void complete(BagPart& part);
  void give_up(int error);
  void queue_up(BagPart part);
  void begin_flush();
  void end_flush();
  struct Staged {
    BagPart part;  // without its bytes
    uint64_t batch = 0;
    bool placed = false;
    std::string failure;  // a sentence, if it could not be put in its place
  };
  int flush_and_place(uint64_t batch);
  void read_back(uint64_t batch);
  void remove_open();
  void put_in_place(uint64_t batch);
  void append_lists();
  void discard_unflushed();
  void finish_folders();
  void finish_lists(const std::string& info, FileSum payload);
  bool has_failed();
  void end_thread();

  const std::string directory_;
  const bool read_back_;

  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<BagPart> queue_;
  uint64_t queued_ = 0;  // bytes
  bool ended_ = false;
  bool failed_ = false;
  std::exception_ptr failure_;
  std::thread thread_;

  // The thread's own while it runs.
  struct Open {
    std::string staged;
    EntryId id{};
    std::string path;
    uint64_t content = 0;            // bytes
    std::optional<Descriptor> file;  // none: it failed, and its other parts are passed over
  };
  Open open_;
  bool sets_created_ = true;        // the target can be told when files were created
  uint64_t batches_ = 0;            // the number of the one that is being written
  std::optional<TargetTree> tree_;  // tells of each failure since it was opened
  std::optional<TagFile> manifest_, exported_;
  std::vector<Staged> pending_;  // written, not yet flushed
  uint64_t pending_bytes_ = 0;
  std::vector<std::pair<std::string, std::optional<Time>>> folders_;  // and when they were modified
  BagOutcome outcome_;

  // Of the task behind `flushing_` while that runs, which may throw TargetFailed.
  std::vector<Staged> batch_;
  BagOutcome listed_;  // what that batch came to, once it is in the lists
  std::optional<TargetTree> places_;
  // Memory that is used again.
  std::vector<std::byte> buffer_;
  std::string manifest_lines_, exported_lines_;
  std::future<int> flushing_;  // of flush_and_place(): 0, or errno of the flush
};

}  // namespace undershelf
