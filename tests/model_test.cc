// Plain values: pieces and traces and their packed forms, times, text.
#include <gtest/gtest.h>

#include "model/pieces.h"
#include "model/text.h"
#include "model/time.h"
#include "model/trace.h"

namespace undershelf {
namespace {

using enum Piece::Kind;

TEST(Pieces, PackedFormBringsBackWhatWasPacked) {
  const std::vector<Pieces> cases = {
      {},
      {{range, 0, 1}},
      {{range, uint64_t{1} << 45, 4096}, {zeros, 0, 77}, {range, 512, uint64_t{1} << 40}},
      {{unknown, 0, 5}, {inline_bytes, 3, 9}, {range, 12, 1}, {range, 4096, 8192}},
  };
  for (const Pieces& pieces : cases) EXPECT_EQ(unpack(pack(pieces)), pieces);
}

TEST(Pieces, DamagedPackedFormIsRefused) {
  const std::string sound = pack({{range, 1'000'000, 4096}, {range, 9'000'000, 4096}});
  for (size_t cut = 1; cut < sound.size(); ++cut) {
    const auto pieces = unpack(sound.substr(0, cut));
    EXPECT_TRUE(!pieces || pieces->size() < 2);
  }
  EXPECT_FALSE(unpack(std::string(20, '\xFF')));
  std::string huge;
  for (int i = 0; i < 4; ++i) huge += pack({{zeros, 0, (uint64_t{1} << 62) - 1}});
  EXPECT_FALSE(unpack(huge)) << "lengths that add up beyond 2^63";
}

TEST(Traces, PackedFormBringsBackWhatWasPacked) {
  const std::vector<std::vector<Trace>> cases = {
      {},
      {{0, 512, 0, 0, 0}},
      {{4096, 1024, 3, 7, 1024}, {5120, 4096, 3, 8, 1024}, {512, 1, 2, 3, 4}},
      {{UINT64_MAX, UINT64_MAX, UINT32_MAX, UINT64_MAX, UINT64_MAX}, {0, 0, 0, 0, 0}},
      {{1 << 20, 512, 1, UINT64_MAX, 0}, {1 << 21, 512, 1, 5, 0}, {1 << 22, 512, 1, UINT64_MAX, 0}},
  };
  for (const auto& traces : cases) EXPECT_EQ(unpack_traces(pack(traces)), traces);
}

TEST(Traces, DamagedPackedFormIsRefused) {
  const std::vector<Trace> traces = {{1'000'000, 4096, 1, 2, 3}, {9'000'000, 4096, 1, 2, 3}};
  const std::string sound = pack(traces);
  for (size_t cut = 1; cut < sound.size(); ++cut) {
    const auto some = unpack_traces(sound.substr(0, cut));
    EXPECT_TRUE(!some || *some == std::vector{traces[0]}) << cut;
  }
  EXPECT_FALSE(unpack_traces(std::string(20, '\xFF')));
  EXPECT_FALSE(unpack_traces(std::string("\xFF\xFF\xFF\xFF\xFF\1\0\0\0\0", 10)))
      << "a kind of more than 32 bits";
}

TEST(Pieces, JoinAndTruncate) {
  Pieces pieces;
  append_piece(pieces, {range, 1000, 10});
  append_piece(pieces, {range, 1010, 5});
  append_piece(pieces, {range, 2000, 0});
  append_piece(pieces, {zeros, 0, 3});
  append_piece(pieces, {zeros, 0, 4});
  EXPECT_EQ(pieces, (Pieces{{range, 1000, 15}, {zeros, 0, 7}}));
  EXPECT_EQ(total_length(pieces), 22U);
  EXPECT_EQ(truncated(pieces, 16), (Pieces{{range, 1000, 15}, {zeros, 0, 1}}));
}

TEST(Times, AreWrittenAsStored) {
  const auto at = [](CivilTime civil) { return to_rfc3339(*from_civil(civil)); };
  EXPECT_EQ(at({2026, 3, 4, 10, 20, 30, 0}), "2026-03-04T10:20:30Z");
  EXPECT_EQ(at({2026, 3, 4, 10, 20, 30, 100'000}), "2026-03-04T10:20:30.01Z");
  EXPECT_EQ(at({1601, 1, 1, 0, 0, 0, 1}), "1601-01-01T00:00:00.0000001Z");
  EXPECT_FALSE(from_civil({2026, 2, 29, 0, 0, 0, 0}));
  EXPECT_FALSE(from_civil({2026, 13, 1, 0, 0, 0, 0}));
  EXPECT_FALSE(from_civil({2026, 1, 1, 24, 0, 0, 0}));
}

TEST(Times, ZonesKnowTheirSummerTime) {
  const auto zone = Zone::named("Europe/Oslo");
  ASSERT_TRUE(zone);
  const auto utc = [&](CivilTime civil) { return to_rfc3339(zone->to_utc(*from_civil(civil))); };
  EXPECT_EQ(utc({2026, 1, 15, 12, 0, 0, 0}), "2026-01-15T11:00:00Z");
  EXPECT_EQ(utc({2026, 7, 15, 12, 0, 0, 0}), "2026-07-15T10:00:00Z");
  EXPECT_FALSE(Zone::named("Nowhere/Atall"));
}

TEST(Text, NamesAreComposedAndNothingIsLost) {
  const Name composed = name_from_utf16(u"E\u0301cluse \U0001F30A");
  EXPECT_EQ(composed.text, "\u00C9cluse \U0001F30A");
  EXPECT_TRUE(composed.exact);
  EXPECT_EQ(composed.raw.size(), 20U) << "what was stored is not what is shown";
  EXPECT_EQ(to_hex(composed.raw).substr(0, 8), "45000103");
  EXPECT_TRUE(name_from_utf16(u"\u00C9cluse").raw.empty());

  const Name unpaired = name_from_utf16(std::u16string{u'a', char16_t{0xD800}, u'/'});
  EXPECT_EQ(unpaired.text, "a\uFFFD\uFFFD");
  EXPECT_FALSE(unpaired.exact);
  EXPECT_EQ(to_hex(unpaired.raw), "610000d82f00");
}

TEST(Text, IsCutAndShownSafely) {
  EXPECT_EQ(cut_utf8("a\u00E9b", 2), "a");
  EXPECT_EQ(cut_utf8("a\u00E9b", 3), "a\u00E9");
  EXPECT_EQ(printable("a\x1b[31mb\n\u009B\u202E"), "a\\x1b[31mb\\x0a\\x9b\\u202e");
  EXPECT_EQ(without_controls("a\x1b[31mb\n\u009B\u202E"), "a\uFFFD[31mb\uFFFD\uFFFD\uFFFD");
  EXPECT_EQ(columns("a\u0301\u6F6E\U0001F30A"), 5U);
}

}  // namespace
}  // namespace undershelf
