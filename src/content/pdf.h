// What PDF is told in two files. For the content folder's own use.
#pragma once

#include <string_view>

#include "content/bytes.h"
#include "content/describe.h"

namespace undershelf::content {

// As Family::describe.
void describe_pdf(Bytes& bytes, std::string_view format, Description& found);

}  // namespace undershelf::content
