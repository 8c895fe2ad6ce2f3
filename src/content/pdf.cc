// PDF: ISO 32000-1, 7.5: the last `startxref` leads to a table of objects, each of which must begin
// where that says. Further `%%EOF` before the last are earlier versions.
#include <algorithm>
#include <charconv>
#include <set>
#include <string>

#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) { return bytes.has(0, "%PDF-") ? "pdf" : ""; }

std::string text_at(Bytes& bytes, uint64_t at, size_t length) {
  const auto part = bytes.at(at, length);
  return {reinterpret_cast<const char*>(part.data()), part.size()};
}

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
    for (;;) {
      const std::string head = text_at(bytes_, at, 64);
      size_t place = 0;
      const auto first = number_in(head, place);
      const auto count = first ? number_in(head, place) : std::nullopt;
      if (!count || *count > 10'000'000) break;
      place = head.find_first_not_of(" \r\n", place);
      if (place == std::string::npos) break;
      at += place;
      constexpr uint64_t kEntry = 20;  // bytes, 7.5.4
      for (uint64_t i = 0; i < *count; ++i, at += kEntry) {
        const std::string entry = text_at(bytes_, at, kEntry);
        size_t in_entry = 0;
        const auto offset = number_in(entry, in_entry);
        if (!offset || entry.size() < kEntry) {
          first_wrong = std::min(first_wrong, at);
          return std::nullopt;
        }
        if (entry[17] != 'n' || *offset == 0) continue;
        if (!object_at(bytes_, *offset, *first + i)) first_wrong = std::min(first_wrong, *offset);
      }
    }
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

}  // namespace

const Family kPdf{recognise, walk};

}  // namespace undershelf::content
