// Block devices by their numbers, as sysfs(5) shows them.
#pragma once

#include <sys/types.h>

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace undershelf {

// The first line of a small file, without white space at its end; empty if there is none.
std::string first_line(const std::filesystem::path& path);

// What a folder holds; nothing if it cannot be read.
std::vector<std::filesystem::path> entries_of(const std::filesystem::path& folder);

// "8:1", as sysfs and proc write the number of a device.
std::optional<dev_t> device_number(const std::string& text);

// The number of the block device with this device file; nothing if it is none.
std::optional<dev_t> block_device_at(const std::string& path);

// The folder of a block device; empty if there is none.
std::filesystem::path sysfs_of(dev_t device);

}  // namespace undershelf
