// Damage on an exFAT volume: each costs only what it damages, is counted and reported.
#include <gtest/gtest.h>

#include <set>

#include "harm.h"
#include "model/text.h"
#include "scan/scan.h"
#include "shelf/details.h"
#include "shelf/selection.h"

namespace undershelf::test {
namespace {

std::string utf16(const std::string& text) {
  std::string out;
  for (const char16_t unit : to_utf16(text)) {
    out += static_cast<char>(unit & 0xFF);
    out += static_cast<char>(unit >> 8);
  }
  return out;
}

// The first entry of the set whose first name entry holds `name`.
size_t set_of(const std::string& image, const std::string& name) {
  for (size_t at = image.find(utf16(name)); at != std::string::npos;
       at = image.find(utf16(name), at + 1)) {
    if (at % 32 == 2 && (image[at - 2] & 0x7F) == 0x41) return at - 2 - 64;
  }
  ADD_FAILURE() << name;
  return 0;
}

class ExfatDamage : public testing::TestWithParam<Harm> {};

TEST_P(ExfatDamage, CostsOnlyWhatItDamages) { expect_cost("exfat-camera", GetParam()); }

const std::string kLive = "DCIM/100COAST/COAST0020.PNG";
const std::string kLost = "DCIM/100COAST/COAST0012.PNG";
size_t live_set(const std::string& image) { return set_of(image, "COAST0020.PNG"); }
size_t lost_set(const std::string& image) { return set_of(image, "COAST0012.PNG"); }

INSTANTIATE_TEST_SUITE_P(
    Harms, ExfatDamage,
    testing::Values(
        Harm{"bootRegion", [](std::string& i) { i.replace(0, 6144, 6144, '\0'); }, 0, "", ""},
        Harm{"oneByteOfTheBootRegion", [](std::string& i) { i[92] = 0x10; }, 0, "", ""},
        Harm{"backup", [](std::string& i) { i.replace(6144, 6144, 6144, '\0'); }, 0, "", ""},
        Harm{"checksumOfALivingSet", [](std::string& i) { i[live_set(i) + 2] ^= 0x11; }, 1, kLive,
             "whole"},
        Harm{"checksumAndHash",
             [](std::string& i) {
               i[live_set(i) + 2] ^= 0x11;
               i[live_set(i) + 36] ^= 0x11;
             },
             1, kLive, "whole"},
        Harm{"countOf255", [](std::string& i) { i[live_set(i) + 1] = '\xFF'; }, 1, kLive, "whole"},
        Harm{"countOf255Deleted", [](std::string& i) { i[lost_set(i) + 1] = '\xFF'; }, 0, kLost,
             "likely"},
        Harm{"firstClusterOutside", [](std::string& i) { put32(i, live_set(i) + 52, 0x7FFFFFFF); },
             1, kLive, "gone"},
        Harm{"sizeBeyondTheVolume",
             [](std::string& i) { put32(i, live_set(i) + 32 + 28, 0x00FFFFFF); }, 1, kLive,
             "partial"},
        // Its times are lost, its name and place are not.
        Harm{"headOfADeletedSet", [](std::string& i) { i.replace(lost_set(i), 32, 32, '\x20'); }, 0,
             kLost, "likely"},
        Harm{"nameOfADeletedSet", [](std::string& i) { i[lost_set(i) + 66] ^= 1; }, 0, kLost, ""}),
    name_of_harm);

TEST(ExfatVolume, BitmapShorterThanTheVolume) {
  std::string image = sample("exfat-camera");
  const auto sound = list_of(image, 0);
  const size_t entry = image.find(std::string("\x81\0", 2) + std::string(18, '\0'), 1 << 16);
  ASSERT_NE(entry, std::string::npos);
  put32(image, entry + 24, 100);
  EXPECT_EQ(list_of(image, 0), sound) << "what the bitmap does not tell, living files do";
}

TEST(ExfatVolume, FolderThatHoldsItself) {
  std::string image = sample("exfat-camera");
  const auto sound = list_of(image, 0);
  const size_t clips = set_of(image, "CLIPS");
  const size_t coast = set_of(image, "100COAST");
  image.replace(coast + 52, 4, image.substr(set_of(image, "DCIM") + 52, 4));
  ASSERT_NE(clips, coast);
  const auto rows = list_of(image, 1);
  EXPECT_TRUE(rows.contains("CLIPS/CLIP0002.WAV"));
  EXPECT_TRUE(rows.contains("DCIM/100COAST"));
  EXPECT_LT(rows.size(), sound.size()) << "the folder's own place is not recorded any more";
}

// Section 7.4.10: an offset counts only if its bit 7 is set; else the time is local.
TEST(ExfatTimes, CountTheirOffsets) {
  const TempFolder folder;
  const auto modified = [&](unsigned char offset) {
    std::string image = sample("exfat-camera");
    image[live_set(image) + 23] = static_cast<char>(offset);
    write_file(folder.path("card.img"), image);
    undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--replace",
                "--time-zone", "Europe/Oslo"});
    return undershelf({"list", folder.path("shelf"), "--path", kLive, "--format", "jsonl"})
        .lines()
        .at(0)["modified"];
  };
  EXPECT_EQ(modified(0x80), "2026-04-02T08:20:00Z");
  EXPECT_EQ(modified(0x84), "2026-04-02T07:20:00Z") << "four quarters ahead";
  EXPECT_EQ(modified(0xEC), "2026-04-02T13:20:00Z") << "twenty quarters behind";
  EXPECT_EQ(modified(0x00), "2026-04-02T06:20:00Z") << "local, in summer";
}

// Names were lost where nothing told how the volume had been laid out.
TEST(ExfatNames, AreKeptWithoutALayout) {
  const TempFolder folder;
  const std::string image = sample("exfat-camera");
  // Nothing is left but one folder's clusters: no boot sector, no root, no content.
  std::string rest(image.size(), '\0');
  std::set<std::string> expected;
  {
    Shelf shelf = Shelf::create(folder.path("whole"), {}, {});
    scan(shelf, std::make_shared<MemorySource>(image), {});
    each_row(shelf, {}, [&](const Row& row) {
      if (row.path.starts_with("DCIM/100COAST/") && row.path_exact) expected.insert(row.name);
      if (row.path != "DCIM/100COAST") return true;
      for (const Piece& piece : load_pieces(shelf, row.stream_id)) {
        rest.replace(piece.offset, piece.length, image, piece.offset, piece.length);
      }
      return true;
    });
  }
  ASSERT_GT(expected.size(), 10U);
  put32(rest, live_set(rest) + 32 + 28, 0x00FFFFFF);  // a size that nothing there can have
  Shelf shelf = Shelf::create(folder.path("rest"), {}, {});
  ScanOptions options;
  options.depth = Depth::deep;
  scan(shelf, std::make_shared<MemorySource>(rest), options);
  std::set<std::string> found;
  each_row(shelf, {}, [&](const Row& row) {
    if (row.kind != "file") return true;
    found.insert(row.name);
    EXPECT_EQ(row.rating, row.size == 0U ? "whole" : "gone") << row.path;
    EXPECT_EQ(row.size.has_value(), row.name != "COAST0020.PNG") << row.path;
    return true;
  });
  EXPECT_TRUE(std::ranges::includes(found, expected)) << testing::PrintToString(found);
}

}  // namespace
}  // namespace undershelf::test
