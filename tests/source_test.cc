// Sources, windows on them, partition maps, and streams read through them.
#include <gtest/gtest.h>

#include "layout/layout.h"
#include "source/identity.h"
#include "source/ledger.h"
#include "stream/stream.h"
#include "support.h"

namespace undershelf::test {
namespace {

using enum Piece::Kind;

std::string read_all(const Source& source, uint64_t offset, size_t length, ReadResult* result) {
  std::string out(length, 'x');
  *result = source.read(offset, std::as_writable_bytes(std::span(out)));
  return out;
}

TEST(FileSource, FillsWhatItCanAndReportsTheRest) {
  const TempFolder folder;
  write_file(folder.path("image"), std::string(1000, 'a'));
  const SourcePtr source = open_source(folder.path("image"));
  EXPECT_EQ(source->size(), 1000U);
  ReadResult result;
  EXPECT_EQ(read_all(*source, 990, 20, &result), std::string(10, 'a') + std::string(10, '\0'));
  EXPECT_EQ(result.bad, (std::vector<BadRange>{{{1000, 10}}}));
  EXPECT_EQ(read_all(*source, UINT64_MAX - 5, 4, &result), std::string(4, '\0'));
  EXPECT_FALSE(result.ok());
  // The file shrinks while it is open.
  std::filesystem::resize_file(folder.path("image"), 100);
  EXPECT_EQ(read_all(*source, 96, 8, &result), "aaaa" + std::string(4, '\0'));
  EXPECT_EQ(result.bad, (std::vector<BadRange>{{{100, 4}}}));
}

// A hole that cannot be told from zeros is not read; one that was not copied yet is not skipped.
TEST(FileSource, KnowsItsHoles) {
  constexpr uint64_t kMiB = 1 << 20;
  const TempFolder folder;
  const std::string image = folder.path("image");
  write_file(image, std::string(4096, 'a'));
  std::filesystem::resize_file(image, 8 * kMiB);
  SourcePtr source = open_source(image);
  EXPECT_EQ(source->next_data(100), 100U);
  EXPECT_EQ(source->next_data(kMiB), 8 * kMiB);
  EXPECT_EQ(Window(source, kMiB, 2 * kMiB).next_data(5), 2 * kMiB);
  std::filesystem::resize_file(image, kMiB);
  EXPECT_EQ(source->next_data(2 * kMiB), 2 * kMiB) << "what is gone is no hole";

  std::filesystem::resize_file(image, 8 * kMiB);
  Ledger ledger({"/card", "", 8 * kMiB, 512, "2026-01-02T03:04:05Z"});
  ledger.note({0, 5 * kMiB}, {Finding::State::read});
  write_file(ledger_of(image), ledger.text());
  source = open_source(image);
  EXPECT_EQ(source->next_data(kMiB), 5 * kMiB);
  EXPECT_EQ(source->next_data(6 * kMiB), 6 * kMiB);
}

TEST(Window, ShowsItsPartOnly) {
  const auto base = std::make_shared<MemorySource>("0123456789", std::vector<ByteRange>{{4, 2}});
  const Window window(base, 3, 5);
  ReadResult result;
  EXPECT_EQ(read_all(window, 0, 7, &result), std::string("3\0\0"
                                                         "67\0\0",
                                                         7));
  EXPECT_EQ(result.bad, (std::vector<BadRange>{{{1, 2}}, {{5, 2}}}));
}

TEST(Identity, NoticesAnotherSource) {
  std::string bytes(3'000'000, 'q');
  const SourceIdentity known = identify("x.img", MemorySource(bytes));
  EXPECT_EQ(difference(known, MemorySource(bytes), "x.img"), "");
  EXPECT_NE(difference(known, MemorySource(bytes + "q"), "x.img"), "");
  bytes[1'500'000] = 'r';
  EXPECT_NE(difference(known, MemorySource(bytes), "x.img"), "")
      << "a small source is hashed all over";
  // A block that could not be read then, or cannot be read now, decides nothing.
  const SourceIdentity damaged = identify("x.img", MemorySource(bytes, {{1'000'000, 10}}));
  EXPECT_EQ(difference(damaged, MemorySource(bytes), "x.img"), "");
  EXPECT_EQ(
      difference(identify("x.img", MemorySource(bytes)), MemorySource(bytes, {{5, 1}}), "x.img"),
      "");
}

std::string map_with(uint32_t start, uint32_t sectors, char status = 0, char type = 6) {
  std::string disk(65536, '\0');
  disk[446] = status;
  disk[450] = type;
  put32(disk, 454, start);
  put32(disk, 458, sectors);
  disk[510] = 0x55;
  disk[511] = static_cast<char>(0xAA);
  return disk;
}

TEST(Layout, ReadsPrimaryPartitions) {
  const Layout layout = read_layout(MemorySource(map_with(8, 100, static_cast<char>(0x80))), 512);
  ASSERT_EQ(layout.scheme, "mbr");
  ASSERT_EQ(layout.partitions.size(), 1U);
  EXPECT_EQ(layout.partitions[0].range, (ByteRange{4096, 51200}));
  EXPECT_TRUE(layout.partitions[0].bootable);
  EXPECT_TRUE(layout.notes.empty());
}

TEST(Layout, SaysWhatIsOdd) {
  const auto of = [](const std::string& disk) { return read_layout(MemorySource(disk), 512); };
  EXPECT_EQ(of(map_with(8, 4000)).notes.size(), 1U) << "ends behind the end";
  EXPECT_EQ(of(map_with(8000, 10)).notes.size(), 1U) << "starts behind it";
  EXPECT_EQ(of(map_with(8, 100, 0x17)).scheme, "none") << "boot code";
  EXPECT_EQ(of(std::string(100, '\x55')).scheme, "none");
  EXPECT_EQ(of(map_with(1, 127, 0, static_cast<char>(0xEE))).notes.size(), 1U) << "no GPT there";
}

void put_record(std::string& disk, size_t sector, int slot, char type, uint32_t start,
                uint32_t sectors) {
  const size_t at = sector * 512 + 446 + static_cast<size_t>(slot) * 16;
  disk[at + 4] = type;
  put32(disk, at + 8, start);
  put32(disk, at + 12, sectors);
  disk[sector * 512 + 510] = 0x55;
  disk[sector * 512 + 511] = static_cast<char>(0xAA);
}

TEST(Layout, FollowsTheChainOfLogicalVolumes) {
  std::string disk = map_with(100, 28, 0, 5);
  put_record(disk, 100, 0, 6, 2, 8);
  put_record(disk, 100, 1, 5, 10, 10);
  put_record(disk, 110, 0, 6, 1, 5);
  Layout layout = read_layout(MemorySource(disk), 512);
  ASSERT_EQ(layout.partitions.size(), 3U);
  EXPECT_TRUE(layout.partitions[0].container);
  EXPECT_EQ(layout.partitions[1].range, (ByteRange{102 * 512, 8 * 512}));
  EXPECT_EQ(layout.partitions[2].range, (ByteRange{111 * 512, 5 * 512}));
  EXPECT_EQ(layout.partitions[2].number, 6);
  EXPECT_TRUE(layout.notes.empty());
  put_record(disk, 110, 1, 5, 0, 10);  // back to the first
  layout = read_layout(MemorySource(disk), 512);
  EXPECT_EQ(layout.partitions.size(), 3U);
  EXPECT_EQ(layout.notes.size(), 1U);
}

TEST(Stream, JoinsPiecesAndKnowsItsHoles) {
  const auto source =
      std::make_shared<MemorySource>("abcdefghijklmnopqrstuvwxyz", std::vector<ByteRange>{{22, 2}});
  // 4 bytes of source, 3 unknown, 2 inline, 6 of source of which 2 are overwritten and 2 are bad.
  const Pieces pieces = {{range, 2, 4}, {unknown, 0, 3}, {inline_bytes, 1, 2}, {range, 18, 40}};
  const StreamReader stream(source, pieces, "XYZ", 20, 15, {{9, 2, Loss::Cause::overwritten}});
  EXPECT_EQ(stream.known_losses(),
            (Losses{{4, 3, Loss::Cause::not_known}, {9, 2, Loss::Cause::overwritten}}));
  std::string out(25, '?');
  const auto bytes = std::as_writable_bytes(std::span(out));
  EXPECT_EQ(stream.read(0, bytes), (Losses{{13, 2, Loss::Cause::unreadable}}));
  std::string expected = "cdef" + std::string(3, '\0') + "YZ" + std::string(2, '\0') + "uv";
  expected.resize(25, '\0');
  EXPECT_EQ(out, expected);
  // Any part reads as the same part of the whole.
  for (size_t at = 0; at < 20; ++at) {
    std::string part(6, '?');
    stream.read(at, std::as_writable_bytes(std::span(part)));
    std::string whole = expected + std::string(10, '\0');
    EXPECT_EQ(part, whole.substr(at, 6)) << at;
  }
}

TEST(Stream, PiecesThatEndEarlyLeaveAHole) {
  const auto source = std::make_shared<MemorySource>("abc");
  const StreamReader stream(source, {{range, 0, 2}}, "", 10, 10, {});
  EXPECT_EQ(stream.known_losses(), (Losses{{2, 8, Loss::Cause::not_known}}));
}

}  // namespace
}  // namespace undershelf::test
