// Looking at content: contact sheets, `peek` of pictures, raw bytes and text in its own encoding.
#include <gtest/gtest.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <optional>
#include <random>
#include <sstream>

#include "checking/preview.h"
#include "kinds.h"
#include "model/encoding.h"
#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

TEST(Encoding, IsToldByTheText) {
  const struct {
    std::string bytes;
    const char* encoding;  // null: no text
    const char* utf8;
  } cases[] = {
      {"tide 3.1 m\n", "UTF-8", "tide 3.1 m\n"},
      {"Gezeitenst\xC3\xA4nde\n", "UTF-8", "Gezeitenst\xC3\xA4nde\n"},
      {"\xEF\xBB\xBF"
       "levels",
       "UTF-8", "levels"},
      {std::string("\xFF\xFEt\0i\0d\0e\0", 10), "UTF-16LE", "tide"},
      {std::string("\xFE\xFF"
                   "\0t\0i\0d\0e",
                   10),
       "UTF-16BE", "tide"},
      {"Die Gezeitenst\xE4"
       "nde an der K\xFC"
       "ste sind f\xFC"
       "r \xD6"
       "lh\xE4"
       "fen wichtig und werden "
       "t\xE4"
       "glich gepr\xFC"
       "ft.\n",
       "ISO-8859-1", nullptr},
      {std::string("\0\1\2\3\4\5\6\7", 8), nullptr, nullptr},
      {"\x7F"
       "ELF\2\1\1",
       nullptr, nullptr},
      {"", "UTF-8", ""},
  };
  for (const auto& one : cases) {
    const auto text = decode_text(std::as_bytes(std::span(one.bytes)));
    ASSERT_EQ(text.has_value(), one.encoding != nullptr) << one.bytes;
    if (!text) continue;
    EXPECT_EQ(text->encoding, one.encoding);
    if (one.utf8 != nullptr) {
      EXPECT_EQ(text->utf8, one.utf8);
    } else {
      EXPECT_NE(text->utf8.find("K\xC3\xBCste"), std::string::npos);
    }
  }
}

class Looking : public testing::Test {
 protected:
  void SetUp() override {
    write_file(image_, sample("fat32-kinds"));
    ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_, "--check", "full"}).code, 1);
  }
  // Width and height of a PNG.
  static std::pair<uint32_t, uint32_t> size_of(const std::string& png) {
    const auto number = [&](size_t at) {
      uint32_t value = 0;
      for (size_t i = 0; i < 4; ++i)
        value = value << 8 | static_cast<unsigned char>(png.at(at + i));
      return value;
    };
    EXPECT_TRUE(png.starts_with("\x89PNG"));
    return {number(16), number(20)};
  }
  Json row(const std::string& path) const {
    const std::vector<Json> rows =
        undershelf({"list", shelf_, "--path", path, "--format", "jsonl"}).lines();
    EXPECT_EQ(rows.size(), 1U) << path;
    return rows.at(0);
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
};

TEST_F(Looking, SheetsShowEachPictureOfTheSelection) {
  const std::string to = folder_.path("sheet.png");
  const Outcome outcome = undershelf({"sheet", shelf_, "--to", to, "--format", "jsonl"});
  ASSERT_EQ(outcome.code, 0) << outcome.err;
  const Json said = outcome.lines().at(0);
  size_t selected = 0;
  size_t shown = 0;
  for (const Json& one : rows_of(shelf_, {"--type", "picture,video", "--kind", "file"})) {
    if (one["rating"] == "gone") continue;
    ++selected;
    const std::string format = one["format"].is_null() ? "" : std::string(one["format"]);
    shown += format != "psd";  // packed in a way that is not decoded
  }
  EXPECT_GT(shown, 12U);
  EXPECT_EQ(said["files"], selected);
  EXPECT_EQ(said["without_picture"], selected - shown);
  EXPECT_EQ(size_of(read_file(to)), std::pair(1280U, 800U));

  // More than a page; the others are numbered, and nothing is written over.
  const Outcome all = undershelf({"sheet", shelf_, "--to", folder_.path("all.png"), "--type",
                                  "picture,document,video,audio,archive", "--format", "jsonl"});
  EXPECT_EQ(all.code, 0) << all.err;
  const std::vector<std::string> pages = all.lines().at(0)["pages"];
  ASSERT_GT(pages.size(), 1U);
  EXPECT_EQ(pages[1], folder_.path("all-2.png"));
  EXPECT_TRUE(fs::exists(pages[1]));
  EXPECT_EQ(undershelf({"sheet", shelf_, "--to", to}).code, 4);
  EXPECT_EQ(undershelf({"sheet", shelf_, "--to", folder_.path("x")}).code, 2);
  EXPECT_EQ(undershelf({"sheet", shelf_, "--to", folder_.path("y.png"), "--name", "none"}).code, 1);
}

TEST_F(Looking, PeekWritesPicturesOfRealEncodersInTheirSize) {
  const struct {
    const char* path;
    uint32_t width, height;
  } cases[] = {{"Sound/baseline.jpg", 320, 240}, {"Sound/progressive.jpg", 320, 240},
               {"Sound/chart.webp", 320, 240},   {"Sound/stored.png", 120, 90},
               {"Sound/strips.tif", 320, 240},   {"Sound/tiles.tif", 320, 240},
               {"Sound/chart.heic", 320, 240},   {"Sound/clip.wmv", 192, 144}};
  for (const auto& one : cases) {
    const std::string to = folder_.path("one.png");
    fs::remove(to);
    const Outcome outcome = undershelf({"peek", shelf_, one.path, "--picture", to});
    EXPECT_EQ(outcome.code, 0) << one.path << outcome.err;
    EXPECT_EQ(size_of(read_file(to)), std::pair(one.width, one.height)) << one.path;
  }
  const Outcome none =
      undershelf({"peek", shelf_, "Sound/report.rtf", "--picture", folder_.path("none.png")});
  EXPECT_EQ(none.code, 1);
  EXPECT_FALSE(fs::exists(folder_.path("none.png")));
}

TEST_F(Looking, RawBytesAreThoseOfAnExport) {
  const std::string bag = folder_.path("bag");
  ASSERT_LE(undershelf({"export", shelf_, "--to", bag, "--even-gone"}).code, 1);
  std::ifstream listed(bag + "/exported.jsonl");
  const size_t kMost = UNDERSHELF_SANITIZED ? 8 : 30;
  size_t compared = 0;
  for (std::string line; std::getline(listed, line);) {
    const Json one = Json::parse(line);
    if (one["size"].is_null() || !one["stream"].is_null()) continue;
    const std::string content = read_file(bag + "/" + std::string(one["written"]));
    const std::string id = std::to_string(one["id"].get<int64_t>());
    const Outcome raw = undershelf({"peek", shelf_, id, "--raw"});
    EXPECT_TRUE(raw.out == content) << line;
    EXPECT_EQ(raw.code, one["missing"].empty() ? 0 : 1) << line;
    const Outcome part = undershelf({"peek", shelf_, id, "--raw", "--from", "3", "--bytes", "100"});
    if (++compared > kMost) break;
    if (content.size() > 3) {
      EXPECT_TRUE(part.out == content.substr(3, 100)) << line;
    }
  }
  EXPECT_GT(compared, kMost);
}

TEST_F(Looking, TerminalsThatShowPicturesAreGivenThem) {
  const auto peek = [&](const std::string& path, const std::string& attributes) {
    return on_terminal(test::quoted(UNDERSHELF_PROGRAM) + " peek " + shelf_ + " " + path, 100,
                       attributes);
  };
  for (const char* path : {"Sound/baseline.jpg", "Sound/clip.wmv", "Sound/chart.heic"}) {
    const std::string shown = peek(path, "\x1b[?63;1;2;4;22c");
    const size_t begin = shown.find("\x1bP");  // a device control string of sixels
    ASSERT_NE(begin, std::string::npos) << shown;
    EXPECT_EQ(shown[shown.find_first_not_of("0123456789;", begin + 2)], 'q');
    EXPECT_NE(shown.find("\x1b\\", begin), std::string::npos);
    EXPECT_EQ(shown.find("At byte"), std::string::npos);
    EXPECT_NE(shown.find("Bytes 0 to "), std::string::npos);
  }
  // Not where it is no picture, nor where the terminal does not say so, or nothing at all.
  EXPECT_EQ(peek("Sound/report.rtf", "\x1b[?63;4c").find("\x1bP"), std::string::npos);
  for (const char* attributes : {"\x1b[?64;1;2;14c", "\x1b[?4c", "junk c", ""}) {
    const std::string shown = peek("Sound/baseline.jpg", attributes);
    EXPECT_EQ(shown.find("\x1bP"), std::string::npos) << attributes;
    EXPECT_NE(shown.find("At byte"), std::string::npos) << attributes;
  }
}

// Hex says where on the source its bytes are, and where they go on elsewhere.
TEST(Hex, SaysWhereOnTheSource) {
  const TempFolder folder;
  const std::string image = sample("fat16-fragments");
  write_file(folder.path("card.img"), image);
  const std::string shelf = folder.path("s");
  ASSERT_LE(undershelf({"scan", folder.path("card.img"), "--shelf", shelf}).code, 1);
  size_t told = 0;
  size_t pieces = 0;
  for (const Json& row :
       rows_of(shelf, {"--kind", "file", "--rating", "likely+", "--size", "1.."})) {
    const Outcome hex = undershelf(
        {"peek", shelf, std::to_string(row["id"].get<int64_t>()), "--hex", "--bytes", "64M"});
    ASSERT_EQ(hex.code, 0) << hex.err;
    std::istringstream lines(hex.out);
    std::optional<uint64_t> place;
    for (std::string line; std::getline(lines, line);) {
      if (line.starts_with("At byte ")) {
        place = std::stoull(line.substr(8));
        EXPECT_TRUE(line.ends_with(" of the source:")) << line;
        ++pieces;
        continue;
      }
      ASSERT_TRUE(place.has_value()) << line;
      const auto byte = static_cast<char>(std::stoul(line.substr(12, 2), nullptr, 16));
      ASSERT_EQ(image.at(*place), byte) << line;
      *place += 16;
    }
    if (++told == 8) break;
  }
  EXPECT_EQ(told, 8U);
  EXPECT_GT(pieces, told) << "some of them lie in pieces";
}

class Previews : public testing::Test {
 protected:
  std::optional<checking::Preview> look(const std::string& file) { return look_at(file).picture; }
  checking::Look look_at(const std::string& file) {
    return previewer_.look(checking::Task{
        0, file.size(), [&](uint64_t offset, std::span<std::byte> out) {
          const size_t n = offset >= file.size() ? 0 : std::min(out.size(), file.size() - offset);
          if (n > 0) std::memcpy(out.data(), &file[offset], n);
          return n;
        }});
  }
  // Mean difference of their values, 0 to 255.
  static double difference(const checking::Preview& one, const checking::Preview& other) {
    if (one.pixels.size() != other.pixels.size() || one.width != other.width) return 255;
    uint64_t sum = 0;
    for (size_t i = 0; i < one.pixels.size(); ++i) {
      sum += static_cast<uint64_t>(std::abs(one.pixels[i] - other.pixels[i]));
    }
    return static_cast<double>(sum) / static_cast<double>(one.pixels.size());
  }

  checking::Previewer previewer_{320, 320};
};

// First words, and the picture that a document carries; by office programs and others.
TEST_F(Previews, DocumentsShowHowTheyBegin) {
  constexpr const char* kReport =
      "Gauge Kelp Point\n2026-04-02\n0001 Gauge Kelp Point: staff 17 against bench mark 86, swell "
      "7 "
      "cm\n0002";
  constexpr const char* kLevels = "0  0  Gauge 0\n1  7  Gauge 1\n2  14  Gauge 2\n";
  const struct {
    const char* name;
    const char* words;
    bool picture;
  } cases[] = {{"report.docx", kReport, true},    {"report.odt", kReport, true},
               {"report.pptx", kReport, false},   {"report.odp", kReport, true},
               {"levels.xlsx", kLevels, false},   {"levels.ods", kLevels, true},
               {"report.epub", "Gauges\n", false}};
  for (const auto& [name, words, picture] : cases) {
    SCOPED_TRACE(name);
    const std::string& whole = kinds().at(name);
    const checking::Look look = look_at(whole);
    EXPECT_EQ(look.words.substr(0, std::string(words).size()), words);
    EXPECT_LE(look.words.size(), 4096U);
    ASSERT_EQ(look.picture.has_value(), picture);
    if (picture) {
      EXPECT_GT(look.picture->height, 200U);
      EXPECT_EQ(look.picture->full_width, 0U);
    }
    std::mt19937 random(3);
    for (int i = 0; i < 20; ++i) {  // whatever comes of it, it ends, and is text
      std::string harmed = whole;
      for (int n = 0; n < 5; ++n) harmed[random() % harmed.size()] = static_cast<char>(random());
      look_at(harmed);
    }
  }
  EXPECT_EQ(look_at(kinds().at("pack.zip")).words, "");
}

TEST_F(Previews, LookLikeWhatWasEncoded) {
  ASSERT_TRUE(previewer_.decodes_all());
  const struct {
    const char* original;
    std::vector<const char*> others;
    double most;  // difference
  } cases[] = {{"chart.png", {"chart.bmp", "strips.tif", "tiles.tif", "lossless.webp"}, 0},
               {"chart.png", {"chart.heic", "baseline.jpg", "progressive.jpg", "chart.webp"}, 12},
               {"clip.avi",
                {"h264.mp4", "fragments.mp4", "index-first.mp4", "h265.mov", "phone.3gp",
                 "clip.mkv", "clip.webm", "clip.mpg", "clip.ts", "clip.m2ts", "clip.wmv"},
                12}};
  for (const auto& one : cases) {
    const auto original = look(kinds().at(one.original));
    ASSERT_TRUE(original) << one.original;
    for (const char* name : one.others) {
      const auto other = look(kinds().at(name));
      ASSERT_TRUE(other) << name;
      EXPECT_LE(difference(*original, *other), one.most) << name;
    }
  }
  for (const char* name : {"note.mp3", "disc.iso", "program.elf", "levels.json"}) {
    EXPECT_FALSE(look(kinds().at(name))) << name;
  }
}

TEST_F(Previews, OfClipsThatLackAPart) {
  // In the middle of its frames, behind the first.
  std::string clip = kinds().at("clip.mkv");
  const auto whole = look(clip);
  clip.replace(clip.size() / 2, 4096, 4096, '\0');
  const auto holed = look(clip);
  ASSERT_TRUE(whole && holed);
  EXPECT_EQ(difference(*whole, *holed), 0);
}

TEST_F(Previews, AreTurnedAsTheFileSays) {
  const std::string plain = kinds().at("baseline.jpg");
  const auto original = look(plain);
  ASSERT_TRUE(original);
  const uint32_t w = original->width;
  const uint32_t h = original->height;
  for (unsigned orientation = 1; orientation <= 8; ++orientation) {
    // An Exif segment with this one entry (Exif 2.3, 4.5; tag 0x112).
    std::string exif(
        "\xFF\xE1\0\x22"
        "Exif\0\0II*\0\x08\0\0\0\x01\0\x12\x01\x03\0\x01\0\0\0?\0\0\0\0\0\0\0",
        36);
    exif[28] = static_cast<char>(orientation);
    const auto turned = look(plain.substr(0, 2) + exif + plain.substr(2));
    ASSERT_TRUE(turned) << orientation;
    ASSERT_EQ(std::pair(turned->width, turned->height),
              orientation < 5 ? std::pair(w, h) : std::pair(h, w));
    // Where each pixel comes from, as the specification's table has it.
    const auto from = [&](uint32_t x, uint32_t y) -> std::pair<uint32_t, uint32_t> {
      switch (orientation) {
        case 2:
          return {w - 1 - x, y};
        case 3:
          return {w - 1 - x, h - 1 - y};
        case 4:
          return {x, h - 1 - y};
        case 5:
          return {y, x};
        case 6:
          return {y, h - 1 - x};
        case 7:
          return {w - 1 - y, h - 1 - x};
        case 8:
          return {w - 1 - y, x};
        default:
          return {x, y};
      }
    };
    size_t wrong = 0;
    for (uint32_t y = 0; y < turned->height; ++y) {
      for (uint32_t x = 0; x < turned->width; ++x) {
        const auto [fx, fy] = from(x, y);
        wrong += turned->pixels[(size_t{y} * turned->width + x) * 3] !=
                 original->pixels[(size_t{fy} * w + fx) * 3];
      }
    }
    EXPECT_EQ(wrong, 0U) << orientation;
  }
}

// Made up here: a small picture first, as raw files have it, and a large JPEG somewhere behind.
TEST_F(Previews, OfRawFilesAreTheirLargestPicture) {
  const auto original = look(kinds().at("baseline.jpg"));
  std::string tiff = kinds().at("strips.tif");
  // Its first picture is said to have 60 lines only.
  const size_t lines = tiff.find(std::string("\x01\x01\x04\0\x01\0\0\0", 8));
  const size_t short_lines = tiff.find(std::string("\x01\x01\x03\0\x01\0\0\0", 8));
  const size_t at = std::min(lines, short_lines);
  ASSERT_NE(at, std::string::npos);
  tiff[at + 8] = 60;
  tiff[at + 9] = 0;
  EXPECT_EQ(look(tiff)->full_height, 60U);
  for (const std::string& head : {tiff, "FUJIFILMCCD-RAW " + std::string(500, '\1')}) {
    const auto preview = look(head + kinds().at("baseline.jpg") + std::string(3000, '\2'));
    ASSERT_TRUE(preview) << head.substr(0, 8);
    EXPECT_EQ(difference(*original, *preview), 0);
  }
}

TEST_F(Previews, OfDocumentsAreTheirFirstPage) {
  for (const char* name : {"report.pdf", "packed.pdf", "linear.pdf"}) {
    const auto page = look(kinds().at(name));
    ASSERT_TRUE(page) << name;
    EXPECT_EQ(page->full_width, 0U);
    EXPECT_EQ(std::pair(page->width, page->height), std::pair(226U, 320U)) << "an A4 page";
    // The chart on it, 200 by 150 points of 595 by 842.
    const auto dark = std::ranges::count_if(page->pixels, [](uint8_t v) { return v < 0xF0; });
    EXPECT_NEAR(static_cast<double>(dark) / static_cast<double>(page->pixels.size()), 0.06, 0.02);
  }
}

TEST(Looks, SayWhatIsMissingToLookAtMore) {
  const TempFolder folder;
  fs::copy_file(UNDERSHELF_PROGRAM, folder.path("undershelf"));
  write_file(folder.path("card.img"), sample("fat32-kinds"));
  ASSERT_LE(undershelf({"scan", folder.path("card.img"), "--shelf", folder.path("s")}).code, 1);
  const auto peek = [&](const std::string& path) {
    return shell(folder.path("undershelf") + " peek " + folder.path("s") + " " + path +
                 " --picture " + folder.path("one.png"));
  };
  EXPECT_EQ(peek("Sound/baseline.jpg").code, 0);
  fs::remove(folder.path("one.png"));
  const Outcome clip = peek("Sound/clip.wmv");
  EXPECT_EQ(clip.code, 1);
  EXPECT_NE(clip.err.find("undershelf-looking.so"), std::string::npos) << clip.err;
  const auto sheet = [&] {
    return shell(folder.path("undershelf") + " sheet " + folder.path("s") + " --to " +
                 folder.path("sheet.png"));
  };
  const Outcome no_page = sheet();
  EXPECT_EQ(no_page.code, 3);
  EXPECT_NE(no_page.err.find("undershelf-drawing.so"), std::string::npos) << no_page.err;
  fs::copy_file(fs::path(UNDERSHELF_PROGRAM).parent_path() / "undershelf-drawing.so",
                folder.path("undershelf-drawing.so"));
  const Outcome page = sheet();
  EXPECT_EQ(page.code, 0) << page.err;
  EXPECT_NE(page.err.find("undershelf-looking.so"), std::string::npos) << page.err;
  const Outcome server = shell(folder.path("undershelf") + " survey nbd://localhost/card");
  EXPECT_EQ(server.code, 3);
  EXPECT_NE(server.err.find("undershelf-network.so"), std::string::npos) << server.err;
}

// What does not decode costs a picture, and nothing else.
TEST_F(Previews, SurviveWhatIsNoPicture) {
  for (const std::string mark :
       {"\xFF\xD8\xFF\xE0", "\x89PNG\r\n\x1a\n", "GIF89a", "II*", "RIFF", "BM", "8BPS",
        "%PDF-1.4\n", "FUJIFILM", "\x1A\x45\xDF\xA3", "OggS", "FLV\x01"}) {
    for (const char fill : {'\0', '\xFF', 'A', '\x01'}) {
      look(mark + std::string(3000, fill));
    }
    EXPECT_FALSE(look(mark)) << mark;
  }
  EXPECT_FALSE(look(""));
  // A GIF that ends behind its head has no picture, and is not shown as a white one.
  EXPECT_FALSE(look(std::string("GIF89a\x08\0\x08\0\0\0\0", 13)));
  // A PNG that says it has 2^31 pixels each way.
  std::string huge("\x89PNG\r\n\x1a\n\0\0\0\rIHDR\x7F\xFF\xFF\xFF\x7F\xFF\xFF\xFF\x08\x02\0\0\0",
                   29);
  EXPECT_FALSE(look(huge + std::string(100, '\0')));
}

}  // namespace
}  // namespace undershelf::test
