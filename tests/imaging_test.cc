// `image`, the ledger beside it, and sources that are read through an image: on a medium that fails
// as media do, and on real servers.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <set>

#include "imaging/copier.h"
#include "model/error.h"
#include "source/hash.h"
#include "source/medium_source.h"
#include "source/through.h"
#include "support.h"

namespace undershelf::test {
namespace {

namespace fs = std::filesystem;
using State = Finding::State;
using std::chrono_literals::operator""ms;

constexpr uint64_t kMiB = 1 << 20;

// Bytes that differ from sector to sector.
std::string pattern(size_t size) {
  std::string bytes(size, '\0');
  for (size_t at = 0; at + 8 <= size; at += 8) {
    const uint64_t value = (at / 8 + 1) * 0x9E3779B97F4A7C15;
    std::memcpy(bytes.data() + at, &value, 8);
  }
  return bytes;
}

// A medium in memory, some sectors of which fail: always, or so many times.
class FailingMedium : public Medium {
 public:
  explicit FailingMedium(std::string content) : bytes(std::move(content)) {}
  uint64_t size() const override { return bytes.size(); }
  uint32_t sector_size() const override { return 512; }
  uint32_t unit() const override { return 512; }
  bool is_back() override { return ++asked_back > 2; }

  Attempt read(uint64_t offset, std::span<std::byte> out, Seconds) override {
    ++requests;
    if (requests == drops_at) {
      asked_back = 0;
      return {{{offset, out.size()}}, ENXIO, true};
    }
    Attempt attempt;
    for (uint64_t sector = offset / 512; sector * 512 < offset + out.size(); ++sector) {
      const auto fails = failing.find(sector);
      if (fails == failing.end() || fails->second == 0) continue;
      --fails->second;
      attempt.error = EIO;
    }
    if (attempt.error != 0) {  // as disks do, all of it
      attempt.bad = {{offset, out.size()}};
      return attempt;
    }
    std::memcpy(out.data(), bytes.data() + offset, out.size());
    for (uint64_t sector = offset / 512; sector * 512 < offset + out.size(); ++sector) {
      if (!given.insert(sector).second) twice.insert(sector);
    }
    return attempt;
  }

  std::string bytes;
  std::map<uint64_t, int> failing;  // sector to how many times it still fails
  int drops_at = 0;                 // number of the request at which it goes
  int requests = 0, asked_back = 0;
  std::set<uint64_t> given, twice;  // sectors
};

constexpr int kAlways = 1'000'000;

class Imaging : public testing::Test {
 protected:
  LedgerHeader header(const Medium& medium) const {
    return {"the medium", "", medium.size(), 512, "2026-03-04T10:20:30Z"};
  }
  // Every range that a hash is of holds what the hash says.
  void expect_agreement(const Medium& medium) {
    const Ledger ledger = Ledger::load(ledger_of(image_));
    const std::string image = read_file(image_);
    ASSERT_EQ(image.size(), medium.size());
    uint64_t hashed = 0;
    for (const auto& [offset, of] : ledger.hashes()) {
      const auto bytes = std::as_bytes(std::span(image).subspan(offset, of.first));
      EXPECT_EQ(sha256_hex(bytes), of.second) << offset;
      hashed += of.first;
    }
    EXPECT_EQ(hashed, ledger.bytes(State::read));
  }
  CopyOptions all(const Medium& medium) const {
    CopyOptions options;
    options.range = {0, medium.size()};
    return options;
  }

  TempFolder folder_;
  std::string image_ = folder_.path("card.img");
};

TEST_F(Imaging, EverySectorThatCanBeReadIsReadOnceAndTheOthersAreInTheLedger) {
  const std::vector<std::set<uint64_t>> kinds = {
      {},
      {0},
      {100, 101, 5000, 9999},
      {16383},             // the last
      {2047, 2048, 2049},  // over the end of a large piece
  };
  for (const std::set<uint64_t>& bad : kinds) {
    for (const bool backwards : {false, true}) {
      SCOPED_TRACE(testing::Message() << bad.size() << (backwards ? " backwards" : ""));
      fs::remove(image_);
      fs::remove(ledger_of(image_));
      FailingMedium medium(pattern(8 * kMiB));
      for (const uint64_t sector : bad) medium.failing[sector] = kAlways;
      CopyOptions options = all(medium);
      options.backwards = backwards;
      {
        ImageCopy image(image_, header(medium));
        EXPECT_EQ(copy_medium(medium, image, options), CopyEnd::done);
        EXPECT_EQ(image.bytes(State::failed), bad.size() * 512);
        EXPECT_EQ(image.bytes(State::read), medium.size() - bad.size() * 512);
        for (const Noted& noted : image.in({0, medium.size()})) {
          if (noted.finding.state != State::failed) continue;
          EXPECT_EQ(noted.finding.attempts, 3U);
          EXPECT_EQ(noted.finding.error, EIO);
          EXPECT_TRUE(bad.contains(noted.range.offset / 512));
        }
      }
      EXPECT_TRUE(medium.twice.empty());
      EXPECT_EQ(medium.given.size(), medium.size() / 512 - bad.size());
      expect_agreement(medium);
      std::string expected = medium.bytes;
      for (const uint64_t sector : bad) expected.replace(sector * 512, 512, 512, '\0');
      EXPECT_EQ(read_file(image_), expected);
    }
  }
}

TEST_F(Imaging, WhatFailsAtFirstIsTriedAsOftenAsWasAskedAndNoMore) {
  FailingMedium medium(pattern(4 * kMiB));
  medium.failing = {{700, 5}, {4000, kAlways}};
  CopyOptions options = all(medium);
  options.attempts = 1;
  const auto copy = [&] {
    ImageCopy image(image_, header(medium));
    copy_medium(medium, image, options);
    return image.bytes(State::failed);
  };
  EXPECT_EQ(copy(), 1024U);  // in large, in small pieces, by itself
  const int before = medium.requests;
  EXPECT_EQ(copy(), 1024U);
  EXPECT_EQ(medium.requests, before);  // not tried again unless asked
  options.attempts = 4;
  EXPECT_EQ(copy(), 512U);
  EXPECT_TRUE(medium.twice.empty());
  expect_agreement(medium);
}

TEST_F(Imaging, AMediumThatGoesAndComesBackLosesNothing) {
  FailingMedium medium(pattern(8 * kMiB));
  medium.drops_at = 4;
  CopyOptions options = all(medium);
  {
    ImageCopy image(image_, header(medium));
    EXPECT_EQ(copy_medium(medium, image, options), CopyEnd::done);
  }
  EXPECT_EQ(read_file(image_), medium.bytes);
  EXPECT_TRUE(medium.twice.empty());
}

TEST_F(Imaging, WhatIsWantedFirstIsReadFirst) {
  FailingMedium medium(pattern(8 * kMiB));
  CopyOptions options = all(medium);
  options.first = {{{3 * kMiB + 100, 1000}}, {{7 * kMiB, 512}}};
  options.rest = false;
  ImageCopy image(image_, header(medium));
  copy_medium(medium, image, options);
  EXPECT_EQ(image.bytes(State::read), 3U * 512 + 512);
  EXPECT_EQ(image.in({3 * kMiB, 2048}, State::read).at(0), (ByteRange{3 * kMiB, 1536}));
}

TEST_F(Imaging, TheLedgerForgivesACutEndAndNothingElse) {
  FailingMedium medium(pattern(kMiB));
  {
    ImageCopy image(image_, header(medium));
    copy_medium(medium, image, all(medium));
  }
  const std::string whole = read_file(ledger_of(image_));
  write_file(ledger_of(image_), whole + "{\"offset\":0,\"len");
  EXPECT_EQ(Ledger::load(ledger_of(image_)).bytes(State::read), kMiB);
  for (const char* damage :
       {"{\"offset\":0,\"length\":99999999,\"state\":\"read\"}\n", "{\"offset\":\"a\"}\n", "[]\n",
        "{\"offset\":0,\"length\":512,\"state\":\"lost\"}\n", "rubbish\n"}) {
    write_file(ledger_of(image_), whole + damage);
    EXPECT_THROW(Ledger::load(ledger_of(image_)), Error) << damage;
  }
  for (const char* first :
       {"", "{}\n", "{\"ledger\":1}\n", "{\"ledger\":1,\"size\":-5}\n", "7\n",
        "{\"ledger\":1,\"size\":251658E24}\n", "{\"ledger\":1,\"size\":4096.5}\n",
        "{\"ledger\":1,\"size\":4096,\"sector_size\":4294967808}\n"}) {
    write_file(ledger_of(image_), first);
    EXPECT_THROW(Ledger::load(ledger_of(image_)), Error) << first;
  }
}

TEST_F(Imaging, ThroughAnImageNoByteIsAskedForTwiceAndAFailedOneNotAgain) {
  FailingMedium medium(pattern(2 * kMiB));
  medium.failing = {{10, kAlways}};
  std::vector<std::byte> bytes(100'000);
  for (int run = 0; run < 2; ++run) {
    ImageCopy image(image_, header(medium));
    const SourcePtr source = through(medium, image);
    EXPECT_EQ(source->gaps().size(), run == 0 ? 0U : 1U);
    for (const uint64_t at : {uint64_t{1}, uint64_t{50'000}, 2 * kMiB - 700}) {
      const ReadResult result = source->read(at, bytes);
      const std::string_view got(reinterpret_cast<const char*>(bytes.data()), bytes.size());
      std::string expected = medium.bytes.substr(at, bytes.size());
      expected.resize(bytes.size());
      if (at < 5120) expected.replace(5120 - at, 512, 512, '\0');
      EXPECT_TRUE(got == expected) << at;
      EXPECT_EQ(result.ok(), at == 50'000);
    }
    const int asked = medium.requests;
    source->read(0, bytes);
    EXPECT_EQ(medium.requests, asked);
  }
  EXPECT_TRUE(medium.twice.empty());
  expect_agreement(medium);
}

// ---------------------------------------------------------------- the program, on real servers

// Runs a command of the program on a server of a file; $uri is where.
Outcome served(const std::string& server, const std::string& command) {
  return shell(fmt::format("nbdkit -U - {} --run {}", server, quoted(command)));
}
std::string program() { return quoted(UNDERSHELF_PROGRAM); }

class ImageProgram : public testing::Test {
 protected:
  void SetUp() override { write_file(source_, sample("fat32-logger")); }
  std::vector<std::string> list(const std::string& shelf) const {
    std::vector<std::string> rows;
    for (const Json& row : undershelf({"list", shelf, "--format", "jsonl"}).lines()) {
      rows.push_back(row.dump());
    }
    return rows;
  }
  // A server whose sectors of `bad` fail, with the errors the real filter gives.
  std::string failing_server(const std::string& bad) const {
    return fmt::format(
        "eval get_size='stat -Lc %s {0}' pread='first=$(( $4 / 512 )); last=$(( ($4 + $3 - 1) / "
        "512 )); for b in {1}; do [ $b -lt $first ] || [ $b -gt $last ] || {{ echo EIO >&2; exit "
        "1; }}; done; dd if={0} iflag=skip_bytes,count_bytes skip=$4 count=$3 bs=1M 2>/dev/null'",
        source_, bad);
  }

  TempFolder folder_;
  std::string source_ = folder_.path("source.img");
  std::string image_ = folder_.path("copy.img");
};

TEST_F(ImageProgram, ASampleServedOverTheNetworkGivesTheSameRows) {
  const std::string here = folder_.path("here.shelf");
  const std::string there = folder_.path("there.shelf");
  ASSERT_EQ(undershelf({"scan", source_, "--shelf", here}).code, 0);
  const Outcome scanned = served("file " + source_, program() + " scan \"$uri\" --shelf " + there);
  EXPECT_EQ(scanned.code, 0) << scanned.err;
  EXPECT_EQ(list(there), list(here));
  const Outcome seen = served("file " + source_, program() + " survey \"$uri\"");
  EXPECT_EQ(seen.code, 0) << seen.err;
  EXPECT_NE(seen.out.find("FAT32"), std::string::npos) << seen.out;
}

TEST_F(ImageProgram, ErrorsOfAServerAreInTheLedgerAndInWhatAScanSays) {
  const Outcome copied = served(failing_server("9000 9001 20000"),
                                program() + " image \"$uri\" --format jsonl --to " + image_);
  EXPECT_EQ(copied.code, 1) << copied.err;
  const Json account = copied.lines().at(0);
  EXPECT_EQ(account["failed"], 3 * 512);
  EXPECT_EQ(account["left"], 0);
  std::string expected = read_file(source_);
  for (const size_t sector : {9000, 9001, 20000}) expected.replace(sector * 512, 512, 512, '\0');
  EXPECT_TRUE(read_file(image_) == expected);
}

// The same call, ended at once at many moments, goes on and loses nothing.
TEST_F(ImageProgram, KilledAtAnyMomentItGoesOn) {
  const std::string first = sample("fat16-logger");
  write_file(source_, first);
  int kills = 0;
  for (int moment = 0; moment < 40; ++moment) {
    const pid_t child = ::fork();
    if (child == 0) {
      ::execl(UNDERSHELF_PROGRAM, UNDERSHELF_PROGRAM, "image", source_.c_str(), "--to",
              image_.c_str(), "--rate", "200M", "--quiet", nullptr);
      ::_exit(127);
    }
    ::usleep(static_cast<useconds_t>(3000 + moment * 4000));
    ::kill(child, SIGKILL);
    int status = 0;
    ::waitpid(child, &status, 0);
    kills += WIFSIGNALED(status);
    if (!fs::exists(ledger_of(image_))) continue;
    const Ledger ledger = Ledger::load(ledger_of(image_));
    const std::string image = read_file(image_);
    for (const ByteRange& range : ledger.in({0, first.size()}, State::read)) {
      ASSERT_EQ(image.compare(range.offset, range.length, first, range.offset, range.length), 0);
    }
  }
  EXPECT_GT(kills, 5);
  EXPECT_EQ(undershelf({"image", source_, "--to", image_}).code, 0);
  EXPECT_TRUE(read_file(image_) == first);
}

// Of an image that is not complete, exactly the files that touch its gaps are not whole, and say
// where; once the copy went on they are, under the ids they had.
TEST_F(ImageProgram, GapsOfAnImageAreUnreadAndGoingOnMendsThem) {
  const std::string complete = folder_.path("complete.shelf");
  ASSERT_EQ(undershelf({"scan", source_, "--shelf", complete}).code, 0);
  std::map<int64_t, std::string> whole;
  for (const Json& row : rows_of(complete, {"--kind", "file"})) {
    if (row["rating"] == "whole") whole[row["id"]] = row["path"];
  }
  // The structures, and of the rest all but many small areas.
  ASSERT_LE(
      undershelf({"image", source_, "--to", image_, "--first", "metadata", "--first-only"}).code,
      1);
  Ledger ledger = Ledger::load(ledger_of(image_));
  const std::string content = read_file(source_);
  std::string image = read_file(image_);
  size_t gaps = 0;
  for (const ByteRange& range : ledger.in({0, content.size()}, State::untried)) {
    for (uint64_t at = range.offset; at < range.end(); at += 4096) {
      const uint64_t length = std::min<uint64_t>(4096, range.end() - at);
      if (at / 4096 % 3 == 0 && ++gaps <= 1000) continue;
      image.replace(at, length, content, at, length);
      ledger.note({at, length}, {State::read});
    }
  }
  ASSERT_GE(gaps, 1000U);
  write_file(image_, image);
  write_file(ledger_of(image_), ledger.text());

  const std::string shelf = folder_.path("card.shelf");
  const Outcome scanned = undershelf({"scan", image_, "--shelf", shelf});
  EXPECT_LE(scanned.code, 1) << scanned.err;
  const std::vector<Json> rows = rows_of(shelf, {"--kind", "file"});
  EXPECT_EQ(rows.size(), rows_of(complete, {"--kind", "file"}).size());
  const Outcome out =
      undershelf({"export", shelf, "--to", folder_.path("bag"), "--source", image_});
  EXPECT_EQ(out.code, 1) << out.err;
  std::map<std::string, Json> missing;
  std::istringstream lines(read_file(folder_.path("bag/exported.jsonl")));
  for (std::string line; std::getline(lines, line);) {
    const Json row = Json::parse(line);
    missing[row["path"]] = row["missing"];
  }
  size_t partial = 0;
  for (const Json& row : rows) {
    if (!missing.contains(row["path"])) continue;
    bool unread = false;
    for (const Json& loss : missing[row["path"]])
      unread = unread || std::string(loss["why"]).starts_with("unread,");
    partial += unread;
    if (unread) {
      EXPECT_EQ(row["rating"], "partial") << row;
    }
    const bool was_whole =
        std::ranges::any_of(whole, [&](const auto& one) { return one.second == row["path"]; });
    if (was_whole && !unread) {
      EXPECT_EQ(row["rating"], "whole") << row;
    }
  }
  EXPECT_GT(partial, 3U);
  std::map<std::string, int64_t> ids;
  for (const Json& row : rows) ids[row["path"]] = row["id"];

  EXPECT_EQ(undershelf({"image", source_, "--to", image_}).code, 0);
  const Outcome again = undershelf({"scan", image_, "--shelf", shelf});
  EXPECT_EQ(again.code, 0) << again.err;
  std::map<std::string, Json> mended;
  for (const Json& row : rows_of(shelf, {"--kind", "file"})) mended[row["path"]] = row;
  for (const Json& row : rows_of(complete, {"--kind", "file"})) {
    const Json& now = mended[row["path"]];
    EXPECT_EQ(now["rating"], row["rating"]) << row;
    if (ids.contains(row["path"])) {
      EXPECT_EQ(now["id"], ids[row["path"]]) << row;
    }
  }
}

// What was looked at to its end and lacked nothing is not looked at again.
TEST_F(ImageProgram, GoingOnChecksOnlyWhatLackedBytes) {
  write_file(source_, sample("fat32-kinds"));
  const std::string shelf = folder_.path("card.shelf");
  const std::string complete = folder_.path("complete.shelf");
  ASSERT_LE(undershelf({"scan", source_, "--shelf", complete, "--depth", "deep"}).code, 1);
  ASSERT_EQ(undershelf({"image", source_, "--to", image_}).code, 0);
  // As if the middle of it were not read yet.
  const std::string ledger = read_file(ledger_of(image_));
  const uint64_t size = fs::file_size(source_);
  write_file(ledger_of(image_), ledger + Ledger::line({size / 8, 65536}, {}));
  ASSERT_EQ(undershelf({"scan", image_, "--shelf", shelf, "--depth", "deep"}).code, 1);
  const auto checks = [&] {
    std::map<int64_t, std::string> found;
    for (const Json& row : rows_of(shelf, {"--kind", "file"})) {
      found[row["id"]] = row["check"].dump() + row["sha256"].dump() + row["rating"].dump();
    }
    return found;
  };
  const auto before = checks();
  write_file(ledger_of(image_), ledger);
  const Outcome again = undershelf({"scan", image_, "--shelf", shelf, "--depth", "deep"});
  EXPECT_EQ(again.code, undershelf({"volumes", complete}).code) << again.err;
  const auto after = checks();
  size_t changed = 0;
  for (const auto& [id, check] : before) changed += after.contains(id) && after.at(id) != check;
  EXPECT_LT(changed, before.size() / 2);
  std::map<std::string, std::string> now, expected;
  for (const Json& row : rows_of(shelf))
    now[row["path"]] = row["rating"].dump() + row["check"].dump();
  for (const Json& row : rows_of(complete)) {
    expected[row["path"]] = row["rating"].dump() + row["check"].dump();
  }
  EXPECT_EQ(now, expected);
}

TEST_F(ImageProgram, ThroughAnImageAServerIsAskedOnceForEachByte) {
  const std::string log = folder_.path("log");
  const std::string shelf = folder_.path("card.shelf");
  const std::string server = "--filter=log file " + source_ + " logfile=" + log + " logappend=true";
  const std::string through = " --through " + image_;
  EXPECT_EQ(served(server, program() + " survey \"$uri\"" + through).code, 0);
  EXPECT_EQ(served(server, program() + " scan \"$uri\" --shelf " + shelf + through).code, 0);
  const Outcome out = served(server, program() + " export " + shelf + " --source \"$uri\" --to " +
                                         folder_.path("bag") + through);
  EXPECT_LE(out.code, 1) << out.err;
  std::vector<bool> asked(fs::file_size(source_) / 512);
  std::istringstream lines(read_file(log));
  size_t twice = 0, reads = 0;
  for (std::string line; std::getline(lines, line);) {
    const size_t at = line.find(" Read ");
    if (at == std::string::npos || line.find("offset=") == std::string::npos) continue;
    ++reads;
    const uint64_t offset = std::stoull(line.substr(line.find("offset=") + 7), nullptr, 16);
    const uint64_t count = std::stoull(line.substr(line.find("count=") + 6), nullptr, 16);
    for (uint64_t sector = offset / 512; sector < (offset + count) / 512; ++sector) {
      twice += asked[sector];
      asked[sector] = true;
    }
  }
  EXPECT_GT(reads, 10U);
  EXPECT_EQ(twice, 0U);
}

TEST_F(ImageProgram, WrongCallsAreRefusedAndChangeNothing) {
  const std::string other = folder_.path("other.img");
  write_file(other, std::string(4096, 'x'));
  struct Case {
    std::vector<std::string> call;
    int code;
    const char* says;
  };
  const std::vector<Case> cases = {
      {{"image", source_}, 2, "--to FILE"},
      {{"image", source_, "--to", other}, 4, "no ledger"},
      {{"image", source_, "--to", source_}, 4, "source itself"},
      {{"image", source_, "--to", image_, "--first", "names"}, 2, "--first"},
      {{"image", source_, "--to", image_, "--first-only"}, 2, "--first"},
      {{"image", source_, "--to", image_, "--type", "picture"}, 2, "--select"},
      {{"image", source_, "--to", image_, "--select", other}, 3, "not a shelf"},
      {{"image", source_, "--to", image_, "--from", "9M", "--until", "1M"}, 2, "--from"},
      {{"image", source_, "--to", image_, "--work", "5"}, 2, "--pause"},
      {{"image", source_, "--to", folder_.path("no/such/card.img")}, 4, "no folder"},
      {{"image", folder_.path("none"), "--to", image_}, 3, "none"},
      {{"image", "nbd+unix:///?socket=/nowhere", "--to", image_}, 3, "server"},
      {{"scan", "nbd://localhost:1/", "--shelf", image_}, 3, "server"},
  };
  for (const Case& one : cases) {
    const Outcome outcome = undershelf(one.call);
    EXPECT_EQ(outcome.code, one.code) << one.call.back() << outcome.err;
    EXPECT_NE(outcome.err.find(one.says), std::string::npos) << outcome.err;
    EXPECT_FALSE(fs::exists(image_)) << one.call.back();
    EXPECT_FALSE(fs::exists(ledger_of(image_)));
  }
  EXPECT_EQ(read_file(other), std::string(4096, 'x'));
  const std::string copied = folder_.path("copied.img");
  write_file(copied, std::string(4096, 'x'));
  write_file(ledger_of(copied), "{}");
  const Outcome again = undershelf({"image", copied, "--to", image_});
  EXPECT_EQ(again.code, 4) << again.err;
  EXPECT_NE(again.err.find("itself a copy"), std::string::npos) << again.err;
  write_file(folder_.path("split.001"), std::string(4096, 'x'));
  write_file(folder_.path("split.002"), std::string(4096, 'x'));
  EXPECT_EQ(undershelf({"image", folder_.path("split.001"), "--to", image_}).code, 4);
  EXPECT_FALSE(fs::exists(image_));
  // The copy of another medium.
  ASSERT_EQ(undershelf({"image", source_, "--to", image_}).code, 0);
  const Outcome wrong = undershelf({"image", other, "--to", image_});
  EXPECT_EQ(wrong.code, 3);
  EXPECT_NE(wrong.err.find("another medium"), std::string::npos) << wrong.err;
}

}  // namespace
}  // namespace undershelf::test
