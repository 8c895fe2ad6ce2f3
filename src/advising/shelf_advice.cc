#include "advising/shelf_advice.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <string>
#include <utility>

#include "model/words.h"
#include "rating/sampling.h"
#include "shelf/rows.h"
#include "shelf/totals.h"
#include "shelf/traces.h"

namespace undershelf {
namespace {

class ShelfAdviser {
 public:
  explicit ShelfAdviser(const Shelf& shelf) : shelf_(shelf) {}

  std::vector<Advice> run() {
    tell_scans();
    tell_unread();
    tell_containers();
    tell_volumes();
    tell_discarded();
    return std::move(advice_);
  }

 private:
  int64_t number(const std::string& sql) const {
    SQLite::Statement row(shelf_.db(), sql);
    return row.executeStep() ? row.getColumn(0).getInt64() : 0;
  }

  void tell_scans() {
    bool deep = false;
    bool stopped = false;
    bool full = false;
    for (const ScanRecord& scan : shelf_.scans()) {
      deep = deep || scan.depth == "deep";
      full = full || scan.check == "full";
      stopped = scan.state != "finished";
    }
    if (stopped) {
      advice_.push_back({"stopped",
                         "The last scan was not finished: the same call goes on with it.",
                         0,
                         Advice::Call::scan,
                         {},
                         deep ? " --depth deep" : ""});
    } else if (!deep) {
      advice_.push_back({"deep",
                         "The whole source was not looked at yet: a deep scan finds volumes that "
                         "were formatted over, folders nothing leads to, and files by their "
                         "content alone.",
                         0,
                         Advice::Call::scan,
                         {},
                         " --depth deep"});
    } else if (const uint64_t left = bytes_not_swept(); left > 0) {
      advice_.push_back(
          {"part",
           fmt::format("{} bytes of the source were not looked at by the deep scan.", left),
           0,
           Advice::Call::scan,
           {},
           " --depth deep"});
    }
    if (!full) {
      advice_.push_back({"check",
                         "Lost files were not looked at to their end: a full check tells which are "
                         "sound, and where others break off.",
                         0,
                         Advice::Call::scan,
                         {},
                         " --check full"});
    }
    if (const int64_t left = number("SELECT sum(left_out) FROM sweep"); left > 0) {
      advice_.push_back({"left-out",
                         fmt::format("{} pieces of metadata were beyond what is kept: a deep scan "
                                     "of a part of the source, on a shelf of its own, keeps more.",
                                     left),
                         0,
                         Advice::Call::none,
                         {},
                         {}});
    }
  }

  uint64_t bytes_not_swept() {
    uint64_t left = 0;
    for (const ByteRange& range : not_swept(shelf_, {0, shelf_.source().size})) {
      left += range.length;
    }
    return left;
  }

  void tell_unread() {
    const int64_t untried =
        number("SELECT count(DISTINCT stream) FROM losses WHERE cause='unread'");
    if (untried > 0) {
      advice_.push_back({"unread",
                         fmt::format("{} lie where the medium was not read yet: going on with the "
                                     "copy, and then with the scan, brings what there is of them.",
                                     counted(static_cast<uint64_t>(untried), "known file")),
                         static_cast<uint64_t>(untried),
                         Advice::Call::image,
                         {},
                         {}});
    }
    const int64_t streams =
        number("SELECT count(DISTINCT stream) FROM losses WHERE cause='unreadable'");
    const int64_t swept = number("SELECT sum(unreadable) FROM sweep");
    if (streams == 0 && swept == 0) return;
    advice_.push_back({"unreadable",
                       fmt::format("Parts of the source could not be read; {} lie there. Copy the "
                                   "medium with growing patience and scan the copy: what is read "
                                   "then is missing now.",
                                   counted(static_cast<uint64_t>(streams), "known file")),
                       static_cast<uint64_t>(streams),
                       Advice::Call::none,
                       {},
                       {}});
  }

  void tell_containers() {
    Selection holders;
    holders.kinds = {"file"};
    holders.secondary = holders.links = false;
    holders.extensions = {"zip", "7z",   "rar",  "tar", "gz",    "tgz", "iso", "img", "dmg",
                          "vhd", "vhdx", "vmdk", "vdi", "qcow2", "wim", "bkf", "pst", "ost"};
    const uint64_t files = total_rows(shelf_, holders).files;
    const auto encrypted = static_cast<uint64_t>(
        number("SELECT count(DISTINCT entry) FROM streams WHERE encoding='encrypted'"));
    if (files > 0) {
      std::string options = " --ext ";
      options += fmt::format("{}", fmt::join(holders.extensions, ","));
      advice_.push_back({"containers",
                         fmt::format("{} can hold others within (archives, disk images, mail "
                                     "stores): what is sought may lie in one.",
                                     counted(files, "file")),
                         files,
                         Advice::Call::list,
                         {kAll},
                         options});
    }
    if (encrypted > 0) {
      advice_.push_back({"encrypted",
                         fmt::format("{} {} encrypted by the file system; with the owner's key "
                                     "{} elsewhere.",
                                     counted(encrypted, "file"), encrypted == 1 ? "is" : "are",
                                     encrypted == 1 ? "it opens" : "they open"),
                         encrypted,
                         Advice::Call::none,
                         {},
                         {}});
    }
  }

  void tell_volumes() {
    uint64_t damaged = 0;
    for (const VolumeRecord& record : shelf_.volumes(false)) {
      damaged += std::ranges::any_of(record.volume.notes, [](const std::string& note) {
        return note.find("oot sector") != std::string::npos;
      });
    }
    if (damaged == 0) return;
    advice_.push_back({"boot-sector",
                       fmt::format("{} without a sound boot sector: its layout was worked out from "
                                   "the rest. `undershelf volumes` tells how sure that is.",
                                   counted(damaged, "volume")),
                       0,
                       Advice::Call::none,
                       {},
                       {}});
  }

  void tell_discarded() {
    const SampledFiles found = count_sampled(shelf_);
    if (!found.tells_of_discards()) return;
    advice_.push_back({"discarded",
                       fmt::format("Of {} lost files that were looked at, {} read blank: their "
                                   "space was discarded (TRIM) or wiped, and nothing brings it "
                                   "back. Look for copies elsewhere: backups, mail, other media.",
                                   found.sampled, found.blank),
                       found.blank,
                       Advice::Call::none,
                       {},
                       {}});
  }

  const Shelf& shelf_;
  std::vector<Advice> advice_;
};

}  // namespace

std::vector<Advice> advise_on_shelf(const Shelf& shelf) { return ShelfAdviser(shelf).run(); }

}  // namespace undershelf
