// Bad input: one clear sentence on standard error, the right exit code, and nothing lost.
#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <regex>

#include "shelf/schema.h"
#include "support.h"

namespace undershelf::test {
namespace {

struct Case {
  std::vector<std::string> arguments;  // `@` stands for the folder
  int code;
  const char* sentence;  // a regular expression
};

void PrintTo(const Case& c, std::ostream* out) {
  for (const std::string& argument : c.arguments) *out << argument << ' ';
}

class BadInput : public testing::TestWithParam<Case> {
 protected:
  static void SetUpTestSuite() {
    folder_ = new TempFolder;
    const std::string image = sample("fat16-logger");
    write_file(folder_->path("card.img"), image);
    write_file(folder_->path("empty.img"), "");
    write_file(folder_->path("hundred.img"), image.substr(0, 100));
    write_file(folder_->path("text.img"), "station,time,level_mm\r\n" + std::string(5000, '7'));
    write_file(folder_->path("note.txt"), "Not a shelf.\n");
    std::filesystem::create_directory(folder_->path("full"));
    write_file(folder_->path("full/kept"), "kept");
    ASSERT_EQ(
        undershelf({"scan", folder_->path("card.img"), "--shelf", folder_->path("card.shelf")})
            .code,
        0);
    std::filesystem::copy_file(folder_->path("card.shelf"), folder_->path("older.shelf"));
    SQLite::Database(folder_->path("older.shelf"), SQLite::OPEN_READWRITE)
        .exec(fmt::format("PRAGMA user_version={}", kShelfVersion - 1));
    // A shelf whose source was moved away, and one whose source is another by now.
    write_file(folder_->path("moved.img"), image);
    undershelf({"scan", folder_->path("moved.img"), "--shelf", folder_->path("moved.shelf")});
    std::filesystem::rename(folder_->path("moved.img"), folder_->path("elsewhere.img"));
    write_file(folder_->path("changed.img"), image);
    undershelf({"scan", folder_->path("changed.img"), "--shelf", folder_->path("changed.shelf")});
    write_file(folder_->path("changed.img"), image.substr(0, 1 << 20) + std::string(31 << 20, 'x'));
    std::filesystem::create_symlink(folder_->path("card.img"), folder_->path("link.img"));
    shell("echo junk | dd of=" + folder_->path("damaged.shelf") + " 2>/dev/null; head -c 3000 " +
          folder_->path("card.shelf") + " > " + folder_->path("damaged.shelf"));
  }
  static void TearDownTestSuite() {
    delete folder_;
    folder_ = nullptr;
  }
  static TempFolder* folder_;
};
TempFolder* BadInput::folder_ = nullptr;

TEST_P(BadInput, IsAnsweredInOneSentence) {
  Case c = GetParam();
  for (std::string& argument : c.arguments) {
    if (argument.starts_with("@")) argument = folder_->path(argument.substr(1));
  }
  const std::string before = read_file(folder_->path("card.img"));
  const Outcome outcome = undershelf(c.arguments);
  EXPECT_EQ(outcome.code, c.code) << outcome.err;
  EXPECT_TRUE(std::regex_search(outcome.err, std::regex(c.sentence))) << outcome.err;
  EXPECT_EQ(read_file(folder_->path("card.img")) == before, true);
  EXPECT_EQ(read_file(folder_->path("full/kept")), "kept");
  EXPECT_EQ(read_file(folder_->path("note.txt")), "Not a shelf.\n");
}

INSTANTIATE_TEST_SUITE_P(
    Calls, BadInput,
    testing::Values(
        Case{{}, 2, "undershelf COMMAND"}, Case{{"rescue"}, 2, "no command `rescue`"},
        Case{{"survey"}, 2, "SOURCE is missing"},
        Case{{"list", "@card.shelf", "--colour"}, 2, "no option --colour"},
        Case{{"list", "@card.shelf", "--stat", "live"}, 2, "no option --stat"},
        Case{{"list", "@card.shelf", "more"}, 2, "one argument too many"},
        Case{{"list", "@card.shelf", "--format", "xml"}, 2, "does not know `xml`"},
        Case{{"list", "@card.shelf", "--state", "lost"}, 2, "does not know `lost`.*deleted"},
        Case{{"list", "@card.shelf", "--rating", "good"}, 2, "whole, likely, partial, gone"},
        Case{{"list", "@card.shelf", "--type", "film"}, 2, "does not know `film`"},
        Case{{"list", "@card.shelf", "--kind", "link"}, 2, "does not know `link`"},
        Case{{"list", "@card.shelf", "--sort", "colour"}, 2, "does not know `colour`"},
        Case{{"list", "@card.shelf", "--size", "big"}, 2, "`big` is no size"},
        Case{{"list", "@card.shelf", "--modified", "last week"}, 2, "`last week` is no date"},
        Case{{"list", "@card.shelf", "--time-zone", "Oslo"}, 2, "no time zone `Oslo`"},
        Case{{"list", "@card.shelf", "--id", "x"}, 2, "`x` is no id"},
        Case{{"list", "@card.shelf", "--id", "9999"}, 2, "no entry 9999"},
        Case{{"list", "@card.shelf", "--limit", "-1"}, 2, "."},
        Case{{"list", "@card.shelf", "--limit", "x"}, 2, "--limit takes a whole number"},
        Case{{"list", "@card.shelf", "--volume", "9"}, 2, "no volume 9"},
        Case{{"list", "@card.shelf", "--size", "10..5"}, 2, "ends before it begins"},
        Case{{"peek", "@card.shelf", "9", "--from", "99999999"}, 2, "behind the end"},
        Case{{"help", "scam"}, 2, "no command `scam`"},
        Case{{"export", "@card.shelf", "--to", "@x6", "--name", "nothing"}, 1, "no file fits"},
        Case{{"export", "@card.shelf", "--to", "@x6", "--rating", "gone"}, 1, "--even-gone"},
        Case{{"show", "@card.shelf", "9999"}, 2, "no entry 9999"},
        Case{{"peek", "@card.shelf", "9", "--stream", "x"}, 2, "no such content"},
        Case{{"peek", "@card.shelf", "9", "--from", "1..2"}, 2, "no number of bytes"},
        Case{{"tree", "@card.shelf", "--sort", "size"}, 2, "no option --sort"},
        Case{{"scan", "@card.img"}, 2, "--shelf FILE"},
        Case{{"scan", "@card.img", "--shelf", "@x", "--depth", "full"}, 2, "quick, deep"},
        Case{{"scan", "@card.img", "--shelf", "@x", "--only", "fat"}, 2, "is for a deep scan"},
        Case{{"scan", "@card.img", "--shelf", "@x", "--no-carve"}, 2, "is for a deep scan"},
        Case{{"scan", "@card.img", "--shelf", "@x", "--kinds", "picture"}, 2, "whole files"},
        Case{{"scan", "@card.img", "--shelf", "@x", "--kinds", "photo"}, 2, "picture, document"},
        Case{{"scan", "@card.img", "--shelf", "@x", "--depth", "deep", "--only", "fat32"},
             2,
             "hfsplus"},
        Case{
            {"scan", "@card.img", "--shelf", "@x", "--depth", "deep", "--from", "4K", "--to", "1K"},
            2,
            "--from below --to"},
        Case{{"scan", "@card.img", "--shelf", "@x", "--check-living"}, 2, "Add --check full"},
        Case{{"export", "@card.shelf"}, 2, "--to DIR"},
        Case{{"survey", "@none.img"}, 3, "Cannot open the source .*none.img"},
        Case{{"survey", "@full"}, 3, "is a folder"}, Case{{"survey", "@empty.img"}, 3, "is empty"},
        Case{{"survey", "/dev/null"}, 3, "no image file"},
        Case{{"survey", "@hundred.img"}, 0, "was recognised"},
        Case{{"survey", "@text.img"}, 0, "was recognised"},
        Case{{"scan", "@none.img", "--shelf", "@x1"}, 3, "Cannot open"},
        Case{{"scan", "@full", "--shelf", "@x1"}, 3, "is a folder"},
        Case{{"scan", "@empty.img", "--shelf", "@x1"}, 3, "is empty"},
        Case{{"scan", "@hundred.img", "--shelf", "@x2"}, 1, "No volume was found"},
        Case{{"scan", "@text.img", "--shelf", "@x3"}, 1, "No volume was found"},
        Case{{"scan", "@text.img", "--shelf", "@x9", "--code-page", "ibm-850"},
             1,
             " --depth deep --code-page ibm-850"},  // what to do next keeps what was asked for
        Case{{"scan", "@card.img", "--shelf", "@no/such/folder"}, 4, "cannot be made"},
        Case{{"scan", "@card.img", "--shelf", "@card.shelf"}, 4, "finished scan"},
        Case{{"scan", "@text.img", "--shelf", "@card.shelf"}, 4, "describes another source"},
        Case{{"scan", "@card.img", "--shelf", "@note.txt"}, 4, "is not a shelf"},
        Case{{"scan", "@card.img", "--shelf", "@note.txt", "--replace"}, 4, "is not a shelf"},
        Case{{"scan", "@card.img", "--shelf", "@card.img"}, 4, "is the source itself"},
        Case{{"scan", "@card.img", "--shelf", "@link.img", "--replace"}, 4, "is the source itself"},
        Case{{"list", "@none.shelf"}, 3, "There is no shelf"},
        Case{{"list", "@full"}, 3, "it is a folder"},
        Case{{"list", "@note.txt"}, 3, "is not a shelf"},
        Case{{"list", "@card.img"}, 3, "is not a shelf"},
        Case{{"list", "@damaged.shelf"}, 3, "shelf"},
        Case{{"list", "@older.shelf"}, 3, "another version.*Scan the source again"},
        Case{{"scan", "@card.img", "--shelf", "@older.shelf"}, 3, "another version.*--replace"},
        Case{{"peek", "@moved.shelf", "9"}, 3, "no longer there.*--source"},
        Case{{"export", "@moved.shelf", "--to", "@x4"}, 3, "no longer there.*--source"},
        Case{{"peek", "@moved.shelf", "9", "--source", "@elsewhere.img"}, 0, "Bytes 0 to"},
        Case{{"export", "@moved.shelf", "--to", "@x5", "--source", "@text.img"},
             3,
             "not the source this shelf describes"},
        Case{{"peek", "@changed.shelf", "9"}, 3, "differ from those of the scanned source"},
        Case{{"export", "@card.shelf", "--to", "@full"}, 4, "not an empty folder"},
        Case{{"export", "@card.shelf", "--to", "@note.txt"}, 4, "is a file"},
        Case{{"export", "@card.shelf", "--to", "@card.img"}, 4, "source itself"},
        Case{{"export", "@card.shelf", "--to", "@card.img/bag"}, 4, "no folder"},
        Case{{"export", "@card.shelf", "--to", "@no/such/bag"}, 4, "Is the target mounted"}));

TEST(BadInputs, ATruncatedImageIsReadAsFarAsItGoes) {
  const TempFolder folder;
  write_file(folder.path("short.img"), sample("fat16-logger").substr(0, 200'000));
  const Outcome scan = undershelf({"scan", folder.path("short.img"), "--shelf", folder.path("s")});
  EXPECT_EQ(scan.code, 1);
  EXPECT_NE(scan.err.find("The source ends before a volume on it does"), std::string::npos);
  size_t whole = 0;
  for (const Json& row : undershelf({"list", folder.path("s"), "--format", "jsonl"}).lines()) {
    if (row["kind"] != "file") continue;
    if (row["rating"] == "whole") ++whole;
    EXPECT_LE(row["intact_bytes"], row["size"]);
  }
  EXPECT_GT(whole, 3U);
  EXPECT_NE(undershelf({"list", folder.path("s"), "--rating", "partial", "--count"}).out,
            undershelf({"list", folder.path("s"), "--rating", "likely", "--count"}).out);
}

TEST(BadInputs, ATargetWithoutRoomIsRefusedAndOneThatFillsUpKeepsWhatIsDone) {
  const TempFolder folder;
  write_file(folder.path("card.img"), sample("fat16-logger"));
  ASSERT_EQ(undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("s")}).code, 0);
  const auto on_small_target = [&](const std::string& size, const std::string& then) {
    const std::string inner = "mkdir -p " + folder.path("t") +
                              " && mount -t tmpfs -o size=" + size + " tmpfs " + folder.path("t") +
                              " && cd " + folder.path("t") + " && " + then;
    return shell("unshare -rm sh -c " + quoted(inner));
  };
  if (on_small_target("1m", "true").code != 0) GTEST_SKIP() << "no private mounts here";
  const std::string export_it =
      quoted(UNDERSHELF_PROGRAM) + " export " + folder.path("s") + " --to bag";
  const Outcome refused = on_small_target("300k", export_it + "; code=$?; ls; exit $code");
  EXPECT_EQ(refused.code, 4) << refused.err;
  EXPECT_NE(refused.err.find("free"), std::string::npos);
  EXPECT_EQ(refused.out, "") << "nothing was made";
  // Room is there when it begins; another file takes it meanwhile. What is listed is right.
  const Outcome filled = on_small_target(
      "2500k",
      "{ (sleep 0.02; head -c 1900k /dev/zero > other) & " + export_it +
          "; code=$?; wait; [ ! -s bag/manifest-sha256.txt ] || { cd bag && sha256sum --quiet "
          "-c manifest-sha256.txt || exit 9; }; exit $code; }");
  EXPECT_TRUE(filled.code == 1 || filled.code == 0 || filled.code == 4)
      << filled.code << filled.err;
}

// Split images, leading bytes and devices bring what the plain image brings.
class Sources : public testing::Test {
 protected:
  std::vector<Json> scan(const std::vector<std::string>& source, int code) {
    std::vector<std::string> arguments = {"scan"};
    arguments.insert(arguments.end(), source.begin(), source.end());
    arguments.insert(arguments.end(), {"--shelf", folder_.path("shelf"), "--replace"});
    error_ = undershelf(arguments);
    EXPECT_EQ(error_.code, code) << error_.err;
    if (code != 0) return {};
    return undershelf({"list", folder_.path("shelf"), "--format", "jsonl"}).lines();
  }
  std::string exported() {
    const TempFolder bag;
    undershelf({"export", folder_.path("shelf"), "--to", bag.path("bag")});
    return read_file(bag.path("bag/manifest-sha256.txt"));
  }
  void SetUp() override {
    write_file(folder_.path("card.img"), image_);
    expected_ = scan({folder_.path("card.img")}, 0);
    manifest_ = exported();
  }
  TempFolder folder_;
  std::string image_ = sample("fat16-logger");
  std::vector<Json> expected_;
  std::string manifest_;
  Outcome error_;
};

TEST_F(Sources, SplitImages) {
  constexpr size_t kSegment = 10'000'000;
  for (size_t at = 0, number = 1; at < image_.size(); at += kSegment, ++number) {
    write_file(folder_.path("card.00" + std::to_string(number)), image_.substr(at, kSegment));
  }
  EXPECT_EQ(scan({folder_.path("card.001")}, 0), expected_);
  EXPECT_EQ(exported(), manifest_);
  scan({folder_.path("card.002")}, 3);
  EXPECT_NE(error_.err.find("Give the first one"), std::string::npos);
  std::filesystem::rename(folder_.path("card.003"), folder_.path("kept"));
  scan({folder_.path("card.001")}, 3);
  EXPECT_NE(error_.err.find("card.003 is missing"), std::string::npos);
  std::filesystem::rename(folder_.path("card.004"), folder_.path("card.003"));
  std::filesystem::rename(folder_.path("kept"), folder_.path("card.004"));
  scan({folder_.path("card.001")}, 3);
  EXPECT_NE(error_.err.find("wrong order"), std::string::npos);
}

TEST_F(Sources, LeadingBytes) {
  write_file(folder_.path("lead.img"), std::string(12345, 'x') + image_);
  EXPECT_EQ(scan({folder_.path("lead.img"), "--offset", "12345"}, 0), expected_);
  EXPECT_EQ(exported(), manifest_);
  scan({folder_.path("lead.img"), "--offset", "1G"}, 3);
}

TEST_F(Sources, Devices) {
  const Outcome loop = shell("losetup -f --show " + quoted(folder_.path("card.img")));
  if (loop.code != 0) GTEST_SKIP() << "no loop devices here";
  const std::string device = loop.out.substr(0, loop.out.find('\n'));
  EXPECT_EQ(scan({device}, 0), expected_);
  EXPECT_EQ(exported(), manifest_);
  EXPECT_EQ(undershelf({"survey", device, "--format", "jsonl"}).lines()[0]["device"]["model"], "");
  shell("losetup -d " + device);
}

TEST_F(Sources, NothingIsWrittenToAMountedSource) {
  const std::string image = folder_.path("ext.img");
  const std::string point = folder_.path("point");
  const Outcome mounted =
      shell("truncate -s 20M " + image + " && mkfs.ext4 -q " + image + " && mkdir " + point +
            " && mount -o loop " + image + " " + point + " && findmnt -no SOURCE " + point);
  if (mounted.code != 0) GTEST_SKIP() << "no mounts here: " << mounted.err;
  const std::string device = mounted.out.substr(0, mounted.out.find('\n'));
  const auto refusal = [&](const std::vector<std::string>& arguments) {
    const Outcome outcome = undershelf(arguments);
    EXPECT_EQ(outcome.code, 4) << outcome.err;
    return outcome.err;
  };
  for (const std::string& source : {device, image}) {
    EXPECT_NE(refusal({"scan", source, "--shelf", folder_.path("x")}).find("mounted for writing"),
              std::string::npos);
    EXPECT_NE(refusal({"scan", source, "--shelf", point + "/x", "--mounted-anyway"})
                  .find("lies on the source"),
              std::string::npos);
  }
  EXPECT_NE(undershelf({"survey", device}).err.find("WARNING"), std::string::npos);
  shell("umount " + point);
}

TEST_F(Sources, ALinkThatLeadsNowhereIsNoPlaceForAShelf) {
  std::filesystem::create_symlink(folder_.path("nowhere/x"), folder_.path("link"));
  const Outcome outcome =
      undershelf({"scan", folder_.path("card.img"), "--shelf", folder_.path("link")});
  EXPECT_EQ(outcome.code, 4);
  EXPECT_NE(outcome.err.find("leads nowhere"), std::string::npos) << outcome.err;
}

TEST_F(Sources, OneThatShrinksWhileItIsRead) {
  const std::string card = folder_.path("card.img");
  const std::string shelf = folder_.path("shrunk.shelf");
  // Large enough that a sweep of it is under way for long.
  std::filesystem::resize_file(card, uint64_t{16} << 30);
  const Outcome scan =
      shell(quoted(UNDERSHELF_PROGRAM) + " scan " + card + " --shelf " + shelf +
            " --depth deep & while [ ! -e " + shelf + " ]; do sleep 0.01; done; truncate -s " +
            std::to_string(image_.size()) + " " + card + "; wait $!");
  EXPECT_EQ(scan.code, 1);
  EXPECT_NE(scan.err.find("became shorter while it was read"), std::string::npos) << scan.err;
  EXPECT_NE(scan.err.find("1 volume: "), std::string::npos) << "what was found is kept";
}

TEST(Survey, SaysWhatBlankSpaceMeans) {
  const TempFolder folder;
  std::string image = sample("fat16-logger");
  const auto volume = [&] {
    write_file(folder.path("card.img"), image);
    return undershelf({"survey", folder.path("card.img"), "--format", "jsonl"}).lines()[1];
  };
  const Json sound = volume();
  EXPECT_GT(sound["lost_sampled"], 5);
  EXPECT_EQ(sound["lost_blank"], 0);
  EXPECT_EQ(sound["meaning"], "");
  // As a drive that discards leaves it: the free clusters read as zeros.
  const auto u16 = [&](size_t at) {
    return static_cast<size_t>(static_cast<unsigned char>(image[at])) |
           static_cast<size_t>(static_cast<unsigned char>(image[at + 1])) << 8;
  };
  const size_t fat = u16(14) * 512;
  const size_t data = fat + 2 * u16(22) * 512 + u16(17) * 32;
  for (size_t cluster = 2; data + (cluster - 1) * 2048 <= image.size(); ++cluster) {
    if (u16(fat + 2 * cluster) == 0) image.replace(data + (cluster - 2) * 2048, 2048, 2048, '\0');
  }
  const Json discarded = volume();
  EXPECT_NE(discarded["meaning"].get<std::string>().find("discards"), std::string::npos)
      << discarded;
  // And nothing is promised of them.
  undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf")});
  EXPECT_EQ(undershelf({"list", folder.path("shelf"), "--state", "deleted", "--rating", "likely+",
                        "--size", "1..", "--count", "--format", "jsonl"})
                .lines()[0]["files"],
            0);
}

TEST(Survey, NamesWhatItDoesNotRead) {
  const TempFolder folder;
  if (shell("truncate -s 8M " + folder.path("e") + " && mkfs.ext4 -q " + folder.path("e")).code ==
      0) {
    EXPECT_NE(undershelf({"survey", folder.path("e")}).err.find("ext4"), std::string::npos);
  }
  write_file(folder.path("q"), "QFI\xFB" + std::string(4096, '\0'));
  EXPECT_NE(undershelf({"survey", folder.path("q")}).err.find("qemu-nbd --read-only"),
            std::string::npos);
}

TEST(Shelves, WhatAKilledScanLeftIsReadWhereNothingMayBeWritten) {
  const TempFolder folder;
  const std::string card = folder.path("card.img");
  const std::string shelf = folder.path("ro/shelf");
  const std::string program = quoted(UNDERSHELF_PROGRAM);
  write_file(card, sample("fat16-logger"));
  std::filesystem::resize_file(card, uint64_t{16} << 30);  // a sweep of it takes long
  std::filesystem::create_directory(folder.path("ro"));
  const Outcome killed =
      shell(program + " scan " + card + " --shelf " + shelf + " --depth deep & while ! " + program +
            " list " + shelf +
            " --count 2>&1 | grep -q '^files *[1-9]'; do sleep 0.02; done; kill -9 $!");
  ASSERT_EQ(killed.code, 0) << killed.err;
  ASSERT_GT(std::filesystem::file_size(shelf + "-wal"), 0U);
  const std::string listed = undershelf({"list", shelf, "--format", "csv"}).out;
  if (shell("unshare -rm true").code != 0) GTEST_SKIP() << "no private mounts here";
  for (const bool with_index : {true, false}) {
    if (!with_index) std::filesystem::remove(shelf + "-shm");
    const Outcome read =
        shell("unshare -rm sh -c " +
              quoted("mount --bind " + folder.path("ro") + " " + folder.path("ro") +
                     " && mount -o remount,ro,bind " + folder.path("ro") + " && " + program +
                     " list " + shelf + " --format csv"));
    EXPECT_EQ(read.code, 0) << read.err;
    EXPECT_EQ(read.out, listed);
  }
}

TEST(BadInputs, ATargetThatBecomesReadOnlyKeepsWhatIsDone) {
  const TempFolder folder;
  write_file(folder.path("card.img"), sample("fat16-logger"));
  ASSERT_EQ(undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("s")}).code, 0);
  const std::string target = folder.path("t");
  // The target holds a finished part of an export; then it is read-only.
  const std::string inner =
      "mkdir " + target + " && mount -t tmpfs -o size=4m tmpfs " + target + " && " +
      quoted(UNDERSHELF_PROGRAM) + " export " + folder.path("s") + " --to " + target +
      "/bag; mount -o remount,ro " + target + " && " + quoted(UNDERSHELF_PROGRAM) + " export " +
      folder.path("s") + " --to " + target + "/bag --resume; code=$?; cd " + target +
      "/bag && sha256sum --quiet -c manifest-sha256.txt || exit 9; exit $code";
  if (shell("unshare -rm true").code != 0) GTEST_SKIP() << "no private mounts here";
  const Outcome outcome = shell("unshare -rm sh -c " + quoted(inner));
  EXPECT_EQ(outcome.code, 4) << outcome.err;
  EXPECT_NE(outcome.err.find("may not be written to: Read-only file system"), std::string::npos)
      << outcome.err;
}

}  // namespace
}  // namespace undershelf::test
