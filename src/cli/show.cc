// `undershelf show`: everything known of one entry.
#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "model/text.h"
#include "rating/rate_pass.h"
#include "shelf/details.h"

namespace undershelf::cli {
namespace {

void field(const std::string& label, const std::string& value) {
  if (!value.empty()) std::cout << fmt::format("{:<14} {}\n", label, printable(value));
}

std::string time_text(const std::optional<Time>& time) {
  return time ? to_rfc3339(*time) : std::string();
}

void print_entry(const Row& row, const EntryDetails& details, const Shelf& shelf) {
  field("id", fmt::format("{}", row.id));
  field("path", row.path);
  if (!row.path_exact)
    field("", "The path is not exact: a part is made up, a letter is lost, or a name may be cut.");
  if (!row.raw_name.empty()) field("stored name", to_hex(row.raw_name) + " (hex)");
  field("kind", row.kind);
  field("state", row.state + (row.marked_deleted ? ", marked deleted in its own record" : ""));
  for (const VolumeRecord& record : shelf.volumes(false)) {
    if (record.id == row.volume) {
      field("volume",
            fmt::format("{} ({} {})", record.id, record.volume.file_system, record.volume.label));
    }
  }
  field("created", time_text(row.created));
  field("modified", time_text(row.modified));
  field("accessed", time_text(row.accessed));
  field("deleted", time_text(row.deleted));
  field("original path", row.original_path.value_or(""));
  if (details.type_and_creator.size() == 8) {
    field("type, creator", fmt::format("{}, {}", printable(details.type_and_creator.substr(0, 4)),
                                       printable(details.type_and_creator.substr(4))));
  }
  field("leads to", details.link_target);
  for (const std::string& name : details.link_paths) field("also at", name);
  for (const std::string& name : details.former_paths) field("former name", name);
  for (const Evidence& fact : details.evidence) {
    field("evidence", evidence_sentence(fact));
  }
}

void print_pieces(const Pieces& pieces) {
  constexpr size_t kMost = 12;
  for (size_t i = 0; i < pieces.size() && i < kMost; ++i) {
    const Piece& piece = pieces[i];
    const std::string label = i == 0 ? "pieces" : "";
    switch (piece.kind) {
      case Piece::Kind::range:
        field(label, fmt::format("{} bytes at byte {} of the source", piece.length, piece.offset));
        break;
      case Piece::Kind::zeros:
        field(label, fmt::format("{} bytes that read as zeros", piece.length));
        break;
      case Piece::Kind::unknown:
        field(label, fmt::format("{} bytes whose place is not known", piece.length));
        break;
      case Piece::Kind::inline_bytes:
        field(label, fmt::format("{} bytes kept in the shelf", piece.length));
        break;
    }
  }
  if (pieces.size() > kMost) field("", fmt::format("and {} more", pieces.size() - kMost));
}

void print_stream(const Row& row, const Shelf& shelf) {
  const RatedStream rated = load_facts(shelf, row.stream_id);
  std::cout << '\n';
  field("stream", row.stream.value_or("main"));
  field("size", row.size_known() ? fmt::format("{} bytes", *row.size) : "not known");
  field("type", row.type.value_or(""));
  field("rating",
        fmt::format("{}, score {}", row.rating.value_or("not rated yet"), row.score.value_or(0)));
  field("intact", fmt::format("{} bytes", row.intact_bytes.value_or(0)));
  print_pieces(load_pieces(shelf, row.stream_id));
  if (rated.format == nullptr) return;
  std::string label = "reasons";
  for (const std::string& reason : reasons(rated.facts, *rated.format)) {
    field(label, reason);
    label = "";
  }
}

}  // namespace

int run_show(const Command& self, const std::vector<std::string>& arguments) {
  const po::options_description options("Options");
  const CommandLine line(self, options, {"SHELF", "ID"}, arguments);
  if (line.help_given()) return kDone;
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  Selection selection;
  const int64_t asked = read_id(line.text("ID"));
  selection.ids = {resolve_id(shelf, asked)};
  selection.system = true;
  if (selection.ids[0] != asked) {
    say(fmt::format("Entry {} was merged into entry {}.", asked, selection.ids[0]));
  }
  bool first = true;
  bool file = false;
  each_row(shelf, selection, [&](const Row& row) {
    if (first) print_entry(row, load_details(shelf, row.id), shelf);
    first = false;
    if (row.size) {
      print_stream(row, shelf);
      file = true;
    }
    return true;
  });
  next_step(fmt::format(
      "undershelf {} {} {}", file ? "peek" : "tree", shell_quoted(path),
      file ? std::to_string(selection.ids[0]) : fmt::format("--id {}", selection.ids[0])));
  return kDone;
}

}  // namespace undershelf::cli
