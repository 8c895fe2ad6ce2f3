// Exports into archives, unpacked with standard tools and held against an export to a folder.
#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <set>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

struct Kind {
  const char* to;       // `-`: a stream
  const char* unpack;   // {} is the archive
  const char* root;     // the folder in it
  bool strict = false;  // names are made fit for other systems
  bool links = true;
};

const Kind kKinds[] = {
    {"all.tar", "tar -xf {}", "all"},
    {"all.tar.zst", "zstd -dc {} | tar -x", "all"},
    {"all.zip", "unzip -q {}", "all", true, false},
    {"all.iso", "xorriso -hardlinks on -osirrox on -indev {} -extract / . 2>/dev/null", ".", true},
    {"-", "tar -xf {}", "export"},
};

class Archive : public testing::Test {
 protected:
  void scan(const std::string& name) {
    write_file(image_, sample(name));
    fs::remove(shelf_);
    ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_, "--check", "full"}).code, 1);
  }
  // Exports to an archive of the kind, and unpacks it. Its bag.
  std::string unpacked(const Kind& kind, const std::string& more = "") {
    const std::string archive = folder_.path("all" + std::string(fs::path(kind.to).extension()));
    fs::remove(folder_.path(kind.to));
    fs::remove(archive);
    const bool stream = std::string(kind.to) == "-";
    const std::string to =
        stream ? "- >" + test::quoted(archive) : test::quoted(folder_.path(kind.to));
    const Outcome outcome = shell(test::quoted(UNDERSHELF_PROGRAM) + " export " +
                                  test::quoted(shelf_) + " --to " + to + " " + more);
    EXPECT_LE(outcome.code, 1) << outcome.err;
    const std::string folder = folder_.path("unpacked");
    shell("chmod -R u+w " + test::quoted(folder) + "; rm -rf " + test::quoted(folder));
    fs::create_directory(folder);
    std::string call = kind.unpack;
    call.replace(call.find("{}"), 2, test::quoted(stream ? archive : folder_.path(kind.to)));
    const Outcome result = shell("cd " + test::quoted(folder) + " && " + call);
    EXPECT_EQ(result.code, 0) << kind.to << result.err;
    return folder + "/" + kind.root;
  }
  // Path, or as other systems take it, and hash and second of each file of a bag.
  static std::multiset<std::string> files(const std::string& bag, bool strict) {
    std::multiset<std::string> found;
    std::ifstream listed(bag + "/exported.jsonl");
    for (std::string line; std::getline(listed, line);) {
      const Json row = Json::parse(line);
      std::string path = row["written"];
      const fs::path file = fs::path(bag) / path;
      EXPECT_TRUE(fs::is_regular_file(file)) << path;
      const auto time = fs::last_write_time(file);
      const auto seconds = std::chrono::floor<std::chrono::seconds>(time).time_since_epoch();
      if (strict) {
        std::ranges::replace_if(
            path, [](char c) { return std::string("\"*:<>?\\|").find(c) != std::string::npos; },
            '_');
      }
      found.insert(path + " " + std::string(row["sha256"]) + " " + row["missing"].dump() +
                   (row["modified"].is_null() ? "" : " " + std::to_string(seconds.count())));
    }
    return found;
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
  std::string bag_ = folder_.path("bag");
};

TEST_F(Archive, HoldsWhatAFolderHolds) {
  for (const char* name : {"hfsplus-charts", "ntfs-office", "exfat-camera"}) {
    scan(name);
    fs::remove_all(bag_);
    ASSERT_LE(undershelf({"export", shelf_, "--to", bag_}).code, 1);
    ASSERT_GT(files(bag_, false).size(), 20U);
    for (const Kind& kind : kKinds) {
      const std::string bag = unpacked(kind);
      EXPECT_EQ(faults_of_bag(bag), "") << name << kind.to;
      EXPECT_EQ(files(bag, kind.strict), files(bag_, kind.strict)) << name << kind.to;
    }
  }
}

TEST_F(Archive, HasEqualFilesAsLinksWhereItCan) {
  scan("hfsplus-charts");
  for (const Kind& kind : kKinds) {
    const std::string bag = unpacked(kind, "--path 'Documents/**' --unique");
    EXPECT_EQ(faults_of_bag(bag), "") << kind.to;
    size_t linked = 0;
    for (const auto& entry : fs::recursive_directory_iterator(bag + "/data")) {
      linked += entry.is_regular_file() && entry.hard_link_count() > 1;
    }
    EXPECT_EQ(linked > 0, kind.links) << kind.to;
  }
}

// A folder 300 deep, a name of 255 bytes of emoji, and two that differ in case only.
TEST_F(Archive, HoldsNamesThatAreHardToHold) {
  scan("ntfs-office");
  std::string deep;
  for (int i = 0; i < 300; ++i) deep += "part/";
  std::string emoji;
  for (int i = 0; i < 63; ++i) emoji += "\xF0\x9F\x8C\x8A";
  const std::vector<Json> rows =
      rows_of(shelf_, {"--path", "Reports/**", "--kind", "file", "--state", "live"});
  ASSERT_GE(rows.size(), 4U);
  const std::string ids = fmt::format("({},{},{})", rows[0]["id"].get<int>(),
                                      rows[1]["id"].get<int>(), rows[2]["id"].get<int>());
  SQLite::Database shelf(shelf_, SQLite::OPEN_READWRITE);
  shelf.exec("UPDATE entries SET parent=(SELECT parent FROM entries WHERE id=" +
             std::to_string(rows[0]["id"].get<int>()) + ") WHERE id IN " + ids);
  const std::string names[] = {emoji, "Case.csv", "case.csv"};
  for (size_t i = 0; i < 3; ++i) {
    SQLite::Statement rename(shelf, "UPDATE entries SET name=? WHERE id=?");
    rename.bind(1, names[i]);
    rename.bind(2, rows[i]["id"].get<int>());
    rename.exec();
  }
  shelf.exec("UPDATE folder_paths SET path='" + deep +
             "end' WHERE entry=(SELECT parent FROM entries WHERE id IN " + ids + ")");
  for (const Kind& kind : kKinds) {
    const std::string bag = unpacked(kind, "--even-gone");
    EXPECT_EQ(faults_of_bag(bag), "") << kind.to;
    EXPECT_GE(files(bag, true).size(), rows.size()) << kind.to;
  }
}

TEST_F(Archive, LayoutsPutFilesByTypeOrAllTogether) {
  scan("ntfs-office");
  const auto count = [&](const std::string& folder, bool folders) {
    size_t found = 0;
    for (const auto& entry : fs::directory_iterator(folder))
      found += entry.is_directory() == folders;
    return found;
  };
  const size_t rows = undershelf({"export", shelf_, "--to", bag_, "--format", "jsonl"})
                          .lines()[0]["selected"]
                          .get<size_t>();
  const size_t in_tree = files(bag_, false).size();
  fs::remove_all(bag_);
  ASSERT_LE(undershelf({"export", shelf_, "--to", bag_, "--layout", "flat"}).code, 1);
  EXPECT_EQ(faults_of_bag(bag_), "");
  EXPECT_EQ(count(bag_ + "/data", true), 0U);
  EXPECT_EQ(count(bag_ + "/data", false), in_tree) << rows;

  fs::remove_all(bag_);
  ASSERT_LE(undershelf({"export", shelf_, "--to", bag_, "--layout", "type"}).code, 1);
  EXPECT_EQ(faults_of_bag(bag_), "");
  EXPECT_EQ(files(bag_, false).size(), in_tree);
  std::ifstream listed(bag_ + "/exported.jsonl");
  for (std::string line; std::getline(listed, line);) {
    const Json row = Json::parse(line);
    const std::string type = row["type"].is_null() ? "other" : std::string(row["type"]);
    EXPECT_TRUE(std::string(row["written"]).starts_with("data/" + type + "/")) << line;
  }
  // What is in the way is told at once, and nothing is gone on with in another layout.
  const Outcome other = undershelf({"export", shelf_, "--to", bag_, "--resume"});
  EXPECT_EQ(other.code, 4) << other.err;
}

TEST_F(Archive, IsRefusedWithWhatToDo) {
  scan("fat12-floppy");
  write_file(folder_.path("taken.zip"), "mine");
  const struct {
    std::vector<std::string> more;
    int code;
    const char* said;
  } cases[] = {
      {{"--to", folder_.path("taken.zip")}, 4, "is there already"},
      {{"--to", folder_.path("no/all.tar")}, 4, "There is no folder"},
      {{"--to", folder_.path("all.rar")}, 2, ".tar, .tar.zst, .zip or .iso"},
      {{"--to", folder_.path("all.tar"), "--resume"}, 2, "--resume goes with a folder"},
      {{"--to", folder_.path("all.tar"), "--read-back"}, 2, "--read-back goes with a folder"},
      {{"--to", "-", "--format", "jsonl"}, 2, "standard error"},
      {{"--to", folder_.path("all.tar"), "--layout", "heap"}, 2, "tree, type, flat"},
      {{"--to", "/dev/full"}, 4, "is a file"},
  };
  for (const auto& one : cases) {
    std::vector<std::string> call = {"export", shelf_};
    call.insert(call.end(), one.more.begin(), one.more.end());
    const Outcome outcome = undershelf(call);
    EXPECT_EQ(outcome.code, one.code) << one.said << outcome.err;
    EXPECT_NE(outcome.err.find(one.said), std::string::npos) << outcome.err;
  }
  EXPECT_EQ(read_file(folder_.path("taken.zip")), "mine");
  EXPECT_FALSE(fs::exists(folder_.path("all.tar")));
  // A stream whose reader goes away.
  const Outcome closed =
      shell(test::quoted(UNDERSHELF_PROGRAM) + " export " + test::quoted(shelf_) + " --to - 2>" +
            test::quoted(folder_.path("said")) + " >/dev/full");
  EXPECT_EQ(closed.code, 1);
  EXPECT_NE(read_file(folder_.path("said")).find("No space left"), std::string::npos);
}

TEST_F(Archive, DryRunLeavesNothing) {
  scan("fat12-floppy");
  EXPECT_LE(undershelf({"export", shelf_, "--to", folder_.path("all.zip"), "--dry-run"}).code, 1);
  EXPECT_FALSE(fs::exists(folder_.path("all.zip")));
  EXPECT_FALSE(fs::exists(folder_.path("all.zip.part")));
}

}  // namespace
}  // namespace undershelf::test
