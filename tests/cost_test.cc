// What a volume may cost, whatever its numbers say: bytes read and rows, never time.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <atomic>
#include <boost/endian/conversion.hpp>
#include <cstring>
#include <map>

#include "fs/assembly/scene.h"
#include "fs/chained/cluster_set.h"
#include "fs/hfsplus/remnants.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"
#include "scan/scan.h"
#include "shelf/shelf.h"
#include "shelf/writer.h"
#include "support.h"

namespace undershelf::test {
namespace {

constexpr uint64_t kSector = 512;

// A large source of which little is not zero; counts what is read of it.
class CountedSource : public Source {
 public:
  explicit CountedSource(uint64_t size) : size_(size) {}
  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return 512; }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    read_ += out.size();
    std::memset(out.data(), 0, out.size());
    const uint64_t end = std::min(size_, offset + out.size());
    for (auto part = parts_.begin(); part != parts_.end() && part->first < end; ++part) {
      const ByteRange shared = overlap({part->first, part->second.size()}, {offset, out.size()});
      if (shared.length == 0) continue;
      std::memcpy(out.data() + (shared.offset - offset),
                  part->second.data() + (shared.offset - part->first), shared.length);
    }
    if (offset + out.size() <= size_) return {};
    const uint64_t from = std::max(offset, size_);
    return {{{{from, offset + out.size() - from}}}};
  }
  void put(uint64_t at, std::string bytes) { parts_[at] = std::move(bytes); }
  uint64_t read_so_far() const { return read_; }

 private:
  uint64_t size_;
  std::map<uint64_t, std::string> parts_;
  mutable std::atomic<uint64_t> read_ = 0;  // by several threads
};

struct Counted : Sink {
  EntryId add(const Entry& entry) override {
    for (const Stream& stream : entry.streams) pieces += stream.pieces.size();
    for (const Stream& stream : entry.streams) bytes += total_length(stream.pieces);
    entries.push_back(entry);
    return EntryId::none;
  }
  void add(EntryId, const OtherName&) override {}
  void add(const Damage&) override { ++damage; }
  std::vector<Entry> entries;
  uint64_t pieces = 0, bytes = 0, damage = 0;
};

void append32(std::string& to, uint32_t value) {
  to.resize(to.size() + 4);
  put32(to, to.size() - 4, value);
}

const FileSystem& system_named(std::string_view name) {
  return *std::ranges::find(file_systems(), name, &FileSystem::name);
}

// FAT32 with a root of one cluster and clusters of 4 KiB.
class FatCosts : public testing::Test {
 protected:
  static constexpr uint64_t kReserved = 32 * kSector, kCluster = 4096;

  void make(uint64_t size, const std::vector<uint32_t>& fat, const std::string& root) {
    source_ = std::make_shared<CountedSource>(size);
    fat_size_ = (size / kCluster + 2) * 4 / kSector * kSector + kSector;
    std::string boot(kSector, '\0');
    boot.replace(0, 11, std::string("\xEB\x58\x90", 3) + "mkfs.fat");
    put16(boot, 11, 512);
    boot[13] = 8;
    put16(boot, 14, 32);
    boot[16] = 2;
    boot[21] = '\xF8';
    put32(boot, 32, static_cast<uint32_t>(size / kSector));
    put32(boot, 36, static_cast<uint32_t>(fat_size_ / kSector));
    put32(boot, 44, 2);
    put16(boot, 48, 1);
    put16(boot, 50, 6);
    boot[66] = 0x29;
    boot.replace(510, 2, "\x55\xAA");
    std::string table;
    for (const uint32_t value : fat) append32(table, value);
    source_->put(0, boot);
    source_->put(kReserved, table);
    source_->put(kReserved + fat_size_, table);
    source_->put(kReserved + 2 * fat_size_, root);
    reader_ = system_named("fat").open({source_, {0, size}, {}});
    ASSERT_TRUE(reader_);
  }

  static std::string entry(const std::string& name, uint32_t cluster, uint32_t size) {
    std::string e = name + std::string(32 - name.size(), '\0');
    e[11] = 0x20;
    put16(e, 16, 0x5CA1);
    put16(e, 20, cluster >> 16);
    put16(e, 24, 0x5CA1);
    put16(e, 26, cluster & 0xFFFF);
    put32(e, 28, size);
    return e;
  }

  std::shared_ptr<CountedSource> source_;
  std::unique_ptr<VolumeReader> reader_;
  uint64_t fat_size_ = 0;
};

// Each of 400 deleted entries of 4 GiB cost a walk over its clusters' table entries, one by one.
TEST_F(FatCosts, WhatIsFreeIsReadOffTheTableOnce) {
  make(64ULL << 30, {0x0FFFFFF8, 0x0FFFFFFF, 0x0FFFFFFF}, "");
  const uint64_t before = source_->read_so_far();
  for (uint64_t i = 0; i < 400; ++i) {
    const uint64_t far = i % 2 * (32ULL << 30);  // so that no cache of the table itself helps
    const uint64_t first = reader_->volume().heap_offset + far + (1 + i) * kCluster;
    EXPECT_EQ(reader_->next_used({first, 4ULL << 30}).length, 0U);
  }
  EXPECT_LE(source_->read_so_far() - before, 2 * fat_size_);
}

// Every file that named the head of one long chain got all of it.
TEST_F(FatCosts, AChainIsFollowedAsFarAsItsFileReaches) {
  constexpr uint32_t kChain = 100'000;
  std::vector<uint32_t> fat = {0x0FFFFFF8, 0x0FFFFFFF, 0x0FFFFFFF};
  for (uint32_t c = 3; c < 3 + kChain; ++c) fat.push_back(c + 1 < 3 + kChain ? c + 1 : 0x0FFFFFFF);
  std::string root;
  for (int i = 0; i < 100; ++i) root += entry("TIDE" + std::to_string(1000 + i) + "CSV", 3, 5000);
  make(1ULL << 30, fat, root);
  const uint64_t before = source_->read_so_far();
  Counted found;
  reader_->read(found);
  EXPECT_EQ(found.entries.size(), 100U);
  EXPECT_LE(found.bytes, 100 * 3 * kCluster);
  EXPECT_LE(source_->read_so_far() - before, 2 * fat_size_);
}

// exFAT folders may claim up to 256 MiB each, and may overlap: each cluster was read for each.
TEST(ExfatCosts, AClusterIsReadForOneFolder) {
  const std::string image = sample("exfat-camera");
  const uint64_t heap =
      boost::endian::load_little_u32(reinterpret_cast<const unsigned char*>(image.data()) + 88) *
      kSector;
  const auto cost = [&](uint32_t folders) {
    auto source = std::make_shared<CountedSource>(image.size());
    source->put(0, image);
    std::string sets;
    for (uint32_t i = 0; i < folders; ++i) {
      std::string set(96, '\0');
      set[0] = '\x85';
      set[1] = 2;
      set[4] = 0x10;
      set[32] = '\xC0';
      set[33] = 3;
      set[35] = 4;
      put32(set, 32 + 8, 4096 * 8000);
      put32(set, 32 + 20, 1000 + i);
      put32(set, 32 + 24, 4096 * 8000);
      set[64] = '\xC1';
      for (int k = 0; k < 4; ++k) set[66 + 2 * k] = static_cast<char>('a' + (i >> (4 * k)) % 16);
      uint16_t sum = 0;
      for (size_t k = 0; k < set.size(); ++k) {
        if (k == 2 || k == 3) continue;
        sum = static_cast<uint16_t>((sum << 15 | sum >> 1) + static_cast<unsigned char>(set[k]));
      }
      put16(set, 2, sum);
      sets += set;
    }
    // In the place of what the root has after its own entries.
    const uint64_t root =
        heap +
        (boost::endian::load_little_u32(reinterpret_cast<const unsigned char*>(image.data()) + 96) -
         2) *
            4096;
    std::string cluster = image.substr(root, 4096);
    cluster.replace(96, std::min<size_t>(sets.size(), 4000), sets.substr(0, 4000));
    source->put(root, cluster);
    const auto reader = system_named("exfat").open({source, {0, source->size()}, {}});
    EXPECT_TRUE(reader);
    const uint64_t before = source->read_so_far();
    Counted found;
    reader->read(found);
    EXPECT_GT(found.entries.size(), folders);
    return source->read_so_far() - before;
  };
  EXPECT_LE(cost(40), 2 * cost(1) + (1 << 20));
}

// Ten million bad entries made ten million rows.
TEST(Damages, AreCountedBeyondTheFirst) {
  const TempFolder folder;
  Shelf shelf = Shelf::create(folder.path("shelf"), {}, {});
  VolumeWriter writer(shelf, {});
  for (int i = 0; i < 25'000; ++i) writer.add(Damage{{512, 512}, "A slot holds no entry."});
  writer.finish();
  EXPECT_EQ(shelf.db().execAndGet("SELECT count(*) FROM damage").getInt(), 10'001);
  EXPECT_EQ(shelf.db()
                .execAndGet("SELECT count(*) FROM damage WHERE what='And 15000 more places.'")
                .getInt(),
            1);
}

// A shelf from somebody else: a record size of 0 was divided by.
TEST(Traces, ThatNoDetectorTellsAreDropped) {
  Scene scene;
  scene.source = std::make_shared<CountedSource>(1 << 20);
  scene.set_traces({{0, 4096, ntfs::kRecords, 0, 0},
                    {0, 4096, ntfs::kRecords, 0, 1024},
                    {1 << 20, 4096, ntfs::kRecords, 0, 1024},
                    {512, UINT64_MAX, ntfs::kRecords, 0, 1024},
                    {512, 0, ntfs::kIndexBlock, 0, 0},
                    {513, 4096, ntfs::kIndexBlock, 0, 0},
                    {512, 512, kHeaderTrace, 4096, 0},
                    {512, 512, 77, 0, 0}},
                   system_named("ntfs"));
  ASSERT_EQ(scene.traces.size(), 1U);
  EXPECT_EQ(scene.of_kind(ntfs::kRecords).size(), 1U);
}

// Of more headers than are looked at, those at the end of a disk never were.
TEST(Traces, AreThinnedEvenly) {
  std::vector<Trace> traces(10'000);
  for (size_t i = 0; i < traces.size(); ++i) traces[i].offset = i;
  const std::vector<Trace> kept = thinned(traces, 100);
  ASSERT_EQ(kept.size(), 100U);
  for (size_t i = 0; i < kept.size(); ++i) EXPECT_EQ(kept[i].offset, i * 100);
  EXPECT_EQ(thinned(std::span(traces).first(7), 100).size(), 7U);
}

// Many stray stretches of records, as backups of a table leave: each became a volume, with copies
// of all names around it.
TEST(Traces, ThatContradictEachOtherMakeSoManyVolumes) {
  const std::string image = sample("ntfs-office");
  constexpr size_t kRecord = 1024, kTogether = 8, kStretches = 2000;
  size_t first = image.find("FILE0");
  const auto number_at = [&](size_t at) {
    return boost::endian::load_little_u32(reinterpret_cast<const unsigned char*>(&image[at + 44]));
  };
  while (first != std::string::npos && number_at(first) < 64)
    first = image.find("FILE0", first + 1);
  ASSERT_NE(first, std::string::npos);
  auto source = std::make_shared<CountedSource>(uint64_t{kStretches} << 20);
  std::vector<Trace> traces;
  for (uint64_t i = 0; i < kStretches; ++i) {
    std::string records = image.substr(first, kTogether * kRecord);
    for (size_t r = 0; r < kTogether; ++r) {
      // $FILE_NAME, type 0x30: other times make other files of them.
      size_t at = r * kRecord + static_cast<unsigned char>(records[r * kRecord + 20]);
      while (records[at] != 0x30 && records[at] != -1)
        at += static_cast<unsigned char>(records[at + 4]);
      ASSERT_EQ(records[at], 0x30) << r;
      const size_t created = at + static_cast<unsigned char>(records[at + 20]) + 8;
      records[created] = static_cast<char>(i);
      records[created + 1] = static_cast<char>(i >> 8);
    }
    source->put(i << 20, records);
    traces.push_back({i << 20, records.size(), ntfs::kRecords, number_at(first), kRecord});
  }
  Scene scene;
  scene.source = source;
  scene.is_held = [](const ByteRange&) { return false; };
  scene.set_traces(traces, system_named("ntfs"));
  ASSERT_EQ(scene.traces.size(), kStretches);
  const auto kept = scene.of_kind(ntfs::kRecords);
  EXPECT_EQ(kept.data(), scene.traces.data()) << "asked for in loops: a view, no copy";
  const std::vector<Assembled> volumes = assemble(Ntfs{}, scene);
  EXPECT_GE(volumes.size(), 1U);
  EXPECT_LE(volumes.size(), 256U);
  EXPECT_LE(source->read_so_far(), 8 * kStretches * kTogether * kRecord);
}

TEST(ClusterSets, HoldStretches) {
  ClusterSet set;
  set.insert(10, 5);
  set.insert(20, 5);
  EXPECT_TRUE(set.contains(10) && set.contains(14) && set.contains(24));
  EXPECT_FALSE(set.contains(9) || set.contains(15) || set.contains(25));
  set.insert(15, 5);
  set.insert(12, 2);
  set.insert(0, 0);
  for (uint32_t c = 10; c < 25; ++c) EXPECT_TRUE(set.contains(c)) << c;
  EXPECT_FALSE(set.contains(0));
}

// Old names of one file were compared with each other, however many there are.
TEST(Remnants, KeepSoManyNamesOfOneFile) {
  hfsplus::Remnants remnants;
  hfsplus::CatalogRecord thread;
  thread.type = hfsplus::kFileThread;
  thread.parent = 1000;  // a thread's key has its own number
  for (int i = 0; i < 3000; ++i) {
    thread.thread_parent = 2;
    thread.thread_name = u"Name ";
    for (const char c : std::to_string(i)) thread.thread_name += static_cast<char16_t>(c);
    remnants.add(thread);
  }
  ASSERT_EQ(remnants.all().size(), 1U);
  EXPECT_EQ(remnants.all().at(1000).others.size(), NameLimit::kMostOfOneFile);
  EXPECT_EQ(remnants.left_out(), 3000 - 1 - NameLimit::kMostOfOneFile);
}

// What a scan reads of a volume, and the rows it makes, whatever its header declares.
struct Declared {
  const char* what;
  const char* sample;
  std::vector<size_t> places;  // bytes of the image that are set to 0x7F
};

class DeclaredSizes : public testing::TestWithParam<Declared> {};

TEST_P(DeclaredSizes, CountAsFarAsTheSourceReaches) {
  const TempFolder folder;
  std::string image = sample(GetParam().sample);
  for (const size_t at : GetParam().places) image.at(at) = '\x7F';
  Shelf shelf = Shelf::create(folder.path("shelf"), {}, {});
  ScanOptions options;
  options.check = Check::none;
  options.most = Budget::Limits{3 * image.size() + (1 << 20), image.size() / 512, UINT64_MAX};
  const ScanResult result = scan(shelf, std::make_shared<MemorySource>(image), options);
  EXPECT_FALSE(result.incomplete) << testing::PrintToString(shelf.damage_sentences(5));
  EXPECT_GT(result.volumes, 0U);
}

// Fields of the headers: FAT (specification, section 3), exFAT (3.1), NTFS (boot sector), HFS+
// (TN1150, "Volume Header"), which is big-endian.
INSTANTIATE_TEST_SUITE_P(
    Samples, DeclaredSizes,
    testing::Values(Declared{"AsTheyAreOnFat", "fat32-logger", {}},
                    Declared{"AsTheyAreOnFragmentedFat", "fat16-fragments", {}},
                    Declared{"AsTheyAreOnExfat", "exfat-camera", {}},
                    Declared{"AsTheyAreOnNtfs", "ntfs-office", {}},
                    Declared{"AsTheyAreOnHfsPlus", "hfsplus-charts", {}},
                    Declared{"FatSectors", "fat32-logger", {35}},
                    Declared{"FatTable", "fat32-logger", {38}},
                    Declared{"ExfatLength", "exfat-camera", {79}},
                    Declared{"ExfatClusters", "exfat-camera", {95}},
                    Declared{"NtfsSectors", "ntfs-office", {46}},
                    Declared{"NtfsSectorsAtMost", "ntfs-office", {45, 46, 47}},
                    Declared{"HfsPlusBlocks", "hfsplus-charts", {1024 + 44}},
                    Declared{"HfsPlusBitmap", "hfsplus-charts", {1024 + 112}},
                    Declared{"HfsPlusExtents", "hfsplus-charts", {1024 + 192}},
                    Declared{"HfsPlusCatalog", "hfsplus-charts", {1024 + 272}},
                    Declared{"HfsPlusAttributes", "hfsplus-charts", {1024 + 352}}),
    [](const auto& one) { return std::string(one.param.what); });

}  // namespace
}  // namespace undershelf::test
