// What the passes over a shelf may cost: instructions of SQLite, steps and bytes read, never time.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include <boost/endian/conversion.hpp>
#include <functional>

#include "access/spaces.h"
#include "checking/check_pass.h"
#include "fs/fs.h"
#include "model/budget.h"
#include "placing/placing.h"
#include "rating/sampling.h"
#include "shelf/schema.h"
#include "shelf/writer.h"
#include "stream/stream.h"
#include "support.h"
#include "tree/merge.h"
#include "tree/trash.h"
#include "tree/tree.h"

namespace undershelf::test {
namespace {

constexpr uint64_t kCluster = 32768;  // bytes

// Zeros, of any size; counts how often it is read.
class ZeroSource : public Source {
 public:
  explicit ZeroSource(uint64_t size) : size_(size) {}
  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return 512; }
  ReadResult read(uint64_t, std::span<std::byte> out) const override {
    ++reads_;
    std::ranges::fill(out, std::byte{0});
    return {};
  }
  uint64_t reads() const { return reads_; }

 private:
  uint64_t size_;
  mutable uint64_t reads_ = 0;
};

class PassCosts : public testing::Test {
 protected:
  PassCosts() : shelf_(Shelf::create(folder_.path("shelf"), {}, {})) {}

  // Fills the shelf with one volume.
  void fill(const std::function<void(VolumeWriter&)>& add, uint64_t clusters = 1 << 20) {
    Volume volume;
    volume.file_system = "fat32";
    volume.cluster_size = kCluster;
    volume.cluster_count = clusters;
    volume.length = clusters * kCluster;
    VolumeWriter writer(shelf_, volume);
    add(writer);
    writer.finish();
    shelf_.db().exec(kIndexes);
  }

  static Entry file(uint64_t key, State state, uint64_t first, uint64_t size) {
    Entry entry;
    entry.key = key;
    entry.state = state;
    entry.name.text = "F" + std::to_string(key);
    entry.created = entry.modified = Time{static_cast<int64_t>(key) * 10 * kTicksPerSecond};
    Stream& stream = entry.streams.emplace_back();
    stream.size = stream.valid_size = size;
    stream.first = first * kCluster;
    if (state == State::live) {
      stream.placement = Placement::exact;
      stream.pieces = {
          {Piece::Kind::range, first * kCluster, (size + kCluster - 1) / kCluster * kCluster}};
    } else {
      stream.open = true;
    }
    return entry;
  }

  // Instructions of SQLite that something takes, in thousands.
  uint64_t instructions(const std::function<void()>& work) {
    uint64_t count = 0;
    sqlite3_progress_handler(
        shelf_.db().getHandle(), 1000, [](void* c) { return ++*static_cast<uint64_t*>(c), 0; },
        &count);
    work();
    sqlite3_progress_handler(shelf_.db().getHandle(), 0, nullptr, nullptr);
    return count;
  }

  TempFolder folder_;
  Shelf shelf_;
  Budget budget_;
};

// Files that all start at one cluster, and are no twins: each was held against all others.
TEST_F(PassCosts, TwinsAreComparedWithThoseOfTheirMoment) {
  constexpr uint64_t kFiles = 20'000;
  fill([](VolumeWriter& writer) {
    for (uint64_t i = 1; i <= kFiles; ++i) writer.add(file(i, State::deleted, 3, i));
  });
  merge_twins(shelf_, {}, budget_);
  EXPECT_LE(budget_.steps(), 2 * kFiles);
}

// Each folder's path was held in memory and stored, however long all of them are together.
TEST_F(PassCosts, PathsOfDeepFoldersStayBounded) {
  constexpr uint64_t kChains = 320, kDeep = 120;
  fill([](VolumeWriter& writer) {
    for (uint64_t key = 1; key <= kChains * kDeep; ++key) {
      Entry folder;
      folder.key = key;
      folder.kind = Kind::folder;
      folder.name.text = std::string(255, static_cast<char>('a' + key % 26));
      if (key % kDeep != 1) folder.parent = key - 1;
      folder.streams.emplace_back();
      writer.add(folder);
    }
  });
  build_tree(shelf_);
  const auto stored = [&](const char* what) {
    return shelf_.db().execAndGet(std::string("SELECT ") + what + " FROM folder_paths").getInt64();
  };
  EXPECT_EQ(stored("count(*)"), static_cast<int64_t>(kChains * kDeep)) << "no folder is lost";
  EXPECT_LE(stored("sum(length(path))"), 300 << 20);
}

// The folder of a bin was loaded for each record in it.
TEST_F(PassCosts, ABinIsLoadedOnce) {
  constexpr uint64_t kTrashed = 2000;
  fill([](VolumeWriter& writer) {
    Entry bin;
    bin.key = 1;
    bin.kind = Kind::folder;
    bin.name.text = "$Recycle.Bin";
    bin.streams.emplace_back();
    writer.add(bin);
    std::string record(28, '\0');
    record[0] = 2;
    put32(record, 24, 3);
    record += std::string("a\0b\0\0\0", 6);
    for (uint64_t i = 2; i <= kTrashed; ++i) {
      for (const char* kind : {"$I", "$R"}) {
        Entry entry = file(2 * i + (kind[1] == 'R'), State::live, 10 * i, 100);
        entry.name.text = kind + std::to_string(100'000 + i) + ".txt";
        entry.parent = 1;
        entry.streams[0].pieces = {{Piece::Kind::inline_bytes, 0, record.size()}};
        entry.streams[0].size = entry.streams[0].valid_size = record.size();
        entry.streams[0].inline_data = record;
        writer.add(entry);
      }
    }
  });
  build_tree(shelf_);
  Spaces spaces(shelf_, std::make_shared<ZeroSource>(1 << 30));
  const Zone zone;
  EXPECT_LE(instructions([&] { read_trash(shelf_, spaces, zone); }), kTrashed);
  EXPECT_EQ(shelf_.db()
                .execAndGet("SELECT count(*) FROM entries WHERE original_path IS NOT NULL")
                .getUInt(),
            kTrashed - 1);
}

// The times of each living file in the way were asked of the shelf, for each lost file again.
TEST_F(PassCosts, LivingFilesInTheWayAreAskedForOnce) {
  constexpr uint64_t kLiving = 3000, kLost = 100;
  fill([](VolumeWriter& writer) {
    for (uint64_t i = 1; i <= kLiving; ++i) writer.add(file(i, State::live, 100 + 2 * i, kCluster));
    for (uint64_t i = 1; i <= kLost; ++i) {
      writer.add(file(kLiving + i, State::deleted, 101, 2 * kLiving * kCluster));
    }
  });
  const Claims claims = load_claims(shelf_);
  const NextUsed none = [](VolumeId, const ByteRange&) { return ByteRange{}; };
  EXPECT_LE(instructions([&] { place_open_streams(shelf_, claims, none, nullptr, budget_); }),
            kLiving);
  EXPECT_LE(budget_.steps(), kLost * 2 * (kLiving + kLost));
}

// Each of the up to 4,096 places at which a file may begin was read.
TEST_F(PassCosts, CandidatesForFirstClustersAreReadOnABudget) {
  if (UNDERSHELF_SANITIZED) GTEST_SKIP() << "it counts a million reads, which takes long";
  constexpr uint64_t kClusters = 1 << 26, kLost = 3000;
  fill(
      [](VolumeWriter& writer) {
        for (uint64_t i = 1; i <= kLost; ++i) {
          Entry entry = file(i, State::deleted, 2 + i, kCluster);
          entry.marked_deleted = true;
          entry.streams[0].first_step = 65536 * kCluster;
          writer.add(entry);
        }
      },
      kClusters);
  const auto source = std::make_shared<ZeroSource>(kClusters * kCluster);
  Spaces spaces(shelf_, source);
  const NextUsed none = [](VolumeId, const ByteRange&) { return ByteRange{}; };
  place_open_streams(shelf_, load_claims(shelf_), none, &spaces, budget_);
  EXPECT_GT(source->reads(), 1'000'000U);
  EXPECT_LE(source->reads(), 2'000'000 + 20 * kLost);
}

// With many disk images, all rows were gone through for each of them.
TEST_F(PassCosts, RowsAreReadOnceForAllSpaces) {
  constexpr uint64_t kFiles = 20'000, kImages = 200;
  fill([](VolumeWriter& writer) {
    for (uint64_t i = 1; i <= kFiles; ++i) writer.add(file(i, State::live, 3 * i, kCluster));
  });
  for (uint64_t image = 1; image <= kImages; ++image) {
    Volume volume;
    volume.file_system = "fat16";
    volume.cluster_size = kCluster;
    volume.cluster_count = 1000;
    VolumeWriter writer(shelf_, volume, {}, {static_cast<SpaceId>(image), ToldBy::volume});
    writer.add(file(1, State::deleted, 2, 2 * kCluster));
    writer.finish();
  }
  const Claims claims = load_claims(shelf_);
  Spaces spaces(shelf_, std::make_shared<ZeroSource>(1 << 30));
  const NextUsed none = [](VolumeId, const ByteRange&) { return ByteRange{}; };
  EXPECT_LE(instructions([&] {
              place_open_streams(shelf_, claims, none, nullptr, budget_);
              sample_lost_files(shelf_, spaces);
            }),
            5 * (kFiles + kImages) / 50);
  EXPECT_EQ(
      shelf_.db().execAndGet("SELECT count(*) FROM streams WHERE placement='inferred'").getUInt(),
      kImages);
}

// Lost files may claim the same bytes over and over, and zeros that are nowhere.
TEST_F(PassCosts, ACheckReadsTheSourceSoManyTimes) {
  constexpr uint64_t kSource = 4 << 20, kFiles = 64, kSize = 1 << 20;
  fill([](VolumeWriter& writer) {
    for (uint64_t i = 1; i <= kFiles; ++i) {
      Entry entry = file(i, State::deleted, 0, kSize);
      entry.streams[0].open = false;
      entry.streams[0].placement = Placement::exact;
      entry.streams[0].pieces = {{Piece::Kind::range, 0, kSize}};
      writer.add(entry);
    }
    Entry sparse = file(kFiles + 1, State::deleted, 0, uint64_t{1} << 60);
    sparse.streams[0].open = false;
    sparse.streams[0].placement = Placement::exact;
    sparse.streams[0].pieces = {{Piece::Kind::zeros, 0, uint64_t{1} << 60}};
    writer.add(sparse);
  });
  shelf_.db().exec("UPDATE streams SET rating='likely', intact_bytes=size");
  const auto source = std::make_shared<ZeroSource>(kSource);
  Spaces spaces(shelf_, source);
  checking::CheckOptions options;
  checking::CheckProgress last;
  options.progress = [&](const checking::CheckProgress& progress) { last = progress; };
  EXPECT_EQ(checking::check_files(shelf_, spaces, options, budget_), kFiles - 16);
  EXPECT_EQ(last.files, 16U);
  EXPECT_EQ(last.bytes, 4 * kSource);
  EXPECT_LE(source->reads(), 16U * 20);
}

// Each piece was held against each loss.
TEST(StreamCosts, PiecesAndLossesAreFoundByTheirPlace) {
  constexpr uint64_t kPieces = 200'000, kPiece = 512;
  const auto source = std::make_shared<ZeroSource>(2 * kPieces * kPiece);
  Pieces pieces;
  Losses losses;
  for (uint64_t i = 0; i < kPieces; ++i) {
    pieces.push_back({Piece::Kind::range, 2 * i * kPiece, kPiece});
    losses.push_back({i * kPiece + 7, 5, Loss::Cause::overwritten});
  }
  const uint64_t size = kPieces * kPiece;
  const StreamReader stream(source, pieces, "", size, size, losses);
  ASSERT_EQ(stream.known_losses().size(), kPieces);
  std::vector<std::byte> part(4 * kPiece);
  // From the end on, where all pieces and losses would be passed for each.
  for (uint64_t at = size - part.size(); at > size / 2; at -= part.size()) stream.read(at, part);
  EXPECT_LE(source->reads(), kPieces / 2 + 8);
}

}  // namespace
}  // namespace undershelf::test
