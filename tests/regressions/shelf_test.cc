// The shelf: one writer, and refusals that change nothing. Each test is a fault that was mended.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <csignal>
#include <random>

#include "model/budget.h"
#include "model/error.h"
#include "scan/scan.h"
#include "shelf/lock.h"
#include "shelf/selection.h"
#include "shelf/writer.h"
#include "support.h"
#include "tree/merge.h"

namespace undershelf::test {
namespace {

class OneShelf : public testing::Test {
 protected:
  void SetUp() override { write_file(image_, sample("fat16-logger")); }
  // An empty shelf.
  Shelf made_up() {
    return Shelf::create(shelf_, identify("made up", MemorySource(std::string(1 << 20, 'x'))), {});
  }
  std::string listed() { return undershelf({"list", shelf_, "--format", "csv"}).out; }
  // All files of the folder whose names begin as the shelf's.
  std::string files() {
    return shell("cd " + quoted(folder_.path()) + " && sha256sum card.shelf*").out;
  }
  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
};

// Two scans of one shelf destroyed it.
TEST_F(OneShelf, HasOneWriter) {
  std::filesystem::resize_file(image_, uint64_t{16} << 30);  // a sweep of it takes long
  const std::string scan =
      quoted(UNDERSHELF_PROGRAM) + " scan " + image_ + " --shelf " + shelf_ + " --depth deep";
  const Outcome second =
      shell(scan + " 2> /dev/null & first=$!; until " + quoted(UNDERSHELF_PROGRAM) + " list " +
            shelf_ + " --count 2>/dev/null | grep -q '^files *[1-9]'; do sleep 0.05; done; " +
            scan + "; code=$?; " + scan + " --replace; kill -INT $first; wait $first; exit $code");
  EXPECT_EQ(second.code, 4);
  EXPECT_NE(second.err.find("Another scan is writing to the shelf"), std::string::npos)
      << second.err;
  EXPECT_NE(second.err.find("begun at 20"), std::string::npos) << "since when" << second.err;
  EXPECT_FALSE(std::filesystem::exists(shelf_ + ".old-1"));
  // Started at the same moment, one of the two does the work.
  const std::string other = folder_.path("other.shelf");
  const std::string quick = quoted(UNDERSHELF_PROGRAM) + " scan " + image_ + " --shelf " + other +
                            " 2>>" + folder_.path("err");
  shell("for i in 1 2 3 4; do " + quick + " & done; wait");
  EXPECT_EQ(undershelf({"list", other, "--format", "csv"}).out, listed());
  EXPECT_EQ(read_file(folder_.path("err")).find("could not be done"), std::string::npos);
}

// A terminal that was closed killed a scan before anything was put together. Once lost files have
// their ratings, which come last, the sweep begins.
TEST_F(OneShelf, AScanThatIsToldToStopEndsInOrder) {
  std::filesystem::resize_file(image_, uint64_t{16} << 30);
  for (const char* signal : {"HUP", "TERM", "INT"}) {
    const std::string shelf = folder_.path(signal);
    const Outcome stopped =
        shell(quoted(UNDERSHELF_PROGRAM) + " scan " + image_ + " --shelf " + shelf +
              " --depth deep & scan=$!; until " + quoted(UNDERSHELF_PROGRAM) + " list " + shelf +
              " --state deleted --rating likely+ --count 2>/dev/null | grep -q '^files *[1-9]'; "
              "do sleep 0.05; done; kill -" +
              signal + " $scan; wait $scan");
    EXPECT_EQ(stopped.code, 1) << signal;
    EXPECT_NE(stopped.err.find("Stopped at byte"), std::string::npos) << signal << stopped.err;
    EXPECT_FALSE(std::filesystem::exists(shelf + "-wal")) << "one self-contained file";
    EXPECT_EQ(undershelf({"list", shelf, "--state", "live", "--count"}).code, 0);
  }
}

// A refused scan put a finished shelf into WAL mode; copied to where nothing may be written, it was
// dead.
TEST_F(OneShelf, IsNotTouchedByARefusedCall) {
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
  const std::string before = files();
  write_file(folder_.path("other.img"), sample("fat16-fragments"));
  const std::vector<std::vector<std::string>> refused = {
      {"scan", image_, "--shelf", shelf_},
      {"scan", folder_.path("other.img"), "--shelf", shelf_},
      {"scan", image_, "--shelf", shelf_, "--depth", "deep", "--time-zone", "Europe/Oslo"},
      {"scan", image_, "--shelf", shelf_, "--depth", "deep", "--code-page", "ibm-850"},
      {"scan", image_, "--shelf", shelf_, "--depth", "deep", "--offset", "512"},
      {"export", shelf_, "--to", folder_.path("no/such/folder")}};
  for (const auto& call : refused) {
    const Outcome outcome = undershelf(call);
    EXPECT_EQ(outcome.code, 4) << outcome.err;
    EXPECT_EQ(files(), before) << outcome.err;
  }
  EXPECT_FALSE(listed().empty());
  EXPECT_EQ(files(), before);
}

// One shelf held times of two zones.
TEST_F(OneShelf, KeepsItsZone) {
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_, "--time-zone", "Europe/Oslo"}).code, 0);
  const std::string first = listed();
  ASSERT_EQ(
      undershelf({"scan", image_, "--shelf", shelf_, "--depth", "deep", "--check", "sample"}).code,
      0);
  EXPECT_EQ(listed(), first);
  // Tables show the zone's own times, dates of last access too.
  const Json row =
      undershelf({"list", shelf_, "--name", "Pump noise.wav", "--format", "jsonl"}).lines().at(0);
  EXPECT_EQ(row["modified"], "2026-03-03T13:00:00Z");
  EXPECT_NE(
      undershelf({"list", shelf_, "--name", "Pump noise.wav"}).out.find("2026-03-03 14:00:00"),
      std::string::npos);
  EXPECT_NE(undershelf({"list", shelf_}).out.find("Times are those of Europe/Oslo"),
            std::string::npos);
  const std::string shown = undershelf({"show", shelf_, std::to_string(row["id"].get<int>())}).out;
  EXPECT_NE(shown.find("accessed       2026-03-03 00:00:00 (Europe/Oslo)"), std::string::npos)
      << shown;
}

// --replace threw an old shelf away, even another source's.
TEST_F(OneShelf, IsKeptWhenItIsReplaced) {
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
  const std::string old = read_file(shelf_);
  write_file(folder_.path("other.img"), sample("fat16-fragments"));
  const Outcome replaced =
      undershelf({"scan", folder_.path("other.img"), "--shelf", shelf_, "--replace"});
  EXPECT_LE(replaced.code, 1) << replaced.err;
  EXPECT_NE(replaced.err.find("is kept as"), std::string::npos);
  EXPECT_EQ(read_file(shelf_ + ".old-1"), old);
}

// The same key pushed twice in one reading made two rows.
TEST_F(OneShelf, HasOneRowForAKey) {
  Shelf shelf = made_up();
  Volume volume;
  volume.file_system = "hfsplus";
  VolumeWriter writer(shelf, volume);
  Entry entry;
  entry.key = 17;
  entry.name.text = "first";
  entry.streams.emplace_back();
  const EntryId id = writer.add(entry);
  entry.name.text = "second";
  EXPECT_EQ(writer.add(entry), id);
  writer.finish();
  EXPECT_EQ(shelf.db().execAndGet("SELECT count(*) FROM entries").getInt(), 1);
  EXPECT_EQ(shelf.db().execAndGet("SELECT name FROM names").getString(), "second")
      << "no name is lost";
}

// The entry that a file had before it was moved and written to was kept for another file: its place
// was still known, that of the later one was not.
TEST_F(OneShelf, TheLastNameOfAFileIsItsName) {
  Shelf shelf = made_up();
  Volume volume;
  volume.file_system = "exfat";
  VolumeWriter writer(shelf, volume);
  const auto add = [&](uint64_t key, const char* name, uint64_t size, int64_t written,
                       bool placed) {
    Entry entry;
    entry.key = key;
    entry.state = State::deleted;
    entry.name.text = name;
    entry.created = Time{17'751'252'620'200'000};
    entry.modified = Time{entry.created->ticks + written};
    Stream& stream = entry.streams.emplace_back();
    stream.size = stream.valid_size = size;
    stream.first = 4096;
    stream.open = !placed;
    stream.placement = placed ? Placement::exact : Placement::none;
    if (placed) append_piece(stream.pieces, {Piece::Kind::range, 4096, size});
    return writer.add(entry);
  };
  const EntryId before = add(64, "Before the move.txt", 7000, 100, true);
  const EntryId last = add(32, "Last.txt", 9000, 5'000'000, false);
  writer.finish();
  Budget budget;
  merge_twins(shelf, {}, budget);
  EXPECT_EQ(resolve_id(shelf, before), last);
  EXPECT_EQ(shelf.db().execAndGet("SELECT name FROM names WHERE kind='former'").getString(),
            "Before the move.txt");
}

// Random pairs of commands at the same time, with kills in between.
TEST_F(OneShelf, SurvivesCommandsAtTheSameTime) {
  std::filesystem::resize_file(image_, uint64_t{1} << 30);
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
  const std::string right = listed();
  std::mt19937 random(20261126);
  const std::string program = quoted(UNDERSHELF_PROGRAM);
  const std::vector<std::string> commands = {
      "scan " + image_ + " --shelf " + shelf_ + " --depth deep --check sample",
      "scan " + image_ + " --shelf " + shelf_,
      "list " + shelf_ + " --format csv",
      "tree " + shelf_,
      "volumes " + shelf_,
      "show " + shelf_ + " 9",
      "list " + shelf_ + " --count"};
  constexpr int kPairs = 200;
  for (int pair = 0; pair < kPairs; ++pair) {
    const auto pick = [&] { return commands[random() % commands.size()]; };
    const std::string killed =
        random() % 3 == 0 ? "timeout -s KILL 0.0" + std::to_string(random() % 9 + 1) + " " : "";
    const std::string out = folder_.path("out");
    const Outcome both = shell("{ " + killed + program + " " + pick() + " & " + program + " " +
                               pick() + " & wait; } > " + out + " 2>&1");
    const std::string text = read_file(out);
    for (const char* raw : {"unordered_map", "database is locked", "SQL", "fault of the program",
                            "is damaged", "unable to open"}) {
      EXPECT_EQ(text.find(raw), std::string::npos) << text;
    }
  }
  undershelf({"scan", image_, "--shelf", shelf_, "--depth", "deep", "--check", "sample"});
  EXPECT_EQ(listed(), right);
}

}  // namespace
}  // namespace undershelf::test
