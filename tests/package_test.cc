// The Debian package, unpacked into an empty root: the program in it does a job, its pages and its
// completion are those of the program.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <iterator>
#include <set>
#include <sstream>

#include "kinds.h"
#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

class Package : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    if (UNDERSHELF_SANITIZED) return;
    folder_ = new TempFolder;
    const std::string made = test::quoted(folder_->path());
    const Outcome packed = shell("cd " + test::quoted(UNDERSHELF_BUILD) + " && cpack -B " + made);
    ASSERT_EQ(packed.code, 0) << packed.out << packed.err;
    ASSERT_EQ(shell("mkdir " + made + "/root && dpkg-deb -x " + made + "/undershelf_*.deb " + made +
                    "/root")
                  .code,
              0);
  }
  static void TearDownTestSuite() {
    delete folder_;
    folder_ = nullptr;
  }
  void SetUp() override {
    if (UNDERSHELF_SANITIZED) GTEST_SKIP() << "a sanitized program is not packed";
  }
  static std::string root() { return folder_->path("root"); }
  // In a shell that finds the packed program first.
  static Outcome run(const std::string& command) {
    return shell("PATH=" + test::quoted(root() + "/usr/bin") + ":$PATH; cd " +
                 test::quoted(folder_->path()) + " && " + command);
  }
  static std::vector<std::string> commands() {
    std::istringstream lines(
        run("undershelf --help | sed -n 's/^  \\([a-z]*\\) \\+[A-Z].*/\\1/p' | "
            "grep -v '^undershelf$'")
            .out);
    return {std::istream_iterator<std::string>(lines), {}};
  }
  // What the completion offers for a line; the last word is the one that is typed.
  static std::set<std::string> offered(const std::string& words) {
    const Outcome outcome = run(
        "bash -c '. root/usr/share/bash-completion/completions/undershelf; COMP_WORDS=(" + words +
        "); COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _undershelf; printf \"%s\\n\" "
        "\"${COMPREPLY[@]}\"'");
    std::istringstream lines(outcome.out);
    return {std::istream_iterator<std::string>(lines), {}};
  }
  static TempFolder* folder_;
};
TempFolder* Package::folder_ = nullptr;

// Each test packs anew: there are two.
TEST_F(Package, NamesWhatItNeedsAndDoesAJob) {
  const Outcome control = run("dpkg-deb -f undershelf_*.deb Package Version Depends Maintainer");
  for (const char* needed : {"Package: undershelf", "libsqlite3-0", "libicu", "fuse3", "libc6"}) {
    EXPECT_NE(control.out.find(needed), std::string::npos) << control.out;
  }
  // It finds nothing by where it was built.
  EXPECT_EQ(run("command -v undershelf").out, root() + "/usr/bin/undershelf\n");

  ASSERT_EQ(run("zstd -qd root/usr/share/undershelf/samples/fat32-trash.img.zst -o card.img").code,
            0);
  write_file(folder_->path("job.conf"),
             "source = card.img\nexport = recovered\nreport = report\nrating = partial+\n");
  const Outcome job = run("undershelf job job.conf");
  EXPECT_LE(job.code, 1) << job.err;
  EXPECT_EQ(faults_of_bag(folder_->path("recovered")), "");
  EXPECT_TRUE(fs::exists(folder_->path("report/report.html")));
  EXPECT_TRUE(fs::exists(root() + "/usr/share/doc/undershelf/examples/job.conf"));
}

TEST_F(Package, BringsWhatLooksAtVideos) {
  EXPECT_NE(run("dpkg-deb -f undershelf_*.deb Depends").out.find("libavcodec"), std::string::npos);
  write_file(folder_->path("clip.img"), std::string(4 << 20, '\0'));
  write_file(folder_->path("clip.mkv"), kinds().at("clip.mkv"));
  ASSERT_EQ(run("mkfs.fat clip.img && mcopy -i clip.img clip.mkv ::/CLIP.MKV && "
                "undershelf scan clip.img --shelf clip.shelf")
                .code,
            0);
  const Outcome looked = run("undershelf peek clip.shelf CLIP.MKV --picture clip.png");
  EXPECT_EQ(looked.code, 0) << looked.err;
}

TEST_F(Package, HasAPageForEachCommandAndCompletesThem) {
  const std::vector<std::string> all = commands();
  ASSERT_GT(all.size(), 12U);
  for (const std::string& command : all) {
    const std::string page = "root/usr/share/man/man1/undershelf-" + command + ".1.gz";
    const Outcome shown = run("zcat " + page + " | groff -man -Tascii -ww -P-cbou -rLL=120n");
    EXPECT_EQ(shown.err, "") << command;
    // Each option of the help is on it.
    std::istringstream options(
        run("undershelf help " + command + " | grep -oE '^  --[a-z-]+' | tr -d ' '").out);
    for (std::string option; options >> option;) {
      EXPECT_NE(shown.out.find(option), std::string::npos) << command << option;
    }
  }
  EXPECT_EQ(run("zcat root/usr/share/man/man1/undershelf.1.gz | groff -man -Tascii -ww").err, "");

  // The completion offers what the program and the shelf on the line have.
  ASSERT_EQ(run("zstd -qd root/usr/share/undershelf/samples/fat12-floppy.img.zst -o f.img && "
                "undershelf scan f.img --shelf f.shelf")
                .code,
            0);
  std::set<std::string> expected;
  for (const std::string& command : commands()) {
    if (command.starts_with("s")) expected.insert(command);
  }
  EXPECT_EQ(offered("undershelf s"), expected);
  EXPECT_TRUE(offered("undershelf list f.shelf --st").contains("--state"));
  EXPECT_EQ(offered("undershelf list f.shelf --state d"), std::set<std::string>{"deleted"});
  EXPECT_EQ(offered("undershelf list f.shelf --volume \"\""), std::set<std::string>{"1"});
  EXPECT_TRUE(offered("undershelf list f.shelf --sort s").contains("size"));
  std::set<std::string> ids;
  for (const Json& row :
       undershelf({"list", folder_->path("f.shelf"), "--format", "jsonl"}).lines()) {
    ids.insert(std::to_string(row["id"].get<int>()));
  }
  ASSERT_GT(ids.size(), 3U);
  EXPECT_EQ(offered("undershelf show f.shelf \"\""), ids);
  EXPECT_EQ(offered("undershelf list f.shelf --id \"\""), ids);
}

}  // namespace
}  // namespace undershelf::test
