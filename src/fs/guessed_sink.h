// Between a reader and its sink, where nothing tells where the clusters of a volume lie: what it
// says of places is a guess.
#pragma once

#include <algorithm>

#include "model/sink.h"

namespace undershelf {

class GuessedSink : public Sink {
 public:
  explicit GuessedSink(Sink& to) : to_(to) {}
  EntryId add(const Entry& entry) override {
    Entry guessed = entry;
    for (Stream& stream : guessed.streams) {
      const bool in_clusters = std::ranges::any_of(
          stream.pieces, [](const Piece& piece) { return piece.kind == Piece::Kind::range; });
      if (in_clusters) stream.placement = Placement::guessed;
    }
    guessed.structures.clear();
    return to_.add(guessed);
  }
  void add(EntryId entry, const OtherName& name) override { to_.add(entry, name); }
  void add(const Damage& damage) override { to_.add(damage); }

 private:
  Sink& to_;
};

}  // namespace undershelf
