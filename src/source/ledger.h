// What is known of each byte of a medium that is being copied. docs/ledger.md has the file's
// format.
#pragma once

#include <boost/icl/interval_map.hpp>
#include <cstdint>
#include <iosfwd>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "model/range.h"

namespace undershelf {

struct Finding {
  enum class State : uint8_t {
    untried,  // nothing was asked for yet
    skipped,  // an area that failed or stalled as a whole, or lies behind one: asked for later
    failed,   // asked for by itself, and not there
    read,     // the image has it
  };
  State state = State::untried;
  bool slow = false;      // it took long to come
  uint32_t attempts = 0;  // of what failed
  int error = 0;          // errno of the last of them
  bool operator==(const Finding&) const = default;
};

struct Noted {
  ByteRange range;  // of the medium
  Finding finding;
};

struct LedgerHeader {
  std::string source;        // absolute path, or URI
  std::string serial;        // of the device; empty if it tells none
  uint64_t size = 0;         // bytes
  uint32_t sector_size = 0;  // bytes
  std::string begun;         // RFC 3339, UTC
};

// Not to be shared between threads.
class Ledger {
 public:
  explicit Ledger(LedgerHeader header) : header_(std::move(header)) {}
  // Reads a ledger's file. What a kill cut off at its end is left out. Throws Error (unavailable)
  // if it cannot be read or is none.
  static Ledger load(const std::string& path);
  // Likewise of what a stream gives; `path` names it in sentences.
  static Ledger parse(std::istream& file, const std::string& path);

  const LedgerHeader& header() const { return header_; }
  // The latest word on a range counts.
  void note(const ByteRange& range, const Finding& finding);
  void note_hash(const ByteRange& range, const std::string& sha256);
  // In order, all bytes of `within`, untried ones too.
  std::vector<Noted> in(const ByteRange& within) const;
  // Those of a state.
  std::vector<ByteRange> in(const ByteRange& within, Finding::State state) const;
  uint64_t bytes(Finding::State state) const;
  // Hashes of what was read, by where each range begins; what was not hashed as one has none.
  const std::map<uint64_t, std::pair<uint64_t, std::string>>& hashes() const { return hashes_; }

  // All of it, as lines of its file.
  std::string text() const;
  static std::string line(const ByteRange& range, const Finding& finding,
                          const std::string& sha256 = {});

 private:
  using Map = boost::icl::interval_map<uint64_t, Finding>;
  // Finding{} is what has no interval.
  LedgerHeader header_;
  Map known_;
  std::map<uint64_t, std::pair<uint64_t, std::string>> hashes_;
};

// The ledger's file beside an image.
std::string ledger_of(const std::string& image);

}  // namespace undershelf
