#include "tree/trash.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <array>
#include <boost/endian/conversion.hpp>
#include <charconv>
#include <functional>
#include <sstream>
#include <unordered_map>

#include "access/content.h"
#include "model/text.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

using boost::endian::load_little_s64;
using boost::endian::load_little_u16;
using boost::endian::load_little_u32;

constexpr uint64_t kMostInfo = 1 << 20;  // bytes of a record file that are read

const unsigned char* at(std::span<const std::byte> bytes, size_t offset) {
  return reinterpret_cast<const unsigned char*>(bytes.data()) + offset;
}

// Windows file time: 100 ns since 1601. Nothing for 0 and for dates that cannot be.
std::optional<Time> from_file_time(int64_t value) {
  constexpr int64_t kFrom1601To1970 = 116'444'736'000'000'000;
  if (value <= 0) return std::nullopt;
  return Time{value - kFrom1601To1970};
}

std::u16string utf16_at(std::span<const std::byte> bytes, size_t offset, size_t most_units) {
  std::u16string text;
  for (size_t i = 0; i < most_units && offset + 2 * i + 2 <= bytes.size(); ++i) {
    const auto unit = static_cast<char16_t>(load_little_u16(at(bytes, offset + 2 * i)));
    if (unit == 0) break;
    text.push_back(unit);
  }
  return text;
}

// `E:\READINGS\TG03.CSV` as a path from the volume's root.
std::string from_windows_path(const std::u16string& text) {
  std::string path = to_utf8(text);
  if (path.size() >= 2 && path[1] == ':') path.erase(0, 2);
  std::ranges::replace(path, '\\', '/');
  path.erase(0, std::min(path.find_first_not_of('/'), path.size()));
  return path;
}

std::string percent_decoded(const std::string& text) {
  std::string out;
  for (size_t i = 0; i < text.size(); ++i) {
    unsigned value = 0;
    const char* digits = text.data() + i + 1;
    if (text[i] == '%' && i + 2 < text.size() &&
        std::from_chars(digits, digits + 2, value, 16).ptr == digits + 2) {
      out.push_back(static_cast<char>(value));
      i += 2;
    } else {
      out.push_back(text[i]);
    }
  }
  return out;
}

}  // namespace

std::optional<TrashRecord> parse_recycle_info(std::span<const std::byte> content) {
  if (content.size() < 28) return std::nullopt;
  const int64_t version = load_little_s64(at(content, 0));
  if (version != 1 && version != 2) return std::nullopt;
  TrashRecord record;
  record.deleted = from_file_time(load_little_s64(at(content, 16)));
  const size_t units = version == 1 ? 260 : std::min(load_little_u32(at(content, 24)), 32768U);
  record.original_path = from_windows_path(utf16_at(content, version == 1 ? 24 : 28, units));
  if (record.original_path.empty()) return std::nullopt;
  return record;
}

std::vector<Info2Record> parse_info2(std::span<const std::byte> content) {
  constexpr size_t kHeader = 20;
  std::vector<Info2Record> records;
  if (content.size() < kHeader) return records;
  const size_t size = load_little_u32(at(content, 12));
  if (size != 280 && size != 800) return records;
  for (size_t begin = kHeader; begin + size <= content.size(); begin += size) {
    Info2Record record;
    const uint32_t number = load_little_u32(at(content, begin + 260));
    const uint32_t drive = load_little_u32(at(content, begin + 264));
    if (drive > 25) continue;
    record.stored_stem =
        std::string("D") + static_cast<char>('c' - 2 + drive) + std::to_string(number);
    record.deleted = from_file_time(load_little_s64(at(content, begin + 268)));
    if (size == 800) {
      record.original_path = from_windows_path(utf16_at(content, begin + 280, 260));
    } else {
      const auto* bytes = reinterpret_cast<const char*>(at(content, begin));
      const std::string path(bytes, std::find(bytes, bytes + 260, '\0'));
      record.original_path = from_windows_path(to_utf16(path));
    }
    if (!record.original_path.empty()) records.push_back(std::move(record));
  }
  return records;
}

std::optional<TrashRecord> parse_trashinfo(std::span<const std::byte> content, const Zone& zone) {
  std::istringstream in(std::string(reinterpret_cast<const char*>(content.data()), content.size()));
  TrashRecord record;
  for (std::string line; std::getline(in, line);) {
    if (!line.empty() && line.back() == '\r') line.pop_back();
    if (line.starts_with("Path=")) {
      const std::string path = percent_decoded(line.substr(5));
      record.original_path = path.substr(std::min(path.find_first_not_of('/'), path.size()));
    } else if (line.starts_with("DeletionDate=")) {
      CivilTime civil;
      char separator = 0;
      std::istringstream date(line.substr(13));
      int month = 0, day = 0, hour = 0, minute = 0, second = 0;
      date >> civil.year >> month >> day;  // the signs are the separators
      date >> separator >> hour >> separator >> minute >> separator >> second;
      civil.month = static_cast<unsigned>(-month);
      civil.day = static_cast<unsigned>(-day);
      civil.hour = static_cast<unsigned>(hour);
      civil.minute = static_cast<unsigned>(minute);
      civil.second = static_cast<unsigned>(second);
      if (date) record.deleted = from_civil(civil);
      if (record.deleted) record.deleted = zone.to_utc(*record.deleted);
    }
  }
  if (record.original_path.empty()) return std::nullopt;
  return record;
}

namespace {

struct Sight {
  EntryId id{};
  EntryId parent{};
  VolumeId volume{};
  StreamId stream{};
  std::string name;
  bool live = false;
};

// Names that records of trash folders have. On FAT the first letter of a deleted short name is
// lost.
bool is_record_name(std::string_view name, bool exact) {
  const bool bin = name.size() > 1 && (name[1] == 'I' || name[1] == 'i') &&
                   (name[0] == '$' || (name[0] == '_' && !exact));
  if (bin || name.ends_with(".trashinfo")) return true;
  if (name.size() != 5) return false;
  const std::string folded = fold_case(std::string(name));
  return folded == "info2" || (folded == "_nfo2" && !exact);
}

class TrashReader {
 public:
  TrashReader(Shelf& shelf, Spaces& spaces, const Zone& zone)
      : db_(shelf.db()),
        contents_(shelf, spaces),
        zone_(zone),
        siblings_(db_,
                  "SELECT id, name, state='live' FROM entries WHERE parent=? AND "
                  "merged_into IS NULL"),
        update_(db_, "UPDATE entries SET original_path=?, deleted=coalesce(?, deleted) WHERE id=?"),
        below_(db_,
               "WITH RECURSIVE below(id, path) AS (SELECT id, name FROM entries WHERE parent=?1 "
               "UNION SELECT c.id, below.path||'/'||c.name FROM entries c JOIN below ON "
               "c.parent=below.id WHERE length(below.path)<4096) "
               "UPDATE entries SET original_path=?2||'/'||(SELECT path FROM below WHERE "
               "below.id=entries.id), deleted=coalesce(?3, deleted) "
               "WHERE id IN (SELECT id FROM below)") {}

  void run() {
    std::vector<EntryId> records;
    SQLite::Statement name(db_,
                           "SELECT id, name, name_exact FROM entries WHERE kind='file' AND "
                           "merged_into IS NULL");
    while (name.executeStep()) {
      const auto text = name.getColumn(1);
      if (is_record_name({text.getText(), static_cast<size_t>(text.getBytes())},
                         name.getColumn(2).getInt() != 0)) {
        records.push_back(id_of<EntryId>(name.getColumn(0)));
      }
    }
    SQLite::Statement row(db_, R"sql(
      SELECT e.id, e.parent, e.volume, s.id, e.name, e.state='live', p.name, p.parent
      FROM entries e JOIN entries p ON p.id=e.parent JOIN streams s ON s.entry=e.id
      WHERE e.id=? AND s.name IS NULL)sql");
    std::vector<std::pair<Sight, std::string>> found;
    std::vector<EntryId> grandparents;
    for (const EntryId record : records) {
      row.reset();
      row.bind(1, number_of(record));
      if (!row.executeStep()) continue;
      Sight sight;
      sight.id = id_of<EntryId>(row.getColumn(0));
      sight.parent = id_of<EntryId>(row.getColumn(1));
      sight.volume = id_of<VolumeId>(row.getColumn(2));
      sight.stream = id_of<StreamId>(row.getColumn(3));
      sight.name = row.getColumn(4).getString();
      sight.live = row.getColumn(5).getInt() != 0;
      found.emplace_back(sight, fold_case(row.getColumn(6).getString()));
      grandparents.push_back(maybe_id<EntryId>(row.getColumn(7)).value_or(EntryId::none));
    }
    for (size_t i = 0; i < found.size(); ++i) {
      const auto& [sight, folder] = found[i];
      if (sight.name.ends_with(".trashinfo")) {
        if (folder == "info") read_freedesktop(sight, grandparents[i]);
      } else if (fold_case(sight.name).ends_with("nfo2")) {
        read_info2(sight);
      } else {
        read_recycle_info(sight);
      }
    }
  }

 private:
  std::vector<std::byte> read(const Sight& sight) {
    const StreamReader stream = contents_.open_as_stored(sight.stream);
    std::vector<std::byte> bytes(std::min(stream.size(), kMostInfo));
    stream.read(0, bytes);
    return bytes;
  }

  // What lies in one folder. Records of one bin follow each other: the folder is loaded once.
  struct Siblings {
    EntryId folder{};
    // By the name, without its first letter, which may be lost, and whatever the case.
    std::unordered_multimap<std::string, Sight> by_name;
    std::unordered_multimap<std::string, Sight> by_stem;  // likewise, up to the first dot
  };

  static std::string key_of(std::string_view name) {
    return fold_case(std::string(name.substr(std::min<size_t>(1, name.size()))));
  }

  const Siblings& siblings(EntryId folder) {
    if (Siblings& known = loaded_[static_cast<size_t>(folder) % loaded_.size()];
        known.folder == folder)
      return known;
    Siblings& found = loaded_[static_cast<size_t>(folder) % loaded_.size()];
    found = {folder, {}, {}};
    siblings_.bind(1, number_of(folder));
    while (siblings_.executeStep()) {
      Sight sight;
      sight.id = id_of<EntryId>(siblings_.getColumn(0));
      sight.name = siblings_.getColumn(1).getString();
      sight.live = siblings_.getColumn(2).getInt() != 0;
      found.by_stem.emplace(key_of(sight.name.substr(0, sight.name.find('.'))), sight);
      found.by_name.emplace(key_of(sight.name), std::move(sight));
    }
    siblings_.reset();
    return found;
  }

  // Stores what is known of the entry with the wanted name: the one in the same state if there is.
  void tell(const std::unordered_multimap<std::string, Sight>& among, const std::string& key,
            bool live, const TrashRecord& record,
            const std::function<bool(const std::string&)>& is_it) {
    const Sight* best = nullptr;
    const auto [begin, end] = among.equal_range(key);
    for (auto sight = begin; sight != end; ++sight) {
      const Sight& here = sight->second;
      if (!is_it(here.name)) continue;
      // Of several alike the one stored first.
      const auto rank = [&](const Sight& s) { return std::pair(s.live != live, s.id); };
      if (best == nullptr || rank(here) < rank(*best)) best = &here;
    }
    if (best == nullptr) return;
    const auto bind_time = [&](SQLite::Statement& statement, int index) {
      if (record.deleted) {
        statement.bind(index, record.deleted->ticks);
      } else {
        statement.bind(index);
      }
    };
    update_.bind(1, record.original_path);
    bind_time(update_, 2);
    update_.bind(3, number_of(best->id));
    update_.exec();
    update_.reset();
    below_.bind(1, number_of(best->id));
    below_.bind(2, record.original_path);
    bind_time(below_, 3);
    below_.exec();
    below_.reset();
  }

  void read_recycle_info(const Sight& info) {
    const auto record = parse_recycle_info(read(info));
    if (!record) return;
    // `$Iabc.txt` speaks of `$Rabc.txt`; the first letter of either may be lost.
    const std::string rest = info.name.substr(2);
    tell(siblings(info.parent).by_name, fold_case("r" + rest), info.live, *record,
         [&](const std::string& name) {
           return name.size() == info.name.size() && (name[0] == '$' || name[0] == '_') &&
                  (name[1] == 'R' || name[1] == 'r') && name.substr(2) == rest;
         });
  }

  void read_info2(const Sight& info) {
    const Siblings& among = siblings(info.parent);
    for (const Info2Record& record : parse_info2(read(info))) {
      tell(among.by_stem, key_of(record.stored_stem), info.live, record,
           [](const std::string& name) {
             return name[0] == 'D' || name[0] == 'd' || name[0] == '_';
           });
    }
  }

  void read_freedesktop(const Sight& info, EntryId trash) {
    const auto record = parse_trashinfo(read(info), zone_);
    if (!record) return;
    const std::string wanted = info.name.substr(0, info.name.size() - 10);
    const auto [begin, end] = siblings(trash).by_name.equal_range(key_of("files"));
    std::vector<EntryId> folders;
    for (auto folder = begin; folder != end; ++folder) {
      if (fold_case(folder->second.name) == "files") folders.push_back(folder->second.id);
    }
    for (const EntryId folder : folders) {
      tell(siblings(folder).by_name, key_of(wanted), info.live, *record,
           [&](const std::string& name) { return name == wanted; });
    }
  }

  SQLite::Database& db_;
  ContentOpener contents_;
  const Zone& zone_;
  SQLite::Statement siblings_, update_, below_;
  std::array<Siblings, 8> loaded_;
};

}  // namespace

namespace {

// All that lies in trash folders, whether their records tell of it or not.
void mark_trashed(SQLite::Database& db) {
  db.exec(R"sql(
    UPDATE entries SET trashed=0 WHERE trashed=1;
    UPDATE entries SET trashed=1 WHERE id IN (
      WITH RECURSIVE below(id) AS (
        SELECT c.id FROM entries t JOIN entries c ON c.parent=t.id
        WHERE t.kind='folder' AND t.merged_into IS NULL AND
          (lower(t.name) IN ('$recycle.bin','recycler','recycled','.trash','.trashes') OR
           lower(t.name) LIKE '.trash-%')
        UNION SELECT c.id FROM entries c JOIN below ON c.parent=below.id)
      SELECT id FROM below))sql");
}

}  // namespace

void read_trash(Shelf& shelf, Spaces& spaces, const Zone& zone) {
  SQLite::Transaction transaction(shelf.db());
  TrashReader(shelf, spaces, zone).run();
  mark_trashed(shelf.db());
  transaction.commit();
}

}  // namespace undershelf
