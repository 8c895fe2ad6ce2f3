#include "rating/rate_pass.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <map>
#include <set>
#include <tuple>
#include <vector>

#include "access/spaces.h"
#include "rating/stream_row.h"
#include "shelf/losses.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "shelf/volume_table.h"
#include "source/gaps.h"

namespace undershelf {
namespace {

// A lost stream's hold on a range, for finding rivals.
struct LostClaim {
  ByteRange range;
  uint32_t stream;  // index; streams are numbered from the oldest to the youngest
};

struct LostStream {
  StreamId id;
  int64_t born;  // ticks; when its entry was created, or else last written
  uint64_t rivalled = 0;
  // Ranges of the source that it claims alone, or as the youngest of those that do; in order.
  std::vector<ByteRange> held;
};

// Who of all lost streams holds each range, if that can be told. One sweep over the ends of all
// claims.
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
      if (!tie && !youngest.held.empty() && youngest.held.back().end() == last) {
        youngest.held.back().length += edge.at - last;
      } else if (!tie) {
        youngest.held.push_back({last, edge.at - last});
      }
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

// Calls `visit` with each part of `range` that `held` (in order) leaves.
void each_not_held(const std::vector<ByteRange>& held, const ByteRange& range,
                   const std::function<void(const ByteRange&)>& visit) {
  uint64_t at = range.offset;
  auto next = std::ranges::partition_point(held, [&](const ByteRange& h) { return h.end() <= at; });
  for (; next != held.end() && next->offset < range.end(); ++next) {
    if (next->offset > at) visit({at, next->offset - at});
    at = next->end();
  }
  if (at < range.end()) visit({at, range.end() - at});
}

// Collects lost stored bytes as the logical bytes they cost.
class LossCollector {
 public:
  LossCollector(const Storage& storage, uint64_t size, uint64_t stored)
      : storage_(storage), size_(size), stored_(stored) {}

  void add(uint64_t at, uint64_t length, Loss::Cause cause) {
    if (length == 0) return;
    if (storage_.codec == Codec::none) {
      losses_.push_back({at, length, cause});
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
    const uint64_t from = at / unit * unit;
    const uint64_t to = std::min(size_, (end + unit - 1) / unit * unit);
    if (to > from) losses_.push_back({from, to - from, cause});
  }
  void add(const Losses& losses) { losses_.insert(losses_.end(), losses.begin(), losses.end()); }
  Losses take() { return settled(losses_, size_); }

 private:
  Storage storage_;
  uint64_t size_;
  uint64_t stored_;
  Losses losses_;
};

class Rater {
 public:
  Rater(Shelf& shelf, const Claims& claims, const NextUsed& next_used, Spaces& spaces)
      : db_(shelf.db()), volumes_(shelf), next_used_(next_used) {
    for (const auto& [space, held] : claims) {
      const SourcePtr& source = spaces.at(space);
      spaces_.try_emplace(space, SpaceHeld{held, source->size(), source->gaps()});
    }
  }

  void run() {
    load_rivals();
    unreadable_ = load_unreadable(db_);
    const std::vector<Changed> changed = weigh_all();
    SQLite::Transaction transaction(db_);
    forget_losses(db_);
    LossWriter losses(db_);
    SQLite::Statement update(
        db_, "UPDATE streams SET rivalled=?, rating=?, score=?, intact_bytes=? WHERE id=?");
    for (const Changed& c : changed) {
      update.bind(1, static_cast<int64_t>(c.rivalled));
      update.bindNoCopy(2, to_text(c.verdict.rating).data());
      update.bind(3, c.verdict.score);
      update.bind(4, static_cast<int64_t>(c.verdict.intact_bytes));
      update.bind(5, number_of(c.id));
      update.exec();
      update.reset();
      losses.add(c.id, c.losses);
    }
    transaction.commit();
  }

 private:
  struct SpaceHeld {
    const ClaimMap& claims;
    uint64_t size;  // bytes
    std::span<const BadRange> gaps;
  };

  // What is to be written of a stream: it has losses, or another verdict than is stored.
  struct Changed {
    StreamId id;
    uint64_t rivalled;
    Verdict verdict;
    Losses losses;
  };

  struct Loaded {
    int64_t born;
    StreamId id;
    Pieces pieces;
  };

  // What lies inside a file is no rival of the file, nor of anything else outside.
  void load_rivals() {
    // By the volume that seems to lie in a lost file; for all others by minus their space.
    std::map<int64_t, std::vector<Loaded>> loaded;
    SQLite::Statement row(db_, R"sql(
      SELECT s.id, coalesce(e.created, e.modified), s.pieces, s.valid_size, e.volume
      FROM streams s JOIN entries e ON e.id=s.entry
      WHERE e.state NOT IN ('live','carved') AND (e.kind='file' OR s.name IS NOT NULL)
        AND e.merged_into IS NULL AND length(s.pieces)>0)sql");
    Columns columns(row);
    while (row.executeStep()) {
      loaded[group_of(id_of<VolumeId>(columns[4]))].push_back(
          {columns[1].getInt64(), id_of<StreamId>(columns[0]),
           truncated(pieces_of(columns[2]), size_of(columns[3]))});
    }
    for (auto& [volume, streams] : loaded) add_rivals(streams);
    std::ranges::sort(rivals_, {}, &LostStream::id);
  }

  int64_t group_of(VolumeId id) const {
    const VolumeRecord* volume = volumes_.find(id);
    if (volume == nullptr) return -number_of(SpaceId::source);
    return volume->inside ? number_of(id) : -number_of(volume->space);
  }

  void add_rivals(std::vector<Loaded>& loaded) {
    std::erase_if(loaded, [](const Loaded& stream) { return stream.pieces.empty(); });
    const auto order = [](const Loaded& stream) {
      return std::tuple(stream.born, stream.pieces.front().offset, stream.id);
    };
    std::ranges::sort(loaded, {}, order);
    std::vector<LostClaim> claims;
    std::vector<LostStream> streams;
    std::vector<std::pair<StreamId, uint32_t>> twins;
    const Loaded* last = nullptr;
    for (const Loaded& stream : loaded) {
      // Told of twice, as by a volume and by what was formatted over it: no rivals of each other.
      if (last != nullptr && last->born == stream.born && last->pieces == stream.pieces) {
        twins.emplace_back(stream.id, static_cast<uint32_t>(streams.size() - 1));
        continue;
      }
      last = &stream;
      for (const Piece& piece : stream.pieces) {
        if (piece.kind == Piece::Kind::range) {
          claims.push_back({{piece.offset, piece.length}, static_cast<uint32_t>(streams.size())});
        }
      }
      streams.push_back({stream.id, stream.born, 0, {}});
    }
    find_rivals(streams, claims);
    for (const auto& [id, twin] : twins) {
      rivals_.push_back(streams[twin]);
      rivals_.back().id = id;
    }
    std::ranges::move(streams, std::back_inserter(rivals_));
  }

  std::vector<Changed> weigh_all() {
    std::vector<Changed> changed;
    SQLite::Statement row(db_, StreamRow::kSelect);
    Columns columns(row);
    while (row.executeStep()) {
      StreamRow stream(columns, volumes_);
      const uint64_t rivalled_before = stream.facts.rivalled;
      const Format& format = format_by_name(stream.name);
      Losses losses = weigh(stream, format);
      const Verdict verdict = rate(stream.facts, format);
      const bool same = losses.empty() && to_text(verdict.rating) == stream.rating &&
                        verdict.score == stream.score &&
                        verdict.intact_bytes == stream.intact_bytes &&
                        stream.facts.rivalled == rivalled_before;
      if (same) continue;
      changed.push_back({stream.id, stream.facts.rivalled, verdict, std::move(losses)});
    }
    return changed;
  }

  // All that is lost of a stream. What that comes to goes to its facts.
  Losses weigh(StreamRow& stream, const Format& format) const {
    Facts& facts = stream.facts;
    facts.rivalled = 0;
    if (!facts.size) return {};
    const bool lost = facts.state != State::live;
    const uint64_t size = *facts.size;
    LossCollector found(stream.storage, size, total_length(stream.pieces));
    const LostStream* rival = nullptr;
    if (lost) {
      const auto at = std::ranges::lower_bound(rivals_, stream.id, {}, &LostStream::id);
      if (at != rivals_.end() && at->id == stream.id) rival = &*at;
      if (rival != nullptr) facts.rivalled = rival->rivalled;
    }
    uint64_t at = 0;
    const bool plain = stream.storage.codec == Codec::none;
    for (const Piece& piece : plain ? truncated(stream.pieces, stream.valid_size) : stream.pieces) {
      const uint64_t begin = at;
      at += piece.length;
      if (piece.kind == Piece::Kind::unknown) {
        found.add(begin, piece.length, Loss::Cause::not_known);
      }
      if (piece.kind == Piece::Kind::range) weigh_range(stream, piece, begin, rival, found);
    }
    if (plain && at < stream.valid_size && facts.placement != Placement::none) {
      found.add(at, stream.valid_size - at, Loss::Cause::not_known);
    }
    if (plain && facts.encoding == Encoding::compressed) {
      found.add(0, size, Loss::Cause::as_stored);
    }
    if (lost && !facts.kept_inline && facts.placement != Placement::none) {
      add_doubts(stream, format, found);
    }
    const auto unreadable = unreadable_.find(stream.id);
    if (unreadable != unreadable_.end()) found.add(unreadable->second);
    Losses losses = found.take();
    const auto count = [&] {
      for (const Loss& loss : losses) facts.lost[static_cast<size_t>(loss.cause)] += loss.length;
    };
    count();
    if (losses.empty()) {
      losses = doubted_by_odds(facts, format);
      count();
    }
    return losses;
  }

  void weigh_range(const StreamRow& stream, const Piece& piece, uint64_t begin,
                   const LostStream* rival, LossCollector& found) const {
    const auto space = spaces_.find(stream.space);
    if (space == spaces_.end()) return;
    const ClaimMap& claims = space->second.claims;
    const ByteRange range{piece.offset, piece.length};
    const uint64_t there = overlap(range, {0, space->second.size}).length;
    found.add(begin + there, range.length - there, Loss::Cause::behind_source);
    const ByteRange readable{range.offset, there};
    const auto add = [&](const ByteRange& shared, Loss::Cause cause) {
      found.add(begin + (shared.offset - range.offset), shared.length, cause);
    };
    each_gap(space->second.gaps, readable, [&](const ByteRange& shared, bool unread) {
      add(shared, unread ? Loss::Cause::unread : Loss::Cause::unreadable);
    });
    if (stream.facts.state == State::live) {
      claims.each_dispute(readable, stream.entry,
                          [&](const ByteRange& shared) { add(shared, Loss::Cause::disputed); });
      return;
    }
    claims.each_overlap(readable, [&](const Claim&, const ByteRange& shared) {
      add(shared, Loss::Cause::overwritten);
    });
    // What is sound by its own checksums is no other's.
    if (stream.facts.is_verified()) return;
    if (rival != nullptr) {
      each_not_held(rival->held, readable,
                    [&](const ByteRange& shared) { add(shared, Loss::Cause::younger); });
    }
    if (stream.keeps_chain) return;
    each_ownerless(claims, next_used_, stream.volume, readable,
                   [&](const ByteRange& used) { add(used, Loss::Cause::in_use); });
  }

  // What samples and the manner of placing speak against.
  static void add_doubts(const StreamRow& stream, const Format& format, LossCollector& found) {
    const Facts& facts = stream.facts;
    const uint64_t size = *facts.size;
    if (facts.is_verified()) return;
    // Much begins with a page of text; what is text to its end says so by its name.
    const bool told = facts.format != "text" || is_text(format);
    const bool breaks = facts.check == content::Level::broken && told && facts.sound_to < size;
    // Where it was only taken to lie there, what ends early is a shorter file.
    if (breaks || (facts.ends_early() && facts.placement != Placement::exact)) {
      found.add(Losses{{facts.sound_to, size - facts.sound_to, Loss::Cause::unsound}});
    }
    const bool plain = stream.storage.codec == Codec::none;
    // Pictures, clips and sounds are known by their content, whatever their name is.
    const bool media = format.type == "picture" || format.type == "video" || format.type == "audio";
    const bool looked_at = facts.check == content::Level::unknown && facts.check_why.empty();
    if (media && looked_at && facts.format.empty()) {
      found.add(Losses{{0, facts.cluster, Loss::Cause::other_content}});
    }
    const Losses doubted = doubted_by_samples(facts, format, size, facts.cluster);
    // Samples of compressed streams are of what is stored: only all of them together say something.
    for (const Loss& loss : doubted) {
      // A file that is sound under another name is no other content.
      const bool misnamed = facts.check == content::Level::consistent && !facts.ends_early() &&
                            loss.cause == Loss::Cause::other_content;
      if ((plain || loss.length == size) && !misnamed) found.add({loss});
    }
    const bool scattered =
        facts.entangled ||
        // Taken for one piece, it is not where it was.
        (stream.scattered && facts.placement != Placement::exact && facts.stepped == 0);
    if (scattered && size > facts.cluster) {
      found.add(Losses{{facts.cluster, size - facts.cluster, Loss::Cause::scattered}});
    }
  }

  SQLite::Database& db_;
  std::map<SpaceId, SpaceHeld> spaces_;  // by number
  const VolumeTable volumes_;
  const NextUsed& next_used_;
  std::vector<LostStream> rivals_;                   // by id
  std::unordered_map<StreamId, Losses> unreadable_;  // by stream: what sampling met
};

}  // namespace

void rate_streams(Shelf& shelf, const Claims& claims, const NextUsed& next_used, Spaces& spaces) {
  Rater(shelf, claims, next_used, spaces).run();
}

}  // namespace undershelf
