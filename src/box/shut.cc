#include "box/shut.h"

#include <fcntl.h>
#include <seccomp.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstdio>
#include <initializer_list>
#include <vector>

namespace undershelf::box {
namespace {

constexpr int kIn = 3, kOut = 4;

bool set_limit(int what, uint64_t most) {
  const rlimit limit{most, most};
  return ::setrlimit(static_cast<__rlimit_resource>(what), &limit) == 0;
}

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr bool kSanitized = true;
#elif defined(__has_feature)
#if __has_feature(address_sanitizer) || __has_feature(thread_sanitizer)
constexpr bool kSanitized = true;
#else
constexpr bool kSanitized = false;
#endif
#else
constexpr bool kSanitized = false;
#endif

// Bytes of address space that the process has.
uint64_t address_space() {
  std::FILE* status = std::fopen("/proc/self/statm", "r");
  if (status == nullptr) return 0;
  unsigned long long pages = 0;
  const int got = std::fscanf(status, "%llu", &pages);
  std::fclose(status);
  return got == 1 ? pages * static_cast<uint64_t>(::sysconf(_SC_PAGESIZE)) : 0;
}

// What is asked of the system besides is either refused, where libraries ask in good faith, or the
// end of the process.
bool close_box() {
  if (::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0) return false;
  scmp_filter_ctx filter = seccomp_init(SCMP_ACT_KILL_PROCESS);
  if (filter == nullptr) return false;
  bool ok = true;
  const auto rule = [&](uint32_t action, int call, std::initializer_list<scmp_arg_cmp> where = {}) {
    const std::vector<scmp_arg_cmp> arguments(where);
    ok = ok && seccomp_rule_add_array(filter, action, call, static_cast<unsigned>(arguments.size()),
                                      arguments.data()) == 0;
  };
  rule(SCMP_ACT_ALLOW, SCMP_SYS(read), {{0, SCMP_CMP_EQ, kIn, 0}});
  rule(SCMP_ACT_ALLOW, SCMP_SYS(write), {{0, SCMP_CMP_EQ, kOut, 0}});
  // Nothing else is open; libraries complain to where standard error was.
  rule(SCMP_ACT_ERRNO(EBADF), SCMP_SYS(write), {{0, SCMP_CMP_EQ, STDERR_FILENO, 0}});
  for (const int call :
       {SCMP_SYS(exit), SCMP_SYS(exit_group), SCMP_SYS(brk), SCMP_SYS(munmap), SCMP_SYS(mremap),
        SCMP_SYS(madvise), SCMP_SYS(futex), SCMP_SYS(rt_sigreturn), SCMP_SYS(rt_sigprocmask),
        SCMP_SYS(clock_gettime), SCMP_SYS(sched_yield), SCMP_SYS(getrandom)}) {
    rule(SCMP_ACT_ALLOW, call);
  }
  // Memory only: no file can be mapped, nothing made executable.
  const scmp_arg_cmp no_code{2, SCMP_CMP_MASKED_EQ, PROT_EXEC, 0};
  rule(SCMP_ACT_ALLOW, SCMP_SYS(mmap),
       {no_code, {3, SCMP_CMP_MASKED_EQ, MAP_ANONYMOUS, MAP_ANONYMOUS}});
  rule(SCMP_ACT_ALLOW, SCMP_SYS(mprotect), {no_code});
  for (const int call :
       {SCMP_SYS(open), SCMP_SYS(openat), SCMP_SYS(access), SCMP_SYS(stat), SCMP_SYS(newfstatat),
        SCMP_SYS(fstat), SCMP_SYS(lseek), SCMP_SYS(ioctl), SCMP_SYS(readlink), SCMP_SYS(getcwd),
        SCMP_SYS(close), SCMP_SYS(getpid), SCMP_SYS(gettid), SCMP_SYS(sysinfo), SCMP_SYS(prctl)}) {
    rule(SCMP_ACT_ERRNO(EACCES), call);
  }
  // Sanitizers look at their own stack.
  if (kSanitized) rule(SCMP_ACT_ALLOW, SCMP_SYS(sigaltstack));
  ok = ok && seccomp_load(filter) == 0;
  seccomp_release(filter);
  return ok;
}

}  // namespace

void tell_broken_pipes_by_errors() {
  struct sigaction now {};
  if (::sigaction(SIGPIPE, nullptr, &now) == 0 && now.sa_handler == SIG_DFL) {
    ::signal(SIGPIPE, SIG_IGN);
  }
}

bool read_all(void* data, size_t length) {
  for (size_t got = 0; got < length;) {
    const ssize_t part = ::read(kIn, static_cast<char*>(data) + got, length - got);
    if (part < 0 && errno == EINTR) continue;
    if (part <= 0) return false;
    got += static_cast<size_t>(part);
  }
  return true;
}

void write_all(const void* data, size_t length) {
  for (size_t put = 0; put < length;) {
    const ssize_t part = ::write(kOut, static_cast<const char*>(data) + put, length - put);
    if (part < 0 && errno == EINTR) continue;
    if (part <= 0) ::_exit(0);  // nobody is there to be told
    put += static_cast<size_t>(part);
  }
}

void shut(int in, int out, uint64_t memory) {
  for (int number = 1; number < NSIG; ++number) ::signal(number, SIG_DFL);
  ::signal(SIGINT, SIG_IGN);  // the parent heeds it
  const int from = ::fcntl(in, F_DUPFD, 10), to = ::fcntl(out, F_DUPFD, 10);
  const uint64_t space = address_space();
  if (from < 0 || to < 0 || ::dup2(from, kIn) < 0 || ::dup2(to, kOut) < 0) ::_exit(kNoBox);
  ::close(0);
  ::close(1);
  ::close(2);
  if (::close_range(kOut + 1, ~0U, 0) != 0) {  // not in all containers
    const int64_t most = ::sysconf(_SC_OPEN_MAX);
    if (most < 0) ::_exit(kNoBox);
    for (int file = kOut + 1; file < most; ++file) ::close(file);
  }
  if (!kSanitized && !set_limit(RLIMIT_AS, space + memory)) ::_exit(kNoBox);
  if (!set_limit(RLIMIT_CORE, 0) || !set_limit(RLIMIT_FSIZE, 0) ||
      !set_limit(RLIMIT_NOFILE, kOut + 1)) {
    ::_exit(kNoBox);
  }
  if (!close_box()) ::_exit(kNoBox);
}

}  // namespace undershelf::box
