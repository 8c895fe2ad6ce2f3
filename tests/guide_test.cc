// docs/guide.md is true: each call in it gives what it shows.
#include <gtest/gtest.h>

#include <cstdlib>
#include <sstream>

#include "support.h"

namespace undershelf::test {
namespace {

constexpr const char* kFolder = "/srv/jobs/17";  // where the guide's job lies

std::string replaced(std::string text, const std::string& what, const std::string& by) {
  for (size_t at = 0; (at = text.find(what, at)) != std::string::npos; at += by.size()) {
    text.replace(at, what.size(), by);
  }
  return text;
}

struct Call {
  std::string line, shown;
};

// A line that begins with `$` is a call, unless it is part of what the one before it printed, where
// an empty line is in front of it.
std::vector<Call> calls_in(const std::string& guide) {
  std::vector<Call> calls;
  std::istringstream lines(guide);
  bool shown = false;
  std::string before = "```";
  for (std::string line; std::getline(lines, line); before = line) {
    if (line.starts_with("```")) {
      shown = !shown;
    } else if (shown && line.starts_with("$ ") && !before.empty()) {
      calls.push_back({line.substr(2), ""});
    } else if (shown) {
      calls.back().shown += line + "\n";
    }
  }
  return calls;
}

TEST(Guide, IsWhatTheProgramDoes) {
  const TempFolder folder;
  write_file(folder.path("camera.img"), sample("exfat-camera"));
  write_file(folder.path("job.conf"),
             "source   = camera.img\nexport   = everything\nreport   = everything-report\n"
             "case     = 17\n");
  const std::vector<Call> calls = calls_in(read_file(std::string(UNDERSHELF_DOCS) + "/guide.md"));
  ASSERT_GT(calls.size(), 12U);
  for (const Call& call : calls) {
    std::string line = call.line;
    if (line.starts_with("undershelf")) {
      line = test::quoted(UNDERSHELF_PROGRAM) + line.substr(std::string("undershelf").size());
    }
    // As in a terminal of 80 columns, in the order in which it is printed.
    const Outcome outcome =
        shell("cd " + test::quoted(folder.path()) + " && COLUMNS=80 " + line + " 2>&1");
    EXPECT_EQ(replaced(outcome.out, folder.path(), kFolder), call.shown) << call.line;
  }
}

}  // namespace
}  // namespace undershelf::test
