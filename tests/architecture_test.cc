// The arrows of docs/architecture.md, held against what files include.
#include <gtest/gtest.h>

#include <fstream>
#include <map>
#include <regex>
#include <set>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

const std::map<std::string, std::set<std::string>> kMayUse = {
    {"model", {}},
    {"source", {"model"}},
    {"content", {}},
    {"stream", {"model", "source"}},
    {"layout", {"model", "source"}},
    {"fs", {"content", "model", "source"}},
    {"sweep", {"content", "fs", "model", "source"}},
    {"shelf", {"content", "model", "source"}},
    {"tree", {"model", "shelf", "source", "stream"}},
    {"placing", {"content", "model", "shelf", "source"}},
    {"rating", {"content", "model", "shelf", "source", "stream"}},
    {"scan",
     {"content", "fs", "layout", "model", "placing", "rating", "shelf", "source", "stream", "sweep",
      "tree"}},
    {"exporting", {"model", "shelf", "source", "stream"}},
    {"cli",
     {"content", "exporting", "fs", "layout", "model", "rating", "scan", "shelf", "source",
      "stream"}},
};

// Calls `visit` with the room, the path below src and the text of each file of the program.
template <typename Visit>
void each_file(const Visit& visit) {
  const fs::path root = UNDERSHELF_SOURCES;
  for (const auto& entry : fs::recursive_directory_iterator(root)) {
    const std::string end = entry.path().extension().string();
    if (end != ".cc" && end != ".h") continue;
    const fs::path below = fs::relative(entry.path(), root);
    visit(below.begin()->string(), below.string(), read_file(entry.path().string()));
  }
}

TEST(Architecture, ArrowsPointOneWay) {
  size_t files = 0;
  each_file([&](const std::string& room, const std::string& path, const std::string& text) {
    ++files;
    const auto rule = kMayUse.find(room);
    ASSERT_NE(rule, kMayUse.end()) << path << ": a room that docs/architecture.md does not name";
    const std::regex include("#include \"([a-z_]+)/");
    for (std::sregex_iterator it(text.begin(), text.end(), include), end; it != end; ++it) {
      const std::string used = (*it)[1];
      EXPECT_TRUE(used == room || rule->second.contains(used)) << path << " uses " << used;
    }
  });
  EXPECT_GT(files, 150U);
}

TEST(Architecture, NoRoomOutsideAFileSystemAsksWhichOneItIs) {
  each_file([&](const std::string&, const std::string& path, const std::string& text) {
    const std::regex in_system("^fs/(fat|exfat|ntfs|hfsplus)/");
    if (std::regex_search(path, in_system) || path == "fs/fs.cc") return;
    std::smatch found;
    const std::regex name("[\"'](fat(12|16|32)?|exfat|ntfs|hfs|hfsplus|hfsx)%?[\"']");
    EXPECT_FALSE(std::regex_search(text, found, name)) << path << ": " << found.str();
    const std::regex inside("#include \"fs/(fat|exfat|ntfs|hfsplus)/");
    EXPECT_FALSE(std::regex_search(text, inside)) << path;
  });
}

}  // namespace
}  // namespace undershelf::test
