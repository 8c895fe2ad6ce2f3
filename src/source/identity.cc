#include "source/identity.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

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

}  // namespace

SourceIdentity identify(const std::string& path, const Source& source, uint64_t skip) {
  SourceIdentity identity;
  identity.path = is_nbd(path) ? path : std::filesystem::absolute(path).lexically_normal().string();
  identity.serial = serial_of(path);
  identity.skip = skip;
  identity.size = source.size();
  identity.sector_size = source.sector_size();
  std::vector<std::byte> block(std::min(kHashedAtATime, source.size()));
  const uint64_t last = source.size() - block.size();
  uint64_t next = 0;  // blocks do not overlap, so a small source has fewer of them
  for (uint64_t i = 0; i < kBlocks; ++i) {
    const uint64_t at = last / (kBlocks - 1) * i + last % (kBlocks - 1) * i / (kBlocks - 1);
    if (i > 0 && at < next) continue;
    if (source.read(at, block).ok()) {
      identity.blocks.push_back({{at, block.size()}, sha256_hex(block)});
    }
    next = at + block.size();
  }
  return identity;
}

std::string difference(const SourceIdentity& known, const Source& source) {
  if (source.size() != known.size) {
    return fmt::format("it has {} bytes where the scanned source had {}", source.size(),
                       known.size);
  }
  std::vector<std::byte> block;
  for (const BlockHash& expected : known.blocks) {
    block.resize(expected.range.length);
    if (source.read(expected.range.offset, block).ok() && sha256_hex(block) != expected.sha256) {
      return fmt::format("its bytes from {} on differ from those of the scanned source",
                         expected.range.offset);
    }
  }
  return {};
}

}  // namespace undershelf
