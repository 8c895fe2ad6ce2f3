// Volumes on disk images that lie as files on a volume.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>

#include "support.h"

namespace undershelf::test {
namespace {

// Rows without what differs from shelf to shelf, by path and state.
std::vector<Json> comparable(const std::vector<Json>& rows,
                             const std::map<int64_t, std::string>& hashes) {
  std::vector<Json> found;
  for (Json row : rows) {
    const auto hash = hashes.find(row["id"].get<int64_t>());
    if (hash != hashes.end()) row["sha256"] = hash->second;
    for (const char* field : {"id", "volume", "parent"}) row.erase(field);
    found.push_back(row);
  }
  std::ranges::sort(found, {}, [](const Json& row) { return row.dump(); });
  return found;
}

class DiskImages : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    folder_ = new TempFolder;
    write_file(folder_->path("card.img"), sample("fat32-images"));
    ASSERT_EQ(undershelf({"scan", folder_->path("card.img"), "--shelf", shelf()}).code, 0);
  }
  static void TearDownTestSuite() { delete folder_; }
  static std::string shelf() { return folder_->path("shelf"); }

  static int64_t id_of(const std::string& file) {
    return rows_of(shelf(), {"--volume", "1", "--path", file}).at(0)["id"];
  }
  static Json volume_on(const std::string& file) {
    const int64_t id = id_of(file);
    for (const Json& volume : undershelf({"volumes", shelf(), "--format", "jsonl"}).lines()) {
      if (volume["inside"] == id) return volume;
    }
    return nullptr;
  }

  static TempFolder* folder_;
};
TempFolder* DiskImages::folder_ = nullptr;

// The images lie in many pieces: read on the source, nothing of them would be where it says.
TEST_F(DiskImages, AreReadAsTheDisksTheyAreOf) {
  const auto nested = exported(shelf(), folder_->path("bag"));
  for (const char* name : {"fat12-floppy", "fat16-fragments", "ntfs-4k-sectors", "hfsplus-iso"}) {
    const std::string image = folder_->path("image");
    const std::string own = folder_->path(std::string(name) + ".shelf");
    write_file(image, sample(name));
    ASSERT_EQ(undershelf({"scan", image, "--shelf", own}).code, 0);
    const Json volume = volume_on(std::string(name) + ".img");
    ASSERT_NE(volume, nullptr) << name;
    EXPECT_EQ(volume["standing"], "current");
    const std::string id = volume["id"].dump();
    EXPECT_EQ(comparable(rows_of(shelf(), {"--system", "--volume", id}), nested),
              comparable(rows_of(own, {"--system"}),
                         exported(own, folder_->path(std::string(name) + ".bag"))))
        << name;
  }
}

TEST_F(DiskImages, TellInWhichFilePlacesCount) {
  const int64_t image = id_of("fat16-fragments.img");
  const Json volume = volume_on("fat16-fragments.img");
  EXPECT_EQ(volume["offset"], 0);
  const auto rows = rows_of(shelf(), {"--volume", volume["id"].dump(), "--state", "deleted"});
  ASSERT_FALSE(rows.empty());
  const std::string id = rows[0]["id"].dump();
  const std::string where = "a disk image, the living file with id " + std::to_string(image);
  EXPECT_NE(undershelf({"show", shelf(), id}).out.find(where), std::string::npos);
  EXPECT_EQ(undershelf({"show", shelf(), id, "--format", "jsonl"}).lines().at(0)["inside"], image);
  EXPECT_NE(undershelf({"volumes", shelf()}).err.find(where) +
                undershelf({"volumes", shelf()}).out.find(where),
            2 * std::string::npos);
}

// What lies in a file holds nothing outside of it, and nothing outside holds what lies in it.
TEST_F(DiskImages, ClaimNothingOutside) {
  for (const Json& row : rows_of(shelf(), {"--volume", "1", "--state", "live", "--kind", "file"})) {
    EXPECT_EQ(row["rating"], "whole") << row["path"];
  }
}

// A second scan knows them again, and a deep one finds those under any name.
TEST(DiskImagesAgain, KeepTheirIdsAndAreFoundUnderAnyName) {
  const TempFolder folder;
  std::string card = sample("fat32-images");
  // The last slot of `fat16-fragments.img`: the letters 13 to 17 of the name, then the last.
  const size_t slot = card.find(std::string("t\0s\0.\0i\0m\0", 10));
  ASSERT_NE(slot, std::string::npos);
  ASSERT_EQ(card[slot + 13], 'g');
  card[slot + 13] = 'x';
  const std::string image = folder.path("card.img");
  const std::string shelf = folder.path("shelf");
  write_file(image, card);
  ASSERT_EQ(undershelf({"scan", image, "--shelf", shelf}).code, 0);
  const auto quick = undershelf({"volumes", shelf, "--format", "jsonl"}).lines();
  const auto rows = rows_of(shelf);
  ASSERT_EQ(
      undershelf({"scan", image, "--shelf", shelf, "--depth", "deep", "--check", "sample"}).code,
      0);
  const auto deep = undershelf({"volumes", shelf, "--format", "jsonl"}).lines();
  for (const Json& volume : quick) EXPECT_NE(std::ranges::find(deep, volume), deep.end()) << volume;
  const auto rows_of_deep = rows_of(shelf);
  for (const Json& row : rows) {
    EXPECT_NE(std::ranges::find(rows_of_deep, row), rows_of_deep.end()) << row;
  }
  const auto is_renamed = [](const Json& volume) { return volume["label"] == "LOGGER3"; };
  EXPECT_EQ(std::ranges::count_if(quick, is_renamed), 0);
  EXPECT_EQ(std::ranges::count_if(deep, is_renamed), 1);
}

// A container's bytes are not the disk's: what stands in it is in other places there.
TEST(DiskImagesAgain, ContainersAreToldOfAndNotRead) {
  const TempFolder folder;
  std::string card = sample("fat32-images");
  const std::string floppy = sample("fat12-floppy").substr(0, 512);
  for (size_t at = 0; (at = card.find(floppy, at)) != std::string::npos; ++at) {
    card.replace(at, 4, "QFI\xFB");
  }
  write_file(folder.path("card.img"), card);
  const Outcome scan = undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("s")});
  EXPECT_EQ(scan.code, 0);
  EXPECT_NE(scan.err.find("fat12-floppy.img (id "), std::string::npos) << scan.err;
  EXPECT_NE(scan.err.find("is a QCOW virtual disk"), std::string::npos) << scan.err;
  EXPECT_EQ(undershelf({"volumes", folder.path("s"), "--format", "jsonl"}).lines().size(), 4U);
}

// Places in an HFS+ image of file records whose name ends in `.png` (TN1150, "Catalog File Keys").
std::vector<size_t> pictures(const std::string& image) {
  const auto number = [&](size_t at) {
    return static_cast<unsigned char>(image[at]) << 8 | static_cast<unsigned char>(image[at + 1]);
  };
  std::vector<size_t> records;
  const std::string ending("\0.\0p\0n\0g", 8);
  for (size_t at = 0; (at = image.find(ending, at)) != std::string::npos; ++at) {
    for (int units = 5; units < 64; ++units) {
      const size_t name = at + ending.size() - 2 * static_cast<size_t>(units);
      if (name < 8 || number(name - 2) != units || number(name - 8) != 6 + 2 * units) continue;
      if (number(at + ending.size()) == 2) records.push_back(at + ending.size());
    }
  }
  return records;
}

// A file on HFS+ may begin with the volume's first block: it is an image of the volume it lies on.
TEST(DiskImagesAgain, OneThatHoldsItselfEnds) {
  const TempFolder folder;
  std::string image = sample("hfsplus-iso");
  const size_t header = image.find(std::string("H+\0\4", 4));
  ASSERT_NE(header, std::string::npos);
  const std::string blocks = image.substr(header + 44, 4);  // totalBlocks
  auto records = pictures(image);
  ASSERT_GE(records.size(), 2U);
  records.resize(2);
  for (const size_t record : records) {
    image.replace(record - 6, 6, std::string("\0i\0m\0g", 6));
    const size_t fork = record + 88;
    image.replace(fork, 8, std::string("\0\0\0\0\0\1\0\0", 8));  // 64 KiB
    image.replace(fork + 12, 12, blocks + std::string(4, '\0') + blocks);
  }
  write_file(folder.path("card.img"), image);
  const Outcome scan = undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("s")});
  EXPECT_LE(scan.code, 1) << scan.err;
  const auto volumes = undershelf({"volumes", folder.path("s"), "--format", "jsonl"}).lines();
  EXPECT_EQ(volumes.size(), 1U + 2 + 4 + 8 + 16);
}

}  // namespace
}  // namespace undershelf::test
