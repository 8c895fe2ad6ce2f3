// From a shelf and its source to readable content.
#pragma once

#include <memory>
#include <string>

#include "access/spaces.h"
#include "shelf/shelf.h"
#include "source/source.h"
#include "stream/stream.h"

namespace SQLite {
class Statement;
}

namespace undershelf {

// Opens the source a shelf describes, at `path` or, if that is empty, where it was scanned. Throws
// Error (unavailable) if it is not there or is another one.
SourcePtr open_scanned_source(const Shelf& shelf, const std::string& path);

// Streams as they are stored, by their ids. Not to be shared between threads.
class StoredStreams {
 public:
  explicit StoredStreams(const Shelf& shelf);
  ~StoredStreams();
  // On the space in which its volume lies. `losses`: what is known to be lost of it, settled.
  StreamReader open(int64_t stream_id, const SourcePtr& space, Losses losses = {});

 private:
  std::unique_ptr<SQLite::Statement> row_;
};

// Opens streams by their ids, with what the shelf says is lost of them. Not to be shared between
// threads.
class ContentOpener {
 public:
  ContentOpener(const Shelf& shelf, SourcePtr source);
  ~ContentOpener();
  StreamReader open(int64_t stream_id);

 private:
  const Shelf& shelf_;
  Spaces spaces_;
  StoredStreams streams_;
  std::unique_ptr<SQLite::Statement> row_;
};

}  // namespace undershelf
