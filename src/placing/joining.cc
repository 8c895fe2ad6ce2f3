#include "placing/joining.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <unordered_map>
#include <utility>
#include <vector>

#include "content/types.h"
#include "content/walk.h"
#include "model/budget.h"
#include "model/pieces.h"
#include "model/range.h"
#include "placing/alignment.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

constexpr const char* kBySize = "joined-by-size";
constexpr const char* kByOrder = "joined-by-order";
constexpr const char* kByKind = "joined-by-kind";
constexpr const char* kByKindOnly = "joined-by-kind-only";

// Between two files that have their places so many numbers may belong to files of which no name is
// left: measured (docs/recovery/content.md).
constexpr int64_t kMostUnknown = 9;
constexpr size_t kMostCells = 1 << 20;      // of one alignment
constexpr uint64_t kMostSteps = 256 << 20;  // in all, seconds: the rest is not joined by order
constexpr int kRoundsOfJoining = 6;         // in which what was joined helps to join more

// What was found by content alone, and is sound.
struct Find {
  EntryId entry{};
  uint64_t begin = 0;  // byte of the source
  uint64_t size = 0;   // bytes
  std::string_view format;
  bool open = true;
};

// A lost file without a place.
struct Named {
  EntryId entry{};
  StreamId stream{};
  VolumeId volume{};
  int64_t key = 0;
  std::optional<uint64_t> size;  // bytes
  ByteRange within;              // of the source: its volume
  std::string extension;
  bool open = true;
};

// A file that has its place: where it begins, and its number.
struct Anchor {
  uint64_t begin = 0;
  int64_t key = 0;
};

class Joiner {
 public:
  Joiner(Shelf& shelf, const Budget& budget) : db_(shelf.db()), budget_(budget) {
    load_finds();
    load_named();
  }

  bool has_work() const { return !finds_.empty() && !named_.empty(); }

  void join_by_size() {
    std::map<std::pair<uint64_t, std::string_view>, std::vector<size_t>> by_size;
    for (size_t n = 0; n < named_.size(); ++n) {
      if (named_[n].size) by_size[{*named_[n].size, named_[n].extension}].push_back(n);
    }
    std::unordered_map<uint64_t, std::vector<size_t>> finds;
    for (size_t f = 0; f < finds_.size(); ++f) finds[finds_[f].size].push_back(f);
    const Placed placed = placed_like(finds);
    for (const auto& [wanted, names] : by_size) {
      heed_stop();
      const auto same = finds.find(wanted.first);
      if (same == finds.end() || names.size() > 1) continue;
      std::vector<size_t> fitting;  // finds
      for (const size_t f : same->second) {
        if (fits(finds_[f], named_[names[0]])) fitting.push_back(f);
      }
      if (fitting.size() != 1) continue;
      // Where a file that has its place is of that kind and size too, size tells little.
      const auto others = placed.find(wanted.first);
      const bool is_common =
          others != placed.end() && std::ranges::any_of(others->second, [&](const auto& extension) {
            return content::may_be_called(finds_[fitting[0]].format, extension);
          });
      if (!is_common) join(fitting[0], names[0], kBySize);
    }
  }

  void join_by_order(VolumeId volume) {
    std::vector<Anchor> anchors = anchors_of(volume);
    const std::vector<int64_t> keys = keys_of(volume);
    if (keys.empty()) return;
    for (int round = 0; round < kRoundsOfJoining; ++round) {
      const std::vector<Anchor> more = join_between(volume, anchors, keys);
      if (more.empty()) return;
      anchors.insert(anchors.end(), more.begin(), more.end());
      std::ranges::sort(anchors, {}, &Anchor::begin);
    }
  }

  // Where one name and one find are left of a kind.
  void join_by_kind(VolumeId volume) {
    std::vector<Anchor> anchors = anchors_of(volume);
    std::ranges::sort(anchors, {}, &Anchor::key);
    std::map<std::string_view, size_t> wanted;  // names that size does not rule out, by extension
    for (const Named& named : named_) wanted[named.extension] += named.open && !named.size;
    std::map<std::string_view, std::vector<size_t>> left;  // finds, by format
    for (size_t f = 0; f < finds_.size(); ++f) {
      if (finds_[f].open) left[finds_[f].format].push_back(f);
    }
    for (size_t n = 0; n < named_.size(); ++n) {
      heed_stop();
      const Named& named = named_[n];
      const bool is_last = named.open && !named.size && wanted[named.extension] == 1;
      if (named.volume != volume || !is_last) continue;
      std::vector<size_t> fitting;  // finds
      for (const auto& [format, finds] : left) {
        if (!content::may_be_called(format, named.extension)) continue;
        fitting.insert(fitting.end(), finds.begin(), finds.end());
      }
      if (fitting.size() != 1 || !fits(finds_[fitting[0]], named)) continue;
      size_t names = 0;
      for (const auto& [extension, count] : wanted) {
        names += content::may_be_called(finds_[fitting[0]].format, extension) ? count : 0;
      }
      if (names != 1) continue;
      const bool alone = is_out_of_order(anchors, finds_[fitting[0]], named);
      join(fitting[0], n, alone ? kByKindOnly : kByKind);
    }
  }

  Joined store() {
    SQLite::Transaction transaction(db_);
    Joined joined;
    {
      SQLite::Statement place(db_, R"sql(
        UPDATE streams SET (size, valid_size, placement, pieces, stepped, checked, format, type,
          sound_to, why, sha256, says) =
          (SELECT size, valid_size, placement, pieces, stepped, checked, format, type, sound_to,
                  why, sha256, says FROM streams WHERE entry=?1)
        WHERE id=?2)sql");
      SQLite::Statement merge(db_, "UPDATE entries SET merged_into=? WHERE id=?");
      SQLite::Statement evidence(db_, "INSERT INTO evidence VALUES(?,?,?)");
      SQLite::Statement end(db_,
                            "INSERT INTO evidence SELECT ?1, fact, amount FROM evidence "
                            "WHERE entry=?2 AND fact='end-unsure'");
      const auto run = [](SQLite::Statement& statement) {
        statement.exec();
        statement.reset();
      };
      for (const auto& [find, named, fact] : pairs_) {
        const int64_t carved = number_of(finds_[find].entry);
        const int64_t entry = number_of(named_[named].entry);
        place.bind(1, carved);
        place.bind(2, number_of(named_[named].stream));
        run(place);
        merge.bind(1, entry);
        merge.bind(2, carved);
        run(merge);
        evidence.bind(1, entry);
        evidence.bindNoCopy(2, fact);
        evidence.bind(3, static_cast<int64_t>(finds_[find].begin));
        run(evidence);
        end.bind(1, entry);
        end.bind(2, carved);
        run(end);
        ++joined.files;
      }
    }
    transaction.commit();
    return joined;
  }

 private:
  void heed_stop() const {
    if (budget_.is_stopped()) throw Stopped{};
  }

  void load_finds() {
    SQLite::Statement row(db_, R"sql(
      SELECT e.id, s.pieces, s.size, s.format FROM entries e JOIN streams s ON s.entry=e.id
      WHERE e.state='carved' AND e.kind='file' AND e.merged_into IS NULL
        AND s.checked IN ('verified','consistent'))sql");
    while (row.executeStep()) {
      const Pieces pieces = pieces_of(row.getColumn(1));
      if (pieces.empty()) continue;
      finds_.push_back({id_of<EntryId>(row.getColumn(0)), pieces[0].offset,
                        size_of(row.getColumn(2)),
                        content::known_format(row.getColumn(3).getText())});
    }
    std::ranges::sort(finds_, {}, &Find::begin);
  }

  void load_named() {
    SQLite::Statement row(db_, R"sql(
      SELECT e.id, s.id, e.volume, e.key, s.size, e.name, v.offset, v.length
      FROM entries e JOIN streams s ON s.entry=e.id JOIN volumes v ON v.id=e.volume
      WHERE s.placement='none' AND s.name IS NULL AND s.encoding='plain' AND s.codec IS NULL
        AND coalesce(s.size,1)>0 AND s.inline_data IS NULL AND e.kind='file' AND e.state<>'live'
        AND e.merged_into IS NULL AND v.space=0)sql");
    while (row.executeStep()) {
      std::string extension = extension_in(row.getColumn(5).getString());
      if (extension.empty()) continue;
      named_.push_back({id_of<EntryId>(row.getColumn(0)),
                        id_of<StreamId>(row.getColumn(1)),
                        id_of<VolumeId>(row.getColumn(2)),
                        row.getColumn(3).getInt64(),
                        maybe_size(row.getColumn(4)),
                        {size_of(row.getColumn(6)), size_of(row.getColumn(7))},
                        std::move(extension)});
    }
    std::ranges::sort(named_, {}, &Named::key);
  }

  static bool fits(const Find& find, const Named& named) {
    const bool inside = find.begin >= named.within.offset && find.begin < named.within.end();
    return find.open && named.open && inside &&
           content::may_be_called(find.format, named.extension);
  }

  // Extensions of files that have their places, by size, of the sizes that finds have.
  using Placed = std::unordered_map<uint64_t, std::set<std::string>>;
  Placed placed_like(const std::unordered_map<uint64_t, std::vector<size_t>>& finds) {
    SQLite::Statement row(db_,
                          "SELECT s.size, e.name FROM streams s JOIN entries e ON e.id=s.entry "
                          "WHERE s.size>0 AND s.placement<>'none' AND s.name IS NULL AND "
                          "e.kind='file' AND e.state<>'carved' AND e.merged_into IS NULL");
    Placed placed;
    while (row.executeStep()) {
      const uint64_t size = size_of(row.getColumn(0));
      if (finds.contains(size)) placed[size].insert(extension_in(row.getColumn(1).getString()));
    }
    return placed;
  }

  // In the order of their places.
  std::vector<Anchor> anchors_of(VolumeId volume) {
    SQLite::Statement row(db_, R"sql(
      SELECT s.pieces, e.key FROM entries e JOIN streams s ON s.entry=e.id
      WHERE e.volume=? AND e.kind='file' AND e.merged_into IS NULL AND s.name IS NULL
        AND (e.state='live' OR s.rating IN ('whole','likely')))sql");
    row.bind(1, number_of(volume));
    std::vector<Anchor> anchors;
    while (row.executeStep()) {
      for (const Piece& piece : pieces_of(row.getColumn(0))) {
        if (piece.kind != Piece::Kind::range) continue;
        anchors.push_back({piece.offset, row.getColumn(1).getInt64()});
        break;
      }
    }
    std::ranges::sort(anchors, {}, &Anchor::begin);
    return anchors;
  }

  // All numbers of which something is known, in order.
  std::vector<int64_t> keys_of(VolumeId volume) {
    SQLite::Statement row(db_, "SELECT key FROM entries WHERE volume=? ORDER BY key");
    row.bind(1, number_of(volume));
    std::vector<int64_t> keys;
    while (row.executeStep()) keys.push_back(row.getColumn(0).getInt64());
    return keys;
  }

  // Returns what was joined.
  std::vector<Anchor> join_between(VolumeId volume, const std::vector<Anchor>& anchors,
                                   const std::vector<int64_t>& keys) {
    std::vector<Anchor> joined;
    size_t next = 0;  // find
    for (size_t behind = 0; behind <= anchors.size(); ++behind) {
      heed_stop();
      const uint64_t end = behind < anchors.size() ? anchors[behind].begin : UINT64_MAX;
      std::vector<size_t> between;
      for (; next < finds_.size() && finds_[next].begin < end; ++next) {
        if (finds_[next].open) between.push_back(next);
      }
      if (between.empty()) continue;
      // Where the numbers go back, space was used again: it could be either's time.
      const int64_t from = behind == 0 ? 0 : anchors[behind - 1].key;
      const int64_t to = behind < anchors.size() ? anchors[behind].key : keys.back() + 1;
      if (from >= to || unknown_between(keys, from, to) > kMostUnknown) continue;
      join_run(volume, between, from, to, joined);
    }
    return joined;
  }

  void join_run(VolumeId volume, const std::vector<size_t>& finds, int64_t from, int64_t to,
                std::vector<Anchor>& joined) {
    std::vector<size_t> names;
    const auto first = std::ranges::upper_bound(named_, from, {}, &Named::key);
    for (auto at = first; at != named_.end() && at->key < to; ++at) {
      if (++steps_ > kMostSteps) return;
      if (at->volume == volume && at->open && !at->size) {
        names.push_back(static_cast<size_t>(at - named_.begin()));
      }
    }
    if (names.empty() || finds.size() > kMostCells / names.size()) return;
    steps_ += finds.size() * names.size();
    const auto pairs = certain_pairs(finds.size(), names.size(), [&](size_t f, size_t n) {
      return fits(finds_[finds[f]], named_[names[n]]);
    });
    for (const auto& [f, n] : pairs) {
      join(finds[f], names[n], kByOrder);
      joined.push_back({finds_[finds[f]].begin, named_[names[n]].key});
    }
  }

  // Numbers between these that nothing tells of.
  static int64_t unknown_between(const std::vector<int64_t>& keys, int64_t from, int64_t to) {
    const auto known = std::ranges::lower_bound(keys, to) - std::ranges::upper_bound(keys, from);
    return to - from - 1 - known;
  }

  // Whether a find lies outside of what lies between the files (by number) that were made right
  // before and after. Where these lie the other way round, that tells nothing.
  static bool is_out_of_order(const std::vector<Anchor>& by_key, const Find& find,
                              const Named& named) {
    const auto behind = std::ranges::upper_bound(by_key, named.key, {}, &Anchor::key);
    const uint64_t from = behind == by_key.begin() ? 0 : std::prev(behind)->begin;
    const uint64_t to = behind == by_key.end() ? UINT64_MAX : behind->begin;
    return from <= to && (find.begin < from || find.begin > to);
  }

  void join(size_t find, size_t named, const char* fact) {
    finds_[find].open = named_[named].open = false;
    pairs_.push_back({find, named, fact});
  }

  struct Pair {
    size_t find, named;
    const char* fact;
  };

  SQLite::Database& db_;
  const Budget& budget_;
  std::vector<Find> finds_;   // in the order of their places
  std::vector<Named> named_;  // in the order of their numbers
  std::vector<Pair> pairs_;
  uint64_t steps_ = 0;  // of joining by order
};

}  // namespace

Joined join_names(Shelf& shelf, std::span<const VolumeId> numbered, const Budget& budget) {
  Joiner joiner(shelf, budget);
  if (!joiner.has_work()) return {};
  joiner.join_by_size();
  for (const VolumeId volume : numbered) joiner.join_by_order(volume);
  for (const VolumeId volume : numbered) joiner.join_by_kind(volume);
  return joiner.store();
}

void undo_joins(Shelf& shelf) {
  SQLite::Transaction transaction(shelf.db());
  {
    SQLite::Statement row(shelf.db(), R"sql(
      SELECT s.id, s.size, v.fact FROM evidence v JOIN streams s ON s.entry=v.entry
      WHERE v.fact LIKE 'joined-by-%' AND s.name IS NULL)sql");
    SQLite::Statement reset(shelf.db(), R"sql(
      UPDATE streams SET size=?1, valid_size=?1, placement='none', pieces=?2, stepped=NULL,
        checked=NULL, format=NULL, type=NULL, sound_to=NULL, why=NULL, sha256=NULL, says=NULL
      WHERE id=?3)sql");
    while (row.executeStep()) {
      const bool had_size = row.getColumn(2).getString() == kBySize;
      Pieces pieces;
      if (had_size) pieces.push_back({Piece::Kind::unknown, 0, size_of(row.getColumn(1))});
      const std::string packed = pack(pieces);
      had_size ? reset.bind(1, row.getColumn(1).getInt64()) : reset.bind(1);
      reset.bindNoCopy(2, packed.data(), static_cast<int>(packed.size()));
      reset.bind(3, row.getColumn(0).getInt64());
      reset.exec();
      reset.reset();
    }
    // Also those whose names were read anew since.
    shelf.db().exec("UPDATE entries SET merged_into=NULL WHERE state='carved'");
    shelf.db().exec(
        "DELETE FROM evidence WHERE fact LIKE 'joined-by-%' OR "
        "(fact='end-unsure' AND entry NOT IN (SELECT id FROM entries WHERE state='carved'))");
  }
  transaction.commit();
}

}  // namespace undershelf
