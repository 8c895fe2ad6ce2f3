#include "carving/find.h"

#include <algorithm>
#include <array>
#include <map>
#include <set>

#include "model/range.h"

namespace undershelf::carving {

bool may_hold_others(std::string_view format) {
  using namespace std::string_view_literals;
  static constexpr std::array kPlain = {
      "bmp"sv,     "wav"sv,  "aiff"sv, "gif"sv,  "midi"sv, "mp3"sv, "aac"sv,   "mpeg-ps"sv,
      "mpeg-ts"sv, "html"sv, "xml"sv,  "json"sv, "svg"sv,  "rtf"sv, "vcard"sv, "icalendar"sv};
  return std::ranges::find(kPlain, format) == kPlain.end();
}

bool parts_begin_alike(std::string_view format) { return format == "tar"; }

bool may_go_on(const Find& find) {
  return !find.named && !content::tells_its_end(find.found.format.data());
}

namespace {

// The ranges that finds hold, to be asked for what overlaps another.
class Held {
 public:
  void add(const Find& find) {
    for (const Piece& piece : find.pieces) held_[piece.offset] = {piece.length, &find};
  }
  void remove(const Find& find) {
    for (const Piece& piece : find.pieces) held_.erase(piece.offset);
  }
  // Those that share bytes with it.
  std::set<const Find*> sharing(const Find& find) const {
    std::set<const Find*> sharing;
    for (const Piece& piece : find.pieces) {
      auto next = held_.upper_bound(piece.offset);
      if (next != held_.begin() &&
          std::prev(next)->first + std::prev(next)->second.first > piece.offset) {
        sharing.insert(std::prev(next)->second.second);
      }
      for (; next != held_.end() && next->first < piece.offset + piece.length; ++next) {
        sharing.insert(next->second.second);
      }
    }
    return sharing;
  }

 private:
  std::map<uint64_t, std::pair<uint64_t, const Find*>> held_;
};

bool holds_all_of(const Find& whole, const Find& part) {
  return std::ranges::all_of(part.pieces, [&](const Piece& inner) {
    return std::ranges::any_of(whole.pieces, [&](const Piece& outer) {
      return outer.offset <= inner.offset &&
             inner.offset + inner.length <= outer.offset + outer.length;
    });
  });
}

// Whether `first`, which begins before the other, is kept rather than that.
bool is_kept(const Find& first, const Find& other) {
  if (holds_all_of(first, other)) {
    return first.is_verified() || !other.is_verified() ||
           may_hold_others(first.found.format.data());
  }
  if (first.is_verified() != other.is_verified()) return first.is_verified();
  // A chain reaches a little into what follows its pieces.
  if (may_go_on(first) != may_go_on(other)) return may_go_on(other);
  return first.length >= other.length;
}

}  // namespace

void settle(Finds& finds) {
  std::ranges::sort(finds, {}, [](const auto& find) {
    return std::tuple(find->start, -find->length, !find->named);
  });
  Held held;
  std::set<const Find*> lost;
  for (const auto& find : finds) {
    const std::set<const Find*> others = held.sharing(*find);
    const bool loses =
        std::ranges::any_of(others, [&](const Find* other) { return is_kept(*other, *find); });
    if (loses) {
      lost.insert(find.get());
      continue;
    }
    for (const Find* other : others) {
      held.remove(*other);
      lost.insert(other);
    }
    held.add(*find);
  }
  std::erase_if(finds, [&](const auto& find) { return lost.contains(find.get()); });
}

void drop_copies(Finds& finds, std::set<std::string> named) {
  for (const auto& find : finds) {
    if (find->named) named.insert(find->found.sha256.data());
  }
  std::erase_if(finds, [&](const auto& find) {
    return !find->named && find->found.hashed != 0 &&
           !named.insert(find->found.sha256.data()).second;
  });
}

}  // namespace undershelf::carving
