#include "cli/scan_account.h"

#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/output.h"
#include "model/text.h"
#include "rating/sampling.h"
#include "shelf/totals.h"

namespace undershelf::cli {
namespace {

// Space that was given up: flash media and thin disks do so when they are told of a deletion.
void tell_discarded(const Shelf& shelf) {
  const SampledFiles found = count_sampled(shelf);
  if (!found.tells_of_discards()) return;
  say(fmt::format(
      "Of {} lost files that were looked at, {} read blank wherever samples were taken: "
      "their space was discarded (TRIM) or wiped, and nothing brings it back.",
      found.sampled, found.blank));
}

// What of each type is lost, and what is to be expected of it.
void tell_types(const Shelf& shelf) {
  if (is_quiet()) return;
  Selection lost;
  lost.states = {"deleted", "former", "carved"};
  std::string types;
  const std::vector<Group> groups = total_by(shelf, lost, By::type, Zone());
  const std::vector<uint64_t> expected = whole_expectations(groups);
  for (size_t i = 0; i < groups.size(); ++i) {
    types += fmt::format("{}{} {} of {}", types.empty() ? "" : ", ",
                         groups[i].value.empty() ? "none" : groups[i].value, expected[i],
                         groups[i].totals.content());
  }
  if (types.empty()) return;
  say(
      fmt::format("Expected back byte for byte of what is lost, by type: {}. `undershelf totals` "
                  "tells more.",
                  types));
}

}  // namespace

bool tell_gaps(const Source& source) {
  uint64_t unread = 0;
  uint64_t failed = 0;
  for (const BadRange& gap : source.gaps()) (gap.unread ? unread : failed) += gap.length;
  if (unread > 0) {
    say(fmt::format(
        "{} of the medium were not read yet: what lies there counts as unread until the "
        "copy went on and this call is given again.",
        table_size(unread)));
  }
  if (failed > 0) say(fmt::format("{} of the medium could not be read.", table_size(failed)));
  return unread + failed > 0;
}

std::string found_by_content(uint64_t files) {
  return fmt::format("{} without a name {} found by content alone", counted(files, "file"),
                     files == 1 ? "was" : "were");
}

int64_t summarise(const Shelf& shelf, const ScanResult& result) {
  int64_t live = 0;
  int64_t deleted = 0;
  int64_t former = 0;
  int64_t trashed = 0;
  size_t on_images = 0;
  const std::vector<VolumeRecord> volumes = shelf.volumes();
  for (const VolumeRecord& record : volumes) {
    live += record.live;
    deleted += record.deleted;
    former += record.former;
    trashed += record.trashed;
    on_images += record.space != SpaceId::source;
  }
  const std::string images =
      on_images > 0 ? fmt::format(", {} of them on disk images", on_images) : "";
  const std::string of_former =
      former > 0 ? fmt::format(", {} of former volumes", counted(former, "file")) : "";
  say(fmt::format("{}{}: {} living and {} deleted files{}.", counted(volumes.size(), "volume"),
                  images, live, deleted, of_former));
  if (trashed > 0) {
    say(fmt::format("{} of the living {} in trash folders: --trashed shows them.", trashed,
                    trashed == 1 ? "lies" : "lie"));
  }
  if (result.carved > 0) {
    say(fmt::format("{}: --state carved shows {}.", found_by_content(result.carved),
                    result.carved == 1 ? "it" : "them"));
  }
  if (result.joined > 0) {
    say(
        fmt::format("{} got back content that was found without a name: `show` tells why, and the "
                    "odds.",
                    counted(result.joined, "lost file")));
  }
  tell_types(shelf);
  tell_discarded(shelf);
  for (const std::string& note : result.notes) say("Note: " + note);
  if (result.source_is_short) say("The source ends before a volume on it does.");
  if (result.damage > 0) {
    say(fmt::format("Damage was met in {}; `undershelf volumes` lists it.",
                    counted(result.damage, "place")));
  }
  return deleted + former;
}

void print_account(const Shelf& shelf, const ScanResult& result) {
  const Totals totals = total_rows(shelf, {});
  Line line(Line::Form::json);
  line.begin();
  line.number("volumes", static_cast<int64_t>(shelf.volumes(false).size()));
  line.number("files", static_cast<int64_t>(totals.files));
  line.number("folders", static_cast<int64_t>(totals.folders));
  line.number("streams", static_cast<int64_t>(totals.streams));
  line.number("bytes", static_cast<int64_t>(totals.bytes));
  line.number("carved", static_cast<int64_t>(result.carved));
  line.number("joined", static_cast<int64_t>(result.joined));
  line.number("damage", static_cast<int64_t>(result.damage));
  line.number("left_out", static_cast<int64_t>(result.left_out));
  line.boolean("source_is_short", result.source_is_short);
  line.boolean("stopped", result.stopped);
  line.boolean("incomplete", result.incomplete);
  line.number("position", result.stopped ? result.position : std::nullopt);
  line.list("notes", result.notes);
  std::cout << line.end();
}

}  // namespace undershelf::cli
