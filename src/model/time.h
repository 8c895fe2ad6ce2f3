// Points in time as file systems record them.
#pragma once

#include <cstdint>
#include <ctime>
#include <memory>
#include <optional>
#include <string>

namespace undershelf {

// A point in time, in UTC: 100-nanosecond ticks since 1970-01-01T00:00:00Z.
// Covers every date any of the four file systems can hold.
struct Time {
  int64_t ticks = 0;
  auto operator<=>(const Time&) const = default;
};

constexpr int64_t kTicksPerSecond = 10'000'000;

Time current_time();  // to the second

// A date and time of day as a clock on the wall showed it.
struct CivilTime {
  int year = 1970;
  unsigned month = 1, day = 1, hour = 0, minute = 0, second = 0;
  uint32_t ticks = 0;  // fraction of the second, 100 ns
};

// Nothing if a field is out of its range (month 13, 31 April, hour 24).
std::optional<Time> from_civil(const CivilTime& civil);
// As POSIX has it: seconds since 1970, and a fraction that counts forwards before that too.
timespec to_timespec(Time time);
CivilTime to_civil(Time time);

// RFC 3339 in UTC, with as many digits of fraction as are not zero: 2026-03-04T10:20:30.5Z.
std::string to_rfc3339(Time time);
void append_rfc3339(std::string& out, Time time);

// A time zone by its IANA name. Thread-safe for reading.
class Zone {
 public:
  Zone();  // UTC
  // Nothing if there is no zone of that name.
  static std::optional<Zone> named(const std::string& name);
  // The UTC of a local time. Of an hour that occurs twice, the first is taken.
  Time to_utc(Time local) const;
  Time to_local(Time utc) const;

 private:
  std::shared_ptr<const void> zone_;  // an icu::TimeZone; null for UTC
};

}  // namespace undershelf
