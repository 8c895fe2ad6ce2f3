// Damage on an NTFS volume: each costs only what it damages, is counted and reported.
#include <gtest/gtest.h>

#include <boost/endian/conversion.hpp>
#include <functional>
#include <map>
#include <set>

#include "fs/ntfs/entries.h"
#include "fs/ntfs/journal.h"
#include "model/text.h"
#include "scan/scan.h"
#include "shelf/selection.h"
#include "stream/decode.h"
#include "support.h"

namespace undershelf::test {
namespace {

using boost::endian::load_little_u16;
using boost::endian::load_little_u32;

constexpr size_t kRecord = 1024;

class NtfsDamage : public testing::Test {
 protected:
  void SetUp() override { image_ = sample("ntfs-office"); }

  const unsigned char* at(size_t offset) const {
    return reinterpret_cast<const unsigned char*>(image_.data()) + offset;
  }
  static std::string utf16(const std::string& text) {
    std::string out;
    for (const char16_t unit : to_utf16(text)) {
      out += static_cast<char>(unit & 0xFF);
      out += static_cast<char>(unit >> 8);
    }
    return out;
  }
  // The FILE record in use, or not, that holds a name.
  size_t record(const std::string& name, bool in_use = true) const {
    const std::string wanted = utf16(name);
    for (size_t found = image_.find(wanted); found != std::string::npos;
         found = image_.find(wanted, found + 1)) {
      const size_t start = found / kRecord * kRecord;
      if (image_.compare(start, 4, "FILE") != 0 || (image_[start + 22] & 1) != in_use) continue;
      const size_t own = attribute(start, 0x30);  // a folder's record may hold names of others
      if (found >= own && found < own + load_little_u32(at(own + 4))) return start;
    }
    ADD_FAILURE() << name;
    return 0;
  }
  // The attribute of a type in a record.
  size_t attribute(size_t record, uint32_t type) const {
    size_t offset = record + load_little_u16(at(record + 20));
    while (load_little_u32(at(offset)) != type) {
      if (load_little_u32(at(offset)) == 0xFFFFFFFF) {
        ADD_FAILURE() << "no attribute " << type;
        return offset;
      }
      offset += load_little_u32(at(offset + 4));
    }
    return offset;
  }
  size_t runs(size_t record, uint32_t type = 0x80) const {
    const size_t data = attribute(record, type);
    EXPECT_EQ(image_[data + 8], 1) << "resident";
    return data + load_little_u16(at(data + 32));
  }
  size_t cluster_of(size_t record, uint32_t type = 0x80) const {
    const size_t list = runs(record, type);
    const size_t length = image_[list] & 0x0F;
    size_t cluster = 0;
    for (size_t i = image_[list] >> 4; i > 0; --i) cluster = cluster << 8 | *at(list + length + i);
    return cluster;
  }

  std::vector<Json> scan(const std::string& image, int code) {
    write_file(folder_.path("disk.img"), image);
    const Outcome outcome = undershelf(
        {"scan", folder_.path("disk.img"), "--shelf", folder_.path("shelf"), "--replace"});
    EXPECT_EQ(outcome.code, code) << outcome.err;
    EXPECT_EQ(outcome.err.find("Damage was met") != std::string::npos, code == 1) << outcome.err;
    return undershelf({"list", folder_.path("shelf"), "--format", "jsonl"}).lines();
  }
  // What is listed after the damage, as against the sound volume: only `paths` may differ.
  std::map<std::string, Json> expect_only(const std::set<std::string>& paths) {
    std::map<std::string, Json> sound = by_path(scan(sample("ntfs-office"), 0));
    std::map<std::string, Json> damaged = by_path(scan(image_, 1));
    for (const auto& [path, row] : sound) {
      if (paths.contains(path)) continue;
      EXPECT_TRUE(damaged.contains(path)) << path;
      EXPECT_EQ(damaged[path], row) << path;
    }
    return damaged;
  }
  static std::map<std::string, Json> by_path(const std::vector<Json>& rows) {
    std::map<std::string, Json> found;
    for (Json row : rows) {
      row.erase("id");
      const std::string key =
          row["state"].get<std::string>() + " " + row["path"].get<std::string>();
      found[key] = std::move(row);
    }
    return found;
  }

  static constexpr const char* kReport = "Tide report 20 of the north pier.txt";
  static constexpr const char* kOther = "Tide report 21 of the north pier.txt";
  const std::string live_report_ = std::string("live Reports/2025/") + kReport;
  const std::string live_other_ = std::string("live Reports/2025/") + kOther;
  TempFolder folder_;
  std::string image_;
};

TEST_F(NtfsDamage, TornRecord) {
  put16(image_, record(kReport) + 510, 0x5555);
  const auto rows = expect_only({live_report_});
  EXPECT_EQ(rows.at(live_report_)["rating"], "likely") << "still readable, no longer certain";
}

TEST_F(NtfsDamage, RunsBeyondTheVolume) {
  const size_t list = runs(record(kReport));
  ASSERT_GE(image_[list] >> 4, 2);
  put16(image_, list + 1 + (image_[list] & 0x0F), 0x7FFF);
  const auto rows = expect_only({live_report_});
  EXPECT_EQ(rows.at(live_report_)["rating"], "gone");
}

TEST_F(NtfsDamage, OverlappingRuns) {
  const size_t mine = runs(record(kReport));
  const size_t its = runs(record(kOther));
  ASSERT_EQ(image_[mine], image_[its]);
  const size_t length = static_cast<size_t>(image_[mine] & 0x0F);
  image_.replace(mine + 1 + length, 2, image_, its + 1 + length, 2);
  const auto rows = expect_only({live_report_, live_other_});
  EXPECT_EQ(rows.at(live_report_)["rating"], "partial");
  EXPECT_EQ(rows.at(live_other_)["rating"], "partial");
}

TEST_F(NtfsDamage, AttributeOfNoLength) {
  put32(image_, attribute(record(kReport), 0x80) + 4, 0);
  const auto rows = expect_only({live_report_});
  EXPECT_EQ(rows.at(live_report_)["rating"], "gone");
}

TEST_F(NtfsDamage, AttributeListThatListsItself) {
  const std::string scattered = "Scattered B.bin";
  // The name stands in an extension record, which names its base.
  const size_t base = record("$MFT") + load_little_u32(at(record(scattered) + 32)) * kRecord;
  const size_t list = attribute(base, 0x20);
  const size_t value = cluster_of(base, 0x20) * 4096;
  const size_t end = value + load_little_u32(at(list + 48));
  const std::string own = image_.substr(value + 16, 8);  // of the first entry: the base itself
  for (size_t entry = value; entry < end; entry += load_little_u16(at(entry + 4))) {
    image_.replace(entry + 16, 8, own);
  }
  // The extension records still name their base: nothing is lost.
  const auto rows = by_path(scan(image_, 0));
  EXPECT_EQ(rows, by_path(scan(sample("ntfs-office"), 0)));
}

TEST_F(NtfsDamage, FolderThatIsItsOwnAncestor) {
  const size_t folder = record("Reports");
  const size_t name = attribute(folder, 0x30);
  const uint32_t number = load_little_u32(at(folder + 44));
  put32(image_, name + 24, number);
  put32(image_, name + 28, uint32_t{load_little_u16(at(folder + 16))} << 16);
  const auto rows = scan(image_, 0);
  EXPECT_EQ(rows.size(), by_path(rows).size());
  size_t orphans = 0;
  for (const Json& row : rows) orphans += row["path"].get<std::string>().starts_with("[orphans]");
  EXPECT_GT(orphans, 30U);
  EXPECT_EQ(rows.size(), scan(sample("ntfs-office"), 0).size());
}

TEST_F(NtfsDamage, IndexBlockOfRubbish) {
  const std::string entry = utf16(kReport);
  size_t found = 0;
  for (size_t block = 0; block + 4096 <= image_.size(); block += 4096) {
    if (image_.compare(block, 4, "INDX") != 0) continue;
    if (image_.substr(block, 4096).find(entry) == std::string::npos) continue;
    for (size_t i = 8; i < 4096; ++i) image_[block + i] = static_cast<char>(i * 37 >> 2);
    ++found;
  }
  ASSERT_GT(found, 0U);
  expect_only({});
}

TEST_F(NtfsDamage, CompressedUnitThatDoesNotDecompress) {
  const std::string path = "Packed/Soundings 3.csv";
  const size_t place = cluster_of(record("Soundings 3.csv")) * 4096;
  for (size_t i = 2; i < 600; ++i) image_[place + i] = '\xFF';
  scan(image_, 0);
  const std::string bag = folder_.path("bag");
  const Outcome exported =
      undershelf({"export", folder_.path("shelf"), "--to", bag, "--path", path});
  EXPECT_EQ(exported.code, 1) << exported.err;
  const Json record = shell("cat " + quoted(bag + "/exported.jsonl")).lines().at(0);
  ASSERT_EQ(record["missing"].size(), 1U) << record;
  EXPECT_EQ(record["missing"][0]["length"], 65536) << "one unit";
  EXPECT_EQ(record["missing"][0]["offset"], 0);
}

TEST_F(NtfsDamage, EveryThirdRecordUnreadable) {
  const size_t mft = record("$MFT");
  std::vector<ByteRange> bad;
  size_t lost = 0;
  for (size_t number = 32; image_.compare(mft + number * kRecord, 4, "FILE") == 0; ++number) {
    const size_t here = mft + number * kRecord;
    if (number % 3 != 0) continue;
    bad.push_back({here, kRecord});
    lost += image_[here + 22] & 1;
  }
  ASSERT_GT(lost, 10U);
  const auto source = std::make_shared<MemorySource>(image_, bad);
  Shelf shelf = Shelf::create(folder_.path("shelf"), identify("made up", *source), {});
  const ScanResult result = undershelf::scan(shelf, source, {});
  EXPECT_GE(result.damage, bad.size());
  // The indexes of folders still name what the records would tell.
  std::set<std::string> listed;
  size_t whole = 0;
  each_row(shelf, {}, [&](const Row& row) {
    listed.insert(row.path);
    whole += row.state == "live" && row.rating == "whole";
    return true;
  });
  for (const Json& one : truth("ntfs-office")) {
    const std::string path = one["path"];
    // The record of the folder Archive is lost, and held the names of what is in it.
    if (one["state"] != "live" || path.starts_with("Archive/")) continue;
    EXPECT_TRUE(listed.contains(path)) << path;
  }
  EXPECT_GT(whole, 25U);
}

struct Headless {
  const char* name;
  std::vector<std::pair<int64_t, size_t>> wiped;  // offsets (from the end if negative), lengths
  int code;
};
class HeadlessNtfs : public NtfsDamage, public testing::WithParamInterface<Headless> {};

TEST_P(HeadlessNtfs, ComesBackAsIfItsHeadWereThere) {
  const auto sound = by_path(scan(image_, 0));
  for (const auto& [offset, length] : GetParam().wiped) {
    const auto begin =
        static_cast<size_t>(offset >= 0 ? offset : static_cast<int64_t>(image_.size()) + offset);
    image_.replace(begin, length, length, '\0');
  }
  EXPECT_EQ(by_path(scan(image_, GetParam().code)), sound);
}

INSTANTIATE_TEST_SUITE_P(Volumes, HeadlessNtfs,
                         testing::Values(Headless{"boot", {{0, 512}}, 0},
                                         Headless{"bootAndBackup", {{0, 512}, {-512, 512}}, 0},
                                         Headless{"firstRecord", {{16384, 1024}}, 0},
                                         Headless{"firstRecords", {{16384, 4096}}, 0}),
                         [](const auto& one) { return std::string(one.param.name); });

TEST_F(NtfsDamage, ShortRecordsAndRubbishNeverCrash) {
  const size_t folder = record("Reports");
  for (const size_t offset : {4, 6, 20, 22, 24, 28, 48, 60, 64, 72}) {
    std::string damaged = image_;
    put32(damaged, folder + offset, 0xFFFFFFFF);
    write_file(folder_.path("disk.img"), damaged);
    const Outcome outcome = undershelf(
        {"scan", folder_.path("disk.img"), "--shelf", folder_.path("shelf"), "--replace"});
    ASSERT_TRUE(outcome.code == 0 || outcome.code == 1) << offset << " " << outcome.err;
  }
}

TEST_F(NtfsDamage, EncryptedFilesAreSaidToBeSo) {
  scan(image_, 0);
  const auto rows = undershelf({"list", folder_.path("shelf"), "--name", "Sealed tender.bin",
                                "--format", "jsonl"})
                        .lines();
  ASSERT_EQ(rows.size(), 2U) << "with the stream of its keys";
  const std::string shown =
      undershelf({"show", folder_.path("shelf"), std::to_string(rows[0]["id"].get<int64_t>())}).out;
  EXPECT_NE(shown.find("opens only with its owner's key"), std::string::npos) << shown;
}

// LZNT1 by hand ([MS-XCA] 3.1): a literal run and one back reference.
TEST(Lznt1, DecodesAndRefuses) {
  const auto decode = [](std::initializer_list<unsigned> stored, size_t size) {
    std::vector<std::byte> in;
    for (const unsigned byte : stored) in.push_back(static_cast<std::byte>(byte));
    std::string out(size, '?');
    const bool good = decode_lznt1(in, std::as_writable_bytes(std::span(out)));
    return std::pair{good, out};
  };
  // "tide" and then six bytes from four back.
  const auto [good, text] =
      decode({0x06, 0xB0, 0x10, 't', 'i', 'd', 'e', 0x03, 0x30, 0x00, 0x00}, 12);
  EXPECT_TRUE(good);
  EXPECT_EQ(text, std::string("tidetideti\0\0", 12));
  EXPECT_FALSE(decode({0x02, 0xB0, 0x01, 0x00, 0x00}, 8).first) << "refers to nothing";
  EXPECT_FALSE(decode({0xFF, 0xBF, 0x00, 'a'}, 8).first) << "ends before its chunk does";
}

// A file that was deleted while it was open waits in $Extend\$Deleted under a made-up name: it is
// shown where it was, if anything tells.
TEST(NtfsEntries, AFileThatWaitedToBeDeletedIsShownWhereItWas) {
  const auto named = [](uint64_t number, uint64_t parent, std::u16string text) {
    ntfs::File file;
    file.number = number;
    file.sequence = 1;
    file.in_use = file.folder = true;
    ntfs::FoundName name;
    name.parent = ntfs::make_reference(parent, 1);
    name.text = std::move(text);
    file.names.push_back(std::move(name));
    return file;
  };
  ntfs::Catalogue catalogue(64);
  ntfs::EntryMaker maker(catalogue, 1 << 20);
  maker.live(named(29, ntfs::kExtend, u"$Deleted"));
  ntfs::File file = named(40, 29, u"0028000000000001");
  file.in_use = file.folder = false;
  EXPECT_EQ(maker.deleted(file, nullptr).name.text, "0028000000000001");
  ntfs::LostNames::Known known;
  known.names.push_back({0, named(40, 35, u"TG03 draft.csv").names[0], false, Time{10}, {}});
  known.names.push_back({0, named(40, 35, u"TG03.csv").names[0], false, Time{20}, {}});
  known.deleted = Time{30};
  const Entry entry = maker.deleted(file, &known);
  EXPECT_EQ(entry.name.text, "TG03.csv");
  ASSERT_EQ(entry.other_names.size(), 2U);
  EXPECT_EQ(entry.other_names[0].name.text, "TG03 draft.csv");
  EXPECT_EQ(entry.other_names[1].name.text, "0028000000000001");
  EXPECT_EQ(entry.deleted, Time{30});
}

// Records of version 3 (128-bit references) and pages that begin with rubbish.
TEST(ChangeJournal, ReadsBothVersionsAndStepsOverRubbish) {
  const auto record = [](unsigned major, uint64_t file, const std::u16string& name) {
    const size_t width = major == 2 ? 8 : 16;
    const size_t name_at = 8 + 2 * width + 36;
    std::string out((name_at + 2 * name.size() + 7) / 8 * 8, '\0');
    put32(out, 0, static_cast<uint32_t>(out.size()));
    put16(out, 4, major);
    put32(out, 8, static_cast<uint32_t>(file));
    put32(out, 8 + width, 5);
    put32(out, 8 + 2 * width + 8, 0xD53E8000);
    put32(out, 8 + 2 * width + 12, 0x019DB1DE);
    put32(out, 8 + 2 * width + 16, 0x200);
    put16(out, name_at - 4, static_cast<unsigned>(2 * name.size()));
    put16(out, name_at - 2, static_cast<unsigned>(name_at));
    for (size_t i = 0; i < name.size(); ++i) put16(out, name_at + 2 * i, name[i]);
    return out;
  };
  std::string page =
      std::string(24, '\x7F') + record(2, 40, u"TG03.CSV") + record(3, 41, u"潮.txt");
  page.resize(4096);
  std::vector<std::pair<uint64_t, std::u16string>> found;
  ntfs::read_change_journal(MemorySource(page), {{0, 4096}}, [&](const ntfs::Sighting& s) {
    EXPECT_TRUE(s.deleted);
    found.emplace_back(s.reference, s.name.text);
  });
  ASSERT_EQ(found.size(), 2U);
  EXPECT_EQ(found[0], (std::pair<uint64_t, std::u16string>{40, u"TG03.CSV"}));
  EXPECT_EQ(found[1].second, u"潮.txt");
}

}  // namespace
}  // namespace undershelf::test
