// `job`: the whole work by one call, which goes on wherever it was ended.
#include <gtest/gtest.h>

#include <filesystem>
#include <map>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

class Job : public testing::Test {
 protected:
  void SetUp() override {
    write_file(folder_.path("card.img"), sample("fat32-kinds"));
    describe(
        "# of the aerial camera card\nsource = card.img\nexport = bag\nreport = report\n"
        "case = 17\ncustomer = Tide-gauge survey party\n");
  }
  void describe(const std::string& lines) { write_file(job_, lines); }
  std::map<std::string, std::string> results() const {
    std::map<std::string, std::string> found;
    for (const auto& entry : fs::recursive_directory_iterator(folder_.path())) {
      if (!entry.is_regular_file() || entry.path().extension() == ".html") continue;
      const std::string name = entry.path().lexically_relative(folder_.path()).string();
      // These tell when they were made.
      if (name.starts_with("job.") || name.find("tagmanifest") != std::string::npos ||
          name.find("bag-info") != std::string::npos) {
        continue;
      }
      found[name] = read_file(entry.path().string());
    }
    return found;
  }

  TempFolder folder_;
  std::string job_ = folder_.path("job.conf");
};

TEST_F(Job, ScansChecksExportsVerifiesAndReports) {
  const Outcome outcome = undershelf({"job", job_});
  EXPECT_EQ(outcome.code, 0) << outcome.err;
  for (const char* step :
       {"$ undershelf scan", "$ undershelf export", "$ undershelf verify", "$ undershelf report"}) {
    EXPECT_NE(outcome.out.find(step), std::string::npos) << step;
  }
  const std::string bag = folder_.path("bag");
  EXPECT_EQ(faults_of_bag(bag), "");
  const Json counted =
      undershelf({"totals", folder_.path("job.shelf"), "--state", "deleted,former,carved",
                  "--rating", "likely+", "--by", "volume", "--format", "jsonl"})
          .lines()
          .at(0);
  const Outcome lines = shell("wc -l < " + test::quoted(bag + "/manifest-sha256.txt"));
  EXPECT_EQ(std::stoll(lines.out), int64_t(counted["files"]) + int64_t(counted["streams"]));
  EXPECT_NE(read_file(folder_.path("report/report.html")).find("case 17"), std::string::npos);

  // Once more: all is there, and nothing is done twice.
  const auto before = results();
  const Outcome again = undershelf({"job", job_});
  EXPECT_EQ(again.code, 0) << again.err;
  EXPECT_EQ(again.out.find("$ undershelf scan"), std::string::npos);
  EXPECT_EQ(again.out.find("$ undershelf report"), std::string::npos);
  EXPECT_EQ(results(), before);
}

// Met by chance: a kill between the first two files of a bag.
TEST_F(Job, GoesOnWithAnExportKilledAtItsVeryBeginning) {
  fs::create_directory(folder_.path("bag"));
  write_file(folder_.path("bag/bagit.txt"), "BagIt-Version: 1.0\n");
  const Outcome outcome = undershelf({"job", job_});
  EXPECT_EQ(outcome.code, 0) << outcome.err;
  EXPECT_EQ(faults_of_bag(folder_.path("bag")), "");
}

TEST_F(Job, GoesOnWhereverItWasKilled) {
  ASSERT_EQ(undershelf({"job", job_}).code, 0);
  const auto whole = results();
  for (const char* after : {"0.02", "0.2", "0.5", "0.9"}) {
    if (UNDERSHELF_SANITIZED && std::string(after) != "0.9") continue;  // all takes long there
    for (const char* made : {"job.shelf", "bag", "report"}) fs::remove_all(folder_.path(made));
    shell("rm -f " + test::quoted(folder_.path("job.shelf")) + "*");
    shell("timeout -s KILL " + std::string(after) + " " + test::quoted(UNDERSHELF_PROGRAM) +
          " job " + test::quoted(job_));
    const Outcome outcome = undershelf({"job", job_});
    EXPECT_EQ(outcome.code, 0) << after << outcome.err;
    EXPECT_EQ(faults_of_bag(folder_.path("bag")), "") << after;
    const auto now = results();
    EXPECT_EQ(now.size(), whole.size()) << after;
    for (const auto& [name, content] : whole) {
      // Lines of the lists may stand in another order, and ids differ where a scan was killed.
      if (!name.starts_with("bag/data/")) continue;
      EXPECT_TRUE(now.contains(name) && now.at(name) == content) << after << name;
    }
  }
}

TEST_F(Job, TakesFiltersAndAnArchive) {
  describe(
      "source = card.img\ndepth = quick\ncheck = sample\ntype = picture\nstate = deleted\n"
      "rating = whole,likely\nexport = pictures.zip\nshelf = here.shelf\n");
  const Outcome outcome = undershelf({"job", job_});
  EXPECT_LE(outcome.code, 1) << outcome.err;
  EXPECT_TRUE(fs::exists(folder_.path("here.shelf")));
  const Outcome listed = shell("unzip -Z1 " + test::quoted(folder_.path("pictures.zip")) +
                               " 'pictures/data/*' | grep -vc '/$'");
  const std::vector<Json> rows =
      undershelf({"list", folder_.path("here.shelf"), "--type", "picture", "--state", "deleted",
                  "--rating", "whole,likely", "--kind", "file", "--format", "jsonl"})
          .lines();
  EXPECT_EQ(std::stoul(listed.out), rows.size());
  EXPECT_FALSE(fs::exists(folder_.path("report")));
}

TEST_F(Job, SaysWhatIsWrongWithTheFile) {
  const struct {
    const char* lines;
    int code;
    const char* said;
  } cases[] = {
      {"export = bag\n", 2, "names no source"},
      {"source = card.img\ncolour = blue\n", 2, "`colour`, which no job knows"},
      {"source = card.img\nexport\n", 2, "no `name = value`"},
      {"source = card.img\nsource = other.img\n", 2, "twice"},
      {"source = none.img\n", 3, "none.img"},
      {"source = card.img\ndepth = deeper\n", 2, "quick, deep"},
      {"source = card.img\nexport = card.img\n", 4, "card.img"},
  };
  for (const auto& one : cases) {
    describe(one.lines);
    shell("rm -f " + test::quoted(folder_.path("job.shelf")) + "*");
    const Outcome outcome = undershelf({"job", job_});
    EXPECT_EQ(outcome.code, one.code) << one.lines << outcome.err;
    EXPECT_NE(outcome.err.find(one.said), std::string::npos) << outcome.err;
  }
  EXPECT_EQ(undershelf({"job", folder_.path("none.conf")}).code, 3);
  EXPECT_EQ(undershelf({"job"}).code, 2);
  const Outcome help = undershelf({"help", "job"});
  EXPECT_NE(help.out.find("source   = "), std::string::npos);
}

}  // namespace
}  // namespace undershelf::test
