#include "rating/rating.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <numeric>

#include "rating/odds.h"

namespace undershelf {
namespace {

using Cause = Loss::Cause;

struct CauseSentence {
  Cause cause;
  std::string_view what;
};

constexpr std::array kSentences = {
    CauseSentence{Cause::overwritten,
                  "are overwritten: a living file or folder holds their place now"},
    CauseSentence{Cause::disputed, "are claimed by another living file too"},
    CauseSentence{Cause::younger,
                  "are claimed by a lost file that is younger or as old, which probably overwrote "
                  "them"},
    CauseSentence{Cause::in_use,
                  "lie in clusters that are in use, though no living file that was found holds "
                  "them"},
    CauseSentence{Cause::not_known, "are missing: nothing tells where they lie"},
    CauseSentence{Cause::behind_source, "are missing: the source ends before them"},
    CauseSentence{Cause::unreadable, "were tried and cannot be read"},
    CauseSentence{Cause::unread,
                  "were not read from the medium yet: going on with `image`, and then with `scan`, "
                  "brings those that can be read"},
    CauseSentence{
        Cause::blank,
        "read as one repeated byte, which such a file hardly holds there: their space was "
        "probably discarded or wiped"},
    CauseSentence{Cause::other_content, "at its beginning are something else than its name says"},
    CauseSentence{Cause::unsound,
                  "follow the place at which its own structure breaks: they may be another file's"},
    CauseSentence{Cause::unproven,
                  "are not proven to be its own: of files with such evidence too many come back "
                  "with another's bytes"},
    CauseSentence{Cause::undecodable, "do not decompress"},
    CauseSentence{Cause::as_stored,
                  "are compressed in a way not known here, and are exported as they are stored"},
};

// The verdict and the sentences that go with it are made in one walk through the evidence.
class Weighing {
  // What does not add up now hardly ever did. Not fitted: only random lives break files as they
  // please (docs/rating.md).
  static constexpr int kBroken = 1;

 public:
  Weighing(const Facts& facts, const Format& format, std::vector<std::string>* reasons)
      : facts_(facts), format_(format), reasons_(reasons), lost_(facts.state != State::live) {}

  Verdict run() {
    if (!facts_.size) return without_size();
    if (facts_.placement == Placement::none) {
      say("Where its content lay is not recorded anywhere that was read.");
      return {Rating::gone, 0, 0};
    }
    if (*facts_.size == 0) return empty();
    tell_place();
    const uint64_t lost = std::min(facts_.total_lost(), *facts_.size);
    for (const CauseSentence& sentence : kSentences) tell(facts_.of(sentence.cause), sentence.what);
    tell_scattered();
    tell(facts_.rivalled, "are claimed by an older lost file too");
    if (facts_.encoding == Encoding::encrypted) {
      say("It is encrypted: it is exported as it is stored, and opens only with its owner's key.");
    }
    tell_samples();
    tell_check();
    if (facts_.proof == Proof::old && facts_.joined == Facts::Joined::no) {
      say("What tells its place is an older copy of its record: it may have changed since.");
    }
    return verdict(*facts_.size - lost);
  }

 private:
  void say(std::string sentence) {
    if (reasons_ != nullptr) reasons_->push_back(std::move(sentence));
  }

  void tell(uint64_t bytes, std::string_view what) {
    if (bytes > 0 && reasons_ != nullptr) {
      say(fmt::format("{} of {} bytes {}.", bytes, *facts_.size, what));
    }
  }

  Verdict without_size() {
    if (facts_.has_place) {
      say("Content hangs on the entry, but its size was never recorded.");
      return {Rating::partial, 1, 0};
    }
    say(facts_.proof == Proof::old
            ? "What tells of it was recorded before its content was, or tells only its name: "
              "neither its size nor its place is known."
            : "Neither its size nor its place is recorded anywhere that was read.");
    return {Rating::gone, 0, 0};
  }

  Verdict empty() {
    if (!lost_ || facts_.proof == Proof::last) {
      say("The file is empty, and its record is sound.");
    } else {
      say("It was empty when its entry was last written. If it was renamed afterwards, it may have "
          "been filled under its new name.");
    }
    return verdict(0);
  }

  void tell_place() {
    if (reasons_ == nullptr) return;
    if (facts_.kept_inline) {
      say("Its bytes stand in its own record.");
    } else if (facts_.placement == Placement::guessed) {
      say("Its first cluster is only partly recorded, and was guessed.");
    } else if (facts_.joined != Facts::Joined::no) {
      say("Where its content lay is not recorded. Content found without a name is taken to be its "
          "own, which may be wrong.");
    } else if (facts_.placement == Placement::content) {
      const std::string pieces =
          facts_.stepped == 0 ? "in one piece" : fmt::format("in {} pieces", facts_.stepped + 1);
      say(facts_.state == State::carved
              ? fmt::format("It is known by its content alone, and was found {}.", pieces)
              : fmt::format("Its first cluster is recorded; where the rest lies was found by its "
                            "content, {}.",
                            pieces));
    } else if (facts_.placement == Placement::inferred) {
      say(facts_.stepped == 0
              ? "Its first cluster is recorded; the rest is taken to follow it."
              : fmt::format("Its first cluster is recorded; the rest is taken to follow it, around "
                            "{} place{} that {} in use before.",
                            facts_.stepped, facts_.stepped == 1 ? "" : "s",
                            facts_.stepped == 1 ? "was" : "were"));
    } else {
      say(lost_ ? "Its place is recorded, or it fits into its first cluster."
                : "Its place is recorded by the file system.");
    }
    const bool sought =
        (lost_ || facts_.placement != Placement::exact) && facts_.joined == Facts::Joined::no;
    const uint64_t taken = facts_.of(Cause::overwritten) + facts_.of(Cause::younger) +
                           facts_.of(Cause::in_use) + facts_.of(Cause::not_known) +
                           facts_.of(Cause::behind_source);
    if (sought && !facts_.kept_inline && taken == 0) {
      say("Nothing found has taken its place; that alone is no proof.");
    }
  }

  void tell_scattered() {
    if (facts_.of(Cause::scattered) == 0) return;
    tell(facts_.of(Cause::scattered),
         facts_.entangled ? "may be another file's, which grew beside it at the same time: which "
                            "parts belong to which is not recorded"
                          : "may lie elsewhere: the file was in pieces, and nothing tells where "
                            "they lie");
  }

  void tell_samples() {
    if (reasons_ == nullptr || facts_.kept_inline) return;
    if (!lost_ && facts_.placement == Placement::exact) return;
    const int sampled = std::popcount(facts_.sampled);
    const int blank = std::popcount(facts_.blank);
    if (sampled == 0 && facts_.check) return;
    if (sampled == 0) {
      say("Its content was not looked at.");
    } else if (blank == 0) {
      say(fmt::format("{} sample{} of its content {} not blank.", sampled, sampled == 1 ? "" : "s",
                      sampled == 1 ? "is" : "are"));
    } else {
      say(fmt::format("{} of {} samples of its content read as one repeated byte.", blank,
                      sampled));
    }
    if (facts_.head == HeadMatch::fits) say("It begins like its format.");
  }

  void tell_check() {
    if (reasons_ == nullptr || !facts_.check) return;
    const std::string what = facts_.format.empty() ? "" : fmt::format("As {}, ", facts_.format);
    switch (*facts_.check) {
      case content::Level::verified:
        say(what + "all of it was checked: every checksum in it holds, to its end.");
        break;
      case content::Level::consistent:
        say(facts_.ends_early()
                ? fmt::format("{}what lies there ends at byte {} of {}: it may be a shorter file.",
                              what, facts_.sound_to, *facts_.size)
                : what + "its structure adds up to its end; nothing in it vouches for every byte.");
        if (!facts_.check_why.empty()) say(facts_.check_why);
        break;
      case content::Level::broken:
        say(fmt::format("{}it adds up for {} of {} bytes. {}", what, facts_.sound_to, *facts_.size,
                        facts_.check_why));
        break;
      case content::Level::unknown:
        say(!facts_.check_why.empty() ? facts_.check_why
            : facts_.format.empty()   ? "All of it was read: it is of no format known here."
                                      : what + "nothing tells whether it is whole.");
        break;
    }
  }

  Verdict verdict(uint64_t intact) {
    const uint64_t size = *facts_.size;
    const bool lossy = intact < size;
    if (facts_.certainly_lost() > 0) {
      const bool some = facts_.never() < size;
      return {some ? Rating::partial : Rating::gone, 0, some ? intact : 0};
    }
    if (!lost_ && facts_.placement == Placement::exact) {
      // Who really holds bytes that two living files claim is not settled.
      return lossy ? Verdict{Rating::partial, 40, intact} : Verdict{Rating::whole, 99, size};
    }
    const bool all_blank = facts_.of(Cause::blank) >= size && size > 0;
    if (facts_.of(Cause::unsound) > 0 && !all_blank) return {Rating::partial, kBroken, intact};
    const Odds odds = odds_of(facts_, format_);
    tell_odds(odds);
    const int score = std::min(static_cast<int>(100 * odds.chance), 99);
    if (!lossy && odds.chance >= kWhole && is_vouched_for(facts_))
      return {Rating::whole, score, size};
    if (!lossy && odds.chance >= kLikely) return {Rating::likely, score, size};
    const bool gone = all_blank && format_.blank != Blank::anywhere;
    return {gone ? Rating::gone : Rating::partial,
            std::min(score, static_cast<int>(100 * kLikely) - 1), gone ? 0 : intact};
  }

  void tell_odds(const Odds& odds) {
    if (odds.files == 0) {
      return say("How likely it comes back byte for byte was never measured with such evidence.");
    }
    say(
        fmt::format("Of {} lost files with such evidence, on volumes whose truth is known, {} came "
                    "back byte for byte.",
                    odds.files, odds.same));
  }

  const Facts& facts_;
  const Format& format_;
  std::vector<std::string>* reasons_;
  const bool lost_;
};

}  // namespace

uint64_t Facts::total_lost() const { return std::reduce(lost.begin(), lost.end()); }

uint64_t Facts::never() const {
  return of(Cause::overwritten) + of(Cause::not_known) + of(Cause::behind_source);
}

uint64_t Facts::certainly_lost() const {
  return never() + of(Cause::unreadable) + of(Cause::unread) + of(Cause::undecodable) +
         of(Cause::as_stored);
}

bool is_a_matter_of_odds(const Facts& facts) {
  // What was found by its content and breaks off is its own up to there.
  const bool cut_short =
      facts.state == State::carved && facts.check && *facts.check == content::Level::broken;
  return facts.size && facts.placement != Placement::none && facts.certainly_lost() == 0 &&
         facts.of(Cause::unsound) == 0 && !cut_short &&
         (facts.state != State::live || facts.placement != Placement::exact);
}

Losses doubted_by_odds(const Facts& facts, const Format& format) {
  if (!is_a_matter_of_odds(facts) || odds_of(facts, format).chance >= kLikely) return {};
  const uint64_t from = facts.placement == Placement::inferred ? facts.cluster : 0;
  if (from >= *facts.size) return {};
  return {{from, *facts.size - from, Cause::unproven}};
}

Verdict rate(const Facts& facts, const Format& format, std::vector<std::string>* reasons) {
  return Weighing(facts, format, reasons).run();
}

Losses doubted_by_samples(const Facts& facts, const Format& format, uint64_t size,
                          uint64_t cluster) {
  if (facts.state == State::live || size == 0 || cluster == 0) return {};
  const uint64_t last = (size - 1) / cluster;
  if (facts.blank != 0 && facts.blank == facts.sampled) return {{0, size, Cause::blank}};
  constexpr unsigned kFirst = 1, kMiddle = 2, kLast = 4;
  unsigned doubted = 0;
  switch (format.blank) {
    case Blank::never:
      doubted = facts.blank;
      break;
    case Blank::hardly:
      // Stuffing stands at the end of many.
      doubted = facts.blank & (kFirst | kMiddle);
      if ((doubted & kMiddle) != 0) doubted |= facts.blank & kLast;
      break;
    case Blank::not_at_head:
      doubted = facts.blank & kFirst;
      break;
    case Blank::anywhere:
      break;
  }
  Losses losses;
  if ((doubted & kFirst) != 0) losses.push_back({0, cluster, Cause::blank});
  if ((doubted & kMiddle) != 0) {
    const uint64_t middle = last / 2 * cluster;
    // What is blank in the middle and at the end is taken to be so between.
    losses.push_back({middle, (doubted & kLast) != 0 ? size - middle : cluster, Cause::blank});
  } else if ((doubted & kLast) != 0) {
    losses.push_back({last * cluster, cluster, Cause::blank});
  }
  if (facts.head == HeadMatch::differs && (doubted & kFirst) == 0) {
    losses.push_back({0, cluster, Cause::other_content});
  }
  return losses;
}

std::string_view to_text(Rating rating) {
  constexpr std::array<std::string_view, 4> kTexts = {"whole", "likely", "partial", "gone"};
  return kTexts[static_cast<size_t>(rating)];
}

}  // namespace undershelf
