// The whole job on volumes that real drivers wrote, against what is known to be true of them.
#include <SQLiteCpp/SQLiteCpp.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <set>
#include <sstream>

#include "model/text.h"
#include "source/hash.h"
#include "support.h"

namespace undershelf::test {
namespace {

class Recovery : public testing::TestWithParam<std::string> {
 protected:
  void SetUp() override {
    write_file(image_, sample(GetParam()));
    const Outcome scan = undershelf({"scan", image_, "--shelf", shelf_});
    ASSERT_EQ(scan.code, 0) << scan.err;
  }

  std::vector<Json> list(std::vector<std::string> more = {}) {
    more.insert(more.begin(), {"list", shelf_, "--format", "jsonl"});
    const Outcome listed = undershelf(more);
    EXPECT_EQ(listed.code, 0) << listed.err;
    return listed.lines();
  }

  // The one row of what truth tells of, by its true path or, where only an 8.3 name was there and
  // its first letter is lost, with `_` in its place.
  static const Json* find(const std::vector<Json>& rows, const Json& true_one) {
    const Json* found = nullptr;
    for (const Json& row : rows) {
      if (row["state"] != true_one["state"] || row["kind"] != true_one["kind"]) continue;
      if (!row["stream"].is_null() || row["link"] == true) continue;
      std::string path = true_one["path"];
      const bool exact = row["path"] == path;
      if (!exact) path[path.rfind('/') + 1] = '_';
      if (!exact && (row["path"] != path || row["path_exact"] == true)) continue;
      EXPECT_EQ(found, nullptr) << "listed twice: " << path;
      found = &row;
    }
    return found;
  }

  static bool is_fat() { return std::string(GetParam()).starts_with("fat"); }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
};

TEST_P(Recovery, EveryFileIsListedWithPathSizeAndTimeAndNoOther) {
  const std::vector<Json> rows = list();
  const std::vector<Json> known = truth(GetParam());
  ASSERT_GT(known.size(), 10U);
  for (const Json& one : known) {
    const Json* row = find(rows, one);
    ASSERT_NE(row, nullptr) << one["path"];
    if (one["kind"] != "file") continue;
    // Of an old copy of a record that is from before the content was there, nothing is believed.
    if (one["size"] == 0 && (*row)["size"].is_null()) continue;
    EXPECT_EQ((*row)["size"], one["size"]) << one["path"];
    // Truth knows whole seconds.
    const auto second = [](const Json& time) { return time.dump().substr(0, 20); };
    EXPECT_EQ(second((*row)["modified"]), second(one["modified"])) << one["path"];
    // Where a trash folder's record tells of it.
    EXPECT_EQ((*row)["original_path"], one.value("original_path", Json())) << one["path"];
    EXPECT_EQ((*row)["deleted"], one.value("deleted", Json())) << one["path"];
  }
  const auto main = [](const Json& row) { return row["stream"].is_null() && row["link"] == false; };
  EXPECT_EQ(std::ranges::count_if(rows, main), std::ssize(known))
      << "some are listed that never were";
}

TEST_P(Recovery, NamesThatCanBeKnownAreExact) {
  const std::vector<Json> rows = list({"--state", "deleted", "--kind", "file"});
  size_t exact = 0;
  for (const Json& row : rows) exact += row["path_exact"] == true;
  EXPECT_GE(exact, std::min<size_t>(2, rows.size()));
  for (const Json& row : rows) {
    // Unsure: a lost first letter. A long name that fills its slots may be proven or not.
    bool is_sure = true;
    bool may_be_cut = false;
    std::istringstream parts(row["path"].get<std::string>());
    for (std::string part; std::getline(parts, part, '/');) {
      is_sure = is_sure && !(is_fat() && part.starts_with('_'));
      may_be_cut = may_be_cut || (is_fat() && to_utf16(part).size() % 13 == 0);
    }
    EXPECT_TRUE(row["path_exact"] == is_sure || may_be_cut) << row["path"];
  }
}

TEST_P(Recovery, ExportBringsBackEveryByteThatSurvived) {
  const std::string bag = folder_.path("bag");
  const Outcome exported =
      undershelf({"export", shelf_, "--to", bag, "--even-gone", "--forks", "plain"});
  EXPECT_LE(exported.code, 1) << exported.err;
  const Outcome verified = shell("cd " + quoted(bag) +
                                 " && sha256sum -c manifest-sha256.txt && "
                                 "sha256sum -c tagmanifest-sha256.txt");
  EXPECT_EQ(verified.code, 0) << verified.err;

  std::map<int64_t, Json> written;
  std::map<std::pair<int64_t, std::string>, std::string> streams;  // id and name to hash
  for (const Json& record : shell("cat " + quoted(bag + "/exported.jsonl")).lines()) {
    if (!record["stream"].is_null()) {
      streams[{record["id"], record["stream"]}] = record["sha256"];
    } else {
      written[record["id"]] = record;
    }
  }
  const std::vector<Json> rows = list();
  for (const Json& one : truth(GetParam())) {
    const Json& row = *find(rows, one);
    const Json named = one.value("streams", Json::object());
    for (const auto& [name, hash] : named.items()) {
      EXPECT_EQ((streams[{row["id"], name}]), hash) << one["path"] << ":" << name;
    }
    if (one["kind"] != "file") continue;
    const Json& record = written.at(row["id"]);
    const bool size_known = !row["size"].is_null();
    const bool survived = one["surviving_bytes"] == one["size"] && size_known;
    if (!size_known && one["size"] == 0) continue;  // nothing proves that it was empty
    EXPECT_TRUE(!size_known || (record["sha256"] == one["sha256"]) == survived) << one["path"];
    // No promise is broken, and none is withheld where every byte is there, and known to be.
    const std::string rating = row["rating"];
    if (survived) {
      const bool promised = rating == "whole" || rating == "likely";
      EXPECT_TRUE(promised || row["placement"] != "exact") << one["path"] << " " << rating;
      EXPECT_NE(rating, "gone") << one["path"];
      EXPECT_EQ(record["missing"].empty(), promised) << one["path"];
    } else {
      EXPECT_TRUE(rating == "partial" || (rating == "gone" && one["surviving_bytes"] == 0))
          << one["path"] << " " << rating;
      EXPECT_LT(row["score"], 90) << one["path"];
      uint64_t missing = 0;
      for (const Json& hole : record["missing"]) missing += hole["length"].get<uint64_t>();
      // What living files hold is known byte by byte; what lost ones hold is inferred.
      if (!size_known) continue;
      EXPECT_LE(row["intact_bytes"], one["surviving_bytes"]) << one["path"];
      const uint64_t lost = one["size"].get<uint64_t>() - row["intact_bytes"].get<uint64_t>();
      EXPECT_TRUE(row["score"] != 0 || missing == lost) << one["path"];
    }
    if (one["modified"].is_null()) continue;
    const std::string path = bag + "/" + record["written"].get<std::string>();
    const Outcome time = shell("stat -c %Y " + quoted(path));
    const Outcome expected = shell("date -d " + one["modified"].get<std::string>() + " +%s");
    EXPECT_EQ(time.out, expected.out) << one["path"];
  }
}

TEST_P(Recovery, AnInterruptedExportIsGoneOnWith) {
  const std::string bag = folder_.path("bag");
  ASSERT_LE(undershelf({"export", shelf_, "--to", bag}).code, 1);
  const std::string manifest = read_file(bag + "/manifest-sha256.txt");
  EXPECT_EQ(undershelf({"export", shelf_, "--to", bag}).code, 4) << "without --resume";
  // As after a kill: the lists end in the middle of a line, a file is cut, another was touched, and
  // a link was laid in the way of a third.
  std::istringstream lines(manifest);
  std::vector<std::string> files;
  for (std::string line; std::getline(lines, line);) files.push_back(bag + "/" + line.substr(66));
  ASSERT_GT(files.size(), 8U);
  const std::string records = read_file(bag + "/exported.jsonl");
  write_file(bag + "/exported.jsonl", records.substr(0, records.size() * 2 / 3));
  write_file(bag + "/manifest-sha256.txt", manifest.substr(0, manifest.size() / 2));
  std::filesystem::resize_file(files[files.size() - 2], 1);
  write_file(files[0], "touched");
  write_file(folder_.path("outside"), "outside");
  std::filesystem::remove(files[1]);
  std::filesystem::create_symlink(folder_.path("outside"), files[1]);
  const Outcome resumed = undershelf({"export", shelf_, "--to", bag, "--resume", "--read-back"});
  EXPECT_LE(resumed.code, 1) << resumed.err;
  EXPECT_NE(resumed.err.find("there already"), std::string::npos) << resumed.err;
  // The lists tell the same; what was written anew stands at their ends.
  const auto sorted = [](const std::string& text) {
    std::istringstream in(text);
    std::multiset<std::string> all;
    for (std::string line; std::getline(in, line);) all.insert(line);
    return all;
  };
  EXPECT_EQ(sorted(read_file(bag + "/manifest-sha256.txt")), sorted(manifest));
  EXPECT_EQ(sorted(read_file(bag + "/exported.jsonl")), sorted(records));
  EXPECT_EQ(faults_of_bag(bag), "");
  EXPECT_EQ(read_file(folder_.path("outside")), "outside");
  EXPECT_EQ(shell("cd " + quoted(bag) +
                  " && sha256sum -c --quiet manifest-sha256.txt "
                  "tagmanifest-sha256.txt")
                .code,
            0);
}

TEST_P(Recovery, FormerNamesAreNotLostFiles) {
  size_t renamed = 0;
  for (const Json& one : truth(GetParam())) {
    if (one["former_names"].empty() || one["state"] != "live") continue;
    ++renamed;
    for (const Json& row : list({"--path", one["path"].get<std::string>()})) {
      const std::string shown =
          undershelf({"show", shelf_, std::to_string(row["id"].get<int64_t>())}).out;
      EXPECT_NE(shown.find("former name"), std::string::npos) << shown;
    }
  }
  EXPECT_EQ(renamed > 0, std::string(GetParam()) == "fat16-logger" ||
                             std::string(GetParam()) == "ntfs-office" ||
                             std::string(GetParam()).starts_with("exfat-camera") ||
                             std::string(GetParam()).ends_with("-journal") ||
                             std::string(GetParam()) == "hfsplus-charts" ||
                             std::string(GetParam()) == "hfsplus-pieces");
}

TEST_P(Recovery, NoCommandChangesTheSource) {
  const auto hash = [&] {
    const std::string bytes = read_file(image_);
    return sha256_hex(std::as_bytes(std::span(bytes)));
  };
  const std::string before = hash();
  std::filesystem::permissions(image_, std::filesystem::perms::owner_read);
  // Without the rights of root, where the tests have them.
  const bool root = shell("id -u").out == "0\n";
  const std::string user = root ? "setpriv --reuid=65534 --regid=65534 --clear-groups " : "";
  std::filesystem::permissions(image_, std::filesystem::perms::others_read,
                               std::filesystem::perm_options::add);
  std::filesystem::permissions(folder_.path(), std::filesystem::perms::all);
  const auto run = [&](const std::string& arguments) {
    return shell("cd " + quoted(folder_.path()) + " && " + user + quoted(UNDERSHELF_PROGRAM) + " " +
                 arguments)
        .code;
  };
  EXPECT_EQ(run("survey card.img"), 0);
  EXPECT_EQ(run("scan card.img --shelf second.shelf"), 0);
  EXPECT_EQ(run("volumes second.shelf"), 0);
  EXPECT_EQ(run("list second.shelf"), 0);
  EXPECT_EQ(run("tree second.shelf"), 0);
  const std::string id = std::to_string(list({"--kind", "file"})[0]["id"].get<int64_t>());
  EXPECT_EQ(run("show second.shelf " + id), 0);
  EXPECT_EQ(run("peek second.shelf " + id), 0);
  EXPECT_EQ(run("export second.shelf --to bag --state live"), 0);
  EXPECT_EQ(hash(), before);
}

TEST_P(Recovery, ScanningAgainChangesNothing) {
  const std::vector<Json> first = list();
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_, "--replace"}).code, 0);
  EXPECT_EQ(list(), first);
  // As after a kill: rows are there, the scan never ended. Ids stay.
  SQLite::Database(shelf_, SQLite::OPEN_READWRITE)
      .exec("UPDATE scans SET state='running', ended=NULL");
  const Outcome volumes = undershelf({"volumes", shelf_});
  EXPECT_NE(volumes.err.find("has not finished"), std::string::npos) << volumes.err;
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_}).code, 0);
  EXPECT_EQ(list(), first);
}

// With the sanitizers each system and what is odd in it; of the others the account alone is held
// against their lists (regressions/account_test.cc).
std::vector<std::string> recovered_samples() {
  std::vector<std::string> names{"fat12-floppy",  "fat16-fragments", "fat32-4k-sectors",
                                 "ntfs-office",   "exfat-camera",    "hfsplus-journal",
                                 "hfsplus-pieces"};
  if (UNDERSHELF_SANITIZED) return names;
  for (const char* name :
       {"fat16-logger", "fat32-logger", "fat32-large", "fat32-trash", "fat16-root-only",
        "ntfs-4k-sectors", "ntfs-64k-clusters", "exfat-camera-fuse", "exfat-shortened",
        "hfsplus-charts", "hfsx-journal", "hfsplus-iso"}) {
    names.emplace_back(name);
  }
  return names;
}

INSTANTIATE_TEST_SUITE_P(Samples, Recovery, testing::ValuesIn(recovered_samples()),
                         [](const auto& sample_info) {
                           std::string name = sample_info.param;
                           std::erase(name, '-');
                           return name;
                         });

// Whole disks: the same volumes behind partition maps.
class Disk : public testing::TestWithParam<const char*> {};

void expect_its_volumes(const std::string& name, const std::string& image, int code) {
  const TempFolder folder;
  write_file(folder.path("disk.img"), image);
  const Outcome scan =
      undershelf({"scan", folder.path("disk.img"), "--shelf", folder.path("shelf")});
  EXPECT_EQ(scan.code, code) << scan.err;
  const auto volumes = undershelf({"volumes", folder.path("shelf"), "--format", "jsonl"}).lines();
  const std::vector<Json> expected = truth(name);
  ASSERT_EQ(volumes.size(), expected.size());
  for (const Json& volume : volumes) {
    const auto one = std::ranges::find(expected, volume["offset"],
                                       [](const Json& e) -> const Json& { return e["offset"]; });
    ASSERT_NE(one, expected.end()) << volume;
    size_t files = 0;
    const auto rows = undershelf({"list", folder.path("shelf"), "--format", "jsonl", "--volume",
                                  std::to_string(volume["id"].get<int64_t>())})
                          .lines();
    for (const Json& row : truth((*one)["sample"])) files += row["kind"] == "file";
    EXPECT_EQ(std::ranges::count(rows, "file", [](const Json& r) { return r["kind"]; }), files);
  }
}

TEST_P(Disk, HoldsItsVolumes) { expect_its_volumes(GetParam(), sample(GetParam()), 0); }

INSTANTIATE_TEST_SUITE_P(Samples, Disk, testing::Values("disk-mbr-logical", "disk-gpt"));

TEST(Disks, EitherCopyOfAGptWillDo) {
  const auto notes = [](const std::string& image) {
    const TempFolder folder;
    write_file(folder.path("disk.img"), image);
    return undershelf({"survey", folder.path("disk.img"), "--format", "jsonl"})
        .lines()[0]["notes"]
        .dump();
  };
  const std::string sound = sample("disk-gpt");
  EXPECT_EQ(notes(sound), "[]");
  std::string broken = sound;
  broken.replace(512, 512, 512, '\0');
  expect_its_volumes("disk-gpt", broken, 0);
  EXPECT_NE(notes(broken).find("primary GPT is missing"), std::string::npos);
  broken = sound;
  broken[2 * 512 + 40] ^= 1;  // in an entry of the primary copy
  expect_its_volumes("disk-gpt", broken, 0);
  EXPECT_NE(notes(broken).find("checksum of the primary GPT"), std::string::npos);
  EXPECT_NE(notes(broken).find("differ"), std::string::npos);
  broken = sound;
  broken[broken.size() - 512 + 16] ^= 1;
  expect_its_volumes("disk-gpt", broken, 0);
  EXPECT_NE(notes(broken).find("checksum of the backup GPT"), std::string::npos);
}

}  // namespace
}  // namespace undershelf::test
