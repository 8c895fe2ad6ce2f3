// Files by their content alone of kinds in which another file's clusters go unnoticed: whether they
// end where their structure says is told by what stands behind them.
#include <gtest/gtest.h>

#include <map>
#include <set>
#include <string>
#include <vector>

#include "kinds.h"
#include "support.h"

namespace undershelf::test {
namespace {

constexpr size_t kSector = 512, kCluster = 4096;

// A sound of the first `bytes` of the samples of another.
std::string sound(size_t bytes) {
  std::string wav = kinds().at("note.wav");
  wav.resize(wav.find("data") + 8 + bytes);
  const auto put = [&](size_t at, size_t number) {
    for (size_t i = 0; i < 4; ++i) wav[at + i] = static_cast<char>(number >> 8 * i);
  };
  put(4, wav.size() - 8);
  put(wav.find("data") + 4, bytes);
  return wav;
}

std::string silent_at_its_end() {
  std::string wav = sound(90'002);
  wav.replace(wav.size() - 16, 16, 16, '\0');
  return wav;
}

struct Case {
  const char* what;
  std::string file;
  char behind;          // fills the rest of its last sector
  size_t vouched;       // files on the medium whose checksums cover them
  char behind_vouched;  // fills the rest of theirs
  const char* rating;   // none: it is not listed
};

std::vector<Case> cases() {
  const std::string wav = sound(90'002);
  const size_t header = wav.size() - 90'002;
  return {
      {"its end", wav, '\0', 10, '\0', "likely"},
      {"more of it", wav, 'x', 10, '\0', ""},
      {"rests stay", wav, 'x', 10, '\xA5', "partial"},
      {"nothing known of rests", wav, 'x', 3, '\0', "partial"},
      {"no rest", sound(176 * kSector - header), '\0', 10, '\0', "partial"},
      {"silence", silent_at_its_end(), '\0', 10, '\0', "partial"},
      {"a picture, and more of it", kinds().at("chart.bmp"), 'x', 10, '\0', ""},
  };
}

void add(std::string& medium, const std::string& file, char behind) {
  medium += file;
  medium.resize((medium.size() + kSector - 1) / kSector * kSector, behind);
  medium.resize((medium.size() + kCluster - 1) / kCluster * kCluster);
  medium.append(4 * kCluster, '\0');
}

TEST(Ends, AreBorneOutByWhatStandsBehindThem) {
  const std::vector<std::string> vouched = {
      "chart.png",   "stored.png",  "pack.zip",   "stored.zip",  "pack.7z",
      "report.docx", "report.epub", "report.odt", "levels.xlsx", "pack.cab"};
  for (const Case& one : cases()) {
    SCOPED_TRACE(one.what);
    std::string medium(16 * kCluster, '\0');
    for (size_t i = 0; i < one.vouched; ++i) {
      add(medium, kinds().at(vouched[i]), one.behind_vouched);
    }
    add(medium, one.file, one.behind);
    const TempFolder folder;
    write_file(folder.path("card.img"), medium);
    const auto found = [&](const char* shelf, const std::vector<std::string>& more) {
      std::vector<std::string> call = {
          "scan", folder.path("card.img"), "--shelf", folder.path(shelf), "--depth", "deep"};
      call.insert(call.end(), more.begin(), more.end());
      EXPECT_LE(undershelf(call).code, 1);
      Json it;
      for (const Json& row : rows_of(folder.path(shelf), {"--kind", "file"})) {
        if (row["size"] == one.file.size()) it = row;
      }
      return it;
    };
    const Json row = found("shelf", {});
    EXPECT_EQ(row.is_null() ? "" : row["rating"].get<std::string>(), one.rating);
    if (*one.rating != '\0') continue;
    const Json asked = found("unverified", {"--carve-unverified"});
    ASSERT_FALSE(asked.is_null());
    EXPECT_EQ(asked["rating"], "partial");
    EXPECT_LE(asked["intact_bytes"], kCluster);
    const std::string told =
        undershelf({"show", folder.path("unverified"), std::to_string(asked["id"].get<int>())}).out;
    EXPECT_NE(told.find("goes on behind where it should end"), std::string::npos) << told;
  }
}

// Sounds, plain pictures and archives in two pieces, as a driver put them there: six of them were
// `likely`, with another file's bytes, and hid pictures that lay between their pieces.
TEST(Ends, KindsThatTellLittlePromiseNothingInPieces) {
  for (const char* name : {"bare-plain", "split-plain"}) {
    SCOPED_TRACE(name);
    std::set<std::string> contents;
    for (const Json& one : truth(name)) contents.insert(one["sha256"]);
    const TempFolder folder;
    write_file(folder.path("card.img"), sample(name));
    undershelf(
        {"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--depth", "deep"});
    int kept = 0;
    for (const Json& row : rows_of(folder.path("shelf"), {"--kind", "file"})) {
      if (row["state"] != "carved" || row["rating"] == "partial") continue;
      EXPECT_TRUE(contents.contains(row["sha256"])) << row["path"] << " " << row["rating"];
      ++kept;
    }
    if (name == std::string("bare-plain")) {
      EXPECT_GE(kept, 10);
    }
  }
}

// Of those with names, half came back: text, and what adds up wherever it lies, was never sought.
TEST(Ends, TellWhereFilesWithNamesLie) {
  const TempFolder folder;
  write_file(folder.path("card.img"), sample("split-plain"));
  undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--depth", "deep"});
  std::map<std::string, Json> by_path;
  for (const Json& row : rows_of(folder.path("shelf"), {"--kind", "file"})) {
    if (row["state"] == "deleted") by_path[row["path"]] = row;
  }
  int all = 0, right = 0;
  for (const Json& one : truth("split-plain")) {
    const std::string path = one["path"];
    if (one["surviving_bytes"] != one["size"] || !by_path.contains(path)) continue;
    const Json& row = by_path[path];
    const bool same = row["sha256"] == one["sha256"];
    const bool promised = row["rating"] == "whole" || row["rating"] == "likely";
    EXPECT_TRUE(same || !promised) << path << " " << row["score"];
    if (!path.starts_with("Split")) continue;
    ++all;
    right += same;
  }
  EXPECT_GE(all, 13);
  EXPECT_GE(right, all - 1);
}

}  // namespace
}  // namespace undershelf::test
