#include "rating/odds.h"

#include <algorithm>
#include <cmath>
#include <iterator>
#include <numeric>

namespace undershelf {
namespace {

// From `log_odds` on, files have these odds.
struct Step {
  double log_odds;
  Odds odds;
};

#include "rating/odds_table.inc"

// What looking at all of a stream gave.
Clue clue_of_check(const Facts& facts, const Format& format) {
  if (!facts.check) return Clue::not_checked;
  switch (*facts.check) {
    case content::Level::verified:
      return Clue::verified;
    case content::Level::broken:
      return Clue::broken;
    case content::Level::consistent:
      if (facts.ends_early()) return Clue::shorter;
      return facts.notices_foreign_clusters() ? Clue::consistent_noticing : Clue::consistent;
    case content::Level::unknown:
      break;
  }
  const bool other_by_name = !format.extension.empty() && !is_text(format);
  if (facts.format.empty()) return other_by_name ? Clue::unrecognised : Clue::not_vouched;
  if (facts.format != "text") return Clue::not_vouched;
  return other_by_name ? Clue::text_under_other_name : Clue::text;
}

}  // namespace

Clues clues_of(const Facts& facts, const Format& format) {
  Clues clues{};
  const auto set = [&](Clue clue, bool is_so) { clues[static_cast<size_t>(clue)] = is_so ? 1 : 0; };
  if (facts.is_verified()) {
    // Wherever it lay, and whoever else claims it.
    set(Clue::verified, true);
    return clues;
  }
  // What content led to is where it adds up, in as many pieces as that takes.
  const bool by_content = facts.placement == Placement::content;
  set(Clue::inferred, facts.placement == Placement::inferred);
  set(Clue::guessed, facts.placement == Placement::guessed);
  set(Clue::stepped, facts.stepped > 0 && !by_content);
  set(Clue::scattered, facts.entangled || facts.of(Loss::Cause::scattered) > 0);
  set(Clue::former, facts.state == State::former);
  set(Clue::unsure_proof, facts.proof == Proof::unsure);
  set(Clue::old_proof, facts.proof == Proof::old);
  set(Clue::kept_inline, facts.kept_inline);
  set(Clue::empty, facts.size == 0U);
  if (!facts.kept_inline && facts.size.value_or(0) > 0 && facts.cluster > 0) {
    const uint64_t clusters = (*facts.size - 1) / facts.cluster + 1;
    clues[static_cast<size_t>(Clue::clusters)] = std::log2(static_cast<double>(clusters)) / 8;
  }
  set(Clue::rivalled, facts.rivalled > 0);
  set(Clue::younger, facts.of(Loss::Cause::younger) > 0);
  set(Clue::in_use, facts.of(Loss::Cause::in_use) > 0);
  set(Clue::disputed, facts.of(Loss::Cause::disputed) > 0);
  set(Clue::some_blank, facts.blank != 0);
  set(Clue::all_blank, facts.blank != 0 && facts.blank == facts.sampled);
  set(Clue::doubted_blank, facts.of(Loss::Cause::blank) > 0);
  set(Clue::head_fits, facts.head == HeadMatch::fits);
  set(Clue::head_differs, facts.head == HeadMatch::differs);
  if (facts.size != 0U) {
    const Clue found = clue_of_check(facts, format);
    set(found, true);
    const bool text = found == Clue::text;
    set(Clue::text_may_have_grown, text && facts.proof != Proof::last);
    set(Clue::text_inferred, text && facts.placement == Placement::inferred);
  }
  set(Clue::other_format, facts.of(Loss::Cause::other_content) > 0);
  return clues;
}

namespace {

// Of files that are known by their content alone. None is among those fitted, as nothing but their
// content speaks for them: counted on lives and on cards, each as docs/recovery/content.md says.
Odds odds_of_carved(const Facts& facts) {
  constexpr Odds kVouched{0.996, 502, 502}, kConsistent{0.98, 322, 321}, kEndUnsure{0.6, 50, 30};
  constexpr double kCutShort = 0.01;
  if (facts.is_verified()) return kVouched;
  if (facts.check != content::Level::consistent) return {kCutShort, 0, 0};
  const bool noticing = facts.notices_foreign_clusters() && content::tells_its_end(facts.format);
  if (noticing) return kVouched;
  return facts.end_unsure ? kEndUnsure : kConsistent;
}

// Whether the content is that of the name: counted on lives too. The content itself is sound.
Odds odds_of_joined(const Facts& facts) {
  if (facts.end_unsure) return odds_of_carved(facts);
  switch (facts.joined) {
    case Facts::Joined::by_size:
      return {0.98, 127, 126};
    case Facts::Joined::by_order:
      return {0.97, 311, 302};
    case Facts::Joined::by_kind:
      return {0.95, 41, 39};
    default:
      return {0.83, 23, 19};
  }
}

}  // namespace

Odds odds_of(const Facts& facts, const Format& format) {
  if (facts.joined != Facts::Joined::no) return odds_of_joined(facts);
  if (facts.state == State::carved) return odds_of_carved(facts);
  constexpr double kNotMeasured = 0.5;
  const Clues clues = clues_of(facts, format);
  const double log_odds =
      std::inner_product(clues.begin(), clues.end(), std::begin(kWeights), kIntercept);
  const auto* behind = std::ranges::upper_bound(kSteps, log_odds, {}, &Step::log_odds);
  const Odds odds = (behind == std::begin(kSteps) ? behind : std::prev(behind))->odds;
  for (size_t i = 0; i < kClues; ++i) {
    if (clues[i] > 0 && !kSeen[i]) return {std::min(odds.chance, kNotMeasured), 0, 0};
  }
  return odds;
}

bool is_vouched_for(const Facts& facts) {
  if (facts.joined != Facts::Joined::no) return false;
  if (facts.is_verified()) return true;
  if (facts.state == State::carved && !content::tells_its_end(facts.format)) return false;
  if (facts.proof == Proof::last && (facts.kept_inline || facts.size == 0U)) return true;
  return facts.notices_foreign_clusters() && !facts.ends_early();
}

}  // namespace undershelf
