// The kernel keeps the program to its targets: tried by what tries to write elsewhere.
#include "source/confine.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <functional>
#include <thread>

#include "support.h"

namespace undershelf::test {
namespace {

constexpr int kCannot = 77;  // the kernel has no Landlock

// The errno of what is tried once writing is confined to `allowed`, in a process of its own; 0 if
// it went well.
int confined(const std::string& allowed, const std::function<int()>& tried) {
  const pid_t child = ::fork();
  if (child == 0) {
    if (!confine_writing({allowed}).empty()) ::_exit(kCannot);
    ::_exit(tried());
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  return WEXITSTATUS(status);
}

int error_of(int result) { return result < 0 ? errno : 0; }

class Confined : public testing::Test {
 protected:
  void SetUp() override {
    write_file(source_, "the only copy");
    if (confined(target_.path(), [] { return 0; }) == kCannot) GTEST_SKIP() << "no Landlock";
  }
  TempFolder target_, elsewhere_;
  std::string source_ = elsewhere_.path("card.img");
};

TEST_F(Confined, WritesGoToTheTargetAndNowhereElse) {
  const std::string inside = target_.path("new");
  const std::string outside = elsewhere_.path("new");
  struct Try {
    const char* what;
    std::function<int()> tried;
    int error;
  };
  const std::vector<Try> tries = {
      {"make", [&] { return error_of(::open(inside.c_str(), O_WRONLY | O_CREAT, 0600)); }, 0},
      {"rename", [&] { return error_of(::rename(inside.c_str(), (inside + "2").c_str())); }, 0},
      {"folder", [&] { return error_of(::mkdir(target_.path("dir").c_str(), 0700)); }, 0},
      {"remove", [&] { return error_of(::unlink((inside + "2").c_str())); }, 0},
      {"read", [&] { return error_of(::open(source_.c_str(), O_RDONLY)); }, 0},
      {"write", [&] { return error_of(::open(source_.c_str(), O_RDWR)); }, EACCES},
      {"truncate", [&] { return error_of(::truncate(source_.c_str(), 0)); }, EACCES},
      {"remove elsewhere", [&] { return error_of(::unlink(source_.c_str())); }, EACCES},
      {"make elsewhere",
       [&] { return error_of(::open(outside.c_str(), O_WRONLY | O_CREAT, 0600)); }, EACCES},
      {"rename there", [&] { return error_of(::rename(source_.c_str(), outside.c_str())); },
       EACCES},
      {"link out", [&] { return error_of(::link(source_.c_str(), inside.c_str())); }, EXDEV},
      {"mount", [] { return error_of(::mount("none", "/mnt", "tmpfs", 0, nullptr)); }, EPERM},
      {"in a thread",
       [&] {
         int error = 0;
         std::thread([&] { error = error_of(::open(source_.c_str(), O_WRONLY)); }).join();
         return error;
       },
       EACCES},
      {"in what it starts",
       [&] {
         const std::string call = "echo overwritten > " + test::quoted(source_) + " 2>/dev/null";
         return std::system(call.c_str()) == 0 ? 0 : EACCES;
       },
       EACCES},
      {"discard",
       [&] {
         uint64_t range[2] = {0, 512};
         return error_of(::ioctl(::open(source_.c_str(), O_RDONLY), BLKDISCARD, range));
       },
       EPERM},
  };
  for (const Try& one : tries) {
    EXPECT_EQ(confined(target_.path(), one.tried), one.error) << one.what;
    EXPECT_EQ(read_file(source_), "the only copy") << one.what;
  }
}

// The program itself, made by a library in front of it to open its source for writing, as a fault
// in it might.
TEST_F(Confined, TheProgramCannotWriteToItsSource) {
  write_file(source_, sample("fat12-floppy"));
  const std::string shelf = test::quoted(target_.path("card.shelf"));
  const std::string card = test::quoted(source_);
  const std::string program = test::quoted(UNDERSHELF_PROGRAM);
  ASSERT_EQ(shell(program + " scan " + card + " --shelf " + shelf).code, 0);
  for (const std::string& call : std::vector<std::string>{
           "survey " + card,
           "scan " + card + " --shelf " + test::quoted(target_.path("other.shelf")),
           "image " + card + " --to " + test::quoted(target_.path("copy.img")),
           "export " + shelf + " --to " + test::quoted(target_.path("bag")),
           "sheet " + shelf + " --to " + test::quoted(target_.path("sheet.png")),
           "report " + shelf + " --to " + test::quoted(target_.path("report")),
           "peek " + shelf + " 3 --raw > /dev/null"}) {
    const Outcome outcome =
        shell("UNDERSHELF_TRY_WRITE=" + card + " LD_PRELOAD=" + test::quoted(UNDERSHELF_FAULTS) +
              " " + program + " " + call);
    const std::string tried = "TRIED " + std::to_string(EACCES);
    EXPECT_NE(outcome.err.find(tried), std::string::npos) << call << ": " << outcome.err;
  }
  EXPECT_EQ(read_file(source_), sample("fat12-floppy"));
}

TEST_F(Confined, AShelfBehindALinkCanBeWritten) {
  write_file(source_, sample("fat12-floppy"));
  const TempFolder real;
  const std::string link = target_.path("card.shelf");
  ASSERT_EQ(undershelf({"scan", source_, "--shelf", real.path("card.shelf")}).code, 0);
  std::filesystem::create_symlink(real.path("card.shelf"), link);
  const Outcome deeper = undershelf({"scan", source_, "--shelf", link, "--depth", "deep"});
  EXPECT_EQ(deeper.code, 0) << deeper.err;
}

}  // namespace
}  // namespace undershelf::test
