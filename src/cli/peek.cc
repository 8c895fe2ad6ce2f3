// `undershelf peek`: into the content of one file.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <iostream>

#include "access/content.h"
#include "checking/preview.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "cli/shelf_source.h"
#include "cli/terminal_picture.h"
#include "exporting/target.h"
#include "model/encoding.h"
#include "model/text.h"
#include "source/files.h"
#include "source/protect.h"

namespace undershelf::cli {
namespace {

constexpr uint64_t kDefaultBytes = 2048;
constexpr uint64_t kMostBytes = 64 << 20;

void print_text(const std::string& text) {
  for (size_t at = 0; at < text.size();) {
    const size_t end = std::min(text.find('\n', at), text.size());
    std::string line = text.substr(at, end - at);
    if (line.ends_with('\r')) line.pop_back();
    std::ranges::replace(line, '\t', ' ');
    std::cout << printable(line) << '\n';
    at = end + 1;
  }
}

// Whether a byte of the stream is not there.
bool is_lost(const Losses& losses, uint64_t at) {
  const auto loss =
      std::ranges::partition_point(losses, [&](const Loss& l) { return l.end() <= at; });
  return loss != losses.end() && loss->offset <= at && is_zero_filled(loss->cause);
}

// `where`: the source, or the disk image on it, that the stream is read from.
void print_hex(std::span<const std::byte> bytes, uint64_t from, const Losses& losses,
               const StreamReader& stream, std::string_view where) {
  std::optional<uint64_t> expected;
  for (size_t at = 0; at < bytes.size(); at += 16) {
    const std::optional<uint64_t> stored = stream.stored_at(from + at);
    if (stored && stored != expected) {
      std::cout << fmt::format("At byte {} of {}:\n", *stored, where);
    }
    if (stored) expected = *stored + 16;
    std::string hex;
    std::string text;
    for (size_t i = at; i < std::min(at + 16, bytes.size()); ++i) {
      if (is_lost(losses, from + i)) {
        hex += "-- ";
        text += ' ';
        continue;
      }
      const auto c = std::to_integer<unsigned>(bytes[i]);
      hex += fmt::format("{:02x} ", c);
      text += c >= 32 && c < 127 ? static_cast<char>(c) : '.';
    }
    std::cout << fmt::format("{:>10}  {:<48} {}\n", from + at, hex, text);
  }
}

// The row of the stream that was asked for: the main one, or the one named.
Row find_stream(const Shelf& shelf, EntryId id, const std::string& stream) {
  Selection selection;
  selection.ids = {id};
  selection.system = true;
  selection.with_contents = selection.links = false;
  std::optional<Row> found;
  bool is_folder = false;
  each_row(shelf, selection, [&](const Row& row) {
    is_folder = is_folder || row.is_folder();
    if (row.stream.value_or("") == stream && !row.is_folder()) found = row;
    return true;
  });
  if (found && !found->size) {
    throw Error(
        Failure::incomplete,
        fmt::format("Of entry {} only the name is left: there is no content to look into.", id));
  }
  if (!found && is_folder && stream.empty()) {
    throw Error(
        Failure::usage,
        fmt::format("Entry {0} is a folder. `undershelf list SHELF --id {0}` shows what is in "
                    "it.",
                    id));
  }
  if (!found) {
    throw Error(
        Failure::usage,
        fmt::format("Entry {} has no such content; `undershelf show` tells what it has.", id));
  }
  return *found;
}

// The first byte that is there; 0 if none is.
uint64_t first_intact(const StreamReader& stream) {
  uint64_t at = 0;
  for (const Loss& loss : stream.known_losses()) {
    if (loss.offset > at || !is_zero_filled(loss.cause)) break;
    at = loss.end();
  }
  return at >= stream.size() ? 0 : at;
}

// Says what of the bytes shown is not the file's own. Returns whether some could not be read.
bool say_losses(const Losses& losses, const ByteRange& shown, std::string_view filled = "-- is") {
  constexpr size_t kMostTold = 8;
  bool unreadable = false;
  size_t told = 0;
  for (const Loss& loss : losses) {
    const ByteRange part = overlap({loss.offset, loss.length}, shown);
    if (part.length == 0) continue;
    unreadable = unreadable || is_met_in_reading(loss.cause);
    if (++told > kMostTold) continue;
    say(fmt::format("{} from {} on: {}, {} {}.", counted(part.length, "byte"), part.offset,
                    why_of(loss.cause),
                    is_zero_filled(loss.cause) ? filled : "what is there now is", "shown"));
  }
  if (told > kMostTold) say(fmt::format("And {} such places more.", told - kMostTold));
  return unreadable;
}

// All bytes of a range as they are. Whether some are missing is told when they are out.
int write_raw(const StreamReader& stream, const ByteRange& range) {
  if (::isatty(STDOUT_FILENO) != 0) {
    throw Error(Failure::usage,
                "Raw bytes do not go to a terminal: lead them into a file or another program.");
  }
  std::vector<std::byte> buffer(1 << 20);
  Losses losses;
  for (uint64_t at = range.offset; at < range.end() && std::cout; at += buffer.size()) {
    const auto part = std::span(buffer).first(std::min<uint64_t>(buffer.size(), range.end() - at));
    for (const Loss& loss : stream.read(at, part)) append_loss(losses, loss);
    std::cout.write(reinterpret_cast<const char*>(part.data()),
                    static_cast<std::streamsize>(part.size()));
  }
  std::cout.flush();
  losses.insert(losses.end(), stream.known_losses().begin(), stream.known_losses().end());
  losses = settled(losses, stream.size());
  say_losses(losses, range, "zeros are");
  const bool complete = std::ranges::none_of(losses, [&](const Loss& loss) {
    return overlap({loss.offset, loss.length}, range).length > 0;
  });
  return complete ? kDone : kIncomplete;
}

int write_picture(const CommandLine& line, const Shelf& shelf, const StreamReader& stream) {
  const std::string path = line.text("picture");
  refuse_on_source("target", path, path_of_source(line, shelf));
  require_new_file(path);
  constexpr uint32_t kMost = 2048;  // pixels, each way
  checking::Previewer previewer(kMost, kMost);
  const auto preview = previewer.look(stream).picture;
  if (!preview) {
    throw Error(Failure::incomplete,
                previewer.decodes_all()
                    ? "There is no picture to show: it is no picture, video or document with a "
                      "page that is decoded here, or nothing of it decodes."
                    : fmt::format("There is no picture to show: it is no JPEG, PNG, GIF, WebP or "
                                  "TIFF picture, or nothing of it decodes. {}",
                                  checking::kNotAllDecoders));
  }
  write_new_file(path, checking::png_of(*preview));
  say(fmt::format("{}: {}x{} pixels{}.", printable(path), preview->width, preview->height,
                  preview->full_width == 0
                      ? ""
                      : fmt::format(", of {}x{}", preview->full_width, preview->full_height)));
  return stream.known_losses().empty() ? kDone : kIncomplete;
}

bool begins_an_archive(const StreamReader& stream) {
  std::array<std::byte, 2> mark{};
  stream.read(0, std::span(mark).first(std::min<uint64_t>(mark.size(), stream.size())));
  return mark == std::array{std::byte{'P'}, std::byte{'K'}};
}

// A picture in a terminal that shows such, or the first words of an office document; false if there
// is neither.
bool show_look(const Row& row, const StreamReader& stream) {
  const std::string type = row.type.value_or("");
  const bool in_archive = begins_an_archive(stream);
  if (type != "picture" && type != "video" && row.format.value_or("") != "pdf" && !in_archive) {
    return false;
  }
  const auto [width, height] = picture_room();
  if (width == 0 && !in_archive) return false;
  const checking::Look look = checking::Previewer(width, height).look(stream);
  if (!look.words.empty()) {
    print_text(look.words);
    say("These are the first words of the document; --hex shows its bytes.");
    return true;
  }
  if (!look.picture || width == 0) return false;
  std::cout << sixels_of(*look.picture) << '\n';
  return true;
}

// As text if it reads as such, else as hex. Returns what of the stream is lost, as far as it is
// known.
Losses show_bytes(const StreamReader& stream, const ByteRange& range, bool as_hex,
                  std::string_view where) {
  std::vector<std::byte> bytes(range.length);
  Losses losses = stream.read(range.offset, bytes);
  losses.insert(losses.end(), stream.known_losses().begin(), stream.known_losses().end());
  losses = settled(losses, stream.size());
  const bool missing = std::ranges::any_of(losses, [&](const Loss& loss) {
    return is_zero_filled(loss.cause) && overlap({loss.offset, loss.length}, range).length > 0;
  });
  std::optional<DecodedText> text;
  if (!as_hex && !missing) text = decode_text(bytes);
  if (text) {
    print_text(text->utf8);
    if (text->encoding != "UTF-8") say(fmt::format("Text in {}.", text->encoding));
  } else {
    print_hex(bytes, range.offset, losses, stream, where);
  }
  return losses;
}

}  // namespace

int run_peek(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("hex", "as hex, even if it reads as text or shows as a picture")  //
      ("raw", "all of it as it is, into a pipe or file; from --from, --bytes of it")      //
      ("picture", po::value<std::string>()->value_name("FILE.png"),
       "the picture that it is, the first frame or page, as a new PNG of at most 2048 pixels")  //
      ("from", po::value<std::string>()->value_name("N"), "first byte to show")                 //
      ("bytes", po::value<std::string>()->value_name("N"), "how many bytes; 2K if not given")   //
      ("stream", po::value<std::string>()->value_name("NAME"), "a stream other than the main one");
  add_source(options);
  add_through(options);
  const CommandLine line(self, options, {"SHELF", "ID"}, arguments);
  if (line.help_given()) return kDone;
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Row row = find_stream(shelf, read_entry(line, shelf), line.text("stream"));
  const uint64_t wanted = std::min(read_bytes(line, "bytes", kDefaultBytes), kMostBytes);
  const SourcePtr source = open_source_of(line, shelf, {line.text("picture")});
  Spaces spaces(shelf, source);
  const StreamReader stream = ContentOpener(shelf, spaces).open(row.stream_id);
  const uint64_t from = line.has("from") ? read_bytes(line, "from", 0) : first_intact(stream);
  if (from > stream.size() || (from == stream.size() && from > 0)) {
    throw Error(Failure::usage, fmt::format("--from {} lies behind the end: the file has {}.", from,
                                            counted(stream.size(), "byte")));
  }
  if (line.has("picture")) return write_picture(line, shelf, stream);
  if (line.has("raw")) {
    const uint64_t most = stream.size() - from;
    return write_raw(stream, {from, std::min(read_bytes(line, "bytes", most), most)});
  }
  const bool looked_at =
      !line.has("hex") && !line.has("from") && !line.has("bytes") && show_look(row, stream);
  const bool on_image = row.volume && spaces.of_volume(*row.volume) != source;
  const ByteRange shown = looked_at ? ByteRange{0, stream.size()}
                                    : ByteRange{from, std::min(wanted, stream.size() - from)};
  const Losses losses = looked_at
                            ? stream.known_losses()
                            : show_bytes(stream, shown, line.has("hex"),
                                         on_image ? "the disk image it lies on" : "the source");
  const bool unreadable = say_losses(losses, shown, looked_at ? "zeros are" : "-- is");
  if (row.encrypted) say("It is encrypted: these are the bytes as they are stored.");
  if (shown.offset > 0 && !line.has("from")) {
    say(fmt::format("The first {} are not there: this begins with the first one that is.",
                    counted(from, "byte")));
  }
  say(fmt::format(
      "Bytes {} to {} of {}, {}.", shown.offset, shown.end(), stream.size(),
      row.rating ? fmt::format("{}, score {}", *row.rating, *row.score) : "not rated yet"));
  if (row.rating != "gone") {
    next_step(fmt::format("undershelf export {} --to DIR --id {}", quoted_path(path), row.id));
  }
  return unreadable ? kIncomplete : kDone;
}

}  // namespace undershelf::cli
