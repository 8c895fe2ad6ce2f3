#include "source/ledger.h"

#include <fmt/format.h>

#include <array>
#include <cstring>
#include <nlohmann/json.hpp>
#include <sstream>

#include "model/error.h"
#include "source/files.h"
#include "source/json_number.h"

namespace undershelf {
namespace {

using boost::icl::interval;
using nlohmann::json;

constexpr std::array<std::string_view, 4> kStates = {"untried", "skipped", "failed", "read"};

[[noreturn]] void not_a_ledger(const std::string& path, const std::string& why) {
  throw Error(Failure::unavailable,
              fmt::format("{} is no ledger of an image: {}. Give the image's own one back, or copy "
                          "the medium to another file.",
                          path, why));
}

LedgerHeader header_of(const json& line, const std::string& path) {
  if (!line.is_object() || whole_number(line, "ledger", 0) != 1) {
    not_a_ledger(path, "its first line does not say so");
  }
  LedgerHeader header;
  header.source = line.value("source", "");
  header.serial = line.value("serial", "");
  header.size = whole_number(line, "size", uint64_t{0});
  header.sector_size = whole_number(line, "sector_size", 512U);
  header.begun = line.value("begun", "");
  const bool sound = header.size > 0 && header.size <= INT64_MAX &&
                     (header.sector_size == 512 || header.sector_size == 4096);
  if (!sound) not_a_ledger(path, "the sizes in its first line cannot be");
  return header;
}

bool is_sha256(const std::string& text) {
  return text.size() == 64 && text.find_first_not_of("0123456789abcdef") == std::string::npos;
}

std::optional<Finding> finding_of(const json& line) {
  const std::string word = line.value("state", "");
  const auto* known = std::ranges::find(kStates, word);
  if (known == kStates.end()) return std::nullopt;
  Finding finding;
  finding.state = static_cast<Finding::State>(known - kStates.begin());
  finding.slow = line.value("slow", false);
  finding.attempts = whole_number(line, "attempts", 0U);
  finding.error = whole_number(line, "error", 0);
  return finding;
}

}  // namespace

std::string ledger_of(const std::string& image) { return image + ".ledger"; }

void Ledger::note(const ByteRange& range, const Finding& finding) {
  if (range.length == 0) return;
  const auto where = interval<uint64_t>::right_open(range.offset, range.end());
  known_.erase(where);
  if (finding != Finding{}) known_.set({where, finding});
}

void Ledger::note_hash(const ByteRange& range, const std::string& sha256) {
  hashes_[range.offset] = {range.length, sha256};
}

std::vector<Noted> Ledger::in(const ByteRange& within) const {
  std::vector<Noted> found;
  const ByteRange all = overlap(within, {0, header_.size});
  uint64_t at = all.offset;
  const auto add = [&](uint64_t end, const Finding& finding) {
    if (end > at) found.push_back({{at, end - at}, finding});
    at = std::max(at, end);
  };
  auto next = known_.lower_bound(interval<uint64_t>::right_open(all.offset, all.offset + 1));
  for (; next != known_.end() && next->first.lower() < all.end(); ++next) {
    add(std::max(next->first.lower(), all.offset), {});
    add(std::min(next->first.upper(), all.end()), next->second);
  }
  add(all.end(), {});
  return found;
}

std::vector<ByteRange> Ledger::in(const ByteRange& within, Finding::State state) const {
  std::vector<ByteRange> ranges;
  for (const Noted& noted : in(within)) {
    if (noted.finding.state != state) continue;
    if (!ranges.empty() && ranges.back().end() == noted.range.offset) {
      ranges.back().length += noted.range.length;
    } else {
      ranges.push_back(noted.range);
    }
  }
  return ranges;
}

uint64_t Ledger::bytes(Finding::State state) const {
  uint64_t sum = 0;
  for (const ByteRange& range : in({0, header_.size}, state)) sum += range.length;
  return sum;
}

std::string Ledger::line(const ByteRange& range, const Finding& finding,
                         const std::string& sha256) {
  nlohmann::ordered_json line;
  line["offset"] = range.offset;
  line["length"] = range.length;
  line["state"] = kStates[static_cast<size_t>(finding.state)];
  if (finding.slow) line["slow"] = true;
  if (finding.attempts > 0) line["attempts"] = finding.attempts;
  if (finding.error != 0) {
    line["error"] = finding.error;
    line["why"] = std::strerror(finding.error);
  }
  if (!sha256.empty()) line["sha256"] = sha256;
  return line.dump() + "\n";
}

std::string Ledger::text() const {
  nlohmann::ordered_json first;
  first["ledger"] = 1;
  first["program"] = fmt::format("undershelf {}", UNDERSHELF_VERSION);
  first["source"] = header_.source;
  first["serial"] = header_.serial;
  first["size"] = header_.size;
  first["sector_size"] = header_.sector_size;
  first["begun"] = header_.begun;
  std::string text = first.dump(-1, ' ', false, json::error_handler_t::replace) + "\n";
  for (const auto& [offset, hashed] : hashes_) {
    text += line({offset, hashed.first}, {Finding::State::read}, hashed.second);
  }
  // The latest word counts: what a range is beyond having been read comes after its hash.
  for (const auto& [where, finding] : known_) {
    text += line({where.lower(), where.upper() - where.lower()}, finding);
  }
  return text;
}

Ledger Ledger::load(const std::string& path) {
  const Descriptor plain = open_plain(AT_FDCWD, path);
  if (!plain.ok()) {
    throw Error(Failure::unavailable,
                fmt::format("The ledger {} cannot be read: {}. Check the file beside the image, "
                            "and its permissions.",
                            path, errno == EINVAL ? "it is no plain file" : std::strerror(errno)));
  }
  std::istringstream file(content_of(plain));
  return parse(file, path);
}

Ledger Ledger::parse(std::istream& file, const std::string& path) {
  std::optional<Ledger> ledger;
  size_t number = 0;
  for (std::string text; std::getline(file, text);) {
    ++number;
    const bool cut = file.eof();  // without its end of line
    const json line = json::parse(text, nullptr, false);
    try {
      if (!ledger) {
        if (line.is_discarded()) not_a_ledger(path, "its first line is no JSON");
        ledger.emplace(header_of(line, path));
        continue;
      }
      if (line.is_discarded() && cut) break;
      const std::optional<Finding> finding = line.is_object() ? finding_of(line) : std::nullopt;
      const ByteRange range{
          line.is_object() ? whole_number(line, "offset", UINT64_MAX) : UINT64_MAX,
          line.is_object() ? whole_number(line, "length", uint64_t{0}) : 0};
      const uint64_t size = ledger->header().size;
      if (!finding || range.offset > size || range.length > size - range.offset) {
        not_a_ledger(path, fmt::format("line {} is damaged", number));
      }
      ledger->note(range, *finding);
      if (const std::string hash = line.value("sha256", ""); !hash.empty()) {
        if (!is_sha256(hash)) not_a_ledger(path, fmt::format("line {} is damaged", number));
        ledger->note_hash(range, hash);
      }
    } catch (const json::exception&) {
      not_a_ledger(path, fmt::format("line {} is damaged", number));
    }
  }
  if (!ledger) not_a_ledger(path, "it is empty");
  return std::move(*ledger);
}

}  // namespace undershelf
