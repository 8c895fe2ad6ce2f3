// Damage on HFS+ volumes: each costs only what it damages, is counted and reported.
#include <gtest/gtest.h>

#include <boost/endian/conversion.hpp>

#include "harm.h"
#include "layout/apm.h"
#include "model/text.h"

namespace undershelf::test {
namespace {

using boost::endian::load_big_u16;
using boost::endian::load_big_u32;
using boost::endian::store_big_u16;
using boost::endian::store_big_u32;

constexpr size_t kNode = 4096;

unsigned char* at(std::string& image, size_t offset) {
  return reinterpret_cast<unsigned char*>(image.data()) + offset;
}
// Where the catalog begins: its first extent, from the volume header.
size_t catalog(std::string& image) { return load_big_u32(at(image, 1024 + 272 + 16)) * kNode; }

std::string utf16(const std::string& text) {
  std::string out;
  for (const char16_t unit : to_utf16(text)) {
    out += static_cast<char>(unit >> 8);
    out += static_cast<char>(unit & 0xFF);
  }
  return out;
}

// The leaf node in use that holds a name, and the place of the record's key.
std::pair<size_t, size_t> record_of(std::string& image, const std::string& name) {
  const std::string key =
      std::string("\0", 1) + static_cast<char>(to_utf16(name).size()) + utf16(name);
  for (size_t found = image.find(key); found != std::string::npos;
       found = image.find(key, found + 1)) {
    const size_t node = found / kNode * kNode;
    const size_t type = found + key.size();
    if (static_cast<unsigned char>(image[node + 8]) != 0xFF || load_big_u16(at(image, type)) != 2) {
      continue;
    }
    const size_t count = load_big_u16(at(image, node + 10));  // copies behind them do not count
    for (size_t i = 1; i <= count; ++i) {
      if (node + load_big_u16(at(image, node + kNode - 2 * i)) == found - 6)
        return {node, found - 6};
    }
  }
  ADD_FAILURE() << name;
  return {0, 0};
}
// Makes the record of a file begin a byte before the one in front of it ends.
void overlap_offsets(std::string& image, const std::string& name) {
  const auto [node, key] = record_of(image, name);
  const size_t count = load_big_u16(at(image, node + 10));
  for (size_t i = 1; i < count; ++i) {
    unsigned char* offset = at(image, node + kNode - 2 * (i + 1));
    if (node + load_big_u16(offset) != key) continue;
    store_big_u16(offset, 13);
    return;
  }
  ADD_FAILURE() << "no offset leads to " << name;
}

const std::string kFile = "Old survey";
const std::string kPath = "Maps/Old survey";
const std::string kLetter = "Letter 5.txt";
const std::string kLetterPath = "Documents/Letters/Letter 5.txt";

class HfsPlusDamage : public testing::TestWithParam<Harm> {};

TEST_P(HfsPlusDamage, CostsOnlyWhatItDamages) { expect_cost("hfsplus-charts", GetParam()); }

INSTANTIATE_TEST_SUITE_P(
    Harms, HfsPlusDamage,
    testing::Values(
        Harm{"volumeHeader", [](std::string& i) { i.replace(1024, 512, 512, '\0'); }, 0, "", ""},
        Harm{"alternateHeader", [](std::string& i) { i.replace(i.size() - 1024, 512, 512, '\0'); },
             0, "", ""},
        Harm{"catalogHeader", [](std::string& i) { i.replace(catalog(i), 256, 256, '\x5A'); }, 1,
             "", ""},
        Harm{"nodeThatLinksToItself",
             [](std::string& i) {
               const size_t node = record_of(i, kFile).first;
               const auto number = static_cast<uint32_t>((node - catalog(i)) / kNode);
               store_big_u32(at(i, node), number);
               store_big_u32(at(i, node + 4), number);
             },
             0, "", ""},
        Harm{"keyLongerThanItsNode",
             [](std::string& i) { store_big_u16(at(i, record_of(i, kLetter).second), 0x7FFE); }, 1,
             kLetterPath, "partial"},
        Harm{"blocksBeyondTheVolume",
             [](std::string& i) {
               const size_t key = record_of(i, kFile).second;
               store_big_u32(at(i, key + 2 + load_big_u16(at(i, key)) + 88 + 16), 0x7FFFFFFF);
             },
             1, kPath, "gone"}),
    name_of_harm);

TEST(HfsPlusNode, WhoseOffsetsOverlapCostsOneRecord) {
  std::string image = sample("hfsplus-charts");
  const auto sound = list_of(image, 0);
  overlap_offsets(image, kFile);
  const auto rows = list_of(image, 1);
  size_t same = 0;
  for (const auto& [path, row] : sound) same += rows.contains(path) && rows.at(path) == row;
  // The record, its streams, and the one in front of it, whose end is not known any more.
  EXPECT_GE(same + 4, sound.size());
}

TEST(HfsPlusNames, AreComposedAndKeptAsStored) {
  const auto rows = list_of(sample("hfsplus-charts"), 0);
  const Json& decomposed = rows.at("Documents/Notes 3:4.txt");
  EXPECT_EQ(decomposed["raw_name"].is_null(), false) << "the disk has a slash";
  bool composed = false;
  for (const auto& [path, row] : rows)
    composed = composed || path.find("før 1950/Kart 1") != std::string::npos;
  EXPECT_TRUE(composed);
}

TEST(HfsPlusWrapper, IsLookedInto) {
  // An HFS master directory block that embeds the sample 64 KiB in (TN1150, "HFS Wrapper").
  std::string image = std::string(65536, '\0') + sample("hfsplus-charts");
  store_big_u16(at(image, 1024), 0x4244);
  store_big_u32(at(image, 1024 + 20), 4096);
  store_big_u16(at(image, 1024 + 28), 8);  // in 512 bytes
  store_big_u16(at(image, 1024 + 124), 0x482B);
  store_big_u16(at(image, 1024 + 126), 15);  // 8 * 512 + 15 * 4096 = 65536
  EXPECT_EQ(list_of(image, 0), list_of(sample("hfsplus-charts"), 0));
}

TEST(ResourceForks, AreExportedAsAsked) {
  const TempFolder folder;
  write_file(folder.path("disk.img"), sample("hfsplus-charts"));
  undershelf({"scan", folder.path("disk.img"), "--shelf", folder.path("shelf")});
  const auto files = [&](const std::string& how) {
    const std::string bag = folder.path(how);
    EXPECT_EQ(
        undershelf({"export", folder.path("shelf"), "--to", bag, "--name", kFile, "--forks", how})
            .code,
        0);
    EXPECT_EQ(shell("cd " + quoted(bag) + " && sha256sum -c --quiet manifest-sha256.txt").code, 0);
    return shell("cd " + quoted(bag + "/data/volume-1-CHARTS/Maps") + " && LC_ALL=C ls -A").out;
  };
  EXPECT_EQ(files("double"), "._Old survey\nOld survey\nOld survey:com.example.scale\n");
  EXPECT_EQ(files("plain"), "Old survey\nOld survey:com.example.scale\nOld survey:resource-fork\n");
  EXPECT_EQ(files("skip"), "Old survey\n");
  // AppleDouble: the Finder's information, then the fork.
  const std::string beside =
      read_file(folder.path("double/data/volume-1-CHARTS/Maps/._Old survey"));
  const std::string fork =
      read_file(folder.path("plain/data/volume-1-CHARTS/Maps/Old survey:resource-fork"));
  EXPECT_EQ(beside.substr(0, 8), std::string("\0\5\x16\7\0\2\0\0", 8));
  EXPECT_EQ(beside.substr(50, 8), "TEXTchrt");
  EXPECT_EQ(beside.substr(82), fork);
}

TEST(ApplePartitionMap, ThatBreaksOffIsToldOf) {
  std::string image = sample("hfsplus-iso");
  const auto layout = read_apm(MemorySource(image));
  ASSERT_TRUE(layout);
  ASSERT_GE(layout->partitions.size(), 3U);
  EXPECT_TRUE(layout->notes.empty());
  image.replace(512 * 3, 2, "??");
  const auto broken = read_apm(MemorySource(image));
  ASSERT_TRUE(broken);
  EXPECT_EQ(broken->partitions.size(), 2U);
  EXPECT_EQ(broken->notes.size(), 1U);
}

}  // namespace
}  // namespace undershelf::test
