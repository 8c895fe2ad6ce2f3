#include "advising/advise.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>
#include <unordered_map>
#include <unordered_set>
#include <utility>

#include "advising/shelf_advice.h"
#include "advising/versions.h"
#include "content/types.h"
#include "model/words.h"
#include "shelf/rows.h"
#include "shelf/totals.h"

namespace undershelf {
namespace {

constexpr size_t kMostIds = 50;           // that a call names
constexpr size_t kMostLookedAt = 10'000;  // rows that fit, of which names and sizes are used

// A filter, and how it is left out.
struct Filter {
  const char* option;
  bool narrows;  // it says what is sought, not where or in which state
  bool (*given)(const Selection&);
  void (*drop)(Selection&);
};

template <auto Member>
constexpr Filter filter(const char* option, bool narrows) {
  return {option, narrows,
          [](const Selection& s) {
            if constexpr (requires { (s.*Member).empty(); }) {
              return !(s.*Member).empty();
            } else {
              return bool(s.*Member);
            }
          },
          [](Selection& s) { s.*Member = {}; }};
}

constexpr std::array kFilters = {
    filter<&Selection::names>("name", true),
    filter<&Selection::paths>("path", true),
    filter<&Selection::words>("find", true),
    filter<&Selection::extensions>("ext", true),
    filter<&Selection::types>("type", true),
    filter<&Selection::sizes>("size", true),
    filter<&Selection::modified>("modified", true),
    filter<&Selection::created>("created", true),
    filter<&Selection::accessed>("accessed", true),
    filter<&Selection::deleted>("deleted", true),
    filter<&Selection::ids>("id", true),
    filter<&Selection::states>("state", false),
    filter<&Selection::ratings>("rating", false),
    filter<&Selection::volumes>("volume", false),
    filter<&Selection::trashed>("trashed", false),
    filter<&Selection::hidden>("hidden", false),
    filter<&Selection::duplicates>("duplicates", false),
};

bool is_literal(const std::string& glob) { return glob.find_first_of("*?[") == std::string::npos; }

class Adviser {
 public:
  Adviser(const Shelf& shelf, Selection sought) : shelf_(shelf), sought_(std::move(sought)) {
    sought_.limit.reset();
    sought_.sort.clear();
    sought_.kinds = {"file"};
    sought_.secondary = sought_.links = false;
  }

  std::vector<Advice> run() {
    look_at_what_fits();
    tell_found();
    tell_trash();
    tell_versions();
    tell_relaxed();
    tell_same_size();
    tell_carved();
    tell_joined();
    std::ranges::move(advise_on_shelf(shelf_), std::back_inserter(advice_));
    return std::move(advice_);
  }

 private:
  uint64_t count(const Selection& selection) const { return total_rows(shelf_, selection).files; }

  static bool narrows(const Selection& selection) {
    return std::ranges::any_of(kFilters,
                               [&](const Filter& f) { return f.narrows && f.given(selection); });
  }

  void look_at_what_fits() {
    // Without a filter that says what is sought, nothing is.
    if (!narrows(sought_)) return;
    each_row(shelf_, sought_, [&](const Row& row) {
      ++fit_;
      if (row.rating && (*row.rating == "whole" || *row.rating == "likely")) ++good_;
      if (row.rating && *row.rating == "gone") {
        ++gone_;
        if (row.size && *row.size > 0 && gone_sizes_.size() < kMostLookedAt) {
          gone_sizes_.insert(*row.size);
        }
      }
      if (keys_.size() < kMostLookedAt) add_key(row.name);
      fits_.insert(row.id);
      return true;
    });
    for (const std::string& name : sought_.names) {
      if (is_literal(name)) add_key(name);
    }
  }

  void add_key(const std::string& name) {
    VersionOf key = version_key(name);
    keys_[key.stem].insert(key.extension);
    if (auto original = version_named(name)) keys_[original->stem].insert(original->extension);
  }

  void tell_found() {
    if (fit_ == 0) return;
    const std::string lost = gone_ > 0 ? fmt::format("; of {} only the name is left", gone_) : "";
    advice_.push_back({"found",
                       fmt::format("{} {} these filters, {} of them whole or likely{}.",
                                   counted(fit_, "file"), fit_ == 1 ? "fits" : "fit", good_, lost),
                       fit_,
                       Advice::Call::list,
                       {},
                       {}});
  }

  void tell_trash() {
    if (sought_.trashed) return;
    Selection trashed = sought_;
    trashed.paths.clear();
    trashed.states.clear();
    trashed.trashed = true;
    const uint64_t files = count(trashed);
    if (files == 0) return;
    advice_.push_back({"trash",
                       fmt::format("{} in trash folders: what lies there was not deleted, and has "
                                   "its content until the trash is emptied.",
                                   counted(files, "file")),
                       files,
                       Advice::Call::list,
                       {"path", "state"},
                       " --trashed"});
  }

  bool is_sought(const VersionOf& version) const {
    const auto found = keys_.find(version.stem);
    return found != keys_.end() && (version.extension.empty() || found->second.contains("") ||
                                    found->second.contains(version.extension));
  }

  // Earlier versions by their names, and what they are versions of, wherever they lie.
  void tell_versions() {
    if (keys_.empty()) return;
    Selection all;
    all.kinds = {"file"};
    all.secondary = all.links = false;
    std::set<EntryId> versions;
    each_place(shelf_, all, [&](const Row& row) {
      if (fits_.contains(row.id)) return true;
      const size_t slash = row.path.rfind('/');
      const std::string_view name = std::string_view(row.path).substr(slash + 1);
      const auto version = version_named(name);
      if (version && is_sought(*version)) versions.insert(row.id);
      return true;
    });
    if (versions.empty()) return;
    advice_.push_back(
        {"versions",
         fmt::format("{} {} the name of an earlier version or a copy of what is "
                     "sought (a file history, a backup, an automatic save).",
                     counted(versions.size(), "file"), versions.size() == 1 ? "bears" : "bear"),
         versions.size(),
         Advice::Call::list,
         {kAll},
         ids_of(versions)});
  }

  static std::string ids_of(const std::set<EntryId>& ids) {
    std::string text;
    size_t told = 0;
    for (const EntryId id : ids) {
      if (++told > kMostIds) break;
      text += fmt::format("{}{}", text.empty() ? " --id " : ",", id);
    }
    return text;
  }

  // What fits when one of the filters is left out. The fewest first: they are nearest.
  void tell_relaxed() {
    std::vector<Advice> near;
    for (const Filter& filter : kFilters) {
      if (!filter.given(sought_)) continue;
      Selection wider = sought_;
      filter.drop(wider);
      if (!narrows(wider)) continue;
      const uint64_t files = count(wider);
      if (files <= fit_) continue;
      near.push_back({"without",
                      fmt::format("{} {} if --{} is left out.",
                                  counted(files - fit_, fit_ > 0 ? "further file" : "file"),
                                  files - fit_ == 1 ? "fits" : "fit", filter.option),
                      files - fit_,
                      Advice::Call::list,
                      {filter.option},
                      {}});
    }
    if (near.empty()) add_by_name_alone(near);
    std::ranges::stable_sort(near, {}, &Advice::files);
    std::ranges::move(near, std::back_inserter(advice_));
  }

  // What bears the names that are sought, whatever the other filters say.
  void add_by_name_alone(std::vector<Advice>& near) const {
    if (sought_.names.empty() && sought_.words.empty()) return;
    Selection named = sought_;
    std::vector<std::string> without;
    for (const Filter& filter : kFilters) {
      const std::string_view option = filter.option;
      if (option == "name" || option == "find" || !filter.given(sought_)) continue;
      filter.drop(named);
      without.emplace_back(option);
    }
    const uint64_t files = count(named);
    if (files <= fit_) return;
    near.push_back({"without",
                    fmt::format("{} {} if all filters but --name and --find are left out.",
                                counted(files - fit_, fit_ > 0 ? "further file" : "file"),
                                files - fit_ == 1 ? "fits" : "fit"),
                    files - fit_,
                    Advice::Call::list,
                    std::move(without),
                    {}});
  }

  // Types of what is sought, as far as that is said.
  std::set<std::string> types() const {
    std::set<std::string> types(sought_.types.begin(), sought_.types.end());
    const auto add = [&](const std::string& name) {
      const std::string_view type = format_by_name(name).type;
      if (type != "other") types.emplace(type);
    };
    for (const std::string& extension : sought_.extensions) add("a." + extension);
    for (const std::string& name : sought_.names) add(name);
    for (const std::string& path : sought_.paths) add(path);
    return types;
  }

  Selection carved() const {
    Selection carved;
    carved.kinds = {"file"};
    carved.states = {"carved"};
    carved.secondary = false;
    return carved;
  }

  // Files without a name that have just the size of a name without content.
  void tell_same_size() {
    if (gone_sizes_.empty()) return;
    std::set<EntryId> same;
    each_row(shelf_, carved(), [&](const Row& row) {
      if (row.size && gone_sizes_.contains(*row.size)) same.insert(row.id);
      return true;
    });
    if (same.empty()) return;
    advice_.push_back({"same-size",
                       fmt::format("{} found without a name {} just the size of one of which only "
                                   "the name is left.",
                                   counted(same.size(), "file"), same.size() == 1 ? "has" : "have"),
                       same.size(),
                       Advice::Call::list,
                       {kAll},
                       ids_of(same)});
  }

  void tell_carved() {
    Selection carved = this->carved();
    const std::set<std::string> types = this->types();
    carved.types.assign(types.begin(), types.end());
    carved.sizes = sought_.sizes;
    const uint64_t files = count(carved);
    if (files == 0) return;
    const std::string options =
        (types.empty() ? "" : fmt::format(" --type {}", fmt::join(types, ","))) +
        std::string(" --state carved");
    std::vector<std::string> without;
    for (const Filter& filter : kFilters) {
      if (std::string_view(filter.option) != "size") without.emplace_back(filter.option);
    }
    advice_.push_back({"carved",
                       fmt::format("{} {} found without a name, by content alone{}: look through "
                                   "them with `peek`.",
                                   counted(files, "file"), files == 1 ? "was" : "were",
                                   types.empty() ? "" : " and of this type"),
                       files, Advice::Call::list, std::move(without), options});
  }

  void tell_joined() {
    constexpr int kSure = 90;  // score
    std::set<EntryId> unsure;
    SQLite::Statement row(shelf_.db(),
                          "SELECT v.entry FROM evidence v JOIN streams s ON s.entry=v.entry WHERE "
                          "v.fact LIKE 'joined-by-%' AND s.name IS NULL AND "
                          "s.score<?");
    row.bind(1, kSure);
    while (row.executeStep()) unsure.insert(id_of<EntryId>(row.getColumn(0)));
    if (unsure.empty()) return;
    advice_.push_back({"joined",
                       fmt::format("{} got content that was found without a name, with odds below "
                                   "{} in 100: the content may be another's.",
                                   counted(unsure.size(), "lost file"), kSure),
                       unsure.size(),
                       Advice::Call::list,
                       {kAll},
                       ids_of(unsure)});
  }

  const Shelf& shelf_;
  Selection sought_;
  uint64_t fit_ = 0, good_ = 0, gone_ = 0;
  std::unordered_set<uint64_t> gone_sizes_;  // bytes, of those rated gone
  std::unordered_set<EntryId> fits_;
  std::unordered_map<std::string, std::set<std::string>> keys_;  // stem to extensions
  std::vector<Advice> advice_;
};

}  // namespace

std::vector<Advice> advise(const Shelf& shelf, Selection sought) {
  return Adviser(shelf, std::move(sought)).run();
}

}  // namespace undershelf
