// Deep scans: volumes that were formatted over, against what is known to be true of them, and
// volumes whose headers, tables and maps are gone.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <filesystem>
#include <map>
#include <random>
#include <set>
#include <thread>

#include "model/budget.h"
#include "model/text.h"
#include "source/by_two.h"
#include "support.h"
#include "sweep/sweep.h"

namespace undershelf::test {
namespace {

std::string last_part(const std::string& path) { return path.substr(path.rfind('/') + 1); }

std::string folder_part(const std::string& path) {
  const size_t slash = path.rfind('/');
  return slash == std::string::npos ? "" : last_part(path.substr(0, slash));
}

// Rows as they are on any shelf of the same source.
std::multiset<std::string> without_id(std::vector<Json> rows) {
  std::multiset<std::string> texts;
  for (Json& row : rows) {
    row.erase("id");
    row.erase("volume");
    texts.insert(row.dump());
  }
  return texts;
}

class Formatted : public testing::TestWithParam<const char*> {
 protected:
  // A sample and its deep scan, made once for all tests of a process, which leave it as it is.
  struct Scanned {
    TempFolder folder;
    std::string image = folder.path("card.img");
    std::string shelf = folder.path("card.shelf");
    Outcome outcome;
    std::vector<Json> rows;
  };
  static const Scanned& scanned(const std::string& name) {
    static std::map<std::string, Scanned> all;
    const auto [at, made] = all.try_emplace(name);
    Scanned& one = at->second;
    if (made) {
      write_file(one.image, sample(name));
      one.outcome = undershelf({"scan", one.image, "--shelf", one.shelf, "--depth", "deep"});
      one.rows = rows_of(one.shelf);
    }
    return one;
  }
  void SetUp() override { ASSERT_EQ(scanned_.outcome.code, 0) << scanned_.outcome.err; }

  std::vector<const Json*> find(const Json& one) const {
    std::vector<const Json*> found;
    const std::string name = last_part(one["path"]);
    for (const Json& row : rows_) {
      if (row["state"] != one["state"] || row["kind"] != one["kind"]) continue;
      // Without its long name, the first letter of a deleted file on FAT is lost.
      std::string shown = row["name"];
      if (row["marked_deleted"] == true && shown.starts_with('_')) shown[0] = name[0];
      if (shown == name) found.push_back(&row);
    }
    return found;
  }

  TempFolder folder_;
  const Scanned& scanned_ = scanned(GetParam());
  const std::string& image_ = scanned_.image;
  const std::string& shelf_ = scanned_.shelf;
  const std::vector<Json>& rows_ = scanned_.rows;
};

TEST_P(Formatted, WhateverIsStillNamedIsListedOnceInItsFolder) {
  std::set<int64_t> expected;
  size_t told = 0;
  for (const Json& one : truth(GetParam())) {
    const auto found = find(one);
    for (const Json* row : found) expected.insert((*row)["id"].get<int64_t>());
    if (!one.value("told", true)) continue;
    ++told;
    ASSERT_EQ(found.size(), 1U) << one["path"];
    const Json& row = *found[0];
    const std::string path = one["path"];
    if (one["state"] == "live") {
      EXPECT_EQ(row["path"], path);
    } else if (one["parent_told"] == true) {
      EXPECT_EQ(folder_part(row["path"]), folder_part(path)) << row["path"];
    }
    if (one["kind"] != "file" || !one.value("placed", true)) continue;
    EXPECT_EQ(row["size"], one["size"]) << path;
    const auto second = [](const Json& time) { return time.dump().substr(0, 20); };
    EXPECT_EQ(second(row["modified"]), second(one["modified"])) << path;
  }
  EXPECT_GT(told, 40U);
  std::set<std::string> contents;
  for (const Json& one : truth(GetParam())) {
    if (one["kind"] == "file") contents.insert(one["sha256"]);
  }
  for (const Json& row : rows_) {
    if (row["state"] == "carved") {
      // What is known by its content alone was a file whose name, or whose place, is lost.
      EXPECT_TRUE(row["kind"] == "folder" || contents.contains(row["sha256"])) << row["path"];
      continue;
    }
    const bool made_up = row["name"].get<std::string>().starts_with("[folder ");
    EXPECT_TRUE(made_up || expected.contains(row["id"].get<int64_t>())) << row["path"];
  }
}

TEST_P(Formatted, EveryByteThatSurvivedComesBackAndNothingIsPromisedFalsely) {
  const auto hashes = exported(shelf_, folder_.path("bag"));
  size_t whole = 0;
  for (const Json& one : truth(GetParam())) {
    if (one["kind"] != "file" || !one.value("told", true)) continue;
    const Json& row = *find(one).front();
    const auto hash = hashes.find(row["id"].get<int64_t>());
    const bool same = hash != hashes.end() && hash->second == one["sha256"];
    const bool survived = one["surviving_bytes"] == one["size"] && one.value("placed", true);
    EXPECT_TRUE(same || !survived) << one["path"] << " " << row["rating"];
    const bool promised = row["rating"] == "whole" || row["rating"] == "likely";
    EXPECT_TRUE(same || !promised) << one["path"] << " " << row["score"];
    whole += same;
  }
  EXPECT_GE(whole, 2U);  // the new ones at least
}

TEST_P(Formatted, FormerVolumesAreNamedAsSuchAndKeptApart) {
  const auto volumes = undershelf({"volumes", shelf_, "--format", "jsonl"}).lines();
  // The sample's name says what it was.
  const std::string name = GetParam();
  ASSERT_EQ(volumes.size(), name.ends_with("-twice") ? 3U : 2U);
  EXPECT_EQ(volumes[0]["standing"], "current");
  EXPECT_EQ(volumes[0]["live"], 2);
  for (size_t i = 1; i < volumes.size(); ++i) {
    EXPECT_EQ(volumes[i]["standing"], "former");
    EXPECT_GT(volumes[i]["former"], 40);
    const std::string system = volumes[i]["file_system"];
    EXPECT_TRUE(name.starts_with("formatted-" + system)) << system;
  }
  std::map<int64_t, std::set<bool>> lives;  // by volume: the first or the second
  for (const Json& one : truth(name)) {
    const std::string path = one["path"];
    if (one["state"] != "former" || !one.value("told", true)) continue;
    const bool second = path.starts_with("Second survey") || path.starts_with("Logbook");
    lives[(*find(one).front())["volume"]].insert(second);
  }
  EXPECT_EQ(lives.size(), volumes.size() - 1);
  for (const auto& [volume, life] : lives) EXPECT_EQ(life.size(), 1U) << volume;
}

TEST_P(Formatted, AKilledSweepGoesOnAndQuickFindsKeepTheirIds) {
  const std::string shelf = folder_.path("second.shelf");
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf}).code, 0);
  const std::vector<Json> quick = rows_of(shelf);
  ASSERT_EQ(
      undershelf({"scan", image_, "--shelf", shelf, "--depth", "deep", "--to", "8388608"}).code, 0);
  const auto expect_quick_ids_kept = [&] {
    std::map<int64_t, Json> deep;
    for (const Json& row : rows_of(shelf)) deep[row["id"]] = row;
    for (const Json& row : quick) EXPECT_EQ(deep[row["id"].get<int64_t>()]["path"], row["path"]);
  };
  expect_quick_ids_kept();
  // As a killed scan leaves it: a part of the source was looked at, nothing was put together.
  {
    SQLite::Database db(shelf, SQLite::OPEN_READWRITE);
    db.exec("UPDATE sweep SET length=" + std::to_string(std::filesystem::file_size(image_)));
    for (const char* table : {"streams", "names", "evidence", "structures"}) {
      db.exec(std::string("DELETE FROM ") + table +
              " WHERE entry IN (SELECT id FROM entries WHERE state='former')");
    }
    db.exec("DELETE FROM entries WHERE state='former'");
    db.exec("DELETE FROM volumes WHERE standing='former'");
    db.exec("UPDATE scans SET state='running', ended=NULL WHERE depth='deep'");
  }
  const Outcome again = undershelf({"scan", image_, "--shelf", shelf, "--depth", "deep"});
  ASSERT_EQ(again.code, 0) << again.err;
  EXPECT_EQ(without_id(rows_of(shelf)), without_id(rows_));
  expect_quick_ids_kept();
}

TEST_P(Formatted, AStoppedSweepShowsWhatItFoundAndIsCorrectedLater) {
  const std::string shelf = folder_.path("second.shelf");
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf, "--depth", "deep", "--to", "9M"}).code,
            0);
  const std::vector<Json> some = rows_of(shelf);
  // As if that had been a scan of the whole source, stopped there.
  {
    SQLite::Database db(shelf, SQLite::OPEN_READWRITE);
    db.exec("UPDATE sweep SET length=" + std::to_string(std::filesystem::file_size(image_)));
    db.exec("UPDATE scans SET state='stopped' WHERE depth='deep'");
  }
  const Outcome again = undershelf({"scan", image_, "--shelf", shelf, "--depth", "deep"});
  ASSERT_EQ(again.code, 0) << again.err;
  std::map<int64_t, Json> all;
  for (const Json& row : rows_of(shelf)) all[row["id"]] = row;
  for (const Json& row : some) {
    const auto now = all.find(row["id"].get<int64_t>());
    if (now == all.end() || row["path_exact"] != true) continue;
    EXPECT_EQ(now->second["name"], row["name"]);
    EXPECT_EQ(now->second["kind"], row["kind"]);
  }
  EXPECT_EQ(without_id(rows_of(shelf)), without_id(rows_));
  EXPECT_EQ(undershelf({"volumes", shelf, "--format", "jsonl"}).lines().size(),
            undershelf({"volumes", shelf_, "--format", "jsonl"}).lines().size());
  SQLite::Database db(shelf);
  for (const char* table : {"streams", "names", "structures", "evidence"}) {
    const std::string dangling = std::string("SELECT count(*) FROM ") + table +
                                 " WHERE entry NOT IN (SELECT id FROM entries)";
    EXPECT_EQ(db.execAndGet(dangling).getInt(), 0) << table;
  }
}

// Under the sanitizers, where the rest shows nothing new, each system once over itself and once
// over another.
std::vector<const char*> formatted_samples() {
  std::vector<const char*> names = {"formatted-fat32-again",    "formatted-exfat-to-fat32",
                                    "formatted-exfat-clusters", "formatted-ntfs-again",
                                    "formatted-ntfs-to-exfat",  "formatted-hfsplus-twice",
                                    "formatted-hfsplus-to-ntfs"};
  if (UNDERSHELF_SANITIZED) return names;
  names.insert(names.end(),
               {"formatted-fat32-clusters", "formatted-fat32-to-ntfs", "formatted-exfat-again",
                "formatted-ntfs-clusters", "formatted-ntfs-to-fat32", "formatted-hfsplus-again",
                "formatted-hfsplus-clusters"});
  return names;
}

INSTANTIATE_TEST_SUITE_P(Samples, Formatted, testing::ValuesIn(formatted_samples()),
                         [](const auto& sample_info) {
                           std::string name = sample_info.param;
                           std::erase(name, '-');
                           return name;
                         });

// Damage that a quick scan cannot get past.
struct Wiped {
  const char* sample;
  std::vector<ByteRange> gone;  // bytes of the image; an offset above 2^63 counts from its end
};

constexpr uint64_t from_end(uint64_t bytes) { return UINT64_MAX - bytes + 1; }

void PrintTo(const Wiped& wiped, std::ostream* out) { *out << wiped.sample; }

class Damaged : public testing::TestWithParam<Wiped> {};

TEST_P(Damaged, TheTreeComesBackAsIfItWereThere) {
  const TempFolder folder;
  std::string image = sample(GetParam().sample);
  for (const ByteRange& range : GetParam().gone) {
    const uint64_t at = range.offset < image.size() ? range.offset : image.size() + range.offset;
    image.replace(at, range.length, range.length, '\0');
  }
  write_file(folder.path("card.img"), image);
  const std::string shelf = folder.path("shelf");
  const auto scan = [&](const char* check) {
    const Outcome outcome = undershelf(
        {"scan", folder.path("card.img"), "--shelf", shelf, "--depth", "deep", "--check", check});
    EXPECT_LE(outcome.code, 1) << outcome.err;
    std::map<int64_t, std::string> paths;
    for (const Json& row : rows_of(shelf)) {
      if (row["state"] != "carved") paths[row["id"]] = row["path"];
    }
    return paths;
  };
  // What only the sweep leads to is put together by each deep scan, and lost by none.
  const std::map<int64_t, std::string> first = scan("sample");
  EXPECT_EQ(scan("full"), first);
  const auto hashes = exported(shelf, folder.path("bag"));
  const std::vector<Json> rows = rows_of(shelf);
  size_t files = 0;
  size_t here = 0;
  for (const Json& one : truth(GetParam().sample)) {
    if (one["kind"] != "file" || one["state"] != "live") continue;
    ++files;
    for (const Json& row : rows) {
      if (last_part(row["path"]) != last_part(one["path"]) || row["state"] != "live") continue;
      const auto hash = hashes.find(row["id"].get<int64_t>());
      if (hash == hashes.end() || hash->second != one["sha256"]) continue;
      ++here;
      break;
    }
  }
  EXPECT_EQ(here, files);
  const auto volumes = undershelf({"volumes", shelf, "--format", "jsonl"}).lines();
  ASSERT_EQ(volumes.size(), 1U);
  EXPECT_EQ(volumes[0]["standing"], "current");
}

INSTANTIATE_TEST_SUITE_P(
    Volumes, Damaged,
    testing::Values(
        Wiped{"exfat-camera", {{0, 24 * 512}}},  // both boot regions
        Wiped{"exfat-camera-fuse", {{0, 24 * 512}}},
        Wiped{"ntfs-4k-sectors", {{0, 4096}, {from_end(4096), 4096}}},  // both boot sectors
        Wiped{"ntfs-64k-clusters", {{0, 512}, {from_end(512), 512}}},
        Wiped{"hfsplus-charts", {{1024, 512}, {from_end(1024), 512}}},  // both volume headers
        Wiped{"hfsplus-charts", {{40960, 512}}},                        // the header of the catalog
        Wiped{"hfsplus-journal",  // both of them, and the header of the catalog
              {{1024, 512}, {from_end(1024), 512}, {40960, 512}}},
        Wiped{"hfsplus-pieces",  // likewise, and the catalog lies in many pieces
              {{1024, 512}, {from_end(1024), 512}, {40960, 4096}}},
        Wiped{"fat32-logger", {{0, 16 * 512}}}));  // the boot sector and its backup

// Maps that are gone: the same volumes are found where they lie.
TEST(Maps, VolumesAreFoundWithoutTheirMap) {
  for (const char* name : {"disk-gpt", "disk-mbr-logical"}) {
    const TempFolder folder;
    std::string image = sample(name);
    image.replace(0, 40 * 512, 40 * 512, '\0');
    image.replace(image.size() - 40 * 512, 40 * 512, 40 * 512, '\0');
    write_file(folder.path("disk.img"), image);
    const std::string shelf = folder.path("shelf");
    const Outcome outcome =
        undershelf({"scan", folder.path("disk.img"), "--shelf", shelf, "--depth", "deep"});
    EXPECT_EQ(outcome.code, 0) << outcome.err;
    const auto volumes = undershelf({"volumes", shelf, "--format", "jsonl"}).lines();
    const std::vector<Json> expected = truth(name);
    EXPECT_EQ(volumes.size(), expected.size()) << outcome.err;
    for (const Json& one : expected) {
      const auto found = std::ranges::find(
          volumes, one["offset"], [](const Json& v) -> const Json& { return v["offset"]; });
      ASSERT_NE(found, volumes.end()) << one;
      EXPECT_EQ((*found)["standing"], "current");
      int64_t files = 0;
      for (const Json& row : truth(one["sample"])) {
        files += row["kind"] == "file" && row["state"] == "live";
      }
      EXPECT_EQ((*found)["live"], files);
    }
  }
}

// A disk that was divided anew, and not formatted since: the map tells of none of its volumes.
TEST(Maps, VolumesAreFoundUnderAnotherMap) {
  const TempFolder folder;
  std::string image = sample("disk-gpt");
  image.replace(0, 40 * 512, 40 * 512, '\0');
  image.replace(image.size() - 40 * 512, 40 * 512, 40 * 512, '\0');
  // One partition from 20 MiB to 30 MiB, across the first volume.
  image[446 + 4] = 0x0C;
  put32(image, 446 + 8, 20 << 11);
  put32(image, 446 + 12, 10 << 11);
  put16(image, 510, 0xAA55);
  write_file(folder.path("disk.img"), image);
  const Outcome survey = undershelf({"survey", folder.path("disk.img")});
  EXPECT_NE(survey.out.find("lies in no partition"), std::string::npos) << survey.out;
  const std::string shelf = folder.path("shelf");
  EXPECT_EQ(undershelf({"scan", folder.path("disk.img"), "--shelf", shelf, "--depth", "deep"}).code,
            0);
  const auto volumes = undershelf({"volumes", shelf, "--format", "jsonl"}).lines();
  ASSERT_EQ(volumes.size(), 2U);
  for (const Json& one : truth("disk-gpt")) {
    const auto found = std::ranges::find(volumes, one["offset"],
                                         [](const Json& v) -> const Json& { return v["offset"]; });
    ASSERT_NE(found, volumes.end()) << one;
    EXPECT_EQ((*found)["standing"], "current");
    EXPECT_GT((*found)["live"], 0);
  }
}

// A disk that was divided anew and formatted, from within one old volume to behind another: both
// come back with all their living files; what is promised of those is true.
TEST(Maps, OldVolumesComeBackFromUnderANewOne) {
  const TempFolder folder;
  const std::string shelf = folder.path("shelf");
  write_file(folder.path("disk.img"), sample("disk-repartitioned"));
  ASSERT_EQ(undershelf({"scan", folder.path("disk.img"), "--shelf", shelf, "--depth", "deep"}).code,
            0);
  const auto hashes = exported(shelf, folder.path("bag"));
  const auto volumes = undershelf({"volumes", shelf, "--format", "jsonl"}).lines();
  ASSERT_EQ(volumes.size(), 3U);
  EXPECT_EQ(volumes[0]["label"], "NEW");
  EXPECT_EQ(volumes[0]["live"], 3);
  for (const Json& one : truth("disk-repartitioned")) {
    const auto volume = std::ranges::find(volumes, one["offset"],
                                          [](const Json& v) -> const Json& { return v["offset"]; });
    ASSERT_NE(volume, volumes.end()) << one;
    EXPECT_EQ((*volume)["standing"], "former");
    std::map<std::string, Json> rows;
    size_t listed = 0;
    for (const Json& row : rows_of(shelf, {"--volume", (*volume)["id"].dump()})) {
      listed += row["kind"] == "file";
      rows[row["path"]] = row;
    }
    size_t told = 0;
    size_t right = 0;
    size_t live = 0;
    for (const Json& file : truth(one["sample"])) {
      told += file["kind"] == "file";
      if (file["kind"] != "file" || file["state"] != "live") continue;
      ++live;
      ASSERT_TRUE(rows.contains(file["path"])) << file["path"];
      const Json& row = rows[file["path"]];
      const bool same = hashes.contains(row["id"]) && hashes.at(row["id"]) == file["sha256"];
      right += same;
      const bool promised = row["rating"] == "likely" || row["rating"] == "whole";
      EXPECT_TRUE(same || !promised) << row;
    }
    EXPECT_EQ(listed, told) << "no file twice";
    EXPECT_GT(2 * right, live);
  }
}

// The record of the change journal of ntfs-office.
size_t journal_record(const std::string& image) {
  const std::string name("$\0U\0s\0n\0J\0r\0n\0l\0", 16);
  for (size_t at = 0; at + 1024 <= image.size(); at += 1024) {
    const std::string_view record = std::string_view(image).substr(at, 1024);
    if (record.starts_with("FILE") && record.find(name) != std::string_view::npos) return at;
  }
  return 0;
}

// Paths with times of deletion.
std::map<std::string, Json> deletions(const std::string& shelf) {
  std::map<std::string, Json> found;
  for (const Json& row : rows_of(shelf)) {
    const std::string path = row["path"];
    if (path.find("$UsnJrnl") == std::string::npos) found[path] = row["deleted"];
  }
  return found;
}

// Writes an image and scans it; the path of the shelf.
std::string scanned(const TempFolder& folder, const std::string& name, const std::string& image,
                    const std::string& depth) {
  write_file(folder.path(name + ".img"), image);
  const std::string shelf = folder.path(name);
  const Outcome outcome =
      undershelf({"scan", folder.path(name + ".img"), "--shelf", shelf, "--depth", depth});
  EXPECT_EQ(outcome.code, 0) << outcome.err;
  return shelf;
}

// Pages of a journal that was switched off lie in free space: they name the same files as before.
TEST(FreeJournals, AddToAPresentVolume) {
  const TempFolder folder;
  std::string image = sample("ntfs-office");
  const auto whole = deletions(scanned(folder, "whole", image, "quick"));
  const size_t record = journal_record(image);
  ASSERT_GT(record, 0U);
  image[record + 22] = 0;  // not in use any more
  const std::string shelf = scanned(folder, "off", image, "quick");
  const auto quick = rows_of(shelf);
  EXPECT_NE(deletions(shelf), whole);
  scanned(folder, "off", image, "deep");
  EXPECT_EQ(deletions(shelf), whole);
  EXPECT_EQ(rows_of(shelf).size(), quick.size() + 1) << "known entries got what was not known";
  // What lies in free space was lost where the volume had no boot sector any more.
  image.replace(0, 512, 512, '\0');
  image.replace(image.size() - 512, 512, 512, '\0');
  EXPECT_EQ(deletions(scanned(folder, "headless", image, "deep")), whole);
}

// Likewise where boot sectors, the beginning of $MFT, its mirror and the journal's record are gone;
// and where the whole of $MFT is.
TEST(FreeJournals, TellTheNamesOfALostVolume) {
  const TempFolder folder;
  std::string image = sample("ntfs-office");
  const auto whole = deletions(scanned(folder, "whole", image, "quick"));
  constexpr size_t kCluster = 4096;
  const size_t table = kCluster * static_cast<unsigned char>(image[48]);
  size_t mirror = 0;
  for (size_t i = 0; i < 4; ++i) {
    mirror += kCluster * static_cast<size_t>(static_cast<unsigned char>(image[56 + i])) << 8 * i;
  }
  image.replace(journal_record(image), 1024, 1024, '\0');
  image.replace(0, 512, 512, '\0');
  image.replace(image.size() - 512, 512, 512, '\0');
  image.replace(table, 24 * 1024, 24 * 1024, '\0');
  image.replace(mirror, 4096, 4096, '\0');
  const auto found = deletions(scanned(folder, "lost", image, "deep"));
  for (const auto& [path, deleted] : whole) {
    if (path.starts_with("$")) continue;
    ASSERT_TRUE(found.contains(path)) << path;
    EXPECT_EQ(found.at(path), deleted) << path;
  }
  // None of the records: what indexes, journal and log name is all that is left.
  for (size_t at = 0; at + 1024 <= image.size(); at += 1024) {
    if (image.compare(at, 4, "FILE") == 0) image.replace(at, 1024, 1024, '\0');
  }
  const auto bare = deletions(scanned(folder, "bare", image, "deep"));
  EXPECT_EQ(bare.at("Mail/Journalled.eml"), "2025-09-02T09:30:00Z");
  EXPECT_TRUE(bare.contains("Mail/Logged.eml"));
}

// A volume that keeps disk images as files: those in living files are no volumes, those in lost
// files are said to lie inside them.
TEST(Noise, ImagesInsideFilesAreToldApart) {
  const TempFolder folder;
  const std::string image = folder.path("card.img");
  const std::string shelf = folder.path("shelf");
  write_file(image, sample("fat32-images"));
  ASSERT_EQ(undershelf({"scan", image, "--shelf", shelf, "--depth", "deep"}).code, 0);
  const auto volumes = undershelf({"volumes", shelf, "--format", "jsonl"}).lines();
  std::map<std::string, int64_t> lost;
  const auto hashes = exported(shelf, folder.path("bag"));
  const std::vector<Json> rows = rows_of(shelf, {"--volume", "1"});
  for (const Json& one : truth("fat32-images")) {
    const auto row = std::ranges::find(rows, one["path"], [](const Json& r) { return r["path"]; });
    ASSERT_NE(row, rows.end()) << one["path"];
    EXPECT_EQ(hashes.at((*row)["id"]), one["sha256"]) << one["path"];
    if (one["state"] == "deleted") lost[one["path"]] = (*row)["id"];
  }
  EXPECT_EQ(rows.size(), truth("fat32-images").size());
  // Behind those on living images. Of two that are believed alike, the one that holds more comes
  // first.
  ASSERT_EQ(volumes.size(), 7U);
  EXPECT_EQ(volumes[0]["inside"], nullptr);
  EXPECT_EQ(volumes[5]["file_system"], "ntfs");
  EXPECT_EQ(volumes[5]["inside"], lost.at("Lost office.img"));
  EXPECT_EQ(volumes[6]["file_system"], "fat12");
  EXPECT_EQ(volumes[6]["inside"], lost.at("Lost floppy.img"));
}

// Where nothing was formatted or lost, a deep scan finds what a quick one does, and nothing else.
TEST(Noise, ADeepScanOfASoundVolumeAddsNothing) {
  for (const char* name : {"fat16-logger", "fat32-large", "exfat-camera-fuse", "ntfs-office",
                           "hfsplus-journal", "disk-gpt"}) {
    const TempFolder folder;
    const std::string image = folder.path("card.img");
    const std::string shelf = folder.path("shelf");
    write_file(image, sample(name));
    EXPECT_EQ(undershelf({"scan", image, "--shelf", shelf}).code, 0);
    const std::vector<Json> quick = rows_of(shelf);
    EXPECT_EQ(
        undershelf({"scan", image, "--shelf", shelf, "--depth", "deep", "--check", "sample"}).code,
        0);
    EXPECT_EQ(rows_of(shelf), quick) << name;
  }
}

// One sector that all but proves to be a piece of metadata. `number` is a random one.
std::string near_remnant(const std::string& kind, uint32_t number) {
  std::string sector(512, '\0');
  if (kind == "records") {
    sector.replace(0, 4, "FILE");
    put16(sector, 4, 0x30);
    put16(sector, 6, 3);
    put16(sector, 0x14, 0x38);
    put16(sector, 0x16, 1);
    put32(sector, 0x18, 0x1A0);
    put32(sector, 0x1C, 1024);
    put32(sector, 0x2C, number);
    put32(sector, 0x38, 0x10);
  } else if (kind == "folders") {
    for (const size_t at : {0, 32, 64}) {
      sector.replace(at, 11, at == 0 ? ".          " : at == 32 ? "..         " : "SUB        ");
      sector[at + 11] = 0x10;
      put16(sector, at + 24, 0x5A21);
      put16(sector, at + 26, (number * (at + 7)) & 0xFFFF);
    }
  } else {
    sector[8] = '\xFF';
    sector[9] = 1;
    sector[11] = 1;
    sector[510] = 0;
    sector[511] = 14;
  }
  return sector;
}

TEST(Noise, NearRemnantsAreNoVolumes) {
  for (const std::string kind : {"records", "folders", "nodes", "random", "counted", "text"}) {
    const TempFolder folder;
    std::mt19937 random(42);
    std::string image;
    for (uint32_t sector = 0; sector < 32768; ++sector) {
      const uint32_t number = static_cast<uint32_t>(random()) & 0xFFFFF;
      if (kind == "records" || kind == "folders" || kind == "nodes") {
        image += near_remnant(kind, number);
        continue;
      }
      for (uint32_t i = 0; i < 128; ++i) {
        uint32_t word = static_cast<uint32_t>(random());
        if (kind == "counted") word = sector * 128 + i;
        if (kind == "text") word = 0x20202020 + (word & 0x1F1F1F1F);
        image.append(reinterpret_cast<const char*>(&word), sizeof word);
      }
    }
    write_file(folder.path("card.img"), image);
    const Outcome outcome = undershelf(
        {"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--depth", "deep"});
    EXPECT_EQ(outcome.code, 1) << kind;
    EXPECT_NE(outcome.err.find("nothing that is left of one"), std::string::npos)
        << kind << outcome.err;
  }
}

// The parts a sweep can be limited to.
TEST(Sweep, KeepsToItsRangeAndSystems) {
  const TempFolder folder;
  const std::string image = folder.path("card.img");
  write_file(image, sample("formatted-fat32-to-ntfs"));
  const auto standing = [&](const std::vector<std::string>& more) {
    const std::string shelf = folder.path("shelf");
    std::vector<std::string> call = {"scan",    image,  "--shelf",  shelf,
                                     "--depth", "deep", "--replace"};
    call.insert(call.end(), more.begin(), more.end());
    EXPECT_EQ(undershelf(call).code, 0);
    std::string all;
    for (const Json& volume : undershelf({"volumes", shelf, "--format", "jsonl"}).lines()) {
      all += volume["standing"].get<std::string>() + " ";
    }
    return all;
  };
  EXPECT_EQ(standing({}), "current former ");
  EXPECT_EQ(standing({"--only", "fat"}), "current former ");
  EXPECT_EQ(standing({"--only", "ntfs,hfsplus"}), "current ");
  EXPECT_EQ(standing({"--to", "1M"}), "current ");
  // A shelf that holds a sweep for some systems does not go on with others.
  const std::string shelf = folder.path("shelf");
  const Outcome other =
      undershelf({"scan", image, "--shelf", shelf, "--depth", "deep", "--only", "fat"});
  EXPECT_EQ(other.code, 4);
  EXPECT_NE(other.err.find("Give the same --only"), std::string::npos) << other.err;
  // A sweep of a part is widened, and ends up with what a whole one finds.
  const auto listed = [](const std::string& of) {
    return without_id(undershelf({"list", of, "--format", "jsonl"}).lines());
  };
  EXPECT_EQ(
      undershelf({"scan", image, "--shelf", shelf, "--depth", "deep", "--from", "3M", "--to", "4M"})
          .code,
      0);
  EXPECT_EQ(undershelf({"scan", image, "--shelf", shelf, "--depth", "deep"}).code, 0);
  const std::string whole = folder.path("whole");
  EXPECT_EQ(undershelf({"scan", image, "--shelf", whole, "--depth", "deep"}).code, 0);
  EXPECT_EQ(listed(shelf), listed(whole));
  EXPECT_EQ(undershelf({"scan", image, "--shelf", shelf, "--depth", "deep"}).code, 4);
}

// Blocks are handed to detectors whole, each place once, with what follows it.
TEST(Sweep, ShowsEveryPlaceOnceWithWhatFollows) {
  struct Watcher : Detector {
    size_t reach() const override { return 5000; }
    void look(const SweepBlock& block, std::vector<Trace>& found) const override {
      for (const size_t place : {size_t{0}, block.own / 512 * 512}) {
        const auto before = block.before(place);
        const uint64_t behind = block.offset + place;
        EXPECT_EQ(before.size(), std::min<uint64_t>(behind, SweepBlock::kMostBefore));
        for (size_t i = 0; i < before.size(); ++i) {
          const uint64_t at = behind - before.size() + i;
          EXPECT_EQ(std::to_integer<uint64_t>(before[i]), at / 512 % 250 + 1) << behind;
        }
      }
      EXPECT_LE(block.own, block.bytes.size());
      const uint64_t there = block.offset + block.bytes.size();
      EXPECT_TRUE(there >= block.offset + block.own + 5000 || there == size) << block.offset;
      for (size_t i = 0; i < block.bytes.size(); i += 4093) {
        EXPECT_EQ(std::to_integer<uint64_t>(block.bytes[i]), (block.offset + i) / 512 % 250 + 1);
      }
      found.push_back({block.offset, block.own, 1, 0, 0});
    }
    void keep(const Trace& trace, std::vector<Trace>&) override {
      EXPECT_EQ(trace.offset, next);
      next = trace.end();
    }
    bool can_have_found(const Trace&) const override { return true; }
    uint64_t next = 0, size = 0;
  };
  for (const uint64_t size : {512ULL, 5000ULL, (1ULL << 20) + 512, (5ULL << 20) + 100}) {
    std::string bytes(size, '\0');
    for (size_t i = 0; i < size; ++i) bytes[i] = static_cast<char>(i / 512 % 250 + 1);
    const MemorySource source(bytes, {{1024, 512}});
    std::vector<std::unique_ptr<Detector>> detectors;
    auto watcher = std::make_unique<Watcher>();
    Watcher& watch = *watcher;
    watch.size = size;
    detectors.push_back(std::move(watcher));
    uint64_t unreadable = 0;
    SweepCallbacks callbacks;
    callbacks.progress = [](uint64_t, const SweepFinds&) { return true; };
    callbacks.checkpoint = [&](uint64_t, SweepFinds&& finds) {
      for (const ByteRange& range : finds.unreadable) unreadable += range.length;
    };
    callbacks.between_checkpoints = std::chrono::milliseconds(0);
    if (size > 1536) {
      // What cannot be read is zero.
      bytes.replace(1024, 512, 512, '\0');
    }
    EXPECT_EQ(undershelf::sweep(source, {0, size}, detectors, callbacks), size);
    EXPECT_EQ(watch.next, size);
    EXPECT_EQ(unreadable, size > 1536 ? 512U : 0U);
  }
}

// Near its beginning a sector cannot be read. Counts what is asked behind it, and what of that is
// not asked one at a time and in order.
struct FailingMedium : MemorySource {
  FailingMedium() : MemorySource(std::string(32 << 20, 'x'), {{512, 512}}) {}
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    // Known for certain once the thread that met it asks again; the others may each have been
    // about to read.
    constexpr int kMostThreads = 4;
    if (std::this_thread::get_id() == met_by) is_known = true;
    const bool counts = is_known && ++asked > kMostThreads;
    if (counts && (++reading > 1 || offset < last)) ++faults;
    ReadResult result = MemorySource::read(offset, out);
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
    if (counts) last = offset, --reading;
    if (!result.ok()) met_by = std::this_thread::get_id();
    return result;
  }
  mutable std::atomic<std::thread::id> met_by = std::thread::id();
  mutable std::atomic<bool> is_known = false;
  mutable std::atomic<int> asked = 0;
  mutable std::atomic<int> reading = 0, faults = 0;
  mutable std::atomic<uint64_t> last = 0;
};

TEST(Sweep, ReadsOneAtATimeOncePlacesCannotBeRead) {
  const FailingMedium source;
  SweepCallbacks callbacks;
  callbacks.progress = [](uint64_t, const SweepFinds&) { return true; };
  callbacks.checkpoint = [](uint64_t, SweepFinds&&) {};
  EXPECT_EQ(undershelf::sweep(source, {0, source.size()}, {}, callbacks), source.size());
  EXPECT_GT(source.asked, 32);
  EXPECT_EQ(source.faults, 0);
}

TEST(ByTwo, ReadsOneAtATimeOncePlacesCannotBeRead) {
  const FailingMedium source;
  std::vector<ByteRange> ranges;
  for (uint64_t at = 0; at < source.size(); at += 256 << 10) ranges.push_back({at, 256 << 10});
  std::vector<int> shown(ranges.size());
  look_by_two(source, ranges, [&](size_t number, std::span<const std::byte> bytes, bool is_whole) {
    EXPECT_EQ(bytes.size(), ranges[number].length);
    EXPECT_EQ(is_whole, number > 0);
    ++shown[number];
  });
  EXPECT_EQ(shown, std::vector<int>(ranges.size(), 1));
  EXPECT_GT(source.asked, 32);
  EXPECT_EQ(source.faults, 0);
}

TEST(ByTwo, EndsWithWhatItsLookThrows) {
  const MemorySource source(std::string(1 << 20, 'x'));
  const std::vector<ByteRange> ranges(100, {0, 4096});
  const auto look = [](size_t number, std::span<const std::byte>, bool) {
    if (number == 50) throw Stopped{};
  };
  EXPECT_THROW(look_by_two(source, ranges, look), Stopped);
  look_by_two(source, {}, look);
}

TEST(Sweep, StopsInOrderAndGoesOn) {
  const MemorySource source(std::string(64 << 20, 'x'));
  std::vector<std::unique_ptr<Detector>> none;
  SweepCallbacks callbacks;
  uint64_t kept = 0;
  callbacks.progress = [](uint64_t, const SweepFinds&) { return false; };
  callbacks.checkpoint = [&](uint64_t position, SweepFinds&&) { kept = position; };
  callbacks.between_progress = std::chrono::milliseconds(0);
  const uint64_t stopped = undershelf::sweep(source, {0, source.size()}, none, callbacks);
  EXPECT_LT(stopped, source.size());
  EXPECT_EQ(kept, stopped);
  callbacks.progress = [](uint64_t, const SweepFinds&) { return true; };
  EXPECT_EQ(undershelf::sweep(source, {stopped, source.size() - stopped}, none, callbacks),
            source.size());
}

}  // namespace
}  // namespace undershelf::test
