#include "rating/rating.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>

namespace undershelf {
namespace {

constexpr uint64_t kHeadBytes = 4096;  // bytes of a file that its first sample stands for

// Whether a sample that reads as one repeated byte contradicts the format.
unsigned impossible_blanks(const Facts& facts, const Format& format) {
  if (format.dense) return facts.blank;
  return format.has_head ? facts.blank & 1U : 0U;
}

int score_of_lost(const Facts& facts, const Format& format) {
  int score = 30;  // guessed
  if (facts.placement == Placement::exact) {
    score = 92;
  } else if (facts.placement == Placement::inferred) {
    score = facts.stepped > 0 ? 60 : 85;
  }
  if (facts.head == HeadMatch::fits) score += (100 - score) / 3;
  if (facts.rivalled > 0) score = std::min(score, 45);
  if (facts.entangled) score = std::min(score, 20);
  if (facts.blank != 0 && !format.has_head && !format.dense) score = std::min(score, 50);
  return score;
}

}  // namespace

Verdict rate(const Facts& facts, const Format& format) {
  const bool lost = facts.state != State::live;
  const auto at_most_size = [&](uint64_t bytes) { return std::min(bytes, facts.size); };
  if (facts.size_lost) return {Rating::partial, 1, 0};
  if (facts.placement == Placement::none) return {Rating::gone, 0, 0};
  if (facts.size == 0) return {Rating::whole, 97, 0};

  const uint64_t lost_bytes = at_most_size(facts.overwritten + facts.disputed + facts.contested +
                                           facts.in_use + facts.missing + facts.unreadable);
  const uint64_t intact = facts.size - lost_bytes;
  const unsigned blanks = lost ? impossible_blanks(facts, format) : 0;
  if (at_most_size(facts.overwritten + facts.missing) == facts.size) return {Rating::gone, 0, 0};
  if (blanks != 0 && blanks == facts.sampled) return {Rating::gone, 0, 0};
  if (blanks != 0) return {Rating::partial, 1, intact};
  if (lost_bytes > 0) {
    // Who really holds bytes claimed twice is not settled; the others are lost for certain.
    const bool certain = facts.overwritten + facts.missing + facts.unreadable > 0;
    return {Rating::partial, certain ? 0 : lost ? 10 : 40, intact};
  }
  if (lost && facts.head == HeadMatch::differs) {
    // Something else lies where it begins, or it never was what its name says.
    return {Rating::partial, 10, intact - std::min(intact, kHeadBytes)};
  }
  if (facts.placement == Placement::exact && (!lost || facts.kept_inline)) {
    return {Rating::whole, lost ? 98 : 99, facts.size};
  }
  return {Rating::likely, score_of_lost(facts, format), intact};
}

std::vector<std::string> reasons(const Facts& facts, const Format& format) {
  std::vector<std::string> out;
  const auto say = [&](uint64_t bytes, std::string_view what) {
    if (bytes > 0) {
      out.push_back(
          fmt::format("{} of {} bytes {}.", std::min(bytes, facts.size), facts.size, what));
    }
  };
  const bool lost = facts.state != State::live;
  const bool sought = lost || facts.placement != Placement::exact;
  if (facts.size_lost) {
    out.emplace_back("Content hangs on the entry, but its size was never recorded.");
    return out;
  }
  if (facts.size == 0) {
    out.emplace_back("The file is empty, and its record is sound.");
    return out;
  }
  switch (facts.placement) {
    case Placement::exact:
      out.emplace_back(facts.kept_inline ? "Its bytes stand in its own record."
                       : !lost           ? "Its place is recorded by the file system."
                                         : "Its place is recorded, or it fits into its first "
                                           "cluster.");
      if (facts.kept_inline) return out;
      break;
    case Placement::inferred:
      out.push_back(facts.stepped == 0
                        ? "Its first cluster is recorded; the rest is taken to follow it."
                        : fmt::format("Its first cluster is recorded; the rest is taken to follow "
                                      "it, around {} place{} that {} in use before.",
                                      facts.stepped, facts.stepped == 1 ? "" : "s",
                                      facts.stepped == 1 ? "was" : "were"));
      break;
    case Placement::guessed:
      out.emplace_back("Its first cluster is only partly recorded, and was guessed.");
      break;
    case Placement::none:
      out.emplace_back("Where its content lay is not recorded anywhere that was read.");
      return out;
  }
  say(facts.overwritten, "are overwritten: a living file or folder holds their place now");
  say(facts.disputed, "are claimed by another living file too");
  say(facts.contested,
      "are claimed by a lost file that is younger or as old, which probably overwrote them");
  say(facts.in_use,
      "lie in clusters that are in use, though no living file that was found holds them");
  say(facts.rivalled, "are claimed by an older lost file too");
  say(facts.missing, "are missing: nothing tells where they lie, or the source ends before them");
  say(facts.unreadable, "were tried and cannot be read");
  if (facts.entangled) {
    out.emplace_back(
        "Another file grew beside it at the same time: which parts belong to which "
        "is not recorded.");
  }
  if (facts.encoding == Encoding::encrypted) {
    out.emplace_back(
        "It is encrypted: it is exported as it is stored, and opens only with its "
        "owner's key.");
  } else if (facts.encoding == Encoding::compressed && !facts.decodable) {
    out.emplace_back("It is compressed in a way not known here: it is exported as it is stored.");
  }
  if (!sought) return out;
  if (facts.overwritten + facts.contested + facts.in_use + facts.missing == 0) {
    out.emplace_back("Nothing found has taken its place; that alone is no proof.");
  }
  const int sampled = std::popcount(facts.sampled);
  const int blank = std::popcount(facts.blank);
  if (sampled == 0) {
    out.emplace_back("Its content was not looked at.");
  } else if (blank == 0) {
    out.push_back(fmt::format("{} sample{} of its content {} not blank.", sampled,
                              sampled == 1 ? "" : "s", sampled == 1 ? "is" : "are"));
  } else {
    out.push_back(
        fmt::format("{} of {} samples of its content read as one repeated byte{}.", blank, sampled,
                    impossible_blanks(facts, format) != 0 ? ", which its format rules out" : ""));
  }
  if (facts.head == HeadMatch::fits) out.emplace_back("It begins like its format.");
  if (facts.head == HeadMatch::differs) out.emplace_back("It does not begin like its format.");
  return out;
}

std::string_view to_text(Rating rating) {
  constexpr std::array<std::string_view, 4> kTexts = {"whole", "likely", "partial", "gone"};
  return kTexts[static_cast<size_t>(rating)];
}

}  // namespace undershelf
