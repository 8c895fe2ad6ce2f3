// What is handed to a customer, and from whose source it comes. Each test is a fault that was
// mended.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <sstream>

#include "access/safe_names.h"
#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

class HandingOver : public testing::Test {
 protected:
  Outcome scan(std::vector<std::string> more = {}) {
    std::vector<std::string> call = {"scan", image_, "--shelf", shelf_, "--quiet"};
    call.insert(call.end(), more.begin(), more.end());
    return undershelf(call);
  }
  void open(const std::string& name, std::vector<std::string> more = {}) {
    write_file(image_, sample(name));
    ASSERT_LE(scan(std::move(more)).code, 1);
  }
  Outcome export_to(const std::string& target, std::vector<std::string> more = {}) {
    std::vector<std::string> call = {"export", shelf_, "--to", target};
    call.insert(call.end(), more.begin(), more.end());
    return undershelf(call);
  }
  static Json one_line(const Outcome& outcome) {
    const std::vector<Json> lines = outcome.lines();
    return lines.empty() ? Json() : lines.front();
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
  std::string bag_ = folder_.path("bag");
};

// A job took the shelf that was named after it, whatever source it named by then.
TEST_F(HandingOver, AJobNeverHandsOverAnotherSourcesFiles) {
  write_file(folder_.path("other.img"), sample("fat12-floppy"));
  write_file(image_, sample("fat16-logger"));
  const std::string job = folder_.path("job.conf");
  const auto run_job = [&](const std::string& lines) {
    write_file(job, lines);
    return undershelf({"job", job});
  };
  ASSERT_EQ(run_job("source = card.img\ndepth = quick\ncheck = sample\nexport = a.zip\n").code, 0);
  const Outcome other =
      run_job("source = other.img\ndepth = quick\ncheck = sample\nexport = outB\nreport = repB\n");
  EXPECT_EQ(other.code, 3);
  EXPECT_NE(other.err.find("not of the source"), std::string::npos) << other.err;
  EXPECT_FALSE(fs::exists(folder_.path("outB")));
  EXPECT_FALSE(fs::exists(folder_.path("repB")));
  EXPECT_EQ(run_job("source = gone.img\ndepth = quick\nreport = repC\n").code, 3);
  EXPECT_FALSE(fs::exists(folder_.path("repC")));
  // The same path, another card in it.
  fs::copy_file(folder_.path("other.img"), image_, fs::copy_options::overwrite_existing);
  EXPECT_EQ(run_job("source = card.img\ndepth = quick\ncheck = sample\nreport = repD\n").code, 3);
  // An archive that is there may be anybody's.
  write_file(image_, sample("fat16-logger"));
  EXPECT_EQ(run_job("source = card.img\ndepth = quick\ncheck = sample\nexport = a.zip\n").code, 0);
  write_file(folder_.path("b.zip"), "somebody's");
  EXPECT_EQ(run_job("source = card.img\ndepth = quick\ncheck = sample\nexport = b.zip\n").code, 4);
  EXPECT_EQ(read_file(folder_.path("b.zip")), "somebody's");
}

// They were looked at when the scan was over: a wrong letter cost the night.
TEST_F(HandingOver, AJobLooksAtAllItsLinesBeforeItScans) {
  write_file(image_, sample("fat12-floppy"));
  for (const char* line :
       {"state = ded", "type = pictrues", "rating = good", "size = many", "deleted = some day",
        "layout = heap", "depth = shallow", "kinds = films", "check = all", "export = files.rar",
        "time-zone = Nowhere/Land"}) {
    const std::string job = folder_.path("job.conf");
    write_file(job, std::string("source = card.img\n") + line + '\n');
    const Outcome outcome = undershelf({"job", job});
    EXPECT_EQ(outcome.code, 2) << line << outcome.err;
    EXPECT_FALSE(fs::exists(folder_.path("job.shelf"))) << line;
  }
}

// An ISO image took the folder and the file beside its place for its own, and removed them; a
// relative name always failed, as the library takes names from the root.
TEST_F(HandingOver, AnArchiveRemovesNothingThatIsNotItsOwn) {
  open("fat12-floppy");
  fs::create_directory(folder_.path("out.iso.files"));
  write_file(folder_.path("out.iso.files/thesis.txt"), "precious");
  const Outcome refused = export_to(folder_.path("out.iso"), {"--state", "live"});
  EXPECT_EQ(refused.code, 4) << refused.err;
  EXPECT_EQ(read_file(folder_.path("out.iso.files/thesis.txt")), "precious");
  write_file(folder_.path("o.tar.part"), "mine");
  EXPECT_LE(export_to(folder_.path("o.tar"), {"--state", "live"}).code, 4);
  EXPECT_EQ(read_file(folder_.path("o.tar.part")), "mine");
  const Outcome relative = shell("cd " + quoted(folder_.path()) + " && " UNDERSHELF_PROGRAM +
                                 " export card.shelf --to relative.iso --state live");
  EXPECT_EQ(relative.code, 0) << relative.err;
  EXPECT_GT(fs::file_size(folder_.path("relative.iso")), 32768U);
  EXPECT_FALSE(fs::exists(folder_.path("relative.iso.files")));
}

// What was read was never held against what the shelf knew of it.
TEST_F(HandingOver, WhatChangedSinceTheScanIsSaid) {
  open("fat32-kinds", {"--check", "full"});
  Json picture;
  for (const Json& row : rows_of(shelf_, {"--ext", "png", "--rating", "whole"})) picture = row;
  ASSERT_FALSE(picture.is_null());
  const std::string id = std::to_string(picture["id"].get<int64_t>());
  const Json shown = one_line(undershelf({"show", shelf_, id, "--format", "jsonl"}));
  const auto at = shown["pieces"][0]["offset"].get<size_t>();
  std::string bytes = read_file(image_);
  for (size_t i = 200; i < 260; ++i) bytes[at + i] = '!';
  write_file(image_, bytes);
  const Outcome outcome = export_to(bag_, {"--id", id, "--format", "jsonl"});
  EXPECT_EQ(outcome.code, 1);
  const Json account = one_line(outcome);
  EXPECT_EQ(account["written_changed"], 1);
  EXPECT_EQ(account["written_in_full"], 0);
  const Json record = one_line(shell("cat " + quoted(bag_ + "/exported.jsonl")));
  EXPECT_EQ(record["changed"], true);
  EXPECT_NE(record["sha256"], picture["sha256"]);
  EXPECT_EQ(faults_of_bag(bag_), "");
  const Outcome verified = undershelf({"verify", bag_, "--shelf", shelf_});
  EXPECT_EQ(verified.out.find("was verified when it was exported"), std::string::npos);
  EXPECT_NE(verified.out.find("changed"), std::string::npos) << verified.out;
}

// An export was gone on with after a deeper scan as if nothing had become known since.
TEST_F(HandingOver, GoingOnAfterADeeperScanWritesAnewWhatIsKnownBetter) {
  open("fat16-fragments");
  ASSERT_LE(export_to(bag_, {"--state", "deleted"}).code, 1);
  const auto of_bag = [&] {
    std::map<int64_t, Json> records;
    for (Json& line : shell("cat " + quoted(bag_ + "/exported.jsonl")).lines()) {
      records[line["id"].get<int64_t>()] = line;
    }
    return records;
  };
  const auto before = of_bag();
  ASSERT_LE(scan({"--depth", "deep"}).code, 1);
  ASSERT_LE(export_to(bag_, {"--state", "deleted", "--resume"}).code, 1);
  EXPECT_EQ(faults_of_bag(bag_), "");
  const std::string fresh = folder_.path("fresh");
  ASSERT_LE(export_to(fresh, {"--state", "deleted"}).code, 1);
  size_t better = 0;
  const auto after = of_bag();
  for (const Json& line : shell("cat " + quoted(fresh + "/exported.jsonl")).lines()) {
    const auto id = line["id"].get<int64_t>();
    ASSERT_TRUE(after.contains(id));
    EXPECT_EQ(after.at(id)["sha256"], line["sha256"]) << line["path"];
    EXPECT_EQ(after.at(id), line) << "as an export by itself has it";
    better += before.contains(id) && before.at(id) != line;
  }
  EXPECT_GT(better, 0U) << "a deep scan of this sample knows more of some files";
}

// Two files of one name and content, of which one has an end that is not its own, were written as
// one: the hash on the shelf was of fewer bytes than the file has.
TEST_F(HandingOver, AHashIsOfAllBytesOfItsFile) {
  for (const char* name : {"bare-card", "split-card", "fat16-fragments", "hfsplus-pieces"}) {
    fs::remove_all(bag_);
    fs::remove(shelf_);
    open(name, {"--depth", "deep"});
    std::map<int64_t, std::string> known;
    for (const Json& row : rows_of(shelf_, {"--kind", "file"})) {
      if (row["sha256"].is_string() && row["intact_bytes"] == row["size"]) {
        known[row["id"].get<int64_t>()] = row["sha256"];
      }
    }
    const std::map<int64_t, std::string> written = exported(shelf_, bag_);
    for (const auto& [id, sha256] : known) {
      const auto file = written.find(id);
      if (file == written.end()) continue;
      EXPECT_EQ(file->second, sha256) << name << ' ' << id;
    }
  }
}

// `--sort rating` ended with "The shelf is damaged", on every shelf.
TEST_F(HandingOver, EveryFieldSorts) {
  open("fat16-logger");
  // As the message to a wrong one has them.
  const std::string told = undershelf({"list", shelf_, "--sort", "nothing"}).err;
  const size_t at = told.find("It takes ");
  ASSERT_NE(at, std::string::npos);
  std::string words = told.substr(at + 9);
  std::ranges::replace_if(
      words, [](char c) { return c != '_' && (c < 'a' || c > 'z'); }, ' ');
  std::istringstream fields(words);
  size_t count = 0;
  for (std::string field; fields >> field; ++count) {
    for (const std::string sign : {"", "-"}) {
      const Outcome outcome = undershelf({"list", shelf_, "--sort", sign + field, "--count"});
      EXPECT_EQ(outcome.code, 0) << sign << field << outcome.err;
    }
  }
  EXPECT_GE(count, 8U) << words;
  const std::vector<Json> rows = rows_of(shelf_, {"--sort", "rating", "--kind", "file"});
  EXPECT_TRUE(std::ranges::is_sorted(rows, {}, [](const Json& row) {
    const std::string rating = row["rating"].is_string() ? row["rating"] : "";
    return rating == "whole" ? 0 : rating == "likely" ? 1 : rating == "partial" ? 2 : 3;
  }));
}

// After each deep scan advice said that the whole source had not been looked at.
TEST_F(HandingOver, AdviceAfterADeepScanDoesNotAskForWhatWasDone) {
  open("fat16-logger", {"--depth", "deep"});
  const std::string advice = undershelf({"advise", shelf_}).out;
  EXPECT_EQ(advice.find("not looked at"), std::string::npos) << advice;
}

// Names that Windows keeps for devices went to its file systems, and into archives, as they are.
TEST(DeviceNames, AreNoNamesWhereWindowsReads) {
  NameRules card;
  card.strict_names = true;
  for (const char* name :
       {"CON", "con.txt", "nul", "aux.jpg", "COM1.csv", "lpt9", "PRN .txt", "COM\xc2\xb9.txt"}) {
    EXPECT_EQ(safe_name(name, card), std::string("_") + name);
    EXPECT_EQ(safe_name(name, NameRules{}), name);
  }
  for (const char* name : {"CONS.txt", "COM10.txt", "COMA", "a.con", "auxiliary.txt"}) {
    EXPECT_EQ(safe_name(name, card), name);
  }
}

// A report without files was an empty page and a success; a full disk left a folder without a page.
TEST_F(HandingOver, NothingToReportIsNoReport) {
  open("fat12-floppy");
  const Outcome nothing = undershelf({"report", shelf_, "--to", bag_, "--name", "no such file"});
  EXPECT_EQ(nothing.code, 1);
  EXPECT_FALSE(fs::exists(bag_));
}

// Small untruths of commands.
TEST_F(HandingOver, CallsThatCanDoNothingSayWhy) {
  open("fat16-logger");
  const struct {
    std::vector<std::string> call;
    int code;
    const char* said;
  } cases[] = {
      {{"list", shelf_, "--ext", "*.csv", "--count"}, 0, "files"},
      {{"list", shelf_, "--ext", "*"}, 2, "--name"},
      {{"list", shelf_, "--limit", "0"}, 2, "--limit 0"},
      {{"sheet", shelf_, "--to", folder_.path("s.jpg")}, 2, ".png"},
      {{"peek", shelf_, "Charts"}, 2, "is a folder"},
      {{"image", image_, "--to", folder_.path("c.img"), "--attempts", "0"}, 2, "--attempts 0"},
      {{"image", image_, "--to", folder_.path("c.img"), "--rate", "0"}, 2, "--rate 0"},
      {{"image", image_, "--to", folder_.path("c.img"), "--patience", "x"}, 2, "\n--patience"},
  };
  for (const auto& one : cases) {
    const Outcome outcome = undershelf(one.call);
    EXPECT_EQ(outcome.code, one.code) << one.call[0] << ' ' << outcome.err;
    const std::string said = '\n' + outcome.out + '\n' + outcome.err;
    EXPECT_NE(said.find(one.said), std::string::npos) << one.call[0] << ' ' << said;
  }
  const std::vector<Json> pictures = rows_of(shelf_, {"--ext", "*.csv"});
  EXPECT_EQ(pictures.size(), rows_of(shelf_, {"--ext", "csv"}).size());
  EXPECT_GT(pictures.size(), 0U);
}

}  // namespace
}  // namespace undershelf::test
