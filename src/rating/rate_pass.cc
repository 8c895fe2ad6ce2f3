#include "rating/rate_pass.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <map>
#include <set>
#include <vector>

#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "stream/storage_row.h"

namespace undershelf {
namespace {

constexpr const char* kFacts = R"sql(
  SELECT s.id, e.id, e.state, s.size, s.valid_size, s.placement, s.pieces,
         coalesce(s.stepped,0), coalesce(s.overwritten,0), coalesce(s.disputed,0),
         coalesce(s.contested,0), coalesce(s.rivalled,0), coalesce(s.missing,0),
         coalesce(s.sampled,0), coalesce(s.blank,0), coalesce(s.unreadable,0), s.head,
         coalesce(s.name, e.name), coalesce(e.created, e.modified), s.rating, s.score, s.intact_bytes,
         s.first IS NOT NULL, coalesce(s.in_use,0), coalesce(s.entangled,0), e.volume,
         s.open=1 AND s.hint IS NOT NULL AND s.placement='exact', s.codec, coalesce(s.unit,0),
         s.encoding
  FROM streams s JOIN entries e ON e.id=s.entry
  WHERE (e.kind='file' OR s.name IS NOT NULL) AND e.merged_into IS NULL)sql";

State state_of(std::string_view text) {
  for (const State state : {State::live, State::deleted, State::former}) {
    if (to_text(state) == text) return state;
  }
  return State::carved;
}

Placement placement_of(std::string_view text) {
  for (const Placement p : {Placement::exact, Placement::inferred, Placement::guessed}) {
    if (to_text(p) == text) return p;
  }
  return Placement::none;
}

Facts facts_of(SQLite::Statement& row) {
  Facts f;
  f.state = state_of(row.getColumn(2).getText());
  f.size = size_of(row.getColumn(3));
  f.placement = placement_of(row.getColumn(5).getText());
  f.stepped = size_of(row.getColumn(7));
  f.overwritten = size_of(row.getColumn(8));
  f.disputed = size_of(row.getColumn(9));
  f.contested = size_of(row.getColumn(10));
  f.rivalled = size_of(row.getColumn(11));
  f.missing = size_of(row.getColumn(12));
  f.sampled = row.getColumn(13).getUInt();
  f.blank = row.getColumn(14).getUInt();
  f.unreadable = size_of(row.getColumn(15));
  const std::string_view head = row.getColumn(16).getText();
  f.head = head == "fits"      ? HeadMatch::fits
           : head == "differs" ? HeadMatch::differs
                               : HeadMatch::unknown;
  f.in_use = size_of(row.getColumn(23));
  f.entangled = row.getColumn(24).getInt() != 0;
  const std::string_view encoding = row.getColumn(29).getText();
  f.encoding = encoding == "plain"        ? Encoding::plain
               : encoding == "compressed" ? Encoding::compressed
                                          : Encoding::encrypted;
  f.decodable = !row.getColumn(27).isNull();
  f.size_lost = f.size == 0 && row.getColumn(22).getInt() != 0;
  return f;
}

// A lost stream's hold on a range, for finding rivals.
struct LostClaim {
  ByteRange range;
  uint32_t stream;  // index; streams are numbered from the oldest to the youngest
};

struct LostStream {
  int64_t id;
  int64_t born;  // ticks; when its entry was created, or else last written
  uint64_t contested = 0;
  uint64_t rivalled = 0;
};

// For each lost stream, how many of its bytes a younger one claims too, and of how many it is
// itself the youngest among several. One sweep over the ends of all claims.
void find_rivals(std::vector<LostStream>& streams, const std::vector<LostClaim>& claims) {
  struct Edge {
    uint64_t at;
    uint32_t stream;
    bool begins;
  };
  std::vector<Edge> edges;
  edges.reserve(claims.size() * 2);
  for (const LostClaim& claim : claims) {
    edges.push_back({claim.range.offset, claim.stream, true});
    edges.push_back({claim.range.end(), claim.stream, false});
    streams[claim.stream].contested += claim.range.length;  // less what it turns out to hold
  }
  std::ranges::sort(edges, [](const Edge& a, const Edge& b) {
    return a.at != b.at ? a.at < b.at : a.begins < b.begins;
  });
  std::multiset<uint32_t> open;
  uint64_t last = 0;
  for (const Edge& edge : edges) {
    if (!open.empty() && edge.at > last) {
      LostStream& youngest = streams[*open.rbegin()];
      // Of two that are as old as each other, either may have come last.
      const bool alone = open.size() == 1;
      const bool tie = !alone && *std::next(open.rbegin()) != *open.rbegin() &&
                       streams[*std::next(open.rbegin())].born == youngest.born;
      if (!tie) youngest.contested -= edge.at - last;
      if (!tie && *open.begin() != *open.rbegin()) youngest.rivalled += edge.at - last;
    }
    last = edge.at;
    if (edge.begins) {
      open.insert(edge.stream);
    } else {
      open.erase(open.find(edge.stream));
    }
  }
}

// Whether no byte of a stream lies outside its own record.
bool is_inline(const Pieces& pieces) {
  return !pieces.empty() && std::ranges::all_of(pieces, [](const Piece& piece) {
    return piece.kind == Piece::Kind::inline_bytes || piece.kind == Piece::Kind::zeros;
  });
}

// Counts lost stored bytes as the logical bytes they cost. Ranges must come in order.
class LossCounter {
 public:
  LossCounter(const Storage& storage, uint64_t size, uint64_t stored)
      : storage_(storage), size_(size), stored_(stored) {}
  void add(uint64_t at, uint64_t length, uint64_t& lost) {
    if (length == 0) return;
    if (storage_.codec == Codec::none) {
      lost += length;
      return;
    }
    uint64_t end = at + length;
    if (storage_.codec != Codec::lznt1) {
      // Chunks lie packed behind each other; where each begins is taken to be in proportion.
      const auto share = [&](uint64_t byte) {
        return static_cast<uint64_t>(static_cast<double>(byte) / static_cast<double>(stored_) *
                                     static_cast<double>(size_));
      };
      at = share(at);
      end = share(end);
    }
    const uint64_t unit = storage_.unit;
    const uint64_t from = std::max(counted_, at / unit * unit);
    const uint64_t to = std::min(size_, (end + unit - 1) / unit * unit);
    if (to <= from) return;
    lost += to - from;
    counted_ = to;
  }

 private:
  Storage storage_;
  uint64_t size_;
  uint64_t stored_;
  uint64_t counted_ = 0;
};

class Rater {
 public:
  Rater(Shelf& shelf, const ClaimMap& claims, const NextUsed& next_used, uint64_t source_size)
      : db_(shelf.db()), claims_(claims), next_used_(next_used), source_size_(source_size) {}

  void run() {
    load_rivals();
    SQLite::Transaction transaction(db_);
    SQLite::Statement update(
        db_,
        "UPDATE streams SET overwritten=?, disputed=?, contested=?, rivalled=?, in_use=?, "
        "missing=?, rating=?, score=?, intact_bytes=? WHERE id=?");
    for (const Changed& c : weigh_all()) {
      const std::array<uint64_t, 6> amounts = {c.facts.overwritten, c.facts.disputed,
                                               c.facts.contested,   c.facts.rivalled,
                                               c.facts.in_use,      c.facts.missing};
      for (int i = 0; i < 6; ++i) update.bind(i + 1, static_cast<int64_t>(amounts[i]));
      update.bindNoCopy(7, to_text(c.verdict.rating).data());
      update.bind(8, c.verdict.score);
      update.bind(9, static_cast<int64_t>(c.verdict.intact_bytes));
      update.bind(10, c.id);
      update.exec();
      update.reset();
    }
    transaction.commit();
  }

 private:
  struct Changed {
    int64_t id;
    Facts facts;
    Verdict verdict;
  };

  struct Loaded {
    int64_t born;
    int64_t id;
    Pieces pieces;
  };

  // What lies inside a file is no rival of the file, nor of anything else outside.
  void load_rivals() {
    std::map<int64_t, std::vector<Loaded>> loaded;  // by the volume inside a file, 0 for all others
    SQLite::Statement row(db_, R"sql(
      SELECT s.id, coalesce(e.created, e.modified, 0), s.pieces, s.valid_size,
             CASE WHEN v.inside IS NULL THEN 0 ELSE v.id END
      FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
      WHERE e.state<>'live' AND (e.kind='file' OR s.name IS NOT NULL) AND e.merged_into IS NULL
        AND length(s.pieces)>0)sql");
    while (row.executeStep()) {
      loaded[row.getColumn(4).getInt64()].push_back(
          {row.getColumn(1).getInt64(), row.getColumn(0).getInt64(),
           truncated(pieces_of(row.getColumn(2)), size_of(row.getColumn(3)))});
    }
    for (auto& [volume, streams] : loaded) add_rivals(streams);
    std::ranges::sort(rivals_, {}, &LostStream::id);
  }

  void add_rivals(std::vector<Loaded>& loaded) {
    std::ranges::sort(loaded, [](const Loaded& a, const Loaded& b) {
      return a.born != b.born ? a.born < b.born : a.id < b.id;
    });
    std::vector<LostClaim> claims;
    std::vector<LostStream> streams;
    for (const Loaded& stream : loaded) {
      for (const Piece& piece : stream.pieces) {
        if (piece.kind == Piece::Kind::range) {
          claims.push_back({{piece.offset, piece.length}, static_cast<uint32_t>(streams.size())});
        }
      }
      streams.push_back({stream.id, stream.born});
    }
    find_rivals(streams, claims);
    rivals_.insert(rivals_.end(), streams.begin(), streams.end());
  }

  std::vector<Changed> weigh_all() {
    std::vector<Changed> changed;
    SQLite::Statement row(db_, kFacts);
    while (row.executeStep()) {
      const int64_t id = row.getColumn(0).getInt64();
      const Facts stored = facts_of(row);
      const Facts facts = weigh(stored, id, row.getColumn(1).getInt64(), row);
      const Verdict verdict = rate(facts, format_by_name(row.getColumn(17).getText()));
      const bool same = !row.getColumn(19).isNull() &&
                        to_text(verdict.rating) == row.getColumn(19).getText() &&
                        verdict.score == row.getColumn(20).getInt() &&
                        verdict.intact_bytes == size_of(row.getColumn(21)) &&
                        facts.overwritten == stored.overwritten && facts.in_use == stored.in_use &&
                        facts.disputed == stored.disputed && facts.missing == stored.missing &&
                        facts.contested == stored.contested && facts.rivalled == stored.rivalled;
      if (!same) changed.push_back({id, facts, verdict});
    }
    return changed;
  }

  Facts weigh(Facts facts, int64_t id, int64_t entry, SQLite::Statement& row) const {
    facts.overwritten = facts.disputed = facts.contested = facts.rivalled = facts.in_use =
        facts.missing = 0;
    if (facts.state == State::live) {
      const auto shared = claims_.disputed().find(entry);
      if (shared != claims_.disputed().end()) {
        facts.disputed = std::min(shared->second, facts.size);
      }
    }
    const Pieces stored = pieces_of(row.getColumn(6));
    const Storage storage = storage_of(row.getColumn(27), row.getColumn(28));
    const uint64_t valid = size_of(row.getColumn(4));
    const bool plain = storage.codec == Codec::none;
    LossCounter overwritten(storage, valid, total_length(stored));
    LossCounter in_use = overwritten;
    LossCounter missing = overwritten;
    uint64_t at = 0;
    facts.kept_inline = is_inline(stored);
    // A sound live stream needs no closer look than whether it ends within the source.
    for (const Piece& piece : plain ? truncated(stored, valid) : stored) {
      const uint64_t begin = at;
      at += piece.length;
      if (piece.kind == Piece::Kind::unknown) missing.add(begin, piece.length, facts.missing);
      if (piece.kind != Piece::Kind::range) continue;
      const ByteRange range{piece.offset, piece.length};
      const uint64_t there = overlap(range, {0, source_size_}).length;
      missing.add(begin + there, range.length - there, facts.missing);
      if (facts.state == State::live) continue;
      claims_.each_overlap({range.offset, there}, [&](const Claim&, const ByteRange& shared) {
        overwritten.add(begin + (shared.offset - range.offset), shared.length, facts.overwritten);
      });
      // A chain that was left in place keeps its own clusters in use.
      if (row.getColumn(26).getInt() != 0) continue;
      each_ownerless(claims_, next_used_, row.getColumn(25).getInt64(), {range.offset, there},
                     [&](const ByteRange& used) {
                       in_use.add(begin + (used.offset - range.offset), used.length, facts.in_use);
                     });
    }
    if (facts.state != State::live) {
      const auto rival = std::ranges::lower_bound(rivals_, id, {}, &LostStream::id);
      if (rival != rivals_.end() && rival->id == id) {
        facts.contested = rival->contested;
        facts.rivalled = rival->rivalled;
      }
    }
    return facts;
  }

  SQLite::Database& db_;
  const ClaimMap& claims_;
  const NextUsed& next_used_;
  uint64_t source_size_;
  std::vector<LostStream> rivals_;  // by id
};

}  // namespace

void rate_streams(Shelf& shelf, const ClaimMap& claims, const NextUsed& next_used,
                  uint64_t source_size) {
  Rater(shelf, claims, next_used, source_size).run();
}

RatedStream load_facts(const Shelf& shelf, int64_t id) {
  SQLite::Statement row(shelf.db(), std::string(kFacts) + " AND s.id=?");
  row.bind(1, id);
  if (!row.executeStep()) return {};
  RatedStream rated{facts_of(row), &format_by_name(row.getColumn(17).getText())};
  rated.facts.kept_inline = is_inline(pieces_of(row.getColumn(6)));
  return rated;
}

}  // namespace undershelf
