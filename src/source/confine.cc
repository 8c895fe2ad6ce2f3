#include "source/confine.h"

#include <fcntl.h>
#include <linux/filter.h>
#include <linux/fs.h>
#include <linux/landlock.h>
#include <linux/seccomp.h>
#include <seccomp.h>
#include <sys/ioctl.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <iterator>
#include <memory>
#include <vector>

#ifndef __has_feature
#define __has_feature(feature) 0
#endif

namespace undershelf {
namespace {

constexpr uint64_t kTruncate = 1ULL << 14;  // LANDLOCK_ACCESS_FS_TRUNCATE, newer than our headers
constexpr uint64_t kOnFiles = LANDLOCK_ACCESS_FS_WRITE_FILE | kTruncate;
constexpr uint64_t kChanges =
    kOnFiles | LANDLOCK_ACCESS_FS_REMOVE_DIR | LANDLOCK_ACCESS_FS_REMOVE_FILE |
    LANDLOCK_ACCESS_FS_MAKE_CHAR | LANDLOCK_ACCESS_FS_MAKE_DIR | LANDLOCK_ACCESS_FS_MAKE_REG |
    LANDLOCK_ACCESS_FS_MAKE_SOCK | LANDLOCK_ACCESS_FS_MAKE_FIFO | LANDLOCK_ACCESS_FS_MAKE_BLOCK |
    LANDLOCK_ACCESS_FS_MAKE_SYM | LANDLOCK_ACCESS_FS_REFER;

// What of these a version of Landlock knows ("Landlock: unprivileged access control", "Previous
// limitations").
uint64_t known_to(int64_t version) {
  if (version < 2) return kChanges & ~(LANDLOCK_ACCESS_FS_REFER | kTruncate);
  return version < 3 ? kChanges & ~kTruncate : kChanges;
}

// All that is asked of devices and descriptors here. Every other command is refused: it may change
// what is on a device, or come with the next kernel.
constexpr unsigned kCommands[] = {
    BLKGETSIZE64, BLKSSZGET, BLKPBSZGET, BLKROGET, BLKROSET,               // block devices
    TCGETS,       TCSETS,    TCSETSW,    TCSETSF,  TIOCGWINSZ, TIOCGPGRP,  // terminals
    FIONREAD,     FIONBIO,                                                 // pipes and sockets
    0x8004E500,                                                            // FUSE_DEV_IOC_CLONE
};

constexpr std::array kCalls = {
    SCMP_SYS(mount),
    SCMP_SYS(umount2),
    SCMP_SYS(pivot_root),
    SCMP_SYS(swapon),
    SCMP_SYS(swapoff),
    SCMP_SYS(reboot),
    SCMP_SYS(init_module),
    SCMP_SYS(finit_module),
    SCMP_SYS(delete_module),
    SCMP_SYS(kexec_load),
    SCMP_SYS(bpf),
    SCMP_SYS(setns),
    SCMP_SYS(unshare),
    SCMP_SYS(io_uring_setup),  // whose requests no filter of calls sees
    SCMP_SYS(move_mount),
    SCMP_SYS(open_tree),
    SCMP_SYS(fsopen),
    SCMP_SYS(fsconfig),
    SCMP_SYS(fsmount),
    SCMP_SYS(fspick),
    SCMP_SYS(mount_setattr),
    SCMP_SYS(process_vm_writev),
#if !__has_feature(address_sanitizer) && !defined(__SANITIZE_ADDRESS__)
    SCMP_SYS(ptrace),  // by which that sanitizer looks for leaks
#endif
};

struct Release {
  void operator()(void* context) const { seccomp_release(context); }
};

// Of ioctl no command but those of kCommands. The library has no rule that allows just these, so
// that the filter is written out (Linux, "Seccomp BPF"): it looks at the call's number and, of
// ioctl, at the lower half of its second argument. False if the kernel takes none.
bool filter_commands() {
  constexpr auto kCommands32 = std::size(kCommands);
  const auto field = [](size_t offset) {
    return sock_filter BPF_STMT(BPF_LD | BPF_W | BPF_ABS, static_cast<uint32_t>(offset));
  };
  const sock_filter allow = BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW);
  std::vector<sock_filter> program = {
      field(offsetof(seccomp_data, nr)),
      BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_ioctl, 1, 0),
      allow,
      field(offsetof(seccomp_data, args) + sizeof(uint64_t)),
  };
  for (size_t i = 0; i < kCommands32; ++i) {
    // To the last statement, which allows it.
    const auto ahead = static_cast<uint8_t>(kCommands32 - i);
    program.push_back(BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, kCommands[i], ahead, 0));
  }
  program.push_back(BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ERRNO | EPERM));
  program.push_back(allow);
  const sock_fprog filter{static_cast<unsigned short>(program.size()), program.data()};
  return ::prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &filter) == 0;
}

// False if the kernel takes no filter.
bool filter_calls() {
  const std::unique_ptr<void, Release> filter(seccomp_init(SCMP_ACT_ALLOW));
  bool fine = filter != nullptr;
  for (const int call : kCalls) {
    fine = fine && seccomp_rule_add(filter.get(), SCMP_ACT_ERRNO(EPERM), call, 0) == 0;
  }
  return fine && seccomp_load(filter.get()) == 0 && filter_commands();
}

bool allow(int ruleset, const std::string& path, uint64_t rights) {
  const int place = ::open(path.c_str(), O_PATH | O_CLOEXEC);
  if (place < 0) return true;
  struct stat status {};
  const bool is_folder = ::fstat(place, &status) == 0 && S_ISDIR(status.st_mode);
  landlock_path_beneath_attr below{};
  below.allowed_access = is_folder ? rights : rights & kOnFiles;
  below.parent_fd = place;
  const bool fine =
      ::syscall(SYS_landlock_add_rule, ruleset, LANDLOCK_RULE_PATH_BENEATH, &below, 0) == 0;
  ::close(place);
  return fine;
}

std::string confine(const std::vector<std::string>& writable) {
  const int64_t version =
      ::syscall(SYS_landlock_create_ruleset, nullptr, 0, LANDLOCK_CREATE_RULESET_VERSION);
  if (version < 1) {
    return errno == EOPNOTSUPP ? "Landlock is switched off in it" : "it has no Landlock";
  }
  landlock_ruleset_attr attributes{};
  attributes.handled_access_fs = known_to(version);
  const int ruleset = static_cast<int>(
      ::syscall(SYS_landlock_create_ruleset, &attributes, sizeof attributes.handled_access_fs, 0));
  bool fine = ruleset >= 0;
  for (const std::string& path : writable) {
    fine = fine && allow(ruleset, path, attributes.handled_access_fs);
  }
  fine = fine && ::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0 &&
         ::syscall(SYS_landlock_restrict_self, ruleset, 0) == 0;
  const int error = errno;
  if (ruleset >= 0) ::close(ruleset);
  if (!fine) return std::strerror(error);
  return filter_calls() ? std::string() : "it takes no filter of system calls";
}

}  // namespace

std::string confine_writing(const std::vector<std::string>& writable) {
  static const std::string why = confine(writable);
  return why;
}

}  // namespace undershelf
