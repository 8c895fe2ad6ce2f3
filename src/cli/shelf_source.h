// The source that a shelf describes, for the commands that read it.
#pragma once

#include <string>
#include <vector>

#include "cli/command.h"
#include "shelf/shelf.h"
#include "source/source.h"

namespace undershelf::cli {

// --source, and --through where the command takes it.
void add_source(po::options_description& options);
void add_through(po::options_description& options);
// Throws Error (refused) if the image that --through names lies on the source.
void refuse_through_on_source(const CommandLine& line, const std::string& source_path);

// Where the source is now.
std::string path_of_source(const CommandLine& line, const Shelf& shelf);
// Opens it; from here on the command can write to `targets` and beside the shelf only
// (confine_to()). Throws Error as open_scanned_source() does.
SourcePtr open_source_of(const CommandLine& line, const Shelf& shelf,
                         const std::vector<std::string>& targets);

}  // namespace undershelf::cli
