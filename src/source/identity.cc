#include "source/identity.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "source/by_two.h"
#include "source/device.h"
#include "source/hash.h"
#include "source/ledger.h"
#include "source/nbd.h"

namespace undershelf {
namespace {

constexpr uint64_t kBlocks = 64;
constexpr uint64_t kHashedAtATime = 65536;

std::string serial_of(const std::string& path) {
  if (const auto device = examine_device(path)) return device->serial;
  std::error_code error;
  if (!std::filesystem::exists(ledger_of(path), error)) return {};
  return Ledger::load(ledger_of(path)).header().serial;
}

// Of each range; empty where it cannot be read in full.
std::vector<std::string> hashes_of(const Source& source, const std::vector<ByteRange>& ranges) {
  std::vector<std::string> hashes(ranges.size());
  look_by_two(source, ranges, [&](size_t number, std::span<const std::byte> bytes, bool is_whole) {
    if (is_whole) hashes[number] = sha256_hex(bytes);
  });
  return hashes;
}

}  // namespace

SourceIdentity identify(const std::string& path, const Source& source, uint64_t skip) {
  SourceIdentity identity;
  identity.path = is_nbd(path) ? path : std::filesystem::absolute(path).lexically_normal().string();
  identity.serial = serial_of(path);
  identity.skip = skip;
  identity.size = source.size();
  identity.sector_size = source.sector_size();
  const uint64_t length = std::min(kHashedAtATime, source.size());
  const uint64_t last = source.size() - length;
  uint64_t next = 0;  // blocks do not overlap, so a small source has fewer of them
  std::vector<ByteRange> ranges;
  for (uint64_t i = 0; i < kBlocks; ++i) {
    const uint64_t at = last / (kBlocks - 1) * i + last % (kBlocks - 1) * i / (kBlocks - 1);
    if (i > 0 && at < next) continue;
    ranges.push_back({at, length});
    next = at + length;
  }
  const std::vector<std::string> hashes = hashes_of(source, ranges);
  for (size_t i = 0; i < ranges.size(); ++i) {
    if (!hashes[i].empty()) identity.blocks.push_back({ranges[i], hashes[i]});
  }
  return identity;
}

std::string difference(const SourceIdentity& known, const Source& source, const std::string& path,
                       bool is_told) {
  if (source.size() != known.size) {
    return fmt::format("it has {} bytes where the scanned source had {}", source.size(),
                       known.size);
  }
  const std::string serial = known.serial.empty() || is_told ? std::string() : serial_of(path);
  if (!serial.empty() && serial != known.serial) {
    return fmt::format("its serial number is {} where that of the scanned source was {}", serial,
                       known.serial);
  }
  if (!serial.empty() && source.sector_size() != known.sector_size) {
    return fmt::format("its sectors have {} bytes where those of the scanned source had {}",
                       source.sector_size(), known.sector_size);
  }
  std::vector<ByteRange> ranges;
  for (const BlockHash& block : known.blocks) ranges.push_back(block.range);
  const std::vector<std::string> now = hashes_of(source, ranges);
  for (size_t i = 0; i < ranges.size(); ++i) {
    if (!now[i].empty() && now[i] != known.blocks[i].sha256) {
      return fmt::format("its bytes from {} on differ from those of the scanned source",
                         ranges[i].offset);
    }
  }
  const auto unread = [](const std::string& hash) { return hash.empty(); };
  if (!now.empty() && std::ranges::all_of(now, unread)) {
    return "none of the places by which it is known again can be read";
  }
  return {};
}

}  // namespace undershelf
