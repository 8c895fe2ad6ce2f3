// From evidence to rating: what is known of a stream, and what it promises.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "content/types.h"
#include "model/entry.h"

namespace undershelf {

// All the evidence on one stream. Sizes in bytes.
struct Facts {
  State state = State::live;
  uint64_t size = 0;
  Placement placement = Placement::none;
  uint64_t stepped = 0;      // times a placement went around clusters in use
  uint64_t overwritten = 0;  // held by live entries now
  uint64_t disputed = 0;     // of a live stream: claimed by another live entry too
  uint64_t contested = 0;    // held by a lost entry that is younger
  uint64_t rivalled = 0;     // claimed by a lost entry that is older
  uint64_t in_use = 0;       // in use by the file system's accounts, by an owner that was not found
  bool entangled = false;    // grew while a file beside it did: which bytes are whose is open
  bool kept_inline = false;  // its bytes stand in its own record
  uint64_t missing = 0;      // not known where, or behind the end of the source
  uint64_t unreadable = 0;   // of what was read so far
  // Samples of the content: bit 0 the first cluster, bit 1 one in the middle, bit 2 the last.
  unsigned sampled = 0;
  unsigned blank = 0;  // of the sampled ones, those that read as one repeated byte
  HeadMatch head = HeadMatch::unknown;
  Encoding encoding = Encoding::plain;
  bool decodable = false;  // of a compressed stream: its method is known here
  bool size_lost = false;  // content hangs on the entry, its size does not
};

enum class Rating : uint8_t { whole, likely, partial, gone };

struct Verdict {
  Rating rating = Rating::gone;
  int score = 0;  // 0-100: estimated chance, in per cent, that the bytes equal the original
  uint64_t intact_bytes = 0;
};

// `format` is the one the entry's name stands for.
Verdict rate(const Facts& facts, const Format& format);

// The reasons for the verdict, one plain sentence each.
std::vector<std::string> reasons(const Facts& facts, const Format& format);

std::string_view to_text(Rating rating);

}  // namespace undershelf
