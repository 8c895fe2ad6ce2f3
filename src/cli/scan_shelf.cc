#include "cli/scan_shelf.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "cli/command.h"
#include "cli/output.h"
#include "model/error.h"
#include "scan/deep.h"
#include "source/identity.h"

namespace undershelf::cli {
namespace {

// Where an old shelf is kept that a new one takes the place of.
std::string put_aside(const std::string& path) {
  std::string aside;
  for (int number = 1; aside.empty() || std::filesystem::exists(aside); ++number) {
    aside = fmt::format("{}.old-{}", path, number);
  }
  std::filesystem::rename(path, aside);
  for (const char* suffix : {"-wal", "-shm"}) {
    if (std::filesystem::exists(path + suffix)) {
      std::filesystem::rename(path + suffix, aside + suffix);
    }
  }
  return aside;
}

// Whether an existing shelf has all that the scan would add. Throws Error (refused) if it cannot
// take it. Changes nothing.
bool has_all(Shelf shelf, const Source& source, const Wanted& wanted) {
  const std::string& path = wanted.shelf_path;
  const SourceIdentity known = shelf.source();
  if (known.skip != wanted.skip) {
    throw Error(Failure::refused,
                fmt::format("The shelf {} was made with --offset {}. Give the same one, or choose "
                            "another name.",
                            path, known.skip));
  }
  if (const std::string how = difference(known, source, wanted.source_path); !how.empty()) {
    throw Error(Failure::refused,
                fmt::format("The shelf {} describes another source: {}. Choose another name, or "
                            "--replace it (the old one is kept beside it).",
                            path, how));
  }
  const ReadingRecord reading = shelf.reading();
  if (wanted.time_zone.value_or(reading.time_zone) != reading.time_zone ||
      wanted.code_page.value_or(reading.code_page) != reading.code_page) {
    throw Error(
        Failure::refused,
        fmt::format("The shelf {} was made with the time zone {} and the code page {}. Leave "
                    "these options out, or choose another name.",
                    path, reading.time_zone, reading.code_page));
  }
  const std::vector<ScanRecord> scans = shelf.scans();
  const uint64_t gaps = gaps_length(source);
  const auto is_finished = [&](const ScanRecord& scan) {
    const bool deep_enough = scan.depth == "deep" || wanted.depth == Depth::quick;
    const bool checked = check_named(scan.check) >= wanted.check;
    const bool same_bytes = scan.gaps <= gaps;
    return scan.state == "finished" && deep_enough && checked && same_bytes;
  };
  const bool all_there = !wanted.check_living && std::ranges::any_of(scans, is_finished) &&
                         (wanted.depth == Depth::quick || is_swept(shelf, source, wanted.range));
  if (all_there) return true;
  const bool unfinished = !scans.empty() && scans.back().state != "finished";
  const bool more = !scans.empty() && scans.back().gaps > gaps;
  say(more ? "More of the source was read since the last scan: all is looked at again, and keeps "
             "its ids."
      : unfinished ? "Continuing an unfinished scan."
                   : "Adding to what is on the shelf.");
  return false;
}

// A scan killed as it ended leaves its log beside the shelf: who copies the shelf alone has not all
// of it. Nothing is done while another call uses the shelf.
void take_in_leftovers(const std::string& path) {
  std::error_code error;
  if (!std::filesystem::exists(path + "-wal", error)) return;
  const ShelfLock lock(path);
  Shelf::open_to_write(path).leave_log();
}

Shelf create(const Wanted& wanted, const Source& source) {
  ReadingRecord reading;
  if (wanted.time_zone) reading.time_zone = *wanted.time_zone;
  if (wanted.code_page) reading.code_page = *wanted.code_page;
  return Shelf::create(wanted.shelf_path, identify(wanted.source_path, source, wanted.skip),
                       reading);
}

}  // namespace

LockedShelf open_or_create(const Wanted& wanted, const Source& source) {
  const std::string& path = wanted.shelf_path;
  std::error_code error;
  const auto status = std::filesystem::status(path, error);
  if (std::filesystem::is_directory(status)) {
    throw Error(Failure::refused, fmt::format("{} is a folder. Give the name of a file.", path));
  }
  // Nobody writes to it now, if the lock can be had.
  if (std::filesystem::exists(path + "-journal", error)) {
    const ShelfLock lock(path);
    Shelf::roll_back(path);
  }
  const bool exists =
      std::filesystem::exists(status) && std::filesystem::file_size(path, error) > 0;
  if (exists && !Shelf::is_shelf(path)) {
    throw Error(Failure::refused,
                fmt::format("{} exists and is not a shelf. Nothing is overwritten: choose another "
                            "name.",
                            path));
  }
  if (exists && !wanted.replace) {
    // A refused call changes nothing.
    if (has_all(Shelf::open_to_read(path), source, wanted)) {
      take_in_leftovers(path);
      throw Error(
          Failure::refused,
          fmt::format("The shelf {} holds a finished scan of this source. List it with "
                      "`undershelf list {}`, or scan again with --replace (the old one is kept "
                      "beside the new one).",
                      path, quoted_path(path)));
    }
  }
  auto lock = std::make_unique<ShelfLock>(path);
  if (exists && wanted.replace) {
    say(fmt::format("The old shelf is kept as {}.", put_aside(path)));
    lock = std::make_unique<ShelfLock>(path);
  } else if (exists) {
    return {std::move(lock), Shelf::open_to_write(path)};
  }
  try {
    return {std::move(lock), create(wanted, source)};
  } catch (...) {
    if (lock) lock->drop_if_empty();
    throw;
  }
}

}  // namespace undershelf::cli
