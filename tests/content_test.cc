// What content says of itself, on real files by real encoders, sound and harmed.
#include <gtest/gtest.h>

#include <fstream>
#include <map>
#include <random>
#include <set>
#include <sstream>

#include "checking/examine.h"
#include "content/families.h"
#include "kinds.h"
#include "source/hash.h"
#include "support.h"

namespace undershelf::test {
namespace {

using checking::Examined;
using content::Level;

Examined examined(std::string_view bytes) {
  content::MemoryBytes memory(std::as_bytes(std::span(bytes)));
  return checking::examine(memory);
}

std::string format_of(const Examined& found) { return found.format.data(); }

TEST(Kinds, SoundFilesAreRecognisedAndNeverBroken) {
  ASSERT_GE(kinds().size(), 60U);
  std::set<std::string> formats;
  for (const auto& [name, bytes] : kinds()) {
    const Examined found = examined(bytes);
    EXPECT_FALSE(format_of(found).empty()) << name;
    EXPECT_NE(found.level, Level::broken) << name << ": " << found.why.data();
    EXPECT_TRUE(found.hashed);
    formats.insert(format_of(found));
  }
  EXPECT_GE(formats.size(), 50U);
}

// Slack: the rest of a cluster holds something older.
TEST(Kinds, WhatFollowsTheEndIsNoFault) {
  for (const auto& [name, bytes] : kinds()) {
    const Examined whole = examined(bytes);
    if (whole.level != Level::verified) continue;
    // Their decoders go on, or stop, without a word.
    if (name.ends_with("bz2") || name.ends_with("lz4") || name.ends_with("zst")) continue;
    EXPECT_EQ(examined(bytes + std::string(300, '\0')).level, Level::verified) << name;
    // Formats that are read from their end do not have one there.
    const Examined slack = examined(bytes + std::string(300, 'x'));
    EXPECT_NE(slack.level, Level::verified) << name;
  }
}

class Harms {
 public:
  explicit Harms(const std::string& name) : name_(name), bytes_(kinds().at(name)), r_(1) {}

  // Of some tries, how many were found.
  std::string share(const std::string& harm) {
    constexpr int kTries = 24;
    int found = 0;
    for (int i = 0; i < kTries; ++i) found += examined(harmed(harm)).level == Level::broken;
    return found == kTries       ? "always"
           : found * 2 >= kTries ? "mostly"
           : found > 0           ? "rarely"
                                 : "never";
  }

 private:
  std::string harmed(const std::string& harm) {
    std::string bytes = bytes_;
    const size_t cluster = bytes.size() >= 5 * 4096 ? 4096 : 512;
    const size_t clusters = bytes.size() / cluster;
    if (harm == "cut") {
      bytes.resize(bytes.size() - 1 - r_() % std::max<size_t>(1, bytes.size() / 2));
    } else if (harm == "flip") {
      bytes[16 + r_() % (bytes.size() - 16)] ^= static_cast<char>(1 << r_() % 8);
    } else if (clusters >= 3) {
      const size_t at = (1 + r_() % (clusters - 2)) * cluster;
      const std::string& other = kinds().at(name_.ends_with("png") ? "baseline.jpg" : "chart.png");
      const size_t from = (1 + r_() % 6) * 4096;
      const std::string now =
          harm == "blank" ? std::string(cluster, '\0') : other.substr(from, cluster);
      bytes.replace(at, cluster, now);
    }
    return bytes;
  }

  const std::string name_;
  const std::string& bytes_;
  std::mt19937 r_;
};

// The table in docs/recovery/content.md says what is found, and where a format gives no way to.
// UNDERSHELF_TABLE=FILE writes what is measured.
TEST(Kinds, HarmIsFoundAsTheDocumentsTableSays) {
  const std::array<std::string, 4> harms = {"flip", "other", "cut", "blank"};
  std::map<std::string, std::string> measured;
  std::ostringstream table;
  for (const auto& [name, bytes] : kinds()) {
    const Examined whole = examined(bytes);
    Harms of(name);
    std::string row =
        "| " + name + " | " + format_of(whole) + " | " + std::string(to_text(whole.level));
    for (const std::string& harm : harms) row += " | " + of.share(harm);
    measured[name] = row + " |";
    table << measured[name] << '\n';
  }
  if (const char* to = std::getenv("UNDERSHELF_TABLE")) write_file(to, table.str());
  std::ifstream document(std::string(UNDERSHELF_SOURCES) + "/../docs/recovery/content.md");
  size_t rows = 0;
  for (std::string line; std::getline(document, line);) {
    const auto row =
        measured.find(line.substr(0, line.find(" |", 2)).substr(std::min<size_t>(2, line.size())));
    if (!line.starts_with("| ") || row == measured.end()) continue;
    EXPECT_EQ(line, row->second);
    ++rows;
  }
  EXPECT_EQ(rows, kinds().size());
}

// What a rating believes of formats is what the table measured.
TEST(Kinds, FormatsThatNoticeForeignClustersAreThoseOfTheTable) {
  std::ifstream document(std::string(UNDERSHELF_SOURCES) + "/../docs/recovery/content.md");
  size_t rows = 0;
  for (std::string line; std::getline(document, line);) {
    if (!line.starts_with("| ")) continue;
    std::vector<std::string> cells;
    std::istringstream parts(line);
    for (std::string cell; std::getline(parts, cell, '|');) {
      if (cell.size() > 2) cells.push_back(cell.substr(1, cell.size() - 2));
    }
    if (cells.size() != 7 || content::known_format(cells[1]).empty()) continue;
    ++rows;
    if (content::notices_foreign_clusters(cells[1])) {
      EXPECT_EQ(cells[4], "always") << cells[0];
    }
  }
  EXPECT_EQ(rows, kinds().size());
}

// Where a checksum or a code tells the place, it is told near the harm.
TEST(Kinds, ABreakIsToldWhereItIs) {
  for (const std::string name :
       {"chart.png", "note.flac", "note.ogg", "clip.avi", "clip.ts", "h264.mp4", "note.txt"}) {
    std::string bytes = kinds().at(name);
    const size_t at = bytes.size() / 2 / 512 * 512;
    bytes.replace(at, 512, std::string(512, '\0'));
    const Examined found = examined(bytes);
    EXPECT_EQ(found.level, Level::broken) << name;
    EXPECT_LE(found.sound_to, at + 4096) << name;
    EXPECT_GE(found.sound_to + 40000, at) << name;
  }
}

// What the blocks of a picture without pixels hold is not taken for the blocks behind it.
TEST(Kinds, APictureWithoutPixelsIsReadOver) {
  const std::string sound = kinds().at("turning.gif");
  const size_t begin = 13 + ((sound[10] & 0x80) != 0 ? size_t{6} << (sound[10] & 7) : 0);
  for (const std::string& area : {std::string("\4\0\0\0", 4), std::string("\0\0\4\0", 4)}) {
    const std::string picture =
        std::string("\x2C\0\0\0\0", 5) + area + std::string("\0\2\2\x2C\x21\3\x2C\x2C\x2C\0", 10);
    std::string bytes = sound;
    bytes.insert(begin, picture);
    EXPECT_EQ(examined(bytes).level, Level::consistent);
  }
}

// Counts what is handed out.
class CountedBytes : public content::Bytes {
 public:
  explicit CountedBytes(std::string_view all) : all_(std::as_bytes(std::span(all))) {}
  uint64_t size() const override { return all_.size(); }
  std::span<const std::byte> at(uint64_t offset, size_t length) override {
    const auto part = all_.at(offset, length);
    handed_out += part.size();
    return part;
  }
  uint64_t handed_out = 0;

 private:
  content::MemoryBytes all_;
};

// What a walk, or a decoder, reads in order is not read once more for the hash.
TEST(Kinds, AreHashedOnTheWay) {
  const std::map<std::string, double> most = {
      {"chart.png", 1.2}, {"clip.avi", 1.2},    {"clip.mkv", 1.2},
      {"clip.ts", 1.2},   {"h264.mp4", 1.2},    {"levels.sqlite", 1.2},
      {"note.mp3", 1.2},  {"pack.tar.gz", 1.2}, {"baseline.jpg", 2.1}};
  for (const auto& [name, bytes] : kinds()) {
    CountedBytes counted(bytes);
    const Examined found = checking::examine(counted);
    EXPECT_EQ(found.sha256.data(), sha256_hex(std::as_bytes(std::span(bytes)))) << name;
    if (const auto known = most.find(name); known != most.end()) {
      EXPECT_LE(static_cast<double>(counted.handed_out),
                known->second * static_cast<double>(bytes.size()))
          << name;
    }
  }
}

// No walk may go on for ever, whatever numbers it meets.
TEST(Kinds, NumbersOutOfRangeEndAWalk) {
  std::mt19937 r(7);
  for (const auto& [name, bytes] : kinds()) {
    for (int i = 0; i < 40; ++i) {
      std::string harmed = bytes;
      for (int n = 0; n < 6; ++n) {
        const size_t at = r() % std::min<size_t>(harmed.size() - 4, n < 3 ? 4096 : harmed.size());
        harmed.replace(at, 4, std::string(4, static_cast<char>(r() % 2 == 0 ? 0xFF : r())));
      }
      content::MemoryBytes memory(std::as_bytes(std::span(harmed)));
      const content::Recognised known = content::recognise(memory);
      if (known.family != nullptr) {
        EXPECT_LE(known.family->walk(memory, known.format).sound_to, harmed.size() + (1 << 20))
            << name;
      }
    }
  }
}

// A recording that ends with a frame of it is told by the number of its samples.
TEST(Content, AFlacThatEndsWithAFrameBeforeItsLastIsNoticed) {
  const std::string& whole = kinds().at("note.flac");
  constexpr size_t kLongestFrame = 1210;  // of this one
  for (size_t cut = whole.size() - kLongestFrame; cut < whole.size(); ++cut) {
    ASSERT_EQ(examined(whole.substr(0, cut)).level, Level::broken) << cut;
  }
}

// Tables that count 65,535 lines and end with the file: no more is asked of it than it can hold.
TEST(Content, TablesEndWithTheFile) {
  class Counted : public content::MemoryBytes {
   public:
    using MemoryBytes::MemoryBytes;
    std::span<const std::byte> at(uint64_t offset, size_t length) override {
      ++asked;
      return MemoryBytes::at(offset, length);
    }
    size_t asked = 0;
  };
  std::string elf(
      "\x7f"
      "ELF\2\1\1",
      7);
  elf.resize(8192);
  elf[16] = 2;  // e_type, e_machine, e_version, e_shoff, e_phentsize, e_phnum, e_shentsize, e_shnum
  elf[18] = 62;
  elf[20] = 1;
  elf[41] = 1;
  for (const int at : {54, 55, 56, 57, 60, 61}) elf[at] = '\xff';
  elf[58] = 64;
  std::string flat = elf;  // of lines without a byte
  flat[54] = flat[55] = flat[58] = 0;
  std::string font("\0\1\0\0\0\1\0\0\0\0\0\0name\0\0\0\0\0\0\1\0\0\0\1\0", 28);
  font.resize(8192, 'x');
  font.replace(256, 6, std::string("\0\0\xff\xff\0\0", 6));
  const auto box = [](const std::string& name, const std::string& body) {
    const size_t size = 8 + body.size();
    const std::string bytes = {'\0', '\0', static_cast<char>(size >> 8), static_cast<char>(size)};
    return bytes + name + body;
  };
  const std::string none(4, '\0');
  const std::string all(4, '\xff');
  std::string movie = box("ftyp", "isom" + none);
  const std::string tables = box("stsz", none + none + all + std::string("\0\0\0\1", 4)) +
                             box("stsc", none + none + none + none + none) +
                             box("stco", none + all + none);
  movie += box("moov", box("trak", box("mdia", box("minf", box("stbl", tables)))));
  const std::vector<std::pair<const content::Family*, std::string>> files = {
      {&content::kProgram, elf},
      {&content::kProgram, flat},
      {&content::kFont, font},
      {&content::kIsobmff, movie}};
  for (const auto& [family, file] : files) {
    Counted bytes(std::as_bytes(std::span(file)));
    const std::string_view format = family->recognise(bytes);
    ASSERT_NE(format, "");
    family->walk(bytes, format);
    content::Description says;
    if (family->describe != nullptr) family->describe(bytes, format, says);
    EXPECT_LT(bytes.asked, 2500U) << format;
  }
}

}  // namespace
}  // namespace undershelf::test
