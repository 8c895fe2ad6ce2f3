#include "checking/store.h"

#include <fmt/format.h>

#include <algorithm>
#include <string>

#include "model/text.h"

namespace undershelf::checking {
namespace {

// Words that say less than the name of a file does.
bool says_little(std::string_view format) {
  for (const std::string_view word : {"text", "json", "xml", "zip", "gzip", "compound", "tiff"}) {
    if (format == word) return true;
  }
  return false;
}

}  // namespace

ExaminedStore::ExaminedStore(SQLite::Database& db)
    : update_(db,
              "UPDATE streams SET checked=?, format=?, type=?, sound_to=?, why=?, sha256=?, says=? "
              "WHERE id=?") {}

void ExaminedStore::put(StreamId stream, const Examined& found, uint64_t size) {
  const std::string_view format = found.format.data();
  update_.bindNoCopy(1, content::to_text(found.level).data());
  bind_or_null(2, format);
  bind_or_null(3, says_little(format) ? std::string_view() : content::type_of(format));
  update_.bind(4, static_cast<int64_t>(std::min(found.sound_to, size)));
  bind_or_null(5, found.why.data());
  bind_or_null(6, found.hashed ? found.sha256.data() : "");
  bind_or_null(7, told(found.says));
  update_.bind(8, number_of(stream));
  update_.exec();
  update_.reset();
}

// By no library's objects: those of JSON cannot be put away where there is no memory left.
std::string ExaminedStore::told(const content::Description& says) {
  line_.begin();
  bool any = false;
  const auto add = [&](const char* key, std::string_view text) {
    if (!text.empty()) line_.text(key, to_nfc(text));
    any = any || !text.empty();
  };
  add("title", says.title.get());
  add("author", says.author.get());
  add("device", says.device.get());
  add("made", says.made.get());
  if (says.width > 0) {
    line_.count("width", says.width);
    line_.count("height", says.height);
    any = true;
  }
  if (says.milliseconds > 0) {
    line_.raw("seconds",
              fmt::format("{}.{:03}", says.milliseconds / 1000, says.milliseconds % 1000));
    any = true;
  }
  if (!any) return {};
  std::string told = line_.end();
  told.pop_back();  // the end of the line
  return told;
}

void ExaminedStore::bind_or_null(int index, std::string_view text) {
  if (text.empty()) {
    update_.bind(index);
  } else {
    update_.bind(index, std::string(text));
  }
}

}  // namespace undershelf::checking
