// Puts an export's files and lists into one archive with a bag (RFC 8493, 4.2) in it, by
// libarchive.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "exporting/bag_sink.h"
#include "exporting/place_archive.h"
#include "exporting/target.h"
#include "exporting/target_file.h"
#include "shelf/shelf.h"

struct archive;
struct archive_entry;

namespace undershelf {

enum class ArchiveForm { tar, tar_zst, zip, iso };

// By the suffix of a path; nothing: a folder is meant. `-`, standard output, is a tar stream.
// Throws Error (usage) for the suffix of an archive that is not written.
std::optional<ArchiveForm> archive_form_of(std::string_view path);

// What an archive, at `path` (or `-`), can hold, and the room there.
Target examine_archive_target(const std::string& path, ArchiveForm form);

// Throws Error (refused) unless the archive can be made at `path`, where nothing may be yet.
void require_new_archive(const std::string& path);

// Whether the archive at `path`, which is there, is an export of this shelf as it is now, whole.
bool is_archive_of(const Shelf& shelf, const std::string& path);

// The archive is seen at its place once it is whole and on the medium (place_archive.h); one that
// cannot be completed does not stay. All in it is below a folder of its name.
class ArchiveWriter final : public BagSink {
 public:
  // Where the lists grow, without a name, until the files are in: the archive's own folder, and for
  // a stream the system's temporary one, which must not be on the source. Throws TargetFailed.
  ArchiveWriter(std::string path, ArchiveForm form);
  ~ArchiveWriter() override;

  void start(size_t files) override;
  bool put(BagPart part) override;
  bool has_links() const override { return form_ != ArchiveForm::zip; }
  // A header tells of a file's size before its content.
  bool can_abandon() const override { return false; }
  BagOutcome finish(const std::string& info, FileSum payload) override;

 private:
  class Locale;
  struct Close {
    void operator()(archive* writer) const;
  };

  void open_writer();
  void write(BagPart& part);
  bool begin_entry(const BagPart& part);
  bool write_header(archive_entry* entry, const ListedFile& listed);
  void write_data(std::span<const std::byte> bytes);
  void add_tag(const std::string& name, std::string_view content);
  void add_tag_file(const char* name, TagFile& list);
  void close();
  [[noreturn]] void fail() const;
  const Descriptor& file() const { return place_ ? place_->file() : stream_; }

  const std::string path_;
  const ArchiveForm form_;
  std::string root_;  // the folder in the archive, with a slash behind
  std::unique_ptr<Locale> locale_;
  std::optional<UnplacedArchive> place_;  // none of a stream
  Descriptor stream_{-1};
  std::unique_ptr<archive, Close> writer_;
  std::optional<TagFile> manifest_, exported_;
  std::string tags_;            // lines of the tag manifest
  bool takes_content_ = false;  // the entry that was begun
  bool failed_ = false;
  bool complete_ = false;
  BagOutcome outcome_;
};

}  // namespace undershelf
