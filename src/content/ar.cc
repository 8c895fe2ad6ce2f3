// Unix archives ("ar", and packages of Debian, deb(5)): a head of 60 bytes and its length before
// each member.
#include <charconv>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr std::string_view kMark = "!<arch>\n";
constexpr uint64_t kHead = 60;

std::string_view recognise(Bytes& bytes) {
  if (!bytes.has(0, kMark)) return {};
  return bytes.has(kMark.size(), "debian-binary") ? "deb" : "ar";
}

// Bytes of the member whose head is at `at`; nothing if none is there.
std::optional<uint64_t> length_at(Bytes& bytes, uint64_t at) {
  if (!bytes.has(at + 58, "`\n")) return std::nullopt;
  const std::string text = text_at(bytes, at + 48, 10);
  uint64_t length = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), length);
  return error == std::errc{} ? std::optional(length) : std::nullopt;
}

// `open`: the file may be followed by what is not its own.
Walk members(Bytes& bytes, bool open) {
  uint64_t at = kMark.size();
  uint64_t count = 0;
  while (at < bytes.size()) {
    const auto length = length_at(bytes, at);
    if (!length && open && count > 0) break;
    if (!length) return broken(at, "No member begins where one must.");
    const uint64_t end = at + kHead + *length;
    if (end > bytes.size()) return broken(at, "It ends inside a member.");
    // Members begin at even places.
    at = end + (end & 1 && bytes.u8(end) == '\n' ? 1 : 0);
    ++count;
  }
  return ended(Level::consistent, at);
}

Walk walk(Bytes& bytes, std::string_view) { return members(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return members(bytes, true); }

}  // namespace

const Family kAr{.recognise = recognise, .walk = walk, .walk_open = walk_open};

}  // namespace undershelf::content
