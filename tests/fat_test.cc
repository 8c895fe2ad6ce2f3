// FAT: names, folders and chains, apart from whole volumes.
#include <gtest/gtest.h>

#include <cstring>
#include <random>

#include "fs/fat/continuations.h"
#include "fs/fat/folder.h"
#include "fs/fat/table.h"
#include "support.h"

namespace undershelf::fat {
namespace {

std::span<const u8, 11> short_bytes(const char* name) {
  return std::span<const u8, 11>(reinterpret_cast<const u8*>(name), 11);
}

DirectoryEntry short_entry(const char* name, u8 attributes = 0x20) {
  DirectoryEntry entry{};
  std::memcpy(entry.DIR_Name, name, 11);
  entry.DIR_Attr = attributes;
  return entry;
}

// Slots of a long name as a driver writes them, the last one first.
std::vector<DirectoryEntry> slots_for(const std::u16string& name, u8 sum, bool deleted) {
  std::u16string padded = name;
  if (padded.size() % 13 != 0) {
    padded.push_back(0);
    while (padded.size() % 13 != 0) padded.push_back(0xFFFF);
  }
  std::vector<DirectoryEntry> slots;
  const size_t count = padded.size() / 13;
  for (size_t n = count; n > 0; --n) {
    LongEntry slot{};
    slot.LDIR_Ord = deleted ? kDeleted : static_cast<u8>(n | (n == count ? kLastLongEntry : 0));
    slot.LDIR_Attr = kAttrLongName;
    slot.LDIR_Chksum = sum;
    const char16_t* units = padded.data() + (n - 1) * 13;
    std::memcpy(slot.LDIR_Name1, units, 10);
    std::memcpy(slot.LDIR_Name2, units + 5, 12);
    std::memcpy(slot.LDIR_Name3, units + 11, 4);
    slots.push_back(std::bit_cast<DirectoryEntry>(slot));
  }
  return slots;
}

Geometry small_fat16() {
  Geometry g;
  g.type = Type::fat16;
  g.cluster_size = 2048;
  g.cluster_count = 8000;
  return g;
}

FolderContent parse(const std::vector<DirectoryEntry>& entries, Trust trust = Trust::live) {
  return parse_folder(entries, small_fat16(), trust, CodePage("ibm-437"));
}

TEST(FatNames, ChecksumAsTheKernelWritesIt) {
  // Read off a volume the Linux kernel wrote: "tide gauge \u00E9 ....csv" with this alias and sum.
  EXPECT_EQ(checksum(short_bytes("TIDEGA~1CSV")), 0xFB);
  EXPECT_EQ(solve_first_byte(0xFB, short_bytes("\xE5IDEGA~1CSV")), 'T');
}

TEST(FatNames, TheLostFirstByteIsTheOnlySolution) {
  std::mt19937 random(7);
  for (int round = 0; round < 200; ++round) {
    u8 name[11];
    for (u8& byte : name) byte = static_cast<u8>(random());
    const u8 first = name[0];
    const u8 sum = checksum(std::span<const u8, 11>(name));
    name[0] = kDeleted;
    EXPECT_EQ(solve_first_byte(sum, std::span<const u8, 11>(name)), first);
  }
}

struct ShortCase {
  const char* stored;
  u8 case_flags;
  bool lost;
  const char* shown;
  bool exact;
};

TEST(FatNames, ShortNames) {
  const ShortCase cases[] = {
      {"TG03    CSV", 0, false, "TG03.CSV", true},
      {"TG03    CSV", kLowerCaseBase | kLowerCaseExtension, false, "tg03.csv", true},
      {"TG03    CSV", kLowerCaseExtension, false, "TG03.csv", true},
      {"READINGS   ", 0, false, "READINGS", true},
      {"\xE5G03    CSV", 0, true, "_G03.CSV", false},
      {"\x05TOPIA  TXT", 0, false, "\u03C3TOPIA.TXT", true},  // 0x05 stands for 0xE5
      {"RELEV\x90  TXT", 0, false, "RELEV\u00C9.TXT", true},  // code page 437
  };
  for (const ShortCase& c : cases) {
    DirectoryEntry entry = short_entry(c.stored);
    entry.DIR_NTRes = c.case_flags;
    const Name name = short_name(entry, c.lost, CodePage("ibm-437"));
    EXPECT_EQ(name.text, c.shown);
    EXPECT_EQ(name.exact, c.exact) << c.shown;
  }
}

TEST(FatNames, LongNamesJoinTheirShortOnes) {
  for (const bool deleted : {false, true}) {
    for (const std::u16string name :
         {u"Gauge 03.csv", u"A name of several slots \U0001F30A, all in order.csv"}) {
      std::vector<DirectoryEntry> entries = slots_for(
          name, checksum(short_bytes(name[0] == u'G' ? "GAUGE0~1CSV" : "ANAMEO~1CSV")), deleted);
      entries.push_back(short_entry(name[0] == u'G' ? "GAUGE0~1CSV" : "ANAMEO~1CSV"));
      if (deleted) entries.back().DIR_Name[0] = kDeleted;
      const FolderContent content = parse(entries);
      ASSERT_EQ(content.entries.size(), 1U);
      EXPECT_EQ(content.entries[0].name.text, to_utf8(name));
      EXPECT_TRUE(content.entries[0].name.exact);
      EXPECT_EQ(content.entries[0].deleted, deleted);
    }
  }
}

TEST(FatNames, ALongNameWithoutItsEndMayBeCut) {
  auto entries =
      slots_for(u"Exactly26LettersInName.csv", checksum(short_bytes("EXACTL~1CSV")), true);
  entries.push_back(short_entry("\xE5XACTL~1CSV"));
  // Nothing above it: complete.
  EXPECT_TRUE(parse(entries).entries[0].name.exact);
  // Something above it, of which it is not known when it came there.
  entries.insert(entries.begin(), short_entry("LATER   CSV"));
  EXPECT_FALSE(parse(entries).entries[1].name.exact);
  EXPECT_EQ(parse(entries).entries[1].name.text, "Exactly26LettersInName.csv");
  // Something older above it: complete. Something younger: perhaps not.
  entries.front().DIR_CrtDate = 0x5C61;
  entries.back().DIR_CrtDate = 0x5C62;
  EXPECT_TRUE(parse(entries).entries[1].name.exact);
  entries.front().DIR_CrtDate = 0x5C63;
  EXPECT_FALSE(parse(entries).entries[1].name.exact);
}

TEST(FatNames, StrangersSlotsAreNotTaken) {
  // The slots are another file's: the first byte they ask for does not fit their long name.
  auto entries = slots_for(u"Zulu.csv", checksum(short_bytes("ZULU~1  CSV")), true);
  entries.push_back(short_entry("\xE5G03    CSV"));
  const FolderContent content = parse(entries);
  ASSERT_EQ(content.entries.size(), 1U);
  EXPECT_EQ(content.entries[0].name.text, "_G03.CSV");

  // In use, in disorder: the short name is shown, said to be unsure, and counted.
  auto disorder =
      slots_for(u"Two slots are swapped here.csv", checksum(short_bytes("TWOSLO~1CSV")), false);
  std::swap(disorder[1], disorder[2]);
  disorder.push_back(short_entry("TWOSLO~1CSV"));
  const FolderContent broken = parse(disorder);
  ASSERT_EQ(broken.entries.size(), 1U);
  EXPECT_EQ(broken.entries[0].name.text, "TWOSLO~1.CSV");
  EXPECT_FALSE(broken.entries[0].name.exact);
  EXPECT_EQ(broken.broken_names, 1U);
}

TEST(FatFolder, EntriesBehindTheEndAreDeletedOnes) {
  std::vector<DirectoryEntry> entries = {short_entry("A       TXT"), DirectoryEntry{},
                                         short_entry("B       TXT"), short_entry("\xE5       TXT")};
  const FolderContent content = parse(entries);
  ASSERT_EQ(content.entries.size(), 3U);
  EXPECT_FALSE(content.entries[0].deleted);
  EXPECT_TRUE(content.entries[1].deleted);
  EXPECT_FALSE(content.entries[1].marked);
  EXPECT_TRUE(content.entries[2].marked);
}

TEST(FatFolder, RubbishIsRejectedNotListed) {
  std::mt19937 random(3);
  size_t listed = 0;
  for (int round = 0; round < 200; ++round) {
    std::vector<DirectoryEntry> entries(64);
    for (auto& entry : entries) {
      auto* bytes = reinterpret_cast<u8*>(&entry);
      for (size_t i = 0; i < sizeof entry; ++i) bytes[i] = static_cast<u8>(random() % 255 + 1);
    }
    listed += parse(entries, Trust::deleted).entries.size();
    EXPECT_FALSE(looks_like_continuation(entries, small_fat16()));
  }
  EXPECT_LE(listed, 2U) << "of 12,800";
}

// A volume of nothing but a FAT16 table.
Chain chain_of(const std::vector<uint16_t>& links, uint32_t first, uint64_t most = 100) {
  std::string fat(4096, '\0');
  for (size_t i = 0; i < links.size(); ++i) test::put16(fat, 2 * i, links[i]);
  Geometry g = small_fat16();
  g.fat_size = 4096;
  g.cluster_count = 1000;
  return Table(std::make_shared<test::MemorySource>(fat), g).chain(first, most, 0);
}

TEST(FatTable, ChainsEndAsTheyDo) {
  using End = Chain::End;
  const uint16_t end = 0xFFFF;
  const struct {
    std::vector<uint16_t> links;
    End how;
    uint64_t clusters;
    size_t runs;
  } cases[] = {
      {{0, 0, 3, 4, end}, End::marked, 3, 1},
      {{0, 0, 5, end, end, 3}, End::marked, 3, 3},
      {{0, 0, 3, 4, 2}, End::loop, 3, 1},
      {{0, 0, 2}, End::loop, 1, 1},
      {{0, 0, 5, 4, 5, 3}, End::loop, 4, 2},
      {{0, 0, 3, 0}, End::free_cluster, 1, 1},
      {{0, 0, 3, 0xFFF7}, End::bad_cluster, 1, 1},
      {{0, 0, 0xFFF0}, End::outside, 1, 1},
      {{0, 0, 1}, End::outside, 1, 1},
  };
  for (const auto& c : cases) {
    const Chain chain = chain_of(c.links, 2);
    EXPECT_EQ(chain.end, c.how) << to_text(chain.end);
    EXPECT_EQ(chain.clusters, c.clusters);
    uint64_t counted = 0;
    for (const undershelf::Run& run : chain.runs) counted += run.count;
    EXPECT_EQ(counted, chain.clusters);
  }
  EXPECT_EQ(chain_of({0, 0, 3, 4, end}, 2, 2).end, End::enough);
  EXPECT_EQ(chain_of({0, 0, 3, 4, end}, 2, 3).end, End::marked);
}

// An end whose last file was made at `minute`, and which goes on with `slots` of a long name.
FolderEnd end_at(uint32_t folder, const char* name, unsigned minute,
                 const std::vector<DirectoryEntry>& slots = {}) {
  DirectoryEntry last = short_entry(name);
  last.DIR_CrtDate = 0x5C61;
  last.DIR_CrtTime = static_cast<uint16_t>(minute << 5);
  FolderEnd end{folder, folder, {last}};
  end.tail.insert(end.tail.end(), slots.begin(), slots.end());
  return end;
}

Inside inside_at(uint32_t cluster, const char* name, unsigned minute,
                 const std::vector<DirectoryEntry>& slots = {}) {
  Inside inside{cluster, slots, {}, std::nullopt};
  inside.head.push_back(end_at(0, name, minute).tail.front());
  return inside;
}

TEST(FatContinuations, CutNamesTellBeforeTimesAndTimesBeforePlaces) {
  const auto slots =
      slots_for(u"A name that is cut in two.csv", checksum(short_bytes("ANAMET~1CSV")), false);
  const std::vector<DirectoryEntry> upper(slots.begin(), slots.begin() + 1);
  const std::vector<DirectoryEntry> lower(slots.begin() + 1, slots.end());
  const std::vector<FolderEnd> ends = {end_at(10, "IMG_0016JPG", 30), end_at(20, "IMG_0048JPG", 10),
                                       end_at(30, "LOG00004CSV", 5, upper)};
  std::vector<Inside> insides = {inside_at(101, "IMG_0049JPG", 11),
                                 inside_at(102, "IMG_0017JPG", 31),
                                 inside_at(103, "ANAMET~1CSV", 50, lower)};
  using Clusters = std::vector<uint32_t>;
  auto found = find_continuations(ends, insides);
  EXPECT_EQ(found[10], Clusters{102});
  EXPECT_EQ(found[20], Clusters{101});
  EXPECT_EQ(found[30], Clusters{103});
  // What the folders in a cluster say of their parent outweighs both; one cluster goes on with the
  // next.
  insides[0].parent = 10;
  insides[1].tail = end_at(0, "IMG_0032JPG", 33).tail;
  insides.push_back(inside_at(104, "IMG_0033JPG", 34));
  found = find_continuations(ends, insides);
  EXPECT_EQ(found[10], Clusters{101});
  EXPECT_EQ(found[20], (Clusters{102, 104}));
  // What begins within a name that no end completes goes to none.
  EXPECT_TRUE(find_continuations({ends[0]}, {insides[2]}).empty());
}

}  // namespace
}  // namespace undershelf::fat
