// `undershelf peek`: into the content of one file.
#include <fmt/format.h>

#include <algorithm>
#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "exporting/content.h"
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

void print_hex(std::span<const std::byte> bytes, uint64_t from) {
  for (size_t at = 0; at < bytes.size(); at += 16) {
    std::string hex;
    std::string text;
    for (size_t i = at; i < std::min(at + 16, bytes.size()); ++i) {
      const auto c = std::to_integer<unsigned>(bytes[i]);
      hex += fmt::format("{:02x} ", c);
      text += c >= 32 && c < 127 ? static_cast<char>(c) : '.';
    }
    std::cout << fmt::format("{:>10}  {:<48} {}\n", from + at, hex, text);
  }
}

// The row of the stream that was asked for: the main one, or the one named.
Row find_stream(const Shelf& shelf, int64_t id, const std::string& stream) {
  Selection selection;
  selection.ids = {resolve_id(shelf, id)};
  selection.system = true;
  std::optional<Row> found;
  each_row(shelf, selection, [&](const Row& row) {
    if (row.stream.value_or("") == stream && row.size) found = row;
    return true;
  });
  if (!found) {
    throw Error(
        Failure::usage,
        fmt::format("Entry {} has no such content; `undershelf show` tells what it has.", id));
  }
  return *found;
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
  const int64_t id = read_id(line.text("ID"));
  const Row row = find_stream(shelf, id, line.text("stream"));
  const uint64_t from = read_bytes(line, "from", 0);
  const uint64_t wanted = std::min(read_bytes(line, "bytes", kDefaultBytes), kMostBytes);

  const SourcePtr source = open_scanned_source(shelf, line.text("source"));
  const StreamReader stream = ContentOpener(shelf, source).open(row.stream_id);
  std::vector<std::byte> bytes(from < stream.size() ? std::min(wanted, stream.size() - from)
                                                    : uint64_t{0});
  std::vector<Hole> holes = stream.read(from, bytes);
  holes.insert(holes.end(), stream.known_holes().begin(), stream.known_holes().end());
  if (!line.has("hex") && reads_as_text(bytes)) {
    print_text(bytes);
  } else {
    print_hex(bytes, from);
  }
  bool unreadable = false;
  for (const Hole& hole : holes) {
    const ByteRange shown = overlap({hole.offset, hole.length}, {from, bytes.size()});
    if (shown.length == 0) continue;
    say(fmt::format("{} bytes from {} on are {} and shown as zeros.", shown.length, shown.offset,
                    to_text(hole.why)));
    unreadable = unreadable || hole.why == Hole::Why::unreadable;
  }
  say(fmt::format("Bytes {} to {} of {}, {}.", from, from + bytes.size(), stream.size(),
                  row.rating.value_or("not rated yet")));
  next_step(fmt::format("undershelf export {} --to DIR --id {}", shell_quoted(path), row.id));
  return unreadable ? kIncomplete : kDone;
}

}  // namespace undershelf::cli
