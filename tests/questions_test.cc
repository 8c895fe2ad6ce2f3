// The questions of docs/questions.md, put to real shelves; their answers held against `list`.
#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <functional>
#include <set>
#include <sstream>

#include "shelf/schema.h"
#include "support.h"

namespace undershelf::test {
namespace {

// By the headings above them.
std::map<std::string, std::string> questions() {
  std::map<std::string, std::string> found;
  std::istringstream lines(read_file(UNDERSHELF_DOCS "/questions.md"));
  std::string heading;
  bool inside = false;
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("## ")) heading = line.substr(3);
    if (line.starts_with("```")) {
      inside = line == "```sql";
    } else if (inside) {
      found[heading] += line + "\n";
    }
  }
  return found;
}

using Rows = std::vector<std::vector<std::string>>;

Rows ask(const std::string& shelf, const std::string& sql) {
  const SQLite::Database db(shelf, SQLite::OPEN_READONLY);
  SQLite::Statement row(db, sql);
  Rows rows;
  while (row.executeStep()) {
    rows.emplace_back();
    for (int i = 0; i < row.getColumnCount(); ++i)
      rows.back().push_back(row.getColumn(i).getText());
  }
  return rows;
}

// The shelf of a sample of which all was looked at.
const std::string& shelf_of(const std::string& name) {
  static const TempFolder kFolder;
  static std::map<std::string, std::string> shelves;
  std::string& shelf = shelves[name];
  if (shelf.empty()) {
    const std::string image = kFolder.path(name + ".img");
    write_file(image, sample(name));
    shelf = kFolder.path(name + ".shelf");
    undershelf({"scan", image, "--shelf", shelf, "--check", "full", "--check-living"});
  }
  return shelf;
}

size_t ids_in(const Rows& rows) {
  std::set<std::string> ids;
  for (const auto& row : rows) ids.insert(row.at(0));
  return ids.size();
}

double sum_of(const Rows& rows, size_t column) {
  double sum = 0;
  for (const auto& row : rows) sum += std::stod(row.at(column));
  return sum;
}

// How often a row of `list`, without further links and secondary streams, is so.
size_t count_rows(const std::string& shelf, const std::function<bool(const Json&)>& so) {
  size_t count = 0;
  for (const Json& row : rows_of(shelf)) {
    count += !row["link"].get<bool>() && row["kind"] == "file" && so(row) ? 1 : 0;
  }
  return count;
}

bool is_lost(const Json& row) { return row["state"] != "live"; }

struct Answer {
  const char* question;
  const char* sample;
  std::function<void(const std::string& shelf, const Rows&)> holds;
};

const std::vector<Answer>& answers() {
  static const std::vector<Answer> kAnswers = {
      {"Which folders hold most of what was lost?", "ntfs-office",
       [](const auto& shelf, const Rows& rows) {
         EXPECT_EQ(sum_of(rows, 1), static_cast<double>(count_rows(shelf, is_lost)));
       }},
      {"What can be expected back, by extension?", "fat32-kinds",
       [](const auto& shelf, const Rows& rows) {
         EXPECT_EQ(sum_of(rows, 1), static_cast<double>(count_rows(shelf, is_lost)));
         EXPECT_GT(sum_of(rows, 2), 0);
       }},
      {"Which names and contents disagree?", "fat32-kinds",
       [](const auto&, const Rows& rows) { EXPECT_FALSE(rows.empty()); }},
      {"Which files break off, where, and why?", "fat32-kinds",
       [](const auto& shelf, const Rows& rows) {
         EXPECT_EQ(ids_in(rows),
                   count_rows(shelf, [](const Json& row) { return row["check"] == "broken"; }));
         EXPECT_FALSE(rows.empty());
       }},
      {"Why are bytes of lost files doubted, and how many?", "fat32-kinds",
       [](const auto&, const Rows& rows) { EXPECT_FALSE(rows.empty()); }},
      {"Which cameras took the pictures?", "fat32-kinds",
       [](const auto&, const Rows& rows) { EXPECT_FALSE(rows.empty()); }},
      {"Which lost files live on under another name?", "fat32-kinds", {}},
      {"What was changed in the last week before the volume was last used?", "hfsplus-charts",
       [](const auto&, const Rows& rows) { EXPECT_FALSE(rows.empty()); }},
      {"Which names did a file have before?", "ntfs-office",
       [](const auto& shelf, const Rows& rows) {
         EXPECT_EQ(ids_in(rows),
                   count_rows(shelf, [](const Json& row) { return !row["former_paths"].empty(); }));
         EXPECT_FALSE(rows.empty());
       }},
      {"Where is the source, or its metadata, damaged?", "ntfs-office", {}},
  };
  return kAnswers;
}

TEST(Questions, OfTheDocumentHaveAnswers) {
  const auto asked = questions();
  EXPECT_EQ(asked.size(), answers().size());
  for (const auto& [question, name, holds] : answers()) {
    SCOPED_TRACE(question);
    ASSERT_TRUE(asked.contains(question));
    Rows rows;
    ASSERT_NO_THROW(rows = ask(shelf_of(name), asked.at(question)));
    if (holds) holds(shelf_of(name), rows);
  }
}

// What may be asked for is documented: every column but a row's own id.
TEST(Questions, ShelfIsDocumented) {
  const std::string document = read_file(UNDERSHELF_DOCS "/shelf.md");
  EXPECT_NE(document.find(fmt::format("is the version: {}.", kShelfVersion)), std::string::npos);
  const Rows columns =
      ask(shelf_of("ntfs-office"),
          "SELECT m.name, c.name FROM sqlite_master m, pragma_table_info(m.name) c "
          "WHERE m.type='table' AND m.name NOT LIKE 'sqlite_%' AND c.name<>'id'");
  EXPECT_GT(columns.size(), 80U);
  for (const auto& column : columns) {
    EXPECT_NE(document.find("`" + column[1] + "`"), std::string::npos)
        << column[0] << "." << column[1];
  }
}

// Of an image that ends before its volume does.
TEST(Questions, DamageIsCounted) {
  const TempFolder folder;
  std::string image = sample("ntfs-office");
  image.resize(image.size() / 4 * 3);
  write_file(folder.path("disk.img"), image);
  undershelf({"scan", folder.path("disk.img"), "--shelf", folder.path("shelf"), "--check", "none"});
  const Rows rows =
      ask(folder.path("shelf"), questions().at("Where is the source, or its metadata, damaged?"));
  ASSERT_EQ(rows.size(), 1U);
  EXPECT_GE(sum_of(rows, 1), 2);
  EXPECT_GE(sum_of(rows, 2), 4096);
}

// A file that was copied, and one of the copies deleted.
TEST(Questions, ALostFileIsFoundAlive) {
  const TempFolder folder;
  const Outcome made =
      shell("cd " + quoted(folder.path()) +
            " && mkfs.fat -C -F 16 card.img 16384 > /dev/null && seq 900 > gauge && "
            "mcopy -i card.img gauge ::KEPT.TXT && mcopy -i card.img gauge ::GONE.TXT && "
            "mdel -i card.img ::GONE.TXT");
  ASSERT_EQ(made.code, 0) << made.err;
  undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--check", "full",
              "--check-living"});
  const Rows rows =
      ask(folder.path("shelf"), questions().at("Which lost files live on under another name?"));
  ASSERT_EQ(rows.size(), 1U);
  EXPECT_EQ(rows[0][1], "_ONE.TXT");
  EXPECT_EQ(rows[0][3], "KEPT.TXT");
}

}  // namespace
}  // namespace undershelf::test
