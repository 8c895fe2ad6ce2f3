#include "cli/filters.h"

#include <fmt/format.h>

#include <charconv>

#include "content/types.h"

namespace undershelf::cli {
namespace {

using List = std::vector<std::string>;

std::vector<std::string> known_list(const CommandLine& line, const std::string& option,
                                    const std::vector<std::string>& known) {
  std::vector<std::string> values = line.list(option);
  for (const std::string& value : values) require_known("--" + option, value, known);
  return values;
}

std::string without_dot(const std::string& extension) {
  return extension.starts_with('.') ? extension.substr(1) : extension;
}

}  // namespace

void add_filters(po::options_description& options) {
  po::options_description filters("Filters (several values are alternatives)");
  filters.add_options()                                                                //
      ("name", po::value<List>()->value_name("GLOB"), "whole name; * and ? as usual")  //
      ("path", po::value<List>()->value_name("GLOB"),
       "whole path; * and ? stay within a part, ** crosses parts")             //
      ("match-case", "upper and lower case differ in names and paths")         //
      ("ext", po::value<List>()->value_name("EXT"), "extension, such as csv")  //
      ("type", po::value<List>()->value_name("TYPE"),
       "picture, document, video, audio, archive, mail, database, other")      //
      ("size", po::value<List>()->value_name("A..B"), "bytes; K, M, G: 1024")  //
      ("modified", po::value<List>()->value_name("A..B"), "dates, such as 2026-03-01..2026-03-31")
      //
      ("created", po::value<List>()->value_name("A..B"), "likewise")   //
      ("accessed", po::value<List>()->value_name("A..B"), "likewise")  //
      ("deleted", po::value<List>()->value_name("A..B"), "likewise")   //
      ("time-zone", po::value<std::string>()->value_name("ZONE"),
       "of the dates in filters, such as Europe/Oslo; UTC if not given")                  //
      ("state", po::value<List>()->value_name("STATE"), "live, deleted, former, carved")  //
      ("rating", po::value<std::string>()->value_name("RATING"),
       "whole, likely, partial, gone: this or better")                                       //
      ("volume", po::value<List>()->value_name("N"), "volume ids, as in `volumes`")          //
      ("kind", po::value<List>()->value_name("KIND"), "file, folder")                        //
      ("id", po::value<List>()->value_name("N"), "entry ids")                                //
      ("system", "a file system's own files too")                                            //
      ("sort", po::value<std::string>()->value_name("FIELD"), "instead of volume and path")  //
      ("limit", po::value<std::string>()->value_name("N"), "at most so many");
  options.add(filters);
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

uint64_t read_bytes(const CommandLine& line, const std::string& option, uint64_t otherwise) {
  if (!line.has(option)) return otherwise;
  const Between<uint64_t> value = parse_sizes(line.text(option));
  if (!value.from || value.from != value.to) {
    throw Error(Failure::usage, fmt::format("--{} takes one number of bytes.", option));
  }
  return *value.from;
}

std::string read_format(const CommandLine& line, const std::vector<std::string>& known) {
  if (!line.has("format")) return known.front();
  require_known("--format", line.text("format"), known);
  return line.text("format");
}

Zone read_zone(const CommandLine& line) {
  if (!line.has("time-zone")) return {};
  const std::optional<Zone> zone = Zone::named(line.text("time-zone"));
  if (!zone) {
    throw Error(Failure::usage,
                fmt::format("There is no time zone `{}`. Write it like Europe/Oslo.",
                            line.text("time-zone")));
  }
  return *zone;
}

Selection read_filters(const CommandLine& line, const Shelf& shelf) {
  Selection s;
  s.names = line.list("name");
  s.paths = line.list("path");
  s.match_case = line.has("match-case");
  for (const std::string& extension : line.list("ext")) {
    s.extensions.push_back(without_dot(extension));
  }
  s.types = known_list(line, "type", {type_names().begin(), type_names().end()});
  s.states = known_list(line, "state", {"live", "deleted", "former", "carved"});
  s.kinds = known_list(line, "kind", {"file", "folder"});
  if (line.has("rating")) {
    require_known("--rating", line.text("rating"), {"whole", "likely", "partial", "gone"});
    s.rating = line.text("rating");
  }
  for (const std::string& size : line.list("size")) s.sizes.push_back(parse_sizes(size));
  const Zone zone = read_zone(line);
  for (const std::string& t : line.list("modified")) s.modified.push_back(parse_times(t, zone));
  for (const std::string& t : line.list("created")) s.created.push_back(parse_times(t, zone));
  for (const std::string& t : line.list("accessed")) s.accessed.push_back(parse_times(t, zone));
  for (const std::string& t : line.list("deleted")) s.deleted.push_back(parse_times(t, zone));
  for (const std::string& id : line.list("volume")) s.volumes.push_back(read_id(id));
  for (const std::string& id : line.list("id")) {
    s.ids.push_back(resolve_id(shelf, read_id(id)));
  }
  s.system = line.has("system");
  if (line.has("sort")) {
    require_known("--sort", line.text("sort"), sort_fields());
    s.sort = line.text("sort");
  }
  if (line.has("limit")) s.limit = static_cast<uint64_t>(read_id(line.text("limit")));
  return s;
}

}  // namespace undershelf::cli
