// Numbers of rows in the shelf, each of its own type: none can be taken for another.
#pragma once

#include <cstdint>

namespace undershelf {

enum class VolumeId : int64_t { none = 0 };
enum class EntryId : int64_t { none = 0 };
enum class StreamId : int64_t { none = 0 };

// What a volume lies on: the source, or a living disk image, which has the number of its entry.
enum class SpaceId : int64_t { source = 0 };
constexpr SpaceId space_on(EntryId image) { return static_cast<SpaceId>(image); }
constexpr EntryId image_of(SpaceId space) { return static_cast<EntryId>(space); }  // none: source

// As it is stored and shown.
constexpr int64_t number_of(VolumeId id) { return static_cast<int64_t>(id); }
constexpr int64_t number_of(EntryId id) { return static_cast<int64_t>(id); }
constexpr int64_t number_of(StreamId id) { return static_cast<int64_t>(id); }
constexpr int64_t number_of(SpaceId id) { return static_cast<int64_t>(id); }

// For fmt::format.
constexpr int64_t format_as(VolumeId id) { return number_of(id); }
constexpr int64_t format_as(EntryId id) { return number_of(id); }
constexpr int64_t format_as(StreamId id) { return number_of(id); }
constexpr int64_t format_as(SpaceId id) { return number_of(id); }

}  // namespace undershelf
