// An image that is being filled, with its ledger beside it: what the ledger says is read, the image
// holds, whenever the program or the machine ends.
#pragma once

#include <chrono>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

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

  // Keeps what was read from `offset` on. Zeros take no room. Throws Error (incomplete) if it
  // cannot be written.
  void put(uint64_t offset, std::span<const std::byte> bytes, bool slow);
  // Any other finding.
  void note(const ByteRange& range, const Finding& finding);
  // What was kept. False if the image cannot be read there.
  bool get(uint64_t offset, std::span<std::byte> out) const;
  // Makes all of it last: the image first, then what is said of it. Done by itself every few
  // seconds.
  void flush();

  // As of Ledger.
  std::vector<Noted> in(const ByteRange& within) const;
  std::vector<ByteRange> in(const ByteRange& within, Finding::State state) const;
  uint64_t bytes(Finding::State state) const;
  // Whether there was an image to go on with.
  bool goes_on() const { return goes_on_; }

 private:
  void require_length() const;
  void close_run();
  void flush_if_due();
  void flush_held();

  std::string path_;
  int image_ = -1;
  int lines_ = -1;  // the ledger's file
  bool goes_on_ = false;
  mutable std::mutex mutex_;
  Ledger ledger_;
  std::string pending_;  // lines that are not written yet
  // What was read one behind the other is hashed as one.
  Sha256 hash_;
  ByteRange run_;
  bool run_slow_ = false;
  std::chrono::steady_clock::time_point flushed_;
};

}  // namespace undershelf
