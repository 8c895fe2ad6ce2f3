#include "fs/ntfs/fragments.h"

#include <algorithm>
#include <map>
#include <string>

#include "content/types.h"
#include "fs/ntfs/file.h"
#include "fs/ntfs/runs.h"
#include "fs/trace_kinds.h"
#include "model/text.h"

namespace undershelf::ntfs {
namespace {

constexpr size_t kMostFiles = 20'000;  // looked at for their format, of each fragment

// The cluster numbers of an attribute's first run, from VCN 0 on.
std::optional<ByteRange> first_run(const Attribute& attribute) {
  const auto part = attribute.non_resident();
  if (!part || part->lowest_vcn.value() != 0) return std::nullopt;
  // Decoded in units of one byte, places are cluster numbers.
  const Runs runs = decode_runs(attribute, *part, {0, 1, 1ULL << 62});
  if (runs.pieces.empty() || runs.pieces[0].kind != Piece::Kind::range) return std::nullopt;
  return ByteRange{runs.pieces[0].offset, runs.pieces[0].length};
}

class Finder {
 public:
  Finder(const Scene& scene, const FreeNames& names) : scene_(scene), names_(names) {}

  Fragments run() {
    gather();
    for (Fragment& fragment : found_.all) study(fragment);
    split_generations();
    return std::move(found_);
  }

 private:
  // Sorts records into fragments.
  void gather() {
    std::map<std::pair<int64_t, uint32_t>, size_t> by_base;
    const std::span<const Trace> runs = scene_.of_kind(kRecords);
    for (const Trace& run : runs) found_.records += run.length / run.other;
    const uint64_t most_number = std::max<uint64_t>(kMostNumber, 8 * found_.records);
    for (const Trace& run : runs) {
      if (run.number == kNoNumber) continue;
      const auto size = static_cast<uint32_t>(run.other);
      for (uint64_t i = 0; i < run.length / size; ++i) {
        const Placed record{run.number + i, run.offset + i * size};
        if (record.number >= most_number || scene_.is_held({record.place, size})) continue;
        const auto base =
            static_cast<int64_t>(record.place) - static_cast<int64_t>(record.number * size);
        const auto [known, fresh] = by_base.try_emplace({base, size}, found_.all.size());
        if (fresh) {
          found_.all.emplace_back();
          found_.all.back().base = base;
          found_.all.back().record_size = size;
        }
        found_.all[known->second].records.push_back(record);
      }
    }
  }

  // Reads the records of a fragment for what they tell of the layout.
  void study(Fragment& fragment) {
    fragment.pins.clear();
    fragment.files.clear();
    std::vector<std::byte> bytes(fragment.record_size);
    for (Placed& found : fragment.records) {
      if (!scene_.source->read(found.place, bytes).ok()) continue;
      const std::optional<Record> record = parse_record(bytes);
      if (!record) continue;
      std::string name;
      each_attribute(*record, [&](const Attribute& attribute) {
        if (attribute.type() == kFileName) {
          const auto found_name = parse_file_name(attribute.value());
          if (!found_name) return;
          found.made = found_name->created;
          if (found_name->name_space != kDos) name = to_utf8(found_name->text);
        } else if (attribute.type() == kIndexAllocation && attribute.name == u"$I30") {
          add_pins(fragment, found.number, attribute);
        } else if (attribute.type() == kData && attribute.name.empty()) {
          add_data(fragment, found, name, attribute);
        }
      });
    }
  }

  // A folder's run list says in clusters where its blocks lie; each block says whose it is.
  void add_pins(Fragment& fragment, uint64_t folder, const Attribute& attribute) {
    const auto blocks = names_.blocks().find(folder);
    const std::optional<ByteRange> run = first_run(attribute);
    if (!run || blocks == names_.blocks().end()) return;
    for (const FreeNames::Block& block : blocks->second) {
      if (block.vcn < run->length) {
        fragment.pins.push_back({run->offset + block.vcn, block.names.range.offset});
      }
    }
  }

  void add_data(Fragment& fragment, const Placed& record, const std::string& name,
                const Attribute& attribute) {
    const std::optional<ByteRange> run = first_run(attribute);
    if (!run) return;
    // The records of $MFT and $MFTMirr say where each begins. Which of the two this record lies in
    // is not known: of both readings, only the true one agrees with others.
    if ((record.number == kMft && name == "$MFT") ||
        (record.number == kMftMirr && name == "$MFTMirr")) {
      if (fragment.base >= 0) {
        found_.table_pins.push_back({run->offset, static_cast<uint64_t>(fragment.base)});
      }
      return;
    }
    const Format& format = format_by_name(name);
    if (!format.magic.empty() && fragment.files.size() < kMostFiles) {
      fragment.files.push_back({run->offset, &format});
    }
  }

  // A table that was made anew over the beginning of an older one of the same place is two.
  void split_generations() {
    std::vector<Fragment> whole;
    for (Fragment& fragment : found_.all) {
      const size_t cut = beginning_of_older(fragment.records);
      if (cut == 0) {
        whole.push_back(std::move(fragment));
        continue;
      }
      Fragment older{fragment.base, fragment.record_size, {}, {}, {}};
      older.records.assign(fragment.records.begin() + static_cast<ptrdiff_t>(cut),
                           fragment.records.end());
      fragment.records.resize(cut);
      for (Fragment* one : {&fragment, &older}) {
        study(*one);
        whole.push_back(std::move(*one));
      }
    }
    found_.all = std::move(whole);
  }

  // The first record of the older table: all before it are younger than it and those behind it.
  // (Within one life, records with higher numbers are.) 0: there is but one table.
  static size_t beginning_of_older(std::span<const Placed> records) {
    constexpr size_t kLeast = 3;  // records with a time, on either side
    const size_t count = records.size();
    std::vector<Time> oldest_before(count + 1, Time{INT64_MAX});
    std::vector<size_t> timed(count + 1, 0);
    for (size_t i = 0; i < count; ++i) {
      const std::optional<Time>& made = records[i].made;
      oldest_before[i + 1] = std::min(oldest_before[i], made.value_or(Time{INT64_MAX}));
      timed[i + 1] = timed[i] + made.has_value();
    }
    Time youngest{INT64_MIN};
    size_t cut = 0;
    for (size_t i = count; i-- > 1;) {
      const std::optional<Time>& made = records[i].made;
      if (made) youngest = std::max(youngest, *made);
      const bool enough = timed[i] >= kLeast && timed[count] - timed[i] >= kLeast;
      if (enough && made && youngest < oldest_before[i]) cut = i;
    }
    return cut;
  }

  const Scene& scene_;
  const FreeNames& names_;
  Fragments found_;
};

}  // namespace

Fragments find_fragments(const Scene& scene, const FreeNames& names) {
  return Finder(scene, names).run();
}

}  // namespace undershelf::ntfs
