// SHA-256, from OpenSSL.
#pragma once

#include <cstddef>
#include <memory>
#include <span>
#include <string>

namespace undershelf {

// Hashes what it is fed. Not to be shared between threads.
class Sha256 {
 public:
  Sha256();
  void update(std::span<const std::byte> bytes);
  std::string hex();  // ends the hash: lower-case hexadecimal; then a new one begins

 private:
  std::shared_ptr<void> context_;  // an EVP_MD_CTX
};

std::string sha256_hex(std::span<const std::byte> bytes);

}  // namespace undershelf
