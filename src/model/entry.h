// What readers find, as plain values: entries, their names and their streams.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "model/pieces.h"
#include "model/time.h"

namespace undershelf {

enum class State : uint8_t { live, deleted, former, carved };
enum class Kind : uint8_t { file, folder };
enum class Encoding : uint8_t { plain, compressed, encrypted };

// How a compressed stream is decoded. `none` with Encoding::compressed: by nothing known here.
enum class Codec : uint8_t {
  none,
  lznt1,  // NTFS, in units of so many clusters; a unit's place in the pieces is its logical place
  xpress4k,     // the system compression of Windows: a table of chunks, then the chunks, packed
  xpress8k,     // likewise
  xpress16k,    // likewise
  lzx,          // likewise, in chunks of 32 KiB
  zlib,         // HFS+, inline: one block
  zlib_blocks,  // HFS+, in a resource fork: a table of blocks of 64 KiB, then the blocks
};

// How it is known where a stream's bytes lie.
enum class Placement : uint8_t {
  exact,     // recorded: run list, contiguous flag, intact chain, inline, a single cluster
  inferred,  // from the first cluster on, contiguously or around clusters in use
  content,   // as its content adds up to its end
  guessed,   // the first cluster itself is incomplete
  none,      // not known at all
};

// A name as an entry's owner saw it.
struct Name {
  std::string text;   // UTF-8, NFC; U+FFFD where the stored name is no valid text
  std::string raw;    // the stored bytes, only if `text` cannot say all of them
  bool exact = true;  // false if a character is unsure or the name may be cut
  bool operator==(const Name&) const = default;
};

// How a stream is stored; see Stream.
struct Storage {
  Codec codec = Codec::none;
  uint64_t unit = 0;  // bytes
};

struct Stream {
  std::string name;         // empty for the main stream
  uint64_t size = 0;        // bytes, as recorded
  bool size_known = true;   // false: nothing that is left tells it; `size` is then 0
  uint64_t valid_size = 0;  // bytes that were ever written; the rest reads as zeros
  Encoding encoding = Encoding::plain;
  Codec codec = Codec::none;
  uint64_t unit = 0;  // bytes of logical content that are compressed together; 0: not compressed
  Placement placement = Placement::none;
  // True if the placing pass decides where the bytes lie; `pieces` is then what the metadata
  // still tells (a chain left in place), or empty.
  bool open = false;
  // True if it is known to lie in several pieces, of which nothing tells where they are.
  bool scattered = false;
  std::optional<uint64_t> first;  // byte of the space at which the stream starts, if known
  // If not 0, `first` is only the least of several candidates, so many bytes apart.
  uint64_t first_step = 0;
  Pieces pieces;  // whole clusters may stand behind `size`
  std::string inline_data;
};

// A name an entry has besides its own.
struct OtherName {
  enum class Kind : uint8_t {
    link,    // another hard link
    former,  // from before a rename or a move
  };
  Kind kind = Kind::former;
  std::optional<uint64_t> parent;  // as in Entry
  Name name;
  bool operator==(const OtherName&) const = default;
};

// One fact that speaks for or against getting an entry back, in words for the user.
struct Evidence {
  std::string fact;     // one of the codes in docs/shelf.md, "Evidence"
  uint64_t amount = 0;  // bytes or a count, as the code says
};

// How far what tells of an entry is the last that was recorded of it. An old copy of a record
// proves what it says of its own time only.
enum class Proof : uint8_t {
  last,    // its own record, in its own place
  unsure,  // its own, but a rename may have left it behind
  old,     // an older copy, or another's mention of it
};

struct Entry {
  // Identity in its volume, the same at each scan: FAT and exFAT: the byte in the volume at which
  // its directory entry lies; NTFS: the file reference; HFS+: the catalog node ID.
  uint64_t key = 0;
  std::optional<uint64_t> parent;  // key of its folder; nothing if that is the root
  bool orphan = false;             // its folder is not known
  Kind kind = Kind::file;
  State state = State::live;
  bool marked_deleted = false;  // its own record says so
  Proof proof = Proof::last;
  bool system = false;  // one of the file system's own files
  bool hidden = false;  // its attributes say so; a name that begins with a dot is not meant
  Name name;
  std::optional<Time> created, modified, accessed, deleted;
  std::vector<Stream> streams;  // a folder's own content is its stream; it claims its clusters
  std::vector<OtherName> other_names;
  std::string finder_info;  // HFS+: 32 bytes, beginning with type and creator; empty if all zero
  std::string link_target;  // of a symbolic link or mount point, as stored; UTF-8
  Pieces structures;        // ranges that its metadata holds besides its streams
  std::vector<Evidence> evidence;
};

std::string_view to_text(State state);
std::string_view to_text(Proof proof);
std::string_view to_text(Kind kind);
std::string_view to_text(Encoding encoding);
std::string_view to_text(Placement placement);
std::string_view to_text(Codec codec);
std::string_view to_text(OtherName::Kind kind);

}  // namespace undershelf
