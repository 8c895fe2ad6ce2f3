// What documents in ZIP archives show of their beginning. In the box only. For the room's own use.
#pragma once

#include <string>
#include <string_view>

#include "content/bytes.h"

namespace undershelf::checking {

struct Front {
  // Of its first page, as the document carries it: the file's content. Some programs leave that of
  // the template which the document was begun with.
  std::string picture;
  std::string words;  // its first, a line for each paragraph or row; at most some 2,000 bytes
};

// Of the formats docx, xlsx, pptx, odt, ods, odp and epub; either is empty where there is none.
Front front_of_document(content::Bytes& bytes, std::string_view format);

}  // namespace undershelf::checking
