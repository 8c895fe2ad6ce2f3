// Files by their content alone, and files in pieces.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <jpeglib.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <random>
#include <set>

#include "checking/examine.h"
#include "content/jpeg_scan.h"
#include "content/mail_words.h"
#include "content/starts.h"
#include "content/types.h"
#include "kinds.h"
#include "support.h"

namespace undershelf::test {
namespace {

using checking::Examined;
using content::Level;

constexpr size_t kCluster = 4096;

// Formats without an end of their own: what follows a file on a medium may as well be more of it.
bool has_end(const std::string& name) {
  static const std::set<std::string> kWithout = {"latin.txt", "levels.csv", "note.txt", "wide.txt"};
  return !kWithout.contains(name);
}

content::MemoryBytes in_memory(const std::string& bytes) {
  return content::MemoryBytes(std::as_bytes(std::span(bytes)));
}

TEST(Carving, FilesEndWhereTheirStructureSays) {
  std::mt19937 chance(7);
  std::string noise(20'000, '\0');
  for (char& c : noise) c = static_cast<char>(chance());
  const std::map<std::string, std::string> behind = {{"zeros", std::string(20'000, '\0')},
                                                     {"erased flash", std::string(20'000, '\xFF')},
                                                     {"noise", noise},
                                                     {"text", std::string(20'000, 'x')},
                                                     {"a picture", kinds().at("baseline.jpg")},
                                                     {"an archive", kinds().at("pack.zip")}};
  for (const auto& [name, bytes] : kinds()) {
    // These end where zeros fill the rest of a sector (TextEndsWhereItIsClosed).
    if (!has_end(name) || name == "inbox.mbox" || name == "levels.json") continue;
    for (const auto& [what, more] : behind) {
      // On a medium the rest of the last cluster is blank, or what was there before.
      std::string medium = bytes;
      const size_t part = what == "a picture" || what == "an archive" ? kCluster : 512;
      if (part == kCluster || bytes.size() < part) {
        medium.resize((bytes.size() + part - 1) / part * part);
      }
      medium += more;
      content::MemoryBytes there = in_memory(medium);
      const Examined found = checking::examine_start(there);
      EXPECT_EQ(found.end, bytes.size()) << name << " before " << what << ": " << found.why.data();
      EXPECT_GE(found.level, Level::consistent) << name << " before " << what;
    }
  }
}

TEST(Carving, FramesThatAreNotLookedIntoVouchForNothing) {
  for (const char* name : {"h265.mov", "phone.3gp"}) {
    std::string film = kinds().at(name);
    content::MemoryBytes there = in_memory(film);
    EXPECT_TRUE(checking::examine_start(there).notices_foreign_clusters()) << name;
    // As of a kind of pictures that is not known here.
    for (const char* kind : {"avc1", "hvc1", "hev1"}) {
      const size_t at = film.rfind(kind);  // behind the brands
      if (at != std::string::npos) film.replace(at, 4, "mjp2");
    }
    content::MemoryBytes other = in_memory(film);
    const Examined found = checking::examine_start(other);
    EXPECT_EQ(found.level, Level::consistent) << name;
    EXPECT_EQ(found.end, film.size()) << name;
    EXPECT_FALSE(found.notices_foreign_clusters()) << name;
  }
}

// Whatever follows the first cluster of a fragment was taken for its frames, by their length alone.
TEST(Carving, FramesOfFragmentsAreLookedInto) {
  const std::string& whole = kinds().at("fragments.mp4");
  const std::string& other = kinds().at("chart.png");
  ASSERT_GE(other.size(), whole.size());
  for (const size_t own : {size_t{1}, size_t{3}}) {
    std::string medium = whole.substr(0, own * kCluster) + other.substr(kCluster);
    content::MemoryBytes there = in_memory(medium);
    const Examined found = checking::examine_start(there);
    EXPECT_EQ(found.level, Level::broken) << own;
    EXPECT_EQ(found.end, 0U) << own;
    EXPECT_LE(found.sound_to, (own + 1) * kCluster) << own;  // a frame is noticed by the next one
  }
}

// What stands before what follows, and how much of it is a file: nothing, if it is none.
TEST(Carving, TextEndsWhereItIsClosed) {
  const std::string mail = "From: a@example.org\r\nSubject: Levels\r\n\r\nLow water at six.\r\n";
  const std::string parts =
      "Date: Mon, 6 Apr 2026 10:15:00 +0200\r\nSubject: Levels\r\nContent-Type: "
      "multipart/mixed;\r\n"
      " boundary=\"Tide 7\"\r\n\r\n--Tide 7\r\n\r\nHigh.\r\n--Tide 7--\r\n";
  const std::string levels = "{\"gauge\": \"Kelp Point\", \"levels\": [389, 402]}\n";
  const std::string zeros(1024, '\0'), noise("\x01\x02\x03\x04", 4);
  const struct {
    std::string text, behind;
    size_t end;
    const char* what;
  } cases[] = {
      {mail, zeros, mail.size(), "mail in a sector that zeros fill"},
      {mail, noise, 0, "mail that something else cuts off"},
      {parts, zeros, parts.size(), "mail whose last part is closed"},
      {parts + "Text of another", zeros, parts.size(), "such mail, before other text"},
      {parts.substr(0, parts.size() - 8), zeros, 0, "mail whose last part is not"},
      {levels, zeros, levels.size(), "JSON in a sector that zeros fill"},
      {levels + levels, zeros, 0, "JSON before more text"},
      {levels.substr(0, 20), zeros, 0, "JSON that is not closed"},
      {"{\"gauge\": \"Kelp Point\", \"levels\": [389, 402,]}", zeros, 0,
       "brackets that are no JSON"},
      {"[389] is the level of today.", zeros, 0, "text that begins like JSON"},
      {"[1]", zeros, 0, "a few bytes that are JSON"},
  };
  for (const auto& c : cases) {
    std::string medium = c.text + c.behind + zeros;
    medium.resize(medium.size() / 512 * 512);
    content::MemoryBytes there = in_memory(medium);
    const Examined found = checking::examine_start(there);
    EXPECT_EQ(found.level >= Level::consistent ? found.end : 0, c.end) << c.what;
  }
  // What cannot be read may be text too.
  class Torn : public content::MemoryBytes {
   public:
    using MemoryBytes::MemoryBytes;
    std::span<const std::byte> at(uint64_t offset, size_t length) override {
      constexpr size_t kHole = 1000;
      return MemoryBytes::at(offset, std::min(length, kHole - std::min<size_t>(offset, kHole)));
    }
  };
  std::string lines = mail;
  while (lines.size() < 2048) lines += "High water at noon.\r\n";
  Torn torn(std::as_bytes(std::span(lines)));
  EXPECT_EQ(checking::examine_start(torn).end, 0U);
}

// A letter in a mailbox, and a value of JSON, begin no file; what lies in front of a file may end
// with a byte that text has too.
TEST(Carving, MailAndJsonBeginWhereNoTextStandsInFront) {
  const auto bytes_of = [](const std::string& text) { return std::as_bytes(std::span(text)); };
  const std::string text = "level,3\n", other("\x91\0\xF0\2\x88q\xC3\n", 8), none(8, '\0');
  for (const char* name : {"letter.eml", "inbox.mbox", "levels.json"}) {
    const auto head = bytes_of(kinds().at(name)).first(4096);
    EXPECT_TRUE(content::may_begin(head, bytes_of(none))) << name;
    EXPECT_TRUE(content::may_begin(head, bytes_of(other))) << name;
    EXPECT_FALSE(content::may_begin(head, bytes_of(text))) << name;
  }
  const auto page = bytes_of(kinds().at("page.html")).first(4096);
  EXPECT_TRUE(content::may_begin(page, bytes_of(text)));
}

// Sound of which nothing but its frames is left: its first one follows none, all others do.
TEST(Carving, SoundWithoutTagsBeginsWhereNoFrameStandsInFront) {
  std::mt19937 chance(9);
  std::string noise(20'000, '\0');
  for (char& c : noise) c = static_cast<char>(chance());
  for (const char* name : {"note.mp3", "note.aac"}) {
    // The second frame, behind a tag and one that tells of the others.
    const std::string& file = kinds().at(name);
    const size_t tag = file.starts_with("ID3") ? 10 + file[8] * size_t{128} + file[9] : 0;
    const std::string sync = file.substr(tag, 2);
    const std::string frames = file.substr(file.find(sync, tag + 7));
    const std::string medium = noise + frames + noise;
    const auto begins_at = [&](size_t at) {
      const auto all = std::as_bytes(std::span(medium));
      return content::may_begin(all.subspan(at, 4608), all.subspan(at - 2048, 2048));
    };
    EXPECT_TRUE(begins_at(noise.size())) << name;
    size_t others = 0;
    for (size_t at = 1; at + 4608 < frames.size(); ++at) others += begins_at(noise.size() + at);
    EXPECT_EQ(others, 0U) << name;
    std::string from_there = medium.substr(noise.size());
    content::MemoryBytes there = in_memory(from_there);
    EXPECT_EQ(checking::examine_start(there).end, frames.size()) << name;
  }
}

// What is asked first, of every sector, leaves out nothing that one looks for behind it.
TEST(Carving, FirstLookLeavesOutNoBeginning) {
  const auto head_of = [](std::string text) {
    text.resize(std::max(text.size(), content::kLeastStart), '\x01');
    return text;
  };
  std::set<std::string_view> marks;
  for (const char* name :
       {"a.7z",  "a.aif",  "a.avi",    "a.bmp", "a.bz2", "a.cr2", "a.doc",  "a.zip", "a.gz",
        "a.gif", "a.flac", "a.jpg",    "a.mkv", "a.ogg", "a.pdf", "a.png",  "a.psd", "a.pst",
        "a.rar", "a.rtf",  "a.sqlite", "a.wav", "a.xz",  "a.zst", "a.docx", "a.webm"}) {
    marks.insert(format_by_name(name).magic);
  }
  for (const std::string_view mark : marks) {
    const std::string head = head_of(std::string(mark));
    const auto bytes = std::as_bytes(std::span(head));
    EXPECT_FALSE(mark_at(bytes) && content::cannot_begin(bytes)) << mark;
  }
  for (const auto& [name, bytes] : kinds()) {
    const auto head = std::as_bytes(std::span(bytes)).first(std::min<size_t>(bytes.size(), 512));
    EXPECT_FALSE(mark_at(head) && content::cannot_begin(head)) << name;
  }
  // A tar's first member may have any name.
  const std::string text = "as much text as there is, up to the last sector";
  for (const std::string name :
       {"\x01.txt", "From home.txt", "{a}.txt", "[1].jpg", "X-ray.png", "To: all", "<html>"}) {
    std::string tar = kinds().at("pack.tar").substr(0, 4096);
    tar.replace(0, 100, name + std::string(100 - name.size(), '\0'));
    tar.replace(148, 8, 8, ' ');
    unsigned sum = 0;
    for (size_t i = 0; i < 512; ++i) sum += static_cast<unsigned char>(tar[i]);
    tar.replace(148, 8, fmt::format("{:06o}", sum) + std::string("\0 ", 2));
    const auto head = std::as_bytes(std::span(tar));
    EXPECT_FALSE(content::cannot_begin(head.first(512))) << name;
    EXPECT_TRUE(content::may_begin(head, {})) << name;
    EXPECT_TRUE(content::may_begin(head, std::as_bytes(std::span(text)))) << name;
    content::MemoryBytes there = in_memory(tar);
    EXPECT_EQ(content::recognise(there).format, "tar") << name;
  }
  const std::string code = head_of("\x55\x48\x89\xE5");
  EXPECT_TRUE(content::cannot_begin(std::as_bytes(std::span(code))));
}

// Markup ends with its outermost element, whatever stands in front of it and inside; a page
// description with its last line.
TEST(Carving, TextThatIsClosedEndsThere) {
  const std::string licence(5000, 'x');
  const std::string menu = "<m:menu>\n" + licence + "<m:menu id=\"1\"><a/></m:menu>\n</m:menu>\n";
  const std::string drawing = "%!PS-Adobe-3.0 EPSF-3.0\n%" + licence +
                              "\n%%BeginDocument: a\n%!PS\n%%EOF\n%%EndDocument\nshowpage\n%%EOF\n";
  for (const std::string& file :
       {"<?xml version=\"1.0\"?>\n" + menu, "<?xml version=\"1.0\"?>\n<!-- <m:old> -->\n" + menu,
        "<?xml version=\"1.0\"?>\n<!--\n" + licence + "-->\n" + menu, drawing}) {
    std::string medium = file;
    medium.resize((file.size() / 512 + 1) * 512, '\0');
    medium += std::string(4096, '\x91');
    content::MemoryBytes bytes(std::as_bytes(std::span(medium)));
    EXPECT_EQ(content::walk_open(bytes, content::recognise(bytes)).end, file.size());
  }
}

struct InPieces {
  const char* name;
  size_t cluster;
  size_t head = 0;  // bytes of which some are not checked
};
void PrintTo(const InPieces& one, std::ostream* out) { *out << one.name; }

class Rejoined : public testing::TestWithParam<InPieces> {};

// Foreign clusters in the middle of a file are left out, wherever they lie.
TEST_P(Rejoined, WhateverLiesBetweenThePieces) {
  const auto [name, cluster, head] = GetParam();
  const std::string& bytes = kinds().at(name);
  std::mt19937 chance(3);
  const std::string notes = kinds().at("note.txt") + kinds().at("levels.csv");
  int right = 0;
  constexpr int kTries = 10;
  for (int n = 0; n < kTries; ++n) {
    const size_t first = 1 + head / cluster;
    const size_t cut = (first + chance() % ((bytes.size() - 1) / cluster + 1 - first)) * cluster;
    const size_t gap = (1 + chance() % 5) * cluster;
    std::string between;
    while (between.size() < gap) between += notes;
    between.resize(gap);
    const std::string medium =
        bytes.substr(0, cut) + between + bytes.substr(cut) + std::string(8 * cluster, '\0');
    content::MemoryBytes there = in_memory(medium);
    const Examined found = checking::rejoin(there, cluster);
    right += found.end == bytes.size() && found.cuts[0].at == cut && found.cuts[0].gap == gap;
  }
  EXPECT_GE(right, kTries * 8 / 10) << name;
}

INSTANTIATE_TEST_SUITE_P(Kinds, Rejoined,
                         testing::Values(InPieces{"baseline.jpg", 2048},
                                         InPieces{"progressive.jpg", 2048},
                                         InPieces{"restarts.jpg", 2048}, InPieces{"grey.jpg", 2048},
                                         InPieces{"chart.png", 4096}, InPieces{"pack.zip", 4096},
                                         InPieces{"report.docx", 4096},
                                         InPieces{"report.pdf", 4096}, InPieces{"h264.mp4", 4096},
                                         InPieces{"h265.mov", 4096},
                                         InPieces{"note.flac", 4096, 8304},
                                         InPieces{"clip.avi", 4096}, InPieces{"clip.mpg", 4096},
                                         InPieces{"clip.ts", 4096}, InPieces{"clip.m2ts", 4096}),
                         [](const auto& one) {
                           std::string name = one.param.name;
                           std::erase_if(name, [](char c) { return std::isalnum(c) == 0; });
                           return name;
                         });

// Text between the pieces reads as letters of a stream, and as what stands in front of one: what an
// object is must hold to its end. The last cluster of an object may be cut off as any other; and of
// one without a stream the table tells that it holds more.
TEST(Rejoining, PdfIsCutInAnyOfItsClusters) {
  const std::string& bytes = kinds().at("report.pdf");
  for (const size_t cluster : {512, 4096, 16'384}) {
    std::string between;
    while (between.size() < 3 * cluster) between += kinds().at("note.txt");
    between.resize(3 * cluster);
    // With small clusters, what stands around the objects that have no streams.
    const size_t pages = bytes.rfind("/Kids");
    const size_t first = cluster == 512 ? (pages - 1024) / cluster * cluster : cluster;
    const size_t last = cluster == 512 ? pages + 1024 : bytes.size();
    for (size_t cut = first; cut < last; cut += cluster) {
      const std::string medium =
          bytes.substr(0, cut) + between + bytes.substr(cut) + std::string(8 * cluster, '\0');
      content::MemoryBytes there = in_memory(medium);
      const Examined found = checking::rejoin(there, cluster);
      EXPECT_EQ(found.end, bytes.size()) << cut << " of " << cluster;
      EXPECT_EQ(found.cuts[0].at, cut) << cluster;
    }
  }
}

// The word with which a stream begins may stand in a title; and an object that ends with a stream
// has its beginning too.
TEST(Carving, PdfHasAStreamOnlyBehindADictionary) {
  std::string file = kinds().at("report.pdf");
  const size_t title = file.find("/Title (");
  ASSERT_NE(title, std::string::npos);
  file.replace(title + 8, 6, "stream");
  content::MemoryBytes there = in_memory(file);
  EXPECT_EQ(checking::examine_start(there).end, file.size());
  const size_t stream = file.find(">>\nstream\n");
  ASSERT_NE(stream, std::string::npos);
  file.replace(stream, 10, "9/(1)*7+c0");
  EXPECT_EQ(checking::examine_start(there).level, Level::broken);
}

class CountedBytes : public content::MemoryBytes {
 public:
  using MemoryBytes::MemoryBytes;
  std::span<const std::byte> at(uint64_t offset, size_t length) override {
    const auto there = MemoryBytes::at(offset, length);
    asked += there.size();
    return there;
  }
  uint64_t asked = 0;  // bytes
};

// Where a program stream breaks off, each cluster behind may begin with packets that never lead to
// a pack: they are not followed to the end of the medium from each.
TEST(Rejoining, PacketsWithoutAPackAreFollowedALittle) {
  constexpr size_t kPage = 4096, kBehind = 2 << 20;
  std::string medium = kinds().at("clip.mpg").substr(0, 16 * kPage);
  medium.append(kPage, '\x01');
  const std::string packet = std::string("\0\0\1\xBE\0\x0A", 6) + std::string(10, '\xFF');
  for (const size_t end = medium.size() + kBehind; medium.size() < end;) medium += packet;
  CountedBytes bytes(std::as_bytes(std::span(medium)));
  checking::rejoin(bytes, kPage);
  EXPECT_LT(bytes.asked, 100 << 20);
}

// A progressive picture of noise, some 200 KiB, by libjpeg.
std::string large_picture() {
  constexpr unsigned kWide = 640, kHigh = 480;
  jpeg_compress_struct picture{};
  jpeg_error_mgr errors{};
  picture.err = jpeg_std_error(&errors);
  jpeg_create_compress(&picture);
  unsigned char* out = nullptr;
  unsigned long size = 0;
  jpeg_mem_dest(&picture, &out, &size);
  picture.image_width = kWide;
  picture.image_height = kHigh;
  picture.input_components = 3;
  picture.in_color_space = JCS_RGB;
  jpeg_set_defaults(&picture);
  jpeg_simple_progression(&picture);
  jpeg_start_compress(&picture, TRUE);
  std::mt19937 chance(5);
  std::vector<unsigned char> row(size_t{3} * kWide);
  while (picture.next_scanline < kHigh) {
    for (unsigned char& value : row) {
      value = static_cast<unsigned char>(96 + picture.next_scanline / 8 + chance() % 48);
    }
    JSAMPROW rows[] = {row.data()};
    jpeg_write_scanlines(&picture, rows, 1);
  }
  jpeg_finish_compress(&picture);
  jpeg_destroy_compress(&picture);
  std::string bytes(reinterpret_cast<char*>(out), size);
  std::free(out);
  return bytes;
}

// An archive as it is written to a pipe: the length of a member stands behind it.
std::string streamed_archive(size_t members) {
  std::string archive, directory;
  const auto number = [](size_t value, int bytes) {
    std::string little;
    for (int i = 0; i < bytes; ++i) little += static_cast<char>(value >> (8 * i));
    return little;
  };
  const std::string content(300, 'x');
  for (size_t i = 0; i < members; ++i) {
    const std::string head = number(20, 2) + number(8, 2) + std::string(6, '\0');
    const std::string sizes = number(content.size(), 4) + number(content.size(), 4);
    const std::string names = number(1, 2) + number(0, 2);
    directory += "PK\1\2" + number(20, 2) + head + std::string(4, '\0') + sizes + names +
                 std::string(10, '\0') + number(archive.size(), 4) + "a";
    archive += "PK\3\4" + head + std::string(12, '\0') + names + "a" + content;
    archive += "PK\7\10" + number(0, 4) + sizes;
  }
  const size_t at = archive.size();
  return archive + directory + "PK\5\6" + std::string(4, '\0') + number(members, 2) +
         number(members, 2) + number(directory.size(), 4) + number(at, 4) + number(0, 2);
}

// What several cores pack is written as one stream a part; what is left of one that breaks is no
// whole file.
TEST(Carving, StreamsThatFollowEachOtherAreOneFile) {
  for (const char* name : {"pack.tar.gz", "pack.tar.bz2", "pack.tar.xz"}) {
    const std::string& one = kinds().at(name);
    const std::string noise(4096, '\x55');
    const auto look = [](const std::string& medium) {
      content::MemoryBytes bytes(std::as_bytes(std::span(medium)));
      return checking::examine_start(bytes);
    };
    EXPECT_EQ(look(one + one + one + noise).end, 3 * one.size()) << name;
    EXPECT_EQ(look(one + one + noise).level, content::Level::verified) << name;
    EXPECT_EQ(look(one + one.substr(0, one.size() / 2) + noise).level, content::Level::broken)
        << name;
  }
}

// RF64 (EBU Tech 3306): the length of the samples stands in a chunk of its own.
TEST(Carving, LongWavesTellTheirLengthsElsewhere) {
  std::string wave = kinds().at("note.wav");
  const size_t data = wave.find("data");
  const auto wide = [](uint64_t value) {
    std::string little(8, '\0');
    std::memcpy(little.data(), &value, little.size());
    return little;
  };
  const uint64_t samples = wave.size() - data - 8;
  wave.replace(data + 4, 4, "\xFF\xFF\xFF\xFF");
  wave = "RF64\xFF\xFF\xFF\xFFWAVEds64" + std::string("\x1C\0\0\0", 4) + wide(wave.size() + 28) +
         wide(samples) + std::string(12, '\0') + wave.substr(12);
  const std::string medium = wave + std::string(4096, '\x55');
  content::MemoryBytes bytes(std::as_bytes(std::span(medium)));
  EXPECT_EQ(content::walk_open(bytes, content::recognise(bytes)).end, wave.size());
}

// Where a length is not told, as of members of a streamed archive and of the scans of a picture, no
// more is read ahead than is needed: what lies behind a start is as long as the medium.
TEST(Carving, PartsWithoutLengthsAreReadOnce) {
  for (const std::string& file : {streamed_archive(1000), large_picture()}) {
    const std::string medium = file + std::string(4 << 20, '\x55');
    CountedBytes bytes(std::as_bytes(std::span(medium)));
    const content::Walk walk = content::walk_open(bytes, content::recognise(bytes));
    EXPECT_EQ(walk.end, file.size());
    EXPECT_LT(bytes.asked, 16 * file.size());
  }
}

// Codes can be read for long in what is blank and in text: a picture of which the rest is gone must
// not be decoded on from each cluster of those.
TEST(Rejoining, CostsLittleInBlankSpaceAndText) {
  constexpr size_t kBehind = 8 << 20;
  const std::string notes = kinds().at("note.txt") + kinds().at("levels.csv");
  std::string text;
  while (text.size() < kBehind) text += notes;
  const std::string picture = large_picture();
  for (const size_t part : {2, 3, 5}) {
    const std::string begun = picture.substr(0, picture.size() / part / kCluster * kCluster);
    for (const std::string& behind : {text, std::string(kBehind, '\0')}) {
      const std::string medium = begun + behind;
      CountedBytes there(std::as_bytes(std::span(medium)));
      EXPECT_EQ(checking::rejoin(there, kCluster).level, Level::broken);
      EXPECT_LE(there.asked, 6 * kBehind) << "a " << part << "th is there";
    }
  }
}

// It is no text as a whole, and nothing says where it goes on.
TEST(Rejoining, TextThatBreaksOffBeforeZerosGoesOnNowhere) {
  const std::string medium = R"({"shelf": {"cards": [1, 2)" + std::string(4 * kCluster, '\0');
  content::MemoryBytes there = in_memory(medium);
  const Examined found = checking::rejoin(there, kCluster);
  EXPECT_EQ(found.level, Level::broken);
  EXPECT_EQ(found.cuts[0].at, 0U);
}

class Carved : public testing::Test {
 protected:
  // Scans a sample deeply; returns the files it lists.
  std::vector<Json> files_of(const std::string& name, const std::vector<std::string>& more = {}) {
    if (!std::filesystem::exists(image_)) write_file(image_, sample(name));
    std::vector<std::string> call = {"scan", image_, "--shelf", shelf_, "--depth", "deep"};
    call.insert(call.end(), more.begin(), more.end());
    outcome_ = undershelf(call);
    EXPECT_LE(outcome_.code, 1) << outcome_.err;
    return rows_of(shelf_, {"--kind", "file"});
  }

  const TempFolder folder_;
  const std::string image_ = folder_.path("card.img"), shelf_ = folder_.path("shelf");
  Outcome outcome_;
};

std::string ending_of(const std::string& path) { return path.substr(path.rfind('.') + 1); }

// What of the truth comes back byte for byte, of files of which all bytes are there.
struct Tally {
  int whole = 0, all_whole = 0;  // in one piece, of kinds with an end of their own
  int split = 0, all_split = 0;  // in several
};

Tally tally(const std::string& name, const std::vector<Json>& files) {
  std::set<std::string> found;
  for (const Json& row : files) {
    if (!row["sha256"].is_null()) found.insert(row["sha256"]);
  }
  Tally tally;
  for (const Json& one : truth(name)) {
    if (one["kind"] != "file" || one["surviving_bytes"] != one["size"]) continue;
    const std::string path = one["path"];
    if (ending_of(path) == "txt" || !has_end(path)) continue;
    const bool split = one["runs"] > 1;
    const bool is_found = found.contains(one["sha256"]);
    (split ? tally.all_split : tally.all_whole) += 1;
    (split ? tally.split : tally.whole) += is_found;
    if (!is_found) std::cout << "not found: " << path << '\n';
  }
  return tally;
}

TEST_F(Carved, PromisesNoMoreThanWasLookedInto) {
  std::string film = kinds().at("h265.mov");
  film.replace(film.rfind("hvc1"), 4, "mjp2");
  std::string medium(16 * kCluster, '\0');
  for (const std::string& one : {kinds().at("h265.mov"), film}) {
    medium += one;
    medium.resize((medium.size() / kCluster + 16) * kCluster);
  }
  write_file(image_, medium);
  const std::vector<Json> files = files_of("");
  ASSERT_EQ(files.size(), 2U);
  EXPECT_EQ(files[0]["rating"], "whole") << files[0];
  EXPECT_EQ(files[1]["rating"], "likely") << files[1];
  const std::string told =
      undershelf({"show", shelf_, std::to_string(files[1]["id"].get<int64_t>())}).out;
  EXPECT_NE(told.find("not looked into"), std::string::npos) << told;
}

TEST_F(Carved, ComesBackWithoutAnyMetadata) {
  const std::vector<Json> files = files_of("bare-card");
  const Tally got = tally("bare-card", files);
  EXPECT_EQ(got.whole, got.all_whole);
  EXPECT_GE(got.all_whole, 60);
  EXPECT_GE(got.split, got.all_split * 0.8) << got.all_split;
  EXPECT_GE(got.all_split, 12);
  std::set<std::string> contents, seen;
  for (const Json& one : truth("bare-card")) contents.insert(one["sha256"]);
  size_t junk = 0;
  for (const Json& row : files) {
    EXPECT_EQ(row["state"], "carved");
    EXPECT_TRUE(row["volume"].is_null());
    EXPECT_EQ(row["path_exact"], false);
    EXPECT_TRUE(row["path"].get<std::string>().starts_with("[carved]/")) << row["path"];
    EXPECT_TRUE(seen.insert(row["path"]).second) << row["path"];
    // Neither rubbish, nor the parts of what is found whole.
    if (!contents.contains(row["sha256"])) {
      ++junk;
      std::cout << "never was: " << row["path"] << '\n';
    }
  }
  EXPECT_LE(junk, files.size() / 100);
}

// AVI and MPEG, with pictures and text between their pieces.
TEST_F(Carved, RecordingsComeBackInPieces) {
  const Tally got = tally("bare-recordings", files_of("bare-recordings"));
  EXPECT_EQ(got.whole, got.all_whole);
  EXPECT_GE(got.split, got.all_split * 0.8) << got.all_split;
  EXPECT_GE(got.all_split, 8);
}

TEST_F(Carved, KeepsItsIdsAndIsKeptApart) {
  const std::vector<Json> files = files_of("bare-card", {"--kinds", "picture"});
  EXPECT_FALSE(files.empty());
  std::map<std::string, int64_t> ids;
  for (const Json& row : files) {
    EXPECT_EQ(row["type"], "picture") << row["path"];
    ids[row["path"]] = row["id"];
  }
  const std::vector<Json> all = files_of("bare-card");
  EXPECT_GT(all.size(), files.size());
  for (const Json& row : all) {
    if (row["type"] != "picture") continue;
    EXPECT_EQ(ids[row["path"]], row["id"]) << row["path"];
  }
  const Outcome done = undershelf(
      {"export", shelf_, "--to", folder_.path("bag"), "--path", "[carved]", "--rating", "likely+"});
  EXPECT_EQ(done.code, 0) << done.err;
  EXPECT_EQ(faults_of_bag(folder_.path("bag")), "");
  EXPECT_TRUE(std::filesystem::is_directory(folder_.path("bag") + "/data/carved/picture"));
  EXPECT_FALSE(std::filesystem::exists(folder_.path("bag") + "/data/carved/[carved]"));
}

TEST_F(Carved, IsLeftOutWhenAskedTo) {
  EXPECT_TRUE(files_of("bare-card", {"--no-carve"}).empty());
  EXPECT_EQ(outcome_.code, 1);
}

TEST_F(Carved, FilesWithNamesAreFoundInPieces) {
  const std::vector<Json> files = files_of("split-card");
  std::map<std::string, Json> by_name;
  for (const Json& row : files) {
    if (row["state"] == "deleted") by_name[row["path"].get<std::string>().substr(1)] = row;
    // What has a name is not listed without one.
    EXPECT_NE(row["state"], "carved") << row["path"];
  }
  int right = 0, all = 0;
  for (const Json& one : truth("split-card")) {
    const std::string path = one["path"];
    if (!path.starts_with("Split") || one["surviving_bytes"] != one["size"]) continue;
    const Json& row = by_name[path.substr(1)];
    ASSERT_FALSE(row.is_null()) << path;
    ++all;
    right += row["sha256"] == one["sha256"];
    const bool promised = row["rating"] == "whole" || row["rating"] == "likely";
    EXPECT_TRUE(!promised || row["sha256"] == one["sha256"]) << row;
  }
  EXPECT_GE(all, 12);
  EXPECT_GE(right, all * 0.85);
}

// Properties of documents and messages as libgsf writes them, encoded words as Python's mail does.
TEST(Describe, FindsTitlesBeyondAscii) {
  const struct {
    const char *file, *format, *title, *author, *made;
  } cases[] = {
      {"titled.doc", "doc", "Pegel Küste, März", "Ebb Works", "2026-04-02 10:15:00 UTC"},
      {"message.msg", "msg", "Pegel Küste, März", "Gauge desk", "2026-04-02 10:15:00 UTC"},
      {"titled.eml", "eml",
       "Wasserstände der Woche an allen Pegeln der Küste, März und April, mit allen Grüßen",
       "Pegelwärter Küste <gauge@example.org>", "2026-04-02 10:15:00 UTC"},
  };
  for (const auto& c : cases) {
    std::string file = read_file(std::string(UNDERSHELF_SAMPLES) + "/" + c.file);
    content::MemoryBytes whole = in_memory(file);
    const checking::Examined found = checking::examine(whole);
    EXPECT_STREQ(found.format.data(), c.format);
    EXPECT_NE(found.level, content::Level::broken) << found.why.data();
    EXPECT_EQ(found.says.title.get(), c.title);
    EXPECT_EQ(found.says.author.get(), c.author);
    EXPECT_EQ(found.says.made.get(), c.made);
    std::mt19937 chance(7);
    for (int n = 0; n < 500; ++n) {  // whatever stands there, it ends
      std::string harmed = file;
      for (int i = 0; i < 8; ++i) harmed[chance() % harmed.size()] = static_cast<char>(chance());
      content::MemoryBytes there = in_memory(harmed);
      checking::examine(there);
    }
  }
}

// RFC 2047, 8: examples of the standard itself.
TEST(Describe, DecodesWordsOfMail) {
  const struct {
    const char *field, *text;
  } cases[] = {
      {"(=?ISO-8859-1?Q?a?=)", "(a)"},
      {"(=?ISO-8859-1?Q?a?= b)", "(a b)"},
      {"(=?ISO-8859-1?Q?a?= =?ISO-8859-1?Q?b?=)", "(ab)"},
      {"(=?ISO-8859-1?Q?a?=\r\n    =?ISO-8859-1?Q?b?=)", "(ab)"},
      {"(=?ISO-8859-1?Q?a_b?=)", "(a b)"},
      {"(=?ISO-8859-1?Q?a?= =?ISO-8859-2?Q?_b?=)", "(a b)"},
      {"=?ISO-8859-1?B?SWYgeW91IGNhbiByZWFkIHRoaXMgeW8=?=", "If you can read this yo"},
      {"=?ISO-8859-2?B?dSB1bmRlcnN0YW5kIHRoZSBleGFtcGxlLg==?=", "u understand the example."},
      {"=?iso-2022-jp?B?GyRCRCxAPhsoQg==?=", "潮西"},
      {"=?no-such-set?Q?plain?= =?utf-8?Q?=C3=A9?", "plain =?utf-8?Q?=C3=A9?"},
  };
  for (const auto& c : cases) {
    const std::string message = std::string("X: y\r\nSUBJECT: ") + c.field + "\r\n\r\n";
    EXPECT_EQ(content::mail_field(message, "subject"), c.text);
  }
  EXPECT_EQ(content::date_of_mail("6 Apr 26 x"), "");
  EXPECT_EQ(content::date_of_mail("Mon, 30 Mar 2026 23:15:00 -0130"), "2026-03-31 00:45:00 UTC");
}

// EXIF data is an item of its own, as libheif writes it (recipes/kinds.py).
TEST(Describe, FindsExifInHeic) {
  const std::string file = read_file(std::string(UNDERSHELF_SAMPLES) + "/camera.heic");
  const auto says = [&](const std::string& bytes) {
    content::MemoryBytes there = in_memory(bytes);
    return checking::examine(there).says;
  };
  const content::Description found = says(file);
  EXPECT_EQ(found.device.get(), "Ebb Works Basalt K3");
  EXPECT_EQ(found.made.get(), "2026-04-02 10:15:00");
  EXPECT_EQ(found.width, 96U);
  // Whatever stands in its place, nothing else is said.
  std::mt19937 chance(11);
  for (int n = 0; n < 500; ++n) {
    std::string harmed = file;
    for (int i = 0; i < 4; ++i) harmed[chance() % 480] = static_cast<char>(chance());
    const std::string device(says(harmed).device.get());
    EXPECT_TRUE(device.empty() || device == "Ebb Works Basalt K3") << device;
  }
}

TEST(Describe, TellsWhatFilesSayOfThemselves) {
  const auto text = [](std::string_view expected, std::string_view found, const char* name) {
    EXPECT_EQ(expected, found) << name;
  };
  for (const auto& [name, says] : std::map<std::string, Json>{
           {"thumbnail.jpg",
            {{"made", "2026-04-02 10:15:00"}, {"device", "Ebb Works"}, {"width", 320}}},
           {"stored.png", {{"title", "Stored"}, {"width", 120}}},
           {"turning.gif", {{"width", 320}}},
           {"chart.bmp", {{"width", 320}}},
           {"strips.tif", {{"width", 320}}},
           {"chart.psd", {{"width", 320}}},
           {"chart.webp", {{"width", 320}}},
           {"lossless.webp", {{"width", 320}}},
           {"chart.heic", {{"width", 320}}},
           {"h264.mp4", {{"width", 192}, {"seconds", 2}}},
           {"clip.avi", {{"width", 192}, {"seconds", 2}}},
           {"clip.mkv", {{"width", 192}, {"seconds", 2}}},
           {"note.wav", {{"seconds", 2}}},
           {"note.flac", {{"seconds", 2}}},
           {"note.mp3", {{"title", "Ebb Tide"}, {"seconds", 2}}},
           {"note.ogg", {{"seconds", 2}}},
           {"note.opus", {{"seconds", 2}}},
           {"report.epub", {{"title", "Gauges"}}},
           {"letter.eml", {{"title", "Levels of the week"}, {"author", "gauge@example.org"}}},
           {"letters.ttf", {{"title", "DejaVu Sans"}}}}) {
    content::MemoryBytes bytes = in_memory(kinds().at(name));
    const content::Description found = checking::examine(bytes).says;
    text(says.value("title", ""), says.contains("title") ? found.title.get() : "", name.c_str());
    text(says.value("author", ""), says.contains("author") ? found.author.get() : "", name.c_str());
    text(says.value("device", ""), found.device.get(), name.c_str());
    text(says.value("made", ""), says.contains("made") ? found.made.get() : "", name.c_str());
    EXPECT_EQ(says.value("width", 0U), found.width) << name;
    if (!says.contains("seconds")) continue;
    EXPECT_NEAR(static_cast<double>(found.milliseconds), 2000, 150) << name;
  }
}

}  // namespace
}  // namespace undershelf::test
