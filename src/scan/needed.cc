#include "scan/needed.h"

#include <algorithm>
#include <memory>
#include <new>
#include <stdexcept>

#include "source/metered.h"

namespace undershelf {
namespace {

// Takes entries, and forgets them.
class Forgetting : public Sink {
 public:
  explicit Forgetting(Budget& budget) : budget_(budget) {}
  EntryId add(const Entry&) override {
    budget_.row();
    return static_cast<EntryId>(++last_);
  }
  void add(EntryId, const OtherName&) override { budget_.row(); }
  void add(const Damage&) override { budget_.row(); }

 private:
  Budget& budget_;
  int64_t last_ = 0;
};

// Calls `visit` with each volume; one that fails, fails alone.
template <typename Visit>
size_t each_volume(const SourcePtr& source, const NameOther& name_other, Budget& budget,
                   Visit visit) {
  budget.begin({});
  const SourcePtr metered = std::make_shared<MeteredSource>(source, budget);
  const Survey found = survey(metered, {}, name_other);
  for (const FoundVolume& volume : found.volumes) {
    budget.begin(limits_of_reading(source->size()));
    try {
      visit(*volume.reader);
    } catch (const Overspent&) {
    } catch (const std::bad_alloc&) {
    } catch (const std::logic_error&) {
    }
  }
  return found.volumes.size();
}

}  // namespace

Budget::Limits limits_of_reading(uint64_t source_size) {
  constexpr uint64_t kGiB = uint64_t{1} << 30;
  const uint64_t size = std::min(source_size, UINT64_MAX / 8);  // of what may be declared sparse
  return {4 * size + kGiB, size / 8 + 1'000'000, UINT64_MAX};
}

size_t read_structures(const SourcePtr& source, const NameOther& name_other, Budget& budget) {
  return each_volume(source, name_other, budget, [&](VolumeReader& reader) {
    reader.used_bytes();
    Forgetting sink(budget);
    reader.read(sink);
  });
}

std::vector<ByteRange> used_ranges(const SourcePtr& source, const NameOther& name_other,
                                   Budget& budget) {
  std::vector<ByteRange> used;
  each_volume(source, name_other, budget, [&](VolumeReader& reader) {
    const Volume& volume = reader.volume();
    const uint64_t end = std::min(volume.offset + volume.length, source->size());
    for (uint64_t at = volume.offset; at < end;) {
      budget.step();
      const ByteRange next = reader.next_used({at, end - at});
      if (next.length == 0) break;
      used.push_back(next);
      at = next.end();
    }
    for (const ByteRange& range : volume.structures) used.push_back(range);
  });
  std::ranges::sort(used, {}, &ByteRange::offset);
  return used;
}

}  // namespace undershelf
