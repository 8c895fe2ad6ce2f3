// The folder of a bag, and what its tag files say of all of it (RFC 8493, 2.1.1 and 2.2.2).
#pragma once

#include <cstdint>
#include <ctime>
#include <functional>
#include <string>
#include <string_view>

#include "exporting/bag.h"
#include "exporting/earlier_bag.h"

namespace undershelf {

// What bagit.txt says (2.1.1).
constexpr std::string_view kBagDeclaration =
    "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n";

// Throws Error (refused) unless a bag can be made in the folder, or gone on with. Whether the
// latter.
bool require_usable_folder(const ExportOptions& options);

// Makes the folder, or takes one that an export of the same selection of the same shelf left, which
// is loaded to `earlier` (`is_still_right` is asked as EarlierBag does, `progress` told of bytes
// read for that), and writes bagit.txt and bag-info.txt. Throws Error (refused) if something else
// is there, and TargetFailed.
void prepare_bag(const Shelf& shelf, const ExportOptions& options, std::time_t started,
                 EarlierBag& earlier, const IsStillRight& is_still_right,
                 const std::function<void(uint64_t)>& progress);

// What bag-info.txt says, besides what is counted. A label and its value are one line.
std::string bag_info(const Shelf& shelf, const ExportOptions& options, std::time_t started);
// Whether a bag-info.txt is of an export of this shelf; and whether of this shelf as it is now.
bool is_of(const std::string& info, const Shelf& shelf);
bool is_of_state(const std::string& info, const Shelf& shelf);
// With how much is in the bag.
std::string with_payload_sum(const std::string& info, const FileSum& payload);

}  // namespace undershelf
