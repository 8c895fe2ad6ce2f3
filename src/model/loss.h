// Bytes of a stream that are not believed to be the file's own.
#pragma once

#include <cstdint>
#include <optional>
#include <string_view>
#include <vector>

namespace undershelf {

struct Loss {
  // The first of several causes that concern the same bytes is the one that counts.
  enum class Cause : uint8_t {
    not_known,      // nothing tells where they lie
    behind_source,  // the source ends before them
    unreadable,     // they were tried and cannot be read
    unread,         // the medium was not asked for them yet: the image has a gap there
    overwritten,    // a living file or folder holds their place now
    disputed,       // of a living stream: another living one claims them too
    in_use,         // in use by the file system's accounts, by an owner that was not found
    younger,        // a lost file that is younger, or as old, claims them too
    blank,          // they read as one repeated byte, which the file hardly holds there
    other_content,  // something else begins there than the format has it
    scattered,      // the file lies in pieces, and nothing tells which
    unsound,        // behind the place at which the file's own structure breaks
    unproven,       // nothing else speaks against them, and too little for them
    undecodable,    // what is stored does not decompress
    as_stored,      // compressed in a way not known here: what is exported is what is stored
  };
  uint64_t offset = 0;  // bytes, in the stream
  uint64_t length = 0;  // bytes
  Cause cause = Cause::not_known;

  uint64_t end() const { return offset + length; }
  bool operator==(const Loss&) const = default;
};

constexpr size_t kLossCauses = 15;

using Losses = std::vector<Loss>;

// Adds a loss, joining it to the last one where it continues that one. Length 0 adds nothing.
void append_loss(Losses& losses, const Loss& loss);

// The losses in order, none overlapping another, none reaching beyond `size` bytes. n log n.
Losses settled(const Losses& losses, uint64_t size);

// Sum of the lengths, in bytes. The losses must be settled.
uint64_t total_length(const Losses& losses);

// Whether it is met when the source is read: going on with a copy of a medium may mend it, so that
// it counts only as long as it is met.
constexpr bool is_met_in_reading(Loss::Cause cause) {
  return cause == Loss::Cause::unreadable || cause == Loss::Cause::unread;
}

// Whether such bytes are exported as zeros, rather than as what is there now.
bool is_zero_filled(Loss::Cause cause);

// One of unreadable, unread, overwritten, contested, blank, unknown, undecodable.
std::string_view why_of(Loss::Cause cause);

// The word that is stored for a cause; nothing if there is no such word.
std::string_view to_text(Loss::Cause cause);
std::optional<Loss::Cause> cause_named(std::string_view word);

}  // namespace undershelf
