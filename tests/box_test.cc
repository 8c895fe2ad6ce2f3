// The box: whatever goes on in it costs one answer, and nothing else.
#include "checking/box.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <unistd.h>
#include <zlib.h>

#include <atomic>
#include <csignal>
#include <cstring>
#include <fstream>
#include <map>
#include <new>
#include <regex>

#include "kinds.h"
#include "stream/unpacker.h"
#include "support.h"

namespace undershelf::test {
namespace {

using checking::Box;
using checking::BoxLimits;
using checking::Examined;
using checking::Task;
using content::Bytes;
using content::Level;

constexpr std::string_view kPoison = "poison";

// Tasks whose bytes are these texts; what was answered, by their number.
std::map<uint64_t, Examined> answers(Box& box, const std::vector<std::string>& texts) {
  std::map<uint64_t, Examined> found;
  uint64_t given = 0;
  box.run(
      [&]() -> std::optional<Task> {
        if (given == texts.size()) return std::nullopt;
        const std::string& text = texts[given];
        return Task{given++, text.size(), [&text](uint64_t offset, std::span<std::byte> out) {
                      const size_t there = offset < text.size() ? text.size() - offset : 0;
                      const size_t length = std::min(out.size(), there);
                      std::memcpy(out.data(), text.data() + offset, length);
                      return length;
                    }};
      },
      [&](uint64_t number, const Examined& answer) { found[number] = answer; });
  return found;
}

Examined sound() {
  Examined found;
  found.level = Level::verified;
  return found;
}

struct Harm {
  const char* name;
  void (*act)(Bytes& bytes);
  bool ends = true;  // the process, or the answer alone
};

void must_not_open(const char* path, int flags) {
  if (::open(path, flags) >= 0)
    ::raise(SIGSTOP);  // it could: no answer, and the test fails in time
}

class Boxes : public testing::TestWithParam<Harm> {};

// Of twenty tasks three are poisoned: the others are answered, those say that nothing is known.
TEST_P(Boxes, CostOneAnswer) {
  const Harm harm = GetParam();
  BoxLimits limits;
  limits.patience = std::chrono::milliseconds(700);
  limits.memory = 256 << 20;
  Box box(
      2,
      [&](Bytes& bytes) {
        if (bytes.has(0, kPoison)) harm.act(bytes);
        return sound();
      },
      limits);
  std::vector<std::string> texts(20, "fine");
  for (const size_t i : {3U, 4U, 17U}) texts[i] = kPoison;
  const auto found = answers(box, texts);
  ASSERT_EQ(found.size(), texts.size());
  for (const auto& [number, answer] : found) {
    const bool poisoned = texts[number] == kPoison && harm.ends;
    EXPECT_EQ(answer.level, poisoned ? Level::unknown : Level::verified) << number;
    EXPECT_EQ(answer.why[0] != '\0', poisoned) << number;
  }
}

void hang() {
  volatile bool on = true;
  while (on) {
  }
}

std::string target() { return testing::TempDir() + "undershelf_box_target"; }

const Harm kHarms[] = {
    {"crashes", [](Bytes&) { ::raise(SIGSEGV); }},
    {"aborts", [](Bytes&) { std::abort(); }},
    {"hangs", [](Bytes&) { hang(); }},
    {"forks", [](Bytes&) { ::fork(); }},
    {"connects", [](Bytes&) { ::socket(AF_INET, SOCK_STREAM, 0); }},
    {"starts", [](Bytes&) { ::execl("/bin/true", "true", nullptr); }},
    {"kills", [](Bytes&) { ::kill(::getppid(), SIGKILL); }},
    {"unlinks", [](Bytes&) { ::unlink(target().c_str()); }},
    {"maps",
     [](Bytes&) {
       ::mmap(nullptr, 4096, PROT_READ | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
     }},
    {"asks",
     [](Bytes& bytes) {
       for (;;) bytes.at(0, 1), ::write(4, &bytes, 1);
     }},
    {"opens", [](Bytes&) { must_not_open("/etc/hostname", O_RDONLY); }, false},
    {"writes", [](Bytes&) { must_not_open(target().c_str(), O_WRONLY | O_CREAT); }, false},
};
std::string name_of(const testing::TestParamInfo<Harm>& harm) { return harm.param.name; }
INSTANTIATE_TEST_SUITE_P(Harms, Boxes, testing::ValuesIn(kHarms), name_of);

// What kills a process once, as a system does that is out of memory, costs no answer.
TEST(BoxAnswers, AreSoughtOnceMoreWhereAProcessDied) {
  void* shared = ::mmap(nullptr, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  ASSERT_NE(shared, MAP_FAILED);
  auto* deaths = new (shared) std::atomic<int>(0);
  for (const int most : {1, 100}) {
    *deaths = 0;
    Box box(1, [&](Bytes& bytes) {
      if (bytes.has(0, kPoison) && *deaths < most) {
        ++*deaths;
        ::raise(SIGKILL);
      }
      return sound();
    });
    const auto found = answers(box, {"fine", std::string(kPoison), "fine"});
    ASSERT_EQ(found.size(), 3U);
    EXPECT_EQ(found.at(1).level, most == 1 ? Level::verified : Level::unknown);
    EXPECT_EQ(found.at(2).level, Level::verified);
    EXPECT_EQ(*deaths, most == 1 ? 1 : 2);
  }
  ::munmap(shared, 4096);
}

TEST(BoxMemory, OfAHundredGibibytesIsNotGiven) {
  if (UNDERSHELF_SANITIZED) GTEST_SKIP() << "the sanitizer takes its own";
  BoxLimits limits;
  limits.memory = 256 << 20;
  Box box(
      1,
      [](Bytes& bytes) {
        if (!bytes.has(0, kPoison)) return sound();
        for (size_t i = 0; i < 100; ++i) std::memset(new char[1 << 30], 1, 1 << 30);
        return sound();
      },
      limits);
  const auto found = answers(box, {"fine", std::string(kPoison), "fine"});
  EXPECT_EQ(found.at(0).level, Level::verified);
  EXPECT_EQ(found.at(1).level, Level::unknown);
  EXPECT_EQ(found.at(2).level, Level::verified);
}

// The answers from the box are those that the same gives outside it, for files larger than what is
// handed over at once as well.
TEST(BoxAnswers, AreTheSameAsOutside) {
  std::vector<std::string> texts;
  for (const auto& [name, bytes] : kinds()) texts.push_back(bytes);
  std::string large = "Tide levels\n";
  while (large.size() < (9 << 20)) large += "0123456789 levels at the pier\n";
  texts.push_back(large);
  large[7 << 20] = '\1';
  texts.push_back(large);
  Box box(2, checking::examine);
  const auto found = answers(box, texts);
  ASSERT_EQ(found.size(), texts.size());
  for (const auto& [number, answer] : found) {
    content::MemoryBytes memory(std::as_bytes(std::span(texts[number])));
    const Examined outside = checking::examine(memory);
    EXPECT_STREQ(answer.format.data(), outside.format.data());
    EXPECT_EQ(answer.level, outside.level) << answer.format.data();
    EXPECT_EQ(answer.sound_to, outside.sound_to) << answer.format.data();
    EXPECT_STREQ(answer.sha256.data(), outside.sha256.data());
  }
  EXPECT_EQ(found.at(texts.size() - 1).sound_to, 7U << 20);
}

// Bytes that cannot be had end the file for what looks at it, and it has no hash.
// The processes that this one has started and that go on.
std::vector<pid_t> children() {
  std::vector<pid_t> found;
  std::ifstream list("/proc/self/task/" + std::to_string(::getpid()) + "/children");
  for (pid_t child = 0; list >> child;) found.push_back(child);
  return found;
}

// Compressed units are unpacked in a process of their own; one that dies is started anew.
TEST(Unpacking, GoesOnAfterItsProcessDied) {
  const std::string text(70'000, 't');
  std::vector<std::byte> packed(1000);
  uLongf length = packed.size();
  ASSERT_EQ(compress(reinterpret_cast<Bytef*>(packed.data()), &length,
                     reinterpret_cast<const Bytef*>(text.data()), text.size()),
            Z_OK);
  packed.resize(length);
  std::vector<std::byte> out(text.size());
  const auto unpacks = [&](std::span<const std::byte> stored) {
    std::ranges::fill(out, std::byte{0});
    return Unpacker::shared().unpack(Codec::zlib, stored, out) &&
           std::memcmp(out.data(), text.data(), text.size()) == 0;
  };
  EXPECT_TRUE(unpacks(packed));
  EXPECT_FALSE(unpacks(std::span(packed).first(20)));
  EXPECT_TRUE(unpacks(packed));
  const std::vector<pid_t> own = children();
  ASSERT_EQ(own.size(), 1U);
  ASSERT_EQ(::kill(own[0], SIGKILL), 0);
  EXPECT_FALSE(unpacks(packed)) << "that one answer is lost";
  EXPECT_TRUE(unpacks(packed));
  EXPECT_EQ(children().size(), 1U);
  out.resize(Unpacker::kMostUnit + 1);
  EXPECT_FALSE(Unpacker::shared().unpack(Codec::zlib, packed, out));
}

// A lock that another thread holds at a fork is held in the child for ever: a file was lost to an
// export whose writer took memory just then, as the unpacking of that file waited in vain.
TEST(Boxes, AreForkedWhileThereIsNoOtherThread) {
  const TempFolder folder;
  write_file(folder.path("card.img"), sample("hfsplus-charts"));  // with compressed files
  const std::string shelf = quoted(folder.path("card.shelf"));
  for (const std::string& call :
       std::vector<std::string>{"scan " + quoted(folder.path("card.img")) +
                                    " --depth deep --check full --shelf " + shelf,
                                "export " + shelf + " --to " + quoted(folder.path("bag")),
                                "export " + shelf + " --to " + quoted(folder.path("bag.zip")),
                                "verify " + quoted(folder.path("bag")) + " --shelf " + shelf,
                                "sheet " + shelf + " --to " + quoted(folder.path("sheet.png"))}) {
    const Outcome outcome =
        shell("UNDERSHELF_TELL_FORKS=1 LD_PRELOAD=" + quoted(UNDERSHELF_FAULTS) + " " +
              quoted(UNDERSHELF_PROGRAM) + " " + call);
    EXPECT_LE(outcome.code, 1) << call << ": " << outcome.err;
    EXPECT_NE(outcome.err.find("FORKED 1\n"), std::string::npos) << call;
    const std::regex beside("FORKED ([2-9]|1[0-9])");
    EXPECT_FALSE(std::regex_search(outcome.err, beside)) << call << ": " << outcome.err;
  }
}

TEST(BoxHoles, EndWhatCanBeSaid) {
  Box box(1, checking::examine);
  const std::string bytes = kinds().at("stored.png");
  std::map<uint64_t, Examined> found;
  bool given = false;
  box.run(
      [&]() -> std::optional<Task> {
        if (given) return std::nullopt;
        given = true;
        return Task{0, bytes.size(), [&](uint64_t offset, std::span<std::byte> out) -> size_t {
                      if (offset >= 5000) return 0;
                      const size_t length = std::min<size_t>(out.size(), 5000 - offset);
                      std::memcpy(out.data(), bytes.data() + offset, length);
                      return length;
                    }};
      },
      [&](uint64_t number, const Examined& answer) { found[number] = answer; });
  EXPECT_EQ(found.at(0).level, Level::broken);
  EXPECT_LE(found.at(0).sound_to, 5000U);
  EXPECT_FALSE(found.at(0).hashed);
}

// A worker is not believed.
TEST(BoxAnswers, OutOfRangeAreMended) {
  Box box(1, [](Bytes&) {
    Examined wrong;
    wrong.format.fill('x');
    wrong.why.fill('y');
    wrong.level = static_cast<Level>(77);
    wrong.hashed = 77;
    wrong.sha256.fill('z');
    return wrong;
  });
  const Examined answer = answers(box, {"anything"}).at(0);
  EXPECT_STREQ(answer.format.data(), "");
  EXPECT_EQ(answer.level, Level::unknown);
  EXPECT_FALSE(answer.hashed);
  EXPECT_LT(std::strlen(answer.why.data()), answer.why.size());
}

}  // namespace
}  // namespace undershelf::test
