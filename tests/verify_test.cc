// `verify`: a bag held against its lists, its shelf, and what its files are.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <functional>

#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;

class Verify : public testing::Test {
 protected:
  void make(const std::string& name, std::vector<std::string> more = {}) {
    write_file(image_, sample(name));
    ASSERT_LE(undershelf({"scan", image_, "--shelf", shelf_, "--check", "full"}).code, 1);
    std::vector<std::string> call = {"export", shelf_, "--to", bag_};
    call.insert(call.end(), more.begin(), more.end());
    ASSERT_LE(undershelf(call).code, 1);
  }
  Json verify(std::vector<std::string> more = {}, int code = 0) {
    std::vector<std::string> call = {"verify", bag_, "--format", "jsonl"};
    call.insert(call.end(), more.begin(), more.end());
    const Outcome outcome = undershelf(call);
    EXPECT_EQ(outcome.code, code) << outcome.err;
    return outcome.lines().empty() ? Json() : outcome.lines()[0];
  }
  // The files of the payload, by their paths in the bag.
  std::vector<std::string> payload() const {
    std::vector<std::string> files;
    for (const auto& entry : fs::recursive_directory_iterator(bag_ + "/data")) {
      if (entry.is_regular_file()) files.push_back(entry.path().lexically_relative(bag_).string());
    }
    std::ranges::sort(files);
    return files;
  }
  void replace_in(const std::string& name, const std::string& old, const std::string& by) {
    std::string text = read_file(bag_ + "/" + name);
    const size_t at = text.find(old);
    ASSERT_NE(at, std::string::npos);
    write_file(bag_ + "/" + name, text.replace(at, old.size(), by));
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
  std::string bag_ = folder_.path("bag");
};

TEST_F(Verify, FindsNoFaultInWhatWasExported) {
  for (const char* name : {"fat32-kinds", "ntfs-office", "hfsplus-charts"}) {
    fs::remove_all(bag_);
    fs::remove(shelf_);
    make(name);
    const Json found = verify({"--shelf", shelf_});
    EXPECT_EQ(found["faults"], Json::array()) << name;
    EXPECT_EQ(found["files"], payload().size()) << name;
    EXPECT_EQ(found["in_shelf"], payload().size()) << name;
    EXPECT_GT(found["verified"].get<int>() + found["consistent"].get<int>(), 0) << name;
    int64_t gaps = 0;
    for (const Json& row : shell("cat " + test::quoted(bag_) + "/exported.jsonl").lines()) {
      gaps += !row["missing"].empty();
    }
    EXPECT_EQ(found["with_gaps"], gaps) << name;
  }
}

TEST_F(Verify, TellsEachFault) {
  make("fat32-kinds");
  const std::vector<std::string> files = payload();
  ASSERT_GT(files.size(), 10U);
  const std::string sound = "data/volume-1-KINDS/Sound/stored.png";
  ASSERT_TRUE(fs::exists(bag_ + "/" + sound));
  const struct {
    const char* what;
    std::function<void()> harm;
    std::string told;
  } cases[] = {
      {"changed", [&] { write_file(bag_ + "/" + sound, read_file(bag_ + "/" + sound) + "x"); },
       sound + " is not as it was written."},
      {"gone", [&] { fs::remove(bag_ + "/" + sound); }, sound + " is not there."},
      {"linked",
       [&] {
         fs::rename(bag_ + "/" + sound, folder_.path("elsewhere"));
         fs::create_symlink(folder_.path("elsewhere"), bag_ + "/" + sound);
       },
       sound + " is not there."},
      {"added", [&] { write_file(bag_ + "/data/more", ""); }, "data/more is in no list."},
      {"listed", [&] { replace_in("exported.jsonl", "stored.png", "otherr.png"); },
       "exported.jsonl is not as tagmanifest-sha256.txt says."},
      {"climbing",
       [&] {
         write_file(bag_ + "/manifest-sha256.txt", read_file(bag_ + "/manifest-sha256.txt") +
                                                       std::string(64, '0') + "  ../card.img\n");
       },
       "manifest-sha256.txt tells of a file outside of the bag: ../card.img"},
      {"killed", [&] { fs::remove(bag_ + "/tagmanifest-sha256.txt"); }, "--resume"},
  };
  const std::string kept = folder_.path("kept");
  fs::copy(bag_, kept, fs::copy_options::recursive);
  for (const auto& c : cases) {
    fs::remove_all(bag_);
    fs::remove(folder_.path("elsewhere"));
    fs::copy(kept, bag_, fs::copy_options::recursive);
    c.harm();
    const Json found = verify({}, 1);
    EXPECT_NE(found["faults"].dump().find(c.told), std::string::npos) << c.what << found["faults"];
  }
}

// What the manifest vouches for may be another file than the shelf has.
TEST_F(Verify, ComparesWithTheShelf) {
  make("fat32-kinds");
  const std::string path = "data/volume-1-KINDS/Sound/pack.tar.gz";
  const std::string old =
      shell("cd " + test::quoted(bag_) + " && sha256sum " + path).out.substr(0, 64);
  std::string bytes = read_file(bag_ + "/" + path);
  bytes[bytes.size() / 2] ^= 1;
  write_file(bag_ + "/" + path, bytes);
  const std::string now =
      shell("cd " + test::quoted(bag_) + " && sha256sum " + path).out.substr(0, 64);
  replace_in("manifest-sha256.txt", old, now);
  replace_in("exported.jsonl", old, now);
  fs::remove(bag_ + "/tagmanifest-sha256.txt");
  const Json found = verify({"--shelf", shelf_}, 1);
  EXPECT_NE(found["faults"].dump().find("The shelf has " + path + " otherwise."),
            std::string::npos);
  EXPECT_NE(found["faults"].dump().find("and is not now"), std::string::npos) << "its checksum";
  EXPECT_EQ(found["broken"].size(), 1U);
}

TEST_F(Verify, TakesBagsOfOthersAndRefusesWhatIsNone) {
  fs::create_directories(bag_ + "/data");
  write_file(bag_ + "/data/a%b.txt", "levels\n");
  write_file(bag_ + "/bagit.txt", "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n");
  shell("cd " + test::quoted(bag_) +
        " && sha256sum data/* | sed 's/%/%25/' > manifest-sha256.txt && "
        "sha256sum bagit.txt manifest-sha256.txt > tagmanifest-sha256.txt");
  const Json found = verify();
  EXPECT_EQ(found["files"], 1);
  for (const std::string& none : {folder_.path("nowhere"), image_, folder_.path("")}) {
    const Outcome outcome = undershelf({"verify", none});
    EXPECT_EQ(outcome.code, 3) << none;
    EXPECT_NE(outcome.err.find("that an export wrote"), std::string::npos) << outcome.err;
  }
}

}  // namespace
}  // namespace undershelf::test
