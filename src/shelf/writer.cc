#include "shelf/writer.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <unordered_map>
#include <unordered_set>

#include "content/types.h"
#include "shelf/rows.h"
#include "shelf/schema.h"
#include "shelf/volume_row.h"

namespace undershelf {
namespace {

constexpr int kRowsPerTransaction = 20'000;

void bind_time(SQLite::Statement& row, int index, const std::optional<Time>& time) {
  if (time) row.bind(index, time->ticks);
}

}  // namespace

struct VolumeWriter::Rows {
  Rows(Shelf& shelf, const Volume& volume, const Origin& origin, RateSound rate)
      : db(shelf.db()),
        rate_sound(std::move(rate)),
        told_by(origin.by),
        tell(origin.found),
        volume_id(store_volume(db, volume, origin)),
        entry(
            db,
            "INSERT OR REPLACE INTO entries(volume, key, parent, parent_key, orphan, kind, state, "
            "marked_deleted, system, name, raw_name, name_exact, type, created, modified, "
            "accessed, deleted, link_target, finder_info, id, proof, by_sweep, hidden) "
            "VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"),
        stream(db,
               "INSERT INTO streams(entry, name, size, valid_size, encoding, placement, open, "
               "first, hint, pieces, inline_data, rating, score, intact_bytes, first_step, codec, "
               "unit, scattered) "
               "VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"),
        name(db,
             "INSERT INTO names(entry, parent, parent_key, kind, name, raw_name, name_exact) "
             "VALUES(?,?,?,?,?,?,?)"),
        known_name(db,
                   "SELECT 1 FROM names WHERE entry=?1 AND name=?2 AND parent_key IS ?3 UNION ALL "
                   "SELECT 1 FROM entries WHERE id=?1 AND name=?2 AND parent_key IS ?3"),
        structure(db, "INSERT INTO structures VALUES(?,?)"),
        evidence(db, "INSERT INTO evidence VALUES(?,?,?)"),
        damage(db, "INSERT INTO damage VALUES(?,?,?,?)") {
    SQLite::Statement row(db,
                          "SELECT key, id, name, name_exact, by_sweep FROM entries WHERE volume=?");
    row.bind(1, number_of(volume_id));
    while (row.executeStep()) {
      const auto key = static_cast<uint64_t>(row.getColumn(0).getInt64());
      const EntryId id = id_of<EntryId>(row.getColumn(1));
      if (row.getColumn(4).getInt() == 0) {
        stored.emplace(key, id);
      } else {
        const bool exact = row.getColumn(3).getInt() != 0;
        renewed.emplace(key, Renewed{id, exact ? row.getColumn(2).getString() : std::string()});
      }
    }
    if (!stored.empty()) folders = stored;
    // Damage is found anew by each reading.
    SQLite::Statement forget(db, "DELETE FROM damage WHERE volume=?");
    forget.bind(1, number_of(volume_id));
    forget.exec();
  }

  void count_row() {
    if (!transaction) transaction.emplace(db);
    if (++pending >= kRowsPerTransaction) commit();
  }
  void commit() {
    if (transaction) transaction->commit();
    transaction.reset();
    pending = 0;
  }

  // The columns of an entry, but for the id that it may have had.
  void bind_entry(const Entry& of);
  void count_file(std::string_view type);
  // All that other tables keep of an entry.
  void add_belongings(EntryId id, const Entry& of);
  // Drops all that is stored of an entry.
  void forget(EntryId id);
  void add_stream(EntryId id, const Entry& of, const Stream& s);
  void add_name(EntryId id, const OtherName& other);

  SQLite::Database& db;
  RateSound rate_sound;
  ToldBy told_by;
  std::function<void(const FilesByType&)> tell;  // may be empty
  FilesByType by_type{};                         // that were written, and
  uint64_t files = 0;                            // their sum
  VolumeId volume_id;
  SQLite::Statement entry, stream, name, known_name, structure, evidence, damage;
  std::optional<SQLite::Transaction> transaction;
  // Gives an entry whose true name was not known its name and folder.
  void rename_known(EntryId id, const Entry& now);
  // What a deeper look tells besides of an entry that is stored.
  void add_to_known(EntryId id, const Entry& now);
  // A second entry with a key of this reading, as damage makes them: its name is kept.
  EntryId add_again(const Entry& again);
  // Whether the name is stored already.
  bool has_name(EntryId id, const OtherName& other);
  int pending = 0;
  uint64_t damaged = 0;                          // places that were told
  std::unordered_map<uint64_t, EntryId> stored;  // key to id, of what an earlier scan stored
  struct Renewed {
    EntryId id{};
    std::string name;  // empty: made up
  };
  std::unordered_map<uint64_t, Renewed> renewed;  // by key, what is written anew
  std::unordered_map<uint64_t, EntryId> folders;  // key to id, of folders
  std::unordered_set<uint64_t> written;           // keys of this reading
};

void VolumeWriter::Rows::forget(EntryId id) {
  for (const char* table : kTablesOfEntries) {
    db.exec(fmt::format("DELETE FROM {} WHERE entry={}", table, id));
  }
  db.exec(fmt::format("DELETE FROM entries WHERE id={}", id));
}

void VolumeWriter::Rows::add_stream(EntryId id, const Entry& of, const Stream& s) {
  stream.bind(1, number_of(id));
  if (!s.name.empty()) stream.bind(2, s.name);
  if (s.size_known) {
    stream.bind(3, static_cast<int64_t>(s.size));
    stream.bind(4, static_cast<int64_t>(s.valid_size));
  }
  stream.bindNoCopy(5, to_text(s.encoding).data());
  stream.bindNoCopy(6, to_text(s.placement).data());
  stream.bind(7, s.open ? 1 : 0);
  if (s.first) stream.bind(8, static_cast<int64_t>(*s.first));
  if (s.first_step != 0) stream.bind(15, static_cast<int64_t>(s.first_step));
  const std::string pieces = pack(s.pieces);
  const int length = static_cast<int>(pieces.size());
  if (s.open && length > 0) stream.bindNoCopy(9, pieces.data(), length);
  stream.bindNoCopy(10, s.open ? "" : pieces.data(), s.open ? 0 : length);
  if (!s.inline_data.empty()) {
    stream.bindNoCopy(11, s.inline_data.data(), static_cast<int>(s.inline_data.size()));
  }
  if (s.codec != Codec::none) stream.bindNoCopy(16, to_text(s.codec).data());
  if (s.unit != 0) stream.bind(17, static_cast<int64_t>(s.unit));
  stream.bind(18, s.scattered ? 1 : 0);
  // Most live files are sound: stored as such at once, so that rating need not write them again.
  const bool rated = of.kind == Kind::file || !s.name.empty();
  const bool decodable = s.encoding != Encoding::compressed || s.codec != Codec::none;
  if (rate_sound && rated && of.state == State::live && of.evidence.empty() && decodable &&
      s.placement == Placement::exact) {
    const StoredRating verdict = rate_sound(s.size);
    stream.bindNoCopy(12, verdict.rating.data());
    stream.bind(13, verdict.score);
    stream.bind(14, static_cast<int64_t>(s.size));
  }
  stream.exec();
  stream.reset();
  stream.clearBindings();
}

bool VolumeWriter::Rows::has_name(EntryId id, const OtherName& other) {
  known_name.reset();
  known_name.clearBindings();
  known_name.bind(1, number_of(id));
  known_name.bindNoCopy(2, other.name.text);
  if (other.parent) known_name.bind(3, static_cast<int64_t>(*other.parent));
  return known_name.executeStep();
}

void VolumeWriter::Rows::add_name(EntryId id, const OtherName& other) {
  name.bind(1, number_of(id));
  if (other.parent) {
    name.bind(3, static_cast<int64_t>(*other.parent));
    const auto folder = folders.find(*other.parent);
    if (folder != folders.end()) name.bind(2, number_of(folder->second));
  }
  name.bindNoCopy(4, to_text(other.kind).data());
  name.bindNoCopy(5, other.name.text);
  if (!other.name.raw.empty()) {
    name.bindNoCopy(6, other.name.raw.data(), static_cast<int>(other.name.raw.size()));
  }
  name.bind(7, other.name.exact ? 1 : 0);
  name.exec();
  name.reset();
  name.clearBindings();
}

void VolumeWriter::Rows::rename_known(EntryId id, const Entry& now) {
  SQLite::Statement row(db,
                        "UPDATE entries SET name=?, raw_name=?, name_exact=1, type=?, parent=?, "
                        "parent_key=?, orphan=? WHERE id=? AND name_exact=0");
  row.bind(1, now.name.text);
  if (!now.name.raw.empty()) {
    row.bind(2, now.name.raw.data(), static_cast<int>(now.name.raw.size()));
  }
  if (now.kind == Kind::file) row.bind(3, std::string(format_by_name(now.name.text).type));
  if (now.parent) {
    const auto folder = folders.find(*now.parent);
    if (folder != folders.end()) row.bind(4, number_of(folder->second));
    row.bind(5, static_cast<int64_t>(*now.parent));
  }
  row.bind(6, now.orphan ? 1 : 0);
  row.bind(7, number_of(id));
  count_row();
  if (row.exec() == 0) return;
  SQLite::Statement forget(db, "DELETE FROM evidence WHERE entry=? AND fact='name-lost'");
  forget.bind(1, number_of(id));
  forget.exec();
}

void VolumeWriter::Rows::add_to_known(EntryId id, const Entry& now) {
  if (now.deleted) {
    count_row();
    SQLite::Statement row(db, "UPDATE entries SET deleted=? WHERE id=? AND deleted IS NULL");
    bind_time(row, 1, now.deleted);
    row.bind(2, number_of(id));
    row.exec();
  }
  if (now.name.exact) rename_known(id, now);
  for (const OtherName& other : now.other_names) {
    if (has_name(id, other)) continue;
    count_row();
    add_name(id, other);
  }
}

EntryId VolumeWriter::Rows::add_again(const Entry& again) {
  SQLite::Statement known(db, "SELECT id, name FROM entries WHERE volume=? AND key=?");
  known.bind(1, number_of(volume_id));
  known.bind(2, static_cast<int64_t>(again.key));
  if (!known.executeStep()) return EntryId::none;
  const EntryId id = id_of<EntryId>(known.getColumn(0));
  const OtherName other{OtherName::Kind::former, again.parent, again.name};
  if (known.getColumn(1).getString() != again.name.text) add_name(id, other);
  return id;
}

VolumeWriter::VolumeWriter(Shelf& shelf, const Volume& volume, RateSound rate_sound,
                           const Origin& origin)
    : offset_(volume.offset),
      rows_(std::make_unique<Rows>(shelf, volume, origin, std::move(rate_sound))) {}
VolumeWriter::~VolumeWriter() = default;
VolumeId VolumeWriter::volume_id() const { return rows_->volume_id; }

void VolumeWriter::finish() {
  if (rows_->damaged > kMostDamage) {
    write({{offset_, 0}, fmt::format("And {} more places.", rows_->damaged - kMostDamage)});
  }
  rows_->commit();
  if (rows_->tell) rows_->tell(rows_->by_type);
}

void VolumeWriter::Rows::count_file(std::string_view type) {
  constexpr uint64_t kBetweenTold = 1024;  // files
  const auto names = type_names();
  ++by_type[static_cast<size_t>(std::ranges::find(names, type) - names.begin())];
  if (++files % kBetweenTold == 0 && tell) tell(by_type);
}

void VolumeWriter::Rows::bind_entry(const Entry& of) {
  entry.bind(1, number_of(volume_id));
  entry.bind(2, static_cast<int64_t>(of.key));
  bool orphan = of.orphan;
  if (of.parent) {
    entry.bind(4, static_cast<int64_t>(*of.parent));
    if (const auto found = folders.find(*of.parent); found != folders.end()) {
      entry.bind(3, number_of(found->second));
    } else {
      orphan = true;  // until the tree pass finds its folder
    }
  }
  entry.bind(5, orphan ? 1 : 0);
  entry.bindNoCopy(6, to_text(of.kind).data());
  entry.bindNoCopy(7, to_text(of.state).data());
  entry.bind(8, of.marked_deleted ? 1 : 0);
  entry.bind(9, of.system ? 1 : 0);
  entry.bindNoCopy(10, of.name.text);
  if (!of.name.raw.empty()) {
    entry.bindNoCopy(11, of.name.raw.data(), static_cast<int>(of.name.raw.size()));
  }
  entry.bind(12, of.name.exact ? 1 : 0);
  if (of.kind == Kind::file) {
    const std::string_view type = format_by_name(of.name.text).type;
    entry.bindNoCopy(13, type.data());
    count_file(type);
  }
  bind_time(entry, 14, of.created);
  bind_time(entry, 15, of.modified);
  bind_time(entry, 16, of.accessed);
  bind_time(entry, 17, of.deleted);
  if (!of.link_target.empty()) entry.bindNoCopy(18, of.link_target);
  if (!of.finder_info.empty()) {
    entry.bindNoCopy(19, of.finder_info.data(), static_cast<int>(of.finder_info.size()));
  }
  entry.bindNoCopy(21, to_text(of.proof).data());
  entry.bind(22, told_by == ToldBy::sweep ? 1 : 0);
  entry.bind(23, of.hidden || of.name.text.starts_with('.') ? 1 : 0);
}

void VolumeWriter::Rows::add_belongings(EntryId id, const Entry& of) {
  for (const Stream& one : of.streams) add_stream(id, of, one);
  for (const OtherName& other : of.other_names) {
    if (!has_name(id, other)) add_name(id, other);
  }
  if (!of.structures.empty()) {
    const std::string pieces = pack(of.structures);
    structure.bind(1, number_of(id));
    structure.bind(2, pieces.data(), static_cast<int>(pieces.size()));
    structure.exec();
    structure.reset();
  }
  for (const Evidence& fact : of.evidence) {
    evidence.bind(1, number_of(id));
    evidence.bind(2, fact.fact);
    evidence.bind(3, static_cast<int64_t>(fact.amount));
    evidence.exec();
    evidence.reset();
  }
}

EntryId VolumeWriter::add(const Entry& entry) {
  Rows& rows = *rows_;
  if (const auto known = rows.stored.find(entry.key); known != rows.stored.end()) {
    rows.add_to_known(known->second, entry);
    return known->second;
  }
  rows.count_row();
  if (!rows.written.insert(entry.key).second) return rows.add_again(entry);
  SQLite::Statement& row = rows.entry;
  rows.bind_entry(entry);
  if (const auto known = rows.renewed.find(entry.key); known != rows.renewed.end()) {
    // An id never comes to stand for another file.
    const auto& [id, name] = known->second;
    if (rows.told_by == ToldBy::volume) rows.forget(id);
    if (name.empty() || !entry.name.exact || name == entry.name.text) row.bind(20, number_of(id));
    rows.renewed.erase(known);
  }
  row.exec();
  row.reset();
  row.clearBindings();
  const auto id = static_cast<EntryId>(rows.db.getLastInsertRowid());
  if (entry.kind == Kind::folder) rows.folders.emplace(entry.key, id);
  rows.add_belongings(id, entry);
  return id;
}

void VolumeWriter::add(EntryId entry, const OtherName& name) {
  Rows& rows = *rows_;
  if (entry == EntryId::none || rows.has_name(entry, name)) return;
  rows.count_row();
  rows.add_name(entry, name);
}

void VolumeWriter::add(const Damage& damage) {
  if (++rows_->damaged > kMostDamage) return;
  write(damage);
}

void VolumeWriter::write(const Damage& damage) {
  Rows& rows = *rows_;
  rows.count_row();
  rows.damage.bind(1, number_of(rows.volume_id));
  rows.damage.bind(2, static_cast<int64_t>(damage.range.offset));
  rows.damage.bind(3, static_cast<int64_t>(damage.range.length));
  rows.damage.bind(4, damage.what);
  rows.damage.exec();
  rows.damage.reset();
}

}  // namespace undershelf
