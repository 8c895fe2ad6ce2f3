// PDF: ISO 32000-1, 7.5: the last `startxref` leads to a table of objects, each of which must begin
// where that says. Further `%%EOF` before the last are earlier versions.
#include "content/pdf.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) { return bytes.has(0, "%PDF-") ? "pdf" : ""; }

// The number behind blanks from `at` on, and where it ends; nothing if there is none.
std::optional<uint64_t> number_in(std::string_view text, size_t& at) {
  while (at < text.size() && (text[at] == ' ' || text[at] == '\r' || text[at] == '\n')) ++at;
  uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data() + at, text.data() + text.size(), value);
  if (error != std::errc{}) return std::nullopt;
  at = static_cast<size_t>(end - text.data());
  return value;
}

// Whether an object, or object `wanted`, begins at `at`.
bool object_at(Bytes& bytes, uint64_t at, std::optional<uint64_t> wanted) {
  const std::string text = text_at(bytes, at, 40);
  size_t place = 0;
  const auto number = number_in(text, place);
  const auto generation = number_in(text, place);
  if (!number || !generation || (wanted && *number != *wanted)) return false;
  const size_t word = text.find_first_not_of(" \r\n", place);
  return word != std::string::npos && text.compare(word, 3, "obj") == 0;
}

struct Last {
  uint64_t table = 0, end = 0;  // byte of its table; byte behind its end mark
};

std::optional<Last> last_version(Bytes& bytes) {
  constexpr uint64_t kLook = 64 << 10;
  const uint64_t from = bytes.size() - std::min(bytes.size(), kLook);
  const std::string tail = text_at(bytes, from, kLook);
  const size_t mark = tail.rfind("%%EOF");
  if (mark == std::string::npos) return std::nullopt;
  const size_t start = tail.rfind("startxref", mark);
  if (start == std::string::npos) return std::nullopt;
  size_t at = start + 9;
  const auto table = number_in(tail, at);
  if (!table) return std::nullopt;
  size_t end = mark + 5;
  if (end < tail.size() && tail[end] == '\r') ++end;
  if (end < tail.size() && tail[end] == '\n') ++end;
  return Last{*table, from + end};
}

// Visits the entries of the sections of the table behind the word `xref` at `at` (7.5.4): the
// number of each object, where it says that it begins (nothing if it cannot be read), and where the
// entry is. Returns where they end.
template <typename Visit>
uint64_t each_entry(Bytes& bytes, uint64_t at, const Visit& visit) {
  for (;;) {
    const std::string head = text_at(bytes, at, 64);
    size_t place = 0;
    const auto first = number_in(head, place);
    const auto count = first ? number_in(head, place) : std::nullopt;
    if (!count || *count > 10'000'000) return at;
    place = head.find_first_not_of(" \r\n", place);
    if (place == std::string::npos) return at;
    at += place;
    constexpr uint64_t kEntry = 20;  // bytes
    for (uint64_t i = 0; i < *count; ++i, at += kEntry) {
      const std::string entry = text_at(bytes, at, kEntry);
      size_t in_entry = 0;
      const auto offset = number_in(entry, in_entry);
      const bool is_one = offset && entry.size() == kEntry;
      if (is_one && (entry[17] != 'n' || *offset == 0)) continue;
      if (!visit(*first + i, is_one ? offset : std::nullopt, at)) return at;
    }
  }
}

class Tables {
 public:
  explicit Tables(Bytes& bytes) : bytes_(bytes) {}

  // The first fault of a table and those before it; nothing if all its objects are there.
  std::optional<Walk> fault(uint64_t at) {
    uint64_t first_wrong = UINT64_MAX;
    while (seen_.insert(at).second && seen_.size() < 1000) {
      if (text_at(bytes_, at, 4) != "xref") {
        if (!object_at(bytes_, at, std::nullopt)) {
          return broken(std::min(at, bytes_.size()),
                        "Its table of objects is not where it must be.");
        }
        break;  // a table that is compressed itself
      }
      const auto before = table(at + 4, first_wrong);
      if (!before) break;
      at = *before;
    }
    if (first_wrong == UINT64_MAX) return std::nullopt;
    return broken(std::min(first_wrong, bytes_.size()), "An object does not begin where one must.");
  }

 private:
  // Looks at the objects of one table. Returns where the one before it is.
  std::optional<uint64_t> table(uint64_t at, uint64_t& first_wrong) {
    bool is_readable = true;
    at = each_entry(bytes_, at, [&](uint64_t number, auto offset, uint64_t entry) {
      is_readable = offset.has_value();
      if (!offset || !object_at(bytes_, *offset, number)) {
        first_wrong = std::min(first_wrong, offset.value_or(entry));
      }
      return is_readable;
    });
    if (!is_readable) return std::nullopt;
    const std::string trailer = text_at(bytes_, at, 4096);
    const size_t end = trailer.find("startxref");
    const size_t prev = trailer.find("/Prev");
    if (prev == std::string::npos || prev > end) return std::nullopt;
    size_t place = prev + 5;
    return number_in(trailer, place);
  }

  Bytes& bytes_;
  std::set<uint64_t> seen_;
};

Walk walk(Bytes& bytes, std::string_view) {
  const auto last = last_version(bytes);
  if (!last) return broken(bytes.size(), "Its end, which leads to all else, is missing.");
  if (const auto fault = Tables(bytes).fault(last->table)) return *fault;
  return ended(Level::consistent, last->end);
}

// Behind the end mark at `mark`, and its line end.
uint64_t behind_end_mark(Bytes& bytes, uint64_t mark) {
  uint64_t at = mark + 5;
  if (bytes.u8(at) == '\r') ++at;
  if (bytes.u8(at) == '\n') ++at;
  return at;
}

// Where the table is that leads to all else, as it says before the end mark at `mark`.
std::optional<uint64_t> table_before(Bytes& bytes, uint64_t mark) {
  constexpr uint64_t kLook = 64;
  const uint64_t from = mark - std::min(mark, kLook);
  const std::string before = text_at(bytes, from, mark - from);
  size_t at = before.rfind("startxref");
  if (at == std::string::npos) return std::nullopt;
  at += 9;
  return number_in(before, at);
}

// Whether a version of the file ends with the end mark at `mark`: what leads to its table does.
bool ends_version(Bytes& bytes, uint64_t mark) {
  const auto table = table_before(bytes, mark);
  if (!table || *table >= mark) return false;
  return *table == 0 || text_at(bytes, *table, 4) == "xref" ||
         object_at(bytes, *table, std::nullopt);
}

// From object to object (7.3.10), through tables and end marks, as long as each follows the one
// before.
class Forward {
 public:
  explicit Forward(Bytes& bytes) : bytes_(bytes) {}

  Walk run() {
    std::optional<uint64_t> end;
    bool met_end_mark = false;
    uint64_t at = 0;
    for (;;) {
      at = behind_blanks(at);
      if (bytes_.u8(at) == '%') {
        if (bytes_.has(at, "%%EOF")) {
          if (ends_version(bytes_, at)) end = behind_end_mark(bytes_, at);
          // Asked once: it looks at all objects.
          const bool is_first = !std::exchange(met_end_mark, true);
          const auto holds_more = end || !is_first ? std::nullopt : object_with_more(at);
          if (holds_more) return broken(*holds_more, "An object is longer than its table says.");
        }
        at = behind_line(at);
        continue;
      }
      const auto next = behind_part(at);
      if (!next) break;
      at = *next;
    }
    if (end) return ended(Level::consistent, *end);
    return broken(std::min(at, bytes_.size()), "No object begins where one must.");
  }

  // Behind the data of the stream of the object at `at`, if its dictionary tells its length.
  std::optional<uint64_t> stream_end(uint64_t at) {
    const auto stream = stream_of(text_at(bytes_, at, kLookedAt), at);
    if (!stream || !stream->length || *stream->length > bytes_.size()) return std::nullopt;
    return stream->data + *stream->length;
  }

 private:
  struct Stream {
    uint64_t data = 0;  // where they begin
    std::optional<uint64_t> length;
  };

  // The stream of the object at `at`, with which `text` begins; nothing if it ends without one.
  std::optional<Stream> stream_of(std::string_view text, uint64_t at) {
    const size_t stream = stream_in(text);
    if (stream == std::string_view::npos || text.find(kEnd) < stream) return std::nullopt;
    return Stream{behind_line_end(at + stream + kStream.size()), length_in(text.substr(0, stream))};
  }

  // The last object that begins where the table says, if those behind it, and the table itself,
  // begin as much later than they should: what is not the file's lies in it. `mark`: end mark.
  std::optional<uint64_t> object_with_more(uint64_t mark) {
    const auto stated = table_before(bytes_, mark);
    if (!stated || *stated >= table_) return std::nullopt;
    std::set<uint64_t> offsets;
    each_entry(bytes_, table_ + 4, [&](uint64_t, auto offset, uint64_t) {
      if (offset) offsets.insert(*offset);
      return offset.has_value() && offsets.size() <= objects_.size();
    });
    for (size_t i = 1; i < objects_.size(); ++i) {
      if (offsets.contains(objects_[i])) continue;
      const uint64_t should = objects_[i] - std::min(objects_[i], table_ - *stated);
      const bool are_told = offsets.contains(objects_[i - 1]) && offsets.contains(should);
      return are_told ? std::optional(objects_[i - 1]) : std::nullopt;
    }
    return std::nullopt;
  }

  uint64_t behind_line_end(uint64_t at) {
    if (bytes_.u8(at) == '\r') ++at;
    if (bytes_.u8(at) == '\n') ++at;
    return at;
  }
  uint64_t behind_blanks(uint64_t at) {
    while (at < bytes_.size() && (std::isspace(bytes_.u8(at)) != 0)) ++at;
    return at;
  }
  uint64_t behind_line(uint64_t at) {
    constexpr size_t kMost = 1024;
    const std::string line = text_at(bytes_, at, kMost);
    const size_t end = line.find_first_of("\r\n");
    return at + (end == std::string::npos ? std::max<size_t>(line.size(), 1) : end);
  }

  // Behind the first `word` from `at` on; nothing if none stands in the next bytes.
  std::optional<uint64_t> behind_word(uint64_t at, std::string_view word, uint64_t most) {
    for (const uint64_t stop = at + most; at < std::min(stop, bytes_.size());) {
      const std::string text = text_at(bytes_, at, 64 << 10);
      if (const size_t found = text.find(word); found != std::string::npos) {
        return at + found + word.size();
      }
      if (text.size() <= word.size()) break;
      at += text.size() - word.size();
    }
    return std::nullopt;
  }

  // Behind the object, the table or the pointer to one that begins at `at`; nothing if none does.
  std::optional<uint64_t> behind_part(uint64_t at) {
    constexpr uint64_t kMostTable = 64 << 20;
    if (bytes_.has(at, "xref")) {
      table_ = at;
      return behind_word(at, "startxref", kMostTable);
    }
    if (bytes_.has(at, "startxref")) return at + 9;
    if (is_number_line(at)) return behind_line(at);
    if (!object_at(bytes_, at, std::nullopt)) return std::nullopt;
    objects_.push_back(at);
    return behind_object(at);
  }

  // The number behind `startxref`.
  bool is_number_line(uint64_t at) {
    const std::string line = text_at(bytes_, at, 24);
    const size_t end = line.find_first_not_of("0123456789");
    return end != 0 && end != std::string::npos && (line[end] == '\r' || line[end] == '\n');
  }

  std::optional<uint64_t> behind_object(uint64_t at) {
    constexpr uint64_t kMostStream = 256 << 20;
    constexpr std::string_view kEndStream = "endstream";
    std::string text = text_at(bytes_, at, kLookedAt);
    if (text.find(kEnd) == std::string::npos && stream_in(text) == std::string::npos) {
      text = text_at(bytes_, at, Bytes::kMostAtOnce);
    }
    const auto stream = stream_of(text, at);
    if (!stream) {
      const size_t end = text.find(kEnd);
      // The end of a stream of which the beginning is another's stands before that of the object.
      if (end == std::string::npos || text.find(kEndStream) < end) return std::nullopt;
      return at + end + kEnd.size();
    }
    std::optional<uint64_t> behind;
    if (stream->length) {
      if (*stream->length > bytes_.size()) return std::nullopt;
      const uint64_t stop = behind_blanks(stream->data + *stream->length);
      if (!bytes_.has(stop, kEndStream)) return std::nullopt;
      behind = stop + kEndStream.size();
    } else {
      behind = behind_word(stream->data, kEndStream, kMostStream);
    }
    if (!behind) return std::nullopt;
    const uint64_t last = behind_blanks(*behind);
    return bytes_.has(last, kEnd) ? std::optional(last + kEnd.size()) : std::nullopt;
  }

  // Where the word is with which the data of a stream begin: behind its dictionary, and with the
  // end of a line behind itself (7.3.8.1); npos if there is none.
  static size_t stream_in(std::string_view text) {
    size_t at = text.find(kStream);
    for (; at != std::string_view::npos; at = text.find(kStream, at + kStream.size())) {
      const size_t before = text.substr(0, at).find_last_not_of(" \t\r\n");
      const size_t behind = at + kStream.size();
      const bool is_behind_dictionary =
          before != std::string_view::npos && text.substr(0, before + 1).ends_with(">>");
      const bool ends_line = behind < text.size() && (text[behind] == '\r' || text[behind] == '\n');
      if (is_behind_dictionary && ends_line) break;
    }
    return at;
  }

  // Of a stream, where its dictionary says it itself, and no other object.
  static std::optional<uint64_t> length_in(std::string_view dictionary) {
    constexpr std::string_view kKey = "/Length";
    for (size_t at = dictionary.find(kKey); at != std::string_view::npos;
         at = dictionary.find(kKey, at + 1)) {
      size_t place = at + kKey.size();
      if (place < dictionary.size() && std::isalnum(dictionary[place]) != 0 &&
          std::isdigit(dictionary[place]) == 0) {
        continue;  // a longer key
      }
      const auto length = number_in(dictionary, place);
      if (!length) return std::nullopt;
      const auto generation = number_in(dictionary, place);
      return generation ? std::nullopt : length;
    }
    return std::nullopt;
  }

  static constexpr std::string_view kStream = "stream", kEnd = "endobj";
  static constexpr size_t kLookedAt = 4096;  // bytes of an object; more where neither stands there
  Bytes& bytes_;
  std::vector<uint64_t> objects_;  // where they begin
  uint64_t table_ = 0;             // where the last one begins
};

Walk walk_open(Bytes& bytes, std::string_view) { return Forward(bytes).run(); }

// Of an object that says how long its stream is: the end of that, where a word must stand.
std::optional<uint64_t> part_end(Bytes& bytes, uint64_t at) {
  return Forward(bytes).stream_end(at);
}

bool begins_part(Bytes& bytes, uint64_t at, uint64_t) {
  uint64_t word = at;
  while (word < at + 2 && std::isspace(bytes.u8(word)) != 0) ++word;
  return bytes.has(word, "endstream");
}

}  // namespace

const Family kPdf{.recognise = recognise,
                  .walk = walk,
                  .walk_open = walk_open,
                  .part_end = part_end,
                  .begins_part = begins_part,
                  .describe = describe_pdf};

}  // namespace undershelf::content
