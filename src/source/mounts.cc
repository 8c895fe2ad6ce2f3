#include "source/mounts.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <optional>
#include <sstream>

#include "source/sysfs.h"

namespace undershelf {
namespace {

// Spaces and the like stand as backslash and three octal digits.
std::string unescaped(const std::string& text) {
  std::string out;
  for (size_t i = 0; i < text.size(); ++i) {
    const auto digit = [&](size_t ahead) {
      return i + ahead < text.size() && text[i + ahead] >= '0' && text[i + ahead] <= '7';
    };
    if (text[i] == '\\' && digit(1) && digit(2) && digit(3)) {
      out +=
          static_cast<char>((text[i + 1] - '0') * 64 + (text[i + 2] - '0') * 8 + text[i + 3] - '0');
      i += 3;
    } else {
      out += text[i];
    }
  }
  return out;
}

// The value of one of the super options; a comma in it stands as backslash and three digits, too.
std::string option_of(const std::string& options, const std::string& name) {
  const size_t at = (',' + options).find(',' + name);
  if (at == std::string::npos) return {};
  const size_t begin = at + name.size();
  return unescaped(options.substr(begin, options.find(',', begin) - begin));
}

// ID parent major:minor root mount-point options ... - type source super-options
std::optional<Mount> parse(const std::string& line) {
  const size_t dash = line.find(" - ");
  if (dash == std::string::npos) return std::nullopt;
  std::istringstream first(line.substr(0, dash));
  std::istringstream second(line.substr(dash + 3));
  Mount mount;
  std::string parent, number, root, point, source, options;
  first >> mount.id >> parent >> number >> root >> point;
  second >> mount.type >> source >> options;
  mount.device = device_number(number).value_or(0);
  mount.point = unescaped(point);
  mount.source = unescaped(source);
  if (mount.type == "overlay") mount.upper = option_of(options, "upperdir=");
  mount.writable = options.substr(0, options.find(',')) == "rw";
  return mount;
}

// Of a file system on several devices, sysfs lists them all.
void add_companions(std::set<dev_t>& devices) {
  const std::set<dev_t> known = devices;
  for (const auto& system : entries_of("/sys/fs/btrfs")) {
    std::set<dev_t> together;
    for (const auto& device : entries_of(system / "devices")) {
      if (const auto number = device_number(first_line(device / "dev"))) together.insert(*number);
    }
    const bool ours = std::ranges::any_of(known, [&](dev_t d) { return together.contains(d); });
    if (ours) devices.merge(together);
  }
}

}  // namespace

std::vector<Mount> mounts() {
  std::vector<Mount> found;
  std::ifstream in("/proc/self/mountinfo");
  for (std::string line; std::getline(in, line);) {
    if (auto mount = parse(line)) found.push_back(std::move(*mount));
  }
  return found;
}

namespace {

constexpr int kMostOverlays = 8;  // one on the other; the kernel stacks two

std::set<dev_t> devices_of(const Mount& mount, int overlays);

std::set<dev_t> devices_below(const std::string& path, int overlays) {
  struct statx status {};
  if (::statx(AT_FDCWD, path.c_str(), 0, STATX_MNT_ID, &status) != 0) return {};
  const dev_t device = makedev(status.stx_dev_major, status.stx_dev_minor);
  if ((status.stx_mask & STATX_MNT_ID) != 0) {
    const std::vector<Mount> all = mounts();
    const auto mount = std::ranges::find(all, uint64_t{status.stx_mnt_id}, &Mount::id);
    if (mount != all.end()) {
      std::set<dev_t> devices = devices_of(*mount, overlays);
      if (!devices.empty()) return devices;
    }
  }
  return {device};
}

std::set<dev_t> devices_of(const Mount& mount, int overlays) {
  // The folder may be hidden by the very overlay, or by another.
  if (!mount.upper.empty() && overlays < kMostOverlays) {
    return devices_below(mount.upper, overlays + 1);
  }
  std::set<dev_t> devices;
  if (major(mount.device) != 0) devices.insert(mount.device);
  if (const auto number = block_device_at(mount.source)) devices.insert(*number);
  if (mount.type == "btrfs") add_companions(devices);
  return devices;
}

}  // namespace

std::set<dev_t> devices_of(const Mount& mount) { return devices_of(mount, 0); }

std::set<dev_t> devices_below(const std::string& path) { return devices_below(path, 0); }

}  // namespace undershelf
