// What documents in ZIP archives say of themselves: in parts of their own (ECMA-376-2, 11;
// OpenDocument 1.2-1, 4.3; EPUB 3, 5.5), all with the elements of Dublin Core.
#include <libxml/parser.h>
#include <zlib.h>

#include <algorithm>
#include <memory>
#include <string>
#include <vector>

#include "checking/decoders.h"
#include "content/zip.h"

namespace undershelf::checking {
namespace {

using content::Bytes;
using content::Description;
using content::text_at;

constexpr uint64_t kMost = 1 << 20;  // bytes of such a part, unpacked

std::string unpacked(Bytes& bytes, const content::ZipMember& member) {
  std::string stored = text_at(bytes, member.data, std::min(member.stored, kMost));
  if (member.method == 0) return stored;
  std::string out(std::min(member.size, kMost), '\0');
  z_stream z{};
  if (inflateInit2(&z, -MAX_WBITS) != Z_OK) return {};
  z.next_in = reinterpret_cast<Bytef*>(stored.data());
  z.avail_in = static_cast<uInt>(stored.size());
  z.next_out = reinterpret_cast<Bytef*>(out.data());
  z.avail_out = static_cast<uInt>(out.size());
  const int code = inflate(&z, Z_FINISH);
  inflateEnd(&z);
  return code == Z_STREAM_END ? out : std::string();
}

std::string text_of(xmlNode* node) {
  const std::unique_ptr<xmlChar, void (*)(void*)> text(xmlNodeGetContent(node), xmlFree);
  return text == nullptr ? std::string() : reinterpret_cast<const char*>(text.get());
}

void describe_elements(xmlNode* node, int depth, Description& found) {
  constexpr int kDeepest = 6;
  for (; node != nullptr && depth < kDeepest; node = node->next) {
    if (node->type != XML_ELEMENT_NODE) continue;
    const std::string_view name = reinterpret_cast<const char*>(node->name);
    if (name == "title") found.title.put(text_of(node));
    if (name == "creator" || name == "initial-creator") found.author.put(text_of(node));
    if (name == "created" || name == "creation-date") {
      found.made.put(content::date_in(text_of(node)));
    }
    describe_elements(node->children, depth + 1, found);
  }
}

}  // namespace

void describe_packed(Bytes& bytes, std::string_view format, Description& found) {
  const bool opened = format == "docx" || format == "xlsx" || format == "pptx";
  const bool open_document = format == "odt" || format == "ods" || format == "odp";
  if (!opened && !open_document && format != "epub") return;
  std::string part;
  content::each_zip_member(bytes, [&](const content::ZipMember& member) {
    const std::string name = text_at(bytes, member.header + 30, bytes.le16(member.header + 26));
    const bool wanted = opened          ? name == "docProps/core.xml"
                        : open_document ? name == "meta.xml"
                                        : name.ends_with(".opf");
    if (wanted && !member.encrypted) part = unpacked(bytes, member);
    return !wanted;
  });
  if (part.empty()) return;
  const std::unique_ptr<xmlDoc, void (*)(xmlDoc*)> document(
      xmlReadMemory(part.data(), static_cast<int>(part.size()), nullptr, nullptr,
                    XML_PARSE_NONET | XML_PARSE_NOERROR | XML_PARSE_NOWARNING),
      xmlFreeDoc);
  if (document != nullptr) describe_elements(xmlDocGetRootElement(document.get()), 0, found);
}

}  // namespace undershelf::checking
