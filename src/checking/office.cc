// What documents in ZIP archives say of themselves: in parts of their own (ECMA-376-2, 11;
// OpenDocument 1.2-1, 4.3; EPUB 3, 5.5), all with the elements of Dublin Core.
#include "checking/office.h"

#include <libxml/parser.h>
#include <libxml/xmlreader.h>
#include <zlib.h>

#include <algorithm>
#include <charconv>
#include <memory>
#include <set>
#include <vector>

#include "checking/decoders.h"
#include "content/zip.h"

namespace undershelf::checking {
namespace {

using content::Bytes;
using content::Description;
using content::text_at;

constexpr uint64_t kMost = 1 << 20;  // bytes of such a part, unpacked
constexpr int kParseOptions = XML_PARSE_NONET | XML_PARSE_NOERROR | XML_PARSE_NOWARNING;

// As much of it as unpacks.
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
  inflate(&z, Z_FINISH);
  out.resize(z.total_out);
  inflateEnd(&z);
  return out;
}

// Calls back with the members whose names will do, in the order of the directory, until that
// returns false.
void each_part(Bytes& bytes, const std::function<bool(const std::string&)>& will_do,
               const std::function<bool(const std::string&)>& then) {
  content::each_zip_member(bytes, [&](const content::ZipMember& member) {
    if (member.encrypted) return true;
    return !will_do(text_at(bytes, member.header + 30, bytes.le16(member.header + 26))) ||
           then(unpacked(bytes, member));
  });
}

// Empty if there is none.
std::string first_part(Bytes& bytes, const std::function<bool(const std::string&)>& will_do) {
  std::string first;
  each_part(bytes, will_do, [&](const std::string& part) {
    first = part;
    return false;
  });
  return first;
}

std::string first_part(Bytes& bytes, std::string_view name) {
  return first_part(bytes, [&](const std::string& one) { return one == name; });
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

// Goes through a part node by node, as far as it is XML, until `visit` returns false.
template <typename Visit>
void each_node(const std::string& part, const Visit& visit) {
  const std::unique_ptr<xmlTextReader, void (*)(xmlTextReaderPtr)> reader(
      xmlReaderForMemory(part.data(), static_cast<int>(part.size()), nullptr, nullptr,
                         kParseOptions),
      xmlFreeTextReader);
  while (reader != nullptr && xmlTextReaderRead(reader.get()) == 1) {
    if (!visit(reader.get())) return;
  }
}

std::string_view name_of(xmlTextReaderPtr reader) {
  const xmlChar* name = xmlTextReaderConstLocalName(reader);
  return name == nullptr ? std::string_view() : reinterpret_cast<const char*>(name);
}

std::string_view value_of(xmlTextReaderPtr reader) {
  const xmlChar* value = xmlTextReaderConstValue(reader);
  return value == nullptr ? std::string_view() : reinterpret_cast<const char*>(value);
}

std::string attribute_of(xmlTextReaderPtr reader, const char* name) {
  const std::unique_ptr<xmlChar, void (*)(void*)> value(
      xmlTextReaderGetAttribute(reader, reinterpret_cast<const xmlChar*>(name)), xmlFree);
  return value == nullptr ? std::string() : reinterpret_cast<const char*>(value.get());
}

constexpr size_t kMostWords = 2000;  // bytes

// Text of paragraphs and cells, a line each or side by side, until there is enough of it.
class Words {
 public:
  bool enough() const { return text_.size() >= kMostWords; }
  void add(std::string_view text) {
    for (const char c : text.substr(0, kMostWords)) {
      const bool space = c == ' ' || c == '\n' || c == '\r' || c == '\t';
      if (!space) {
        text_ += c;
      } else if (!text_.empty() && text_.back() != ' ' && text_.back() != '\n') {
        text_ += ' ';
      }
    }
  }
  void begin_cell() { cell_ = text_.size(); }
  // `times`: that it stands there one after the other.
  void end_cell(size_t times = 1) {
    if (text_.empty() || text_.back() == '\n') return;
    const std::string cell = text_.substr(std::min(cell_, text_.size())) + "  ";
    text_ += "  ";
    for (; times > 1 && cell.size() > 2 && !enough(); --times) text_ += cell;
  }
  void end_line() {
    while (text_.ends_with(' ')) text_.pop_back();
    if (!text_.empty() && text_.back() != '\n') text_ += '\n';
  }
  std::string take() { return std::move(text_); }

 private:
  std::string text_;
  size_t cell_ = 0;  // where the cell begins
};

// Of the parts that hold text as such: WordprocessingML and DrawingML (ECMA-376-1, 17.3 and 21.1),
// OpenDocument (1.2-1, 5 and 9), XHTML.
std::string words_of_text(const std::string& part) {
  static const std::set<std::string_view> kLines = {"p",  "h",  "h1", "h2",    "h3",       "h4",
                                                    "li", "br", "tr", "title", "table-row"};
  static const std::set<std::string_view> kCells = {"tab", "td", "th", "tc", "table-cell"};
  static const std::set<std::string_view> kNotText = {
      "head", "style", "script", "automatic-styles", "font-face-decls", "instrText"};
  Words words;
  int cells = 0;   // that we are in: a paragraph in one is no line
  int hidden = 0;  // likewise, of what is not text
  size_t times = 1;
  each_node(part, [&](xmlTextReaderPtr reader) {
    const int type = xmlTextReaderNodeType(reader);
    const bool begins = type == XML_READER_TYPE_ELEMENT;
    const bool ends =
        type == XML_READER_TYPE_END_ELEMENT || (begins && xmlTextReaderIsEmptyElement(reader) == 1);
    if (begins || ends) {
      const std::string_view name = name_of(reader);
      const int step = (begins ? 1 : 0) - (ends ? 1 : 0);
      if (kNotText.contains(name)) hidden += step;
      if (kCells.contains(name)) {
        cells += step;
        if (begins) {
          const std::string repeated = attribute_of(reader, "table:number-columns-repeated");
          times = 1;
          std::from_chars(repeated.data(), repeated.data() + repeated.size(), times);
          words.begin_cell();
        }
        if (ends) words.end_cell(times);
      } else if (ends && kLines.contains(name) && cells == 0) {
        words.end_line();
      }
    } else if ((type == XML_READER_TYPE_TEXT || type == XML_READER_TYPE_SIGNIFICANT_WHITESPACE) &&
               hidden == 0) {
      words.add(value_of(reader));
    }
    return !words.enough();
  });
  return words.take();
}

// SpreadsheetML (ECMA-376-1, 18.3.1.4 and 18.4.8): texts of cells are in a part of their own.
std::string words_of_sheet(const std::string& sheet, const std::string& strings) {
  constexpr size_t kMostStrings = 2000;
  std::vector<std::string> texts;
  bool in_text = false;
  each_node(strings, [&](xmlTextReaderPtr reader) {
    const int type = xmlTextReaderNodeType(reader);
    if (type == XML_READER_TYPE_ELEMENT && name_of(reader) == "si") texts.emplace_back();
    if (name_of(reader) == "t") in_text = type == XML_READER_TYPE_ELEMENT;
    if (type == XML_READER_TYPE_TEXT && in_text && !texts.empty()) texts.back() += value_of(reader);
    return texts.size() < kMostStrings;
  });
  Words words;
  bool shared = false;
  bool in_value = false;
  each_node(sheet, [&](xmlTextReaderPtr reader) {
    const int type = xmlTextReaderNodeType(reader);
    const std::string_view name = name_of(reader);
    if (name == "c" && type == XML_READER_TYPE_ELEMENT) shared = attribute_of(reader, "t") == "s";
    if (name == "v" || name == "t") in_value = type == XML_READER_TYPE_ELEMENT;
    if (name == "c" && type == XML_READER_TYPE_END_ELEMENT) words.end_cell();
    if (name == "row" && type == XML_READER_TYPE_END_ELEMENT) words.end_line();
    if (type == XML_READER_TYPE_TEXT && in_value) {
      const std::string_view value = value_of(reader);
      size_t index = SIZE_MAX;
      if (shared) std::from_chars(value.data(), value.data() + value.size(), index);
      if (!shared) words.add(value);
      if (index < texts.size()) words.add(texts[index]);
    }
    return !words.enough();
  });
  return words.take();
}

}  // namespace

Front front_of_document(Bytes& bytes, std::string_view format) {
  const bool open_document = format == "odt" || format == "ods" || format == "odp";
  if (open_document) {
    return {first_part(bytes, "Thumbnails/thumbnail.png"),
            words_of_text(first_part(bytes, "content.xml"))};
  }
  if (format == "docx" || format == "xlsx" || format == "pptx") {
    Front front{first_part(bytes, "docProps/thumbnail.jpeg"), {}};
    if (format == "docx") front.words = words_of_text(first_part(bytes, "word/document.xml"));
    if (format == "pptx") front.words = words_of_text(first_part(bytes, "ppt/slides/slide1.xml"));
    if (format == "xlsx") {
      front.words = words_of_sheet(first_part(bytes, "xl/worksheets/sheet1.xml"),
                                   first_part(bytes, "xl/sharedStrings.xml"));
    }
    return front;
  }
  Front front;
  if (format != "epub") return front;
  const auto is_text = [](const std::string& name) {
    return name.ends_with("html") && name.find("toc") == std::string::npos &&
           name.find("nav") == std::string::npos;
  };
  each_part(bytes, is_text, [&](const std::string& part) {
    front.words += words_of_text(part);
    return front.words.size() < kMostWords;
  });
  return front;
}

void describe_packed(Bytes& bytes, std::string_view format, Description& found) {
  const bool opened = format == "docx" || format == "xlsx" || format == "pptx";
  const bool open_document = format == "odt" || format == "ods" || format == "odp";
  if (!opened && !open_document && format != "epub") return;
  const std::string part = first_part(bytes, [&](const std::string& name) {
    return opened          ? name == "docProps/core.xml"
           : open_document ? name == "meta.xml"
                           : name.ends_with(".opf");
  });
  if (part.empty()) return;
  const std::unique_ptr<xmlDoc, void (*)(xmlDoc*)> document(
      xmlReadMemory(part.data(), static_cast<int>(part.size()), nullptr, nullptr, kParseOptions),
      xmlFreeDoc);
  if (document != nullptr) describe_elements(xmlDocGetRootElement(document.get()), 0, found);
}

}  // namespace undershelf::checking
