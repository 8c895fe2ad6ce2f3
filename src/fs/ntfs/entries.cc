#include "fs/ntfs/entries.h"

#include <fmt/format.h>

#include <algorithm>

#include "model/text.h"

namespace undershelf::ntfs {
namespace {

// What is left of a file's names for people: short names only where there is no other in the same
// folder, each name once.
std::vector<FoundName> names_for_people(std::vector<FoundName> names) {
  std::vector<FoundName> kept;
  std::stable_partition(names.begin(), names.end(),
                        [](const FoundName& n) { return n.name_space != kDos; });
  for (FoundName& name : names) {
    const bool known = std::ranges::any_of(kept, [&](const FoundName& k) {
      return number_of(k.parent) == number_of(name.parent) &&
             (name.name_space == kDos || k.text == name.text);
    });
    if (!known) kept.push_back(std::move(name));
  }
  return kept;
}

Name to_name(const FoundName& found) {
  Name name = name_from_utf16(found.text);
  // The long name that a short one stood for is not known.
  if (found.name_space == kDos) name.exact = false;
  return name;
}

std::optional<uint64_t> first_place(const Pieces& pieces) {
  for (const Piece& piece : pieces) {
    if (piece.kind == Piece::Kind::range) return piece.offset;
    if (piece.kind == Piece::Kind::unknown) break;
  }
  return std::nullopt;
}

Stream to_stream(const FileStream& found, bool trusted, bool in_use) {
  Stream stream;
  if (!found.name.empty()) stream.name = name_from_utf16(found.name).text;
  stream.size = found.size;
  // Some drivers cut runs and size of a deleted file: only what is resident is sure to be empty.
  stream.size_known = found.size > 0 || found.resident || in_use;
  stream.valid_size = std::min(found.initialized, found.size);
  stream.placement = trusted && found.sound ? Placement::exact : Placement::inferred;
  if (found.resident) {
    stream.inline_data = found.inline_data;
    append_piece(stream.pieces, {Piece::Kind::inline_bytes, 0, found.size});
  } else {
    stream.pieces = found.pieces;
    stream.first = first_place(found.pieces);
  }
  if ((found.flags & kEncrypted) != 0) {
    stream.encoding = Encoding::encrypted;
  } else if ((found.flags & 0xFF) != 0 && !found.resident) {
    stream.encoding = Encoding::compressed;
    if (found.unit > 0 && (found.flags & 0xFF) == 1) stream.codec = Codec::lznt1;
    stream.unit = found.unit;
  }
  return stream;
}

uint64_t unit_of(Codec codec) {
  switch (codec) {
    case Codec::xpress4k:
      return 4096;
    case Codec::xpress8k:
      return 8192;
    case Codec::xpress16k:
      return 16384;
    default:
      return 32768;
  }
}

// The content of a file that the system compressed lies in a stream of its own.
Stream system_compressed(const FileStream& main, const FileStream& packed, Codec codec,
                         bool trusted) {
  Stream stream = to_stream(packed, trusted, true);
  stream.name.clear();
  stream.pieces = truncated(stream.pieces, packed.size);
  stream.size = stream.valid_size = main.size;
  stream.encoding = Encoding::compressed;
  stream.codec = codec;
  stream.unit = unit_of(codec);
  return stream;
}

// Links that Interix made are files which begin with a mark; the path follows, in UTF-16.
std::string interix_target(const File& file) {
  constexpr std::string_view kMark("IntxLNK\x01", 8);
  const FileStream* const main = file.stream(u"");
  if (main == nullptr || !main->inline_data.starts_with(kMark)) return {};
  const auto bytes = std::as_bytes(std::span(main->inline_data));
  return to_utf8(utf16_at(bytes, kMark.size(), (bytes.size() - kMark.size()) / 2));
}

void add_streams(Entry& entry, const File& file) {
  constexpr std::u16string_view kPacked = u"WofCompressedData";
  const bool trusted = !file.torn && !file.damaged;
  if (file.folder) {
    Stream own;
    // Whether a deleted folder's blocks are still its own is not looked at here.
    if (file.in_use) own.placement = Placement::exact;
    if (file.in_use) own.pieces = file.index;
    own.first = first_place(file.index);
    entry.streams.push_back(std::move(own));
  }
  const FileStream* packed = file.stream(kPacked);
  const bool elsewhere =
      file.reparse &&
      (file.reparse->tag == kTagDeduplicated ||
       (file.reparse->tag == kTagCompressed && (!file.reparse->codec || packed == nullptr)));
  for (const FileStream& found : file.streams) {
    if (found.name.empty() && elsewhere) {
      Stream stream;
      stream.size = stream.valid_size = found.size;
      append_piece(stream.pieces, {Piece::Kind::unknown, 0, found.size});
      entry.streams.push_back(std::move(stream));
      entry.evidence.push_back({"content-elsewhere", found.size});
    } else if (found.name.empty() && packed != nullptr && file.reparse && file.reparse->codec) {
      entry.streams.push_back(system_compressed(found, *packed, *file.reparse->codec, trusted));
    } else if (found.name != kPacked || packed == nullptr || !file.reparse) {
      entry.streams.push_back(to_stream(found, trusted, file.in_use));
    }
  }
  // The main stream comes first. A file must have one.
  std::stable_partition(entry.streams.begin(), entry.streams.end(),
                        [](const Stream& s) { return s.name.empty(); });
  if (!file.folder && (entry.streams.empty() || !entry.streams.front().name.empty())) {
    entry.streams.insert(entry.streams.begin(), Stream{});
    if (trusted && file.in_use) {
      entry.streams.front().placement = Placement::exact;
    } else {
      entry.streams.front().size_known = false;  // its $DATA is gone, or in a record that is lost
    }
  }
}

Entry from_file(const File& file) {
  Entry entry;
  entry.kind = file.folder ? Kind::folder : Kind::file;
  entry.hidden = file.hidden;
  entry.created = file.created;
  entry.modified = file.modified;
  entry.accessed = file.accessed;
  entry.link_target = file.reparse ? file.reparse->target : interix_target(file);
  if (file.extended > 0) entry.evidence.push_back({"extended-attributes", file.extended});
  entry.structures = file.structures;
  if (file.torn) entry.evidence.push_back({"record-torn", 0});
  if (file.damaged) entry.evidence.push_back({"record-damaged", 0});
  for (const FileStream& stream : file.streams) {
    if (!stream.sound) entry.evidence.push_back({"runs-broken", stream.size});
  }
  add_streams(entry, file);
  return entry;
}

}  // namespace

void EntryMaker::set_parent(std::optional<uint64_t>& parent, uint64_t reference,
                            bool as_recorded) const {
  if (number_of(reference) == kRoot) {
    parent.reset();
  } else if (const auto number = as_recorded ? std::nullopt : catalogue_.resolve(reference)) {
    parent = catalogue_.key_of(*number);
  } else {
    parent = reference;
  }
}

void EntryMaker::set_names(Entry& entry, std::vector<FoundName> names, bool as_recorded) const {
  names = names_for_people(std::move(names));
  if (names.empty()) {
    entry.name.text = fmt::format("[record {}]", number_of(entry.key));
    entry.name.exact = false;
    entry.orphan = true;
    return;
  }
  entry.name = to_name(names[0]);
  set_parent(entry.parent, names[0].parent, as_recorded);
  for (size_t i = 1; i < names.size(); ++i) {
    OtherName link{OtherName::Kind::link, {}, to_name(names[i])};
    set_parent(link.parent, names[i].parent, as_recorded);
    entry.other_names.push_back(std::move(link));
  }
}

bool EntryMaker::is_system_folder(uint64_t number) const {
  return std::ranges::binary_search(system_folders_, number);
}

Entry EntryMaker::live(const File& file) {
  Entry entry = from_file(file);
  entry.key = make_reference(file.number, file.sequence);
  set_names(entry, file.names, true);
  const uint64_t parent = entry.parent ? number_of(*entry.parent) : kRoot;
  const bool in_system = is_system_folder(parent);
  entry.system = file.number < kFirstOrdinary || (in_system && entry.name.text != "$Deleted");
  if (file.number == kRoot) entry.parent.reset();
  if (file.folder && in_system && entry.name.text == "$Deleted") waiting_folder_ = file.number;
  if (entry.system && file.folder && file.number != kRoot && in_system) {
    system_folders_.insert(std::ranges::lower_bound(system_folders_, file.number), file.number);
  }
  return entry;
}

Entry EntryMaker::deleted(const File& file, const LostNames::Known* known) const {
  Entry entry = from_file(file);
  entry.key = make_reference(file.number, file.sequence);
  entry.state = State::deleted;
  entry.marked_deleted = true;
  entry.system = file.number < kFirstOrdinary;
  std::vector<FoundName> names = file.names;
  std::vector<Sighting> seen = known == nullptr ? std::vector<Sighting>() : known->names;
  const bool waiting = !names.empty() && std::ranges::all_of(names, [&](const FoundName& name) {
    return is_waiting(name);
  });
  if (names.empty() || waiting) {
    // Its own name was wiped: what was seen last is its name, the rest are from before.
    std::ranges::stable_sort(seen, [](const auto& a, const auto& b) { return a.seen > b.seen; });
    const auto last = std::ranges::find_if(
        seen, [&](const Sighting& sighting) { return !is_waiting(sighting.name); });
    if (last != seen.end()) {
      const FoundName before = last->name;
      for (FoundName& name : names) seen.push_back({0, std::move(name), false, {}, {}});
      names = {before};
      entry.evidence.push_back({"name-from-index", 0});
    }
  }
  set_names(entry, names, false);
  if (known == nullptr) return entry;
  entry.deleted = known->deleted;
  for (const Sighting& sighting : seen) {
    OtherName name = former(sighting.name);
    if (name.name != entry.name || name.parent != entry.parent) {
      entry.other_names.push_back(std::move(name));
    }
  }
  // Some drivers cut the size before they free the record.
  if (entry.kind == Kind::file && known->size > 0 && known->size < most_bytes_ &&
      entry.streams.front().size == 0) {
    Stream& main = entry.streams.front();
    main = {};
    main.size = main.valid_size = known->size;
    append_piece(main.pieces, {Piece::Kind::unknown, 0, main.size});
    entry.evidence.push_back({"size-from-index", main.size});
  }
  return entry;
}

Entry EntryMaker::ghost(const Ghost& ghost) const {
  constexpr uint64_t kWithoutReference = 1ULL << 63;
  Entry entry;
  if (ghost.copy) {
    entry = from_file(*ghost.copy);
    entry.evidence.push_back({"record-in-log", 0});
  }
  entry.state = ghost.current ? State::live : State::deleted;
  const auto named = std::ranges::find_if(
      ghost.sightings, [&](const Sighting& sighting) { return !is_waiting(sighting.name); });
  const Sighting& last = named != ghost.sightings.end() ? *named : ghost.sightings.front();
  entry.name = to_name(last.name);
  set_parent(entry.parent, last.name.parent, false);
  entry.system = is_system_folder(number_of(last.name.parent)) && entry.name.text != "$Deleted";
  entry.evidence.push_back({ghost.current ? "record-lost" : "record-used-again", 0});
  bool folder = false;
  uint64_t size = 0;
  for (const Sighting& sighting : ghost.sightings) {
    const FoundName& name = sighting.name;
    folder = folder || name.folder;
    entry.hidden = entry.hidden || name.hidden;
    size = std::max(size, name.size.value_or(0));
    if (!entry.created) entry.created = name.created;
    if (!entry.modified) entry.modified = name.modified;
    if (!entry.accessed) entry.accessed = name.accessed;
    if (!ghost.current) entry.deleted = std::max(entry.deleted, sighting.deleted);
    if (&sighting != &last) {
      OtherName other = former(name);
      if (ghost.current && sighting.current) other.kind = OtherName::Kind::link;
      entry.other_names.push_back(std::move(other));
    }
  }
  entry.proof = Proof::old;
  // What lies in a folder knows it by its reference.
  folder = folder || (ghost.copy && ghost.copy->folder);
  const bool by_reference = ghost.reference != 0 && (folder || !ghost.by_name);
  entry.key = by_reference ? ghost.reference : kWithoutReference | ghost.by_name.value_or(0);
  if (ghost.copy) return entry;
  entry.kind = folder ? Kind::folder : Kind::file;
  entry.streams.emplace_back();
  if (!folder && size < most_bytes_) {
    entry.streams[0].size = entry.streams[0].valid_size = size;
    append_piece(entry.streams[0].pieces, {Piece::Kind::unknown, 0, size});
  }
  // An index entry of size 0 may be from before anything was written.
  entry.streams[0].size_known = entry.streams[0].size > 0;
  return entry;
}

OtherName EntryMaker::former(const FoundName& name) const {
  OtherName other{OtherName::Kind::former, {}, to_name(name)};
  set_parent(other.parent, name.parent, false);
  return other;
}

}  // namespace undershelf::ntfs
