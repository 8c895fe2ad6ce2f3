#include "rating/sampling.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <array>
#include <optional>
#include <vector>

#include "access/spaces.h"
#include "content/types.h"
#include "model/blank.h"
#include "shelf/losses.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "shelf/storage_row.h"
#include "stream/stream.h"

namespace undershelf {
namespace {

constexpr uint64_t kSampleSize = 4096;  // bytes of a cluster that are looked at
constexpr uint64_t kLeastSample = 16;   // fewer equal bytes say nothing

struct Sample {
  uint64_t offset;  // byte of the space
  uint64_t at;      // byte of the stream
  uint32_t stream;  // index into the streams
  uint16_t length;  // bytes
  uint16_t which;   // bit of Facts::sampled
};

struct SampledStream {
  StreamId id{};
  SpaceId space = SpaceId::source;  // VolumeRecord::space
  const Source* source = nullptr;   // its bytes
  const Format* format = nullptr;
  std::optional<StreamReader> decoded;  // of compressed streams
  bool encrypted = false;
  unsigned sampled = 0, blank = 0;
  bool plain = true;
  Losses unreadable;
  HeadMatch head = HeadMatch::unknown;
};

// The place of logical byte `at`, and how many bytes follow it there; length 0 if it has none.
ByteRange locate(const Pieces& pieces, uint64_t at) {
  for (const Piece& piece : pieces) {
    if (at < piece.length) {
      if (piece.kind != Piece::Kind::range) break;
      return {piece.offset + at, piece.length - at};
    }
    at -= piece.length;
  }
  return {};
}

void plan(const Pieces& pieces, uint64_t size, uint64_t cluster, uint32_t stream,
          std::vector<Sample>& samples) {
  if (size == 0 || cluster == 0) return;
  const uint64_t last = (size - 1) / cluster;
  const std::array<uint64_t, 3> wanted = {0, last / 2, last};
  for (unsigned i = 0; i < wanted.size(); ++i) {
    if (i > 0 && wanted[i] == wanted[i - 1]) continue;
    const uint64_t at = wanted[i] * cluster;
    const ByteRange found = locate(pieces, at);
    const uint64_t length = std::min({found.length, size - at, kSampleSize, cluster});
    if (length > 0) {
      samples.push_back({found.offset, at, stream, static_cast<uint16_t>(length),
                         static_cast<uint16_t>(1U << i)});
    }
  }
}

// `stored` is what the stream begins with on the medium.
HeadMatch head_of(const SampledStream& stream, std::span<const std::byte> stored) {
  if (stream.encrypted) return HeadMatch::unknown;
  if (!stream.decoded) return match_head(*stream.format, stored);
  std::vector<std::byte> bytes(std::min(stream.decoded->size(), kSampleSize));
  if (!stream.decoded->read(0, bytes).empty()) return HeadMatch::differs;
  return match_head(*stream.format, bytes);
}

class Sampler {
 public:
  Sampler(SQLite::Database& db, Spaces& spaces) : db_(db) { load(spaces); }

  // In the order of their places.
  void look() {
    std::ranges::sort(samples_, {}, [&](const Sample& sample) {
      return std::pair(streams_[sample.stream].space, sample.offset);
    });
    std::array<std::byte, kSampleSize> buffer{};
    for (const Sample& sample : samples_) {
      look_at(sample, std::span(buffer).first(sample.length));
    }
  }

  void store(LossWriter& losses) const {
    SQLite::Statement update(db_, "UPDATE streams SET sampled=?, blank=?, head=? WHERE id=?");
    for (const SampledStream& stream : streams_) {
      update.bind(1, static_cast<int64_t>(stream.sampled));
      update.bind(2, static_cast<int64_t>(stream.blank));
      if (stream.head == HeadMatch::unknown) {
        update.bind(3);
      } else {
        update.bindNoCopy(3, stream.head == HeadMatch::fits ? "fits" : "differs");
      }
      update.bind(4, number_of(stream.id));
      update.exec();
      update.reset();
      losses.add(stream.id, stream.unreadable);
    }
  }

 private:
  void load(Spaces& spaces) {
    SQLite::Statement row(db_, R"sql(
      SELECT s.id, s.valid_size, s.pieces, v.cluster_size, coalesce(s.name, e.name), s.codec,
             coalesce(s.unit,0), s.size, s.encoding='encrypted', v.space
      FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
      WHERE e.state<>'live' AND s.size IS NOT NULL AND (e.kind='file' OR s.name IS NOT NULL) AND
        e.merged_into IS NULL)sql");
    while (row.executeStep()) {
      const auto index = static_cast<uint32_t>(streams_.size());
      Pieces pieces = pieces_of(row.getColumn(2));
      plan(pieces, size_of(row.getColumn(1)), size_of(row.getColumn(3)), index, samples_);
      SampledStream& stream = streams_.emplace_back();
      stream.id = id_of<StreamId>(row.getColumn(0));
      stream.space = id_of<SpaceId>(row.getColumn(9));
      const SourcePtr& source = spaces.at(stream.space);
      stream.source = source.get();
      stream.format = &format_by_name(row.getColumn(4).getString());
      stream.encrypted = row.getColumn(8).getInt() != 0;
      const Storage storage = storage_of(row.getColumn(5), row.getColumn(6));
      stream.plain = storage.codec == Codec::none;
      if (stream.plain) continue;
      stream.decoded.emplace(source, pieces, std::string(), size_of(row.getColumn(7)),
                             size_of(row.getColumn(1)), Losses(), storage);
    }
  }

  void look_at(const Sample& sample, std::span<std::byte> bytes) {
    SampledStream& stream = streams_[sample.stream];
    if (const ReadResult result = stream.source->read(sample.offset, bytes); !result.ok()) {
      for (const BadRange& bad : result.bad) {
        // Behind the end of the source is counted as missing, not as unreadable.
        // What the source knows not to have is told of by rating.
        if (bad.offset >= stream.source->size() || !stream.plain || bad.unread) continue;
        append_loss(stream.unreadable, {sample.at + (bad.offset - sample.offset), bad.length,
                                        Loss::Cause::unreadable});
      }
      return;
    }
    if (sample.which == 1) stream.head = head_of(stream, bytes);
    if (sample.length < kLeastSample) return;
    stream.sampled |= sample.which;
    if (is_one_value(bytes)) stream.blank |= sample.which;
  }

  SQLite::Database& db_;
  std::vector<SampledStream> streams_;
  std::vector<Sample> samples_;
};

}  // namespace

void sample_lost_files(Shelf& shelf, Spaces& spaces) {
  Sampler sampler(shelf.db(), spaces);
  sampler.look();
  SQLite::Transaction transaction(shelf.db());
  forget_unreadable(shelf.db());
  LossWriter losses(shelf.db());
  sampler.store(losses);
  transaction.commit();
}

SampledFiles count_sampled(const Shelf& shelf) {
  SQLite::Statement row(shelf.db(), R"sql(
    SELECT count(*), coalesce(sum(s.blank=s.sampled),0)
    FROM streams s CROSS JOIN entries e ON e.id=s.entry  -- in this order: few are sampled
    WHERE s.sampled>0 AND s.name IS NULL AND e.state<>'live' AND e.kind='file'
      AND e.merged_into IS NULL)sql");
  row.executeStep();
  return {size_of(row.getColumn(0)), size_of(row.getColumn(1))};
}

}  // namespace undershelf
