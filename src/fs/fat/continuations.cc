#include "fs/fat/continuations.h"

#include <algorithm>
#include <array>
#include <map>
#include <queue>
#include <set>

namespace undershelf::fat {
namespace {

constexpr int64_t kNoMoment = INT64_MIN;
// Of those made after an end, of those made before it, and of those named alike: how many are
// weighed. One that is taken by a better end leaves room for the next.
constexpr size_t kWeighedAfter = 32;
constexpr size_t kWeighedBefore = 8;
constexpr size_t kWeighedAlike = 8;

// When the file of an 8.3 entry was made; where no driver noted that, when it was changed.
int64_t moment_of(const DirectoryEntry& entry) {
  std::optional<Time> time = created_time(entry);
  if (!time) time = modified_time(entry);
  return time ? time->ticks / kTicksPerSecond : kNoMoment;
}

// An 8.3 name without its first letter, which deletion takes, and without its numbers.
using Pattern = std::array<char, 10>;
Pattern pattern_of(const DirectoryEntry& entry) {
  Pattern pattern{};
  std::ranges::transform(std::span(entry.DIR_Name).subspan(1), pattern.begin(), [](u8 letter) {
    return letter >= '0' && letter <= '9' ? '#' : static_cast<char>(letter);
  });
  return pattern;
}

bool same_extension(const Pattern& a, const Pattern& b) {
  return std::equal(a.end() - 3, a.end(), b.end() - 3);
}

// How little speaks for a pair: less is better. The kind of step counts before all else.
struct Cost {
  Step step = Step::none;
  double weight = 0;
  bool operator<(const Cost& other) const {
    return step != other.step ? step > other.step : weight < other.weight;
  }
};

class Matcher {
 public:
  Matcher(const std::vector<FolderEnd>& ends, const std::vector<Inside>& insides)
      : insides_(insides), taken_(insides.size()) {
    facts_.reserve(insides.size());
    for (const Inside& inside : insides) {
      facts_.push_back({moment_of(inside.head.back()), pattern_of(inside.head.back())});
      enter(facts_.size() - 1);
    }
    for (const FolderEnd& end : ends) ends_.push_back(end);
    for (size_t i = 0; i < ends_.size(); ++i) weigh(i);
  }

  std::unordered_map<uint32_t, std::vector<uint32_t>> run() {
    std::unordered_map<uint32_t, std::vector<uint32_t>> found;
    while (!pairs_.empty()) {
      const Pair pair = pairs_.top();
      pairs_.pop();
      if (!taken_[pair.inside]) {
        take(pair.inside);
        const Inside& inside = insides_[pair.inside];
        FolderEnd& end = ends_[pair.end];
        found[end.folder].push_back(inside.cluster);
        if (inside.tail.empty()) continue;
        end.last = inside.cluster;
        end.tail = inside.tail;
      }
      weigh(pair.end);
    }
    return found;
  }

 private:
  using ByMoment = std::set<std::pair<int64_t, size_t>>;  // indexes of insides
  struct Facts {
    int64_t moment = kNoMoment;
    Pattern pattern{};
  };
  struct Pair {
    Cost cost;
    size_t end = 0, inside = 0;
    bool operator<(const Pair& other) const { return other.cost < cost; }
  };

  void enter(size_t i) {
    const DirectoryEntry& first = insides_[i].head.front();
    if (is_long_slot(first)) {
      completing_[reinterpret_cast<const LongEntry&>(first).LDIR_Chksum].push_back(i);
    } else if (first.DIR_Name[0] != kDeleted) {
      completing_[checksum(std::span<const u8, 11>(first.DIR_Name))].push_back(i);
    } else {
      completing_any_.push_back(i);  // the lost letter leaves the checksum open
    }
    if (begins_within_name(first)) return;
    const std::pair key(facts_[i].moment, i);
    by_moment_.insert(key);
    by_pattern_[facts_[i].pattern].insert(key);
    if (insides_[i].parent) by_parent_[*insides_[i].parent].insert(key);
  }

  void take(size_t i) {
    taken_[i] = true;
    const std::pair key(facts_[i].moment, i);
    by_moment_.erase(key);
    by_pattern_[facts_[i].pattern].erase(key);
    if (insides_[i].parent) by_parent_[*insides_[i].parent].erase(key);
  }

  // Puts the best pair of an end into the queue, if it has any.
  void weigh(size_t end) {
    std::optional<Pair> best;
    const auto consider = [&](size_t inside) {
      const Pair pair{cost(ends_[end], inside), end, inside};
      if (pair.cost.step != Step::none && (!best || pair.cost < best->cost)) best = pair;
    };
    const DirectoryEntry& last = ends_[end].tail.back();
    if (is_long_slot(last)) {
      const u8 sum = reinterpret_cast<const LongEntry&>(last).LDIR_Chksum;
      for (std::vector<size_t>* candidates : {&completing_[sum], &completing_any_}) {
        std::erase_if(*candidates, [&](size_t inside) { return taken_[inside]; });
        std::ranges::for_each(*candidates, consider);
      }
    } else {
      const int64_t moment = moment_of(ends_[end].tail.front());
      around(by_moment_, moment, kWeighedAfter, kWeighedBefore, consider);
      const auto alike = by_pattern_.find(pattern_of(ends_[end].tail.front()));
      if (alike != by_pattern_.end()) around(alike->second, moment, kWeighedAlike, 1, consider);
      const auto told = by_parent_.find(ends_[end].folder);
      if (told != by_parent_.end()) {
        around(told->second, moment, kWeighedAfter, kWeighedBefore, consider);
      }
    }
    if (best) pairs_.push(*best);
  }

  template <typename Consider>
  static void around(const ByMoment& of, int64_t moment, size_t after, size_t before,
                     const Consider& consider) {
    const auto middle = of.lower_bound({moment, 0});
    auto next = middle;
    for (size_t n = 0; n < after && next != of.end(); ++n) consider((next++)->second);
    next = middle;
    for (size_t n = 0; n < before && next != of.begin(); ++n) consider((--next)->second);
  }

  Cost cost(const FolderEnd& end, size_t index) const {
    const Inside& inside = insides_[index];
    Step step = step_between(end.tail, inside.head);
    if (step != Step::none && inside.parent) {
      step = *inside.parent == end.folder ? Step::proven : Step::none;
    }
    if (step == Step::none) return {};
    constexpr double kUnknown = 1e9;  // seconds
    constexpr double kEarlier = 16, kClusterBefore = 4, kSameType = 4, kOtherType = 16;
    const Facts& facts = facts_[index];
    const int64_t ended = moment_of(end.tail.front());
    double weight = kUnknown;
    if (ended != kNoMoment && facts.moment != kNoMoment) {
      const auto gap = static_cast<double>(facts.moment - ended);
      weight = gap < 0 ? -gap * kEarlier : gap;
    }
    weight += 1;
    if (inside.cluster < end.last) weight *= kClusterBefore;
    const Pattern pattern = pattern_of(end.tail.front());
    if (pattern != facts.pattern) {
      weight *= same_extension(pattern, facts.pattern) ? kSameType : kOtherType;
    }
    // Of those alike the nearest one.
    const auto apart = static_cast<double>(static_cast<int64_t>(inside.cluster) - end.last);
    return {step, weight + std::abs(apart) / UINT32_MAX};
  }

  const std::vector<Inside>& insides_;
  std::vector<Facts> facts_;  // of each inside's first 8.3 entry
  std::vector<bool> taken_;
  std::vector<FolderEnd> ends_;
  std::array<std::vector<size_t>, 256> completing_;  // by the checksum of the name they begin with
  std::vector<size_t> completing_any_;
  ByMoment by_moment_;
  std::map<Pattern, ByMoment> by_pattern_;
  std::unordered_map<uint32_t, ByMoment> by_parent_;
  std::priority_queue<Pair> pairs_;
};

}  // namespace

std::vector<DirectoryEntry> tail_of(std::span<const DirectoryEntry> entries) {
  const auto last = std::find_if_not(entries.rbegin(), entries.rend(), is_long_slot);
  const auto from = last == entries.rend() ? entries.begin() : last.base() - 1;
  return {from, entries.end()};
}

std::vector<DirectoryEntry> head_of(std::span<const DirectoryEntry> entries) {
  const auto first = std::ranges::find_if_not(entries, is_long_slot);
  return {entries.begin(), first == entries.end() ? first : first + 1};
}

std::unordered_map<uint32_t, std::vector<uint32_t>> find_continuations(
    const std::vector<FolderEnd>& ends, const std::vector<Inside>& insides) {
  return Matcher(ends, insides).run();
}

}  // namespace undershelf::fat
