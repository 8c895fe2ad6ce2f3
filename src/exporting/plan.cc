#include "exporting/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "model/error.h"
#include "shelf/selection.h"

namespace undershelf {
namespace {

constexpr uint64_t kRoomPerFile = 4096;  // for the target's own accounts, and the lists
constexpr uint64_t kRoomForTags = 1 << 20;

std::string in_mebibytes(uint64_t bytes) {
  return fmt::format("{:.1f} MiB", static_cast<double>(bytes) / (1 << 20));
}

// Takes the bytes of what is written once, and wanted several times, out of the plan.
void share_contents(ExportPlan& plan, const Shelf& shelf, const Selection& selection,
                    const ExportOptions& options, const Target& target) {
  std::unordered_set<std::string> contents;
  each_row(shelf, selection, [&](const Row& row) {
    if (row.is_folder() || is_left_out_as_gone(row, options) || is_too_large(row, target)) {
      return true;
    }
    if (can_share_content(row) && !contents.insert(*row.sha256).second) {
      plan.wanted.bytes -= row.link ? 0 : *row.size;
    }
    return true;
  });
}

void require_something(const ExportPlan& plan) {
  if (plan.wanted.files > 0) return;
  if (plan.selected.files == 0) {
    throw Error(Failure::incomplete,
                "Nothing was exported: no file fits these filters. `undershelf list` shows what "
                "there is.");
  }
  if (plan.too_large.files > 0) {
    throw Error(Failure::incomplete, fmt::format("Nothing was exported: {}", plan.refused.front()));
  }
  throw Error(Failure::incomplete,
              fmt::format("Nothing was exported: of {} selected, nothing but the names is left. "
                          "Add --even-gone to write them all the same: zeros for what is "
                          "overwritten, else what is there now.",
                          plan.gone.files == 1 ? "the one file"
                                               : fmt::format("the {} files", plan.gone.files)));
}

}  // namespace

uint64_t ExportPlan::room() const {
  return wanted.bytes + wanted.files * kRoomPerFile + kRoomForTags;
}

bool is_left_out_as_gone(const Row& row, const ExportOptions& options) {
  return row.rating && *row.rating == "gone" && !options.even_gone;
}

bool is_too_large(const Row& row, const Target& target) {
  return target.most_file_bytes != 0 && row.size.value_or(0) > target.most_file_bytes;
}

bool can_share_content(const Row& row) {
  return row.sha256 && row.size && row.intact_bytes == row.size;
}

void add_to_plan(ExportPlan& plan, const Row& row, const ExportOptions& options,
                 const Target& target) {
  if (row.is_folder()) return;
  const uint64_t size = row.size.value_or(0);
  plan.selected.add(size);
  if (is_left_out_as_gone(row, options)) {
    plan.gone.add(size);
  } else if (is_too_large(row, target)) {
    plan.too_large.add(size);
    plan.refused.push_back(
        fmt::format("{} (id {}) has {} bytes; the target's file system holds files of at most {}.",
                    row.path, row.id, size, target.most_file_bytes));
  } else {
    plan.wanted.add(row.link ? 0 : size);
  }
}

void settle_plan(ExportPlan& plan, const Shelf& shelf, const Selection& selection,
                 const ExportOptions& options, const Target& target) {
  std::ranges::sort(plan.refused);
  if (options.unique) share_contents(plan, shelf, selection, options, target);
  require_something(plan);
}

void require_room(const ExportPlan& plan, const Target& target) {
  if (target.compresses) return;
  if (target.most_archive_bytes != 0 && plan.room() > target.most_archive_bytes) {
    throw Error(Failure::refused,
                fmt::format("The archive would have {}, and {} holds files of at most {}. Choose "
                            "another target, fewer files, or a folder.",
                            in_mebibytes(plan.room()), target.where,
                            in_mebibytes(target.most_archive_bytes)));
  }
  if (plan.room() * static_cast<uint64_t>(target.times_the_room) <= target.free_bytes) return;
  throw Error(
      Failure::refused,
      fmt::format("The export needs {} ({} of content, the rest for folders and lists) and "
                  "{} has {} free. Choose another target, or fewer files.",
                  in_mebibytes(plan.room() * static_cast<uint64_t>(target.times_the_room)),
                  in_mebibytes(plan.wanted.bytes), target.where, in_mebibytes(target.free_bytes)));
}

}  // namespace undershelf
