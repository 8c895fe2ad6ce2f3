#include "shelf/details.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

// What each code in docs/shelf.md, "Evidence", says; {} stands for its amount.
struct Sentence {
  std::string_view fact, sentence;
};

constexpr Sentence kSentences[] = {
    {"chain-short", "Its chain ends {} bytes before the file does."},
    {"chain-lost", "The FAT knows nothing of its chain."},
    {"first-cluster-invalid", "Its first cluster, {}, is none of the volume's."},
    {"folder-read-before", "It starts at cluster {}, where another folder was read before."},
    {"folder-replaced", "Its first cluster holds something else now."},
    {"set-damaged", "Neither checksum nor name hash of its entry set holds."},
    {"set-cut", "The first entry of its set was used again: its times are lost, its name is not."},
    {"name-lost", "Nothing that was found tells the folder's name."},
    {"thread-only", "Only a thread record tells its name and folder."},
    {"record-cut", "Only the first {} bytes of its record are left."},
    {"extents-missing", "No extent tells where {} of its bytes lie."},
    {"link-content-lost", "The content this hard link leads to is lost."},
    {"record-torn", "Its record was torn by an interrupted write."},
    {"record-damaged", "Its record is damaged; parts of it are lost."},
    {"record-lost", "Its record is lost; the index of its folder names it."},
    {"record-used-again",
     "Its record holds another file now; an index, the change journal or the log names it."},
    {"record-in-log", "The log holds an older copy of its record, which tells its place."},
    {"runs-broken", "The run list of a stream of {} bytes breaks off or leads outside."},
    {"name-from-index",
     "Its record has no name any more; an index, the change journal or the log names it."},
    {"size-from-index",
     "Its record was cut before it was freed; an index tells its size, {} bytes."},
    {"content-elsewhere",
     "Its content is kept elsewhere, in a store of chunks or an image that other files share."},
    {"size-impossible", "Its entry says {} bytes, more than the volume holds: that is damaged."},
    {"record-early",
     "The only copy of its record that is left was made before its content was: it tells neither "
     "size nor last change."},
    {"name-odd",
     "Its entry is one that no driver should write; content stands behind it all the same."},
    {"placed-by-content",
     "Where it lies was found by its content: {} ways to place it were tried."},
    {"rejoined-by-content",
     "Where it lies was found by its content: {} pieces, each where the one before it breaks off "
     "and its structure says that it goes on."},
    {"joined-by-size",
     "Its name stood without content, and content without a name at byte {} of the source: size "
     "and "
     "kind fit, and nothing else fits as well."},
    {"joined-by-order",
     "Its name stood without content, and content without a name at byte {} of the source, between "
     "files that were made right before and after it: kind and order fit, and nothing else fits as "
     "well."},
    {"joined-by-kind",
     "Its name stood without content, and content without a name at byte {} of the source: no "
     "other name and no other content of that kind is left."},
    {"joined-by-kind-only",
     "Its name stood without content, and content without a name at byte {} of the source: no "
     "other name and no other content of that kind is left, but files made before and after it lie "
     "elsewhere."},
    {"end-unsure", "Nothing behind its last byte bears out that it ends there."},
    {"extended-attributes",
     "It has {} bytes of extended attributes, which are not read, and not exported."},
    {"vendor-entries",
     "Its entry set has {} entries of a vendor's own, which are not read; what they hold is not "
     "exported."},
    {"size-lost", "Its size was never recorded."},
};

}  // namespace

EntryDetails load_details(const Shelf& shelf, EntryId entry) {
  EntryDetails details;
  SQLite::Statement name(shelf.db(),
                         "SELECT CASE WHEN n.parent IS NULL AND n.parent_key IS NULL "
                         "THEN n.name ELSE coalesce(f.path,'[orphans]')||'/'||n.name END "
                         "FROM names n LEFT JOIN folder_paths f ON f.entry=n.parent "
                         "WHERE n.entry=? AND n.kind='link' ORDER BY n.id");
  name.bind(1, number_of(entry));
  while (name.executeStep()) details.link_paths.push_back(name.getColumn(0).getString());
  SQLite::Statement target(
      shelf.db(), "SELECT link_target, substr(finder_info, 1, 8), hidden FROM entries WHERE id=?");
  target.bind(1, number_of(entry));
  if (target.executeStep()) {
    details.link_target = maybe_text(target.getColumn(0)).value_or("");
    details.type_and_creator = target.getColumn(1).getString();
    details.hidden = target.getColumn(2).getInt() != 0;
  }
  SQLite::Statement fact(shelf.db(), "SELECT fact, amount FROM evidence WHERE entry=?");
  fact.bind(1, number_of(entry));
  while (fact.executeStep()) {
    details.evidence.push_back({fact.getColumn(0).getString(), size_of(fact.getColumn(1))});
  }
  return details;
}

Pieces load_pieces(const Shelf& shelf, StreamId stream) {
  SQLite::Statement row(shelf.db(), "SELECT pieces FROM streams WHERE id=?");
  row.bind(1, number_of(stream));
  return row.executeStep() ? pieces_of(row.getColumn(0)) : Pieces{};
}

std::string says_of(const Shelf& shelf, StreamId stream) {
  SQLite::Statement row(shelf.db(), "SELECT says FROM streams WHERE id=?");
  row.bind(1, number_of(stream));
  return row.executeStep() ? row.getColumn(0).getString() : std::string();
}

std::string evidence_sentence(const Evidence& fact) {
  for (const auto& [code, sentence] : kSentences) {
    if (code == fact.fact) return fmt::format(fmt::runtime(sentence), fact.amount);
  }
  return fmt::format("{}: {}", fact.fact, fact.amount);
}

}  // namespace undershelf
