// `undershelf peek`: into the content of one file.
#include <fmt/format.h>

#include <algorithm>
#include <iostream>

#include "access/content.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

constexpr uint64_t kDefaultBytes = 2048;
constexpr uint64_t kMostBytes = 64 << 20;

bool reads_as_text(std::span<const std::byte> bytes) {
  return std::ranges::none_of(bytes, [](std::byte b) {
    const auto c = std::to_integer<unsigned>(b);
    return c < 9 || (c > 13 && c < 32) || c == 127;
  });
}

void print_text(std::span<const std::byte> bytes) {
  const std::string text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
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

void print_hex(std::span<const std::byte> bytes, uint64_t from, const Losses& losses) {
  for (size_t at = 0; at < bytes.size(); at += 16) {
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
  each_row(shelf, selection, [&](const Row& row) {
    if (row.stream.value_or("") == stream && !row.is_folder()) found = row;
    return true;
  });
  if (found && !found->size) {
    throw Error(
        Failure::incomplete,
        fmt::format("Of entry {} only the name is left: there is no content to look into.", id));
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
bool say_losses(const Losses& losses, const ByteRange& shown) {
  constexpr size_t kMostTold = 8;
  bool unreadable = false;
  size_t told = 0;
  for (const Loss& loss : losses) {
    const ByteRange part = overlap({loss.offset, loss.length}, shown);
    if (part.length == 0) continue;
    unreadable = unreadable || loss.cause == Loss::Cause::unreadable;
    if (++told > kMostTold) continue;
    say(fmt::format("{} from {} on: {}, {}.", counted(part.length, "byte"), part.offset,
                    why_of(loss.cause),
                    is_zero_filled(loss.cause) ? "shown as --" : "what is there now is shown"));
  }
  if (told > kMostTold) say(fmt::format("And {} such places more.", told - kMostTold));
  return unreadable;
}

}  // namespace

int run_peek(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("hex", "as hex, even if it reads as text")                             //
      ("from", po::value<std::string>()->value_name("N"), "first byte to show")                //
      ("bytes", po::value<std::string>()->value_name("N"), "how many bytes; 2K if not given")  //
      ("stream", po::value<std::string>()->value_name("NAME"), "a stream other than the main one")
      //
      ("source", po::value<std::string>()->value_name("PATH"), "where the source is now");
  const CommandLine line(self, options, {"SHELF", "ID"}, arguments);
  if (line.help_given()) return kDone;
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Row row = find_stream(shelf, read_entry(line, shelf), line.text("stream"));
  const uint64_t wanted = std::min(read_bytes(line, "bytes", kDefaultBytes), kMostBytes);
  const SourcePtr source = open_scanned_source(shelf, line.text("source"));
  Spaces spaces(shelf, source);
  const StreamReader stream = ContentOpener(shelf, spaces).open(row.stream_id);
  const uint64_t from = line.has("from") ? read_bytes(line, "from", 0) : first_intact(stream);
  if (from > stream.size() || (from == stream.size() && from > 0)) {
    throw Error(Failure::usage, fmt::format("--from {} lies behind the end: the file has {}.", from,
                                            counted(stream.size(), "byte")));
  }
  std::vector<std::byte> bytes(std::min(wanted, stream.size() - from));
  Losses losses = stream.read(from, bytes);
  losses.insert(losses.end(), stream.known_losses().begin(), stream.known_losses().end());
  losses = settled(losses, stream.size());
  const bool missing = std::ranges::any_of(losses, [&](const Loss& loss) {
    return is_zero_filled(loss.cause) &&
           overlap({loss.offset, loss.length}, {from, bytes.size()}).length > 0;
  });
  if (!line.has("hex") && !missing && reads_as_text(bytes)) {
    print_text(bytes);
  } else {
    print_hex(bytes, from, losses);
  }
  const bool unreadable = say_losses(losses, {from, bytes.size()});
  if (row.encrypted) say("It is encrypted: these are the bytes as they are stored.");
  if (from > 0 && !line.has("from")) {
    say(fmt::format("The first {} are not there: this begins with the first one that is.",
                    counted(from, "byte")));
  }
  say(fmt::format(
      "Bytes {} to {} of {}, {}.", from, from + bytes.size(), stream.size(),
      row.rating ? fmt::format("{}, score {}", *row.rating, *row.score) : "not rated yet"));
  if (row.rating != "gone") {
    next_step(fmt::format("undershelf export {} --to DIR --id {}", quoted_path(path), row.id));
  }
  return unreadable ? kIncomplete : kDone;
}

}  // namespace undershelf::cli
