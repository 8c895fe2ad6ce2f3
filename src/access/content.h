// From a shelf and its source to readable content.
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "access/spaces.h"
#include "model/ids.h"
#include "shelf/shelf.h"
#include "source/source.h"
#include "stream/stream.h"

namespace SQLite {
class Statement;
}

namespace undershelf {

// Opens the source a shelf describes, at `path` or, if that is empty, where it was scanned, through
// an image as open_source() does. Throws Error (unavailable) if it is not there or is another one.
SourcePtr open_scanned_source(const Shelf& shelf, const std::string& path,
                              const std::string& through = {});

// Opens streams by their ids, each on the space in which it lies. Not to be shared between threads.
class ContentOpener {
 public:
  // Both must outlive it.
  ContentOpener(const Shelf& shelf, Spaces& spaces);
  ~ContentOpener();
  // With what the shelf says is lost of it.
  StreamReader open(StreamId stream) { return open(stream, volume_of(stream), true); }
  // Likewise, where a row of it tells its volume: in half of the time.
  StreamReader open(StreamId stream, std::optional<VolumeId> volume) {
    return open(stream, volume, true);
  }
  // As it lies there.
  StreamReader open_as_stored(StreamId stream) { return open(stream, volume_of(stream), false); }

 private:
  std::optional<VolumeId> volume_of(StreamId stream);
  StreamReader open(StreamId stream, std::optional<VolumeId> volume, bool with_losses);
  const Shelf& shelf_;
  Spaces& spaces_;
  std::unique_ptr<SQLite::Statement> row_, volume_;
};

}  // namespace undershelf
