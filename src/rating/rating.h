// From evidence to rating: what is known of a stream, and what it promises.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "content/types.h"
#include "content/walk.h"
#include "model/entry.h"
#include "model/loss.h"

namespace undershelf {

// All the evidence on one stream. Sizes in bytes.
struct Facts {
  State state = State::live;
  Proof proof = Proof::last;
  std::optional<uint64_t> size = 0;  // nothing if it is not known
  bool has_place = false;            // a first cluster is recorded
  Placement placement = Placement::none;
  // How a name without a place and content without a name became one file.
  enum class Joined : uint8_t { no, by_size, by_order, by_kind, by_kind_only };
  Joined joined = Joined::no;
  uint64_t stepped = 0;                      // times a placement went around clusters in use
  std::array<uint64_t, kLossCauses> lost{};  // by Loss::Cause; no byte counts twice
  uint64_t rivalled = 0;                     // claimed by a lost entry that is older
  // Known by its content alone, and nothing bears out that it ends where its structure says.
  bool end_unsure = false;
  bool entangled = false;    // grew while a file beside it did: which bytes are whose is open
  bool kept_inline = false;  // its bytes stand in its own record
  // Samples of the content: bit 0 the first cluster, bit 1 one in the middle, bit 2 the last.
  unsigned sampled = 0;
  unsigned blank = 0;  // of the sampled ones, those that read as one repeated byte
  HeadMatch head = HeadMatch::unknown;
  // What looking at all of it gave, if that was done.
  std::optional<content::Level> check;
  uint64_t sound_to = 0;    // bytes from the beginning that add up
  std::string_view format;  // by content: a word of content/walk.h; empty if none is known
  // What is broken, why nothing is known of it, or (`consistent`) why it notices less than others
  // of its format: a sentence.
  std::string check_why;
  Encoding encoding = Encoding::plain;
  bool decodable = false;  // of a compressed stream: its method is known here

  uint64_t cluster = 0;  // bytes; 0 if it lies on no volume
  // Whether what lies there ends a cluster or more before the file did: it may be a shorter one.
  // Many formats stand a few bytes behind their end.
  bool ends_early() const {
    return check == content::Level::consistent && size &&
           *size - std::min(sound_to, *size) > cluster;
  }
  // Whether a cluster of another file inside would have been noticed, nearly always.
  bool notices_foreign_clusters() const {
    return check == content::Level::consistent && check_why.empty() &&
           content::notices_foreign_clusters(format);
  }
  // Whether checksums covered all of it.
  bool is_verified() const { return check == content::Level::verified; }
  uint64_t of(Loss::Cause cause) const { return lost[static_cast<size_t>(cause)]; }
  uint64_t total_lost() const;
  uint64_t never() const;           // bytes that nothing brings back
  uint64_t certainly_lost() const;  // bytes, those among them
};

// Whether what is open about it is how likely its bytes are its own (rating/odds.h): they have a
// place, none is lost for certain, and the file system does not vouch for them.
bool is_a_matter_of_odds(const Facts& facts);

// Bands of the chance that the bytes equal the original: from kWhole on, from kLikely on, below.
enum class Rating : uint8_t { whole, likely, partial, gone };
constexpr double kWhole = 0.995;
constexpr double kLikely = 0.9;

struct Verdict {
  Rating rating = Rating::gone;
  int score = 0;  // 0-100: estimated chance, in per cent, that the bytes equal the original
  uint64_t intact_bytes = 0;
};

// `format` is the one the entry's name stands for. With `reasons`, what the verdict was made of is
// appended to it, one plain sentence each.
Verdict rate(const Facts& facts, const Format& format, std::vector<std::string>* reasons = nullptr);

// Which bytes of a lost stream of `size` bytes, in clusters of `cluster` bytes, its samples speak
// against: blank where its format hardly is, or the beginning of something else.
Losses doubted_by_samples(const Facts& facts, const Format& format, uint64_t size,
                          uint64_t cluster);

// What the odds alone speak against, where nothing else does: empty from kLikely on.
Losses doubted_by_odds(const Facts& facts, const Format& format);

std::string_view to_text(Rating rating);

}  // namespace undershelf
