// Volumes found where they are, and laid out as they were. Each test is a fault that was mended.
#include "layout/layout.h"

#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

#include "fs/fs.h"
#include "scan/scan.h"
#include "source/hash.h"
#include "source/metered.h"
#include "support.h"

namespace undershelf::test {
namespace {

// Volumes made by the usual formatters and filled without mounting them.
class Formatters : public testing::Test {
 protected:
  // Files by path; folders end in a slash. Contents are random, but begin as their names say.
  using Files = std::vector<std::pair<std::string, size_t>>;

  void tool(const std::string& command) {
    const Outcome done =
        shell("cd " + quoted(folder_.path()) + " && export MTOOLS_SKIP_CHECK=1 && " + command);
    ASSERT_EQ(done.code, 0) << command << done.err;
  }
  void fill(const std::string& image, const Files& files) {
    std::mt19937 random(1);
    for (const auto& [path, size] : files) {
      if (path.ends_with('/')) {
        tool("mmd -i " + image + " '::" + path.substr(0, path.size() - 1) + "'");
        continue;
      }
      std::string content(size, '\0');
      const bool text = path.ends_with(".TXT");
      for (char& c : content) c = static_cast<char>(text ? 'a' + random() % 26 : random());
      if (path.ends_with(".JPG")) content.replace(0, 4, "\xFF\xD8\xFF\xE0");
      write_file(folder_.path("content"), content);
      tool("mcopy -i " + image + " content '::" + path + "'");
      hashes_[path] = sha256_hex(std::as_bytes(std::span(content)));
    }
  }
  void wipe(const std::string& image, size_t sectors) {
    tool("dd if=/dev/zero of=" + image + " bs=512 count=" + std::to_string(sectors) +
         " conv=notrunc 2>/dev/null");
  }
  // Living files that come back byte for byte; a promise that does not hold is a failure.
  size_t right(const std::string& image, const std::vector<std::string>& more = {}) {
    const std::string shelf = folder_.path("shelf");
    const std::string bag = folder_.path("bag");
    std::filesystem::remove(shelf);
    std::filesystem::remove_all(bag);
    std::vector<std::string> call = {"scan", folder_.path(image), "--shelf", shelf};
    call.insert(call.end(), more.begin(), more.end());
    last_ = undershelf(call);
    undershelf({"export", shelf, "--to", bag, "--even-gone"});
    size_t count = 0;
    for (const Json& record : shell("cat " + quoted(bag + "/exported.jsonl")).lines()) {
      const bool same = hashes_[record["path"]] == record["sha256"];
      count += same && record["state"] == "live";
      EXPECT_TRUE(same || record["rating"] == "partial" || record["rating"] == "gone") << record;
    }
    return count;
  }
  std::vector<Json> volumes() {
    return undershelf({"volumes", folder_.path("shelf"), "--format", "jsonl"}).lines();
  }

  TempFolder folder_;
  std::map<std::string, std::string> hashes_;
  Outcome last_;
};

// Without chains, the clusters of folders went to whatever folder was read first: 44 of 100 paths
// were right on cards whose folders were filled one after the other, 71 where by turns.
TEST_F(Formatters, FoldersOfManyClustersComeTogetherWithoutAFat) {
  tool("mkfs.fat -C -F 32 -s 1 many.img 36864 > /dev/null");
  tool("mmd -i many.img ::DCIM ::DCIM/100TIDES ::DCIM/101TIDES '::Reports of the harbour'");
  std::set<std::string> paths;
  for (int round = 0; round < 24; ++round) {
    // Two by turns, then the third.
    const std::string folder = round >= 16      ? "Reports of the harbour"
                               : round % 3 == 0 ? "DCIM/100TIDES"
                                                : "DCIM/101TIDES";
    std::string names;
    for (int n = round * 10; n < round * 10 + 5 + round % 5; ++n) {
      const std::string number = std::to_string(1000 + n);
      const std::string name =
          round < 16 ? "IMG_" + number + ".JPG" : "State of the pier " + number + ".txt";
      write_file(folder_.path(name), "Reading " + number);
      paths.insert(folder + "/" + name);
      names += " '" + name + "'";
    }
    tool("SOURCE_DATE_EPOCH=" + std::to_string(1'770'000'000 + round * 40) +
         " TZ=UTC mcopy -i many.img" + names + " '::" + folder + "'");
  }
  std::string image = read_file(folder_.path("many.img"));
  const size_t fat = 32 * 512;
  const auto sectors =
      static_cast<unsigned char>(image[36]) + 256U * static_cast<unsigned char>(image[37]);
  image.replace(fat, 2 * sectors * 512, 2 * sectors * 512, '\0');
  write_file(folder_.path("many.img"), image);
  const auto found = [&](const std::string& depth) {
    undershelf({"scan", folder_.path("many.img"), "--shelf", folder_.path("shelf"), "--depth",
                depth, "--replace"});
    std::set<std::string> listed;
    for (const Json& row :
         undershelf({"list", folder_.path("shelf"), "--kind", "file", "--format", "jsonl"})
             .lines()) {
      listed.insert(row["path"].get<std::string>());
    }
    return listed;
  };
  EXPECT_EQ(found("quick"), paths);
  EXPECT_EQ(found("deep"), paths);
  // Formatted over, the names in the root are lost, and with them where DCIM was.
  tool("mkfs.fat -F 32 -s 1 many.img > /dev/null");
  std::map<std::string, std::string> folder_of;
  for (const std::string& path : found("deep")) {
    const size_t slash = path.rfind('/');
    folder_of[path.substr(slash + 1)] = path.substr(0, slash);
  }
  size_t apart = 0;
  for (const std::string& path : paths) {
    const size_t slash = path.rfind('/');
    const auto first = std::ranges::find_if(
        paths, [&](const std::string& p) { return p.starts_with(path.substr(0, slash + 1)); });
    apart += folder_of[path.substr(slash + 1)] != folder_of[first->substr(slash + 1)];
  }
  EXPECT_EQ(folder_of.size(), paths.size());
  EXPECT_EQ(apart, 0U);
}

struct Root {
  const char* what;
  std::vector<std::pair<std::string, size_t>> files;
};

const std::vector<Root>& roots() {
  static const std::vector<Root> kRoots = {
      {"camera",
       {{"DCIM/", 0},
        {"DCIM/100SURVY/", 0},
        {"DCIM/100SURVY/A.JPG", 26000},
        {"DCIM/100SURVY/B.JPG", 29000},
        {"DCIM/100SURVY/C.JPG", 32000}}},
      {"camera, small files", {{"DCIM/", 0}, {"DCIM/A.TXT", 190}, {"DCIM/B.TXT", 280}}},
      {"folder and files", {{"DCIM/", 0}, {"A.DAT", 50000}, {"B.DAT", 50001}}},
      {"a small file first", {{"A.MRK", 700}, {"DCIM/", 0}, {"DCIM/A.JPG", 20000}}},
      {"boot", {{"EFI/", 0}, {"EFI/BOOT/", 0}, {"EFI/BOOT/BOOTX64.EFI", 200000}}},
      {"files only", {{"A.DAT", 5000}, {"B.DAT", 12000}, {"C.DAT", 19000}}},
      {"small files only", {{"A.TXT", 100}, {"B.TXT", 170}, {"C.TXT", 240}}}};
  return kRoots;
}

// A root with one folder was laid out with the smallest clusters: every picture of a card was lost.
TEST_F(Formatters, ClusterSizesOfHeadlessVolumesAreSettledByAllThereIs) {
  size_t all = 0;
  size_t back = 0;
  for (const auto& [kind, most] : {std::pair{12, 64}, std::pair{16, 128}}) {
    for (int sectors = 1; sectors <= most; sectors *= kind == 12 || UNDERSHELF_SANITIZED ? 8 : 4) {
      const int kib = sectors * (kind == 12 ? 3000 : 6000) / 2;
      for (const Root& root : roots()) {
        for (const bool mformat : {false, true}) {
          hashes_.clear();
          std::filesystem::remove(folder_.path("v"));
          const std::string size = std::to_string(kib) + "K";
          const std::string clusters = std::to_string(sectors);
          tool(mformat ? "truncate -s " + size + " v && mformat -i v -h 4 -s 32 -t " +
                             std::to_string(kib * 2 / 128) + " -c " + clusters + " ::"
                       : "mkfs.fat -C -F " + std::to_string(kind) + " -s " + clusters + " v " +
                             std::to_string(kib) + " > /dev/null");
          fill("v", root.files);
          wipe("v", 1);
          all += hashes_.size();
          const size_t here = right("v");
          back += here;
          EXPECT_EQ(here, hashes_.size()) << root.what << kind << " " << sectors << " " << mformat;
        }
      }
    }
  }
  EXPECT_GE(back * 100, all * 95) << back << " of " << all;
}

// A volume that begins inside its partition was passed over for a guess, or not looked for at all.
TEST_F(Formatters, AHeaderInsideAPartitionIsFound) {
  tool("truncate -s 20M off.img && mkfs.fat -C -F 16 -s 4 v 12288 > /dev/null");
  fill("v", {{"PHOTOS/", 0}, {"PHOTOS/A.JPG", 30000}, {"PHOTOS/B.JPG", 60000}});
  tool("dd if=v of=off.img bs=512 seek=4096 conv=notrunc 2> /dev/null");
  std::string image = read_file(folder_.path("off.img"));
  // A map with one partition from sector 2048 on.
  image[446 + 4] = 6;
  put32(image, 446 + 8, 2048);
  put32(image, 446 + 12, 32768);
  put16(image, 510, 0xAA55);
  write_file(folder_.path("off.img"), image);
  EXPECT_EQ(right("off.img"), 2U);
  ASSERT_EQ(volumes().size(), 1U);
  EXPECT_EQ(volumes()[0]["offset"], 4096 * 512);
  EXPECT_NE(last_.err.find("inside partition 1, and not at its start"), std::string::npos)
      << last_.err;
}

// Living files with a byte Microsoft forbids were not listed at all.
TEST_F(Formatters, OddNamesWithContentBehindThemAreListed) {
  tool("mkfs.fat -C -F 16 -s 2 v 16384 > /dev/null");
  fill("v", {{"NAME1.TXT", 3024}, {"NAME2.TXT", 3024}, {"NAME3.TXT", 3024}, {"NAME4.TXT", 3024}});
  std::string image = read_file(folder_.path("v"));
  const auto rename = [&](const char* from, const std::string& to) {
    image.replace(image.find(from), to.size(), to);
  };
  rename("NAME1   TXT", " AME1   TXT");
  rename("NAME2   TXT", "N>ME2   TXT");
  rename("NAME3   TXT", "           ");
  image[image.find("NAME4   TXT") + 11] |= 0x40;  // a reserved attribute
  // An entry of the same kind with nothing behind it is none.
  image.replace(
      image.find("NAME4   TXT") + 32, 32,
      std::string("N?ME5   TXT\x20\0\0\0\0\0\0\0\0\0\0\0\0\x61\x5C\x40\x1F\x10\0\0\0", 32));
  write_file(folder_.path("v"), image);
  const Outcome scan = undershelf({"scan", folder_.path("v"), "--shelf", folder_.path("s")});
  EXPECT_EQ(scan.code, 1) << "one slot holds no entry";
  const auto rows = undershelf({"list", folder_.path("s"), "--format", "jsonl"}).lines();
  EXPECT_EQ(rows.size(), 4U);
  for (const Json& row : rows) EXPECT_EQ(row["rating"], "whole") << row;
}

// A volume label that was taken away was a deleted file; a blank one was damage; a stale one in the
// boot sector was shown.
TEST_F(Formatters, LabelsAreTheRootFoldersOwn) {
  tool("mkfs.fat -C -F 16 -n STALE v 16384 > /dev/null");
  fill("v", {{"A.TXT", 100}});
  const std::string image = read_file(folder_.path("v"));
  const size_t label = image.find("STALE      \x08");
  ASSERT_NE(label, std::string::npos);
  const struct {
    const char* stored;
    const char* shown;
    int deleted;
  } cases[] = {{"STALE      \x08", "STALE", 0},
               {"           \x08", "", 0},
               {"\xE5TALE      \x08", "", 0},
               {"\xE5TALE      \x20", "", 0},
               {"\x05TALE      \x08", "\u03C3TALE", 0}};
  for (const auto& c : cases) {
    std::string changed = image;
    changed.replace(label, 12, c.stored, 12);
    if (c.stored[11] == 0x20) changed.replace(label + 12, 20, 20, '\0');
    write_file(folder_.path("v"), changed);
    EXPECT_EQ(right("v"), 1U);
    EXPECT_EQ(last_.code, 0) << last_.err;
    EXPECT_EQ(volumes()[0]["label"], c.shown) << c.stored;
    EXPECT_EQ(volumes()[0]["deleted"], c.deleted) << c.stored;
  }
}

// An empty file that lives made all others of its moment its former names.
TEST_F(Formatters, EmptyFilesOfOneMomentAreNotFormerNamesOfAStranger) {
  tool("mkfs.fat -C -F 16 v 16384 > /dev/null");
  Formatters::Files files;
  for (const char* folder : {"A", "B", "C", "D"}) {
    files.emplace_back(std::string(folder) + "/", 0);
    files.emplace_back(std::string(folder) + "/INIT.PY", 0);
  }
  fill("v", files);
  std::string image = read_file(folder_.path("v"));
  size_t at = 0;
  for (int i = 0; (at = image.find("INIT    PY ", at)) != std::string::npos; ++i, ++at) {
    image.replace(at + 13, 9, std::string("\0\x40\x4B\x61\x5C\x61\x5C\0\0", 9));  // made then
    image.replace(at + 22, 4, std::string("\x40\x4B\x61\x5C", 4));
    if (i > 0) image[at] = '\xE5';
  }
  write_file(folder_.path("v"), image);
  undershelf({"scan", folder_.path("v"), "--shelf", folder_.path("shelf")});
  EXPECT_EQ(undershelf({"list", folder_.path("shelf"), "--state", "deleted", "--kind", "file",
                        "--format", "jsonl"})
                .lines()
                .size(),
            3U);
}

// Logical drives that are not in the order of their places ended the chain.
TEST(Layouts, LogicalDrivesInAnyOrder) {
  std::string disk(200 * 512, '\0');
  const auto record = [&](size_t sector, int slot, char type, uint32_t start, uint32_t length) {
    const size_t at = sector * 512 + 446 + static_cast<size_t>(slot) * 16;
    disk[at + 4] = type;
    put32(disk, at + 8, start);
    put32(disk, at + 12, length);
    put16(disk, sector * 512 + 510, 0xAA55);
  };
  record(0, 0, 5, 20, 180);
  record(20, 0, 6, 2, 8);
  record(20, 1, 5, 80, 20);  // the next one lies furthest
  record(100, 0, 6, 2, 8);
  record(100, 1, 5, 40, 20);  // and then comes one before it
  record(60, 0, 6, 2, 8);
  const Layout layout = read_layout(MemorySource(disk), 512);
  ASSERT_EQ(layout.partitions.size(), 4U);
  EXPECT_EQ(layout.partitions[3].range, (ByteRange{62 * 512, 8 * 512}));
  EXPECT_TRUE(layout.notes.empty());
}

// Disks of other machines had "no map", though what theirs is can be told.
TEST(Layouts, MapsThatAreNotReadAreNamed) {
  // A Sun disk label of a disk of 20 MiB, as sfdisk makes it.
  std::string image(20 << 20, '\0');
  for (const auto& [at, byte] : std::map<size_t, unsigned>{{131, 1},
                                                           {141, 8},
                                                           {188, 0x60},
                                                           {189, 0x0D},
                                                           {190, 0xDE},
                                                           {191, 0xEE},
                                                           {420, 21},
                                                           {421, 24},
                                                           {423, 2},
                                                           {431, 1},
                                                           {433, 2},
                                                           {437, 255},
                                                           {439, 63},
                                                           {508, 218},
                                                           {509, 190},
                                                           {510, 24},
                                                           {511, 225}}) {
    image[at] = static_cast<char>(byte);
  }
  const std::string text = "Linux cyl 2 alt 0 hd 255 sec 63";
  image.replace(0, text.size(), text);
  const TempFolder folder;
  write_file(folder.path("disk.img"), image);
  const Outcome survey = undershelf({"survey", folder.path("disk.img")});
  EXPECT_NE(survey.err.find("a partition map of the kind `sun`"), std::string::npos) << survey.err;
}

// Virtual disks were read as if raw, and wrong bytes promised.
TEST(Layouts, ContainersAreRefusedAndFixedOnesRead) {
  const TempFolder folder;
  const std::string raw = sample("fat16-logger");
  const std::string path = folder.path("image");
  const auto scan = [&](const std::string& image, std::vector<std::string> more = {}) {
    write_file(path, image);
    more.insert(more.begin(), {"scan", path, "--shelf", folder.path("s"), "--replace"});
    return undershelf(more);
  };
  std::string footer(512, '\0');
  footer.replace(0, 8, "conectix");
  footer[63] = 2;
  EXPECT_EQ(scan(raw + footer).code, 0) << "a fixed VHD is the disk, with a footer";
  footer[63] = 3;
  const std::string rest(1 << 16, '\0');
  for (const std::string& head :
       {std::string("QFI\xFB"), std::string("KDMV"), std::string("vhdxfile"),
        std::string("conectix"), std::string("\x1F\x8B\x08"),
        std::string("\xFD"
                    "7zXZ\0",
                    6),
        std::string("\x28\xB5\x2F\xFD"), std::string("PK\x03\x04")}) {
    const Outcome refused = scan(head + rest);
    EXPECT_EQ(refused.code, 3) << head;
    EXPECT_TRUE(refused.err.find("raw image") != std::string::npos ||
                refused.err.find("npack it") != std::string::npos)
        << refused.err;
    EXPECT_EQ(undershelf({"survey", path}).err.find("Next: undershelf scan"), std::string::npos);
  }
  EXPECT_EQ(scan(raw + footer).code, 3);
  std::string overwritten = raw;
  overwritten.replace(0, 4, "PK\x03\x04");
  EXPECT_EQ(scan(overwritten).code, 3);
  EXPECT_LE(scan(overwritten, {"--as-raw"}).code, 1) << "a card such a file was copied over";
}

// What a sweep found on a disk of a system that is not read here counted as current.
TEST(Layouts, WhatLiesUnderAnotherSystemIsFormer) {
  std::string image = sample("fat32-logger");
  std::fill_n(image.begin(), 64 << 10, '\0');  // its boot sectors, and the first FAT's beginning
  const auto standings = [&](const std::string& other) {
    const TempFolder folder;
    Shelf shelf = Shelf::create(folder.path("shelf"), {}, {});
    ScanOptions options;
    options.depth = Depth::deep;
    options.name_other = [&](const ByteRange&) { return other; };
    scan(shelf, std::make_shared<MemorySource>(image), options);
    std::set<std::string> found;
    for (const VolumeRecord& record : shelf.volumes()) found.insert(record.volume.standing);
    return found;
  };
  EXPECT_TRUE(standings({}).contains("current"));
  EXPECT_EQ(standings("ext4"), std::set<std::string>{"former"});
}

// Sixteen MiB of set bits, as erased flash reads, took minutes.
TEST(Layouts, ErasedFlashIsLookedAtOnce) {
  Budget budget;
  const auto source = std::make_shared<MeteredSource>(
      std::make_shared<MemorySource>(std::string(16 << 20, '\xFF')), budget);
  ReadOptions options;
  options.headless = true;
  EXPECT_EQ(open_volume({source, {0, source->size()}, options}), nullptr);
  EXPECT_LT(budget.bytes(), uint64_t{400} << 20);
}

}  // namespace
}  // namespace undershelf::test
