#include "report/source_map.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <array>
#include <optional>
#include <utility>

#include "model/loss.h"
#include "model/range.h"
#include "placing/claims.h"
#include "shelf/rows.h"
#include "shelf/traces.h"

namespace undershelf {
namespace {

// Where a range of a ground begins or ends.
struct Edge {
  uint64_t at = 0;  // byte of the source
  Ground ground{};
  int step = 0;  // 1 or -1
};

Ground ground_of(Loss::Cause cause) {
  switch (cause) {
    case Loss::Cause::unread:
      return Ground::unread;
    case Loss::Cause::unreadable:
    case Loss::Cause::behind_source:
      return Ground::unreadable;
    case Loss::Cause::overwritten:
    case Loss::Cause::in_use:
      return Ground::overwritten;
    case Loss::Cause::blank:
      return Ground::blank;
    default:
      return Ground::unsure;
  }
}

class Mapper {
 public:
  Mapper(const Shelf& shelf, size_t most) : shelf_(shelf), size_(shelf.source().size) {
    const uint64_t sector = std::max<uint64_t>(1, shelf.source().sector_size);
    const uint64_t cells = std::max<uint64_t>(1, most);
    const uint64_t sectors = (size_ + sector - 1) / sector;
    map_.cell_bytes = std::max<uint64_t>(1, (sectors + cells - 1) / cells) * sector;
    map_.cells.resize((size_ + map_.cell_bytes - 1) / map_.cell_bytes);
  }

  SourceMap run() {
    add_volumes();
    add_living();
    add_lost();
    add_unread();
    settle();
    return std::move(map_);
  }

 private:
  void add(const ByteRange& range, Ground ground) {
    const ByteRange there = overlap(range, {0, size_});
    if (there.length == 0) return;
    edges_.push_back({there.offset, ground, 1});
    edges_.push_back({there.end(), ground, -1});
  }

  void add_volumes() {
    for (const VolumeRecord& record : shelf_.volumes(false)) {
      if (record.space != SpaceId::source) continue;
      add({record.volume.offset, record.volume.length}, Ground::free);
    }
  }

  void add_living() {
    const Claims claims = load_claims(shelf_);
    const auto here = claims.find(SpaceId::source);
    if (here == claims.end()) return;
    here->second.each_overlap({0, size_}, [&](const Claim& claim, const ByteRange& range) {
      add(range, claim.entry == EntryId::none ? Ground::structures : Ground::living);
    });
  }

  // Streams and their losses, both by the stream's number.
  void add_lost() {
    SQLite::Statement loss(shelf_.db(),
                           "SELECT stream, offset, length, cause FROM losses ORDER BY stream, "
                           "offset");
    bool more = loss.executeStep();
    SQLite::Statement stream(shelf_.db(),
                             "SELECT s.id, s.pieces FROM streams s JOIN entries e ON e.id=s.entry "
                             "LEFT JOIN volumes v ON v.id=e.volume WHERE e.state<>'live' AND "
                             "e.merged_into IS NULL AND coalesce(v.space,0)=0 ORDER "
                             "BY s.id");
    Losses losses;
    while (stream.executeStep()) {
      const int64_t id = stream.getColumn(0).getInt64();
      losses.clear();
      while (more && loss.getColumn(0).getInt64() <= id) {
        const auto cause = cause_named(loss.getColumn(3).getString());
        if (loss.getColumn(0).getInt64() == id && cause) {
          losses.push_back({size_of(loss.getColumn(1)), size_of(loss.getColumn(2)), *cause});
        }
        more = loss.executeStep();
      }
      add_stream(pieces_of(stream.getColumn(1)), losses);
    }
  }

  void add_stream(const Pieces& pieces, const Losses& losses) {
    uint64_t at = 0;  // in the stream
    for (const Piece& piece : pieces) {
      if (piece.kind == Piece::Kind::range) add_piece(piece, at, losses);
      at += piece.length;
    }
  }

  void add_piece(const Piece& piece, uint64_t at, const Losses& losses) {
    const ByteRange whole{at, piece.length};
    uint64_t sound = at;  // from here on nothing was lost yet
    const auto place = [&](const ByteRange& part) {
      return ByteRange{piece.offset + (part.offset - at), part.length};
    };
    const auto first =
        std::ranges::partition_point(losses, [&](const Loss& l) { return l.end() <= at; });
    for (auto loss = first; loss != losses.end() && loss->offset < whole.end(); ++loss) {
      const ByteRange part = overlap({loss->offset, loss->length}, whole);
      if (part.length == 0) continue;
      if (part.offset > sound) add(place({sound, part.offset - sound}), Ground::intact);
      add(place(part), ground_of(loss->cause));
      sound = std::max(sound, part.end());
    }
    if (sound < whole.end()) add(place({sound, whole.end() - sound}), Ground::intact);
  }

  void add_unread() {
    const std::vector<ByteRange> left = not_swept(shelf_, {0, size_});
    if (left == std::vector<ByteRange>{{0, size_}}) return;  // by a quick scan only
    for (const ByteRange& range : left) add(range, Ground::unread);
  }

  void settle() {
    std::ranges::sort(edges_, {}, &Edge::at);
    std::array<uint64_t, kGrounds> open{};
    uint64_t at = 0;
    for (const Edge& edge : edges_) {
      if (edge.at > at) count({at, edge.at - at}, first_of(open));
      at = edge.at;
      open[static_cast<size_t>(edge.ground)] += static_cast<uint64_t>(edge.step);
    }
    if (at < size_) count({at, size_ - at}, Ground::outside);
  }

  static Ground first_of(const std::array<uint64_t, kGrounds>& open) {
    for (size_t i = 0; i < kGrounds; ++i) {
      if (open[i] > 0) return static_cast<Ground>(i);
    }
    return Ground::outside;
  }

  void count(const ByteRange& range, Ground ground) {
    map_.sums[static_cast<size_t>(ground)] += range.length;
    for (uint64_t cell = range.offset / map_.cell_bytes; cell * map_.cell_bytes < range.end();
         ++cell) {
      const ByteRange part = overlap(range, {cell * map_.cell_bytes, map_.cell_bytes});
      map_.cells[cell][static_cast<size_t>(ground)] += part.length;
    }
  }

  const Shelf& shelf_;
  const uint64_t size_;  // of the source
  std::vector<Edge> edges_;
  SourceMap map_;
};

}  // namespace

std::string_view word_of(Ground ground) {
  constexpr std::array<std::string_view, kGrounds> kWords = {
      "unreadable",  "overwritten", "living", "structures", "lost-intact",
      "lost-unsure", "lost-blank",  "unread", "free",       "outside"};
  return kWords[static_cast<size_t>(ground)];
}

std::string_view told_as(Ground ground) {
  constexpr std::array<std::string_view, kGrounds> kTold = {
      "cannot be read",        "lost, overwritten", "in use",
      "the file system's own", "lost, intact",      "lost, not proven",
      "lost, reads blank",     "not looked at yet", "free",
      "in no volume"};
  return kTold[static_cast<size_t>(ground)];
}

Ground SourceMap::most_of(size_t cell) const {
  return static_cast<Ground>(std::ranges::max_element(cells[cell]) - cells[cell].begin());
}

SourceMap map_source(const Shelf& shelf, size_t most) { return Mapper(shelf, most).run(); }

}  // namespace undershelf
