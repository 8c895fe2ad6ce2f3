// What readers tell of old records, links and bitmaps. Each test is a fault that was mended.
#include <gtest/gtest.h>

#include <set>

#include "fs/bitmap.h"
#include "fs/hfsplus/entries.h"
#include "support.h"

namespace undershelf::test {
namespace {

// A copy of a record from before its file was written promised an empty file; 3,062 of 3,065 such
// promises were wrong.
TEST(HfsPlusRecords, AnOldCopyNeverProvesThatAFileWasEmpty) {
  hfsplus::CatalogRecord record;
  record.file.fileID = 100;
  record.known = sizeof(hfsplus::FileRecord);
  record.file.createDate = 3'700'000'000U;
  record.file.contentModDate = 3'700'000'000U;
  hfsplus::Tables tables;
  tables.source = std::make_shared<MemorySource>(std::string(4096, '\0'));
  tables.space = {0, 512, 8};
  const Entry stale = from_record(record, State::deleted, tables);
  EXPECT_EQ(stale.proof, Proof::old);
  EXPECT_FALSE(stale.streams.at(0).size_known);
  EXPECT_EQ(stale.streams.at(0).placement, Placement::none);
  EXPECT_FALSE(stale.modified) << "that is when it was made";
  EXPECT_TRUE(stale.created);
  const Entry live = from_record(record, State::live, tables);
  EXPECT_TRUE(live.streams.at(0).size_known);
  EXPECT_EQ(live.proof, Proof::last);
}

// All inline data of a volume's attributes was held at once: gigabytes on a system disk.
TEST(HfsPlusRecords, InlineDataIsReadWhenItIsAskedFor) {
  const auto be = [](uint64_t value, int bytes) {
    std::string text;
    for (int i = bytes - 1; i >= 0; --i) text += static_cast<char>(value >> (8 * i) & 0xFF);
    return text;
  };
  const std::string content = "Readings of the coast station, " + std::string(200, '7');
  const auto record_of = [&](const std::string& data) {
    return be(20, 2) + be(0, 2) + be(100, 4) + be(0, 4) + be(4, 2) +
           std::string("\0n\0o\0t\0e", 8) + be(0x10, 4) + be(0, 8) + be(data.size(), 4) + data;
  };
  constexpr uint64_t kAt = 5000;
  const auto parsed = [&](const std::string& data) {
    const std::string bytes = record_of(data);
    auto record = hfsplus::parse_attribute(std::as_bytes(std::span(bytes)), false);
    if (record) record->leave_inline_data(kAt);
    return record;
  };
  EXPECT_EQ(parsed("short")->inline_data, "short");
  const auto kept = parsed(content);
  ASSERT_TRUE(kept);
  EXPECT_LT(kept->inline_data.capacity(), content.size());
  hfsplus::Tables tables;
  tables.source = std::make_shared<MemorySource>(std::string(4096, '\0'));
  tables.space = {0, 512, 8};
  tables.attributes[100] = {*kept};
  tables.attributes_file = std::make_shared<CachedReader>(
      std::make_shared<MemorySource>(std::string(kAt, '\0') + record_of(content)));
  hfsplus::CatalogRecord file;
  file.file.fileID = 100;
  file.known = sizeof(hfsplus::FileRecord);
  const Entry entry = from_record(file, State::live, tables);
  ASSERT_EQ(entry.streams.size(), 2U);
  EXPECT_EQ(entry.streams[1].name, "note");
  EXPECT_EQ(entry.streams[1].inline_data, content);
}

// One bad byte in a block of a bitmap threw the block away: 128 MiB counted as free.
TEST(Bitmaps, OneBadSectorCostsOneSector) {
  std::string bits(8192, '\xFF');
  const auto source = std::make_shared<MemorySource>(bits, std::vector<ByteRange>{{512, 512}});
  UseBitmap bitmap(source, {0, 8192 * 8 * 4096ULL}, 4096, BitOrder::least_first);
  const uint64_t bad_begin = 512 * 8 * 4096ULL;
  const uint64_t bad_end = 1024 * 8 * 4096ULL;
  EXPECT_EQ(bitmap.next_used({0, 8192 * 8 * 4096ULL}).length, bad_begin) << "up to the bad sector";
  EXPECT_EQ(bitmap.next_used({bad_begin, 8192 * 8 * 4096ULL}).offset, bad_end);
}

// A heap that is declared larger than its bitmap was run through to its end.
TEST(Bitmaps, NothingIsInUseBehindTheirEnd) {
  const auto source = std::make_shared<MemorySource>(std::string(64, '\xFF'));
  const uint64_t heap = uint64_t{1} << 60;
  UseBitmap bitmap(source, {0, heap}, 4096, BitOrder::least_first);
  EXPECT_EQ(bitmap.next_used({0, heap}).length, 64 * 8 * 4096ULL);
  EXPECT_EQ(bitmap.next_used({64 * 8 * 4096ULL, heap}).length, 0U);
}

// The names in the slack of a folder's own record were read from another record.
class NtfsSlack : public testing::Test {
 protected:
  static std::string entry(const std::u16string& name, uint64_t reference, uint64_t folder,
                           uint64_t made, uint64_t size) {
    std::string e(0x10 + 0x42 + name.size() * 2, '\0');
    e.resize((e.size() + 7) / 8 * 8);
    const auto put64 = [&](size_t at, uint64_t value) {
      put32(e, at, static_cast<uint32_t>(value));
      put32(e, at + 4, static_cast<uint32_t>(value >> 32));
    };
    put64(0, reference);
    put16(e, 8, static_cast<unsigned>(e.size()));
    put16(e, 10, static_cast<unsigned>(0x42 + name.size() * 2));
    put64(0x10, folder);
    for (const size_t at : {0x18, 0x20, 0x28, 0x30}) put64(at, made);
    put64(0x38, (size + 4095) / 4096 * 4096);
    put64(0x40, size);
    e[0x50] = static_cast<char>(name.size());
    e[0x51] = 1;
    for (size_t i = 0; i < name.size(); ++i) put16(e, 0x52 + 2 * i, name[i]);
    return e;
  }
};

TEST_F(NtfsSlack, AllNamesThatStayedBehindInAFoldersRecordAreRead) {
  std::string image = sample("ntfs-office");
  // The folder's record: one with room behind its end.
  size_t record = std::string::npos;
  size_t used = 0;
  uint64_t number = 0;
  const std::u16string folder = u"$RFOLDER";
  std::string stored;
  for (const char16_t c : folder) stored += {static_cast<char>(c), '\0'};
  for (size_t at = 0; (at = image.find(stored, at)) != std::string::npos; ++at) {
    const size_t begin = at / 1024 * 1024;
    if (image.compare(begin, 4, "FILE") != 0 || (image[begin + 22] & 3) != 3) continue;
    record = begin;
    used = static_cast<unsigned char>(image[begin + 24]) |
           static_cast<size_t>(static_cast<unsigned char>(image[begin + 25])) << 8;
    number = static_cast<unsigned char>(image[begin + 44]) |
             static_cast<uint64_t>(static_cast<unsigned char>(image[begin + 45])) << 8;
    break;
  }
  ASSERT_NE(record, std::string::npos);
  const uint64_t sequence = static_cast<unsigned char>(image[record + 16]);
  const uint64_t reference = number | sequence << 48;
  const uint64_t made = 133'800'000'000'000'000ULL;
  // The first names a record that is there, which makes the table read it; then two that none has.
  const std::string entries = entry(u"A.csv", 64 | uint64_t{1} << 48, reference, made, 100) +
                              entry(u"Twin.csv", 0, reference, made + 1, 700) +
                              entry(u"Twin.csv", 0, reference, made + 2, 900);
  const size_t place = record + (used + 7) / 8 * 8;
  ASSERT_LE((place - record) % 1024 + entries.size(), 1020U);
  for (size_t i = 0; i < entries.size(); ++i) {
    const size_t at = place + i;
    if (at % 512 < 510) image[at] = entries[i];  // the rest stands in the fix-ups
  }
  const TempFolder dir;
  write_file(dir.path("i"), image);
  undershelf({"scan", dir.path("i"), "--shelf", dir.path("s")});
  std::multiset<uint64_t> sizes;
  for (const Json& row :
       undershelf({"list", dir.path("s"), "--name", "Twin.csv", "--format", "jsonl"}).lines()) {
    if (!row["size"].is_null()) sizes.insert(row["size"].get<uint64_t>());
  }
  EXPECT_EQ(sizes, (std::multiset<uint64_t>{700, 900}))
      << "both, told apart by when they were made";
}

// The root of an NTFS volume was listed as a folder in itself.
TEST(NtfsRoot, IsNoFolderInItself) {
  const TempFolder dir;
  write_file(dir.path("i"), sample("ntfs-4k-sectors"));
  ASSERT_EQ(undershelf({"scan", dir.path("i"), "--shelf", dir.path("s")}).code, 0);
  const auto rows = undershelf({"list", dir.path("s"), "--system", "--format", "jsonl"}).lines();
  EXPECT_GT(rows.size(), 20U);
  for (const Json& row : rows) EXPECT_NE(row["path"], ".") << row;
}

// A deleted link whose content lives was in no list; the private folder showed as four U+FFFD.
TEST(HfsPlusLinks, NoNameIsShownTwiceAndThePrivateFolderHasOne) {
  const TempFolder dir;
  write_file(dir.path("i"), sample("hfsplus-charts"));
  ASSERT_EQ(undershelf({"scan", dir.path("i"), "--shelf", dir.path("s")}).code, 0);
  for (const Json& row :
       undershelf({"list", dir.path("s"), "--system", "--format", "jsonl"}).lines()) {
    EXPECT_EQ(row["path"].get<std::string>().find("\uFFFD"), std::string::npos) << row;
    for (const Json& former : row["former_paths"]) EXPECT_NE(former, row["path"]) << row;
  }
}

}  // namespace
}  // namespace undershelf::test
