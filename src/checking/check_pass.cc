#include "checking/check_pass.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <chrono>
#include <memory>
#include <thread>
#include <vector>

#include "access/content.h"
#include "checking/box.h"
#include "checking/store.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf::checking {
namespace {

using Clock = std::chrono::steady_clock;

struct Wanted {
  SpaceId space{};
  uint64_t first = 0;  // byte of the space at which it starts
  StreamId stream{};
  uint64_t size = 0;        // bytes
  bool is_doubted = false;  // some of its bytes are lost for certain
};

// Zeros that are nowhere need not be read; nor what is packed beyond all reason.
constexpr uint64_t kMostUnpacked = 16, kAlways = 1 << 20;
// All files together may claim the same bytes over and over: so many times the source are read.
constexpr uint64_t kMostReadings = 4;

std::vector<Wanted> wanted_streams(SQLite::Database& db, const CheckOptions& options) {
  std::vector<Wanted> wanted;
  SQLite::Statement row(db, R"sql(
    SELECT coalesce(v.space,0), s.pieces, s.id, s.size, s.intact_bytes<s.size, e.type
    FROM streams s JOIN entries e ON e.id=s.entry LEFT JOIN volumes v ON v.id=e.volume
    WHERE (e.kind='file' OR s.name IS NOT NULL) AND e.merged_into IS NULL AND e.system=0
      AND (e.state<>'live' OR ?) AND s.checked IS NULL AND s.rating<>'gone' AND s.size>0
      AND s.placement<>'none' AND s.encoding<>'encrypted'
      AND (s.encoding='plain' OR s.codec IS NOT NULL))sql");
  row.bind(1, options.living ? 1 : 0);
  const std::vector<std::string>& kinds = options.kinds;
  while (row.executeStep()) {
    const std::string_view type = row.getColumn(5).getText();
    if (!kinds.empty() && std::ranges::find(kinds, type) == kinds.end()) continue;
    Wanted one{id_of<SpaceId>(row.getColumn(0)), 0, id_of<StreamId>(row.getColumn(2)),
               size_of(row.getColumn(3)), row.getColumn(4).getInt() != 0};
    uint64_t stored = 0;
    for (const Piece& piece : pieces_of(row.getColumn(1))) {
      if (piece.kind == Piece::Kind::range && one.first == 0) one.first = piece.offset;
      const bool there =
          piece.kind == Piece::Kind::range || piece.kind == Piece::Kind::inline_bytes;
      stored += there ? piece.length : 0;
    }
    if (one.size / kMostUnpacked <= stored + kAlways) wanted.push_back(one);
  }
  return wanted;
}

// Leaves out what is more than may be read: doubted files first, large ones before small ones.
// Returns how many. The rest is put in the order in which it lies.
uint64_t limit(std::vector<Wanted>& wanted, uint64_t most) {
  std::ranges::sort(wanted, {},
                    [](const Wanted& w) { return std::tuple(w.is_doubted, w.size, w.stream); });
  uint64_t total = 0;
  size_t kept = 0;
  while (kept < wanted.size() && wanted[kept].size <= most - total) total += wanted[kept++].size;
  const uint64_t left_out = wanted.size() - kept;
  wanted.resize(kept);
  std::ranges::sort(wanted, {},
                    [](const Wanted& w) { return std::tuple(w.space, w.first, w.stream); });
  return left_out;
}

// Bytes before the first, from `offset` on, that is not there.
size_t before_hole(const Losses& losses, uint64_t offset, size_t length) {
  for (const Loss& loss : losses) {
    if (loss.end() <= offset || !is_zero_filled(loss.cause)) continue;
    if (loss.offset >= offset + length) break;
    return loss.offset <= offset ? 0 : static_cast<size_t>(loss.offset - offset);
  }
  return length;
}

size_t read_to_hole(const StreamReader& stream, uint64_t offset, std::span<std::byte> out) {
  const Losses met = stream.read(offset, out);
  return std::min(before_hole(met, offset, out.size()),
                  before_hole(stream.known_losses(), offset, out.size()));
}

class Checker {
 public:
  Checker(Shelf& shelf, Spaces& spaces, const CheckOptions& options, const Budget& budget)
      : db_(shelf.db()),
        opener_(shelf, spaces),
        options_(options),
        budget_(budget),
        store_(db_),
        wanted_(wanted_streams(db_, options)) {
    const uint64_t source =
        std::min(spaces.at(SpaceId::source)->size(), UINT64_MAX / kMostReadings);
    left_out_ = limit(wanted_, source * kMostReadings);
    progress_.all_files = wanted_.size();
    for (const Wanted& one : wanted_) progress_.all_bytes += one.size;
  }

  // Returns how many were left out.
  uint64_t run() {
    if (wanted_.empty()) return left_out_;
    const size_t cores = std::max(1U, std::thread::hardware_concurrency());
    Box box(options_.workers > 0 ? options_.workers : cores, examine);
    try {
      box.run([this] { return next(); },
              [this](uint64_t number, const Examined& found) { take(number, found); },
              [this] { return budget_.is_stopped(); });
    } catch (...) {
      commit();  // what was found counts
      throw;
    }
    commit();
    if (budget_.is_stopped()) throw Stopped{};
    return left_out_;
  }

 private:
  std::optional<Task> next() {
    if (given_ == wanted_.size()) return std::nullopt;
    const Wanted& one = wanted_[given_];
    const auto stream = std::make_shared<StreamReader>(opener_.open(one.stream));
    return Task{given_++, stream->size(), [stream](uint64_t offset, std::span<std::byte> out) {
                  return read_to_hole(*stream, offset, out);
                }};
  }

  void take(uint64_t number, const Examined& found) {
    constexpr auto kBetweenCommits = std::chrono::seconds(5);
    if (!transaction_) {
      transaction_ = std::make_unique<SQLite::Transaction>(db_);
      begun_ = Clock::now();
    }
    store_.put(wanted_[number].stream, found, wanted_[number].size);
    ++progress_.files;
    progress_.bytes += wanted_[number].size;
    options_.progress(progress_);
    if (Clock::now() - begun_ > kBetweenCommits) commit();
  }

  void commit() {
    if (transaction_) transaction_->commit();
    transaction_.reset();
  }

  SQLite::Database& db_;
  ContentOpener opener_;
  const CheckOptions& options_;
  const Budget& budget_;
  ExaminedStore store_;
  std::vector<Wanted> wanted_;
  uint64_t left_out_ = 0;
  size_t given_ = 0;
  CheckProgress progress_;
  std::unique_ptr<SQLite::Transaction> transaction_;
  Clock::time_point begun_;
};

}  // namespace

uint64_t check_files(Shelf& shelf, Spaces& spaces, const CheckOptions& options,
                     const Budget& budget) {
  return Checker(shelf, spaces, options, budget).run();
}

}  // namespace undershelf::checking
