// That nothing is written to a source, nor to what is somebody else's, and that a shelf survives.
// Each test is a fault that was mended.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>
#include <sqlite3.h>
#include <sys/stat.h>

#include <filesystem>
#include <regex>

#include "model/error.h"
#include "shelf/shelf.h"
#include "source/files.h"
#include "source/ledger.h"
#include "source/split.h"
#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

// The ledger's side file was opened through links, hard and symbolic ones, to whatever they led to.
TEST(SourceSafety, ByProductsFollowNoLinkToTheSource) {
  for (const bool symbolic : {true, false}) {
    const TempFolder folder;
    const std::string source = folder.path("source.img");
    const std::string bytes = sample("fat12-floppy");
    write_file(source, bytes);
    const std::string side = folder.path("copy.img.ledger.new");
    symbolic ? fs::create_symlink(source, side) : fs::create_hard_link(source, side);
    const Outcome outcome = undershelf({"image", source, "--to", folder.path("copy.img")});
    EXPECT_EQ(outcome.code, 4) << outcome.err;
    EXPECT_EQ(read_file(source), bytes);
    EXPECT_FALSE(fs::exists(folder.path("copy.img"))) << "a refused call makes nothing";
    fs::remove(side);
    // Likewise what SQLite makes beside a shelf.
    for (const char* end : {"-wal", "-journal", "-shm"}) {
      const std::string beside = folder.path(std::string("s.shelf") + end);
      symbolic ? fs::create_symlink(source, beside) : fs::create_hard_link(source, beside);
      undershelf({"scan", source, "--shelf", folder.path("s.shelf")});
      EXPECT_EQ(read_file(source), bytes) << end;
      fs::remove(beside);
      fs::remove(folder.path("s.shelf"));
    }
  }
}

TEST(SourceSafety, NoFileIsOpenedToBeWrittenWhileItIsTheSource) {
  const TempFolder folder;
  const std::string source = folder.path("source.img");
  write_file(source, "bytes");
  fs::create_hard_link(source, folder.path("other-name"));
  struct stat status {};
  ASSERT_EQ(::stat(source.c_str(), &status), 0);
  {
    const ProtectedSource apart(status);
    EXPECT_THROW(open_to_write(AT_FDCWD, folder.path("other-name"), Place::own), Error);
    EXPECT_TRUE(open_to_write(AT_FDCWD, folder.path("new"), Place::empty).ok());
    EXPECT_FALSE(open_to_write(AT_FDCWD, folder.path("new"), Place::empty).ok());
    fs::create_symlink(folder.path("new"), folder.path("link"));
    EXPECT_FALSE(open_to_write(AT_FDCWD, folder.path("link"), Place::own).ok());
    ASSERT_EQ(::mkfifo(folder.path("pipe").c_str(), 0600), 0);
    EXPECT_THROW(open_to_write(AT_FDCWD, folder.path("pipe"), Place::own), Error);
    EXPECT_FALSE(open_plain(AT_FDCWD, folder.path("pipe")).ok());
  }
  EXPECT_TRUE(open_to_write(AT_FDCWD, folder.path("other-name"), Place::own).ok());
}

// Whatever the program writes goes through one door.
TEST(SourceSafety, NoOtherPlaceOpensFilesToWrite) {
  const std::regex opens(
      "O_CREAT|O_WRONLY|O_RDWR|O_TRUNC|std::ofstream|std::fstream|freopen|mkstemp|mkostemp|creat\\("
      "|"
      "fopen\\([^)]*\"[wa]|copy_file");
  size_t doors = 0;
  for (const auto& entry : fs::recursive_directory_iterator(UNDERSHELF_SOURCES)) {
    const std::string end = entry.path().extension().string();
    if (end != ".cc" && end != ".h") continue;
    const std::string text = read_file(entry.path().string());
    if (entry.path().filename() == "files.cc") {
      doors += std::regex_search(text, opens);
      continue;
    }
    std::smatch found;
    EXPECT_FALSE(std::regex_search(text, found, opens)) << entry.path() << ": " << found.str();
  }
  EXPECT_EQ(doors, 1U);
}

// Pipes in the place of lists were waited for, for ever.
TEST(SourceSafety, PipesAreNotWaitedFor) {
  const TempFolder folder;
  const std::string image = folder.path("a.img");
  write_file(image, sample("fat12-floppy"));
  const std::string shelf = folder.path("a.shelf");
  ASSERT_LE(undershelf({"scan", image, "--shelf", shelf}).code, 1);
  const std::string bag = folder.path("bag");
  ASSERT_LE(undershelf({"export", shelf, "--to", bag, "--state", "live"}).code, 1);
  for (const char* list : {"bag-info.txt", "exported.jsonl"}) {
    fs::rename(bag + "/" + list, folder.path("kept"));
    ASSERT_EQ(::mkfifo((bag + "/" + list).c_str(), 0600), 0);
    const Outcome outcome = shell("timeout 20 " UNDERSHELF_PROGRAM " export " + quoted(shelf) +
                                  " --to " + quoted(bag) + " --state live --resume");
    EXPECT_NE(outcome.code, 124) << list;
    fs::remove(bag + "/" + list);
    fs::rename(folder.path("kept"), bag + "/" + list);
  }
  ASSERT_EQ(::mkfifo(ledger_of(image).c_str(), 0600), 0);
  EXPECT_EQ(shell("timeout 20 " UNDERSHELF_PROGRAM " survey " + quoted(image)).code, 3);
}

// The bag's folder of files was followed where it was a link.
TEST(SourceSafety, VerifyStaysInTheBag) {
  const TempFolder folder;
  write_file(folder.path("a.img"), sample("fat12-floppy"));
  const std::string shelf = folder.path("a.shelf");
  ASSERT_LE(undershelf({"scan", folder.path("a.img"), "--shelf", shelf}).code, 1);
  const std::string bag = folder.path("bag");
  ASSERT_LE(undershelf({"export", shelf, "--to", bag, "--state", "live"}).code, 1);
  fs::remove_all(bag + "/data");
  fs::create_directory_symlink("/usr", bag + "/data");
  const Outcome outcome = shell("timeout 60 " UNDERSHELF_PROGRAM " verify " + quoted(bag));
  EXPECT_EQ(outcome.code, 1);
  EXPECT_EQ(outcome.out.find("data/share"), std::string::npos);
  EXPECT_NE(outcome.err.find("no folder of the bag"), std::string::npos) << outcome.err;
}

// A kill while the log was taken in left a journal beside the shelf, with which no command read it.
TEST(ShelfAfterAKill, IsMendedByTheSameScan) {
  const TempFolder folder;
  const std::string image = folder.path("a.img");
  write_file(image, sample("fat16-logger"));
  const std::string shelf = folder.path("a.shelf");
  ASSERT_LE(undershelf({"scan", image, "--shelf", shelf}).code, 1);
  EXPECT_FALSE(fs::exists(shelf + "-wal"));
  EXPECT_FALSE(fs::exists(shelf + "-journal"));
  const std::vector<Json> before = rows_of(shelf);
  // As a writer leaves it that is killed after it wrote pages, and before it let go of the journal.
  {
    SQLite::Database db(shelf, SQLite::OPEN_READWRITE);
    db.exec("PRAGMA journal_mode=DELETE; PRAGMA cache_spill=1; PRAGMA cache_size=1; BEGIN");
    db.exec("UPDATE scans SET state='stopped'");
    db.exec("UPDATE entries SET name=name||'x'");
    fs::copy_file(shelf, folder.path("k.shelf"));
    fs::copy_file(shelf + "-journal", folder.path("k.shelf-journal"));
    db.exec("ROLLBACK");
  }
  const std::string killed = folder.path("k.shelf");
  const Outcome listed = undershelf({"list", killed});
  if (listed.code != 0) {
    EXPECT_EQ(listed.code, 3);
    EXPECT_NE(listed.err.find("same call of `undershelf scan`"), std::string::npos) << listed.err;
  }
  EXPECT_LE(undershelf({"scan", image, "--shelf", killed}).code, 4);
  const std::vector<Json> after = rows_of(killed);
  EXPECT_EQ(after, before);
  EXPECT_FALSE(fs::exists(killed + "-journal"));
}

// Entries that were merged in a circle were followed for ever; views stood in for tables.
TEST(HostileShelf, IsToldAsSuch) {
  const TempFolder folder;
  write_file(folder.path("a.img"), sample("fat16-logger"));
  const std::string shelf = folder.path("a.shelf");
  ASSERT_LE(undershelf({"scan", folder.path("a.img"), "--shelf", shelf}).code, 1);
  const auto harmed = [&](const std::string& sql) {
    const std::string copy = folder.path("h.shelf");
    fs::copy_file(shelf, copy, fs::copy_options::overwrite_existing);
    SQLite::Database(copy, SQLite::OPEN_READWRITE).exec(sql);
    return shell("timeout 20 " UNDERSHELF_PROGRAM " show " + quoted(copy) + " 31");
  };
  EXPECT_EQ(harmed("UPDATE entries SET merged_into=id WHERE id=31").code, 3);
  EXPECT_EQ(harmed("UPDATE entries SET merged_into=CASE id WHEN 31 THEN 30 ELSE 31 END "
                   "WHERE id IN (30,31)")
                .code,
            3);
  EXPECT_EQ(
      harmed("ALTER TABLE streams RENAME TO s2; CREATE VIEW streams AS SELECT * FROM s2").code, 3);
  EXPECT_EQ(harmed("CREATE TRIGGER t AFTER UPDATE ON scans BEGIN DELETE FROM entries; END").code,
            3);
  EXPECT_LE(harmed("UPDATE streams SET size=-5, valid_size=-7, intact_bytes=-1").code, 1);
}

// One piece of a split image was read by itself, without a word of those beside it.
TEST(SplitImages, AreKnownByAllUsualNames) {
  const struct {
    std::vector<std::string> names;
    std::string given;
    size_t segments;  // 0: refused
  } cases[] = {
      {{"a.000", "a.001", "a.002"}, "a.000", 3},
      {{"a.000", "a.001", "a.002"}, "a.001", 0},
      {{"a.001", "a.002"}, "a.001", 2},
      {{"a.001", "a.002"}, "a.002", 0},
      {{"a.aa", "a.ab", "a.ac"}, "a.aa", 3},
      {{"a.aa", "a.ab", "a.ac"}, "a.ac", 0},
      {{"a.AA", "a.AB"}, "a.AA", 2},
      {{"a.part1", "a.part2"}, "a.part1", 2},
      {{"a.1", "a.2"}, "a.1", 2},
      {{"a.1", "a.2"}, "a.2", 0},
      {{"a.002", "a.003"}, "a.003", 0},
      {{"a.001", "a.003"}, "a.001", 0},
      {{"a.img"}, "a.img", 1},
      {{"a.dd"}, "a.dd", 1},
      {{"a.1"}, "a.1", 1},
      {{"disk.old", "disk.ole"}, "disk.old", 1},
  };
  for (const auto& one : cases) {
    const TempFolder folder;
    for (const std::string& name : one.names) write_file(folder.path(name), std::string(512, 'x'));
    if (one.segments == 0) {
      EXPECT_THROW(segments_of(folder.path(one.given)), Error) << one.given;
    } else {
      EXPECT_EQ(segments_of(folder.path(one.given)).size(), one.segments) << one.given;
    }
  }
}

// A bad sector was asked for up to 15 times, and nobody was told to make an image first.
TEST(FailingSources, AreNotAskedTwiceForWhatTheyRefusedAndAnImageIsAdvised) {
  const TempFolder folder;
  const std::string card = folder.path("card.img");
  write_file(card, sample("fat16-logger"));
  const std::string bad = std::to_string(60 * 512 + 7);
  const Outcome file =
      shell("UNDERSHELF_FAILING=" + quoted(card) + " UNDERSHELF_FAIL_READ=" + bad +
            " LD_PRELOAD=" + quoted(UNDERSHELF_FAULTS) + " " + quoted(UNDERSHELF_PROGRAM) +
            " scan " + quoted(card) + " --depth deep --shelf " + quoted(folder.path("card.shelf")));
  const std::regex asked("ASKED");
  EXPECT_EQ(std::distance(std::sregex_iterator(file.err.begin(), file.err.end(), asked), {}), 2)
      << "once in a large piece, once by itself: " << file.err;
  EXPECT_NE(file.err.find("512 B of the source could not be read"), std::string::npos) << file.err;
  EXPECT_NE(file.err.find("undershelf image " + card), std::string::npos) << file.err;
}

// A scan killed as it ended left its log beside the shelf for good: the next was refused.
TEST(KilledScans, LeaveNoLogForGood) {
  const TempFolder folder;
  const TempFolder after;
  const std::string card = folder.path("card.img");
  const std::string shelf = after.path("card.shelf");
  write_file(card, sample("fat12-floppy"));
  ASSERT_EQ(undershelf({"scan", card, "--shelf", folder.path("card.shelf")}).code, 0);
  {
    SQLite::Database database(folder.path("card.shelf"), SQLite::OPEN_READWRITE);
    database.exec("PRAGMA journal_mode=WAL");
    database.exec("UPDATE scans SET ended='2026-01-02T03:04:05Z'");
    for (const std::string end : {"", "-wal"}) {
      fs::copy_file(folder.path("card.shelf" + end), shelf + end);
    }
  }
  const Outcome again = undershelf({"scan", card, "--shelf", shelf});
  EXPECT_EQ(again.code, 4) << again.err;
  EXPECT_FALSE(fs::exists(shelf + "-wal"));
  EXPECT_FALSE(fs::exists(shelf + "-shm"));
  EXPECT_EQ(Shelf::open_to_read(shelf).scans().back().ended, "2026-01-02T03:04:05Z");
}

// Volumes at odd places were not found, without a word of how to reach them.
TEST(OddPlaces, AreToldWithWhatReachesThem) {
  const TempFolder folder;
  std::string image = std::string(777, '\0') + sample("fat16-logger");
  image.resize(image.size() / 512 * 512);
  write_file(folder.path("odd.img"), image);
  const Outcome outcome =
      undershelf({"scan", folder.path("odd.img"), "--shelf", folder.path("odd.shelf")});
  EXPECT_NE(outcome.err.find("--offset 777"), std::string::npos) << outcome.err;
}

}  // namespace
}  // namespace undershelf::test
