// Exports: what they wrote where, and what they said of it. Each test is a fault that was mended.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <map>
#include <set>

#include "support.h"

namespace undershelf::test {
namespace {

class Exports : public testing::Test {
 protected:
  void open(const std::string& name) {
    write_file(image_, sample(name));
    ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_}).code, 1);
  }
  std::vector<Json> list(std::vector<std::string> filters = {}) {
    std::vector<std::string> call = {"list", shelf_, "--format", "jsonl"};
    call.insert(call.end(), filters.begin(), filters.end());
    return undershelf(call).lines();
  }
  Json one(const std::string& filter, const std::string& value) {
    const std::vector<Json> rows = list({filter, value});
    EXPECT_FALSE(rows.empty()) << value;
    return rows.empty() ? Json() : rows[0];
  }
  Outcome export_to(const std::string& bag, std::vector<std::string> more = {}) {
    std::vector<std::string> call = {"export", shelf_, "--to", folder_.path(bag)};
    call.insert(call.end(), more.begin(), more.end());
    return undershelf(call);
  }
  std::vector<Json> exported(const std::string& bag) {
    return shell("cat " + quoted(folder_.path(bag) + "/exported.jsonl")).lines();
  }
  static std::string id_of(const Json& row) { return std::to_string(row["id"].get<int64_t>()); }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
};

// --resume took any file at a path for the entry's, if its hash was the one in the list.
TEST_F(Exports, ResumingTellsFilesByTheirIdsAndNotByTheirPaths) {
  open("fat16-logger");
  // Two lost files of one name in one folder, as lost first letters make them.
  SQLite::Database(shelf_, SQLite::OPEN_READWRITE)
      .exec("UPDATE entries SET name='_WIN.png' WHERE name LIKE 'Curve _ of 6.png'");
  std::vector<std::string> twins;
  for (const Json& row : list({"--name", "_WIN.png"})) twins.push_back(id_of(row));
  ASSERT_GE(twins.size(), 2U);
  ASSERT_LE(export_to("bag", {"--even-gone", "--id", twins[1]}).code, 1);
  const Outcome other =
      export_to("bag", {"--even-gone", "--resume", "--id", twins[0], "--id", twins[1]});
  EXPECT_EQ(other.code, 4) << "another selection";
  EXPECT_EQ(faults_of_bag(folder_.path("bag")), "");
  ASSERT_LE(export_to("both", {"--even-gone", "--id", twins[0], "--id", twins[1]}).code, 1);
  // The list of an interrupted run knows the second one only, at the first one's path.
  std::set<std::string> ids;
  for (const Json& record : exported("both")) ids.insert(id_of(record));
  EXPECT_EQ(ids.size(), 2U);
  // Interrupted before the first of the two was listed: both are there in the end.
  const std::string lines = read_file(folder_.path("both/exported.jsonl"));
  write_file(folder_.path("both/exported.jsonl"), lines.substr(lines.find('\n') + 1));
  ASSERT_LE(export_to("both", {"--even-gone", "--resume", "--id", twins[0], "--id", twins[1]}).code,
            1);
  std::map<std::string, std::string> hashes;
  for (const Json& record : exported("both")) hashes[id_of(record)] = record["sha256"];
  EXPECT_EQ(hashes.size(), 2U);
  EXPECT_EQ(faults_of_bag(folder_.path("both")), "");
}

// A narrower selection, and another shelf, were gone on with; the bag was invalid afterwards.
TEST_F(Exports, AnotherSelectionOrShelfIsNotGoneOnWith) {
  open("fat16-logger");
  ASSERT_LE(export_to("bag").code, 1);
  const std::string manifest = read_file(folder_.path("bag/manifest-sha256.txt"));
  EXPECT_EQ(export_to("bag", {"--resume", "--state", "deleted"}).code, 4);
  write_file(folder_.path("other.img"), sample("fat16-fragments"));
  const std::string other = folder_.path("other.shelf");
  ASSERT_LE(undershelf({"scan", folder_.path("other.img"), "--shelf", other}).code, 1);
  EXPECT_EQ(undershelf({"export", other, "--to", folder_.path("bag"), "--resume"}).code, 4);
  EXPECT_EQ(read_file(folder_.path("bag/manifest-sha256.txt")), manifest);
  EXPECT_EQ(faults_of_bag(folder_.path("bag")), "");
}

// A line of the list that another hand had written ended the export with the JSON library's words.
TEST_F(Exports, GoOnWhateverStandsInTheList) {
  open("fat16-logger");
  ASSERT_LE(export_to("bag").code, 1);
  const std::string list = folder_.path("bag/exported.jsonl");
  const std::string ours = read_file(list);
  for (const char* line : {R"({"id":"one"})", R"({"id":1e30})", R"({"id":1,"bytes":-1})", "[]"}) {
    write_file(list, ours + line + "\n");
    const Outcome resumed = export_to("bag", {"--resume"});
    EXPECT_LE(resumed.code, 1) << line << resumed.err;
    EXPECT_EQ(resumed.err.find("json.exception"), std::string::npos) << resumed.err;
    EXPECT_EQ(faults_of_bag(folder_.path("bag")), "") << line;
  }
}

// A link laid in the way of a folder was followed, and a file behind it deleted.
TEST_F(Exports, NothingBehindALinkIsTouched) {
  open("fat16-logger");
  ASSERT_LE(export_to("bag").code, 1);
  const std::string path = exported("bag")[0]["written"];
  const std::string inside = folder_.path("bag/" + path.substr(0, path.rfind('/')));
  const std::string outside = folder_.path("outside");
  std::filesystem::rename(inside, outside);
  write_file(outside + path.substr(path.rfind('/')), "somebody else's");
  std::filesystem::create_directory_symlink(outside, inside);
  const auto before = shell("cd " + quoted(outside) +
                            " && find . -type f | sort | xargs -d '\\n' "
                            "sha256sum")
                          .out;
  EXPECT_LE(export_to("bag", {"--resume"}).code, 1);
  EXPECT_EQ(
      shell("cd " + quoted(outside) + " && find . -type f | sort | xargs -d '\\n' sha256sum").out,
      before);
  EXPECT_EQ(faults_of_bag(folder_.path("bag")), "");
  EXPECT_FALSE(std::filesystem::is_symlink(inside));
}

// Files whose bytes a younger lost file claims were exported with nothing missing.
TEST_F(Exports, WhatIsDoubtedIsMissing) {
  open("fat16-fragments");
  export_to("bag", {"--even-gone"});
  size_t doubted = 0;
  for (const Json& record : exported("bag")) {
    uint64_t missing = 0;
    for (const Json& part : record["missing"]) missing += part["length"].get<uint64_t>();
    EXPECT_EQ(missing, record["size"].get<uint64_t>() - record["intact_bytes"].get<uint64_t>())
        << record;
    doubted += record.dump().find("contested, filled with what is there now") != std::string::npos;
  }
  EXPECT_GT(doubted, 0U);
}

// Pictures of which nothing but zeros was left were `partial` with every byte intact.
TEST_F(Exports, DiscardedFilesAreBlankAndNotIntact) {
  std::string image = sample("exfat-camera");
  write_file(image_, image);
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
  std::set<std::string> discarded;
  for (const Json& row :
       list({"--state", "deleted", "--kind", "file", "--rating", "whole,likely"})) {
    if (row["size"] == 0) continue;
    const Json shown = undershelf({"show", shelf_, id_of(row), "--format", "jsonl"}).lines()[0];
    for (const Json& piece : shown["pieces"]) {
      if (piece["kind"] != "range") continue;
      image.replace(piece["offset"], piece["length"], piece["length"].get<size_t>(), '\0');
    }
    discarded.insert(row["path"]);
  }
  ASSERT_GT(discarded.size(), 5U);
  write_file(image_, image);
  ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_, "--replace"}).code, 1);
  for (const Json& row : list({"--state", "deleted", "--kind", "file", "--size", "1.."})) {
    if (!discarded.contains(row["path"])) continue;
    EXPECT_EQ(row["intact_bytes"], 0) << row;
    EXPECT_TRUE(row["rating"] == "gone" || row["score"] <= 5) << row;
  }
  EXPECT_EQ(list({"--state", "deleted", "--rating", "likely+", "--size", "1.."}).size(), 0U);
  export_to("bag", {"--state", "deleted", "--even-gone", "--size", "1.."});
  for (const Json& record : exported("bag")) EXPECT_FALSE(record["missing"].empty()) << record;
}

// The second name of a living file was in no list, tree or export.
TEST_F(Exports, HardLinksAreRowsOfTheirOwnAndWrittenOnce) {
  open("hfsplus-charts");
  const std::vector<Json> links = [&] {
    std::vector<Json> found;
    for (const Json& row : list({"--state", "live", "--kind", "file"})) {
      if (row["link"] == true && row["stream"].is_null()) found.push_back(row);
    }
    return found;
  }();
  ASSERT_FALSE(links.empty());
  ASSERT_LE(export_to("bag").code, 1);
  std::map<std::string, Json> written;
  for (const Json& record : exported("bag")) written[record["path"]] = record;
  for (const Json& link : links) {
    ASSERT_TRUE(written.contains(link["path"])) << link;
    EXPECT_EQ(list({"--path", link["path"]}).size(), 1U) << link;
    const Json& record = written[link["path"]];
    EXPECT_EQ(record["link"], true);
    const std::string path = folder_.path("bag/" + record["written"].get<std::string>());
    EXPECT_GE(std::filesystem::hard_link_count(path), 2U) << path;
    for (const Json& other : exported("bag")) {
      if (other["id"] == link["id"] && other["stream"].is_null()) {
        EXPECT_EQ(other["sha256"], record["sha256"]);
      }
    }
  }
  EXPECT_EQ(faults_of_bag(folder_.path("bag")), "");
}

// Files in a recycle bin are living, and were shown by no command as what they are.
TEST_F(Exports, WhatLiesInTrashFoldersIsToldApart) {
  open("ntfs-office");
  const std::vector<Json> trashed = list({"--trashed", "--kind", "file"});
  ASSERT_GT(trashed.size(), 3U);
  for (const Json& row : trashed) {
    EXPECT_TRUE(row["path"].get<std::string>().starts_with("$RECYCLE.BIN/")) << row;
    EXPECT_EQ(row["trashed"], true);
  }
  const Outcome again = undershelf({"scan", image_, "--shelf", shelf_, "--replace"});
  EXPECT_NE(again.err.find("in trash folders"), std::string::npos) << again.err;
  // Names from before, and in the trash's memory, are found by filters.
  EXPECT_EQ(list({"--name", "Binned report.txt"}).size(), 1U);
  EXPECT_EQ(list({"--path", "/Reports/2025/Binned report.txt"}).size(), 1U);
  EXPECT_GE(list({"--path", "Reports/"}).size(), 20U) << "paths as they are printed";
}

// What is shown to be typed can be typed.
TEST_F(Exports, CallsThatAreShownWork) {
  open("fat16-logger");
  const Outcome listed = undershelf({"list", shelf_, "--sort", "-size", "--state", "deleted"});
  EXPECT_NE(listed.err.find("--to DIR --state deleted"), std::string::npos) << listed.err;
  const Outcome demo = undershelf({"demo", "--to", folder_.path("demo")});
  EXPECT_EQ(demo.code, 0) << demo.err;
  EXPECT_NE(demo.out.find("$ undershelf list fat16-logger.shelf --state deleted"),
            std::string::npos);
  std::filesystem::copy(image_, folder_.path("-dash.img"));
  const Outcome survey = shell("cd " + quoted(folder_.path()) + " && " +
                               quoted(UNDERSHELF_PROGRAM) + " survey -- -dash.img");
  EXPECT_NE(survey.err.find("scan ./-dash.img"), std::string::npos) << survey.err;
}

// A selection without files made an empty bag, with exit code 0 and a hint that failed.
TEST_F(Exports, NothingSelectedIsSaidAndNothingMade) {
  open("fat16-logger");
  EXPECT_EQ(export_to("none", {"--name", "no such file"}).code, 1);
  EXPECT_FALSE(std::filesystem::exists(folder_.path("none")));
  const std::string gone = id_of(list({"--rating", "gone"}).at(0));
  EXPECT_EQ(export_to("none", {"--id", gone}).code, 1);
  EXPECT_FALSE(std::filesystem::exists(folder_.path("none")));
  const Outcome peek = undershelf({"peek", shelf_, gone});
  EXPECT_EQ(peek.err.find("Next: undershelf export"), std::string::npos) << peek.err;
}

// A volume's label with a slash became folders, and every file counted as renamed.
TEST_F(Exports, ALabelWithASlashIsOneName) {
  open("fat16-logger");
  SQLite::Database(shelf_, SQLite::OPEN_READWRITE).exec("UPDATE volumes SET label='A/../x'");
  const Outcome done = export_to("bag", {"--state", "live"});
  EXPECT_EQ(done.code, 0) << done.err;
  EXPECT_EQ(done.err.find("other names"), std::string::npos) << done.err;
  EXPECT_TRUE(std::filesystem::is_directory(folder_.path("bag/data/volume-1-A_.._x")));
}

// All parents of a target that was not mounted were made on the system's disk.
TEST_F(Exports, OnlyTheLastFolderOfATargetIsMade) {
  open("fat16-logger");
  const Outcome refused = export_to("no/such/target");
  EXPECT_EQ(refused.code, 4);
  EXPECT_FALSE(std::filesystem::exists(folder_.path("no")));
}

// Killed at any moment, an export leaves a list of what is there, and is gone on with to the same.
TEST_F(Exports, AKilledExportLeavesAValidListAndIsGoneOnWith) {
  open("ntfs-office");
  ASSERT_LE(export_to("whole").code, 1);
  const std::string all = shell("cd " + quoted(folder_.path("whole")) +
                                " && sort "
                                "manifest-sha256.txt")
                              .out;
  for (const char* after : {"0.005", "0.02", "0.04", "0.08"}) {
    const std::string bag = folder_.path(std::string("bag-") + after);
    shell("timeout -s KILL " + std::string(after) + " " + test::quoted(UNDERSHELF_PROGRAM) +
          " export " + test::quoted(shelf_) + " --to " + test::quoted(bag));
    if (std::filesystem::exists(bag + "/manifest-sha256.txt")) {
      const Outcome listed =
          shell("cd " + quoted(bag) + " && cut -c67- manifest-sha256.txt | sort");
      const Outcome there = shell("cd " + quoted(bag) + " && find data -type f | sort");
      EXPECT_EQ(listed.out, there.out) << after;
    }
    if (!std::filesystem::exists(bag)) continue;
    const bool begun = std::filesystem::exists(bag + "/bag-info.txt");
    if (!begun) continue;
    EXPECT_LE(undershelf({"export", shelf_, "--to", bag, "--resume"}).code, 1);
    EXPECT_EQ(faults_of_bag(bag), "") << after;
    EXPECT_EQ(shell("cd " + quoted(bag) + " && sort manifest-sha256.txt").out, all) << after;
  }
}

// Gone on with, one more name of a file with gaps was listed as if nothing were missing.
TEST_F(Exports, EachNameOfAFileWithGapsSaysWhatIsMissing) {
  open("hfsplus-charts");
  const std::string id = id_of(one("--name", "Second name of letter 2.txt"));
  SQLite::Database(shelf_, SQLite::OPEN_READWRITE)
      .exec("INSERT INTO losses SELECT id, 100, 50, 'overwritten' FROM streams WHERE entry=" + id +
            "; UPDATE streams SET rating='partial', intact_bytes=size-50 WHERE entry=" + id);
  ASSERT_LE(export_to("bag", {"--id", id}).code, 1);
  const std::string lines = read_file(folder_.path("bag/exported.jsonl"));
  ASSERT_EQ(exported("bag").size(), 2U);
  // As after a kill between the first name and the second.
  write_file(folder_.path("bag/exported.jsonl"), lines.substr(0, lines.find('\n') + 1));
  EXPECT_EQ(export_to("bag", {"--id", id, "--resume"}).code, 1);
  const std::vector<Json> records = exported("bag");
  ASSERT_EQ(records.size(), 2U);
  EXPECT_NE(records[0]["written"], records[1]["written"]);
  EXPECT_EQ(records[0]["missing"].size(), 1U);
  EXPECT_EQ(records[0]["missing"], records[1]["missing"]);
  EXPECT_EQ(faults_of_bag(folder_.path("bag")), "");
}

}  // namespace
}  // namespace undershelf::test
