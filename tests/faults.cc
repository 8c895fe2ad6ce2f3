// Put in front of the C library (LD_PRELOAD), makes one call of a program fail: the one of number
// UNDERSHELF_FAIL_WRITE among those that write, or UNDERSHELF_FAIL_NEW among allocations. What is
// counted is told at the end in the file UNDERSHELF_FAULTS_COUNTED. Or it tries to write to a file.
#include <dlfcn.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <new>

namespace {

long number_in(const char* name) {
  const char* text = ::getenv(name);
  return text == nullptr ? 0 : ::atol(text);
}

std::atomic<long> writes{0}, news{0};

// Processes that the program forks fail by themselves in tests of their own (box_test.cc).
std::atomic<bool> is_forked{false};

// Whether this call is the one that fails: by turns the medium is full, or broken.
bool fails() {
  static const long which = number_in("UNDERSHELF_FAIL_WRITE");
  if (is_forked) return false;
  const long now = ++writes;
  if (now != which) return false;
  errno = now % 2 == 0 ? ENOSPC : EIO;
  return true;
}

template <typename Function>
Function* next(const char* name) {
  return reinterpret_cast<Function*>(::dlsym(RTLD_NEXT, name));
}

struct AtEnd {
  ~AtEnd() {
    const char* path = ::getenv("UNDERSHELF_FAULTS_COUNTED");
    if (path == nullptr) return;
    if (FILE* file = std::fopen(path, "w")) {
      std::fprintf(file, "%ld %ld\n", writes.load(), news.load());
      std::fclose(file);
    }
  }
} at_end;

// Standard output and error are no medium, nor is a pipe between processes.
bool is_file(int fd) {
  struct stat status {};
  return fd > 2 && ::fstat(fd, &status) == 0 &&
         (S_ISREG(status.st_mode) || S_ISBLK(status.st_mode));
}

}  // namespace

extern "C" {

ssize_t write(int fd, const void* data, size_t size) {
  static auto* const real = next<ssize_t(int, const void*, size_t)>("write");
  return is_file(fd) && fails() ? -1 : real(fd, data, size);
}
ssize_t pwrite64(int fd, const void* data, size_t size, off64_t at) {
  static auto* const real = next<ssize_t(int, const void*, size_t, off64_t)>("pwrite64");
  return fails() ? -1 : real(fd, data, size, at);
}
ssize_t pwrite(int fd, const void* data, size_t size, off_t at) {
  return pwrite64(fd, data, size, at);
}
// The byte UNDERSHELF_FAIL_READ of the file UNDERSHELF_FAILING cannot be read; each try is told.
bool is_failing(int fd, size_t size, off64_t at) {
  static const char* const path = ::getenv("UNDERSHELF_FAILING");
  static const long bad = number_in("UNDERSHELF_FAIL_READ");
  struct stat read {};
  struct stat named {};
  if (path == nullptr || bad < at || bad >= at + static_cast<off64_t>(size)) return false;
  if (::fstat(fd, &read) != 0 || ::stat(path, &named) != 0) return false;
  if (read.st_ino != named.st_ino) return false;
  std::fprintf(stderr, "ASKED %zu\n", size);
  errno = EIO;
  return true;
}
// At the first read of the file UNDERSHELF_TRY_WRITE tries to open it for writing, as a fault in
// the program might, and says what became of it.
ssize_t pread64(int fd, void* data, size_t size, off64_t at) {
  static auto* const real = next<ssize_t(int, void*, size_t, off64_t)>("pread64");
  static const char* const path = ::getenv("UNDERSHELF_TRY_WRITE");
  static std::atomic<bool> tried{false};
  struct stat read {};
  struct stat named {};
  const bool is_it = path != nullptr && ::fstat(fd, &read) == 0 && ::stat(path, &named) == 0 &&
                     read.st_ino == named.st_ino;
  if (is_it && !tried.exchange(true)) {
    const int file = ::open(path, O_WRONLY);
    std::fprintf(stderr, "TRIED %d\n", file < 0 ? errno : 0);
    if (file >= 0) ::close(file);
  }
  return is_failing(fd, size, at) ? -1 : real(fd, data, size, at);
}
ssize_t pread(int fd, void* data, size_t size, off_t at) { return pread64(fd, data, size, at); }
// Where UNDERSHELF_TELL_FORKS is set, says of how many threads the process was.
pid_t fork() {
  static auto* const real = next<pid_t()>("fork");
  if (::getenv("UNDERSHELF_TELL_FORKS") != nullptr) {
    long threads = 0;
    for (const auto& each : std::filesystem::directory_iterator("/proc/self/task")) {
      threads += !each.path().empty();
    }
    std::fprintf(stderr, "FORKED %ld\n", threads);
  }
  const pid_t child = real();
  if (child == 0) is_forked = true;
  return child;
}
int fsync(int fd) {
  static auto* const real = next<int(int)>("fsync");
  return fails() ? -1 : real(fd);
}
int fdatasync(int fd) {
  static auto* const real = next<int(int)>("fdatasync");
  return fails() ? -1 : real(fd);
}
int syncfs(int fd) {
  static auto* const real = next<int(int)>("syncfs");
  return fails() ? -1 : real(fd);
}
int ftruncate64(int fd, off64_t size) {
  static auto* const real = next<int(int, off64_t)>("ftruncate64");
  return fails() ? -1 : real(fd, size);
}
int ftruncate(int fd, off_t size) { return ftruncate64(fd, size); }
int linkat(int from, const char* old, int to, const char* now, int flags) {
  static auto* const real = next<int(int, const char*, int, const char*, int)>("linkat");
  return fails() ? -1 : real(from, old, to, now, flags);
}
int renameat(int from, const char* old, int to, const char* now) {
  static auto* const real = next<int(int, const char*, int, const char*)>("renameat");
  return fails() ? -1 : real(from, old, to, now);
}
int renameat2(int from, const char* old, int to, const char* now, unsigned flags) {
  static auto* const real = next<int(int, const char*, int, const char*, unsigned)>("renameat2");
  return fails() ? -1 : real(from, old, to, now, flags);
}
int mkdirat(int at, const char* path, mode_t mode) {
  static auto* const real = next<int(int, const char*, mode_t)>("mkdirat");
  return fails() ? -1 : real(at, path, mode);
}

}  // extern "C"

void* operator new(size_t size) {
  static const long which = number_in("UNDERSHELF_FAIL_NEW");
  void* memory = !is_forked && ++news == which ? nullptr : std::malloc(size == 0 ? 1 : size);
  if (memory == nullptr) throw std::bad_alloc();
  return memory;
}
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, size_t) noexcept { std::free(memory); }
