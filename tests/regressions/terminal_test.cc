// Terminal manners: nothing raw from a disk reaches a terminal, and what is printed fits it.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <sstream>

#include "model/text.h"
#include "support.h"

namespace undershelf::test {
namespace {

constexpr const char* kHostile = "a\x1b[31mb\x1b]0;PWNED\x07\u009B2J\u202Egpj\u2028\r\n\tz";

class Terminal : public testing::Test {
 protected:
  void SetUp() override {
    write_file(image_, sample("ntfs-office"));
    ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
    SQLite::Database db(shelf_, SQLite::OPEN_READWRITE);
    for (const char* update :
         {"UPDATE entries SET name=name||? WHERE id%3=0", "UPDATE volumes SET label=?",
          "UPDATE names SET name=?", "UPDATE streams SET name=name||? WHERE name IS NOT NULL",
          "UPDATE folder_paths SET path=path||?", "UPDATE volumes SET notes=?, serial=?1",
          "UPDATE entries SET original_path=? WHERE id%5=0",
          "UPDATE entries SET link_target=? WHERE id%7=0",
          "INSERT INTO damage VALUES(1, 0, 0, ?)"}) {
      SQLite::Statement statement(db, update);
      statement.bind(1, kHostile);
      statement.exec();
    }
  }
  TempFolder folder_;
  // The path of the source is hostile as well.
  std::string image_ = folder_.path("card \x1b[31m.img");
  std::string shelf_ = folder_.path("card.shelf");
};

// An escape sequence in a name cleared the screen and set its title, through CSV and messages.
TEST_F(Terminal, NothingRawReachesIt) {
  const std::string program = quoted(UNDERSHELF_PROGRAM) + " ";
  const std::string shelf = " " + test::quoted(shelf_);
  const std::string image = " " + test::quoted(image_);
  for (const std::string& command :
       {"list" + shelf,
        "list" + shelf + " --format csv",
        "list" + shelf + " --format jsonl",
        "tree" + shelf,
        "volumes" + shelf,
        "volumes" + shelf + " --format csv",
        "volumes" + shelf + " --format jsonl",
        "show" + shelf + " 33",
        "show" + shelf + " 35",
        "show" + shelf + " 35 --format jsonl",
        "peek" + shelf + " 66",
        "survey" + image,
        "survey" + image + " --format jsonl",
        "scan" + image + " --shelf" + shelf,
        "scan" + image + " --shelf " + quoted(folder_.path("two")),
        "scan" + image + "x --shelf" + shelf,
        "list" + shelf + " --name '\x1b[31m' --sort '\x1b[2J'",
        "list" + image,
        "export" + shelf + " --to " + quoted(folder_.path("bag \x1b[31m")),
        "export" + shelf + " --to " + quoted(folder_.path("bag \x1b[31m")),
        "\x1b[31m" + shelf}) {
    std::string out = on_terminal(program + command, 80);
    // Our own: the progress line is cleared, and lines end as a terminal has them.
    for (const std::string& own : {std::string("\r\x1b[K"), std::string("\r\n")}) {
      for (size_t at = 0; (at = out.find(own, at)) != std::string::npos;) {
        out.replace(at, own.size(), "\n");
      }
    }
    std::u32string found;
    const std::u16string text = to_utf16(out);
    for (size_t i = 0; i < text.size(); ++i) {
      if (text[i] != u'\n' && steers_a_terminal(text[i])) found += text[i];
    }
    EXPECT_TRUE(found.empty()) << command << "\n" << out;
    EXPECT_FALSE(out.empty()) << command;
  }
}

// Tables were up to 109 columns wide, progress lines scrolled, accounts ran over several lines.
TEST_F(Terminal, WhatIsPrintedFits) {
  const std::string program = quoted(UNDERSHELF_PROGRAM) + " ";
  const TempFolder plain;
  const std::string image = plain.path("card.img");
  const std::string shelf = plain.path("card.shelf");
  write_file(image, sample("formatted-ntfs-again"));
  for (const int width : {80, 140}) {
    std::filesystem::remove(shelf);
    std::filesystem::remove_all(plain.path("bag"));
    const std::vector<std::string> commands = {
        "survey " + image,
        "scan " + image + " --shelf " + shelf + " --depth deep",
        "volumes " + shelf,
        "list " + shelf,
        "list " + shelf + " --count",
        "tree " + shelf,
        "show " + shelf + " 40",
        "list --help",
        "export --help",
        "scan --help",
        "--help",
        "list " + shelf + " --limit 3",
        "export " + shelf + " --to " + plain.path("bag")};
    for (const std::string& command : commands) {
      const std::string out = on_terminal(program + command, static_cast<unsigned short>(width));
      std::istringstream lines(out);
      for (std::string line; std::getline(lines, line);) {
        // What is after the last return is what stays; commands to be typed are not broken.
        line.erase(line.find_last_not_of('\r') + 1);
        if (const size_t at = line.rfind('\r'); at != std::string::npos) line.erase(0, at + 4);
        const bool typed = line.find("Next: ") == 0 || line.find(plain.path()) != std::string::npos;
        if (typed) continue;
        EXPECT_LE(columns(line), static_cast<size_t>(width)) << command << "\n" << line;
      }
    }
  }
}

}  // namespace
}  // namespace undershelf::test
