// Damage on a FAT16 card: each costs only what it damages, is counted and reported.
#include <gtest/gtest.h>

#include "scan/scan.h"
#include "shelf/selection.h"
#include "support.h"

namespace undershelf::test {
namespace {

// The FAT16 sample: 4 sectors of 512 bytes a cluster; places from its boot sector.
class Damage : public testing::Test {
 protected:
  void SetUp() override {
    image_ = sample("fat16-logger");
    const auto u16 = [&](size_t at) {
      return static_cast<unsigned char>(image_[at]) | static_cast<unsigned char>(image_[at + 1])
                                                          << 8;
    };
    fat_ = static_cast<size_t>(u16(14)) * 512;
    fat_size_ = static_cast<size_t>(u16(22)) * 512;
    root_ = fat_ + 2 * fat_size_;
    data_ = root_ + static_cast<size_t>(u16(17)) * 32;
  }

  void set_link(unsigned cluster, unsigned value) {
    put16(image_, fat_ + 2 * cluster, value);
    put16(image_, fat_ + fat_size_ + 2 * cluster, value);
  }
  // The 8.3 entry with these eleven bytes, anywhere in the image.
  size_t entry(const std::string& name) const {
    const size_t at = std::min(image_.find(name + ' '), image_.find(name + '\x10'));
    EXPECT_NE(at, std::string::npos) << name;
    return at;
  }
  unsigned first_cluster(size_t at) const {
    return static_cast<unsigned char>(image_[at + 26]) |
           static_cast<unsigned>(static_cast<unsigned char>(image_[at + 27])) << 8;
  }

  // Scans the damaged image; damage must be said where `expected` is 1.
  std::vector<Json> scan(int expected) {
    write_file(folder_.path("card.img"), image_);
    const Outcome outcome = undershelf(
        {"scan", folder_.path("card.img"), "--shelf", folder_.path("shelf"), "--replace"});
    EXPECT_EQ(outcome.code, expected) << outcome.err;
    EXPECT_EQ(outcome.err.find("Damage") != std::string::npos, expected == 1) << outcome.err;
    return undershelf({"list", folder_.path("shelf"), "--format", "jsonl"}).lines();
  }
  static Json row(const std::vector<Json>& rows, const std::string& path) {
    for (const Json& r : rows) {
      if (r["path"] == path) return r;
    }
    ADD_FAILURE() << path << " is not listed";
    return {};
  }
  static size_t whole(const std::vector<Json>& rows) {
    return static_cast<size_t>(std::count_if(rows.begin(), rows.end(), [](const Json& r) {
      return r["state"] == "live" && r["rating"] == "whole";
    }));
  }

  TempFolder folder_;
  std::string image_;
  size_t fat_ = 0, fat_size_ = 0, root_ = 0, data_ = 0;
  static constexpr size_t kLive = 16;  // living files on the sound card
};

TEST_F(Damage, AChainThatLoops) {
  const unsigned first = first_cluster(entry("TG07    CSV"));
  set_link(first + 2, first);
  const auto rows = scan(1);
  const Json file = row(rows, "READINGS/2026-03-02/TG07.CSV");
  EXPECT_EQ(file["rating"], "partial");
  EXPECT_EQ(file["intact_bytes"], 3 * 2048);
  EXPECT_EQ(whole(rows), kLive - 1);
}

TEST_F(Damage, AChainThatIsCut) {
  const unsigned first = first_cluster(entry("TG07    CSV"));
  set_link(first + 1, 0);
  const auto rows = scan(1);
  EXPECT_EQ(row(rows, "READINGS/2026-03-02/TG07.CSV")["rating"], "partial");
  EXPECT_EQ(whole(rows), kLive - 1);
}

TEST_F(Damage, TheOtherFatKnowsBetter) {
  const unsigned first = first_cluster(entry("TG07    CSV"));
  put16(image_, fat_ + 2 * (first + 1), 0);  // the first copy only
  EXPECT_EQ(whole(scan(0)), kLive);
}

TEST_F(Damage, TwoFilesOnOneChain) {
  const size_t log = entry("SYSTEM  LOG");
  put16(image_, log + 26, first_cluster(entry("TG07    CSV")));
  const auto rows = scan(1);
  EXPECT_EQ(row(rows, "SYSTEM.LOG")["rating"], "partial");
  EXPECT_EQ(row(rows, "READINGS/2026-03-02/TG07.CSV")["rating"], "partial");
  EXPECT_EQ(whole(rows), kLive - 2);
}

TEST_F(Damage, AFolderThatContainsItself) {
  const unsigned readings = first_cluster(entry("READINGS   "));
  const size_t inside = data_ + (readings - 2) * 2048;
  ASSERT_EQ(image_.substr(inside, 2), ". ");
  // The third entry of the folder becomes the folder itself.
  std::string self = image_.substr(entry("READINGS   "), 32);
  image_.replace(inside + 8 * 32, 32, self);
  const auto rows = scan(1);
  row(rows, "READINGS/READINGS");
  EXPECT_EQ(whole(rows), kLive);
}

TEST_F(Damage, FirstClustersThatAreNone) {
  for (const unsigned cluster : {1U, 60000U}) {
    image_ = sample("fat16-logger");
    put16(image_, entry("SYSTEM  LOG") + 26, cluster);
    const auto rows = scan(1);
    EXPECT_EQ(row(rows, "SYSTEM.LOG")["rating"], "gone") << cluster;
    EXPECT_EQ(whole(rows), kLive - 1);
  }
  // 0 stands for no content; the size says otherwise.
  image_ = sample("fat16-logger");
  put16(image_, entry("SYSTEM  LOG") + 26, 0);
  EXPECT_EQ(row(scan(1), "SYSTEM.LOG")["rating"], "gone");
  // Of a folder: it is listed, and what is in it is not.
  image_ = sample("fat16-logger");
  put16(image_, entry("READINGS   ") + 26, 60000);
  row(scan(1), "READINGS");
}

TEST_F(Damage, ASizeBeyondTheVolume) {
  put32(image_, entry("SYSTEM  LOG") + 28, UINT32_MAX);
  put32(image_,
        entry("\xE5"
              "EADME  TXT") +
            28,
        UINT32_MAX);
  const auto rows = scan(1);
  EXPECT_EQ(row(rows, "SYSTEM.LOG")["rating"], "partial");
  const Json lost = row(rows, "_EADME.TXT");
  EXPECT_EQ(lost["rating"], "partial");
  EXPECT_TRUE(lost["size"].is_null()) << "no file is larger than its volume";
  EXPECT_EQ(whole(rows), kLive - 1);
}

TEST_F(Damage, AFolderFullOfRubbish) {
  const unsigned charts = first_cluster(entry("CHARTS     "));
  for (size_t i = 0; i < 2048; ++i) {
    image_[data_ + (charts - 2) * 2048 + i] = static_cast<char>(i * 131 + i / 7 + 1);
  }
  const auto rows = scan(1);
  EXPECT_EQ(whole(rows), kLive - 1) << "the one file in it";
  EXPECT_LT(rows.size(), 48U);
}

TEST_F(Damage, AFatShorterThanTheVolume) {
  put16(image_, 22, 1);  // one sector: 254 clusters of some 16,000; everything behind it moves
  write_file(folder_.path("card.img"), image_);
  const Outcome outcome =
      undershelf({"scan", folder_.path("card.img"), "--shelf", folder_.path("shelf")});
  EXPECT_TRUE(outcome.code == 0 || outcome.code == 1) << outcome.err;
}

// Rubbish in each field of the boot sector in turn: never a crash, a hang or a wrong exit code.
TEST_F(Damage, RubbishInTheBootSector) {
  // Each run costs the sanitizers a third of a second.
  for (size_t at = 0; at < 64; at += UNDERSHELF_SANITIZED ? 3 : 1) {
    for (const char value : {'\0', '\xFF', '\x55'}) {
      std::string damaged = image_.substr(0, 1 << 20);
      damaged[at] = value;
      write_file(folder_.path("card.img"), damaged);
      const Outcome outcome = undershelf(
          {"scan", folder_.path("card.img"), "--shelf", folder_.path("shelf"), "--replace"});
      ASSERT_TRUE(outcome.code == 0 || outcome.code == 1) << at << " " << outcome.err;
    }
  }
}

// On a large volume a deleted entry without a high half may have had one, unless another shows that
// the driver keeps it.
TEST(LargeVolume, ADriverThatKeepsTheHighHalfIsBelieved) {
  const TempFolder folder;
  std::string image = sample("fat32-large");
  const auto placements = [&] {
    write_file(folder.path("card.img"), image);
    undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--replace"});
    std::string shown;
    for (const Json& row : undershelf({"list", folder.path("shelf"), "--state", "deleted", "--kind",
                                       "file", "--format", "jsonl"})
                               .lines()) {
      shown +=
          undershelf({"show", folder.path("shelf"), std::to_string(row["id"].get<int64_t>())}).out;
    }
    return shown;
  };
  EXPECT_NE(placements().find("was guessed"), std::string::npos);
  const size_t at = image.find(
      "\xE5"
      "HART5~1PNG");
  ASSERT_NE(at, std::string::npos);
  put16(image, at + 20, 2);  // it lies beyond cluster 131,072
  EXPECT_EQ(placements().find("was guessed"), std::string::npos);
}

// Two lost logs that grew in turn: nothing records whose clusters are whose, and that is said.
TEST(Interleaved, IsNoPromise) {
  const TempFolder folder;
  write_file(folder.path("card.img"), sample("fat16-interleaved"));
  ASSERT_EQ(undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf")}).code, 0);
  const auto rows =
      undershelf({"list", folder.path("shelf"), "--state", "deleted", "--format", "jsonl"}).lines();
  ASSERT_EQ(rows.size(), 2U);
  for (const Json& row : rows) {
    EXPECT_EQ(row["rating"], "partial") << row;
    const std::string shown =
        undershelf({"show", folder.path("shelf"), std::to_string(row["id"].get<int64_t>())}).out;
    EXPECT_NE(shown.find("grew beside it"), std::string::npos) << shown;
  }
}

// Clusters that are in use, though the entry that owned them is gone: what was lost around them is
// placed around them.
TEST(LostChain, IsSteppedOver) {
  const TempFolder folder;
  std::string image = sample("fat16-fragments");
  const size_t at = image.find("GROWIN~2CSV");
  ASSERT_NE(at, std::string::npos);
  for (size_t slot = at; static_cast<unsigned char>(image[slot + 11]) == 0x0F || slot == at;
       slot -= 32) {
    image.replace(slot, 32, "\xE5" + std::string(31, '\0'));
  }
  write_file(folder.path("card.img"), image);
  undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf")});
  ASSERT_LE(undershelf({"export", folder.path("shelf"), "--to", folder.path("bag")}).code, 1);
  const std::string manifest = read_file(folder.path("bag/manifest-sha256.txt"));
  bool found = false;
  for (const Json& one : truth("fat16-fragments")) {
    if (one["path"] != "LOGS/Growing log of TG03.csv") continue;
    EXPECT_NE(manifest.find(one["sha256"]), std::string::npos);
    found = true;
  }
  EXPECT_TRUE(found);
}

// FAT[1]: not unmounted cleanly, and a driver met errors.
TEST(Health, IsTold) {
  const TempFolder folder;
  const auto notes = [&](unsigned flags) {
    std::string image = sample("fat16-logger");
    put16(image, static_cast<size_t>(image[14]) * 512 + 2, flags);
    write_file(folder.path("card.img"), image);
    return undershelf({"survey", folder.path("card.img")}).out;
  };
  EXPECT_EQ(notes(0xFFFF).find("note:"), std::string::npos);
  EXPECT_NE(notes(0x7FFF).find("not unmounted cleanly"), std::string::npos);
  EXPECT_NE(notes(0xBFFF).find("may be failing"), std::string::npos);
}

// A source that ends early while it is read, as an image that is cut: what was read stays.
class ShrinkingSource : public MemorySource {
 public:
  ShrinkingSource(const std::string& bytes, int reads) : MemorySource(bytes), reads_(reads) {}
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    if (reads_-- > 0) return MemorySource::read(offset, out);
    std::ranges::fill(out, std::byte{0});
    return {{{{offset, out.size()}}}};
  }

 private:
  mutable int reads_;
};

TEST(ShrinkingSource, CostsWhatWasNotReadYet) {
  const TempFolder folder;
  const std::string image = sample("fat16-logger");
  size_t last = 0;
  for (const int reads : {5, 20, 60, 200, 1000, 1 << 20}) {
    const std::string path = folder.path(std::to_string(reads));
    const auto source = std::make_shared<ShrinkingSource>(image, reads);
    Shelf shelf = Shelf::create(path, identify("made up", *source), {});
    const ScanResult result = undershelf::scan(shelf, source, {});
    size_t rows = 0;
    each_row(shelf, {}, [&](const Row&) { return ++rows > 0; });
    EXPECT_GE(rows, last) << reads;
    const bool all = reads == 1 << 20;
    EXPECT_TRUE(all || reads >= 200 || result.damage > 0 || result.volumes == 0) << reads;
    last = rows;
  }
  EXPECT_GT(last, 40U);
}

// Volumes whose heads are gone, made from the samples: the tree comes back as if they were there.
struct Headless {
  const char* name;
  const char* sample;
  // Boot sectors wiped, FATs wiped, or one byte of the boot sector changed to something believable.
  size_t wiped_sectors;
  bool wipe_fats;
  size_t changed;
  char value;
};

class HeadlessVolume : public testing::TestWithParam<Headless> {};

TEST_P(HeadlessVolume, ComesBackAsIfItsHeadWereThere) {
  const Headless& how = GetParam();
  const TempFolder folder;
  std::string image = sample(how.sample);
  const auto list = [&](const std::string& name) {
    write_file(folder.path(name), image);
    const Outcome scan =
        undershelf({"scan", folder.path(name), "--shelf", folder.path("shelf"), "--replace"});
    EXPECT_EQ(scan.code, name == "broken" && how.wipe_fats ? 1 : 0) << scan.err;
    return undershelf({"list", folder.path("shelf"), "--format", "jsonl"}).lines();
  };
  std::vector<Json> sound = list("sound");
  const auto u16 = [&](size_t at) {
    return static_cast<unsigned char>(image[at]) | static_cast<unsigned char>(image[at + 1]) << 8;
  };
  if (how.wipe_fats) {
    const size_t sectors = static_cast<size_t>(u16(22) != 0 ? u16(22) : u16(36));
    image.replace(static_cast<size_t>(u16(14)) * 512, 2 * sectors * 512, 2 * sectors * 512, '\0');
  }
  image.replace(0, how.wiped_sectors * 512, how.wiped_sectors * 512, '\0');
  if (how.changed != 0) image[how.changed] = how.value;
  std::vector<Json> broken = list("broken");
  ASSERT_EQ(broken.size(), sound.size());
  for (size_t i = 0; i < broken.size(); ++i) {
    if (how.wipe_fats) {  // without chains nothing is certain any more, but for empty files
      EXPECT_TRUE(broken[i]["rating"] != "whole" || broken[i]["size"] == 0) << broken[i];
      for (const char* field : {"placement", "rating", "score", "intact_bytes", "id"}) {
        broken[i].erase(field);
        sound[i].erase(field);
      }
    }
    EXPECT_EQ(broken[i], sound[i]);
  }
  if (!how.wipe_fats) return;
  // Every file that lies in one piece is brought back whole all the same.
  undershelf({"export", folder.path("shelf"), "--to", folder.path("bag"), "--even-gone"});
  const std::string manifest = read_file(folder.path("bag/manifest-sha256.txt"));
  for (const Json& one : truth(how.sample)) {
    if (one["kind"] != "file" || one["runs"] != 1 || one["surviving_bytes"] != one["size"])
      continue;
    EXPECT_NE(manifest.find(one["sha256"]), std::string::npos) << one["path"];
  }
}

INSTANTIATE_TEST_SUITE_P(
    Volumes, HeadlessVolume,
    testing::Values(Headless{"boot16", "fat16-logger", 1, false, 0, 0},
                    Headless{"boot32", "fat32-logger", 1, false, 0, 0},
                    Headless{"noFolder16", "fat16-root-only", 1, false, 0, 0},
                    Headless{"boot32andBackup", "fat32-logger", 8, false, 0, 0},
                    Headless{"clusterSize16", "fat16-logger", 0, false, 13, 8},
                    Headless{"clusterSize32", "fat32-logger", 0, false, 13, 8},
                    Headless{"reserved16", "fat16-logger", 0, false, 14, 9},
                    Headless{"rootEntries16", "fat16-logger", 0, false, 18, 1},
                    Headless{"fatSize16", "fat16-logger", 0, false, 22, 1},
                    Headless{"rootCluster32", "fat32-logger", 0, false, 44, 99},
                    Headless{"fats16", "fat16-logger", 0, true, 0, 0},
                    Headless{"fats32", "fat32-logger", 0, true, 0, 0}),
    [](const auto& how) { return std::string(how.param.name); });

}  // namespace
}  // namespace undershelf::test
