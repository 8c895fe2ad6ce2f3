// Deflated content by zlib (RFC 1950 to 1952): gzip files, and the members of ZIP archives.
#include "checking/inflate.h"

#include <zlib.h>

#include <algorithm>
#include <string_view>
#include <vector>

#include "checking/decoders.h"
#include "content/zip.h"

namespace undershelf::checking {
namespace {

using content::Bytes;
using content::Level;
using content::Walk;

constexpr size_t kPart = 256 << 10;  // bytes

// A member that is stored as it is.
Inflated copy_from(Bytes& bytes, uint64_t from, uint64_t length) {
  Inflated done;
  done.end = from;
  while (done.size < length) {
    const auto part = bytes.at(done.end, std::min<uint64_t>(kPart, length - done.size));
    if (part.empty()) return done;
    done.crc = static_cast<uint32_t>(crc32(done.crc, reinterpret_cast<const Bytef*>(part.data()),
                                           static_cast<uInt>(part.size())));
    done.size += part.size();
    done.end += part.size();
  }
  done.whole = true;
  return done;
}

}  // namespace

Inflated inflate_from(Bytes& bytes, uint64_t from, uint64_t stored, int bits, uint64_t most) {
  Inflated done;
  done.end = from;
  z_stream z{};
  if (inflateInit2(&z, bits) != Z_OK) return done;
  std::vector<Bytef> out(kPart);
  int code = Z_OK;
  for (uint64_t at = from; code == Z_OK && at < from + stored;) {
    const auto part = bytes.at(at, std::min<uint64_t>(kPart, from + stored - at));
    if (part.empty()) break;
    z.next_in = const_cast<Bytef*>(reinterpret_cast<const Bytef*>(part.data()));
    z.avail_in = static_cast<uInt>(part.size());
    do {
      z.next_out = out.data();
      z.avail_out = static_cast<uInt>(out.size());
      code = inflate(&z, Z_NO_FLUSH);
      const size_t made = out.size() - z.avail_out;
      done.crc = static_cast<uint32_t>(crc32(done.crc, out.data(), static_cast<uInt>(made)));
      done.size += made;
    } while (code == Z_OK && (z.avail_in > 0 || z.avail_out == 0) && done.size <= most);
    if (code == Z_BUF_ERROR) code = Z_OK;  // it wants more
    at += part.size() - z.avail_in;
    done.end = at;
    if (done.size > most) break;
  }
  // A checksum that fails at the end says nothing of where.
  const std::string_view said = z.msg == nullptr ? "" : z.msg;
  if (code == Z_DATA_ERROR && said.find("check") != std::string_view::npos) done.end = from;
  inflateEnd(&z);
  done.whole = code == Z_STREAM_END;
  return done;
}

Walk decode_zip(Bytes& bytes, const Walk& structure) {
  constexpr uint16_t kStored = 0, kDeflated = 8;
  bool all = true;  // members were checked
  uint64_t first_fault = UINT64_MAX;
  content::each_zip_member(bytes, [&](const content::ZipMember& member) {
    const bool known = member.method == kStored || member.method == kDeflated;
    if (member.encrypted || !known) {
      all = false;
      return true;
    }
    const Inflated done = member.method == kStored ? copy_from(bytes, member.data, member.stored)
                                                   : inflate_from(bytes, member.data, member.stored,
                                                                  -MAX_WBITS, member.size);
    if (done.whole && done.size == member.size && done.crc == member.crc) return true;
    // Where unpacking goes on to the end, the checksum alone says that something inside is wrong.
    first_fault = std::min(first_fault, done.whole ? member.data : done.end);
    return true;
  });
  if (first_fault != UINT64_MAX) {
    return content::broken(std::min(first_fault, bytes.size()), "A member does not unpack.");
  }
  return all ? content::ended(Level::verified, *structure.end) : structure;
}

Walk decode_gzip(Bytes& bytes, const Walk&) {
  constexpr int kGzip = 16 + MAX_WBITS;
  uint64_t at = 0;
  while (bytes.has(at, "\x1F\x8B")) {
    const Inflated done = inflate_from(bytes, at, bytes.size() - at, kGzip, UINT64_MAX);
    if (!done.whole) return content::broken(done.end, "It does not unpack.");
    at = done.end;
  }
  return content::ended(Level::verified, at);
}

}  // namespace undershelf::checking
