// How a stream is stored, from columns of the shelf. For the library's own use.
#pragma once

#include "model/entry.h"
#include "shelf/rows.h"

namespace undershelf {

// `codec`: its name, or null; `unit` in bytes. A unit that no file system has reads as none.
inline Storage storage_of(const SQLite::Column& codec, const SQLite::Column& unit) {
  constexpr uint64_t kMostUnit = 64 << 20;
  const uint64_t bytes = size_of(unit);
  if (codec.isNull() || bytes == 0 || bytes > kMostUnit) return {};
  const std::string_view name = codec.getText();
  for (const Codec known : {Codec::lznt1, Codec::xpress4k, Codec::xpress8k, Codec::xpress16k,
                            Codec::lzx, Codec::zlib, Codec::zlib_blocks}) {
    if (to_text(known) == name) return {known, bytes};
  }
  return {};
}

}  // namespace undershelf
