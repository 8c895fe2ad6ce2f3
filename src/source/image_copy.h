// An image that is being filled, with its ledger beside it: what the ledger says is read, the image
// holds, whenever the program or the machine ends.
#pragma once

#include <condition_variable>
#include <exception>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "source/files.h"
#include "source/hash.h"
#include "source/ledger.h"

namespace undershelf {

// All members may be called from several threads.
class ImageCopy {
 public:
  // Goes on with the image at `path`, or begins it, as a copy of the medium of `header`. Throws
  // Error: refused, if the file is there without a ledger, or is filled by another program now;
  // unavailable, if it is the copy of another medium (by its size and serial number).
  ImageCopy(const std::string& path, const LedgerHeader& header);
  ~ImageCopy();  // flushes; what fails then is lost
  ImageCopy(const ImageCopy&) = delete;
  ImageCopy& operator=(const ImageCopy&) = delete;

  // Keeps what was read from `offset` on. Zeros take no room. Throws Error (incomplete) if it, or
  // what came before, cannot be written.
  void put(uint64_t offset, std::span<const std::byte> bytes, bool slow);
  // Its two halves, for two threads: the bytes into the image, and only then the word on them with
  // their hash.
  void write(uint64_t offset, std::span<const std::byte> bytes);
  void tell(uint64_t offset, std::span<const std::byte> bytes, bool slow);
  // Any other finding.
  void note(const ByteRange& range, const Finding& finding);
  // What was kept. False if the image cannot be read there.
  bool get(uint64_t offset, std::span<std::byte> out) const;
  // Makes all of it last: the image first, then what is said of it. A thread does so every few
  // seconds. Throws Error (incomplete) if that fails, or failed before.
  void flush();

  // As of Ledger.
  std::vector<Noted> in(const ByteRange& within) const;
  std::vector<ByteRange> in(const ByteRange& within, Finding::State state) const;
  uint64_t bytes(Finding::State state) const;
  // Whether there was an image to go on with.
  bool goes_on() const { return goes_on_; }

 private:
  void require_length() const;
  bool make_hole(uint64_t offset, uint64_t length) const;
  void close_run();
  void flush_now_and_then();
  void rethrow() const;

  std::string path_;
  Descriptor image_{-1};
  Descriptor lines_{-1};  // the ledger's file
  bool goes_on_ = false;
  std::mutex flushing_;       // held while lines are written; before the other
  mutable std::mutex mutex_;  // of all below
  Ledger ledger_;
  std::string pending_;  // lines that are not written yet
  // What was read one behind the other is hashed as one.
  Sha256 hash_;
  ByteRange run_;
  bool run_slow_ = false;
  std::exception_ptr failure_;  // of a flush
  bool last_ = false;
  bool is_urgent_ = false;  // a flush is wanted now
  std::condition_variable changed_;
  std::thread flusher_;  // after all it uses
};

}  // namespace undershelf
