#include "scan/survey.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "scan/probe.h"

namespace undershelf {

bool Survey::has_volume_in(int partition) const {
  return std::ranges::any_of(volumes,
                             [&](const FoundVolume& v) { return v.partition == partition; });
}

namespace {

ByteRange range_of(const VolumeReader& reader) {
  return {reader.volume().offset, reader.volume().length};
}

class Surveyor {
 public:
  Surveyor(const SourcePtr& source, const ReadOptions& options, const NameOther& name_other)
      : source_(source), name_other_(name_other), with_header_(options), headless_(options) {
    with_header_.headless = false;
    headless_.headless = true;
  }

  // `guess`: where no header tells of a volume, one without is looked for.
  Survey run(bool guess) {
    read_map();
    const bool whole = found_.volumes.empty() && take({0, source_->size()}, with_header_, 0);
    if (whole) found_.layout = {};  // a boot sector ends like a map
    note_ends();
    look_into_partitions();
    look_between();
    if (guess) look_for_headless();
    find_others();
    std::ranges::stable_sort(found_.volumes, {}, [](const FoundVolume& volume) {
      return volume.reader->volume().offset;
    });
    return std::move(found_);
  }

 private:
  // Whether a volume was found there.
  bool take(const ByteRange& where, const ReadOptions& how, int partition) {
    auto reader = open_volume({source_, where, how});
    if (!reader) return false;
    found_.volumes.push_back({std::move(reader), partition});
    return true;
  }

  // An image does not tell in which sectors its map counts: those in which volumes are found.
  void read_map() {
    for (const uint32_t sector_size : {512U, 4096U}) {
      const Layout layout = read_layout(*source_, sector_size);
      if (layout.scheme == "none") continue;
      if (found_.layout.scheme == "none") found_.layout = layout;
      for (const Partition& partition : layout.partitions) {
        if (!partition.container) take(partition.range, with_header_, partition.number);
      }
      if (found_.volumes.empty()) continue;
      found_.layout = layout;
      return;
    }
  }

  void note_ends() {
    for (const FoundVolume& volume : found_.volumes) {
      const Volume& v = volume.reader->volume();
      const uint64_t end = v.offset + v.length;
      for (const Partition& partition : found_.layout.partitions) {
        if (partition.number != volume.partition || end <= partition.range.end()) continue;
        note(
            "The {} volume in partition {} ends {} bytes behind the partition: the map was changed "
            "after the volume was made, or is wrong.",
            spelled(v.file_system), partition.number, end - partition.range.end());
      }
    }
  }

  // Volumes that begin inside a partition in which none begins at its start: the map was made anew
  // with another alignment.
  void look_into_partitions() {
    for (const Partition& partition : found_.layout.partitions) {
      if (partition.container || found_.has_volume_in(partition.number)) continue;
      const ByteRange inside = overlap(partition.range, {0, source_->size()});
      if (inside.length == 0 || is_others(partition.range)) continue;
      Probed probed = volumes_in(source_, inside, with_header_);
      for (auto& reader : probed.found) {
        const Volume& v = reader->volume();
        note(
            "A {} volume begins at byte {}, inside partition {}, and not at its start: the map was "
            "changed after the volume was made, or is wrong.",
            spelled(v.file_system), v.offset, partition.number);
        found_.volumes.push_back({std::move(reader), partition.number});
      }
    }
  }

  // What the map does not tell of.
  void look_between() {
    std::vector<ByteRange> taken;
    for (const Partition& partition : found_.layout.partitions) {
      if (!partition.container) taken.push_back(partition.range);
    }
    for (const FoundVolume& volume : found_.volumes) taken.push_back(range_of(*volume.reader));
    const bool mapped = !found_.layout.partitions.empty();
    const std::string other =
        !mapped && found_.volumes.empty() ? other_in({0, source_->size()}) : std::string();
    Probed probed = volumes_in_gaps(source_, taken, with_header_);
    for (auto& reader : probed.found) {
      const Volume& v = reader->volume();
      if (other.empty()) {
        note("A {} volume at byte {} lies in no partition: {}.", spelled(v.file_system), v.offset,
             mapped ? "its partition was deleted, or the map is wrong"
                    : "the partition map is lost");
      } else {
        note("A {} volume at byte {} lies inside what looks like {}.", spelled(v.file_system),
             v.offset, other);
      }
      found_.volumes.push_back({std::move(reader), 0});
    }
    for (const Volume& v : probed.reaching) {
      note(
          "At byte {} stands the header of an earlier {} volume{} that reaches into what lies "
          "behind it now. A deep scan finds what is left of it.",
          v.offset, spelled(v.file_system), v.label.empty() ? "" : " " + v.label);
    }
  }

  // A guess never beats a header that is really there, nor what another system's header says.
  void look_for_headless() {
    for (const Partition& partition : found_.layout.partitions) {
      if (partition.container || found_.has_volume_in(partition.number)) continue;
      if (is_others(partition.range)) continue;
      take(partition.range, headless_, partition.number);
    }
    if (!found_.layout.partitions.empty() || !found_.volumes.empty()) return;
    const ByteRange all{0, source_->size()};
    if (!is_others(all)) take(all, headless_, 0);
  }

  // The name of a system without a reader there; each place is looked at once.
  const std::string& other_in(const ByteRange& where) {
    const auto [known, fresh] = others_.try_emplace({where.offset, where.length});
    if (fresh) known->second = name_other_(where);
    return known->second;
  }
  bool is_others(const ByteRange& where) { return !other_in(where).empty(); }

  // Partitions, or the whole, that neither a volume nor a guess was taken for.
  void find_others() {
    for (const Partition& partition : found_.layout.partitions) {
      if (partition.container || found_.has_volume_in(partition.number)) continue;
      if (is_others(partition.range)) found_.held_by_others.push_back(partition.range);
    }
    const ByteRange all{0, source_->size()};
    const bool mapped = !found_.layout.partitions.empty();
    const bool whole = std::ranges::any_of(found_.volumes, [](const FoundVolume& volume) {
      return volume.reader->volume().offset == 0;
    });
    if (!mapped && !whole && is_others(all)) found_.held_by_others.push_back(all);
  }

  template <typename... Values>
  void note(fmt::format_string<Values...> form, Values&&... values) {
    found_.layout.notes.push_back(fmt::format(form, std::forward<Values>(values)...));
  }

  const SourcePtr& source_;
  const NameOther& name_other_;
  std::map<std::pair<uint64_t, uint64_t>, std::string> others_;  // by offset and length
  ReadOptions with_header_, headless_;
  Survey found_;
};

}  // namespace

Survey survey(const SourcePtr& source, const ReadOptions& options, const NameOther& name_other) {
  return Surveyor(source, options, name_other).run(true);
}

Survey survey_image(const SourcePtr& file, const ReadOptions& options) {
  const NameOther none = [](const ByteRange&) { return std::string(); };
  return Surveyor(file, options, none).run(false);
}

}  // namespace undershelf
