// `undershelf show`: everything known of one entry.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <array>
#include <iostream>
#include <nlohmann/json.hpp>

#include "access/entries.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "fs/fs.h"
#include "model/text.h"
#include "rating/reasons.h"
#include "shelf/details.h"

namespace undershelf::cli {
namespace {

constexpr size_t kLabel = 15;  // columns

void field(const std::string& label, const std::string& value) {
  if (!value.empty()) print_line(fmt::format("{:<14} {}", label, value), kLabel);
}

// As many fields as there are values, the label at the first.
void fields(std::string label, const std::vector<std::string>& values) {
  for (const std::string& value : values) {
    field(label, value);
    label.clear();
  }
}

// `space`: what its volume lies on (VolumeRecord::space).
std::string piece_text(const Piece& piece, SpaceId space) {
  switch (piece.kind) {
    case Piece::Kind::range:
      return fmt::format("{} bytes at byte {} of {}", piece.length, piece.offset,
                         space == SpaceId::source ? "the source" : disk_image(space));
    case Piece::Kind::zeros:
      return fmt::format("{} bytes that read as zeros", piece.length);
    case Piece::Kind::unknown:
      return fmt::format("{} bytes whose place is not known", piece.length);
    case Piece::Kind::inline_bytes:
      break;
  }
  return fmt::format("{} bytes kept in the shelf", piece.length);
}

// The volume of an entry; nothing if it has none.
std::optional<VolumeRecord> volume_of(const Row& row, const Shelf& shelf) {
  for (VolumeRecord& record : shelf.volumes(false)) {
    if (record.id == row.volume) return std::move(record);
  }
  return std::nullopt;
}

// What the volume of an entry lies on.
SpaceId space_of(const Row& row, const Shelf& shelf) {
  const std::optional<VolumeRecord> record = volume_of(row, shelf);
  return record ? record->space : SpaceId::source;
}

// The first of many, and how many there are besides.
template <typename Value, typename ToText>
std::vector<std::string> first_of(const std::vector<Value>& values, ToText to_text) {
  constexpr size_t kMost = 12;
  std::vector<std::string> texts;
  for (size_t i = 0; i < values.size() && i < kMost; ++i) texts.push_back(to_text(values[i]));
  if (values.size() > kMost) texts.push_back(fmt::format("and {} more", values.size() - kMost));
  return texts;
}

void print_entry(const Row& row, const EntryDetails& details, const Shelf& shelf,
                 const ShownZone& zone) {
  const auto time = [&](const char* label, const std::optional<Time>& t) {
    if (t) field(label, fmt::format("{} ({})", table_time(t, zone.zone), zone.name));
  };
  field("id", fmt::format("{}", row.id));
  field("path", row.path);
  if (!row.path_exact) {
    field("", "The path is not exact: a part is made up, a letter is lost, or a name may be cut.");
  }
  if (!row.raw_name.empty()) field("stored name", to_hex(row.raw_name) + " (hex)");
  field("kind", row.kind);
  field("state", row.state + (row.marked_deleted ? ", marked deleted in its own record" : "") +
                     (row.trashed ? ", in a trash folder" : "") +
                     (details.hidden ? ", hidden" : ""));
  if (const std::optional<VolumeRecord> record = volume_of(row, shelf)) {
    const Volume& v = record->volume;
    field("volume",
          fmt::format("{} ({}{}{}){}", record->id, spelled(v.file_system),
                      v.label.empty() ? "" : ", ", v.label,
                      record->space == SpaceId::source ? "" : ", on " + disk_image(record->space)));
  }
  time("created", row.created);
  time("modified", row.modified);
  time("accessed", row.accessed);
  time("deleted", row.deleted);
  field("original path", row.original_path.value_or(""));
  if (details.type_and_creator.size() == 8) {
    field("type, creator", fmt::format("{}, {}", details.type_and_creator.substr(0, 4),
                                       details.type_and_creator.substr(4)));
  }
  field("leads to", details.link_target);
  fields("also at", details.link_paths);
  fields("former name", row.former_paths);
  std::vector<std::string> facts;
  for (const Evidence& fact : details.evidence) facts.push_back(evidence_sentence(fact));
  fields("evidence", facts);
}

// What a file says of itself, in words; `says` is JSON.
std::string told(const std::string& says) {
  const auto json = nlohmann::json::parse(says, nullptr, false);
  if (!json.is_object()) return {};
  const auto text = [&](const char* key) {
    return json.value(key, nlohmann::json()).is_string() ? printable(json[key].get<std::string>())
                                                         : std::string();
  };
  const auto number = [&](const char* key) {
    return json.value(key, nlohmann::json()).is_number() ? json[key].get<double>() : 0.0;
  };
  std::vector<std::string> parts;
  const auto add = [&](const char* word, const std::string& value) {
    if (!value.empty()) parts.push_back(word + value);
  };
  add("", text("title"));
  add("by ", text("author"));
  add("made ", text("made"));
  add("with ", text("device"));
  if (number("width") > 0)
    parts.push_back(fmt::format("{:.0f} x {:.0f} pixels", number("width"), number("height")));
  if (number("seconds") > 0) parts.push_back(fmt::format("{:.1f} seconds", number("seconds")));
  return fmt::format("{}", fmt::join(parts, ", "));
}

void print_stream(const Row& row, const Shelf& shelf) {
  std::cout << '\n';
  field("stream", row.stream.value_or("main"));
  field("size", row.size ? counted(*row.size, "byte") : "not known");
  field("type", row.type.value_or(""));
  if (row.check) {
    field("format",
          row.format ? *row.format + ", by its content" : "none that is known, by content");
    field("check", *row.check);
    field("says", told(says_of(shelf, row.stream_id)));
    field("sha256", row.sha256.value_or(""));
  }
  field("rating", row.rating ? fmt::format("{}, score {} (the estimated chance, in per cent, that "
                                           "it comes back byte for byte)",
                                           *row.rating, *row.score)
                             : "not rated yet");
  if (row.size) field("intact", counted(row.intact_bytes.value_or(0), "byte"));
  const SpaceId space = space_of(row, shelf);
  fields("pieces", first_of(load_pieces(shelf, row.stream_id),
                            [&](const Piece& piece) { return piece_text(piece, space); }));
  fields("reasons", reasons_of(shelf, row.stream_id));
}

// What lies in a folder: how much, and the first of it.
void print_children(const Row& folder, const Shelf& shelf) {
  std::vector<std::string> children;
  uint64_t files = 0;
  uint64_t folders = 0;
  each_child(shelf, folder.id, [&](const Row& row) {
    ++(row.is_folder() ? folders : files);
    children.push_back(fmt::format("{}{} (id {}, {}{})", row.name, row.is_folder() ? "/" : "",
                                   row.id, row.state, row.rating ? ", " + *row.rating : ""));
    return true;
  });
  field("holds", children.empty()
                     ? "nothing that was found"
                     : fmt::format("{}, {}", counted(folders, "folder"), counted(files, "file")));
  fields("", first_of(children, [](const std::string& child) { return child; }));
}

void print_json(const Row& row, const EntryDetails& details, const Shelf& shelf) {
  Line line(Line::Form::json);
  line.begin();
  add_fields(line, row);
  line.boolean("hidden", details.hidden);
  line.list("links", details.link_paths);
  std::vector<std::string> facts;
  for (const Evidence& fact : details.evidence) facts.push_back(evidence_sentence(fact));
  line.list("evidence", facts);
  line.list("reasons", row.stream_id == StreamId::none || row.is_folder()
                           ? std::vector<std::string>()
                           : reasons_of(shelf, row.stream_id));
  std::string pieces;
  for (const Piece& piece : load_pieces(shelf, row.stream_id)) {
    constexpr std::array kKinds = {"range", "zeros", "unknown", "inline"};
    pieces += fmt::format(R"({}{{"kind":"{}","offset":{},"length":{}}})", pieces.empty() ? "" : ",",
                          kKinds[static_cast<size_t>(piece.kind)], piece.offset, piece.length);
  }
  line.raw("pieces", "[" + pieces + "]");
  std::vector<EntryId> children;
  if (row.is_folder()) {
    each_child(shelf, row.id, [&](const Row& child) {
      children.push_back(child.id);
      return true;
    });
  }
  line.raw("children", fmt::format("[{}]", fmt::join(children, ",")));
  const auto says = nlohmann::json::parse(says_of(shelf, row.stream_id), nullptr, false);
  line.raw("says", says.is_object() ? says.dump() : "null");
  const SpaceId space = space_of(row, shelf);
  line.number("inside", space == SpaceId::source ? std::nullopt : std::optional(space));
  std::cout << line.end();
}

}  // namespace

int run_show(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("format", po::value<std::string>()->value_name("FORMAT"),
                        "table (the default) or jsonl: an object for each stream")  //
      ("time-zone", po::value<std::string>()->value_name("ZONE"),
       "of the times; the shelf's if not given");
  const CommandLine line(self, options, {"SHELF", "ID"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const ShownZone zone = read_zone(line, shelf);
  Selection selection;
  selection.ids = {read_entry(line, shelf)};
  selection.system = true;
  selection.with_contents = selection.links = false;
  const EntryDetails details = load_details(shelf, selection.ids[0]);
  bool first = true;
  bool folder = false;
  bool readable = false;  // there is content to look into
  std::vector<Row> rows;  // all, before others are asked for
  each_row(shelf, selection, [&](const Row& row) {
    rows.push_back(row);
    return true;
  });
  for (const Row& row : rows) {
    readable = readable || (row.size && !row.stream && row.rating != "gone");
    folder = folder || row.kind == "folder";
    if (format == "jsonl") {
      print_json(row, details, shelf);
      continue;
    }
    if (first) print_entry(row, details, shelf, zone);
    first = false;
    row.is_folder() ? print_children(row, shelf) : print_stream(row, shelf);
  }
  if (folder) {
    next_step(fmt::format("undershelf tree {} --id {}", quoted_path(path), selection.ids[0]));
  } else if (readable) {
    next_step(fmt::format("undershelf peek {} {}", quoted_path(path), selection.ids[0]));
  }
  return kDone;
}

}  // namespace undershelf::cli
