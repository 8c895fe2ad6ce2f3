// Damage done to a sample volume, and what it may cost.
#pragma once

#include <gtest/gtest.h>

#include <functional>
#include <map>

#include "support.h"

namespace undershelf::test {

struct Harm {
  const char* name;
  std::function<void(std::string&)> harm;
  int code;            // of the scan afterwards
  std::string path;    // the one that may differ; empty: none
  std::string rating;  // what becomes of it; empty: it is not listed any more
};

// Scans an image, and returns what is listed by path, without ids.
inline std::map<std::string, Json> list_of(const std::string& image, int code) {
  const TempFolder folder;
  write_file(folder.path("disk.img"), image);
  const Outcome outcome =
      undershelf({"scan", folder.path("disk.img"), "--shelf", folder.path("shelf")});
  EXPECT_EQ(outcome.code, code) << outcome.err;
  EXPECT_EQ(outcome.err.find("Damage was met") != std::string::npos, code == 1) << outcome.err;
  std::map<std::string, Json> found;
  for (Json row : undershelf({"list", folder.path("shelf"), "--format", "jsonl"}).lines()) {
    row.erase("id");
    const std::string path = row["path"];
    found[path] = std::move(row);
  }
  return found;
}

inline void expect_cost(const char* name, const Harm& harm) {
  std::string image = sample(name);
  const auto sound = list_of(image, 0);
  harm.harm(image);
  auto damaged = list_of(image, harm.code);
  for (const auto& [path, row] : sound) {
    if (path == harm.path) continue;
    EXPECT_TRUE(damaged.contains(path)) << path;
    EXPECT_EQ(damaged[path], row) << path;
  }
  if (harm.path.empty()) return;
  ASSERT_EQ(damaged.contains(harm.path), !harm.rating.empty());
  if (harm.rating.empty()) return;
  EXPECT_EQ(damaged[harm.path]["rating"], harm.rating);
}

inline std::string name_of_harm(const testing::TestParamInfo<Harm>& one) { return one.param.name; }

}  // namespace undershelf::test
