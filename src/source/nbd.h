// Network block devices: disks of other machines, and what servers make of container files.
#pragma once

#include <memory>
#include <string>

#include "source/medium.h"

namespace undershelf {

// Whether a source is named by a URI of a network block device (nbd://, nbds://, nbd+unix://,
// nbds+unix://: "The NBD Uniform Resource Indicator specification"), rather than by a path.
bool is_nbd(const std::string& source);

// Connects. Throws Error (unavailable) if there is no such server or export, or it has no bytes, or
// the module (model/module.h) is not there.
std::unique_ptr<Medium> open_nbd(const std::string& uri);

// The module, and the function in it that connects, and gives what is the caller's to delete.
constexpr const char* kNetworkModule = "undershelf-network.so";
constexpr const char* kOpenNbd = "undershelf_open_nbd";
using OpenNbd = Medium*(const std::string& uri);

}  // namespace undershelf
