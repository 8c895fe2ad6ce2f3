#include "mounting/mount.h"

#define FUSE_USE_VERSION 31
#include <fmt/format.h>
#include <fuse3/fuse_log.h>
#include <fuse3/fuse_lowlevel.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <climits>
#include <csignal>
#include <cstdarg>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <memory>
#include <new>
#include <optional>
#include <span>
#include <unordered_map>
#include <utility>
#include <vector>

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
  std::vector<char> page;  // that an answer is made in
};

Mounted& mounted(fuse_req_t request) {
  return **static_cast<std::optional<Mounted>*>(fuse_req_userdata(request));
}

// Answers a request by what `call` returns: 0 if it has answered, else what is wrong, negative. No
// exception may pass through libfuse.
template <typename Call>
void answer(fuse_req_t request, const Call& call) {
  int wrong = -EIO;
  try {
    wrong = call();
  } catch (const std::bad_alloc&) {
    wrong = -ENOMEM;
  } catch (const std::exception&) {  // it is -EIO
  }
  if (wrong != 0) fuse_reply_err(request, -wrong);
}

// The kernel knows nodes by numbers: these are indexes of the view, from FUSE_ROOT_ID on.
fuse_ino_t number_of_node(uint32_t index) { return FUSE_ROOT_ID + index; }
uint32_t node_of(fuse_ino_t number) { return static_cast<uint32_t>(number - FUSE_ROOT_ID); }

struct stat describe(const View& view, uint32_t index) {
  const View::Node& node = view.at(index);
  struct stat status {};
  status.st_ino = number_of_node(index);
  status.st_mode = node.folder ? S_IFDIR | 0555 : S_IFREG | 0444;
  status.st_nlink = 1;
  status.st_uid = ::getuid();
  status.st_gid = ::getgid();
  status.st_size = static_cast<off_t>(node.size);
  status.st_blocks = static_cast<blkcnt_t>((node.size + 511) / 512);
  const std::optional<Time> accessed = node.accessed ? node.accessed : node.modified;
  if (node.modified) status.st_mtim = status.st_ctim = to_timespec(*node.modified);
  if (accessed) status.st_atim = to_timespec(*accessed);
  return status;
}

fuse_entry_param entry_of(const View& view, uint32_t index) {
  fuse_entry_param entry{};
  entry.ino = number_of_node(index);
  entry.attr = describe(view, index);
  entry.attr_timeout = entry.entry_timeout = kForEver;
  return entry;
}

void look_up(fuse_req_t request, fuse_ino_t parent, const char* name) {
  answer(request, [&] {
    const View& view = mounted(request).view;
    const auto child = view.child(node_of(parent), name);
    if (!child) return -ENOENT;
    const fuse_entry_param entry = entry_of(view, *child);
    fuse_reply_entry(request, &entry);
    return 0;
  });
}

void get_attributes(fuse_req_t request, fuse_ino_t number, fuse_file_info*) {
  const struct stat status = describe(mounted(request).view, node_of(number));
  fuse_reply_attr(request, &status, kForEver);
}

// As many of a folder's children as fit, from the one behind `offset`: this one, the folder above,
// then its nodes in order; with all that is known of them if it is to be `plus`.
void read_folder(fuse_req_t request, fuse_ino_t number, size_t size, off_t offset, bool plus) {
  answer(request, [&] {
    const View& view = mounted(request).view;
    const View::Node& folder = view.at(node_of(number));
    std::vector<char>& page = mounted(request).page;
    page.resize(size);
    size_t used = 0;
    const off_t end = 2 + static_cast<off_t>(folder.end - folder.first);
    for (off_t at = offset; at < end; ++at) {
      uint32_t index = at == 0 ? node_of(number) : folder.parent;
      if (at >= 2) index = folder.first + static_cast<uint32_t>(at - 2);
      const char* name = at == 0 ? "." : at == 1 ? ".." : view.at(index).name.c_str();
      const fuse_entry_param entry = entry_of(view, index);
      const auto add = [&](char* to, size_t room) {
        return plus ? fuse_add_direntry_plus(request, to, room, name, &entry, at + 1)
                    : fuse_add_direntry(request, to, room, name, &entry.attr, at + 1);
      };
      const size_t taken = add(page.data() + used, size - used);
      if (taken > size - used) break;
      used += taken;
    }
    fuse_reply_buf(request, page.data(), used);
    return 0;
  });
}

void read_names(fuse_req_t request, fuse_ino_t number, size_t size, off_t offset, fuse_file_info*) {
  read_folder(request, number, size, offset, false);
}

void read_names_and_attributes(fuse_req_t request, fuse_ino_t number, size_t size, off_t offset,
                               fuse_file_info*) {
  read_folder(request, number, size, offset, true);
}

void open_file(fuse_req_t request, fuse_ino_t number, fuse_file_info* file) {
  answer(request, [&] {
    Mounted& state = mounted(request);
    const View::Node& node = state.view.at(node_of(number));
    if (node.folder) return -EISDIR;
    if ((file->flags & O_ACCMODE) != O_RDONLY) return -EROFS;
    auto opened = std::make_unique<OpenFile>(state.open(node));
    // Only so does a read that ends before what is missing stay one.
    file->direct_io = !opened->losses.empty() && !state.fill ? 1 : 0;
    file->keep_cache = 1;
    file->fh = state.next_handle++;
    state.open_files.emplace(file->fh, std::move(opened));
    fuse_reply_open(request, file);
    return 0;
  });
}

void read_file(fuse_req_t request, fuse_ino_t, size_t size, off_t offset, fuse_file_info* file) {
  answer(request, [&] {
    Mounted& state = mounted(request);
    state.page.resize(std::min<size_t>(size, INT_MAX));
    const int got =
        state.read(*state.open_files.at(file->fh), std::as_writable_bytes(std::span(state.page)),
                   static_cast<uint64_t>(offset));
    if (got < 0) return got;
    fuse_reply_buf(request, state.page.data(), static_cast<size_t>(got));
    return 0;
  });
}

void release_file(fuse_req_t request, fuse_ino_t, fuse_file_info* file) {
  mounted(request).open_files.erase(file->fh);
  fuse_reply_err(request, 0);
}

void tell_room(fuse_req_t request, fuse_ino_t) {
  constexpr unsigned kBlock = 4096;
  const View::Sum& sum = mounted(request).view.sum();
  struct statvfs status {};
  status.f_bsize = status.f_frsize = kBlock;
  status.f_blocks = (sum.bytes + kBlock - 1) / kBlock;
  status.f_files = sum.files;
  status.f_namemax = 255;
  status.f_flag = ST_RDONLY;
  fuse_reply_statfs(request, &status);
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

// Mounted from its making to its end. What unmounts is a process of its own, which waits for the
// end of this one, however it comes: this one may not, once it is confined.
class Session {
 public:
  Session(std::optional<Mounted>& state, const std::string& directory) {
    fuse_lowlevel_ops calls{};
    calls.lookup = look_up;
    calls.getattr = get_attributes;
    calls.readdir = read_names;
    calls.readdirplus = read_names_and_attributes;
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
    session_.reset(fuse_session_new(&arguments, &calls, sizeof calls, &state));
    fuse_opt_free_args(&arguments);
    if (!session_ || fuse_session_mount(session_.get(), directory.c_str()) != 0) {
      fail_to_mount(directory);
    }
    begin_unmounter();
  }
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;
  ~Session() {
    if (unmounter_ > 0) {
      ::close(alive_);
      ::waitpid(unmounter_, nullptr, 0);
    }
    fuse_session_unmount(session_.get());  // finds it done, if it could be
  }

  // Until it is unmounted or a signal comes.
  void serve() {
    // A shell lets what it begins in the background ignore Ctrl-C, and the library keeps it so.
    for (const int signal : {SIGINT, SIGTERM, SIGHUP}) std::signal(signal, SIG_DFL);
    const bool can_be_stopped = fuse_set_signal_handlers(session_.get()) == 0;
    fuse_session_loop(session_.get());
    if (can_be_stopped) fuse_remove_signal_handlers(session_.get());
  }

 private:
  struct Destroy {
    void operator()(fuse_session* session) const { fuse_session_destroy(session); }
  };

  void begin_unmounter() {
    std::array<int, 2> pipe{};
    if (::pipe2(pipe.data(), O_CLOEXEC) != 0) return;
    unmounter_ = ::fork();
    if (unmounter_ == 0) {
      for (const int signal : {SIGINT, SIGTERM, SIGHUP, SIGQUIT}) std::signal(signal, SIG_IGN);
      ::close(pipe[1]);
      char nothing = 0;
      while (::read(pipe[0], &nothing, 1) < 0 && errno == EINTR) {
      }
      fuse_session_unmount(session_.get());
      ::_exit(0);
    }
    ::close(pipe[0]);
    alive_ = pipe[1];
    if (unmounter_ < 0) ::close(alive_);
  }

  std::unique_ptr<fuse_session, Destroy> session_;
  pid_t unmounter_ = -1;
  int alive_ = -1;  // the end of a pipe that is open as long as this process lives
};

}  // namespace

void mount_selection(const Shelf& shelf, const std::function<SourcePtr()>& open_source,
                     const Selection& selection, const MountOptions& options) {
  require_empty_folder(options.directory);
  View view(shelf, selection, PathRules{}, options.even_gone);
  const View::Sum sum = view.sum();
  if (sum.files == 0) {
    throw Error(Failure::incomplete,
                "Nothing was mounted: no file fits these filters, or nothing but names is left of "
                "those that do. `undershelf list` shows what there is.");
  }
  std::optional<Mounted> state;
  Session session(state, options.directory);
  state.emplace(shelf, open_source(), std::move(view), options.fill);
  options.mounted(sum);
  session.serve();
}

}  // namespace undershelf
