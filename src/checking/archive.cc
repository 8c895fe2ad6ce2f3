// Packed files by libarchive. No filter that starts a program is asked for.
#include <archive.h>
#include <archive_entry.h>

#include <algorithm>
#include <memory>
#include <string_view>

#include "checking/decoders.h"

namespace undershelf::checking {
namespace {

struct Input {
  content::Bytes& bytes;
  uint64_t at = 0;
};

la_ssize_t read_part(archive*, void* data, const void** part) {
  auto* input = static_cast<Input*>(data);
  const auto there = input->bytes.at(input->at, 256 << 10);
  input->at += there.size();
  *part = there.data();
  return static_cast<la_ssize_t>(there.size());
}

la_int64_t skip_part(archive*, void* data, la_int64_t count) {
  auto* input = static_cast<Input*>(data);
  const uint64_t left = input->bytes.size() - std::min(input->at, input->bytes.size());
  const uint64_t step = std::min(left, static_cast<uint64_t>(std::max<la_int64_t>(count, 0)));
  input->at += step;
  return static_cast<la_int64_t>(step);
}

la_int64_t seek_part(archive*, void* data, la_int64_t offset, int from) {
  auto* input = static_cast<Input*>(data);
  const auto size = static_cast<la_int64_t>(input->bytes.size());
  const la_int64_t base = from == SEEK_SET   ? 0
                          : from == SEEK_CUR ? static_cast<la_int64_t>(input->at)
                                             : size;
  const la_int64_t to = base + offset;
  if (to < 0 || to > size) return ARCHIVE_FATAL;
  input->at = static_cast<uint64_t>(to);
  return to;
}

std::string_view said_by(archive* reader) {
  const char* text = archive_error_string(reader);
  return text == nullptr ? "" : text;
}

// Nothing can be said of what it does not know, or of what is encrypted.
bool is_no_fault(archive* reader) {
  const std::string_view said = said_by(reader);
  for (const std::string_view word :
       {"nsupported", "ncrypt", "assphrase", "not supported", "llocate"}) {
    if (said.find(word) != std::string_view::npos) return true;
  }
  return false;
}

// Some may do without (RFC 8878, 3.1.1.1; LZ4 frame format, FLG; xz file format, 2.1.1.2).
bool has_checksum(content::Bytes& bytes) {
  constexpr uint8_t kOfContent = 4, kKind = 15;
  if (bytes.has(0, "\x28\xB5\x2F\xFD") || bytes.has(0, "\x04\x22\x4D\x18")) {
    return (bytes.u8(4) & kOfContent) != 0;
  }
  return !bytes.has(0,
                    "\xFD"
                    "7zXZ") ||
         (bytes.u8(7) & kKind) != 0;
}

}  // namespace

content::Walk decode_archive(content::Bytes& bytes, const content::Walk& structure) {
  const std::unique_ptr<archive, int (*)(archive*)> reader(archive_read_new(), archive_read_free);
  archive_read_support_filter_bzip2(reader.get());
  archive_read_support_filter_xz(reader.get());
  archive_read_support_filter_zstd(reader.get());
  archive_read_support_filter_lz4(reader.get());
  archive_read_support_format_7zip(reader.get());
  archive_read_support_format_rar(reader.get());
  archive_read_support_format_rar5(reader.get());
  archive_read_support_format_cab(reader.get());
  archive_read_support_format_raw(reader.get());
  Input input{bytes};
  archive_read_set_read_callback(reader.get(), read_part);
  archive_read_set_skip_callback(reader.get(), skip_part);
  archive_read_set_seek_callback(reader.get(), seek_part);
  archive_read_set_callback_data(reader.get(), &input);
  int code = archive_read_open1(reader.get());
  bool encrypted = false;
  archive_entry* entry = nullptr;
  while (code == ARCHIVE_OK && !encrypted) {
    code = archive_read_next_header(reader.get(), &entry);
    if (code == ARCHIVE_WARN) code = ARCHIVE_OK;  // about names
    if (code != ARCHIVE_OK) break;
    encrypted = archive_entry_is_encrypted(entry) != 0;
    const void* part = nullptr;
    size_t length = 0;
    la_int64_t offset = 0;
    while (code == ARCHIVE_OK && !encrypted) {
      code = archive_read_data_block(reader.get(), &part, &length, &offset);
    }
    if (code == ARCHIVE_EOF) code = ARCHIVE_OK;
  }
  if (encrypted || (code != ARCHIVE_EOF && is_no_fault(reader.get()))) return structure;
  if (code != ARCHIVE_EOF) {
    const auto taken =
        static_cast<uint64_t>(std::max<la_int64_t>(archive_filter_bytes(reader.get(), -1), 0));
    // A checksum that fails at the end says nothing of where.
    const bool late = said_by(reader.get()).find("CRC") != std::string_view::npos;
    return content::broken(late ? 0 : std::min(taken, bytes.size()), "It does not unpack.");
  }
  const content::Level level =
      has_checksum(bytes) ? content::Level::verified : content::Level::consistent;
  return content::ended(level, structure.end.value_or(bytes.size()));
}

}  // namespace undershelf::checking
