// The steps between reading and exporting: claims, placing, rating, globs, filters, safe names.
#include <gtest/gtest.h>

#include "access/safe_names.h"
#include "model/error.h"
#include "placing/claims.h"
#include "placing/contiguous.h"
#include "placing/lost_map.h"
#include "rating/rating.h"
#include "shelf/glob.h"
#include "shelf/selection.h"

namespace undershelf {
namespace {

using enum Piece::Kind;

ClaimMap claims_of(const std::vector<Claim>& list) {
  ClaimMap claims;
  for (const Claim& claim : list) claims.add(claim.range, claim.entry);
  claims.settle();
  return claims;
}

TEST(Claims, AreFoundAndDisputesCounted) {
  const ClaimMap claims = claims_of({{{100, 50}, EntryId{1}},
                                     {{300, 10}, EntryId{2}},
                                     {{120, 100}, EntryId{3}},
                                     {{130, 10}, EntryId{4}}});
  EXPECT_EQ(claims.at_or_after(0)->entry, EntryId{1});
  EXPECT_EQ(claims.at_or_after(150)->entry, EntryId{3});
  EXPECT_EQ(claims.at_or_after(219)->range, (ByteRange{150, 70}));
  EXPECT_EQ(claims.at_or_after(310), nullptr);
  const auto disputed = [&](EntryId entry) {
    uint64_t bytes = 0;
    claims.each_dispute({0, 1000}, entry, [&](const ByteRange& shared) { bytes += shared.length; });
    return bytes;
  };
  EXPECT_EQ(disputed(EntryId{1}), 40U);
  EXPECT_EQ(disputed(EntryId{3}), 30U);
  EXPECT_EQ(disputed(EntryId{4}), 10U);
  EXPECT_EQ(disputed(EntryId{2}), 0U);
  uint64_t held = 0;
  claims.each_overlap({140, 165},
                      [&](const Claim&, const ByteRange& shared) { held += shared.length; });
  EXPECT_EQ(held, 10U + 70U + 5U);
}

// Two names of one content, as mastering programs write them, were called damaged.
TEST(Claims, OfTwoThatShareAllTheyClaimAreNoDispute) {
  EXPECT_TRUE(claims_of({{{100, 50}, EntryId{1}},
                         {{300, 10}, EntryId{1}},
                         {{100, 50}, EntryId{2}},
                         {{300, 10}, EntryId{2}}})
                  .disputes()
                  .empty());
  // Two chains that run together share only their ends.
  EXPECT_EQ(claims_of({{{100, 50}, EntryId{1}},
                       {{300, 10}, EntryId{1}},
                       {{200, 50}, EntryId{2}},
                       {{300, 10}, EntryId{2}}})
                .disputes()
                .size(),
            1U);
}

const ClusterGrid kGrid{1000, 10, 1200};  // 20 clusters of 10 bytes

Placed place(uint64_t first, uint64_t size, const std::vector<ByteRange>& held, bool older) {
  return place_contiguously(first, size, kGrid, [&](uint64_t at) -> Obstacle {
    for (const ByteRange& range : held) {
      if (range.end() > at) return {range, older};
    }
    return {};
  });
}

TEST(Placing, GoesAroundWhatWasThereFirst) {
  const std::vector<ByteRange> held = {{1030, 10}, {1060, 20}};
  EXPECT_EQ(place(1010, 15, held, true).pieces, (Pieces{{range, 1010, 15}}));
  const Placed around = place(1010, 65, held, true);
  EXPECT_EQ(around.pieces, (Pieces{{range, 1010, 20}, {range, 1040, 20}, {range, 1080, 25}}));
  EXPECT_EQ(around.gaps, 2U);
  EXPECT_EQ(place(1010, 65, held, false).pieces, (Pieces{{range, 1010, 65}}));
  // The first cluster is recorded: nothing is stepped over there.
  EXPECT_EQ(place(1060, 5, held, true).pieces, (Pieces{{range, 1060, 5}}));
}

TEST(Placing, StopsAtTheEndOfTheVolume) {
  EXPECT_EQ(place(1190, UINT32_MAX, {}, true).pieces,
            (Pieces{{range, 1190, 10}, {unknown, 0, UINT32_MAX - 10}}));
}

TEST(Placing, ThePlaceBelongsToWhoCameLast) {
  LostMap map;
  map.assign({100, 100}, 1);
  map.assign({120, 10}, 2);
  map.assign({190, 50}, 3);
  const auto at = [&](uint64_t offset) {
    const auto holding = map.at_or_after(offset);
    return std::tuple(holding.range.offset, holding.range.end(), holding.stream);
  };
  EXPECT_EQ(at(0), std::tuple(100, 120, 1));
  EXPECT_EQ(at(125), std::tuple(120, 130, 2));
  EXPECT_EQ(at(130), std::tuple(130, 190, 1));
  EXPECT_EQ(at(195), std::tuple(190, 240, 3));
  EXPECT_EQ(map.at_or_after(240).range.length, 0U);
  map.assign({90, 200}, 4);
  EXPECT_EQ(at(0), std::tuple(90, 290, 4));
  EXPECT_EQ(map.at_or_after(290).range.length, 0U);
}

using Cause = Loss::Cause;

Facts lost(uint64_t size) {
  Facts facts;
  facts.state = State::deleted;
  facts.size = size;
  facts.placement = Placement::inferred;
  return facts;
}

TEST(Rating, PromisesNoMoreThanIsKnown) {
  const Format& other = format_by_name("a.bin");
  const auto with = [](Facts facts, auto change) {
    change(facts);
    return facts;
  };
  const auto with_lost = [](Facts facts, Cause cause, uint64_t bytes) {
    facts.lost[static_cast<size_t>(cause)] = bytes;
    return facts;
  };
  Facts live;
  live.size = 100;
  live.placement = Placement::exact;
  const struct {
    const char* what;
    Facts facts;
    const Format& format;
    Rating rating;
    uint64_t intact;
  } cases[] = {
      {"live and sound", live, other, Rating::whole, 100},
      {"live, claimed twice", with_lost(live, Cause::disputed, 60), other, Rating::partial, 40},
      {"live, chain cut", with_lost(live, Cause::not_known, 60), other, Rating::partial, 40},
      {"lost, free", lost(100), other, Rating::likely, 100},
      {"lost, empty by its own record", lost(0), other, Rating::whole, 0},
      {"lost, empty, perhaps renamed", with(lost(0), [](Facts& f) { f.proof = Proof::unsure; }),
       other, Rating::likely, 0},
      {"lost, of no known size", with(lost(0), [](Facts& f) { f.size.reset(); }), other,
       Rating::gone, 0},
      {"lost, of no known size but with content",
       with(lost(0), [](Facts& f) { f.size.reset(), f.has_place = true; }), other, Rating::partial,
       0},
      {"lost, partly overwritten", with_lost(lost(100), Cause::overwritten, 1), other,
       Rating::partial, 99},
      {"lost, all overwritten", with_lost(lost(100), Cause::overwritten, 100), other, Rating::gone,
       0},
      {"lost, younger rival", with_lost(lost(100), Cause::younger, 30), other, Rating::partial, 70},
      {"lost, older rival", with(lost(100), [](Facts& f) { f.rivalled = 30; }), other,
       Rating::likely, 100},
      {"lost, in pieces", with_lost(lost(100), Cause::scattered, 60), other, Rating::partial, 40},
      {"lost, inline", with(lost(100), [](Facts& f) { f.kept_inline = true; }), other,
       Rating::whole, 100},
      {"lost, inline in an old copy",
       with(lost(100), [](Facts& f) { f.kept_inline = true, f.proof = Proof::old; }), other,
       Rating::likely, 100},
      {"no place", with(lost(100), [](Facts& f) { f.placement = Placement::none; }), other,
       Rating::gone, 0},
      {"stored as it is", with_lost(live, Cause::as_stored, 100), other, Rating::partial, 0},
  };
  for (const auto& c : cases) {
    std::vector<std::string> reasons;
    const Verdict verdict = rate(c.facts, c.format, &reasons);
    EXPECT_EQ(verdict.rating, c.rating) << c.what;
    EXPECT_EQ(verdict.intact_bytes, c.intact) << c.what;
    EXPECT_FALSE(reasons.empty()) << c.what;
    EXPECT_TRUE(c.facts.of(Cause::overwritten) == 0 || verdict.score == 0) << c.what;
    EXPECT_EQ(rate(c.facts, c.format).score, verdict.score) << c.what;
  }
  Facts guess = lost(100);
  guess.placement = Placement::guessed;
  EXPECT_LT(rate(guess, other).score, rate(lost(100), other).score);
}

TEST(Rating, SamplesSpeakAgainstWhatTheFormatRulesOut) {
  constexpr uint64_t kCluster = 1000;
  constexpr uint64_t kSize = 9500;
  constexpr unsigned kAll = 7, kFirst = 1, kMiddle = 2, kLast = 4;
  const struct {
    const char* name;
    unsigned blank;
    Losses doubted;
  } cases[] = {
      {"a.csv", 0, {}},
      {"a.csv", kAll, {{0, kSize, Cause::blank}}},
      {"a.bin", kAll, {{0, kSize, Cause::blank}}},
      {"a.bin", kMiddle, {}},
      {"a.csv", kMiddle, {{4000, kCluster, Cause::blank}}},
      {"a.csv", kMiddle | kLast, {{4000, 5500, Cause::blank}}},
      {"a.jpg", kMiddle, {{4000, kCluster, Cause::blank}}},
      {"a.jpg", kLast, {}},
      {"a.wav", kMiddle | kLast, {}},
      {"a.wav", kFirst, {{0, kCluster, Cause::blank}}},
  };
  for (const auto& c : cases) {
    Facts facts = lost(kSize);
    facts.sampled = kAll;
    facts.blank = c.blank;
    EXPECT_EQ(settled(doubted_by_samples(facts, format_by_name(c.name), kSize, kCluster), kSize),
              c.doubted)
        << c.name << c.blank;
  }
  Facts other_head = lost(kSize);
  other_head.head = HeadMatch::differs;
  EXPECT_EQ(doubted_by_samples(other_head, format_by_name("a.png"), kSize, kCluster),
            (Losses{{0, kCluster, Cause::other_content}}));
}

TEST(Losses, AreSettledByTheirFirstCause) {
  EXPECT_EQ(
      settled({{10, 10, Cause::younger}, {0, 12, Cause::overwritten}, {18, 50, Cause::blank}}, 40),
      (Losses{{0, 12, Cause::overwritten}, {12, 8, Cause::younger}, {20, 20, Cause::blank}}));
  EXPECT_EQ(settled({{5, 0, Cause::blank}, {50, 10, Cause::blank}}, 40), Losses{});
  for (size_t i = 0; i < kLossCauses; ++i) {
    const auto cause = static_cast<Cause>(i);
    EXPECT_EQ(cause_named(to_text(cause)), cause);
  }
}

TEST(Glob, StaysInItsPart) {
  const struct {
    const char* pattern;
    const char* text;
    bool matches;
  } cases[] = {
      {"*.csv", "a.CSV", true},
      {"*.csv", "x/a.csv", false},
      {"**.csv", "x/a.csv", true},
      {"x/*", "x/a.csv", true},
      {"x/*", "x/y/a.csv", false},
      {"x/**", "x/y/a.csv", true},
      {"?cluse", "\u00C9cluse", true},
      {"?", "\U0001F30A", true},
      {"?", "/", false},
      {"", "", true},
      {"", "a", false},
      {"a", "ab", false},
      {"**", "anything/at all", true},
      {"\u00C9*", "\u00E9cluse", true},
      {"*a*a*a*a*a*a*a*a*b", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", false},
  };
  for (const auto& c : cases) {
    EXPECT_EQ(Glob(c.pattern, false).matches(c.text), c.matches) << c.pattern << " " << c.text;
  }
  EXPECT_FALSE(Glob("*.csv", true).matches("a.CSV"));
}

TEST(Filters, SizesAndDates) {
  const Time kNow = *parse_times("2026-04-02T10:20", Zone(), Time{}).from;
  const auto size = [](const char* text) { return parse_sizes(text); };
  EXPECT_EQ(size("4K").from, 4096U);
  EXPECT_EQ(size("4K").to, 4096U);
  EXPECT_EQ(size("1M..2G").to, 2ULL << 30);
  EXPECT_EQ(size("1.5K..1T").from, 1536U);
  EXPECT_EQ(size("1.5K..1T").to, 1ULL << 40);
  EXPECT_FALSE(size("..5").from);
  EXPECT_FALSE(size("5..").to);
  const auto utc = [&](const char* text) {
    const auto range = parse_times(text, Zone(), kNow);
    return (range.from ? to_rfc3339(*range.from) : "") + " " +
           (range.to ? to_rfc3339(*range.to) : "");
  };
  EXPECT_EQ(utc("2026-03-04"), "2026-03-04T00:00:00Z 2026-03-04T23:59:59.9999999Z");
  EXPECT_EQ(utc("2026-12"), "2026-12-01T00:00:00Z 2026-12-31T23:59:59.9999999Z");
  EXPECT_EQ(utc("2024.."), "2024-01-01T00:00:00Z ");
  EXPECT_EQ(utc("today"), "2026-04-02T00:00:00Z 2026-04-02T23:59:59.9999999Z");
  EXPECT_EQ(utc("yesterday"), "2026-04-01T00:00:00Z 2026-04-01T23:59:59.9999999Z");
  EXPECT_EQ(utc("7d"), "2026-03-26T00:00:00Z ");
  EXPECT_EQ(utc("7d..yesterday"), "2026-03-26T00:00:00Z 2026-04-01T23:59:59.9999999Z");
  EXPECT_EQ(utc("..30d"), " 2026-03-03T23:59:59.9999999Z");
  EXPECT_EQ(utc("..2026-03-04T10:20"), " 2026-03-04T10:20:59.9999999Z");
  EXPECT_EQ(utc("2026-03-04T10:20:30+02:00"), "2026-03-04T08:20:30Z 2026-03-04T08:20:30.9999999Z");
  for (const char* wrong :
       {"", "x", "5X", "..-1", "9..5", "99999999999999999999", "9999999999G", "1.5"}) {
    EXPECT_THROW(parse_sizes(wrong), Error) << wrong;
  }
  for (const char* wrong : {"", "yesteryear", "-1d", "2026-13", "2026-02-30",
                            "2026-03-05..2026-03-04", "2026-3-4", "2026-03-04T25:00"}) {
    EXPECT_THROW(parse_times(wrong, Zone(), kNow), Error) << wrong;
  }
}

TEST(SafeNames, HoldWhatATargetCanHold) {
  const struct {
    const char* name;
    const char* safe;
  } cases[] = {
      {"plain.csv", "plain.csv"},
      {"..", "_.."},
      {".", "_."},
      {"", "_"},
      {"50%.txt", "50_.txt"},
      {"a/b", "a_b"},
      {"a\nb", "a\uFFFDb"},
      {"\u00C9cluse", "\u00C9cluse"},
  };
  for (const auto& c : cases) EXPECT_EQ(safe_name(c.name, NameRules{}), c.safe);
  std::string long_name;
  for (int i = 0; i < 200; ++i) long_name += "\u6F6E";
  const std::string cut = safe_name(long_name + ".csv", NameRules{});
  EXPECT_LE(cut.size(), 255U);
  EXPECT_TRUE(cut.ends_with("\u6F6E.csv"));
}

TEST(SafeNames, FoldersStayBelowTheTarget) {
  EXPECT_EQ(safe_folder("v/a", NameRules{}), "v/a/");
  EXPECT_EQ(safe_folder("", NameRules{}), "");
  EXPECT_EQ(safe_folder("../../etc", NameRules{}), "_../_../etc/");
  std::string deep = "v";
  for (int i = 0; i < 3000; ++i) deep += "/deeper";
  EXPECT_LT(safe_folder(deep, NameRules{}).size(), 3000U);
}

TEST(SafeNames, FollowTheTargetsRules) {
  NameRules card;
  card.strict_names = card.folds_case = true;
  EXPECT_EQ(safe_name("a:b?.txt", card), "a_b_.txt");
  EXPECT_EQ(safe_name("ends in a dot.", card), "ends in a dot_");
}

}  // namespace
}  // namespace undershelf
