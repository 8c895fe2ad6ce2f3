#include "imaging/verify_image.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "model/error.h"
#include "source/files.h"
#include "source/hash.h"
#include "source/ledger.h"

namespace undershelf {
namespace {

constexpr size_t kAtATime = 1 << 20;  // bytes

// Of a range of the file; empty if it cannot be read.
std::string hash_of(const Descriptor& file, const ByteRange& range,
                    std::vector<std::byte>& buffer) {
  Sha256 hash;
  for (uint64_t at = range.offset; at < range.end();) {
    const size_t wanted = std::min<uint64_t>(buffer.size(), range.end() - at);
    const ssize_t n = ::pread(file.get(), buffer.data(), wanted, static_cast<off_t>(at));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return {};
    hash.update(std::span(buffer).first(static_cast<size_t>(n)));
    at += static_cast<uint64_t>(n);
  }
  return hash.hex();
}

}  // namespace

ImageVerified verify_image(const std::string& image, const Interrupts& interrupts,
                           const std::function<void(uint64_t, uint64_t)>& progress) {
  const Ledger ledger = Ledger::load(ledger_of(image));
  const Descriptor file = open_plain(AT_FDCWD, image);
  struct stat status {};
  if (!file.ok() || ::fstat(file.get(), &status) != 0) {
    throw Error(Failure::unavailable,
                fmt::format("The image {} cannot be read: {}. Check its name.", image,
                            std::strerror(errno)));
  }
  ImageVerified result;
  const uint64_t read = ledger.bytes(Finding::State::read);
  result.missing = ledger.header().size - read;
  if (static_cast<uint64_t>(status.st_size) != ledger.header().size) {
    result.faults.push_back(fmt::format("The image has {} bytes, and its ledger is of {}.",
                                        status.st_size, ledger.header().size));
  }
  std::vector<std::byte> buffer(kAtATime);
  uint64_t hashed = 0;
  for (const auto& [offset, known] : ledger.hashes()) {
    if (interrupts > 0) {
      result.stopped = true;
      break;
    }
    const ByteRange range{offset, known.first};
    hashed += range.length;
    if (hash_of(file, range, buffer) == known.second) {
      result.as_listed += range.length;
    } else {
      result.faults.push_back(fmt::format("The {} bytes from byte {} on are not as they were read.",
                                          range.length, range.offset));
    }
    progress(hashed, read);
  }
  result.unhashed = read - std::min(read, hashed);
  return result;
}

}  // namespace undershelf
