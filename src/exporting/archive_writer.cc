#include "exporting/archive_writer.h"

#include <archive.h>
#include <archive_entry.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <locale.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <ctime>
#include <filesystem>
#include <span>
#include <utility>

#include "exporting/bag_head.h"
#include "exporting/place_archive.h"
#include "model/error.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

struct Suffix {
  std::string_view text;
  ArchiveForm form;
};
constexpr Suffix kSuffixes[] = {{".tar", ArchiveForm::tar},
                                {".tar.zst", ArchiveForm::tar_zst},
                                {".zip", ArchiveForm::zip},
                                {".iso", ArchiveForm::iso}};
constexpr std::string_view kNotWritten[] = {".gz", ".tgz", ".bz2", ".tbz", ".xz",  ".txz",
                                            ".7z", ".rar", ".zst", ".cab", ".cpio"};

bool is_stream(const std::string& path) { return path == "-"; }

fs::path folder_of(const std::string& path) {
  const fs::path parent = fs::path(path).parent_path();
  return parent.empty() ? fs::path(".") : parent;
}

std::string name_in(const std::string& path) {
  if (is_stream(path)) return "export/";
  const std::string name = fs::path(path).filename().string();
  for (const Suffix& suffix : kSuffixes) {
    if (name.size() > suffix.text.size() && name.ends_with(suffix.text)) {
      return name.substr(0, name.size() - suffix.text.size()) + '/';
    }
  }
  return "export/";
}

struct FreeEntry {
  void operator()(archive_entry* entry) const { archive_entry_free(entry); }
};
using Entry = std::unique_ptr<archive_entry, FreeEntry>;

void set_time(archive_entry* entry, const std::optional<Time>& time,
              void (*set)(archive_entry*, time_t, long)) {
  if (!time) return;
  const timespec at = to_timespec(*time);
  set(entry, at.tv_sec, at.tv_nsec);
}

Entry new_entry(const std::string& path, mode_t type, const BagPart& part) {
  Entry entry(archive_entry_new());
  if (!entry) throw std::bad_alloc();
  archive_entry_set_pathname(entry.get(), path.c_str());
  archive_entry_set_filetype(entry.get(), type);
  archive_entry_set_perm(entry.get(), type == AE_IFDIR ? 0755 : 0644);
  // An entry always has one; where none is known it is now, as in a folder.
  archive_entry_set_mtime(entry.get(), std::time(nullptr), 0);
  set_time(entry.get(), part.modified, archive_entry_set_mtime);
  set_time(entry.get(), part.accessed, archive_entry_set_atime);
  set_time(entry.get(), part.created, archive_entry_set_birthtime);
  return entry;
}

}  // namespace

// libarchive takes names as the thread's locale has them.
class ArchiveWriter::Locale {
 public:
  Locale() : own_(::newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr)), before_(::uselocale(own_)) {}
  ~Locale() {
    ::uselocale(before_);
    if (own_ != nullptr) ::freelocale(own_);
  }
  Locale(const Locale&) = delete;
  Locale& operator=(const Locale&) = delete;

 private:
  locale_t own_, before_;
};

void ArchiveWriter::Close::operator()(archive* writer) const { archive_write_free(writer); }

std::optional<ArchiveForm> archive_form_of(std::string_view path) {
  if (path == "-") return ArchiveForm::tar;
  for (const Suffix& suffix : kSuffixes) {
    if (path.ends_with(suffix.text)) return suffix.form;
  }
  for (const std::string_view suffix : kNotWritten) {
    if (!path.ends_with(suffix)) continue;
    throw Error(Failure::usage,
                fmt::format("Archives of the kind {} are not written. Give --to a name that ends "
                            "in .tar, .tar.zst, .zip or .iso, or that of a folder.",
                            suffix));
  }
  return std::nullopt;
}

Target examine_archive_target(const std::string& path, ArchiveForm form) {
  Target target;
  if (is_stream(path)) {
    target.where = "standard output";
    target.free_bytes = UINT64_MAX;
  } else {
    const Target there = examine_target(folder_of(path).string());
    target.where = there.where;
    target.free_bytes = there.free_bytes;
    target.most_archive_bytes = there.most_file_bytes;
    if (form == ArchiveForm::iso) target.most_file_bytes = there.most_file_bytes;
  }
  // These are opened where names are stricter.
  target.names.strict_names = target.names.folds_case =
      form == ArchiveForm::zip || form == ArchiveForm::iso;
  // How much these take is not known before; an image is made of a folder.
  target.compresses = form == ArchiveForm::zip || form == ArchiveForm::tar_zst;
  target.times_the_room = form == ArchiveForm::iso ? 2 : 1;
  return target;
}

void require_new_archive(const std::string& path) {
  if (!is_stream(path)) require_new_file(path);
}

bool is_archive_of(const Shelf& shelf, const std::string& path) {
  constexpr size_t kMostInfo = 1 << 20;  // bytes; far more than one has
  const std::unique_ptr<archive, decltype(&archive_read_free)> reader(archive_read_new(),
                                                                      archive_read_free);
  if (!reader) throw std::bad_alloc();
  archive_read_support_filter_zstd(reader.get());
  archive_read_support_format_tar(reader.get());
  archive_read_support_format_zip(reader.get());
  archive_read_support_format_iso9660(reader.get());
  const Descriptor file = open_plain(AT_FDCWD, path);
  if (!file.ok() || archive_read_open_fd(reader.get(), file.get(), kMostInfo) != ARCHIVE_OK) {
    return false;
  }
  archive_entry* entry = nullptr;
  while (archive_read_next_header(reader.get(), &entry) >= ARCHIVE_WARN) {
    const char* const name = archive_entry_pathname(entry);
    if (name == nullptr || fs::path(name).filename() != "bag-info.txt") continue;
    std::string info(kMostInfo, '\0');
    const la_ssize_t length = archive_read_data(reader.get(), info.data(), info.size());
    if (length < 0) return false;
    info.resize(static_cast<size_t>(length));
    return is_of_state(info, shelf);
  }
  return false;
}

ArchiveWriter::ArchiveWriter(std::string path, ArchiveForm form)
    : path_(std::move(path)),
      form_(form),
      root_(name_in(path_)),
      locale_(std::make_unique<Locale>()) {
  const fs::path beside = is_stream(path_) ? fs::path(temporary_folder()) : folder_of(path_);
  const Descriptor folder(::open(beside.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!folder.ok()) throw TargetFailed{errno};
  manifest_.emplace(folder.get(), "manifest-sha256.txt", TagFile::Name::none);
  exported_.emplace(folder.get(), "exported.jsonl", TagFile::Name::none);
  if (is_stream(path_)) {
    stream_ = Descriptor(::fcntl(STDOUT_FILENO, F_DUPFD_CLOEXEC, 0));
    if (!stream_.ok()) throw TargetFailed{errno};
  } else {
    place_.emplace(path_);
  }
}

ArchiveWriter::~ArchiveWriter() {
  if (writer_ && !complete_) {
    // Or what ends early would be ended like an archive that is whole. (archive_write_fail would
    // do, but never gives back its memory.)
    const Descriptor nowhere(::open("/dev/null", O_RDONLY | O_CLOEXEC));
    if (nowhere.ok()) ::dup3(nowhere.get(), file().get(), O_CLOEXEC);
  }
}

void ArchiveWriter::start(size_t) {
  try {
    open_writer();
    add_tag("bagit.txt", kBagDeclaration);
  } catch (const TargetFailed& failure) {
    failed_ = true;
    outcome_.failed.push_back(sentence_of(failure) + ".");
  }
}

void ArchiveWriter::open_writer() {
  writer_.reset(archive_write_new());
  if (!writer_) throw std::bad_alloc();
  archive* const writer = writer_.get();
  int result = ARCHIVE_OK;
  const auto then = [&](int next) { result = std::min(result, next); };
  switch (form_) {
    case ArchiveForm::tar_zst:
      then(archive_write_add_filter_zstd(writer));
      [[fallthrough]];
    case ArchiveForm::tar:
      then(archive_write_set_format_pax_restricted(writer));
      break;
    case ArchiveForm::zip:
      then(archive_write_set_format_zip(writer));
      break;
    case ArchiveForm::iso:  // IsoWriter's
      throw TargetFailed{EINVAL};
  }
  // A stream ends where the archive does; files need no filling either.
  archive_write_set_bytes_in_last_block(writer, 1);
  then(archive_write_open_fd(writer, file().get()));
  if (result < ARCHIVE_WARN) fail();
}

// The library has numbers of its own besides those of the system.
void ArchiveWriter::fail() const {
  const int error = archive_errno(writer_.get());
  throw TargetFailed{error > 0 && error < 4096 ? error : EIO};
}

bool ArchiveWriter::put(BagPart part) {
  if (failed_) return false;
  try {
    write(part);
  } catch (const TargetFailed& failure) {
    failed_ = true;
    outcome_.failed.push_back(sentence_of(failure) + ".");
  }
  return !failed_;
}

void ArchiveWriter::write(BagPart& part) {
  const ListedFile& listed = part.listed;
  if (part.then == BagPart::Then::folder) {
    write_header(new_entry(root_ + listed.path, AE_IFDIR, part).get(), listed);
    return;
  }
  if (part.then == BagPart::Then::link) {
    const Entry entry = new_entry(root_ + listed.path, AE_IFREG, part);
    archive_entry_set_hardlink(entry.get(), (root_ + part.link_to).c_str());
    archive_entry_set_size(entry.get(), 0);
    if (!write_header(entry.get(), listed)) return;
  } else {
    if (part.begins) takes_content_ = begin_entry(part);
    if (!takes_content_) return;
    write_data({part.bytes.get(), part.size});
    if (part.then != BagPart::Then::complete) return;
  }
  manifest_->append(fmt::format("{}  {}\n", listed.sha256, listed.path));
  exported_->append(listed.record);
  outcome_.written.add(listed);
}

bool ArchiveWriter::begin_entry(const BagPart& part) {
  const Entry entry = new_entry(root_ + part.listed.path, AE_IFREG, part);
  archive_entry_set_size(entry.get(), static_cast<la_int64_t>(part.listed.bytes));
  return write_header(entry.get(), part.listed);
}

// False if the archive cannot hold just this.
bool ArchiveWriter::write_header(archive_entry* entry, const ListedFile& listed) {
  const int result = archive_write_header(writer_.get(), entry);
  if (result >= ARCHIVE_WARN) return true;
  if (result != ARCHIVE_FAILED) fail();
  outcome_.failed_files.add(listed.content);
  outcome_.failed.push_back(fmt::format(
      "{} could not be written: an archive of this kind holds no such name.", listed.path));
  return false;
}

void ArchiveWriter::write_data(std::span<const std::byte> bytes) {
  while (!bytes.empty()) {
    const la_ssize_t n = archive_write_data(writer_.get(), bytes.data(), bytes.size());
    if (n <= 0) fail();
    bytes = bytes.subspan(static_cast<size_t>(n));
  }
}

void ArchiveWriter::add_tag(const std::string& name, std::string_view content) {
  BagPart part;
  part.listed.path = name;
  part.listed.bytes = content.size();
  begin_entry(part);
  const auto bytes = std::as_bytes(std::span(content));
  write_data(bytes);
  tags_ += fmt::format("{}  {}\n", sha256_hex(bytes), name);
}

void ArchiveWriter::add_tag_file(const char* name, TagFile& list) {
  BagPart part;
  part.listed.path = name;
  part.listed.bytes = list.length();
  begin_entry(part);
  list.read([&](std::span<const std::byte> bytes) { write_data(bytes); });
  tags_ += list.close();
}

BagOutcome ArchiveWriter::finish(const std::string& info, FileSum payload) {
  if (!failed_) {
    try {
      payload.add(outcome_.written.payload);
      add_tag("bag-info.txt", with_payload_sum(info, payload));
      add_tag_file("manifest-sha256.txt", *manifest_);
      add_tag_file("exported.jsonl", *exported_);
      add_tag("tagmanifest-sha256.txt", std::string(tags_));
      close();
      complete_ = outcome_.lists_complete = true;
    } catch (const TargetFailed& failure) {
      outcome_.failed.push_back(sentence_of(failure) + ".");
    }
  }
  if (!complete_) {
    outcome_.failed.emplace_back(kNoneWasLeft);
    outcome_.written = {};
  }
  return std::move(outcome_);
}

void ArchiveWriter::close() {
  if (archive_write_close(writer_.get()) != ARCHIVE_OK) fail();
  if (!place_) return;
  if (::fsync(place_->file().get()) != 0) throw TargetFailed{errno};
  place_->place();
}

}  // namespace undershelf
