// Files that break off on a medium without any metadata: what there is of them is kept, to the byte
// where what follows is blank, and for what it is.
#include <gtest/gtest.h>

#include <map>
#include <string>
#include <vector>

#include "kinds.h"
#include "support.h"

namespace undershelf::test {
namespace {

constexpr size_t kApart = 1 << 20;  // bytes from one start to the next

struct Cut {
  std::string kind;
  std::string there;    // what the medium has of it
  size_t off = 0;       // bytes by which its length may be missed: the rest of a frame or block
  uint64_t intact = 0;  // bytes that are known to be its own, at least; 0: nothing is known
};

// The first three quarters of a file.
Cut cut(const std::string& kind, double intact, size_t off = 0) {
  const std::string& whole = kinds().at(kind);
  const std::string there = whole.substr(0, whole.size() * 3 / 4);
  return {kind, there, off, static_cast<uint64_t>(intact * static_cast<double>(there.size()))};
}

void put(std::string& to, size_t at, std::string_view bytes) {
  to.replace(at, bytes.size(), bytes);
}

// As a recorder leaves it whose power fails: no lengths, and no index.
Cut recording(const std::string& kind, std::vector<size_t> lengths, std::string_view unwritten,
              std::string_view index, double intact, size_t off = 0) {
  std::string there = kinds().at(kind);
  there.resize(there.find(index, there.size() / 2) - 4);
  for (const size_t at : lengths) put(there, at, unwritten);
  const auto sound = static_cast<uint64_t>(intact * static_cast<double>(there.size()));
  return {kind, there, off, sound};
}

std::vector<Cut> cuts() {
  const std::string none("\0\0\0\0", 4);
  const std::string& mp4 = kinds().at("h264.mp4");
  const std::string& mov = kinds().at("h265.mov");
  const std::string& avi = kinds().at("clip.avi");
  const std::string& wav = kinds().at("note.wav");
  std::vector<Cut> all = {
      cut("baseline.jpg", 0.99),
      cut("progressive.jpg", 0.99),
      cut("chart.png", 0.5),
      cut("chart.heic", 0),
      cut("chart.webp", 0),
      cut("note.flac", 0.9),
      cut("clip.mkv", 0.8, 4096),
      cut("pack.zip", 0),
      cut("report.docx", 0.3),
      cut("pack.tar.gz", 0.9, 512),
      cut("pack.tar.bz2", 0.9, 512),
      cut("pack.tar.xz", 0.9, 512),
      cut("fragments.mp4", 0.3, 4096),
      recording("h264.mp4", {mp4.find("mdat") - 4}, none, "moov", 0),
      recording("h265.mov", {mov.find("mdat") - 4}, "\x7F\xFF\xFF\xF0", "moov", 0),
      recording("clip.avi", {4, avi.find("movi") - 4}, none, "idx1", 0.9, 4096),
      recording("clip.avi", {4, avi.find("movi") - 4}, "\xFF\xFF\xFF\xFF", "idx1", 0.9, 4096),
  };
  std::string sound = wav.substr(0, wav.size() / 2);
  put(sound, 4, none);
  put(sound, wav.find("data") + 4, none);
  all.push_back({"note.wav", sound, 0, 0});
  return all;
}

TEST(CutShort, IsKeptForWhatItIs) {
  const std::vector<Cut> files = cuts();
  std::string medium(kApart, '\0');
  for (const Cut& file : files)
    medium += file.there + std::string(kApart - file.there.size(), '\0');
  const TempFolder folder;
  write_file(folder.path("card.img"), medium);
  const Outcome scan = undershelf(
      {"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--depth", "deep"});
  ASSERT_EQ(scan.code, 1) << scan.err;
  std::map<uint64_t, Json> found;
  for (const Json& row : rows_of(folder.path("shelf"), {"--kind", "file"})) {
    const Json shown = undershelf({"show", folder.path("shelf"),
                                   std::to_string(row["id"].get<int64_t>()), "--format", "jsonl"})
                           .lines()
                           .at(0);
    found[shown["pieces"].at(0)["offset"]] = row;
  }
  EXPECT_EQ(found.size(), files.size());
  for (size_t i = 0; i < files.size(); ++i) {
    const Cut& file = files[i];
    SCOPED_TRACE(file.kind + " " + std::to_string(i));
    const bool is_there = found.contains((i + 1) * kApart);
    EXPECT_TRUE(is_there);
    if (!is_there) continue;
    const Json& row = found.at((i + 1) * kApart);
    EXPECT_EQ(row["rating"], "partial");
    EXPECT_LE(row["size"], file.there.size() + file.off);
    EXPECT_GE(row["size"], file.there.find_last_not_of('\0') + 1);
    EXPECT_GE(row["intact_bytes"], file.intact);
    EXPECT_LE(row["intact_bytes"], row["size"]);
  }
}

// Behind it lies what may go on with it, or be another's: that is not taken to be its own.
TEST(CutShort, IsNotKeptIfItMayGoOn) {
  std::string text;
  while (text.size() < 40 * kApart / 64) text += kinds().at("levels.csv");
  std::string medium(kApart, '\0');
  for (const char* kind : {"chart.png", "pack.zip", "h264.mp4"}) {
    const Cut file = cut(kind, 0);
    medium += file.there + std::string(-file.there.size() % 4096, '\0') + text;
    medium.resize((medium.size() / kApart + 1) * kApart, '\0');
  }
  const TempFolder folder;
  write_file(folder.path("card.img"), medium);
  undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--depth", "deep"});
  EXPECT_EQ(rows_of(folder.path("shelf"), {"--kind", "file"}).size(), 0U);
}

// Its header says that it is longer than all that follows, which is what headers of rubbish say.
TEST(CutShort, IsNotKeptOnTheWordOfAHeader) {
  std::string medium(112 << 20, '\xA5');
  for (const size_t at : {size_t{16} << 20, size_t{96} << 20}) {
    put(medium, at, kinds().at("program.elf").substr(0, 64));
    put(medium, at + 0x28, std::string("\xFF\xFF\xFF\xFF\xFF\x00\x00\x00", 8));
  }
  const TempFolder folder;
  write_file(folder.path("card.img"), medium);
  undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("shelf"), "--depth", "deep"});
  EXPECT_EQ(rows_of(folder.path("shelf"), {"--kind", "file"}).size(), 0U);
}

}  // namespace
}  // namespace undershelf::test
