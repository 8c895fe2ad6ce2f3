// `advise`: each lead is one that the shelf holds, and its call works.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>

#include "advising/versions.h"
#include "support.h"

namespace undershelf::test {
namespace {

TEST(Versions, AreToldByTheirNames) {
  const struct {
    const char* name;
    const char* of;  // empty: no version of anything
  } cases[] = {
      {"Tide report (2026_03_04 10_20_30 UTC).docx", "tide report.docx"},
      {"Tide report (2).docx", "tide report.docx"},
      {"Tide report - Copy.docx", "tide report.docx"},
      {"Tide report - Copy (2).docx", "tide report.docx"},
      {"Copy of Tide report.docx", "tide report.docx"},
      {"Tide report copy 3.docx", "tide report.docx"},
      {"Tide report_v12.docx", "tide report.docx"},
      {"Tide report 2026-03-04.docx", "tide report.docx"},
      {"Tide report.docx.bak", "tide report.docx"},
      {"Tide report.docx~", "tide report.docx"},
      {"Tide report.bak", "tide report"},
      {"Backup of Tide report.wbk", "tide report"},
      {"AutoRecovery save of Tide report.asd", "tide report"},
      {".notes.txt.swp", "notes.txt"},
      {"#notes.txt#", "notes.txt"},
      {"GEZEITENSTÄNDE (1).CSV", "gezeitenstande.csv"},
      {"Tide report.docx", ""},
      {"IMG_2026.JPG", ""},
      {"Levels (draft).csv", ""},
      {"(1).txt", ""},
      {"copy.txt", ""},
      {"~", ""},
      {"", ""},
      {"2026-03-04.csv", ""},
  };
  for (const auto& one : cases) {
    const auto version = version_named(one.name);
    const std::string of =
        !version ? ""
                 : version->stem + (version->extension.empty() ? "" : "." + version->extension);
    EXPECT_EQ(of, one.of) << one.name;
  }
}

class Advise : public testing::TestWithParam<const char*> {
 protected:
  static std::vector<Json> advise(const std::string& shelf, std::vector<std::string> filters) {
    std::vector<std::string> call = {"advise", shelf, "--format", "jsonl"};
    call.insert(call.end(), filters.begin(), filters.end());
    const Outcome outcome = undershelf(call);
    EXPECT_EQ(outcome.code, 0) << outcome.err;
    return outcome.lines();
  }
  // What the call of an advice counts, as files.
  static int64_t counted_by(const std::string& call) {
    const std::string program = call.substr(call.find(' '));
    const Outcome outcome = shell(test::quoted(UNDERSHELF_PROGRAM) + program +
                                  " --kind file --format jsonl | grep -c '\"stream\":null'");
    return std::stoll(outcome.out);
  }
  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
};

TEST_P(Advise, CallsFindWhatTheyPromise) {
  write_file(image_, sample(GetParam()));
  ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_, "--depth", "deep"}).code, 1);
  const std::vector<std::vector<std::string>> searches = {
      {},
      {"--type", "picture", "--state", "deleted"},
      {"--find", "report", "--state", "former"},
      {"--name", "*.csv,*.txt", "--rating", "gone"},
      {"--ext", "jpg,csv", "--size", "1..9000", "--path", "nowhere/**"},
  };
  size_t followed = 0;
  for (const auto& search : searches) {
    int64_t fit = 0;
    for (const Json& one : advise(shelf_, search)) {
      const std::string word = one["advice"];
      if (word == "found") fit = one["files"];
      if (one["call"].is_null()) continue;
      const std::string call = one["call"];
      if (call.starts_with("undershelf scan")) continue;
      ++followed;
      const int64_t files = one["files"];
      const int64_t found = counted_by(call);
      if (word == "without") {
        EXPECT_GE(found, files + fit) << one;
      } else {
        EXPECT_GE(found, std::min<int64_t>(files, 50)) << one;
      }
    }
  }
  EXPECT_GT(followed, 0U);
}
INSTANTIATE_TEST_SUITE_P(Samples, Advise,
                         testing::Values("ntfs-office", "hfsplus-charts", "fat32-trash",
                                         "bare-card", "fat32-kinds"),
                         [](const auto& tested) {
                           std::string name = tested.param;
                           std::erase(name, '-');
                           return name;
                         });

// A card with a file, its versions, one in a trash folder, and one that is deleted.
TEST_F(Advise, LeadsToTrashVersionsAndNearMisses) {
  const std::string make =
      "cd " + test::quoted(folder_.path()) +
      " && mformat -C -i card.img -T 16384 ::"
      " && printf 'tide levels' >a && printf 'tide levels, older' >b"
      " && mmd -i card.img ::/REPORTS ::/.Trash-1000 ::/.Trash-1000/files ::/.Trash-1000/info"
      " && mcopy -i card.img a '::/REPORTS/Levels.txt'"
      " && mcopy -i card.img b '::/Levels (1).txt'"
      " && mcopy -i card.img b '::/REPORTS/Levels.txt.bak'"
      " && mcopy -i card.img a '::/.Trash-1000/files/Levels 7.txt'";
  ASSERT_EQ(shell(make).code, 0);
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
  std::map<std::string, Json> leads;
  for (const Json& one : advise(shelf_, {"--name", "Levels.txt", "--path", "PLANS/**"})) {
    leads.emplace(one["advice"], one);
  }
  ASSERT_TRUE(leads.contains("versions") && leads.contains("without") && leads.contains("deep"));
  EXPECT_EQ(leads["versions"]["files"], 2);
  EXPECT_EQ(leads["without"]["files"], 1);
  EXPECT_EQ(leads["without"]["call"], "undershelf list " + shelf_ + " --name Levels.txt");
  EXPECT_FALSE(leads.contains("found"));
  EXPECT_FALSE(leads.contains("carved"));

  leads.clear();
  for (const Json& one : advise(shelf_, {"--find", "levels 7", "--path", "REPORTS/**"})) {
    leads.emplace(one["advice"], one);
  }
  EXPECT_EQ(leads["trash"]["files"], 1);
  // The most promising first.
  const std::vector<Json> all = advise(shelf_, {"--find", "levels"});
  EXPECT_EQ(all.front()["advice"], "found");
  EXPECT_EQ(all.front()["files"], 4);
}

TEST_F(Advise, SaysWhatIsWrongWithACall) {
  write_file(image_, sample("fat12-floppy"));
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
  EXPECT_EQ(undershelf({"advise", shelf_, "--type", "song"}).code, 2);
  EXPECT_EQ(undershelf({"advise", image_}).code, 3);
  EXPECT_EQ(undershelf({"advise", shelf_, "--format", "csv"}).code, 2);
  const Outcome shown = undershelf({"advise", shelf_, "--name", "none-such"});
  EXPECT_EQ(shown.code, 0);
  EXPECT_NE(shown.out.find(" 1. "), std::string::npos) << shown.out;
}

}  // namespace
}  // namespace undershelf::test
