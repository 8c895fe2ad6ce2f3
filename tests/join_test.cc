// Names without content joined with content without a name.
#include <gtest/gtest.h>

#include <set>

#include "placing/alignment.h"
#include "support.h"

namespace undershelf::test {
namespace {

struct Rows {
  const char* what;
  std::string first, second;  // one letter a thing; alike ones fit
  std::string pairs;          // of places, in order: "00 12"
};

class Alignment : public testing::TestWithParam<Rows> {};

TEST_P(Alignment, PairsWhatNothingElseFits) {
  const Rows& rows = GetParam();
  std::string found;
  for (const auto& [i, j] :
       certain_pairs(rows.first.size(), rows.second.size(),
                     [&](size_t i, size_t j) { return rows.first[i] == rows.second[j]; })) {
    found += (found.empty() ? "" : " ") + std::to_string(i) + std::to_string(j);
  }
  EXPECT_EQ(found, rows.pairs) << rows.what;
}

INSTANTIATE_TEST_SUITE_P(
    Table, Alignment,
    testing::Values(Rows{"nothing", "", "ab", ""}, Rows{"the same", "abc", "abc", "00 11 22"},
                    Rows{"names left over", "ac", "abcd", "00 12"},
                    Rows{"finds left over", "axc", "ac", "00 21"},
                    Rows{"two names for one find", "a", "aba", ""},
                    Rows{"two finds for one name", "aa", "a", ""},
                    Rows{"others decide", "aba", "abca", "00 11 23"},
                    Rows{"one end is open", "ab", "aab", "12"},
                    Rows{"against the order: either pair could be the wrong one", "ab", "ba", ""},
                    Rows{"nothing fits", "aa", "bb", ""}));

struct Case {
  const char* sample;
  size_t least;  // files
};

class Joined : public testing::TestWithParam<Case> {
 protected:
  std::vector<Json> scan(const std::vector<std::string>& more = {}) {
    const std::string image = folder_.path("x.img");
    write_file(image, sample(GetParam().sample));
    std::vector<std::string> call = {"scan",    image,  "--shelf",  shelf_,
                                     "--depth", "deep", "--format", "jsonl"};
    call.insert(call.end(), more.begin(), more.end());
    const Outcome outcome = undershelf(call);
    EXPECT_EQ(outcome.code, 0) << outcome.err;
    joined_ = outcome.lines().back()["joined"];
    return rows_of(shelf_);
  }

  static bool is_joined(const Json& shown) {
    for (const Json& fact : shown["evidence"]) {
      if (fact.get<std::string>().find("content without a name") != std::string::npos) return true;
    }
    return false;
  }

  TempFolder folder_;
  std::string shelf_ = folder_.path("s");
  int64_t joined_ = 0;
};

TEST_P(Joined, NamesAndContentThatBelongTogether) {
  const std::vector<Json> rows = scan();
  EXPECT_GE(joined_, GetParam().least);
  std::map<std::string, std::set<std::string>> contents;  // by name
  for (const Json& one : truth(GetParam().sample)) {
    if (one["kind"] != "file") continue;
    const std::string path = one["path"];
    contents[path.substr(path.rfind('/') + 1)].insert(one["sha256"]);
  }
  std::set<std::string> carved;
  for (const Json& row : rows) {
    const bool is_whole = row["check"] != "broken";
    if (row["state"] == "carved" && row["kind"] == "file" && is_whole) carved.insert(row["sha256"]);
  }
  const std::map<int64_t, std::string> written = exported(shelf_, folder_.path("bag"));
  size_t right = 0, all = 0;
  for (const Json& row : rows) {
    if (row["placement"] != "content" || row["state"] == "carved") continue;
    const Json shown =
        undershelf({"show", shelf_, std::to_string(row["id"].get<int64_t>()), "--format", "jsonl"})
            .lines()
            .at(0);
    if (!is_joined(shown)) continue;
    ++all;
    right += contents[row["name"]].contains(row["sha256"]);
    // It is promised for what it is: the content is whole, the name may be another's.
    EXPECT_EQ(row["rating"], "likely") << row;
    EXPECT_EQ(written.at(row["id"]), row["sha256"]) << row;
    EXPECT_FALSE(carved.contains(row["sha256"])) << row;
  }
  EXPECT_EQ(all, joined_);
  EXPECT_GE(right * 10, all * 9);
}

TEST_P(Joined, AnewWithWhatIsFoundLater) {
  scan({"--kinds", "audio"});
  EXPECT_EQ(joined_, 0);
  std::map<std::string, int64_t> ids;
  for (const Json& row : scan({"--kinds", "picture"})) ids[row["path"]] = row["id"];
  const int64_t before = joined_;
  EXPECT_GE(before, GetParam().least / 2);
  for (const Json& row : scan()) {
    const auto known = ids.find(row["path"]);
    if (known != ids.end() && row["state"] != "deleted") {
      EXPECT_EQ(known->second, row["id"]) << row;
    }
  }
  EXPECT_GE(joined_, before);
}

// What lies on a disk outside of a volume is none of its files, whatever its size.
TEST(Joining, StaysInsideTheVolume) {
  const TempFolder folder;
  const auto scanned = [&](const std::string& name, const std::string& disk) {
    write_file(folder.path(name + ".img"), disk);
    const Outcome outcome = undershelf(
        {"scan", folder.path(name + ".img"), "--shelf", folder.path(name), "--depth", "deep"});
    EXPECT_EQ(outcome.code, 0) << outcome.err;
    return rows_of(folder.path(name), {"--name", "Sheet 2 of the outer bank.png"}).at(0);
  };
  std::string volume = sample("formatted-ntfs-clusters");
  const Json joined = scanned("volume", volume);
  ASSERT_EQ(joined["placement"], "content");
  const Json piece = undershelf({"show", folder.path("volume"),
                                 std::to_string(joined["id"].get<int64_t>()), "--format", "jsonl"})
                         .lines()
                         .at(0)["pieces"]
                         .at(0);
  const size_t at = piece["offset"], length = piece["length"];
  std::string ahead(1 << 20, '\0');
  ahead.replace(8192, length, volume.substr(at, length));
  volume.replace(at, length, length, '\0');
  EXPECT_EQ(scanned("disk", ahead + volume)["placement"], "none");
}

// The last name and the last content of a kind belong together, but less surely where files that
// were made before and after it lie elsewhere.
TEST(Joining, TellsWhereOrderSpeaksAgainstIt) {
  const TempFolder folder;
  const auto shown = [&](const std::string& volume, const std::string& name) {
    const std::string shelf = folder.path(volume);
    write_file(shelf + ".img", sample(volume));
    EXPECT_EQ(undershelf({"scan", shelf + ".img", "--shelf", shelf, "--depth", "deep"}).code, 0);
    const int64_t id = rows_of(shelf, {"--name", name}).at(0)["id"];
    return undershelf({"show", shelf, std::to_string(id), "--format", "jsonl"}).lines().at(0);
  };
  const auto evidence_has = [](const Json& row, const std::string& words) {
    return row["evidence"].dump().find(words) != std::string::npos;
  };
  const Json in_order = shown("hfsplus-kinds", "8nnnnnnnnn.ts");
  EXPECT_EQ(in_order["rating"], "likely");
  EXPECT_TRUE(evidence_has(in_order, "no other content of that kind")) << in_order;
  EXPECT_FALSE(evidence_has(in_order, "lie elsewhere")) << in_order;
  const Json against = shown("hfsplus-kinds-against-order", "Log 56.mkv");
  EXPECT_EQ(against["rating"], "partial");
  EXPECT_TRUE(evidence_has(against, "lie elsewhere")) << against;
  EXPECT_EQ(against["size"], 37154);
  const Outcome advice =
      undershelf({"advise", folder.path("hfsplus-kinds-against-order"), "--name", "Log 56.mkv"});
  EXPECT_NE(advice.out.find("the content may be another's"), std::string::npos) << advice.out;
}

INSTANTIATE_TEST_SUITE_P(Samples, Joined,
                         testing::Values(Case{"formatted-hfsplus-again", 8},
                                         Case{"formatted-ntfs-clusters", 8},
                                         Case{"hfsplus-busy", 3}, Case{"hfsplus-kinds", 3}),
                         [](const auto& one) {
                           std::string name = one.param.sample;
                           std::erase(name, '-');
                           return name;
                         });

}  // namespace
}  // namespace undershelf::test
