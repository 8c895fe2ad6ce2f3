// The account adds up: what is selected, listed, counted and exported, over all samples.
#include <gtest/gtest.h>

#include "support.h"

namespace undershelf::test {
namespace {

std::vector<std::string> all_samples() {
  std::vector<std::string> names;
  for (const auto& file : std::filesystem::directory_iterator(UNDERSHELF_SAMPLES)) {
    const std::string name = file.path().filename().string();
    if (name.ends_with(".img.zst")) names.push_back(name.substr(0, name.size() - 8));
  }
  std::ranges::sort(names);
  return names;
}

class Account : public testing::TestWithParam<std::string> {};

TEST_P(Account, AddsUp) {
  const TempFolder folder;
  const std::string image = folder.path("image");
  const std::string shelf = folder.path("shelf");
  const std::string bag = folder.path("bag");
  write_file(image, sample(GetParam()));
  const bool deep = GetParam().starts_with("formatted") || GetParam() == "disk-repartitioned" ||
                    GetParam() == "fat32-images" || GetParam().starts_with("bare-") ||
                    GetParam().starts_with("hfsplus-kinds");
  ASSERT_LE(undershelf({"scan", image, "--shelf", shelf, "--depth", deep ? "deep" : "quick"}).code,
            1);
  const Json count = undershelf({"list", shelf, "--count", "--format", "jsonl"}).lines().at(0);
  uint64_t files = 0;
  uint64_t folders = 0;
  uint64_t streams = 0;
  uint64_t bytes = 0;
  std::map<std::pair<int64_t, std::string>, int64_t> by_state;
  for (const Json& row : undershelf({"list", shelf, "--format", "jsonl"}).lines()) {
    const bool main = row["stream"].is_null();
    files += main && row["kind"] == "file";
    folders += main && row["kind"] == "folder";
    streams += !main;
    if (!row["size"].is_null()) bytes += row["size"].get<uint64_t>();
    if (main && row["kind"] == "file") {
      ++by_state[{row["volume"].is_null() ? 0 : row["volume"].get<int64_t>(), row["state"]}];
    }
    // Folders have neither size nor rating; a size that is not known is none.
    EXPECT_TRUE(row["size"].is_null() || !main || row["kind"] != "folder") << row;
    EXPECT_TRUE(!row["size"].is_null() || row["rating"].is_null() || row["score"] <= 1) << row;
  }
  EXPECT_EQ(count["files"], files);
  EXPECT_EQ(count["folders"], folders);
  EXPECT_EQ(count["streams"], streams);
  EXPECT_EQ(count["bytes"], bytes);
  for (const Json& volume : undershelf({"volumes", shelf, "--format", "jsonl"}).lines()) {
    for (const char* state : {"live", "deleted", "former"}) {
      EXPECT_EQ(volume[state], (by_state[{volume["id"], state}])) << volume;
    }
  }
  const Outcome done = undershelf({"export", shelf, "--to", bag, "--format", "jsonl"});
  ASSERT_LE(done.code, 1) << done.err;
  const Json account = done.lines().at(0);
  EXPECT_EQ(account["selected"], files + streams) << account;
  EXPECT_EQ(account["selected_bytes"], bytes) << account;
  for (const char* unit : {"", "_bytes"}) {
    int64_t sum = 0;
    for (const char* part : {"written_in_full", "written_with_gaps", "left_out_gone",
                             "left_out_too_large", "left_out_failed"}) {
      sum += account[std::string(part) + unit].get<int64_t>();
    }
    EXPECT_EQ(sum, account[std::string("selected") + unit]) << account;
  }
  int64_t full = 0;
  int64_t gaps = 0;
  for (const Json& record : shell("cat " + quoted(bag + "/exported.jsonl")).lines()) {
    (record["missing"].empty() ? full : gaps) += 1;
    EXPECT_EQ(record["missing"].empty(),
              record["intact_bytes"] == record["size"] && !record["size"].is_null())
        << record;
  }
  EXPECT_EQ(account["written_in_full"], full);
  EXPECT_EQ(account["written_with_gaps"], gaps);
  EXPECT_EQ(done.code, gaps > 0 ? 1 : 0) << account;
  EXPECT_EQ(faults_of_bag(bag), "");
}

INSTANTIATE_TEST_SUITE_P(Samples, Account, testing::ValuesIn(all_samples()), [](const auto& one) {
  std::string name = one.param;
  std::erase(name, '-');
  return name;
});

}  // namespace
}  // namespace undershelf::test
