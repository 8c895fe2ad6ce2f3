// Reads, writes and allocations that fail, each call in turn: never a crash, never a wrong row,
// never a bag that is not valid, and what failed can be gone on with.
#include <gtest/gtest.h>

#include <atomic>
#include <fstream>
#include <regex>
#include <set>

#include "scan/scan.h"
#include "shelf/selection.h"
#include "support.h"

namespace undershelf::test {
namespace {

// Sanitizers have allocation functions of their own.
constexpr bool kSanitized = UNDERSHELF_SANITIZED;

// Some of 1 to `count`: the first ones, then ever fewer, and the `last` ones.
std::vector<long> some_of(long count, long first, double factor, long last = 0) {
  std::vector<long> some;
  for (long n = 1; n <= count - last;
       n = std::max(n + 1, n < first ? 0 : static_cast<long>(static_cast<double>(n) * factor))) {
    some.push_back(n);
  }
  for (long n = std::max(count - last, 0L) + 1; n <= count; ++n) some.push_back(n);
  return some;
}

// Fails at one of its reads: nothing of it comes, or its second half.
class FailingSource : public Source {
 public:
  FailingSource(std::string bytes, long failing, bool half)
      : base_(std::move(bytes)), failing_(failing), half_(half) {}
  uint64_t size() const override { return base_.size(); }
  uint32_t sector_size() const override { return 512; }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result = base_.read(offset, out);
    if (++reads_ != failing_ || out.empty()) return result;
    const size_t kept = half_ ? out.size() / 2 : 0;
    std::ranges::fill(out.subspan(kept), std::byte{0});
    return {{{{offset + kept, out.size() - kept}}}};
  }
  long reads() const { return reads_; }

 private:
  MemorySource base_;
  long failing_;
  bool half_;
  mutable std::atomic<long> reads_{0};
};

class FailingReads : public testing::TestWithParam<const char*> {};

TEST_P(FailingReads, CostOnlyWhatTheyWouldHaveRead) {
  const TempFolder folder;
  const std::string image = sample(GetParam());
  const auto scan_with = [&](long failing, bool half) {
    const std::string path = folder.path("shelf");
    std::filesystem::remove(path);
    const auto source = std::make_shared<FailingSource>(image, failing, half);
    Shelf shelf = Shelf::create(path, {}, {});
    ScanOptions options;
    options.depth = Depth::deep;
    scan(shelf, source, options);
    uint64_t files = 0;
    each_row(shelf, {}, [&](const Row& row) {
      EXPECT_TRUE(!row.size || !row.intact_bytes || *row.intact_bytes <= *row.size) << row.path;
      files += row.kind == "file";
      return true;
    });
    return std::pair(files, source->reads());
  };
  const auto [files, reads] = scan_with(0, false);
  EXPECT_GT(files, 5U);
  uint64_t most = 0;
  for (const long failing : some_of(reads, kSanitized ? 3 : 8, kSanitized ? 2 : 1.2)) {
    const uint64_t found = scan_with(failing, failing % 2 == 0).first;
    most = std::max(most, found);
    // The sweep still finds what one structure does not tell.
    EXPECT_LE(found, 3 * files) << failing;
  }
  EXPECT_GE(most, files);
}

INSTANTIATE_TEST_SUITE_P(Samples, FailingReads,
                         testing::Values("fat12-floppy", "exfat-shortened", "ntfs-office",
                                         "hfsplus-charts"),
                         [](const auto& one) {
                           std::string name = one.param;
                           std::erase(name, '-');
                           return name;
                         });

// Asks for a stop when it is read for the n-th time.
class StoppingSource : public MemorySource {
 public:
  StoppingSource(std::string bytes, long when, Interrupts& interrupts)
      : MemorySource(std::move(bytes)), when_(when), interrupts_(interrupts) {}
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    if (++reads_ == when_) ++interrupts_;
    return MemorySource::read(offset, out);
  }

 private:
  long when_;
  Interrupts& interrupts_;
  mutable std::atomic<long> reads_{0};
};

std::vector<std::string> rows_of(const Shelf& shelf) {
  std::vector<std::string> rows;
  each_row(shelf, {}, [&](const Row& row) {
    rows.push_back(row.path + "|" + row.state + "|" + row.rating.value_or("") + "|" +
                   std::to_string(row.size.value_or(0)));
    return true;
  });
  return rows;
}

// A quick scan could be stopped by killing it only.
TEST(StoppedScans, KeepWhatTheyHaveAndAreGoneOnWith) {
  const TempFolder folder;
  const std::string image = sample("ntfs-office");
  const auto scan_it = [&](Shelf& shelf, long when) {
    Interrupts interrupts{0};
    ScanOptions options;
    options.interrupts = &interrupts;
    return scan(shelf, std::make_shared<StoppingSource>(image, when, interrupts), options).stopped;
  };
  Shelf whole = Shelf::create(folder.path("whole"), {}, {});
  EXPECT_FALSE(scan_it(whole, 0));
  const std::vector<std::string> expected = rows_of(whole);
  std::set<size_t> counts;
  for (const long when : some_of(400, 1, 1.5)) {
    const std::string path = folder.path("shelf" + std::to_string(when));
    Shelf shelf = Shelf::create(path, {}, {});
    if (!scan_it(shelf, when)) continue;
    EXPECT_EQ(shelf.scans().back().state, "stopped");
    counts.insert(rows_of(shelf).size());
    EXPECT_FALSE(scan_it(shelf, 0));
    EXPECT_EQ(rows_of(shelf), expected) << when;
    EXPECT_EQ(shelf.scans().back().state, "finished");
  }
  EXPECT_GT(counts.size(), 1U) << "it stops in the middle of a volume";
}

// `most`: what reading one volume may cost.
ScanResult scan_within(Shelf& shelf, const SourcePtr& source, Depth depth,
                       const std::optional<Budget::Limits>& most) {
  ScanOptions options;
  options.depth = depth;
  options.most = most;
  return scan(shelf, source, options);
}

// Whatever a volume's records lead to, reading it ends.
TEST(Budgets, EndTheReadingOfAVolumeWithWhatWasFound) {
  const TempFolder folder;
  const SourcePtr image = std::make_shared<MemorySource>(sample("ntfs-office"));
  Shelf whole = Shelf::create(folder.path("whole"), {}, {});
  EXPECT_FALSE(scan_within(whole, image, Depth::quick, {}).incomplete);
  const std::vector<std::string> expected = rows_of(whole);
  int number = 0;
  for (const Budget::Limits& most : {Budget::Limits{UINT64_MAX, 40}, Budget::Limits{400'000}}) {
    Shelf shelf = Shelf::create(folder.path(std::to_string(++number)), {}, {});
    const ScanResult result = scan_within(shelf, image, Depth::quick, most);
    EXPECT_TRUE(result.incomplete);
    EXPECT_FALSE(result.stopped);
    const std::vector<std::string> told = shelf.damage_sentences(10);
    EXPECT_TRUE(std::ranges::any_of(told, [](const std::string& sentence) {
      return sentence.find("lead to more") != std::string::npos;
    })) << testing::PrintToString(told);
    EXPECT_GT(rows_of(shelf).size(), 5U);
    EXPECT_LT(rows_of(shelf).size(), expected.size());
    EXPECT_FALSE(scan_within(shelf, image, Depth::quick, {}).incomplete);
    EXPECT_EQ(rows_of(shelf), expected);
  }
}

// What the volume itself told later was taken for what a sweep had found, and dropped.
TEST(Budgets, WhatTheyCutOffTheNextDeepScanReads) {
  const TempFolder folder;
  const SourcePtr image = std::make_shared<MemorySource>(sample("fat12-floppy"));
  Shelf whole = Shelf::create(folder.path("whole"), {}, {});
  EXPECT_FALSE(scan_within(whole, image, Depth::deep, {}).incomplete);
  const std::vector<std::string> expected = rows_of(whole);
  for (uint64_t rows = 1; rows < expected.size(); ++rows) {
    Shelf shelf = Shelf::create(folder.path(std::to_string(rows)), {}, {});
    EXPECT_TRUE(
        scan_within(shelf, image, Depth::deep, Budget::Limits{UINT64_MAX, rows}).incomplete);
    for (int again = 0; again < 2; ++again) {
      EXPECT_FALSE(scan_within(shelf, image, Depth::deep, {}).incomplete);
      EXPECT_EQ(rows_of(shelf), expected) << rows;
    }
  }
}

// Putting together what was found could take long, and only a kill ended it.
TEST(StoppedScans, AreLeftWhileWhatTheyFoundIsPutTogether) {
  const TempFolder folder;
  const SourcePtr image = std::make_shared<MemorySource>(sample("formatted-fat32-again"));
  int told = 0;
  // From the n-th thing on that is said to be done, asks for a stop at each, or only once.
  const auto scan_it = [&](Shelf& shelf, int from, bool once = false) {
    Interrupts interrupts{0};
    ScanOptions options;
    options.depth = Depth::deep;
    options.interrupts = &interrupts;
    told = 0;
    options.progress = [&](const std::string&) {
      if (++told == from || (told > from && !once)) ++interrupts;
    };
    return scan(shelf, image, options);
  };
  Shelf whole = Shelf::create(folder.path("whole"), {}, {});
  EXPECT_FALSE(scan_it(whole, 1'000'000).stopped);
  const std::vector<std::string> expected = rows_of(whole);
  int unsettled = 0;
  int stopped = 0;
  int tried = 0;
  const int things = told;
  EXPECT_GT(things, 12);
  for (int from = 1; from <= things; from += kSanitized ? 5 : 2) {
    ++tried;
    Shelf at_once = Shelf::create(folder.path("once" + std::to_string(from)), {}, {});
    stopped += scan_it(at_once, from, true).stopped;
    Shelf shelf = Shelf::create(folder.path(std::to_string(from)), {}, {});
    const ScanResult result = scan_it(shelf, from);
    unsettled += result.unsettled;
    EXPECT_EQ(shelf.scans().back().state, result.stopped ? "stopped" : "finished") << from;
    EXPECT_FALSE(scan_it(shelf, 1'000'000).stopped) << from;
    EXPECT_EQ(rows_of(shelf), expected) << from;
  }
  EXPECT_GT(unsettled, tried / 2);
  // Asked while the last ratings are worked out, there may be nothing left to stop.
  EXPECT_GE(stopped, tried - 1) << "nobody's Ctrl-C is lost between two pieces of work";
}

// The built program with one call that fails.
class FailingCalls : public testing::Test {
 protected:
  void SetUp() override {
    write_file(image_, sample("fat12-floppy"));
    ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf_, "--depth", "deep"}).code, 0);
    rows_ = list(shelf_);
    ASSERT_GT(rows_.size(), 5U);
  }
  // Without ids: what was found by content alone while a volume could not be read has taken some.
  static std::vector<Json> list(const std::string& shelf) {
    std::vector<Json> rows = undershelf({"list", shelf, "--format", "jsonl"}).lines();
    for (Json& row : rows) row.erase("id");
    return rows;
  }
  Outcome run(const char* what, long number, const std::string& call) {
    return shell(std::string(what) + "=" + std::to_string(number) +
                 " UNDERSHELF_FAULTS_COUNTED=" + test::quoted(folder_.path("counted")) +
                 " LD_PRELOAD=" + test::quoted(UNDERSHELF_FAULTS) + " " +
                 test::quoted(UNDERSHELF_PROGRAM) + " " + call);
  }
  // How many of such calls one that fails nowhere makes.
  long count(bool of_news, const std::string& call) {
    EXPECT_LE(run("UNDERSHELF_FAIL_WRITE", 0, call).code, 1);
    std::ifstream counted(folder_.path("counted"));
    long writes = 0;
    long news = 0;
    counted >> writes >> news;
    return of_news ? news : writes;
  }
  static void expect_plain(const Outcome& outcome, long number) {
    EXPECT_LT(outcome.code, 5) << number << outcome.err;
    const std::regex raw("terminate|bad_alloc|std::|SQLITE|disk I/O error\\.?$|Sanitizer");
    EXPECT_FALSE(std::regex_search(outcome.err, raw)) << number << ": " << outcome.err;
    EXPECT_TRUE(outcome.code <= 1 || !outcome.err.empty()) << number;
  }

  void try_scan(const char* what, bool of_news) {
    const std::string other = folder_.path("other");
    const std::string call =
        "scan " + test::quoted(image_) + " --shelf " + test::quoted(other) + " --depth deep";
    const long calls = count(of_news, call);
    EXPECT_GT(calls, 10);
    // The last ones, while what was looked at is kept: a library's object ended the program there.
    for (const long number : some_of(calls, 20, 1.15, of_news ? 40 : 0)) {
      shell("rm -f " + test::quoted(other) + "*");
      expect_plain(run(what, number, call), number);
      const Outcome again = undershelf({"scan", image_, "--shelf", other, "--depth", "deep"});
      // Refused if nothing had failed after all.
      EXPECT_TRUE(again.code == 0 || again.code == 4) << number << ": " << again.err;
      EXPECT_EQ(list(other), rows_) << number;
    }
  }

  void try_export(const char* what, bool of_news) {
    const std::string bag = folder_.path("bag");
    const std::string call = "export " + test::quoted(shelf_) + " --to " + test::quoted(bag);
    const long calls = count(of_news, call);
    const Outcome whole = shell("sort " + test::quoted(bag + "/manifest-sha256.txt"));
    EXPECT_GT(calls, 10);
    // The last ones, while threads end: what is thrown there ends the program.
    for (const long number : some_of(calls, 20, 1.15, 40)) {
      std::filesystem::remove_all(bag);
      expect_plain(run(what, number, call), number);
      if (std::filesystem::exists(bag + "/bag-info.txt")) {
        const Outcome listed =
            shell("cd " + test::quoted(bag) + " && cut -c67- manifest-sha256.txt | sort");
        const Outcome there = shell("cd " + test::quoted(bag) + " && find data -type f | sort");
        EXPECT_EQ(listed.out, there.out) << number;
      } else {
        std::filesystem::remove_all(bag);
      }
      EXPECT_LE(undershelf({"export", shelf_, "--to", bag, "--resume"}).code, 1) << number;
      EXPECT_EQ(faults_of_bag(bag), "") << number;
      EXPECT_EQ(shell("sort " + test::quoted(bag + "/manifest-sha256.txt")).out, whole.out)
          << number;
    }
  }

  // Of a copy what the ledger tells is there, and the next call brings the rest.
  void try_image(const char* what, bool of_news) {
    const std::string copy = folder_.path("copy.img");
    const std::string call = "image " + test::quoted(image_) + " --to " + test::quoted(copy);
    const long calls = count(of_news, call);
    EXPECT_GT(calls, 5);
    for (const long number : some_of(calls, 20, 1.15)) {
      shell("rm -f " + test::quoted(copy) + "*");
      expect_plain(run(what, number, call), number);
      const Outcome again = undershelf({"image", image_, "--to", copy});
      EXPECT_EQ(again.code, 0) << number << ": " << again.err;
      EXPECT_TRUE(read_file(copy) == read_file(image_)) << number;
    }
  }

  // An archive is there in full, or not at all.
  void try_archive(const std::string& suffix) {
    const std::string archive = folder_.path("all" + suffix);
    const std::string call = "export " + test::quoted(shelf_) + " --to " + test::quoted(archive);
    const long calls = count(false, call);
    EXPECT_GT(calls, 5);
    const Outcome whole = undershelf({"export", shelf_, "--to", folder_.path("again" + suffix)});
    for (const long number : some_of(calls, 20, 1.15, 40)) {
      std::filesystem::remove(archive);
      const Outcome outcome = run("UNDERSHELF_FAIL_WRITE", number, call);
      expect_plain(outcome, number);
      EXPECT_FALSE(std::filesystem::exists(archive + ".part")) << number;
      const bool there = std::filesystem::exists(archive);
      EXPECT_EQ(there, outcome.code == whole.code &&
                           outcome.err.find("none was left") == std::string::npos)
          << number << outcome.err;
    }
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
  std::string shelf_ = folder_.path("card.shelf");
  std::vector<Json> rows_;
};

TEST_F(FailingCalls, WritesOfAnArchive) {
  try_archive(".tar.zst");
  try_archive(".iso");
}
TEST_F(FailingCalls, WritesOfACopy) { try_image("UNDERSHELF_FAIL_WRITE", false); }
TEST_F(FailingCalls, MemoryOfACopy) {
  if (kSanitized) GTEST_SKIP() << "the sanitizer allocates itself";
  try_image("UNDERSHELF_FAIL_NEW", true);
}
TEST_F(FailingCalls, WritesOfAScan) { try_scan("UNDERSHELF_FAIL_WRITE", false); }
TEST_F(FailingCalls, WritesOfAnExport) { try_export("UNDERSHELF_FAIL_WRITE", false); }
TEST_F(FailingCalls, MemoryOfAScan) {
  if (kSanitized) GTEST_SKIP() << "the sanitizer allocates itself";
  try_scan("UNDERSHELF_FAIL_NEW", true);
}
TEST_F(FailingCalls, MemoryOfAnExport) {
  if (kSanitized) GTEST_SKIP() << "the sanitizer allocates itself";
  try_export("UNDERSHELF_FAIL_NEW", true);
}

}  // namespace
}  // namespace undershelf::test
