// What docs/architecture.md says of all files. That arrows point one way, the build sees to.
#include <gtest/gtest.h>

#include <algorithm>
#include <fstream>
#include <regex>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

// Calls `visit` with the path below src and the text of each file of the program.
template <typename Visit>
void each_file(const Visit& visit) {
  const fs::path root = UNDERSHELF_SOURCES;
  for (const auto& entry : fs::recursive_directory_iterator(root)) {
    const std::string end = entry.path().extension().string();
    if (end != ".cc" && end != ".h") continue;
    const fs::path below = fs::relative(entry.path(), root);
    visit(below.string(), read_file(entry.path().string()));
  }
}

TEST(Architecture, NoRoomOutsideAFileSystemAsksWhichOneItIs) {
  size_t files = 0;
  each_file([&](const std::string& path, const std::string& text) {
    ++files;
    const std::regex in_system("^fs/(fat|exfat|ntfs|hfsplus)/");
    if (std::regex_search(path, in_system) || path == "fs/fs.cc") return;
    std::smatch found;
    const std::regex name("[\"'](fat(12|16|32)?|exfat|ntfs|hfs|hfsplus|hfsx)%?[\"']");
    EXPECT_FALSE(std::regex_search(text, found, name)) << path << ": " << found.str();
    const std::regex inside("#include \"fs/(fat|exfat|ntfs|hfsplus)/");
    EXPECT_FALSE(std::regex_search(text, inside)) << path;
  });
  EXPECT_GT(files, 150U);
}

TEST(Architecture, FilesStaySmallEnoughToHoldInTheHead) {
  each_file([](const std::string& path, const std::string& text) {
    EXPECT_LE(std::ranges::count(text, '\n'), 400) << path;
  });
}

}  // namespace
}  // namespace undershelf::test
