// A mounted selection against an export of the same: with the kernel between.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

class Mounted : public testing::Test {
 protected:
  void scan(const std::string& name) {
    write_file(folder_.path("card.img"), sample(name));
    undershelf({"scan", folder_.path("card.img"), "--shelf", shelf_, "--check", "full"});
    fs::create_directory(folder_.path("there"));
  }
  // Runs commands in the test's folder while the selection is mounted at `there`.
  Outcome with_mount(const std::string& options, const std::string& commands) {
    return shell("cd " + quoted(folder_.path()) + "\n" + environment_ + quoted(UNDERSHELF_PROGRAM) +
                 " mount card.shelf there " + options +
                 " 2> told & program=$!\n"
                 "for i in $(seq 200); do mountpoint -q there && break; "
                 "kill -0 $program 2> /dev/null || break; sleep 0.05; done\n" +
                 commands + "\nkill -TERM $program; wait $program; code=$?\n" +
                 "mountpoint -q there && exit 99; exit $code");
  }
  bool can_mount() {
    const Outcome tried = with_mount("", "mountpoint -q there || echo no");
    return tried.out.find("no") == std::string::npos;
  }

  TempFolder folder_;
  std::string shelf_ = folder_.path("card.shelf");
  std::string environment_;  // of the program, with a space behind it
};

#define REQUIRE_MOUNTS() \
  if (!can_mount()) GTEST_SKIP() << read_file(folder_.path("told"))

TEST_F(Mounted, ShowsWhatAnExportWrites) {
  for (const char* name : {"hfsplus-charts", "ntfs-office", "exfat-camera"}) {
    SCOPED_TRACE(name);
    fs::remove_all(folder_.path("bag"));
    fs::remove(shelf_);
    scan(name);
    REQUIRE_MOUNTS();
    undershelf({"export", shelf_, "--to", folder_.path("bag"), "--rating", "likely+"});
    const Outcome done = with_mount(
        "--rating likely+",
        "(cd there && find . -type f -exec sha256sum {} + | sort) > shown; "
        "(cd bag/data && find . -type f -exec sha256sum {} + | sort) > written; cmp shown written; "
        "(cd there && find . -type f -printf '%p %s %T@\\n' | sort) > shown; "
        "(cd bag/data && find . -type f -printf '%p %s %T@\\n' | sort) > written; "
        "cmp shown written; wc -l < shown");
    EXPECT_EQ(done.code, 0) << read_file(folder_.path("told"));
    EXPECT_EQ(done.err, "");
    EXPECT_GT(std::stoi(done.out), 5);
  }
}

TEST_F(Mounted, NothingCanBeChanged) {
  scan("fat12-floppy");
  REQUIRE_MOUNTS();
  const Outcome tried = with_mount(
      "",
      "victim=$(find there -type f | head -1); for c in \"touch there/new\" \"rm -f $victim\" "
      "\"mv $victim $victim.old\" \"dd if=/dev/zero of=$victim bs=1 count=1\"; do "
      "$c 2> /dev/null && echo \"$c was done\"; done; true");
  EXPECT_EQ(tried.out, "");
  EXPECT_EQ(tried.code, 0);
}

// As confine_test.cc has it of the commands that end by themselves.
TEST_F(Mounted, TheProgramCannotWriteToItsSource) {
  scan("fat12-floppy");
  REQUIRE_MOUNTS();
  const TempFolder elsewhere;  // the shelf's own folder can be written to
  const std::string card = elsewhere.path("card.img");
  fs::copy_file(folder_.path("card.img"), card);
  environment_ =
      "UNDERSHELF_TRY_WRITE=" + quoted(card) + " LD_PRELOAD=" + quoted(UNDERSHELF_FAULTS) + " ";
  EXPECT_EQ(with_mount("--source " + quoted(card), "true").code, 0);
  const std::string told = read_file(folder_.path("told"));
  EXPECT_NE(told.find("TRIED " + std::to_string(EACCES)), std::string::npos) << told;
}

// Whatever ends it, the folder is an empty one again.
TEST_F(Mounted, AKilledOneIsUnmounted) {
  scan("fat12-floppy");
  REQUIRE_MOUNTS();
  const Outcome killed = with_mount(
      "",
      "kill -KILL $program; for i in $(seq 100); do mountpoint -q there || break; sleep 0.05; "
      "done; mountpoint -q there || ls there | wc -l");
  EXPECT_EQ(killed.out, "0\n");
}

// A folder that takes many calls to list: nothing twice, nothing left out, each with its number.
TEST_F(Mounted, ListsFoldersOfManyFiles) {
  scan("hfsplus-pieces");  // 120 in one
  REQUIRE_MOUNTS();
  const Outcome listed = with_mount(
      "",
      "(cd there && find . -printf '%i %s %p\\n' | sort) > by_find; "
      "(cd there && find . -print0 | xargs -0 stat -c '%i %s %n' | sort) > by_stat; "
      "cmp by_find by_stat; cut -d' ' -f1 by_find | sort | uniq -d; find there -type f | wc -l");
  EXPECT_EQ(listed.err, "");
  EXPECT_GT(std::stoi(listed.out), 120);
  const std::string told = read_file(folder_.path("told"));
  EXPECT_NE(told.find(fmt::format("only: {} files", std::stoi(listed.out))), std::string::npos)
      << told;
}

// A file with bytes that are not its own: it ends in an error where those begin, or in zeros.
TEST_F(Mounted, MissingBytesAreNoContent) {
  scan("fat32-kinds");
  REQUIRE_MOUNTS();
  undershelf({"export", shelf_, "--to", folder_.path("bag")});
  size_t seen = 0;
  std::istringstream lines(read_file(folder_.path("bag/exported.jsonl")));
  std::string commands;
  std::string filled;
  std::map<std::string, Json> wanted;
  for (std::string line; std::getline(lines, line) && seen < 12;) {
    const Json file = Json::parse(line);
    if (file["missing"].empty() || file["size"].is_null()) continue;
    const std::string path = file["written"].get<std::string>().substr(5);  // behind data/
    const std::string number = std::to_string(seen++);
    commands += "cat there/" + quoted(path) + " > cut" + number + " 2> /dev/null && echo whole; ";
    filled += "cp there/" + quoted(path) + " filled" + number + "; ";
    wanted[number] = file;
  }
  ASSERT_GT(seen, 5U);
  const Outcome cut = with_mount("", commands + "true");
  EXPECT_EQ(cut.out, "");
  EXPECT_EQ(with_mount("--fill", filled + "true").code, 0) << read_file(folder_.path("told"));
  for (const auto& [number, file] : wanted) {
    const uint64_t first = file["missing"][0]["offset"];
    const std::string written =
        read_file(folder_.path("bag/" + file["written"].get<std::string>()));
    EXPECT_EQ(read_file(folder_.path("cut" + number)), written.substr(0, first)) << file["path"];
    const std::string all = read_file(folder_.path("filled" + number));
    ASSERT_EQ(all.size(), written.size());
    std::string zeroed = written;
    for (const Json& gap : file["missing"]) {
      zeroed.replace(gap["offset"], gap["length"], std::string(gap["length"], '\0'));
    }
    EXPECT_EQ(all, zeroed) << file["path"];
  }
}

// Nothing stays behind of it (the sanitizers tell).
TEST_F(Mounted, EndsWhileFilesAreOpen) {
  scan("fat12-floppy");
  REQUIRE_MOUNTS();
  const Outcome ended =
      with_mount("",
                 "exec 3< \"$(find there -type f -size +2k | head -1)\"; head -c 100 <&3 | wc -c; "
                 "fusermount3 -uz there || umount -l there");
  EXPECT_EQ(ended.out, "100\n");
  EXPECT_EQ(ended.code, 0) << read_file(folder_.path("told"));
}

TEST_F(Mounted, WhatCannotBeIsSaid) {
  scan("fat12-floppy");
  const auto mount = [&](std::vector<std::string> more) {
    std::vector<std::string> call = {"mount", shelf_};
    call.insert(call.end(), more.begin(), more.end());
    return undershelf(call);
  };
  EXPECT_EQ(mount({folder_.path("nowhere")}).code, 4);
  EXPECT_EQ(mount({folder_.path()}).code, 4);
  EXPECT_EQ(mount({folder_.path("there"), "--path", "nothing"}).code, 1);
  EXPECT_EQ(mount({folder_.path("there"), "--rating", "good"}).code, 2);
}

}  // namespace
}  // namespace undershelf::test
