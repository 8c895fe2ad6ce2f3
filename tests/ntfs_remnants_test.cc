// Names that stand behind what is in use, in indexes and in free records.
#include <gtest/gtest.h>

#include <boost/endian/conversion.hpp>

#include "fs/ntfs/lost_names.h"
#include "model/text.h"

namespace undershelf::test {
namespace {

using namespace ntfs;
using boost::endian::store_little_u16;
using boost::endian::store_little_u32;
using boost::endian::store_little_u64;

constexpr uint64_t kFolder = 70;
constexpr uint64_t kMade = 134'000'000'012'345'678;  // in units of 100 ns since 1601
constexpr uint64_t kChanged = kMade + 55;

// A $FILE_NAME value (documentation, "$FILE_NAME").
std::string file_name(const std::string& text, uint64_t size) {
  const std::u16string units = to_utf16(text);
  std::string value(66 + 2 * units.size(), '\0');
  auto* bytes = reinterpret_cast<unsigned char*>(value.data());
  store_little_u64(bytes, make_reference(kFolder, 1));
  store_little_u64(bytes + 8, kMade);
  for (const size_t at : {16, 24, 32}) store_little_u64(bytes + at, kChanged);
  store_little_u64(bytes + 40, (size + 4095) / 4096 * 4096);
  store_little_u64(bytes + 48, size);
  store_little_u32(bytes + 56, 0x20);
  bytes[64] = static_cast<unsigned char>(units.size());
  for (size_t i = 0; i < units.size(); ++i) store_little_u16(bytes + 66 + 2 * i, units[i]);
  return value;
}

std::string end_of_index() { return std::string(8, '\0') + std::string("\x10\0\0\0\2\0\0\0", 8); }

std::string index_entry(const std::string& name, uint64_t size) {
  const std::string value = file_name(name, size);
  std::string entry(16, '\0');
  entry += value;
  entry.resize((entry.size() + 7) / 8 * 8);
  auto* bytes = reinterpret_cast<unsigned char*>(entry.data());
  store_little_u64(bytes, make_reference(80, 3));
  store_little_u16(bytes + 8, static_cast<uint16_t>(entry.size()));
  store_little_u16(bytes + 10, static_cast<uint16_t>(value.size()));
  return entry;
}

std::vector<Sighting> slack_of(const std::string& bytes, size_t before) {
  std::vector<Sighting> found;
  read_index_slack(std::as_bytes(std::span(bytes)), before, kFolder,
                   [&](const Sighting& sighting) { found.push_back(sighting); });
  return found;
}

TEST(NtfsIndexSlack, NamesOfWhichTheFrontIsOverwritten) {
  const std::string after = end_of_index() + std::string(64, '\0');
  for (const size_t overwritten : {0, 16, 24, 32, 40}) {
    std::string bytes = index_entry("Storm surge.csv", 5000) + after;
    bytes.replace(0, overwritten, overwritten, '\xFF');
    const std::vector<Sighting> found = slack_of(bytes, overwritten);
    if (overwritten > 32) {  // with the times, what would make it believable is gone
      EXPECT_TRUE(found.empty());
      continue;
    }
    ASSERT_EQ(found.size(), 1U) << overwritten;
    EXPECT_EQ(to_utf8(found[0].name.text), "Storm surge.csv");
    EXPECT_EQ(found[0].name.size, 5000U);
    EXPECT_EQ(number_of(found[0].name.parent), kFolder);
    EXPECT_EQ(found[0].reference, overwritten == 0 ? make_reference(80, 3) : 0);
    EXPECT_EQ(found[0].name.created.has_value(), overwritten < 32);
  }
}

TEST(NtfsIndexSlack, OneBehindAnother) {
  // The second lost its front when the first was the last one of a shorter index.
  std::string second = index_entry("Readings of the second gauge.csv", 700) + end_of_index();
  second.replace(0, 24, end_of_index() + std::string("\xFF\xFF\xFF\xFF\0\0\0\0", 8));
  const std::vector<Sighting> found =
      slack_of(index_entry("First.txt", 9) + second + std::string(64, '\0'), 0);
  ASSERT_EQ(found.size(), 2U);
  EXPECT_EQ(to_utf8(found[1].name.text), "Readings of the second gauge.csv");
}

TEST(NtfsIndexSlack, TheNameOfAnEarlierFileInTheRecordIsNotAnEntry) {
  // What follows the name there is an attribute, not more of an index.
  std::string bytes = std::string(16, '\0') + file_name("Earlier file.txt", 9);
  bytes.resize((bytes.size() + 7) / 8 * 8);
  bytes += std::string("\x80\0\0\0\x48\0\0\0\1\0\0\0\0\0\0\0", 16) + std::string(64, '\0');
  bytes.replace(0, 24, 24, '\xFF');
  EXPECT_TRUE(slack_of(bytes, 24).empty());
}

TEST(NtfsRecords, NamesBehindTheEndOfAFreeRecord) {
  std::string bytes(56, '\0');
  std::string attribute(24, '\0');
  auto* head = reinterpret_cast<unsigned char*>(attribute.data());
  const std::string value = file_name("Tide table.txt", 300);
  store_little_u32(head, 0xFFFFFFFF);  // the end, where type and length of the attribute were
  store_little_u32(head + 16, static_cast<uint32_t>(value.size()));
  store_little_u16(head + 20, 24);
  head[22] = 1;
  bytes += attribute + value;
  bytes.resize(1024);
  std::vector<std::byte> copy(bytes.size());
  std::ranges::copy(std::as_bytes(std::span(bytes)), copy.begin());
  Record record;
  record.bytes = copy;
  record.header.bytes_in_use = 64;
  const std::vector<FoundName> names = names_behind(record);
  ASSERT_EQ(names.size(), 1U);
  EXPECT_EQ(to_utf8(names[0].text), "Tide table.txt");
  store_little_u16(reinterpret_cast<unsigned char*>(copy.data()) + 56 + 20, 32);
  EXPECT_TRUE(names_behind(record).empty()) << "no attribute holds its value there";
}

class NtfsLostNames : public testing::Test {
 protected:
  void add(uint64_t number, const std::string& name, uint64_t size) {
    const std::string value = file_name(name, size);
    File file;
    file.number = number;
    file.sequence = 1;
    file.in_use = true;
    file.names.push_back(*parse_file_name(std::as_bytes(std::span(value))));
    file.created = file.names[0].created;
    file.modified = file.names[0].modified;
    file.streams.emplace_back();
    file.streams[0].size = size;
    catalogue_.add(file);
    files_[number] = file;
  }
  // What is left once an entry without a reference was seen.
  size_t ghosts_after(const std::string& entry) {
    catalogue_.settle();
    LostNames names(catalogue_, [this](uint64_t number) { return files_[number]; });
    names.add({0, *parse_file_name(std::as_bytes(std::span(entry))), false, {}, {}});
    names.settle();
    former_ = names.of_records().size();
    return names.ghosts().size();
  }

  Catalogue catalogue_{100};
  std::map<uint64_t, File> files_;
  size_t former_ = 0;
};

TEST_F(NtfsLostNames, AnOldNameOfAFileThatIsThereIsNoLostFile) {
  add(80, "New name.csv", 900);
  EXPECT_EQ(ghosts_after(file_name("Old name.csv", 900)), 0U);
  EXPECT_EQ(former_, 1U);
}

TEST_F(NtfsLostNames, OfTwoFilesMadeAtOnceNeitherTakesAName) {
  add(80, "New name.csv", 900);
  add(81, "Another.csv", 900);
  EXPECT_EQ(ghosts_after(file_name("Old name.csv", 900)), 1U);
  EXPECT_EQ(former_, 0U);
}

// An index of ten million names for one file took their square in steps, and memory without end.
TEST_F(NtfsLostNames, OfOneFileAreSoManyAsItMayHave) {
  add(80, "Kept.csv", 900);
  catalogue_.settle();
  LostNames names(catalogue_, [this](uint64_t number) { return files_[number]; });
  constexpr uint64_t kMost = 1024, kTold = 5000;
  for (const uint64_t number : {uint64_t{80}, uint64_t{90}}) {  // one with a record, one without
    for (uint64_t i = 0; i < kTold; ++i) {
      const std::string value = file_name(std::to_string(i) + ".csv", 900);
      names.add({uint64_t{1} << 48 | number,
                 *parse_file_name(std::as_bytes(std::span(value))),
                 false,
                 {},
                 {}});
    }
  }
  names.settle();
  EXPECT_EQ(names.of_records().at(80).names.size(), kMost);
  EXPECT_EQ(names.left_out(), 2 * (kTold - kMost));
  const std::vector<Ghost> ghosts = names.ghosts();
  ASSERT_EQ(ghosts.size(), 1U);
  EXPECT_EQ(ghosts[0].sightings.size(), kMost);
}

}  // namespace
}  // namespace undershelf::test
