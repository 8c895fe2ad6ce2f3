#include "tree/merge.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <string>
#include <tuple>
#include <unordered_map>
#include <vector>

#include "model/budget.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

struct Place {
  uint64_t first;  // byte of the source
  EntryId entry;
};

// What is compared of two entries that start at the same place.
struct Twin {
  EntryId id{};
  VolumeId volume{};
  uint64_t key = 0;
  bool live = false;
  bool folder = false;
  bool has_content = false;  // its place is known; a folder's clusters were read through it
  bool name_exact = false;
  // It stands in its folder where it was made: between older and younger ones.
  bool in_order = false;
  uint64_t size = 0;
  std::optional<Time> created, modified;
};

std::vector<Place> shared_places(SQLite::Database& db) {
  std::vector<Place> places;
  SQLite::Statement row(db,
                        "SELECT first, entry FROM streams WHERE first IS NOT NULL AND "
                        "name IS NULL");
  Columns columns(row);
  while (row.executeStep()) {
    places.push_back({size_of(columns[0]), id_of<EntryId>(columns[1])});
  }
  std::ranges::sort(places, [](const Place& a, const Place& b) {
    return a.first != b.first ? a.first < b.first : a.entry < b.entry;
  });
  std::vector<Place> shared;
  for (size_t i = 0; i < places.size(); ++i) {
    const bool with_last = i > 0 && places[i - 1].first == places[i].first;
    const bool with_next = i + 1 < places.size() && places[i + 1].first == places[i].first;
    if (with_last || with_next) shared.push_back(places[i]);
  }
  return shared;
}

// Empty files have no place. Of those that were made and changed at one moment, of which one lives,
// the deleted one that has its folder or its name is taken for its former name; where several have,
// nothing tells. Only where a rename leaves an entry behind.
std::vector<std::vector<EntryId>> empty_twins(SQLite::Database& db,
                                              const std::vector<VolumeId>& volumes) {
  SQLite::Statement row(db, fmt::format(R"sql(
    SELECT e.id, e.state='live', e.parent_key, e.name, e.volume, e.created, e.modified
    FROM streams s CROSS JOIN entries e ON e.id=s.entry AND s.name IS NULL
    WHERE e.kind='file' AND e.merged_into IS NULL AND s.first IS NULL AND s.size=0 AND
      e.created IS NOT NULL AND e.modified IS NOT NULL AND
      e.volume IN ({})
    ORDER BY e.volume, e.created, e.modified)sql",
                                        fmt::join(volumes, ",")));
  struct Empty {
    EntryId id;
    bool live;
    std::optional<uint64_t> parent;
    std::string name;
  };
  std::vector<std::vector<EntryId>> groups;
  std::vector<Empty> moment;  // those of one volume and moment
  std::tuple<int64_t, int64_t, int64_t> when;
  const auto close = [&] {
    const auto live = std::ranges::find(moment, true, &Empty::live);
    std::vector<EntryId> fitting;
    for (const Empty& empty : moment) {
      if (live == moment.end() || empty.id == live->id) continue;
      if (empty.live) return moment.clear();
      if (empty.parent == live->parent || empty.name == live->name) fitting.push_back(empty.id);
    }
    // Files that were made together are no names of each other.
    if (fitting.size() == 1 && moment.size() == 2) groups.push_back({live->id, fitting.front()});
    moment.clear();
  };
  while (row.executeStep()) {
    const std::tuple now(row.getColumn(4).getInt64(), row.getColumn(5).getInt64(),
                         row.getColumn(6).getInt64());
    if (now != when) close();
    when = now;
    moment.push_back({id_of<EntryId>(row.getColumn(0)), row.getColumn(1).getInt() != 0,
                      maybe_size(row.getColumn(2)), row.getColumn(3).getString()});
  }
  close();
  return groups;
}

// Whether `old` can be what a rename or move left behind of `kept`.
bool is_former_name(const Twin& old, const Twin& kept) {
  if (old.live || old.folder != kept.folder || old.volume != kept.volume) return false;
  const bool same_creation = old.created && old.created == kept.created;
  const bool same_writing = old.modified && old.modified == kept.modified;
  if (old.folder) return same_creation || (!old.created && !kept.created && same_writing);
  if (old.size == kept.size && same_writing) return !old.created || same_creation;
  // Written to after it was renamed: created when the old entry was, and not younger than it.
  return same_creation && old.modified && kept.modified && *old.modified <= *kept.modified;
}

// Which of two twins carries the path: the living one, the one through which the folder was read,
// the one whose name is sure, the one that was changed last, the one whose place is known, the one
// that stands among entries of another time (a rename writes it anew and keeps its dates), then the
// one that was written later in its folder.
bool is_better(const Twin& a, const Twin& b) {
  const auto rank = [](const Twin& twin) {
    return std::tuple(twin.live, twin.folder && twin.has_content, twin.name_exact, twin.modified,
                      twin.has_content, !twin.in_order, twin.key);
  };
  return rank(a) > rank(b);
}

class Merger {
 public:
  Merger(SQLite::Database& db, Budget& budget)
      : budget_(budget),
        load_(db,
              "SELECT e.id, e.volume, e.key, e.state='live', e.kind='folder', "
              "length(s.pieces)>0, e.name_exact, s.size, e.created, e.modified, e.parent_key "
              "FROM entries e JOIN streams s ON s.entry=e.id AND s.name IS NULL "
              "WHERE e.id=? AND e.merged_into IS NULL"),
        name_(db,
              "INSERT INTO names(entry, parent, parent_key, kind, name, raw_name, name_exact) "
              "SELECT ?1, parent, parent_key, 'former', name, raw_name, name_exact FROM entries e "
              "WHERE id=?2 AND NOT EXISTS (SELECT 1 FROM names n WHERE n.entry=?1 AND "
              "n.kind='former' AND n.name=e.name AND n.parent_key IS e.parent_key)"),
        move_names_(db, "UPDATE names SET entry=? WHERE entry=?"),
        before_(db, neighbour_of("<", "DESC")),
        behind_(db, neighbour_of(">", "ASC")),
        mark_(db, "UPDATE entries SET merged_into=? WHERE id=?") {}

  void merge_group(const std::vector<EntryId>& group) {
    std::vector<Twin> twins;
    for (const EntryId entry : group) {
      if (auto twin = load(entry)) twins.push_back(*twin);
    }
    std::ranges::stable_sort(twins, is_better);
    // Each twin joins the best one it is a former name of. What is left stays an entry of its own.
    // Whatever joins agrees in some moment with what it joins: so only those are compared.
    constexpr size_t kMostOfOneMoment = 64;
    std::unordered_map<int64_t, std::vector<size_t>> kept;  // by moment, the best first
    for (size_t i = 0; i < twins.size(); ++i) {
      size_t owner = twins.size();
      const auto each_moment = [&](const auto& visit) {
        for (const std::optional<Time>& time : {twins[i].created, twins[i].modified}) {
          if (time) visit(kept[time->ticks]);
        }
      };
      each_moment([&](const std::vector<size_t>& alike) {
        const auto found = std::ranges::find_if(alike, [&](size_t k) {
          budget_.step();
          return is_former_name(twins[i], twins[k]);
        });
        if (found != alike.end()) owner = std::min(owner, *found);
      });
      if (owner != twins.size()) {
        merge(twins[i].id, twins[owner].id);
        continue;
      }
      each_moment([&](std::vector<size_t>& alike) {
        if (alike.size() < kMostOfOneMoment) alike.push_back(i);
      });
    }
  }

 private:
  std::optional<Twin> load(EntryId entry) {
    load_.bind(1, number_of(entry));
    std::optional<Twin> twin;
    if (load_.executeStep()) {
      twin.emplace();
      twin->id = id_of<EntryId>(load_.getColumn(0));
      twin->volume = id_of<VolumeId>(load_.getColumn(1));
      twin->key = size_of(load_.getColumn(2));
      twin->live = load_.getColumn(3).getInt() != 0;
      twin->folder = load_.getColumn(4).getInt() != 0;
      twin->has_content = load_.getColumn(5).getInt() != 0;
      twin->name_exact = load_.getColumn(6).getInt() != 0;
      twin->size = size_of(load_.getColumn(7));
      twin->created = maybe_time(load_.getColumn(8));
      twin->modified = maybe_time(load_.getColumn(9));
      if (!twin->live && twin->created) {
        const std::optional<uint64_t> parent = maybe_size(load_.getColumn(10));
        const auto before = made_beside(before_, *twin, parent);
        const auto behind = made_beside(behind_, *twin, parent);
        twin->in_order =
            (!before || *before <= *twin->created) && (!behind || *twin->created <= *behind);
      }
    }
    load_.reset();
    return twin;
  }

  // When the entry was made that stands next to another one in its folder, on one side of it: ?1,
  // the volume; ?2, the key; ?3, the folder's. No farther away than entries of some folders are.
  static std::string neighbour_of(const char* side, const char* order) {
    constexpr int kFar = 16384;  // bytes, where keys are places
    return fmt::format(
        "SELECT created FROM entries WHERE volume=?1 AND key{0}?2 AND key BETWEEN ?2-{2} AND "
        "?2+{2} AND parent_key IS ?3 AND created IS NOT NULL ORDER BY key {1} LIMIT 1",
        side, order, kFar);
  }

  static std::optional<Time> made_beside(SQLite::Statement& neighbour, const Twin& twin,
                                         const std::optional<uint64_t>& parent) {
    neighbour.bind(1, number_of(twin.volume));
    neighbour.bind(2, static_cast<int64_t>(twin.key));
    parent ? neighbour.bind(3, static_cast<int64_t>(*parent)) : neighbour.bind(3);
    std::optional<Time> made;
    if (neighbour.executeStep()) made = maybe_time(neighbour.getColumn(0));
    neighbour.reset();
    return made;
  }

  void merge(EntryId old, EntryId kept) {
    for (auto* statement : {&name_, &move_names_, &mark_}) {
      statement->bind(1, number_of(kept));
      statement->bind(2, number_of(old));
      statement->exec();
      statement->reset();
    }
  }

  Budget& budget_;
  SQLite::Statement load_, name_, move_names_, before_, behind_, mark_;
};

}  // namespace

void merge_twins(Shelf& shelf, const std::vector<VolumeId>& leaving, Budget& budget) {
  SQLite::Database& db = shelf.db();
  const std::vector<Place> shared = shared_places(db);
  std::vector<std::vector<EntryId>> groups = empty_twins(db, leaving);
  for (size_t i = 0; i < shared.size(); ++i) {
    if (i == 0 || shared[i].first != shared[i - 1].first) groups.emplace_back();
    groups.back().push_back(shared[i].entry);
  }
  if (groups.empty()) return;
  SQLite::Transaction transaction(db);
  Merger merger(db, budget);
  for (const std::vector<EntryId>& group : groups) merger.merge_group(group);
  transaction.commit();
}

}  // namespace undershelf
