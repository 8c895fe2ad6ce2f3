#include "model/time.h"

#include <fmt/compile.h>
#include <fmt/format.h>
#include <unicode/basictz.h>
#include <unicode/timezone.h>

#include <array>
#include <chrono>

namespace undershelf {

timespec to_timespec(Time time) {
  int64_t seconds = time.ticks / kTicksPerSecond;
  int64_t fraction = time.ticks % kTicksPerSecond;
  if (fraction < 0) {
    fraction += kTicksPerSecond;
    --seconds;
  }
  return {seconds, fraction * 100};
}

std::optional<Time> from_civil(const CivilTime& civil) {
  using namespace std::chrono;
  const year_month_day date{year{civil.year}, month{civil.month}, day{civil.day}};
  if (!date.ok() || civil.hour > 23 || civil.minute > 59 || civil.second > 59 ||
      civil.ticks >= kTicksPerSecond) {
    return std::nullopt;
  }
  const int64_t days = sys_days{date}.time_since_epoch().count();
  const int64_t seconds =
      days * 86400 + civil.hour * 3600 + civil.minute * 60 + static_cast<int64_t>(civil.second);
  return Time{seconds * kTicksPerSecond + civil.ticks};
}

CivilTime to_civil(Time time) {
  using namespace std::chrono;
  int64_t seconds = time.ticks / kTicksPerSecond;
  int64_t fraction = time.ticks % kTicksPerSecond;
  if (fraction < 0) {
    fraction += kTicksPerSecond;
    --seconds;
  }
  const auto day_number = floor<days>(sys_seconds{std::chrono::seconds{seconds}});
  const year_month_day date{day_number};
  const int64_t rest = seconds - day_number.time_since_epoch().count() * int64_t{86400};
  CivilTime civil;
  civil.year = static_cast<int>(date.year());
  civil.month = static_cast<unsigned>(date.month());
  civil.day = static_cast<unsigned>(date.day());
  civil.hour = static_cast<unsigned>(rest / 3600);
  civil.minute = static_cast<unsigned>(rest / 60 % 60);
  civil.second = static_cast<unsigned>(rest % 60);
  civil.ticks = static_cast<uint32_t>(fraction);
  return civil;
}

// Lists are full of times: this is done some million times for one.
static void append_two_digits(std::string& out, unsigned number, char behind = 0) {
  const std::array<char, 3> text{static_cast<char>('0' + number / 10),
                                 static_cast<char>('0' + number % 10), behind};
  out.append(text.data(), behind == 0 ? 2 : 3);
}

void append_rfc3339(std::string& out, Time time) {
  const CivilTime c = to_civil(time);
  if (c.year < 0 || c.year > 9999) {
    fmt::format_to(std::back_inserter(out), FMT_COMPILE("{:04}-"), c.year);
  } else {
    append_two_digits(out, static_cast<unsigned>(c.year) / 100);
    append_two_digits(out, static_cast<unsigned>(c.year) % 100, '-');
  }
  append_two_digits(out, c.month, '-');
  append_two_digits(out, c.day, 'T');
  append_two_digits(out, c.hour, ':');
  append_two_digits(out, c.minute, ':');
  append_two_digits(out, c.second);
  if (c.ticks != 0) {
    fmt::format_to(std::back_inserter(out), FMT_COMPILE(".{:07}"), c.ticks);
    out.erase(out.find_last_not_of('0') + 1);
  }
  out += 'Z';
}

Time current_time() {
  using namespace std::chrono;
  const auto seconds = floor<std::chrono::seconds>(system_clock::now()).time_since_epoch();
  return Time{seconds.count() * kTicksPerSecond};
}

std::string to_rfc3339(Time time) {
  std::string text;
  append_rfc3339(text, time);
  return text;
}

namespace {

// Whole ones, as ICU takes them.
double milliseconds(Time time) {
  const int64_t whole = time.ticks / 10'000;
  return static_cast<double>(whole);
}

}  // namespace

Zone::Zone() = default;

std::optional<Zone> Zone::named(const std::string& name) {
  Zone zone;
  if (name == "UTC") return zone;
  std::shared_ptr<icu::TimeZone> found(
      icu::TimeZone::createTimeZone(icu::UnicodeString::fromUTF8(name)));
  if (!found || *found == icu::TimeZone::getUnknown()) return std::nullopt;
  zone.zone_ = found;
  return zone;
}

Time Zone::to_utc(Time local) const {
  if (!zone_) return local;
  const auto* zone = static_cast<const icu::TimeZone*>(zone_.get());
  int32_t raw = 0;
  int32_t daylight = 0;
  UErrorCode status = U_ZERO_ERROR;
  const double local_ms = milliseconds(local);
  if (const auto* basic = dynamic_cast<const icu::BasicTimeZone*>(zone)) {
    basic->getOffsetFromLocal(local_ms, UCAL_TZ_LOCAL_FORMER, UCAL_TZ_LOCAL_FORMER, raw, daylight,
                              status);
  } else {
    zone->getOffset(local_ms, true, raw, daylight, status);
  }
  if (U_FAILURE(status)) return local;
  return Time{local.ticks - static_cast<int64_t>(raw + daylight) * 10'000};
}

Time Zone::to_local(Time utc) const {
  if (!zone_) return utc;
  const auto* zone = static_cast<const icu::TimeZone*>(zone_.get());
  int32_t raw = 0;
  int32_t daylight = 0;
  UErrorCode status = U_ZERO_ERROR;
  zone->getOffset(milliseconds(utc), false, raw, daylight, status);
  if (U_FAILURE(status)) return utc;
  return Time{utc.ticks + static_cast<int64_t>(raw + daylight) * 10'000};
}

}  // namespace undershelf
