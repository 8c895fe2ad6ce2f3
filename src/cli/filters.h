// The filter options, the same in every command.
#pragma once

#include "cli/command.h"
#include "shelf/selection.h"

namespace undershelf::cli {

// Adds the filters to a command's options.
void add_filters(po::options_description& options);
// What they say. Throws Error (usage). Ids are resolved to the entries they were merged into.
Selection read_filters(const CommandLine& line, const Shelf& shelf);

// The value of --format, which must be one of `known`; the first of them if not given.
std::string read_format(const CommandLine& line, const std::vector<std::string>& known);
// The zone that --time-zone names; UTC if not given.
Zone read_zone(const CommandLine& line);
// The one size an option gives, in bytes; `otherwise` if it is not given.
uint64_t read_bytes(const CommandLine& line, const std::string& option, uint64_t otherwise);
int64_t read_id(const std::string& text);

}  // namespace undershelf::cli
