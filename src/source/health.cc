#include "source/health.h"

#include <atasmart.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <linux/nvme_ioctl.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <boost/endian/conversion.hpp>
#include <charconv>
#include <memory>

#include "model/words.h"
#include "source/medium.h"
#include "source/sysfs.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

constexpr size_t kSamples = 32;
constexpr uint64_t kSampleSize = 65536;  // bytes
constexpr double kSlow = 0.5;            // seconds for one sample: a sound disk takes a tenth of it

void add(Health& health, Condition condition, std::string fact) {
  health.condition = std::max(health.condition, condition);
  health.facts.push_back(std::move(fact));
}

struct CloseDisk {
  void operator()(SkDisk* disk) const { sk_disk_free(disk); }
};

using Disk = std::unique_ptr<SkDisk, CloseDisk>;

// Of a disk whose data was read.
void judge_smart(SkDisk* disk, Health& health) {
  SkBool good = 1;
  if (sk_disk_smart_status(disk, &good) == 0) {
    if (good == 0) {
      add(health, Condition::failing, "Its own SMART check says that it is failing.");
    } else {
      add(health, Condition::sound, "Its own SMART check passes.");
    }
  }
  uint64_t bad = 0;
  if (sk_disk_smart_get_bad(disk, &bad) == 0 && bad > 0) {
    add(health, Condition::worn,
        fmt::format("It has given up or waits to give up {} (SMART).", counted(bad, "sector")));
  }
  SkSmartOverall overall{};
  if (sk_disk_smart_get_overall(disk, &overall) == 0 &&
      (overall == SK_SMART_OVERALL_BAD_SECTOR_MANY ||
       overall == SK_SMART_OVERALL_BAD_ATTRIBUTE_NOW || overall == SK_SMART_OVERALL_BAD_STATUS)) {
    add(health, Condition::failing, "Its SMART values are below what its maker lets pass.");
  }
  uint64_t milliseconds = 0;
  if (sk_disk_smart_get_power_on(disk, &milliseconds) == 0) {
    add(health, Condition::untold,
        fmt::format("It was on for {} (SMART).", counted(milliseconds / 3'600'000, "hour")));
  }
}

void ask_ata(const std::string& device, Health& health) {
  SkDisk* opened = nullptr;
  if (sk_disk_open(device.c_str(), &opened) < 0) return;
  const Disk disk(opened);
  SkBool available = 0;
  if (sk_disk_smart_is_available(disk.get(), &available) < 0 || available == 0) return;
  if (sk_disk_smart_read_data(disk.get()) == 0) judge_smart(disk.get(), health);
}

// NVM Express Base Specification, "Get Log Page", "SMART / Health Information Log Page".
void ask_nvme(const std::string& device, Health& health) {
  const int file = ::open(device.c_str(), O_RDONLY | O_CLOEXEC);
  if (file < 0) return;
  std::array<unsigned char, 512> log{};
  nvme_admin_cmd command{};
  command.opcode = 0x02;  // Get Log Page
  command.nsid = 0xFFFFFFFF;
  command.addr = reinterpret_cast<uint64_t>(log.data());
  command.data_len = log.size();
  command.cdw10 = 0x02 | ((log.size() / 4 - 1) << 16);
  const bool told = ::ioctl(file, NVME_IOCTL_ADMIN_CMD, &command) == 0;
  ::close(file);
  if (!told) return;
  const unsigned warning = log[0], spare = log[3], least_spare = log[4], used = log[5];
  const uint64_t media_errors = boost::endian::load_little_u64(log.data() + 160);
  if (warning != 0) {
    add(health, Condition::failing,
        fmt::format("It warns of itself (critical warning {:#04x} in its health log).", warning));
  } else {
    add(health, Condition::sound, "Its health log has no warning.");
  }
  if (spare < least_spare) {
    add(health, Condition::failing,
        fmt::format("It has {} % of its spare blocks left, and should have {} %.", spare,
                    least_spare));
  }
  if (media_errors > 0) {
    add(health, Condition::worn,
        fmt::format("It could not bring back what was written {} times (media errors).",
                    media_errors));
  }
  if (used >= 90) {
    add(health, Condition::worn,
        fmt::format("It has used {} % of the life it was made for.", used));
  }
}

// What the kernel counts in hexadecimal.
uint64_t counter(const fs::path& path) {
  std::string text = first_line(path);
  if (text.starts_with("0x")) text.erase(0, 2);
  uint64_t value = 0;
  std::from_chars(text.data(), text.data() + text.size(), value, 16);
  return value;
}

void ask_kernel(const fs::path& disk, Health& health) {
  if (const uint64_t errors = counter(disk / "device/ioerr_cnt"); errors > 0) {
    // Many disks fail at a question or two that they do not understand: no sign by itself.
    add(health, Condition::untold,
        fmt::format("The kernel has counted {} that failed since it was plugged in.",
                    counted(errors, "request")));
  }
  // eMMC, JEDEC JESD84: PRE_EOL_INFO is 1 as long as enough spare blocks are left.
  if (counter(disk / "device/pre_eol_info") > 1) {
    add(health, Condition::worn, "Its spare blocks are used up, or nearly (eMMC).");
  }
}

}  // namespace

void sample_health(const std::string& path, Health& health) {
  const std::unique_ptr<Medium> medium = open_medium(path);
  const AlignedBytes bytes = aligned_bytes(kSampleSize);
  std::vector<double> took;
  size_t failed = 0;
  for (size_t i = 0; i < kSamples; ++i) {
    const uint64_t unit = medium->unit();
    const uint64_t length = std::min(kSampleSize, medium->size() / unit * unit);
    const uint64_t at = (medium->size() - length) / (kSamples - 1) * i / unit * unit;
    const auto begun = std::chrono::steady_clock::now();
    const Attempt attempt = medium->read(at, {bytes.get(), length}, Medium::Seconds(10));
    took.push_back(Medium::Seconds(std::chrono::steady_clock::now() - begun).count());
    failed += attempt.ok() ? 0 : 1;
    if (attempt.gone || failed >= 3) break;  // each costs it some of its life
  }
  std::ranges::sort(took);
  const double usual = took[took.size() / 2];
  const auto slow =
      static_cast<size_t>(std::ranges::count_if(took, [](double s) { return s > kSlow; }));
  if (failed > 0) {
    add(health, Condition::failing,
        fmt::format("Of {} places that were read, {} failed.", took.size(), failed));
  } else {
    add(health, slow > 0 ? Condition::worn : Condition::untold,
        fmt::format("{} places spread over it were read: {:.1f} ms the usual one, {:.1f} ms the "
                    "slowest.",
                    took.size(), usual * 1000, took.back() * 1000));
  }
}

std::optional<Health> health_of(const std::string& path) {
  const auto number = block_device_at(path);
  if (!number) return std::nullopt;
  Health health;
  const fs::path sysfs = sysfs_of(*number);
  if (!sysfs.empty()) {
    const fs::path disk = fs::exists(sysfs / "partition") ? sysfs.parent_path() : sysfs;
    const std::string device = "/dev/" + disk.filename().string();
    if (disk.filename().string().starts_with("nvme")) {
      ask_nvme(device, health);
    } else {
      ask_ata(device, health);
    }
    ask_kernel(disk, health);
  }
  return health;
}

Health health_of_smart(std::span<const std::byte> kept) {
  Health health;
  SkDisk* opened = nullptr;
  if (sk_disk_open(nullptr, &opened) < 0) return health;
  const Disk disk(opened);
  if (sk_disk_set_blob(disk.get(), kept.data(), kept.size()) == 0) judge_smart(disk.get(), health);
  return health;
}

std::string_view to_text(Condition condition) {
  constexpr std::array<std::string_view, 4> kWords = {"untold", "sound", "worn", "failing"};
  return kWords[static_cast<size_t>(condition)];
}

}  // namespace undershelf
