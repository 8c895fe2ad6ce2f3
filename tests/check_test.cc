// The check of whole files, on a card with real files of every kind: sound, misnamed, harmed,
// discarded.
#include <gtest/gtest.h>

#include "kinds.h"
#include "scan/scan.h"
#include "shelf/selection.h"
#include "source/hash.h"
#include "source/identity.h"
#include "support.h"

namespace undershelf::test {
namespace {

class Checked : public testing::Test {
 protected:
  Checked() { write_file(image_, sample("fat32-kinds")); }

  Outcome scan(std::vector<std::string> more = {"--check", "full"}) {
    std::vector<std::string> call = {"scan", image_, "--shelf", shelf_};
    call.insert(call.end(), more.begin(), more.end());
    return undershelf(call);
  }

  std::map<std::string, Json> rows() {
    std::map<std::string, Json> found;
    for (const Json& row :
         undershelf({"list", shelf_, "--kind", "file", "--format", "jsonl"}).lines()) {
      found[row["path"]] = row;
    }
    return found;
  }

  static std::map<std::string, Json> known() {
    std::map<std::string, Json> found;
    for (const Json& row : truth("fat32-kinds")) found[row["path"]] = row;
    return found;
  }

  static ScanResult scan_into(Shelf& shelf, const SourcePtr& source, const ScanOptions& options) {
    return undershelf::scan(shelf, source, options);
  }

  TempFolder folder_;
  const std::string image_ = folder_.path("card.img"), shelf_ = folder_.path("shelf");
};

TEST_F(Checked, TellsSoundFilesFromOthers) {
  ASSERT_EQ(scan().code, 0);
  const auto true_of = known();
  size_t whole = 0, broken = 0;
  for (const auto& [path, row] : rows()) {
    if (row["state"] == "live") {
      EXPECT_TRUE(row["check"].is_null()) << path << ": living files are not asked for";
      continue;
    }
    const Json& original = true_of.at(path);
    const bool same = row["sha256"] == original["sha256"];
    if (row["rating"] == "whole") {
      EXPECT_TRUE(same) << path;
    }
    if (row["check"] == "verified") {
      EXPECT_TRUE(same) << path;
    }
    if (row["check"] == "broken") {
      EXPECT_FALSE(same) << path;
    }
    if (path.starts_with("Discarded/")) {
      EXPECT_EQ(row["rating"], "gone") << path;
    }
    if (path.starts_with("Sound/")) {
      EXPECT_TRUE(same) << path;
    }
    EXPECT_EQ(row["intact_bytes"] == row["size"],
              row["rating"] == "whole" || row["rating"] == "likely")
        << path;
    whole += row["rating"] == "whole";
    broken += row["check"] == "broken";
  }
  EXPECT_GE(whole, 13U);
  EXPECT_GE(broken, 10U);
}

TEST_F(Checked, GoesByContentWhereANameIsWrong) {
  ASSERT_EQ(scan().code, 0);
  const auto found = rows();
  const std::map<std::string, std::pair<std::string, std::string>> expected = {
      {"Misnamed/Curve.txt", {"png", "picture"}},
      {"Misnamed/Letter.doc", {"jpeg", "picture"}},
      {"Misnamed/Levels.jpg", {"xlsx", "document"}},
  };
  for (const auto& [path, what] : expected) {
    const Json& row = found.at(path);
    EXPECT_EQ(row["format"], what.first) << path;
    EXPECT_EQ(row["type"], what.second) << path;
    EXPECT_EQ(row["intact_bytes"], row["size"]) << path;
  }
  size_t pictures = 0;
  for (const Json& row :
       undershelf({"list", shelf_, "--type", "picture", "--path", "/Misnamed", "--format", "jsonl"})
           .lines()) {
    EXPECT_EQ(row["type"], "picture");
    ++pictures;
  }
  EXPECT_EQ(pictures, 2U);
}

TEST_F(Checked, SaysInWordsWhatWasFound) {
  ASSERT_EQ(scan().code, 0);
  const auto found = rows();
  const auto shown = [&](const std::string& path) {
    return undershelf({"show", shelf_, std::to_string(found.at(path)["id"].get<int64_t>())}).out;
  };
  EXPECT_NE(shown("Misnamed/Curve.txt").find("every checksum in it holds"), std::string::npos);
  EXPECT_NE(shown("Harmed/chart.png").find("The checksum of a chunk fails."), std::string::npos);
  EXPECT_NE(shown("Harmed/chart.png").find("follow the place at which its own structure breaks"),
            std::string::npos);
  EXPECT_NE(shown("Sound/chart.webp").find("nothing in it vouches for every byte"),
            std::string::npos);
}

// A bag says of a broken file what `show` does.
TEST_F(Checked, ABrokenFilesRestIsMissingInTheBag) {
  ASSERT_EQ(scan().code, 0);
  const std::string bag = folder_.path("bag");
  undershelf({"export", shelf_, "--to", bag, "--path", "/Harmed"});
  size_t told = 0;
  const std::string lines = read_file(bag + "/exported.jsonl");
  for (size_t at = 0; at < lines.size();) {
    const size_t end = lines.find('\n', at);
    const Json row = Json::parse(lines.substr(at, end - at));
    at = end + 1;
    if (row["check"] != "broken") continue;
    ASSERT_EQ(row["missing"].size(), 1U) << row["path"];
    EXPECT_EQ(row["missing"][0]["offset"], row["intact_bytes"]);
    EXPECT_TRUE(row["missing"][0]["why"].get<std::string>().starts_with("undecodable"));
    ++told;
  }
  EXPECT_GE(told, 10U);
}

TEST_F(Checked, DiscardedSpaceIsSaid) {
  const Outcome outcome = scan();
  EXPECT_NE(outcome.err.find("4 read blank wherever samples were taken"), std::string::npos)
      << outcome.err;
}

TEST_F(Checked, AFullerCheckAddsToALesserOne) {
  ASSERT_EQ(scan({}).code, 0);
  for (const auto& [path, row] : rows()) EXPECT_TRUE(row["check"].is_null()) << path;
  ASSERT_EQ(scan().code, 0);
  const auto once = rows();
  EXPECT_EQ(once.at("Harmed/chart.png")["check"], "broken");
  EXPECT_EQ(scan().code, 4) << "nothing is left to be done";
  EXPECT_EQ(scan({"--depth", "deep"}).code, 0);
  EXPECT_EQ(rows(), once);
}

// What was looked at before Ctrl-C is not looked at again.
TEST_F(Checked, GoesOnWhereItWasStopped) {
  const SourcePtr source = open_source(image_);
  const auto listed = [](const Shelf& shelf) {
    std::vector<std::string> rows;
    each_row(shelf, {}, [&](const Row& row) {
      rows.push_back(row.path + row.check.value_or("") + row.rating.value_or("") +
                     row.sha256.value_or(""));
      return true;
    });
    return rows;
  };
  ScanOptions options;
  options.check = Check::full;
  Shelf whole = Shelf::create(folder_.path("whole"), identify("card", *source), {});
  EXPECT_FALSE(scan_into(whole, source, options).stopped);

  Shelf shelf = Shelf::create(folder_.path("stopped"), identify("card", *source), {});
  Interrupts interrupts = 0;
  options.interrupts = &interrupts;
  uint64_t all = 0, done = 0;
  options.checking = [&](const checking::CheckProgress& progress) {
    all = progress.all_files;
    done = progress.files;
    if (progress.files == 20) interrupts = 1;
  };
  const ScanResult first = scan_into(shelf, source, options);
  EXPECT_TRUE(first.stopped && first.unchecked && !first.unsettled);
  EXPECT_LT(done, all);
  const uint64_t left = all - done;
  options.interrupts = nullptr;
  EXPECT_FALSE(scan_into(shelf, source, options).stopped);
  EXPECT_EQ(all, left);
  EXPECT_EQ(listed(shelf), listed(whole));
}

TEST_F(Checked, LivingFilesToo) {
  ASSERT_EQ(scan().code, 0);
  EXPECT_TRUE(rows().at("Still here.csv")["check"].is_null());
  ASSERT_EQ(scan({"--check", "full", "--check-living"}).code, 0);
  const Json row = rows().at("Still here.csv");
  EXPECT_EQ(row["check"], "unknown");
  EXPECT_EQ(row["format"], "text");
  EXPECT_EQ(row["rating"], "whole");
  EXPECT_EQ(row["sha256"], known().at("Still here.csv")["sha256"]);
}

// A file that was written around another one, both deleted since: nothing records where it went
// on, and the other one is not what its name says, so that it seems overwritten. Content tells.
class Around : public testing::TestWithParam<const char*> {};

TEST_P(Around, AnotherLostFileIsFoundByContent) {
  const TempFolder folder;
  const auto run = [&](const std::string& command) {
    const Outcome outcome =
        shell("cd " + quoted(folder.path()) + " && MTOOLS_SKIP_CHECK=1 " + command);
    ASSERT_EQ(outcome.code, 0) << command << outcome.err;
  };
  const std::string name = GetParam();
  std::string readings;
  while (readings.size() < 16'000) readings += "2026-04-02 10:00 TG07 level 312 cm\n";
  write_file(folder.path("before.bin"), std::string(900, 'b'));
  write_file(folder.path("hole.txt"), std::string(9000, 'x'));
  write_file(folder.path("kept.png"), readings);
  write_file(folder.path(name), kinds().at(name));
  run("mformat -C -i card.img -T 32768 -c 2 -r 32 ::");
  run("mcopy -i card.img before.bin hole.txt kept.png ::");
  run("mdel -i card.img ::hole.txt");
  run("mcopy -i card.img " + name + " ::");
  run("mdel -i card.img ::" + name + " ::kept.png");
  const std::string shelf = folder.path("shelf");
  ASSERT_EQ(undershelf({"scan", folder.path("card.img"), "--shelf", shelf, "--depth", "deep"}).code,
            0);
  for (int again = 0; again < 2; ++again) {
    const std::vector<Json> rows = rows_of(shelf, {"--name", "*" + name.substr(1)});
    ASSERT_EQ(rows.size(), 1U);
    EXPECT_EQ(rows[0]["placement"], "content");
    EXPECT_EQ(rows[0]["sha256"], sha256_hex(std::as_bytes(std::span(kinds().at(name)))));
    EXPECT_EQ(rows[0]["intact_bytes"], kinds().at(name).size());
    EXPECT_TRUE(rows[0]["rating"] == "whole" || rows[0]["rating"] == "likely") << rows[0];
    const Outcome shown = undershelf({"show", shelf, std::to_string(rows[0]["id"].get<int>())});
    EXPECT_NE(shown.out.find("found by its content, in 2 pieces"), std::string::npos);
    // It stays there, whatever is done with the shelf.
    undershelf({"scan", folder.path("card.img"), "--shelf", shelf, "--depth", "deep", "--check",
                "full", "--check-living"});
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, Around,
                         testing::Values("pack.zip", "stored.png", "report.docx", "restarts.jpg"),
                         [](const auto& one) {
                           const std::string name = one.param;
                           return name.substr(name.find('.') + 1);
                         });

// Of what breaks off, `show` tells whose bytes stand there, if that is known.
TEST(Reasons, NameWhoLiesWhereAFileBreaksOff) {
  const TempFolder folder;
  const std::string image = folder.path("card.img");
  const std::string shelf = folder.path("shelf");
  write_file(image, sample("fat16-fragments"));
  ASSERT_EQ(undershelf({"scan", image, "--shelf", shelf, "--depth", "deep"}).code, 0);
  const std::vector<Json> rows = rows_of(shelf, {"--path", "CHARTS/Sheet 2*"});
  ASSERT_EQ(rows.size(), 1U);
  ASSERT_EQ(rows[0]["check"], "broken");
  const std::string id = std::to_string(rows[0]["id"].get<int64_t>());
  const std::string shown = undershelf({"show", shelf, id}).out;
  EXPECT_NE(shown.find("Where it breaks off lies what the lost file Panorama of the coast.png"),
            std::string::npos)
      << shown;
}

}  // namespace
}  // namespace undershelf::test
