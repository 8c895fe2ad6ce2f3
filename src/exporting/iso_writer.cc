#include "exporting/iso_writer.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>
// The two headers need these, and do not ask for them.
#include <cstdint>
#include <ctime>
#define LIBISOFS_WITHOUT_LIBBURN
#include <libisofs.h>

#include <cerrno>
#include <filesystem>
#include <memory>
#include <mutex>
#include <vector>

#include "exporting/bag_head.h"
#include "exporting/place_archive.h"
#include "model/error.h"

namespace undershelf {
namespace {

constexpr int kBlock = 2048;  // bytes; ISO 9660, 6.1.2
constexpr size_t kBlocksAtOnce = 512;

void require(int result) {
  if (result < 0)
    throw TargetFailed{static_cast<uint32_t>(result) == ISO_OUT_OF_MEM ? ENOMEM : EIO};
}

struct FreeImage {
  void operator()(IsoImage* image) const { iso_image_unref(image); }
};
struct FreeOptions {
  void operator()(IsoWriteOpts* options) const { iso_write_opts_free(options); }
};
struct FreeSource {
  void operator()(burn_source* source) const {
    source->free_data(source);
    ::free(source);
  }
};
using Options = std::unique_ptr<IsoWriteOpts, FreeOptions>;

// The library's state is the process's.
void prepare_library() {
  static std::once_flag once;
  std::call_once(once, [] {
    require(iso_init());
    char quiet[] = "NEVER";
    char none[] = "";
    iso_set_msgs_severities(quiet, quiet, none);
    char utf8[] = "UTF-8";
    require(iso_set_local_charset(utf8, 0));
  });
}

Options image_options() {
  IsoWriteOpts* made = nullptr;
  require(iso_write_opts_new(&made, 0));
  Options options(made);
  require(iso_write_opts_set_iso_level(made, 3));  // files of more than 4 GiB
  require(iso_write_opts_set_rockridge(made, 1));
  require(iso_write_opts_set_hardlinks(made, 1));
  require(iso_write_opts_set_allow_deep_paths(made, 1));
  require(iso_write_opts_set_joliet(made, 1));
  require(iso_write_opts_set_joliet_longer_paths(made, 1));
  require(iso_write_opts_set_joliet_long_names(made, 1));
  require(iso_write_opts_set_joliet_utf16(made, 1));
  require(iso_write_opts_set_output_charset(made, "UTF-8"));
  require(iso_write_opts_set_always_gmt(made, 1));
  require(iso_write_opts_set_replace_mode(made, 1, 1, 0, 0));
  require(iso_write_opts_set_default_dir_mode(made, 0755));
  require(iso_write_opts_set_default_file_mode(made, 0644));
  return options;
}

}  // namespace

IsoWriter::IsoWriter(const std::string& path)
    : path_(std::filesystem::absolute(path).string()), files_(path_ + ".files") {
  if (::mkdir(files_.c_str(), 0777) != 0) {
    if (errno != EEXIST) throw TargetFailed{errno};
    throw Error(Failure::refused,
                fmt::format("{} is there: of an export that was killed, or yours. Nothing is "
                            "overwritten: remove it, or choose another name for the image.",
                            files_));
  }
  TargetTree tree(files_);
  tree.make_folder("data");
  replace_file(tree.root(), "bagit.txt", kBagDeclaration);
  bag_.emplace(files_, false);
}

IsoWriter::~IsoWriter() {
  bag_.reset();
  std::error_code error;
  std::filesystem::remove_all(files_, error);
}

BagOutcome IsoWriter::finish(const std::string& info, FileSum payload) {
  BagOutcome outcome = bag_->finish(info, payload);
  if (outcome.lists_complete) {
    try {
      write_image();
      return outcome;
    } catch (const TargetFailed& failure) {
      outcome.failed.push_back(sentence_of(failure) + ".");
    }
  }
  outcome.failed.emplace_back(kNoneWasLeft);
  outcome.written = {};
  outcome.lists_complete = false;
  return outcome;
}

void IsoWriter::write_image() {
  prepare_library();
  IsoImage* made = nullptr;
  require(iso_image_new("UNDERSHELF", &made));
  const std::unique_ptr<IsoImage, FreeImage> image(made);
  iso_tree_set_ignore_hidden(made, 0);
  iso_tree_set_ignore_special(made, 0x0F);
  require(iso_tree_add_dir_rec(made, iso_image_get_root(made), files_.c_str()));
  const Options options = image_options();
  burn_source* source = nullptr;
  require(iso_image_create_burn_source(made, options.get(), &source));
  const std::unique_ptr<burn_source, FreeSource> blocks(source);
  UnplacedArchive unplaced(path_);
  copy_image(*source, unplaced.file());
  unplaced.place();
}

void IsoWriter::copy_image(burn_source& image, const Descriptor& file) const {
  std::vector<std::byte> buffer(kBlock * kBlocksAtOnce);
  const auto size = static_cast<uint64_t>(image.get_size(&image));
  uint64_t written = 0;
  for (bool ends = false; !ends;) {
    size_t filled = 0;
    while (filled < buffer.size() && !ends) {
      auto* const block = reinterpret_cast<unsigned char*>(&buffer[filled]);
      const int n = image.read != nullptr ? image.read(&image, block, kBlock)
                                          : image.read_xt(&image, block, kBlock);
      if (n < 0) throw TargetFailed{EIO};
      ends = n == 0;
      filled += static_cast<size_t>(n);
    }
    if (!write_sparsely(file.get(), std::span(buffer).first(filled))) throw TargetFailed{errno};
    written += filled;
  }
  // A reader that fails midway ends the image early.
  if (written != size) throw TargetFailed{EIO};
  if (::ftruncate(file.get(), static_cast<off_t>(written)) != 0 || ::fsync(file.get()) != 0) {
    throw TargetFailed{errno};
  }
}

}  // namespace undershelf
