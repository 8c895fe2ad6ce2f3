#include "cli/filters.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <charconv>
#include <ctime>

#include "access/entries.h"
#include "cli/output.h"
#include "content/types.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

using List = std::vector<std::string>;

std::vector<std::string> known_list(const CommandLine& line, const std::string& option,
                                    const std::vector<std::string>& known) {
  std::vector<std::string> values = line.list(option);
  for (const std::string& value : values) require_known("--" + option, value, known);
  return values;
}

// As users write them: csv, .csv or *.csv.
std::string bare_extension(std::string extension) {
  if (extension.starts_with("*.")) extension.erase(0, 1);
  if (extension.starts_with('.')) extension.erase(0, 1);
  if (extension.empty() || extension.find_first_of("*?/") != std::string::npos) {
    throw Error(Failure::usage,
                "--ext takes an extension, such as csv. For patterns there is --name.");
  }
  return extension;
}

}  // namespace

void add_filters(po::options_description& options, Sorted sorted) {
  po::options_description filters("Filters (several values of one are alternatives)");
  filters.add_options()  //
      ("name", po::value<List>()->value_name("GLOB"),
       "whole name, now or before; * and ? as usual")  //
      ("path", po::value<List>()->value_name("GLOB"),
       "whole path, now or before; * and ? stay within a part, ** crosses parts")  //
      ("find", po::value<List>()->value_name("WORD"),
       "part of a name, now or before, in any case, with or without accents")  //
      ("match-case", "upper and lower case differ in names and paths")         //
      ("ext", po::value<List>()->value_name("EXT"), "extension, such as csv")  //
      ("type", po::value<List>()->value_name("TYPE"),
       "picture, document, video, audio, archive, mail, database, other")                 //
      ("size", po::value<List>()->value_name("A..B"), "bytes; K, M, G, T count in 1024")  //
      ("modified", po::value<List>()->value_name("A..B"),
       "dates: 2026-03-01..2026-03-31, today, 7d")                     //
      ("created", po::value<List>()->value_name("A..B"), "likewise")   //
      ("accessed", po::value<List>()->value_name("A..B"), "likewise")  //
      ("deleted", po::value<List>()->value_name("A..B"), "likewise")   //
      ("time-zone", po::value<std::string>()->value_name("ZONE"),
       "of dates in filters and tables; the shelf's if not given")                        //
      ("state", po::value<List>()->value_name("STATE"), "live, deleted, former, carved")  //
      ("rating", po::value<List>()->value_name("RATING"),
       "whole, likely, partial, gone: just these; likely+: this or better")                   //
      ("trashed", "only what lies in a trash folder")                                         //
      ("hidden", "only what is hidden: by its attributes, or by a dot before its name")       //
      ("duplicates", "only files whose content another one has too; by `scan --check full`")  //
      ("volume", po::value<List>()->value_name("N"), "volume ids, as in `volumes`")           //
      ("kind", po::value<List>()->value_name("KIND"), "file, folder")                         //
      ("id", po::value<List>()->value_name("N"), "entry ids; a folder brings what is in it")  //
      ("system", "a file system's own files too")                                             //
      ("limit", po::value<std::string>()->value_name("N"), "at most so many");
  if (sorted == Sorted::yes) {
    filters.add_options()("sort", po::value<std::string>()->value_name("FIELD"),
                          fmt::format("instead of volume and path; -FIELD: backwards. Fields: {}",
                                      fmt::join(sort_fields(), ", "))
                              .c_str());
  }
  options.add(filters);
}

std::string filters_again(const CommandLine& line, const std::vector<std::string>& without) {
  static const std::vector<std::string> kFilters = {
      "name",     "path",    "find",       "match-case", "ext",       "type",  "size",
      "modified", "created", "accessed",   "deleted",    "time-zone", "state", "rating",
      "trashed",  "hidden",  "duplicates", "volume",     "kind",      "id",    "system"};
  if (std::ranges::find(without, "*") != without.end()) return {};
  std::vector<std::string> names = kFilters;
  std::erase_if(names, [&](const std::string& name) {
    return std::ranges::find(without, name) != without.end();
  });
  return line.again(names);
}

int64_t read_id(const std::string& text) {
  int64_t id = 0;
  const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), id);
  if (error != std::errc{} || rest != text.data() + text.size() || id < 0) {
    throw Error(Failure::usage,
                fmt::format("`{}` is no id. Ids are whole numbers, as `list` shows them.", text));
  }
  return id;
}

uint64_t read_number(const std::string& option, const std::string& text) {
  uint64_t number = 0;
  const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (error != std::errc{} || rest != text.data() + text.size() || number > INT64_MAX) {
    throw Error(Failure::usage,
                fmt::format("--{} takes a whole number, such as 30, and not `{}`.", option, text));
  }
  return number;
}

uint64_t read_bytes(const CommandLine& line, const std::string& option, uint64_t otherwise) {
  return line.has(option) ? parse_bytes("--" + option, line.text(option)) : otherwise;
}

ByteRange read_part(const CommandLine& line, const std::string& until, uint64_t size) {
  const uint64_t begin = read_bytes(line, "from", 0);
  const uint64_t end = std::min(read_bytes(line, until, size), size);
  if (begin < end) return {begin, end - begin};
  throw Error(Failure::usage,
              fmt::format("--from and --{0} leave nothing of the source's {1} bytes. Give a --from "
                          "below --{0}.",
                          until, size));
}

std::string read_format(const CommandLine& line, const std::vector<std::string>& known) {
  if (!line.has("format")) return known.front();
  require_known("--format", line.text("format"), known);
  return line.text("format");
}

Zone zone_named(const std::string& name) {
  const std::optional<Zone> zone = Zone::named(name);
  if (!zone) {
    throw Error(Failure::usage,
                fmt::format("There is no time zone `{}`. Write it like Europe/Oslo.", name));
  }
  return *zone;
}

ShownZone read_zone(const CommandLine& line, const Shelf& shelf) {
  const std::string name =
      line.has("time-zone") ? line.text("time-zone") : shelf.reading().time_zone;
  return {name, zone_named(name)};
}

namespace {

// Ratings as users write them: just these, or one and better.
std::vector<std::string> read_ratings(const CommandLine& line) {
  static const std::vector<std::string> kBestFirst = {"whole", "likely", "partial", "gone"};
  std::vector<std::string> ratings;
  for (std::string value : line.list("rating")) {
    const bool or_better = value.ends_with('+');
    if (or_better) value.pop_back();
    require_known("--rating", value, kBestFirst);
    const auto at = std::ranges::find(kBestFirst, value);
    ratings.insert(ratings.end(), or_better ? kBestFirst.begin() : at, at + 1);
  }
  return ratings;
}

void require_volume(const Shelf& shelf, VolumeId id) {
  const std::vector<VolumeRecord> volumes = shelf.volumes(false);
  if (std::ranges::find(volumes, id, &VolumeRecord::id) != volumes.end()) return;
  throw Error(Failure::usage,
              fmt::format("The shelf has no volume {}. `undershelf volumes` shows their ids.", id));
}

void read_order(const CommandLine& line, Selection& selection) {
  std::string field = line.text("sort");
  selection.descending = field.starts_with('-');
  if (selection.descending) field.erase(0, 1);
  require_known("--sort", field, sort_fields());
  selection.sort = field;
}

}  // namespace

Selection parse_filters(const CommandLine& line, const Zone& zone) {
  Selection s;
  s.names = line.list("name");
  s.paths = line.list("path");
  s.words = line.list("find");
  s.match_case = line.has("match-case");
  for (const std::string& extension : line.list("ext")) {
    s.extensions.push_back(bare_extension(extension));
  }
  s.types = known_list(line, "type", {type_names().begin(), type_names().end()});
  s.states = known_list(line, "state", {"live", "deleted", "former", "carved"});
  s.kinds = known_list(line, "kind", {"file", "folder"});
  s.ratings = read_ratings(line);
  for (const std::string& size : line.list("size")) s.sizes.push_back(parse_sizes(size));
  const Time now{std::time(nullptr) * kTicksPerSecond};
  for (const std::string& t : line.list("modified"))
    s.modified.push_back(parse_times(t, zone, now));
  for (const std::string& t : line.list("created")) s.created.push_back(parse_times(t, zone, now));
  for (const std::string& t : line.list("accessed"))
    s.accessed.push_back(parse_times(t, zone, now));
  for (const std::string& t : line.list("deleted")) s.deleted.push_back(parse_times(t, zone, now));
  for (const std::string& id : line.list("volume")) {
    s.volumes.push_back(static_cast<VolumeId>(read_id(id)));
  }
  for (const std::string& id : line.list("id")) {
    s.ids.push_back(static_cast<EntryId>(read_id(id)));
  }
  s.trashed = line.has("trashed");
  s.hidden = line.has("hidden");
  s.duplicates = line.has("duplicates");
  s.system = line.has("system");
  if (line.has("sort")) read_order(line, s);
  if (line.has("limit")) s.limit = read_number("limit", line.text("limit"));
  if (s.limit == uint64_t{0}) {
    throw Error(Failure::usage, "--limit 0 leaves nothing. Give a number from 1 on.");
  }
  return s;
}

Selection read_filters(const CommandLine& line, const Shelf& shelf) {
  Selection s = parse_filters(line, read_zone(line, shelf).zone);
  for (const VolumeId id : s.volumes) require_volume(shelf, id);
  for (EntryId& id : s.ids) id = resolve_id(shelf, id);
  return s;
}

EntryId read_entry(const CommandLine& line, const Shelf& shelf) {
  const std::string text = line.text("ID");
  if (text.find_first_not_of("0123456789") == std::string::npos) {
    const auto asked = static_cast<EntryId>(read_id(text));
    const EntryId found = resolve_id(shelf, asked);
    if (found != asked) say(fmt::format("Entry {} was merged into entry {}.", asked, found));
    return found;
  }
  const std::vector<Row> rows = entries_at(shelf, text);
  if (rows.empty()) {
    throw Error(Failure::usage,
                fmt::format("The shelf has no entry {}. `undershelf list` shows paths and ids.",
                            printable(text)));
  }
  if (rows.size() == 1) return rows.front().id;
  constexpr size_t kMostTold = 8;
  std::vector<std::string> choices;
  for (size_t i = 0; i < std::min(rows.size(), kMostTold); ++i) {
    choices.push_back(fmt::format("{} ({}{})", rows[i].id, rows[i].state,
                                  rows[i].rating ? ", " + *rows[i].rating : ""));
  }
  throw Error(Failure::usage, fmt::format("{} entries have the path {}: {}{}. Say which by its id.",
                                          rows.size(), printable(text), fmt::join(choices, ", "),
                                          rows.size() > kMostTold ? " and more" : ""));
}

}  // namespace undershelf::cli
