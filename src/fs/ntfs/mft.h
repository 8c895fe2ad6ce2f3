// The master file table: records by number.
#pragma once

#include <functional>
#include <memory>

#include "fs/ntfs/file.h"
#include "fs/ntfs/geometry.h"
#include "fs/pieces_source.h"

namespace undershelf::ntfs {

// Not to be shared between threads.
class Mft {
 public:
  // Finds the table through its own record, or the copy of it in $MFTMirr, or, where both are gone,
  // takes it to lie in one piece. `notes` gets what had to be done.
  Mft(SourcePtr source, const UnitSpace& space, const Geometry& geometry,
      std::vector<std::string>& notes);

  // The table where its own record is gone: `records` are places on the source, one record behind
  // the other by their numbers, unknown where a record was not found.
  Mft(SourcePtr source, const UnitSpace& space, const Geometry& geometry, const Pieces& records);

  uint64_t count() const { return stream_->size() / record_size_; }  // records
  const UnitSpace& space() const { return space_; }
  const SourcePtr& source() const { return source_; }
  // Byte of the space at which a record lies; 0 if that is not known.
  uint64_t place_of(uint64_t number) const;

  enum class State : uint8_t { record, blank, unreadable, rubbish };
  struct Read {
    State state = State::blank;
    std::optional<Record> record;
  };
  // Calls `visit` with each record in order, reading ahead; stretches of the table of which nothing
  // is stored (sparse ones, or unknown ones) are passed over. The record is gone after the call.
  void each(const std::function<void(uint64_t number, const Read&)>& visit);
  // One record; it stays until the next call.
  Read read(uint64_t number);

 private:
  Read parse(uint64_t number, std::span<std::byte> bytes, bool readable);
  bool follow_own_record(uint64_t place);

  SourcePtr source_;
  UnitSpace space_;
  uint32_t record_size_;
  uint64_t mirror_;  // byte of the space; 0 if there is none
  std::shared_ptr<PiecesSource> stream_;
  std::vector<std::byte> buffer_;    // of one record
  std::vector<std::byte> window_;    // of read(): several records
  uint64_t window_at_ = UINT64_MAX;  // byte of the stream
  std::vector<BadRange> window_bad_;
};

}  // namespace undershelf::ntfs
