// Whether a disk is failing, as far as it and the kernel tell.
#pragma once

#include <cstddef>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace undershelf {

enum class Condition {
  untold,   // nothing tells, and nothing went wrong
  sound,    // it says so itself
  worn,     // it has begun to lose sectors, is near its end, or answers slowly in places
  failing,  // it says so itself, or reads fail
};

struct Health {
  Condition condition = Condition::untold;
  std::vector<std::string> facts;  // what that rests on, one sentence each
};

// Asks the block device at `path`, or the disk it is a partition of: its SMART data (ATA, by
// libatasmart), its health log (NVMe, "SMART / Health Information", log page 02h) and the kernel's
// counters. Reads none of its bytes. Nothing if it is no block device. To be called before
// confine_writing(), which keeps such commands from devices.
std::optional<Health> health_of(const std::string& path);

// What a disk's SMART data tells, as libatasmart keeps it (sk_disk_get_blob()).
Health health_of_smart(std::span<const std::byte> kept);

// Adds what 32 reads tell, of 64 KiB each, spread over the device and past the page cache: whether
// they fail, and the time they take. Throws Error as open_medium() does.
void sample_health(const std::string& path, Health& health);

// sound, worn, failing or untold.
std::string_view to_text(Condition condition);

}  // namespace undershelf
