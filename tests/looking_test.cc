// Looking at content: contact sheets, `peek` of pictures, raw bytes and text in its own encoding.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "checking/preview.h"
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
  size_t pictures = 0;
  size_t shown = 0;
  for (const Json& one : rows_of(shelf_, {"--type", "picture", "--kind", "file"})) {
    if (one["rating"] == "gone") continue;
    ++pictures;
    const std::string format = one["format"].is_null() ? "" : std::string(one["format"]);
    shown += format == "jpeg" || format == "png" || format == "gif" || format == "webp" ||
             format == "tiff";
  }
  EXPECT_GT(shown, 8U);
  EXPECT_EQ(said["files"], pictures);
  EXPECT_EQ(said["without_picture"], pictures - shown);
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
               {"Sound/strips.tif", 320, 240},   {"Sound/tiles.tif", 320, 240}};
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

// What does not decode costs a picture, and nothing else.
TEST(Previews, SurviveWhatIsNoPicture) {
  checking::Previewer previewer(64, 64);
  const auto look = [&](const std::string& file) {
    return previewer.make(checking::Task{
        0, file.size(), [&](uint64_t offset, std::span<std::byte> out) {
          const size_t n = offset >= file.size() ? 0 : std::min(out.size(), file.size() - offset);
          if (n > 0) std::memcpy(out.data(), &file[offset], n);
          return n;
        }});
  };
  for (const std::string mark :
       {"\xFF\xD8\xFF\xE0", "\x89PNG\r\n\x1a\n", "GIF89a", "II*", "RIFF"}) {
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
