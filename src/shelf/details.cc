#include "shelf/details.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {

EntryDetails load_details(const Shelf& shelf, int64_t entry) {
  EntryDetails details;
  SQLite::Statement name(shelf.db(),
                         "SELECT CASE WHEN n.parent IS NULL AND n.parent_key IS NULL "
                         "THEN n.name ELSE coalesce(f.path,'[orphans]')||'/'||n.name END "
                         "FROM names n LEFT JOIN folder_paths f ON f.entry=n.parent "
                         "WHERE n.entry=? AND n.kind='link' ORDER BY n.id");
  name.bind(1, entry);
  while (name.executeStep()) details.link_paths.push_back(name.getColumn(0).getString());
  SQLite::Statement target(shelf.db(),
                           "SELECT link_target, substr(finder_info, 1, 8) FROM entries WHERE id=?");
  target.bind(1, entry);
  if (target.executeStep()) {
    details.link_target = maybe_text(target.getColumn(0)).value_or("");
    details.type_and_creator = target.getColumn(1).getString();
  }
  SQLite::Statement fact(shelf.db(), "SELECT fact, amount FROM evidence WHERE entry=?");
  fact.bind(1, entry);
  while (fact.executeStep()) {
    details.evidence.push_back({fact.getColumn(0).getString(), size_of(fact.getColumn(1))});
  }
  return details;
}

Pieces load_pieces(const Shelf& shelf, int64_t stream_id) {
  SQLite::Statement row(shelf.db(), "SELECT pieces FROM streams WHERE id=?");
  row.bind(1, stream_id);
  return row.executeStep() ? pieces_of(row.getColumn(0)) : Pieces{};
}

std::string evidence_sentence(const Evidence& fact) {
  if (fact.fact == "chain-short") {
    return fmt::format("Its chain ends {} bytes before the file does.", fact.amount);
  }
  if (fact.fact == "chain-lost") return "The FAT knows nothing of its chain.";
  if (fact.fact == "first-cluster-invalid") {
    return fmt::format("Its first cluster, {}, is none of the volume's.", fact.amount);
  }
  if (fact.fact == "folder-read-before") {
    return fmt::format("It starts at cluster {}, where another folder was read before.",
                       fact.amount);
  }
  if (fact.fact == "folder-replaced") return "Its first cluster holds something else now.";
  if (fact.fact == "set-damaged") return "Neither checksum nor name hash of its entry set holds.";
  if (fact.fact == "set-cut") {
    return "The first entry of its set was used again: its times are lost, its name is not.";
  }
  if (fact.fact == "name-lost") return "Nothing that was found tells the folder's name.";
  if (fact.fact == "thread-only") return "Only a thread record tells its name and folder.";
  if (fact.fact == "record-cut") {
    return fmt::format("Only the first {} bytes of its record are left.", fact.amount);
  }
  if (fact.fact == "extents-missing") {
    return fmt::format("No extent tells where {} of its bytes lie.", fact.amount);
  }
  if (fact.fact == "link-content-lost") return "The content this hard link leads to is lost.";
  if (fact.fact == "record-torn") return "Its record was torn by an interrupted write.";
  if (fact.fact == "record-damaged") return "Its record is damaged; parts of it are lost.";
  if (fact.fact == "record-lost") return "Its record is lost; the index of its folder names it.";
  if (fact.fact == "record-used-again") {
    return "Its record holds another file now; an index, the change journal or the log names it.";
  }
  if (fact.fact == "record-in-log") {
    return "The log holds an older copy of its record, which tells its place.";
  }
  if (fact.fact == "runs-broken") {
    return fmt::format("The run list of a stream of {} bytes breaks off or leads outside.",
                       fact.amount);
  }
  if (fact.fact == "name-from-index") {
    return "Its record has no name any more; an index, the change journal or the log names it.";
  }
  if (fact.fact == "size-from-index") {
    return fmt::format("Its record was cut before it was freed; an index tells its size, {} bytes.",
                       fact.amount);
  }
  if (fact.fact == "content-elsewhere") {
    return "Its content is kept elsewhere, in a store of chunks or an image that other files "
           "share.";
  }
  if (fact.fact == "size-impossible") {
    return fmt::format("Its entry says {} bytes, more than the volume holds: that is damaged.",
                       fact.amount);
  }
  if (fact.fact == "record-early") {
    return "The only copy of its record that is left was made before its content was: it tells "
           "neither size nor last change.";
  }
  if (fact.fact == "name-odd") {
    return "Its entry is one that no driver should write; content stands behind it all the same.";
  }
  if (fact.fact == "size-lost") return "Its size was never recorded.";
  return fmt::format("{}: {}", fact.fact, fact.amount);
}

}  // namespace undershelf
