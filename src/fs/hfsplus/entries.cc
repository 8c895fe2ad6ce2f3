#include "fs/hfsplus/entries.h"

#include <algorithm>
#include <array>

#include "fs/pieces_source.h"
#include "model/text.h"

namespace undershelf::hfsplus {
namespace {

std::string read_start(const Stream& stream, const Tables& tables) {
  constexpr uint64_t kMost = 4096;
  std::string text(std::min(stream.size, kMost), '\0');
  PiecesSource(tables.source, stream.pieces, stream.size)
      .read(0, std::as_writable_bytes(std::span(text)));
  return to_utf8(to_utf16(text));  // whatever is no text becomes U+FFFD
}

// Read when an entry is made: all of a system disk's compressed files come to gigabytes.
std::string inline_bytes(const AttributeRecord& attribute, const Tables& tables) {
  if (attribute.inline_at.length == 0) return attribute.inline_data;
  std::string bytes(attribute.inline_at.length, '\0');
  tables.attributes_file->read(attribute.inline_at.offset,
                               std::as_writable_bytes(std::span(bytes)));
  return bytes;
}

Stream placed_stream(const ForkData& fork, PlacedFork placed, Entry& entry, const Tables& tables) {
  Stream stream;
  stream.size = std::min(fork.logicalSize.value(), tables.space.size());
  stream.valid_size = stream.size;
  stream.placement = Placement::exact;
  stream.pieces = std::move(placed.pieces);
  if (!stream.pieces.empty() && stream.pieces.front().kind == Piece::Kind::range) {
    stream.first = stream.pieces.front().offset;
  }
  if (placed.missing > 0) entry.evidence.push_back({"extents-missing", placed.missing});
  return stream;
}

// `all`: the attributes of its file, among them what goes on with its fork.
Stream attribute_stream(const AttributeRecord& attribute, const std::vector<AttributeRecord>& all,
                        Entry& entry, const Tables& tables) {
  Stream stream;
  if (attribute.fork) {
    Overflow more;
    for (const AttributeRecord& other : all) {
      if (other.extents && other.name == attribute.name) more.add(*other.extents);
    }
    const Overflow* const known[] = {&more};
    stream = placed_stream(*attribute.fork,
                           place_fork(*attribute.fork, attribute.file, false, tables.space, known),
                           entry, tables);
  } else {
    stream.inline_data = inline_bytes(attribute, tables);
    stream.size = stream.valid_size = stream.inline_data.size();
    stream.placement = Placement::exact;
    append_piece(stream.pieces, {Piece::Kind::inline_bytes, 0, stream.size});
  }
  stream.name = to_name(attribute.name).text;
  return stream;
}

// Extended attributes as streams of their own; the one that says how a file is compressed decides
// what its main stream is, and whether its resource fork is only the place of that.
void add_attributes(Entry& entry, const Stream& resource, const Tables& tables) {
  const auto cnid = static_cast<uint32_t>(entry.key);
  const auto& table = entry.state == State::live ? tables.attributes : tables.stale_attributes;
  const auto found = table.find(cnid);
  bool fork_is_content = false;
  std::vector<Stream> streams;
  if (found != table.end()) {
    for (const AttributeRecord& attribute : found->second) {
      if (attribute.extents) continue;  // goes on with another
      if (attribute.name == kCompressionAttribute && entry.kind == Kind::file) {
        const Stream main = compressed_stream(inline_bytes(attribute, tables), resource);
        fork_is_content = main.first.has_value();
        entry.streams.front() = main;
        continue;
      }
      streams.push_back(attribute_stream(attribute, found->second, entry, tables));
    }
  }
  if (!resource.name.empty() && !fork_is_content) entry.streams.push_back(resource);
  for (Stream& stream : streams) entry.streams.push_back(std::move(stream));
}

}  // namespace

Name to_name(std::u16string stored) {
  const std::u16string as_stored = stored;
  std::ranges::replace(stored, u'/', u':');
  Name name = name_from_utf16(stored);
  name.raw = to_utf16(name.text) == as_stored ? std::string() : bytes_of_utf16(as_stored);
  return name;
}

void set_name(Entry& entry, const PlacedName& placed) {
  entry.name = to_name(placed.name);
  if (placed.parent != kRoot) entry.parent = placed.parent;
}

OtherName other_name(OtherName::Kind kind, const PlacedName& placed) {
  OtherName name{kind, {}, to_name(placed.name)};
  if (placed.parent != kRoot) name.parent = placed.parent;
  return name;
}

Entry from_remnant(uint32_t cnid, const Remnant& remnant, const Tables& tables) {
  Entry entry;
  if (remnant.record) {
    entry = from_record(*remnant.record, State::deleted, tables);
  } else {
    entry.key = cnid;
    entry.state = State::deleted;
    entry.kind = remnant.folder ? Kind::folder : Kind::file;
    entry.streams.emplace_back();
    entry.streams.back().size_known = false;
    entry.proof = Proof::old;
    entry.evidence.push_back({"thread-only", 0});
  }
  set_name(entry, remnant.last);
  for (const PlacedName& name : remnant.others) {
    entry.other_names.push_back(other_name(OtherName::Kind::former, name));
  }
  return entry;
}

namespace {

// Whether a stale copy of a file's record looks as it does before the first bytes are written out:
// records are written when a file is made and again when its content is there.
bool is_early(const CatalogRecord& record) {
  const FileRecord& file = record.file;
  return file.dataFork.logicalSize.value() == 0 && file.dataFork.totalBlocks.value() == 0 &&
         (record.known < sizeof(FileRecord) || file.resourceFork.logicalSize.value() == 0);
}

}  // namespace

Entry from_record(const CatalogRecord& record, State state, const Tables& tables) {
  Entry entry;
  entry.key = record.cnid();
  entry.state = state;
  const FileRecord& file = record.file;
  entry.created = to_time(file.createDate.value());
  entry.modified = to_time(file.contentModDate.value());
  entry.accessed = to_time(file.accessDate.value());
  // Files and folders have these flags in the same place: TN1150, "Finder Info".
  entry.hidden = (file.fdFlags.value() & kIsInvisible) != 0;
  // A record that is in no tree any more may be any of those the file had in its time.
  if (state != State::live) entry.proof = Proof::old;
  if (record.type == kFolder) {
    entry.kind = Kind::folder;
    Stream own;
    own.placement = state == State::live ? Placement::exact : Placement::none;
    entry.streams.push_back(std::move(own));
    add_attributes(entry, Stream{}, tables);
    return entry;
  }
  std::string finder(reinterpret_cast<const char*>(&file.fdType), 32);
  if (finder.find_first_not_of('\0') != std::string::npos) entry.finder_info = std::move(finder);
  const bool live = state == State::live;
  if (record.known < offsetof(FileRecord, resourceFork)) {
    entry.evidence.push_back({"record-cut", record.known});
    entry.streams.emplace_back();
    entry.streams.back().size_known = false;
    return entry;
  }
  entry.streams.push_back(fork_stream(file.dataFork, record.cnid(), false, live, entry, tables));
  Stream resource;
  if (record.known >= sizeof(FileRecord) && file.resourceFork.logicalSize.value() > 0) {
    resource = fork_stream(file.resourceFork, record.cnid(), true, live, entry, tables);
    resource.name = kResourceFork;
  }
  if (!live && is_early(record)) {
    entry.streams.front().size_known = false;
    entry.streams.front().placement = Placement::none;
  }
  add_attributes(entry, resource, tables);
  if (!entry.streams.front().size_known) {
    entry.evidence.push_back({"record-early", 0});
    entry.modified.reset();
    entry.accessed.reset();
  }
  if ((file.permissions.fileMode.value() & kModeType) == kModeLink) {
    entry.link_target = read_start(entry.streams.front(), tables);
  }
  return entry;
}

Stream fork_stream(const ForkData& fork, uint32_t cnid, bool resource, bool live, Entry& entry,
                   const Tables& tables) {
  const std::array<const Overflow*, 2> known = {&tables.overflow, &tables.stale_overflow};
  return placed_stream(
      fork, place_fork(fork, cnid, resource, tables.space, std::span(known).first(live ? 1 : 2)),
      entry, tables);
}

std::vector<Entry> own_files(const Geometry& geometry, const Tables& tables) {
  const VolumeHeader& h = geometry.header;
  struct Own {
    const char* name;
    uint32_t cnid;
    const ForkData& fork;
  };
  const Own files[] = {{"[extents overflow file]", kExtentsFile, h.extentsFile},
                       {"[catalog file]", kCatalogFile, h.catalogFile},
                       {"[allocation file]", kAllocationFile, h.allocationFile},
                       {"[startup file]", kStartupFile, h.startupFile},
                       {"[attributes file]", kAttributesFile, h.attributesFile}};
  std::vector<Entry> entries;
  for (const Own& file : files) {
    // The leaves of a catalog that no header tells of.
    const bool leaves = file.cnid == kCatalogFile && !geometry.catalog_leaves.empty();
    if (file.fork.totalBlocks.value() == 0 && !leaves) continue;
    Entry& entry = entries.emplace_back();
    entry.key = file.cnid;
    entry.system = true;
    entry.name = {file.name, {}, false};
    if (!leaves) {
      entry.streams.push_back(fork_stream(file.fork, file.cnid, false, true, entry, tables));
      continue;
    }
    Stream& stream = entry.streams.emplace_back();
    stream.size = stream.valid_size = geometry.leaves_in_use * geometry.leaf_size;
    stream.placement = Placement::exact;
    stream.pieces = truncated(geometry.catalog_leaves, stream.size);
  }
  return entries;
}

}  // namespace undershelf::hfsplus
