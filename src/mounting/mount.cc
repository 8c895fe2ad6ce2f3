#include "mounting/mount.h"

#define FUSE_USE_VERSION 31
#include <fmt/format.h>
#include <fuse3/fuse.h>
#include <fuse3/fuse_log.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <climits>
#include <cstdarg>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <memory>
#include <new>
#include <span>
#include <unordered_map>

#include "access/apple_double.h"
#include "access/content.h"
#include "model/error.h"

namespace undershelf {
namespace {

constexpr double kForEver = 86400;  // seconds that the kernel may remember what it was told

// What libfuse said last, in place of its own standard error.
std::string& last_words() {
  static std::string words;
  return words;
}

void note_words(fuse_log_level, const char* format, va_list values) {
  std::array<char, 256> text{};
  std::vsnprintf(text.data(), text.size(), format, values);
  last_words() = text.data();
  while (last_words().ends_with('\n')) last_words().pop_back();
}

struct OpenFile {
  std::string head;
  StreamReader stream;
  Losses losses;  // that need no reading to be known; in the file
  uint64_t size() const { return head.size() + stream.size(); }
};

// What the calls work on. libfuse calls one at a time, in the thread that mounted.
struct Mounted {
  Mounted(const Shelf& of, const SourcePtr& source, View view_of, bool fill_missing)
      : shelf(of),
        spaces(of, source),
        opener(of, spaces),
        view(std::move(view_of)),
        fill(fill_missing) {}

  OpenFile open(const View::Node& node) {
    OpenFile file{{}, opener.open(node.stream), {}};
    if (node.is_double) file.head = apple_double_head_of(shelf, node.entry, file.stream.size());
    for (Loss loss : file.stream.known_losses()) {
      // What could not be read once may be read by now.
      if (is_met_in_reading(loss.cause)) continue;
      loss.offset += file.head.size();
      file.losses.push_back(loss);
    }
    return file;
  }

  // Bytes read, or what is wrong, negative.
  int read(const OpenFile& file, std::span<std::byte> out, uint64_t offset) const {
    if (offset >= file.size()) return 0;
    out = out.first(std::min<uint64_t>(out.size(), file.size() - offset));
    const auto head = std::as_bytes(std::span(file.head));
    size_t done = 0;
    if (offset < head.size()) {
      done = std::min<size_t>(out.size(), head.size() - offset);
      std::ranges::copy(head.subspan(offset, done), out.begin());
    }
    Losses lost = file.losses;
    if (done < out.size()) {
      const uint64_t from = offset + done - head.size();
      for (Loss loss : file.stream.read(from, out.subspan(done))) {
        loss.offset += head.size();
        lost.push_back(loss);
      }
    }
    size_t sound = out.size();  // bytes before the first that is missing
    for (const Loss& loss : lost) {
      const uint64_t begin = std::max(loss.offset, offset);
      const uint64_t end = std::min(loss.end(), offset + out.size());
      if (begin >= end) continue;
      sound = std::min<size_t>(sound, begin - offset);
      std::ranges::fill(out.subspan(begin - offset, end - begin), std::byte{0});
    }
    if (fill || sound > 0) return static_cast<int>(fill ? out.size() : sound);
    return -EIO;
  }

  const Shelf& shelf;
  Spaces spaces;
  ContentOpener opener;
  View view;
  const bool fill;
  // By handle. Some may still be open when it ends.
  std::unordered_map<uint64_t, std::unique_ptr<OpenFile>> open_files;
  uint64_t next_handle = 1;
};

Mounted& mounted() { return *static_cast<Mounted*>(fuse_get_context()->private_data); }

// No exception may pass through libfuse.
template <typename Call>
int guarded(const Call& call) {
  try {
    return call();
  } catch (const std::bad_alloc&) {
    return -ENOMEM;
  } catch (const std::exception&) {
    return -EIO;
  }
}

timespec to_timespec(const std::optional<Time>& time) {
  timespec found{};
  if (!time) return found;
  found.tv_sec = time->ticks / kTicksPerSecond;
  found.tv_nsec = time->ticks % kTicksPerSecond * 100;
  if (found.tv_nsec < 0) {
    found.tv_nsec += 1'000'000'000;
    --found.tv_sec;
  }
  return found;
}

void describe(const View::Node& node, struct stat& status) {
  status = {};
  status.st_mode = node.folder ? S_IFDIR | 0555 : S_IFREG | 0444;
  status.st_nlink = 1;
  status.st_uid = ::getuid();
  status.st_gid = ::getgid();
  status.st_size = static_cast<off_t>(node.size);
  status.st_blocks = static_cast<blkcnt_t>((node.size + 511) / 512);
  status.st_mtim = status.st_ctim = to_timespec(node.modified);
  status.st_atim = to_timespec(node.accessed ? node.accessed : node.modified);
}

int get_attributes(const char* path, struct stat* status, fuse_file_info*) {
  const View::Node* node = mounted().view.find(path);
  if (node == nullptr) return -ENOENT;
  describe(*node, *status);
  return 0;
}

int read_folder(const char* path, void* buffer, fuse_fill_dir_t add, off_t, fuse_file_info*,
                fuse_readdir_flags) {
  const View& view = mounted().view;
  const View::Node* folder = view.find(path);
  if (folder == nullptr) return -ENOENT;
  if (!folder->folder) return -ENOTDIR;
  for (const char* name : {".", ".."}) add(buffer, name, nullptr, 0, fuse_fill_dir_flags{});
  for (uint32_t i = folder->first; i < folder->end; ++i) {
    struct stat status {};
    describe(view.at(i), status);
    if (add(buffer, view.at(i).name.c_str(), &status, 0, FUSE_FILL_DIR_PLUS) != 0) return -ENOMEM;
  }
  return 0;
}

int open_file(const char* path, fuse_file_info* file) {
  return guarded([&] {
    const View::Node* node = mounted().view.find(path);
    if (node == nullptr) return -ENOENT;
    if (node->folder) return -EISDIR;
    if ((file->flags & O_ACCMODE) != O_RDONLY) return -EROFS;
    auto opened = std::make_unique<OpenFile>(mounted().open(*node));
    // Only so does a read that ends before what is missing stay one.
    file->direct_io = !opened->losses.empty() && !mounted().fill ? 1 : 0;
    file->keep_cache = 1;
    file->fh = mounted().next_handle++;
    mounted().open_files.emplace(file->fh, std::move(opened));
    return 0;
  });
}

int read_file(const char*, char* buffer, size_t size, off_t offset, fuse_file_info* file) {
  return guarded([&] {
    const std::span out(reinterpret_cast<std::byte*>(buffer), std::min<size_t>(size, INT_MAX));
    return mounted().read(*mounted().open_files.at(file->fh), out, static_cast<uint64_t>(offset));
  });
}

int release_file(const char*, fuse_file_info* file) {
  mounted().open_files.erase(file->fh);
  return 0;
}

int tell_room(const char*, struct statvfs* status) {
  *status = {};
  constexpr unsigned kBlock = 4096;
  status->f_bsize = status->f_frsize = kBlock;
  status->f_blocks = (mounted().view.sum().bytes + kBlock - 1) / kBlock;
  status->f_files = mounted().view.sum().files;
  status->f_namemax = 255;
  status->f_flag = ST_RDONLY;
  return 0;
}

void* begin(fuse_conn_info*, fuse_config* config) {
  config->entry_timeout = config->attr_timeout = config->negative_timeout = kForEver;
  return fuse_get_context()->private_data;
}

void require_empty_folder(const std::string& directory) {
  namespace fs = std::filesystem;
  std::error_code error;
  const bool folder = fs::is_directory(directory, error);
  if (folder && fs::is_empty(directory, error) && !error) return;
  throw Error(Failure::refused,
              fmt::format("{} is not an empty folder. Make one, and name it.", directory));
}

[[noreturn]] void fail_to_mount(const std::string& directory) {
  const std::string why = ::access("/dev/fuse", F_OK) != 0
                              ? "this system has no /dev/fuse (load the kernel's module `fuse`)"
                          : last_words().empty() ? std::string(std::strerror(errno))
                                                 : last_words();
  throw Error(Failure::unavailable, fmt::format("{} cannot be mounted: {}.", directory, why));
}

struct EndFuse {
  void operator()(fuse* session) const { fuse_destroy(session); }
};

}  // namespace

void mount_selection(const Shelf& shelf, const SourcePtr& source, const Selection& selection,
                     const MountOptions& options) {
  require_empty_folder(options.directory);
  Mounted state(shelf, source, View(shelf, selection, PathRules{}, options.even_gone),
                options.fill);
  if (state.view.sum().files == 0) {
    throw Error(Failure::incomplete,
                "Nothing was mounted: no file fits these filters, or nothing but names is left of "
                "those that do. `undershelf list` shows what there is.");
  }
  fuse_operations calls{};
  calls.init = begin;
  calls.getattr = get_attributes;
  calls.readdir = read_folder;
  calls.open = open_file;
  calls.read = read_file;
  calls.release = release_file;
  calls.statfs = tell_room;
  std::array<std::string, 3> words = {"undershelf", "-o",
                                      "ro,nosuid,nodev,noexec,default_permissions,"
                                      "fsname=undershelf,subtype=undershelf"};
  std::array<char*, 3> pointers{};
  std::ranges::transform(words, pointers.begin(), [](std::string& word) { return word.data(); });
  fuse_args arguments{static_cast<int>(pointers.size()), pointers.data(), 0};
  fuse_set_log_func(note_words);
  const std::unique_ptr<fuse, EndFuse> session(fuse_new(&arguments, &calls, sizeof calls, &state));
  fuse_opt_free_args(&arguments);
  if (!session || fuse_mount(session.get(), options.directory.c_str()) != 0) {
    fail_to_mount(options.directory);
  }
  fuse_session* signals = fuse_get_session(session.get());
  const bool can_be_stopped = fuse_set_signal_handlers(signals) == 0;
  options.mounted(state.view.sum());
  fuse_loop(session.get());
  if (can_be_stopped) fuse_remove_signal_handlers(signals);
  fuse_unmount(session.get());
}

}  // namespace undershelf
