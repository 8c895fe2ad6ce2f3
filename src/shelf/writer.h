// The sink that writes rows: what readers push becomes entries, streams and evidence in the shelf.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <string_view>

#include "model/ids.h"
#include "model/sink.h"
#include "shelf/shelf.h"

namespace undershelf {

// What tells of the rows that are written: a volume's own structures, or the traces of a sweep.
// What a sweep told of is written anew when more of the source was looked at, or when the volume
// tells of it itself.
enum class ToldBy { volume, sweep };

// How a living stream of so many bytes is rated, of which nothing is in doubt. Most are: they are
// stored as such at once, so that the rating pass need not write them again.
struct StoredRating {
  std::string_view rating;  // a literal: it is bound without a copy
  int score = 0;
};
using RateSound = std::function<StoredRating(uint64_t bytes)>;

// Files by their types, as their names tell them, in the order of type_names().
using FilesByType = std::array<uint64_t, 8>;

// Where a volume that is written lies, and what tells of it.
struct Origin {
  SpaceId space = SpaceId::source;  // VolumeRecord::space
  ToldBy by = ToldBy::volume;
  // Told now and then, and at the end, how many files were written. May be empty.
  std::function<void(const FilesByType&)> found = {};
};

// Writes one volume's entries, in short transactions. A volume or entry that the shelf already
// holds (same place and file system; same key) keeps its row and id; if it came from a sweep that
// was not at its end, only the id, as more is known now.
class VolumeWriter : public Sink {
 public:
  VolumeWriter(Shelf& shelf, const Volume& volume, RateSound rate_sound = {},
               const Origin& origin = {});
  ~VolumeWriter() override;
  EntryId add(const Entry& entry) override;  // returns its id
  void add(EntryId entry, const OtherName& name) override;
  // Of a volume the first places are kept, and how many more there were.
  void add(const Damage& damage) override;
  void finish();  // commits what is pending; to be called once
  VolumeId volume_id() const;

 private:
  static constexpr uint64_t kMostDamage = 10'000;  // places kept of a volume
  struct Rows;
  void write(const Damage& damage);
  const uint64_t offset_;  // of the volume: byte of its space
  std::unique_ptr<Rows> rows_;
};

}  // namespace undershelf
