#include "source/hash.h"

#include <openssl/evp.h>

#include <array>
#include <new>
#include <string_view>

namespace undershelf {
namespace {

EVP_MD_CTX* of(const std::shared_ptr<void>& context) {
  return static_cast<EVP_MD_CTX*>(context.get());
}

}  // namespace

Sha256::Sha256() : context_(EVP_MD_CTX_new(), EVP_MD_CTX_free) {
  if (!context_ || EVP_DigestInit_ex(of(context_), EVP_sha256(), nullptr) != 1) {
    throw std::bad_alloc();
  }
}

void Sha256::update(std::span<const std::byte> bytes) {
  EVP_DigestUpdate(of(context_), bytes.data(), bytes.size());
}

std::string Sha256::hex() {
  std::array<unsigned char, EVP_MAX_MD_SIZE> digest{};
  unsigned length = 0;
  EVP_DigestFinal_ex(of(context_), digest.data(), &length);
  EVP_DigestInit_ex(of(context_), nullptr, nullptr);
  constexpr std::string_view kDigits = "0123456789abcdef";
  std::string text(2 * size_t{length}, '0');
  for (size_t i = 0; i < length; ++i) {
    text[2 * i] = kDigits[digest[i] >> 4];
    text[2 * i + 1] = kDigits[digest[i] & 15];
  }
  return text;
}

std::string sha256_hex(std::span<const std::byte> bytes) {
  Sha256 hash;
  hash.update(bytes);
  return hash.hex();
}

}  // namespace undershelf
