// What filters find: hidden files, equal ones; and exports that foresee, or write content once.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

// A card by mtools: two hidden entries, one that begins with a dot, two pairs of equal files, of
// which one is half deleted, and two empty files.
class Finding : public testing::Test {
 protected:
  void SetUp() override {
    const Outcome made = shell(
        "cd " + quoted(folder_.path()) +
        " && mkfs.fat -C -F 16 card.img 16384 > /dev/null && seq 900 | head -c 3000 > gauge && "
        "echo tide > note && : > empty && mmd -i card.img ::LOG && "
        "mcopy -i card.img gauge ::LOG/GAUGE.TXT && mcopy -i card.img gauge ::COPY.TXT && "
        "mcopy -i card.img note ::NOTE.TXT && mcopy -i card.img note ::.draft && "
        "mcopy -i card.img empty ::ONE.TXT && mcopy -i card.img empty ::TWO.TXT && "
        "mattrib -i card.img +h ::NOTE.TXT && mattrib -i card.img +h ::LOG && "
        "mdel -i card.img ::COPY.TXT");
    ASSERT_EQ(made.code, 0) << made.err;
    ASSERT_EQ(scan({"--check", "full", "--check-living"}), 0);
  }
  int scan(std::vector<std::string> more) {
    std::vector<std::string> call = {"scan", folder_.path("card.img"), "--shelf", shelf_};
    call.insert(call.end(), more.begin(), more.end());
    return undershelf(call).code;
  }
  std::vector<std::string> paths(std::vector<std::string> filters) const {
    std::vector<std::string> found;
    for (const Json& row : rows_of(shelf_, std::move(filters))) found.push_back(row["path"]);
    return found;
  }
  Outcome save(const std::string& bag, std::vector<std::string> more) const {
    std::vector<std::string> call = {"export",          shelf_,     "--to",
                                     folder_.path(bag), "--format", "jsonl"};
    call.insert(call.end(), more.begin(), more.end());
    return undershelf(call);
  }

  TempFolder folder_;
  std::string shelf_ = folder_.path("card.shelf");
};

using Paths = std::vector<std::string>;

TEST_F(Finding, HiddenByAnAttributeOrADot) {
  EXPECT_EQ(paths({"--hidden"}), (Paths{".draft", "LOG", "NOTE.TXT"}));
  const Outcome shown = undershelf({"show", shelf_, "NOTE.TXT", "--format", "jsonl"});
  EXPECT_EQ(shown.lines().at(0)["hidden"], true);
}

TEST_F(Finding, DuplicatesStandTogetherWhateverTheirState) {
  EXPECT_EQ(paths({"--duplicates"}), (Paths{"_OPY.TXT", "LOG/GAUGE.TXT", ".draft", "NOTE.TXT"}));
  EXPECT_EQ(paths({"--duplicates", "--state", "deleted"}), (Paths{"_OPY.TXT"}));
  // A tree goes by folders all the same.
  const std::string tree = undershelf({"tree", shelf_, "--duplicates"}).out;
  EXPECT_LT(tree.find("_OPY.TXT"), tree.find("LOG/")) << tree;
  EXPECT_LT(tree.find("LOG/"), tree.find("GAUGE.TXT")) << tree;
  EXPECT_LT(tree.find("GAUGE.TXT"), tree.find("NOTE.TXT")) << tree;
}

TEST_F(Finding, WithoutHashesThereAreNoDuplicates) {
  fs::remove(shelf_);
  ASSERT_EQ(scan({"--check", "none"}), 0);
  const Outcome listed = undershelf({"list", shelf_, "--duplicates"});
  EXPECT_NE(listed.err.find("--check full"), std::string::npos) << listed.err;
}

TEST_F(Finding, EqualContentIsExportedOnce) {
  ASSERT_EQ(save("once", {"--unique"}).code, 0);
  const std::string data = folder_.path("once") + "/data/volume-1/";
  EXPECT_TRUE(fs::equivalent(data + "LOG/GAUGE.TXT", data + "_OPY.TXT"));
  EXPECT_TRUE(fs::equivalent(data + ".draft", data + "NOTE.TXT"));
  EXPECT_EQ(faults_of_bag(folder_.path("once")), "");
  ASSERT_EQ(save("all", {}).code, 0);
  EXPECT_EQ(fs::hard_link_count(folder_.path("all") + "/data/volume-1/NOTE.TXT"), 1U);
}

// With what an earlier run wrote.
TEST_F(Finding, EqualContentIsExportedOnceWhenGoneOnWith) {
  ASSERT_EQ(save("once", {"--unique"}).code, 0);
  const std::string data = folder_.path("once") + "/data/volume-1/";
  // Whichever of them comes first.
  for (const char* lost : {"NOTE.TXT", ".draft"}) {
    fs::remove(data + lost);
    ASSERT_EQ(save("once", {"--unique", "--resume"}).code, 0);
    EXPECT_TRUE(fs::equivalent(data + ".draft", data + "NOTE.TXT")) << lost;
    EXPECT_EQ(faults_of_bag(folder_.path("once")), "") << lost;
  }
}

TEST_F(Finding, ADryRunSaysWhatWouldBeAndWritesNothing) {
  const Outcome foreseen = save("bag", {"--dry-run"});
  EXPECT_EQ(foreseen.code, 0) << foreseen.err;
  EXPECT_FALSE(fs::exists(folder_.path("bag")));
  const Json told = foreseen.lines().at(0);
  EXPECT_EQ(told["dry_run"], true);
  EXPECT_GT(told["room"], told["selected_bytes"]);
  const Json done = save("bag", {}).lines().at(0);
  for (const char* sum : {"selected", "selected_bytes", "written_in_full", "written_in_full_bytes",
                          "written_with_gaps", "left_out_gone", "renamed"}) {
    EXPECT_EQ(told[sum], done[sum]) << sum;
  }
  // What is in the way is said now as it would be then.
  EXPECT_EQ(save("bag", {"--dry-run"}).code, 4);
  EXPECT_EQ(save("new", {"--dry-run", "--resume"}).code, 2);
}

TEST(DryRun, SaysWhatIsLeftOutAndHasGaps) {
  const TempFolder folder;
  for (const char* name : {"fat32-kinds", "ntfs-office", "formatted-fat32-to-ntfs"}) {
    const std::string image = folder.path(std::string(name) + ".img");
    const std::string shelf = folder.path(std::string(name) + ".shelf");
    write_file(image, sample(name));
    undershelf({"scan", image, "--shelf", shelf, "--check", "full"});
    const auto save = [&](std::vector<std::string> more) {
      std::vector<std::string> call = {
          "export", shelf, "--to", folder.path(std::string(name) + ".bag"), "--format", "jsonl"};
      call.insert(call.end(), more.begin(), more.end());
      return undershelf(call).lines().at(0);
    };
    const Json told = save({"--dry-run"});
    const Json done = save({});
    for (const char* sum : {"selected_bytes", "written_in_full", "written_with_gaps",
                            "left_out_gone", "renamed", "left_out_failed"}) {
      EXPECT_EQ(told[sum], done[sum]) << name << " " << sum;
    }
    EXPECT_EQ(told["renames"].size(), told["renamed"]) << name;
  }
}

// The attribute's bit where each specification has it, in a file that a driver wrote.
std::string utf16(const std::string& name, bool big) {
  std::string units;
  for (const char c : name) units += big ? std::string{'\0', c} : std::string{c, '\0'};
  return units;
}

// [exFAT] 7.4.4: FileAttributes, in the entry before those of stream and name.
void hide_on_exfat(std::string& image, const std::string& name) {
  const size_t at = image.find(utf16(name, false));
  ASSERT_NE(at, std::string::npos);
  image[at / 32 * 32 - 64 + 4] |= 0x02;
}

// "$STANDARD_INFORMATION", the record's first attribute; flags behind its four times.
void hide_on_ntfs(std::string& image, const std::string& name) {
  const std::string units = utf16(name, false);
  for (size_t at = image.find(units); at != std::string::npos; at = image.find(units, at + 1)) {
    const size_t record = at / 1024 * 1024;
    if (image.compare(record, 4, "FILE") != 0) continue;
    const size_t attribute = record + static_cast<unsigned char>(image[record + 0x14]);
    image[attribute + static_cast<unsigned char>(image[attribute + 0x14]) + 0x20] |= 0x02;
    return;
  }
  FAIL() << "no record";
}

// TN1150, "Finder Info": kIsInvisible in the flags, 56 bytes into the record behind its key.
void hide_on_hfsplus(std::string& image, const std::string& name) {
  const std::string units = utf16(name, true);
  for (size_t at = image.find(units); at != std::string::npos; at = image.find(units, at + 1)) {
    const size_t record = at + units.size();
    if (image.compare(record, 2, std::string("\0\2", 2)) == 0) image[record + 56] |= 0x40;
  }
}

TEST(Hidden, IsReadOfEachFileSystem) {
  const TempFolder folder;
  for (const auto& [name, hide] :
       {std::pair{"exfat-camera", &hide_on_exfat}, std::pair{"ntfs-office", &hide_on_ntfs},
        std::pair{"hfsplus-charts", &hide_on_hfsplus}}) {
    const std::string image = folder.path(std::string(name) + ".img");
    const std::string shelf = folder.path(std::string(name) + ".shelf");
    std::string bytes = sample(name);
    write_file(image, bytes);
    undershelf({"scan", image, "--shelf", shelf, "--check", "none"});
    const size_t before = rows_of(shelf, {"--hidden"}).size();
    const std::vector<Json> rows = rows_of(shelf, {"--kind", "file", "--state", "live"});
    const auto plain = std::ranges::find_if(rows, [](const Json& row) {
      const std::string own = row["name"];
      return own[0] != '.' && own.size() > 6 &&
             std::ranges::all_of(own, [](char c) { return c > 0; });
    });
    ASSERT_NE(plain, rows.end()) << name;
    hide(bytes, (*plain)["name"]);
    write_file(image, bytes);
    undershelf({"scan", image, "--shelf", shelf, "--check", "none", "--replace"});
    const std::vector<Json> hidden = rows_of(shelf, {"--hidden"});
    EXPECT_EQ(hidden.size(), before + 1) << name;
    EXPECT_TRUE(std::ranges::any_of(
        hidden, [&](const Json& row) { return row["path"] == (*plain)["path"]; }))
        << name << " " << (*plain)["path"];
  }
}

}  // namespace
}  // namespace undershelf::test
