// Entries by their paths, what folders hold, and where what was selected is written.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <map>
#include <set>

#include "access/entries.h"
#include "access/written_paths.h"
#include "model/text.h"
#include "shelf/schema.h"
#include "shelf/writer.h"
#include "support.h"
#include "tree/tree.h"

namespace undershelf::test {
namespace {

class Access : public testing::Test {
 protected:
  Access() : shelf_(Shelf::create(folder_.path("shelf"), {}, {})) {}

  struct Made {
    uint64_t key, parent;  // 0: the volume's root
    std::string name;
    Kind kind = Kind::file;
    State state = State::live;
  };
  void fill(const std::vector<Made>& made) {
    Volume volume;
    volume.file_system = "ntfs";
    volume.label = "Office";
    VolumeWriter writer(shelf_, volume);
    for (const Made& m : made) {
      Entry entry;
      entry.key = m.key;
      if (m.parent != 0) entry.parent = m.parent;
      entry.kind = m.kind;
      entry.state = m.state;
      entry.name.text = m.name;
      entry.streams.emplace_back();
      writer.add(entry);
    }
    writer.finish();
    shelf_.db().exec(kIndexes);
    build_tree(shelf_);
  }

  // The written path of each row, by id; the true one behind it.
  std::map<int64_t, std::string> written(const NameRules& names, const Selection& selection = {}) {
    const WrittenPaths paths(shelf_, selection, {names});
    std::map<int64_t, std::string> by_id;
    std::set<std::string> files;
    each_row(shelf_, selection, [&](const Row& row) {
      const std::string path = paths.of(row);
      if (!row.is_folder()) {
        EXPECT_TRUE(files.insert(names.folds_case ? fold_case(path) : path).second) << path;
      }
      by_id[number_of(row.id)] = path;
      return true;
    });
    return by_id;
  }

  TempFolder folder_;
  Shelf shelf_;
};

TEST_F(Access, NoTwoFilesAreWrittenToOnePathWhateverTheOrder) {
  fill({{1, 0, "Tides", Kind::folder},
        {2, 1, "x.csv"},
        {3, 1, "x.csv", Kind::file, State::deleted},
        {4, 1, "x.csv", Kind::file, State::deleted},
        {5, 0, "Tides", Kind::file, State::deleted},         // where a folder stands
        {6, 1, "x [id 3].csv", Kind::file, State::deleted},  // the mark of another one
        {7, 0, "Tides", Kind::folder, State::deleted},       // a second folder of that name
        {8, 7, "X.csv", Kind::file, State::deleted},
        {9, 0, "..", Kind::folder, State::deleted},
        {10, 9, "a:b", Kind::file, State::deleted}});
  const std::map<int64_t, std::string> expected = {{1, "volume-1-Office/Tides/"},
                                                   {2, "volume-1-Office/Tides/x.csv"},
                                                   {3, "volume-1-Office/Tides/x [id 3, 2].csv"},
                                                   {4, "volume-1-Office/Tides/x [id 4].csv"},
                                                   {5, "volume-1-Office/Tides [id 5]"},
                                                   {6, "volume-1-Office/Tides/x [id 3].csv"},
                                                   {7, "volume-1-Office/Tides/"},
                                                   {8, "volume-1-Office/Tides/X.csv"},
                                                   {9, "volume-1-Office/_../"},
                                                   {10, "volume-1-Office/_../a:b"}};
  EXPECT_EQ(written({}), expected);
  Selection backwards;
  backwards.sort = "name";
  backwards.descending = true;
  EXPECT_EQ(written({}, backwards), expected);

  NameRules card;
  card.strict_names = card.folds_case = true;
  std::map<int64_t, std::string> on_a_card = written(card);
  EXPECT_EQ(on_a_card[8], "volume-1-Office/Tides/X [id 8].csv");
  EXPECT_EQ(on_a_card[10], "volume-1-Office/._/a_b");
}

TEST_F(Access, EntriesAreFoundByTheirPaths) {
  fill({{1, 0, "Tides", Kind::folder},
        {2, 1, "x*.csv"},
        {3, 1, "x1.csv"},
        {4, 1, "x1.csv", Kind::file, State::deleted},
        {5, 1, "Sheets", Kind::folder},
        {6, 5, "deep.csv"}});
  const auto at = [&](const std::string& path) {
    std::vector<int64_t> ids;
    for (const Row& row : entries_at(shelf_, path)) ids.push_back(number_of(row.id));
    return ids;
  };
  EXPECT_EQ(at("Tides/x*.csv"), std::vector<int64_t>{2}) << "a name, not a glob";
  EXPECT_EQ(at("/Tides/x1.csv"), (std::vector<int64_t>{3, 4}));
  EXPECT_EQ(at("tides/SHEETS/"), std::vector<int64_t>{5});
  EXPECT_EQ(at("Tides/y.csv"), std::vector<int64_t>{});
  std::vector<std::string> names;
  each_child(shelf_, EntryId{1}, [&](const Row& row) {
    names.push_back(row.name);
    return names.size() < 3;
  });
  EXPECT_EQ(names, (std::vector<std::string>{"Sheets", "x*.csv", "x1.csv"}));
}

TEST_F(Access, CommandsTakePathsForIds) {
  const std::string image = folder_.path("card.img");
  const std::string shelf = folder_.path("card.shelf");
  write_file(image, sample("fat16-logger"));
  ASSERT_LE(undershelf({"scan", image, "--shelf", shelf}).code, 1);
  const std::vector<Json> rows = undershelf({"list", shelf, "--format", "jsonl"}).lines();
  std::map<std::string, std::vector<Json>> by_path;
  for (const Json& row : rows) by_path[row["path"]].push_back(row);
  size_t several = 0;
  for (const auto& [path, same] : by_path) {
    const Outcome shown = undershelf({"show", shelf, path, "--format", "jsonl"});
    if (same.size() > 1) {
      ++several;
      EXPECT_EQ(shown.code, 2);
      EXPECT_NE(shown.err.find("Say which by its id"), std::string::npos) << shown.err;
      continue;
    }
    ASSERT_EQ(shown.code, 0) << path << shown.err;
    EXPECT_EQ(shown.lines().at(0)["id"], same[0]["id"]);
    if (same[0]["kind"] == "folder") {
      std::set<int64_t> children;
      for (const Json& row : rows) {
        const std::string child = row["path"];
        if (child.starts_with(path + "/") &&
            child.find('/', path.size() + 1) == std::string::npos) {
          children.insert(row["id"].get<int64_t>());
        }
      }
      EXPECT_EQ(shown.lines()[0]["children"].get<std::set<int64_t>>(), children) << path;
      EXPECT_NE(undershelf({"show", shelf, path}).out.find("holds"), std::string::npos);
    }
  }
  EXPECT_LT(several, by_path.size());
  EXPECT_EQ(undershelf({"peek", shelf, "no/such path"}).code, 2);
}

}  // namespace
}  // namespace undershelf::test
