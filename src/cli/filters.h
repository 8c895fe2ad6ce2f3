// The filter options, the same in every command.
#pragma once

#include "cli/command.h"
#include "model/ids.h"
#include "model/range.h"
#include "shelf/selection.h"

namespace undershelf::cli {

// Whether a command's rows can be put into another order.
enum class Sorted { no, yes };
// Adds the filters to a command's options.
void add_filters(po::options_description& options, Sorted sorted = Sorted::yes);
// The filters as they were given, to be used in the next call: " --state deleted". Those of
// `without` are left out; `*`: all.
std::string filters_again(const CommandLine& line, const std::vector<std::string>& without = {});
// What they say by themselves: ids as they were given, dates in that zone. Throws Error (usage).
Selection parse_filters(const CommandLine& line, const Zone& zone);
// What they say of a shelf. Throws Error (usage). Ids are resolved to the entries they were merged
// into.
Selection read_filters(const CommandLine& line, const Shelf& shelf);

// The value of --format, which must be one of `known`; the first of them if not given.
std::string read_format(const CommandLine& line, const std::vector<std::string>& known);
// Throws Error (usage) if there is no zone of that name.
Zone zone_named(const std::string& name);
// The zone in which times are shown and read: that of --time-zone, or else the shelf's.
struct ShownZone {
  std::string name;
  Zone zone;
};
ShownZone read_zone(const CommandLine& line, const Shelf& shelf);
// Says how many rows --limit keeps from being shown, if any.
void tell_left_out(const Shelf& shelf, Selection selection);
// A whole number that an option takes.
uint64_t read_number(const std::string& option, const std::string& text);
// The one size an option gives, in bytes; `otherwise` if it is not given.
uint64_t read_bytes(const CommandLine& line, const std::string& option, uint64_t otherwise);
// The part of a source of `size` bytes from --from on and before --`until`. Throws Error (usage) if
// it is none.
ByteRange read_part(const CommandLine& line, const std::string& until, uint64_t size);
int64_t read_id(const std::string& text);
// The entry that the operand ID means: by its number, which is resolved, or by its path. Throws
// Error (usage) if there is none, or several have the path: it says which.
EntryId read_entry(const CommandLine& line, const Shelf& shelf);

}  // namespace undershelf::cli
