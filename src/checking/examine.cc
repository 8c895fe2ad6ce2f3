#include "checking/examine.h"

#include <algorithm>
#include <cstring>
#include <string>

#include "checking/decoders.h"
#include "model/blank.h"
#include "source/hash.h"

namespace undershelf::checking {
namespace {

using content::Bytes;
using content::Level;
using content::Walk;

template <size_t size>
void put(std::array<char, size>& to, std::string_view text) {
  const size_t length = std::min(text.size(), size - 1);
  std::ranges::copy(text.substr(0, length), to.begin());
  to[length] = '\0';
}

bool ends_in_zeros(Bytes& bytes, uint64_t at) {
  while (at < bytes.size()) {
    const auto part = bytes.at(at, Bytes::kMostAtOnce);
    if (part.empty()) return false;
    if (!is_zeros(part)) return false;
    at += part.size();
  }
  return true;
}

// Hashes what is read of others in order; what nobody read so is read at the end.
class HashedBytes : public Bytes {
 public:
  explicit HashedBytes(Bytes& all) : all_(all) {}
  uint64_t size() const override { return all_.size(); }
  std::span<const std::byte> at(uint64_t offset, size_t length) override {
    const auto part = all_.at(offset, length);
    if (offset <= hashed_ && hashed_ - offset < part.size()) {
      const auto more = part.subspan(hashed_ - offset);
      sha_.update(more);
      hashed_ += more.size();
    }
    return part;
  }
  void finish(Examined& found) {
    while (hashed_ < size()) {
      if (at(hashed_, kMostAtOnce).empty()) return;
    }
    found.hashed = 1;
    put(found.sha256, sha_.hex());
  }

 private:
  Bytes& all_;
  Sha256 sha_;
  uint64_t hashed_ = 0;  // bytes, from the beginning
};

}  // namespace

size_t read_into(Bytes& bytes, uint64_t at, std::span<std::byte> out) {
  size_t got = 0;
  while (got < out.size()) {
    const auto part = bytes.at(at + got, std::min(out.size() - got, Bytes::kMostAtOnce));
    if (part.empty()) break;
    std::ranges::copy(part, out.begin() + static_cast<std::ptrdiff_t>(got));
    got += part.size();
  }
  return got;
}

Decoder decoder_for(std::string_view format) {
  struct Known {
    std::string_view format;
    Decoder decoder;
  };
  constexpr std::array kKnown = {
      Known{"jpeg", decode_jpeg},  Known{"zip", decode_zip},       Known{"docx", decode_zip},
      Known{"xlsx", decode_zip},   Known{"pptx", decode_zip},      Known{"odt", decode_zip},
      Known{"ods", decode_zip},    Known{"odp", decode_zip},       Known{"epub", decode_zip},
      Known{"jar", decode_zip},    Known{"gzip", decode_gzip},     Known{"bzip2", decode_archive},
      Known{"xz", decode_archive}, Known{"zstd", decode_archive},  Known{"lz4", decode_archive},
      Known{"7z", decode_archive}, Known{"rar", decode_archive},   Known{"cab", decode_archive},
      Known{"pdf", decode_pdf},    Known{"sqlite", decode_sqlite}, Known{"gif", decode_gif},
      Known{"tiff", decode_tiff},  Known{"webp", decode_webp},     Known{"json", decode_json},
  };
  const auto* found = std::ranges::find(kKnown, format, &Known::format);
  return found == kKnown.end() ? nullptr : found->decoder;
}

namespace {

Examined walk_and_decode(Bytes& bytes) {
  Examined found;
  const content::Recognised recognised = content::recognise(bytes);
  put(found.format, recognised.format);
  if (recognised.family != nullptr) {
    content::describe(bytes, recognised, found.says);
    describe_packed(bytes, recognised.format, found.says);
    Walk walk = recognised.family->walk(bytes, recognised.format);
    const Decoder decoder = decoder_for(recognised.format);
    if (walk.level != Level::broken && decoder != nullptr) walk = decoder(bytes, walk);
    if (walk.level == Level::verified && !ends_in_zeros(bytes, walk.end.value_or(bytes.size()))) {
      walk.level = Level::consistent;
    }
    found.level = walk.level;
    found.end = walk.end.value_or(0);
    found.sound_to = std::min(walk.sound_to, bytes.size());
    put(found.why, walk.why);
  }
  return found;
}

}  // namespace

Examined examine_if_sound(Bytes& bytes) {
  HashedBytes hashed(bytes);
  Examined found = walk_and_decode(hashed);
  if (found.level != Level::broken) hashed.finish(found);
  return found;
}

namespace {

// Text of less than a sector is followed by zeros.
uint64_t up_to_zero(Bytes& bytes) {
  const auto head = bytes.at(0, 512);
  const auto zero = std::ranges::find(head, std::byte{0});
  return static_cast<uint64_t>(zero - head.begin());
}

}  // namespace

Examined examine_start(Bytes& bytes) {
  const content::Recognised recognised = content::recognise(bytes);
  if (recognised.family == nullptr && up_to_zero(bytes) < std::min<uint64_t>(bytes.size(), 512)) {
    content::PartOfBytes text(bytes, 0, up_to_zero(bytes));
    return text.size() == 0 ? Examined{} : examine_start(text);
  }
  Walk walk = content::walk_open(bytes, recognised);
  if (walk.level != Level::broken && !walk.end) {
    if (const auto decoded = end_by_decoding(bytes, recognised.format)) {
      if (decoded->whole) {
        walk.end = decoded->end;
      } else {
        walk = content::broken(content::before_zeros(bytes, decoded->end),
                               "Its packed data ends there.");
      }
    }
  }
  if (walk.end && *walk.end <= bytes.size() && *walk.end > 0) {
    content::PartOfBytes file(bytes, 0, *walk.end);
    Examined found = examine_if_sound(file);
    // What decoding contradicts is no end.
    found.end = found.level == Level::broken ? 0 : *walk.end;
    // Some say only by what follows that they ended; brackets are not enough.
    if (found.level == Level::unknown && recognised.format != "json") {
      found.level = walk.level;
      found.sound_to = *walk.end;
    }
    return found;
  }
  Examined found;
  put(found.format, recognised.format);
  found.level = walk.level;
  found.sound_to = std::min(walk.sound_to, bytes.size());
  // What stands behind it may be another file's, and say of that what it is.
  content::PartOfBytes sound(bytes, 0, found.sound_to);
  content::describe(sound, recognised, found.says);
  put(found.why, walk.why);
  if (walk.level == Level::broken) {
    found.part_end = content::stated_end(bytes, recognised, found.sound_to);
  }
  return found;
}

Examined examine(Bytes& bytes) {
  HashedBytes hashed(bytes);
  Examined found = walk_and_decode(hashed);
  hashed.finish(found);
  return found;
}

}  // namespace undershelf::checking
