// `report`: its sums are those of the shelf, and nothing from a disk becomes part of the page.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <map>
#include <sstream>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

class Report : public testing::Test {
 protected:
  void scan(const std::string& name, const std::string& depth = "deep") {
    write_file(image_, sample(name));
    fs::remove(shelf_);
    fs::remove_all(to_);
    ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_, "--depth", depth}).code, 1);
  }
  Json report(std::vector<std::string> more = {}) {
    std::vector<std::string> call = {"report", shelf_, "--to", to_, "--format", "jsonl"};
    call.insert(call.end(), more.begin(), more.end());
    const Outcome outcome = undershelf(call);
    EXPECT_EQ(outcome.code, 0) << outcome.err;
    return outcome.lines().empty() ? Json() : outcome.lines()[0];
  }
  std::string file(const std::string& name) const { return read_file(to_ + "/" + name); }
  // The numbers of a CSV file without quotes, a map for each line.
  std::vector<std::map<std::string, std::string>> csv(const std::string& name) const {
    std::istringstream lines(file(name));
    const auto cells = [&] {
      std::vector<std::string> found;
      std::string line;
      if (!std::getline(lines, line)) return found;
      if (line.ends_with('\r')) line.pop_back();
      std::istringstream text(line);
      for (std::string cell; std::getline(text, cell, ',');) found.push_back(cell);
      return found;
    };
    const std::vector<std::string> names = cells();
    std::vector<std::map<std::string, std::string>> rows;
    for (auto row = cells(); !row.empty(); row = cells()) {
      for (size_t i = 0; i < row.size(); ++i) {
        if (i == 0) rows.emplace_back();
        rows.back()[names.at(i)] = row[i];
      }
    }
    return rows;
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
  std::string to_ = folder_.path("report");
};

TEST_F(Report, SumsAreThoseOfTheShelf) {
  for (const char* name :
       {"ntfs-office", "hfsplus-charts", "fat32-kinds", "formatted-exfat-again"}) {
    scan(name);
    const Json said = report();
    const std::vector<std::string> lost = {"totals",   shelf_, "--state", "deleted,former,carved",
                                           "--format", "csv"};
    EXPECT_EQ(file("outlook.csv"), undershelf(lost).out) << name;
    int64_t files = 0;
    for (const auto& row : csv("outlook.csv")) {
      files += std::stoll(row.at("files")) + std::stoll(row.at("streams"));
    }
    EXPECT_EQ(said["lost"], files) << name;
    EXPECT_GT(files, 0) << name;
    // The map covers the source, each byte once.
    int64_t bytes = 0;
    for (const auto& row : csv("map.csv")) {
      for (const auto& [field, value] : row) bytes += field == "offset" ? 0 : std::stoll(value);
    }
    EXPECT_EQ(bytes, static_cast<int64_t>(fs::file_size(image_))) << name;
    // The list is that of `list`.
    const std::string listed = undershelf({"list", shelf_, "--format", "csv"}).out;
    size_t rows = 0;
    for (const auto& one : undershelf({"list", shelf_, "--format", "jsonl"}).lines()) {
      rows += one["kind"] == "file" || !one["stream"].is_null();
    }
    const std::string own = file("files.csv");
    EXPECT_EQ(own.substr(0, own.find('\n')), listed.substr(0, listed.find('\n')));
    EXPECT_NE(file("report.html").find(">" + std::to_string(rows) + " file"), std::string::npos);
  }
}

// Lost bytes in the map are those of lost files that the ratings believe in.
TEST_F(Report, MapTellsLostFromLivingAndOverwritten) {
  scan("fat32-kinds");
  report();
  std::map<std::string, int64_t> sums;
  for (const auto& row : csv("map.csv")) {
    for (const auto& [field, value] : row) sums[field] += std::stoll(value);
  }
  int64_t intact = 0;
  int64_t live = 0;
  for (const Json& row : rows_of(shelf_, {"--kind", "file"})) {
    if (row["state"] == "live") live += int64_t(row["size"]);
    if (row["state"] != "live" && !row["intact_bytes"].is_null())
      intact += int64_t(row["intact_bytes"]);
  }
  EXPECT_GT(sums["lost-intact"], intact / 2);
  EXPECT_LE(sums["lost-intact"], intact);  // files may share bytes
  EXPECT_GE(sums["living"], live);
  EXPECT_GT(sums["free"], 0);
  EXPECT_GT(sums["lost-blank"], 0) << "part of the card was discarded";
}

TEST_F(Report, StandsAloneAndHoldsNothingThatADiskPutThere) {
  scan("fat12-floppy", "quick");
  SQLite::Database(shelf_, SQLite::OPEN_READWRITE)
      .exec(
          "UPDATE entries SET name='<script>alert(1)</script>\"''&' || char(27) || '[2J.txt' WHERE "
          "kind='file'");
  report({"--shop", "<b>shop", "--case", "17 & 18", "--customer", "party\"s"});
  const std::string page = file("report.html");
  EXPECT_EQ(page.find("<script"), std::string::npos);
  EXPECT_EQ(page.find('\x1b'), std::string::npos);
  EXPECT_EQ(page.find("<b>shop"), std::string::npos);
  EXPECT_NE(page.find("&lt;b&gt;shop"), std::string::npos);
  EXPECT_NE(page.find("case 17 &amp; 18"), std::string::npos);
  EXPECT_EQ(page.find("http"), std::string::npos) << "nothing is fetched";
  for (const char* name : {"map", "outlook", "time-line"}) {
    EXPECT_TRUE(file(std::string(name) + ".png").starts_with("\x89PNG")) << name;
    EXPECT_NE(file(std::string(name) + ".svg").find("<svg"), std::string::npos) << name;
    EXPECT_NE(file(std::string(name) + ".svg").find("</svg>"), std::string::npos) << name;
  }
}

TEST_F(Report, FollowsTheFilters) {
  scan("ntfs-office", "quick");
  const Json said = report({"--type", "picture", "--state", "deleted"});
  const Json counted =
      undershelf({"totals", shelf_, "--type", "picture", "--state", "deleted", "--format", "jsonl"})
          .lines()
          .at(0);
  EXPECT_EQ(said["files"], counted["files"]);
  EXPECT_EQ(said["lost"], counted["files"]);
  EXPECT_EQ(csv("outlook.csv").size(), 1U);
}

TEST_F(Report, IsRefusedWithWhatToDo) {
  scan("fat12-floppy", "quick");
  fs::create_directory(to_);
  write_file(to_ + "/mine", "kept");
  EXPECT_EQ(undershelf({"report", shelf_}).code, 2);
  const Outcome taken = undershelf({"report", shelf_, "--to", to_});
  EXPECT_EQ(taken.code, 4);
  EXPECT_NE(taken.err.find("choose a new folder"), std::string::npos) << taken.err;
  EXPECT_EQ(undershelf({"report", shelf_, "--to", to_ + "/no/where"}).code, 4);
  EXPECT_EQ(read_file(to_ + "/mine"), "kept");
  EXPECT_EQ(undershelf({"report", shelf_, "--to", folder_.path("r"), "--case", ""}).code, 0);
}

}  // namespace
}  // namespace undershelf::test
