// Volumes whose headers, copies or beginnings are wrong, and what is read of them. Each test is a
// fault that was mended.
#include <gtest/gtest.h>

#include <cstring>
#include <set>

#include "stream/decode.h"
#include "support.h"

namespace undershelf::test {
namespace {

class WrongVolumes : public testing::Test {
 protected:
  // Living files, by path, with the hashes of their content.
  std::map<std::string, std::string> living(const std::string& bytes, const char* depth = "quick") {
    rows_ = scan(bytes, depth);
    std::map<std::string, std::string> found;
    for (const Json& row : rows_) {
      if (row["state"] == "live" && row["kind"] == "file") {
        found[row["path"]] = row["sha256"].is_string() ? row["sha256"] : "";
      }
    }
    return found;
  }
  std::vector<Json> scan(const std::string& bytes, const char* depth) {
    std::filesystem::remove(shelf_);
    write_file(image_, bytes);
    const Outcome outcome = undershelf(
        {"scan", image_, "--shelf", shelf_, "--depth", depth, "--check", "full", "--check-living"});
    EXPECT_LE(outcome.code, 1) << outcome.err;
    return rows_of(shelf_);
  }
  std::string notes() {
    std::string all;
    for (const Json& volume : undershelf({"volumes", shelf_, "--format", "jsonl"}).lines()) {
      for (const std::string note : volume["notes"]) all += note + '\n';
    }
    return all;
  }
  size_t former_volumes() {
    size_t count = 0;
    for (const Json& volume : undershelf({"volumes", shelf_, "--format", "jsonl"}).lines()) {
      count += volume["standing"] == "former";
    }
    return count;
  }

  TempFolder folder_;
  std::string image_ = folder_.path("a.img");
  std::string shelf_ = folder_.path("a.shelf");
  std::vector<Json> rows_;
};

// One wrong bit in a boot sector hid all files, or promised others' bytes, though a whole backup,
// both FATs and the folders themselves say how it is.
TEST_F(WrongVolumes, OneBitIsOutvoted) {
  const struct {
    const char* name;
    std::vector<std::pair<size_t, int>> bits;  // byte of the image, bit
  } cases[] = {
      {"fat32-logger",
       {{13, 0},
        {14, 0},
        {15, 0},
        {16, 0},
        {17, 6},
        {36, 0},
        {37, 1},
        {44, 0},
        {44, 1},
        {45, 2},
        {47, 7},
        {21, 1}}},
      {"fat16-logger",
       {{11, 1}, {13, 1}, {14, 0}, {16, 0}, {17, 0}, {18, 3}, {22, 0}, {22, 4}, {21, 2}}},
      {"fat12-floppy", {{13, 0}, {14, 1}, {17, 5}, {22, 1}}},
      {"ntfs-office", {{13, 2}, {40, 5}, {41, 2}, {48, 0}, {64, 0}, {64, 2}}},
      {"exfat-camera", {{80, 0}, {88, 3}, {92, 2}, {96, 0}, {109, 1}}},
      {"hfsplus-charts", {{1024 + 198, 7}, {1024 + 208, 3}, {1024 + 290, 4}, {1024 + 368, 0}}},
  };
  for (const auto& one : cases) {
    const std::string whole = sample(one.name);
    const auto expected = living(whole);
    ASSERT_FALSE(expected.empty());
    for (const auto& [place, bit] : one.bits) {
      std::string flipped = whole;
      flipped[place] = static_cast<char>(flipped[place] ^ 1 << bit);
      EXPECT_EQ(living(flipped), expected) << one.name << " byte " << place << " bit " << bit;
    }
  }
}

// Where one FAT was damaged its other copy was not asked as long as a chain ended somewhere.
TEST_F(WrongVolumes, TheCopyOfAFatThatFitsIsTaken) {
  const std::string whole = sample("fat32-logger");
  const auto expected = living(whole);
  const auto* boot = reinterpret_cast<const unsigned char*>(whole.data());
  const size_t first = (boot[14] | boot[15] << 8) * 512;
  const size_t size = (boot[36] | boot[37] << 8) * 512;
  uint32_t noise = 1;
  for (const size_t copy : {0U, 1U}) {
    for (const int kind : {0, 1, 2, 3}) {
      std::string harmed = whole;
      // A tenth of its sectors, the first among them.
      for (size_t sector = 0; sector < size / 512; sector += 10) {
        char* const at = &harmed[first + copy * size + sector * 512];
        for (size_t i = 0; i < 512; ++i) {
          noise = noise * 1664525 + 1013904223;
          const auto random = static_cast<char>(noise >> 24);
          if (kind == 0) at[i] = '\0';
          if (kind == 1) at[i] = '\xFF';
          if (kind == 2) at[i] = random;
          if (kind == 3 && i % 97 == 0) at[i] = static_cast<char>(at[i] ^ 1 << (noise >> 28) % 8);
        }
      }
      EXPECT_EQ(living(harmed), expected) << "copy " << copy << " kind " << kind;
    }
  }
}

// A volume whose first bytes are missing was put together with its beginning at byte 0: all of its
// files were promised, and every byte was another's.
TEST_F(WrongVolumes, OneThatBeginsBeforeItsSourceIsPlacedThere) {
  const struct {
    const char* name;
    std::vector<size_t> cuts;
  } cases[] = {{"ntfs-office", {512, 65536}}, {"hfsplus-charts", {4096, 16384}}};
  for (const auto& one : cases) {
    const std::string whole = sample(one.name);
    const auto expected = living(whole, "deep");
    std::set<std::string> contents;
    for (const Json& row : rows_) {
      if (row["sha256"].is_string()) contents.insert(row["sha256"]);
    }
    for (const size_t cut : one.cuts) {
      for (const char* depth : {"quick", "deep"}) {
        const auto found = living(whole.substr(cut), depth);
        size_t right = 0;
        for (const auto& [path, sha256] : found) {
          right += expected.contains(path) && expected.at(path) == sha256;
        }
        EXPECT_GE(right + 1, expected.size()) << one.name << ' ' << cut << ' ' << depth;
        EXPECT_NE(notes().find("before the source does"), std::string::npos) << one.name << cut;
        for (const Json& row : rows_) {
          const bool promised = row["rating"] == "whole" || row["rating"] == "likely";
          if (!promised || row["size"] == 0 || !row["sha256"].is_string()) continue;
          EXPECT_TRUE(contents.contains(row["sha256"])) << row["path"];
        }
      }
    }
  }
}

// It was said to begin at byte 0, although nothing told that.
TEST_F(WrongVolumes, OneWithoutAHeadSaysThatItsBeginningIsTaken) {
  for (const auto& [name, head] : {std::pair{"fat16-logger", 512}, {"exfat-camera", 24 * 512}}) {
    std::string bytes = sample(name);
    EXPECT_GT(living(bytes, "deep").size(), 10U);
    EXPECT_EQ(notes(), "") << name;
    std::ranges::fill_n(bytes.begin(), head, '\0');
    EXPECT_GT(living(std::string(1 << 20, '\0') + bytes, "deep").size(), 10U);
    EXPECT_NE(notes().find("Nothing tells where it begins"), std::string::npos) << name;
  }
}

// Deleted files of a large folder were listed as living: the bitmap that says which blocks of its
// index are in use was not read where it lies outside of the record.
TEST_F(WrongVolumes, ALargeFolderHasNoDeadAmongTheLiving) {
  std::set<std::string> living_now;
  size_t later = 0;
  for (const auto& [path, sha256] : living(sample("ntfs-crowded"))) {
    if (path.starts_with("Later/")) ++later;
    if (path.starts_with("Soundings/")) living_now.insert(path.substr(10, 6));
  }
  EXPECT_EQ(later, 6000U);
  EXPECT_EQ(living_now.size(), 400U);
  for (const std::string& number : living_now) {
    EXPECT_TRUE(number < "000300" || number >= "008900") << number;
  }
}

// Compressed files that end inside a chunk which is stored plain came out as zeros, `whole`.
TEST_F(WrongVolumes, CompressedFilesComeOutAsTheDriverReadsThem) {
  const auto found = living(sample("ntfs-packed"));
  size_t files = 0;
  for (const Json& true_row : truth("ntfs-packed")) {
    const std::string path = true_row["path"];
    ASSERT_TRUE(found.contains(path)) << path;
    EXPECT_EQ(found.at(path), true_row["sha256"]) << path;
    ++files;
  }
  EXPECT_EQ(files, 60U);
}

TEST(Lznt1, EndsInsideAChunk) {
  // [MS-XCA] 2.5: a plain chunk of 4,096 bytes, of a file of 3,992.
  std::string content(4096, '\0');
  for (size_t i = 0; i < content.size(); ++i) content[i] = static_cast<char>(i * 31 >> 3);
  const std::string stored = std::string("\xFF\x3F", 2) + content + std::string(94, '\0');
  std::string out(3992, '?');
  EXPECT_TRUE(
      decode_lznt1(std::as_bytes(std::span(stored)), std::as_writable_bytes(std::span(out))));
  EXPECT_EQ(out, content.substr(0, 3992));
  // Likewise a compressed one: one byte, and 4,095 times what stands a byte before.
  const std::string packed(
      "\x03\xB0\x02"
      "a\xFC\x0F",
      6);
  std::string run(100, '?');
  EXPECT_TRUE(
      decode_lznt1(std::as_bytes(std::span(packed)), std::as_writable_bytes(std::span(run))));
  EXPECT_EQ(run, std::string(100, 'a'));
}

// An index block that lay free, of a reference in which the mark of an end was written, made a
// volume that never was.
TEST_F(WrongVolumes, ARemnantOfAnIndexIsNoFormerVolume) {
  std::string bytes = sample("ntfs-office");
  ASSERT_EQ((living(bytes, "deep"), former_volumes()), 0U);
  const size_t block = bytes.find(std::string("INDX(", 5));
  ASSERT_NE(block, std::string::npos);
  // In the last free cluster before the backup of the boot sector.
  const size_t place = (bytes.size() - 512) / 4096 * 4096 - 4 * 4096;
  std::string copy = bytes.substr(block, 4096);
  const size_t first = 24 + static_cast<unsigned char>(copy[24]);
  std::memcpy(&copy[first], "\x10\0\0\0\2\0\0\0", 8);
  bytes.replace(place, copy.size(), copy);
  living(bytes, "deep");
  EXPECT_EQ(former_volumes(), 0U) << notes();
}

// A folder's cluster to which nothing leads any more made a second volume of the same layout.
TEST_F(WrongVolumes, AFolderNothingLeadsToIsOfTheVolumeItLiesOn) {
  const std::string whole = sample("exfat-camera");
  living(whole, "deep");
  const size_t before = former_volumes();
  // Of a deleted folder below another deleted one the upper one's entry set is used again.
  std::string bytes = whole;
  const auto* boot = reinterpret_cast<const unsigned char*>(bytes.data());
  const auto number = [&](size_t at) {
    uint32_t value = 0;
    std::memcpy(&value, boot + at, 4);
    return value;
  };
  const size_t heap = size_t{number(88)} * 512;
  const size_t cluster = size_t{512} << boot[109];
  const size_t root = heap + (number(96) - 2) * cluster;
  size_t wiped = 0;
  for (size_t at = root; at + 32 <= root + cluster; at += 32) {
    const auto type = static_cast<unsigned char>(bytes[at]);
    if (type != 0x05 && type != 0x40 && type != 0x41) continue;
    std::memset(&bytes[at + 1], 0, 31);
    ++wiped;
  }
  living(bytes, "deep");
  EXPECT_EQ(former_volumes(), before) << wiped << ' ' << notes();
}

}  // namespace
}  // namespace undershelf::test
