// How much there is of what: held against the rows of `list`. Words that are looked for.
#include "shelf/totals.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <set>

#include "content/types.h"
#include "model/text.h"
#include "scan/scan.h"
#include "support.h"

namespace undershelf::test {
namespace {

struct Sum {
  int64_t files = 0, streams = 0, bytes = 0;
  std::map<std::string, int64_t> rated;
  double expected = 0;
  bool operator==(const Sum& other) const {
    return files == other.files && streams == other.streams && bytes == other.bytes &&
           rated == other.rated && std::abs(expected - other.expected) < 0.06;
  }
};
void PrintTo(const Sum& sum, std::ostream* out) {
  *out << sum.files << " files, " << sum.streams << " streams, " << sum.bytes << " bytes, "
       << sum.expected << " expected, " << testing::PrintToString(sum.rated);
}

constexpr const char* kRated[] = {"whole", "likely", "partial", "gone"};

class TotalsOf : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    write_file(image_, sample(GetParam()));
    ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_, "--depth", "deep"}).code, 1);
  }
  // What a row of a list belongs to.
  static std::string value_of(const Json& row, const std::string& by) {
    const auto text = [&](const char* field) {
      return row[field].is_null() ? std::string() : row[field].get<std::string>();
    };
    const std::string path = text("path");
    if (by == "day") return text("modified").substr(0, 10);
    if (by == "folder") {
      const std::string stream = row["stream"].is_null() ? "" : ":" + text("stream");
      const std::string own = path.substr(0, path.size() - stream.size());
      const std::string name = text("name");
      return own == name ? "" : own.substr(0, own.size() - name.size() - 1);
    }
    if (by == "extension") {
      const std::string name = text("name");
      const size_t dot = name.rfind('.');
      std::string extension = dot == std::string::npos || dot == 0 ? "" : name.substr(dot + 1);
      for (char& c : extension) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
      return extension;
    }
    return by == "volume" ? "" : text(by.c_str());
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
};

TEST_P(TotalsOf, AreThoseOfTheRows) {
  for (const std::string by : {"type", "extension", "state", "rating", "folder", "day", "volume"}) {
    using Key = std::pair<int64_t, std::string>;
    const auto volume_of = [&](const Json& row) -> int64_t {
      const bool of_volume = by == "folder" || by == "volume";
      return of_volume && !row["volume"].is_null() ? row["volume"].get<int64_t>() : 0;
    };
    std::map<Key, Sum> rows;
    for (const Json& row : undershelf({"list", shelf_, "--format", "jsonl"}).lines()) {
      if (row["kind"] == "folder" && row["stream"].is_null()) continue;
      Sum& sum = rows[{volume_of(row), value_of(row, by)}];
      (row["stream"].is_null() ? sum.files : sum.streams) += 1;
      if (row["size"].is_number()) sum.bytes += row["size"].get<int64_t>();
      if (row["rating"].is_null()) continue;
      ++sum.rated[row["rating"]];
      sum.expected += row["score"].get<int>() / 100.0;
    }
    std::map<Key, Sum> told;
    for (const Json& group :
         undershelf({"totals", shelf_, "--by", by, "--format", "jsonl"}).lines()) {
      EXPECT_EQ(group["by"], by);
      Sum& sum = told[{volume_of(group),
                       group["value"].is_null() ? "" : group["value"].get<std::string>()}];
      EXPECT_EQ(sum.files + sum.streams, 0) << "one line a value: " << group;
      sum = {group["files"], group["streams"], group["bytes"], {}, group["expected"]};
      for (const char* rating : kRated) {
        if (group[rating] != 0) sum.rated[rating] = group[rating];
      }
    }
    EXPECT_EQ(told, rows) << by;
  }
}

TEST_P(TotalsOf, TakeFiltersAndAddUp) {
  const std::vector<std::string> filters[] = {{},
                                              {"--state", "deleted,former"},
                                              {"--rating", "likely+"},
                                              {"--type", "picture", "--limit", "1"}};
  for (const auto& filter : filters) {
    std::vector<std::string> call = {"totals", shelf_, "--by", "state", "--format", "jsonl"};
    call.insert(call.end(), filter.begin(), filter.end());
    int64_t files = 0;
    int64_t bytes = 0;
    for (const Json& group : undershelf(call).lines()) {
      files += group["files"].get<int64_t>();
      bytes += group["bytes"].get<int64_t>();
    }
    call = {"list", shelf_, "--count", "--format", "jsonl"};
    call.insert(call.end(), filter.begin(), filter.end());
    if (call.back() == "1") continue;  // there a limit is one of rows
    const Json count = undershelf(call).lines().at(0);
    EXPECT_EQ(count["files"], files);
    EXPECT_EQ(count["bytes"], bytes);
  }
}

INSTANTIATE_TEST_SUITE_P(Samples, TotalsOf,
                         testing::Values("fat32-kinds", "ntfs-office", "hfsplus-busy",
                                         "formatted-fat32-to-ntfs"),
                         [](const auto& one) {
                           std::string name = one.param;
                           std::erase(name, '-');
                           return name;
                         });

TEST(Totals, DaysAreThoseOfTheZone) {
  const TempFolder folder;
  const std::string shelf = folder.path("s");
  write_file(folder.path("i"), sample("ntfs-office"));
  ASSERT_LE(undershelf({"scan", folder.path("i"), "--shelf", shelf}).code, 1);
  for (const std::string zone : {"UTC", "Pacific/Auckland", "America/St_Johns"}) {
    for (const Json& group :
         undershelf({"totals", shelf, "--by", "day", "--format", "jsonl", "--time-zone", zone})
             .lines()) {
      if (group["value"].is_null()) continue;
      const Json count = undershelf({"list", shelf, "--kind", "file", "--modified", group["value"],
                                     "--time-zone", zone, "--count", "--format", "jsonl"})
                             .lines()
                             .at(0);
      EXPECT_EQ(count["files"], group["files"]) << zone << group;
    }
  }
  const Outcome wrong = undershelf({"totals", shelf, "--by", "colour"});
  EXPECT_EQ(wrong.code, 2);
  EXPECT_NE(wrong.err.find("extension"), std::string::npos) << wrong.err;
}

// Part of a name, of a former one, or of an original path; whatever the case, without accents.
// A scan and `totals` told other figures of the same files, and those of the types did not add up.
TEST(Totals, ExpectationsInWholeFilesAddUp) {
  const std::vector<std::pair<std::vector<double>, std::vector<uint64_t>>> cases = {
      {{}, {}}, {{0.4}, {0}}, {{0.6, 0.6, 0.3}, {1, 1, 0}}, {{1.6, 12.7, 2.5}, {2, 13, 2}}};
  for (const auto& [chances, whole] : cases) {
    std::vector<Group> groups(chances.size());
    for (size_t i = 0; i < chances.size(); ++i) groups[i].expected = chances[i];
    EXPECT_EQ(whole_expectations(groups), whole);
  }
  const TempFolder folder;
  const std::string shelf = folder.path("card.shelf");
  write_file(folder.path("card.img"), sample("fat32-kinds"));
  const Outcome outcome =
      undershelf({"scan", folder.path("card.img"), "--shelf", shelf, "--check", "full"});
  EXPECT_NE(outcome.err.find("mail 1 of 2"), std::string::npos) << outcome.err;
  EXPECT_NE(undershelf({"totals", shelf, "--state", "deleted"}).out.find("46\n"),
            std::string::npos);
}

TEST(Find, LooksAtAllNamesAFileHad) {
  const TempFolder folder;
  const std::string shelf = folder.path("s");
  const auto found = [&](const std::string& word) {
    std::set<std::string> paths;
    for (const Json& row :
         undershelf({"list", shelf, "--find", word, "--format", "jsonl"}).lines()) {
      paths.insert(row["path"].get<std::string>());
    }
    return paths;
  };
  const auto expected = [&](const std::function<bool(const std::string&)>& fits) {
    std::set<std::string> paths;
    for (const Json& row : undershelf({"list", shelf, "--format", "jsonl"}).lines()) {
      bool any = fits(row["name"]);
      for (const Json& path : row["former_paths"]) {
        any = any || fits(path.get<std::string>().substr(path.get<std::string>().rfind('/') + 1));
      }
      if (row["original_path"].is_string()) any = any || fits(row["original_path"]);
      if (any) paths.insert(row["path"].get<std::string>());
    }
    return paths;
  };
  for (const char* name : {"ntfs-office", "hfsplus-busy", "fat32-trash"}) {
    write_file(folder.path("i"), sample(name));
    ASSERT_LE(undershelf({"scan", folder.path("i"), "--shelf", shelf, "--replace"}).code, 1);
    const auto has = [](const char* part) {
      return [part](const std::string& text) {
        return fold_for_search(text).find(part) != std::string::npos;
      };
    };
    for (const char* word : {"GAUGE", "Su\u0308dkai", "sudkai", "e", ".cs", "no such word"}) {
      const std::string folded = fold_for_search(word);
      EXPECT_EQ(found(word), expected(has(folded.c_str()))) << name << ": " << word;
    }
  }
  EXPECT_EQ(fold_for_search("\u00C9CLUSE Stra\u00DFe"), "ecluse strasse");
}

// While a volume is read, what was found on it so far is told by type.
TEST(Totals, AreToldWhileAVolumeIsRead) {
  const TempFolder folder;
  Shelf shelf = Shelf::create(folder.path("shelf"), {}, {});
  ScanOptions options;
  std::vector<FilesByType> told;
  options.found = [&](const FilesByType& found) { told.push_back(found); };
  scan(shelf, std::make_shared<MemorySource>(sample("fat32-kinds")), options);
  ASSERT_FALSE(told.empty());
  FilesByType expected{};
  SQLite::Statement row(shelf.db(), "SELECT type FROM entries WHERE kind='file'");
  while (row.executeStep()) {
    const std::string type = row.getColumn(0).getString();
    ++expected[static_cast<size_t>(std::ranges::find(type_names(), type) - type_names().begin())];
  }
  EXPECT_EQ(told.back(), expected);
  EXPECT_GT(expected[0], 5U) << "pictures";
}

}  // namespace
}  // namespace undershelf::test
