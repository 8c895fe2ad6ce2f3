#include "rating/stream_row.h"

#include <algorithm>
#include <initializer_list>
#include <string_view>

#include "shelf/storage_row.h"
#include "shelf/volume_table.h"

namespace undershelf {
namespace {

template <typename Value>
Value named(std::initializer_list<Value> values, std::string_view text, Value otherwise) {
  for (const Value value : values) {
    if (to_text(value) == text) return value;
  }
  return otherwise;
}

// Whether no byte of a stream lies outside its own record.
bool is_inline(const Pieces& pieces) {
  return !pieces.empty() && std::ranges::all_of(pieces, [](const Piece& piece) {
    return piece.kind == Piece::Kind::inline_bytes || piece.kind == Piece::Kind::zeros;
  });
}

}  // namespace

const char* const StreamRow::kSelect = R"sql(
  SELECT s.id, e.id, e.state, e.proof, s.size, s.valid_size, s.placement, s.pieces, s.stepped,
         s.rivalled, s.sampled, s.blank, s.head, coalesce(s.name, e.name), s.rating, s.score,
         s.intact_bytes, s.first, s.entangled, s.scattered, e.volume, s.open, s.hint, s.codec,
         s.unit, s.encoding, s.checked, s.sound_to, s.format, s.why,
         CASE WHEN s.placement='content' THEN (SELECT fact FROM evidence WHERE entry=e.id
           AND fact LIKE 'joined-by-%') END,
         s.placement='content' AND EXISTS(SELECT 1 FROM evidence WHERE entry=e.id
           AND fact='end-unsure')
  FROM streams s JOIN entries e ON e.id=s.entry
  WHERE (e.kind='file' OR s.name IS NOT NULL) AND e.merged_into IS NULL)sql";

// Numbers that are null read as 0.
StreamRow::StreamRow(Columns& row, const VolumeTable& volumes) {
  int column = 0;
  const auto next = [&]() -> const SQLite::Column& { return row[column++]; };
  id = id_of<StreamId>(next());
  entry = id_of<EntryId>(next());
  facts.state =
      named<State>({State::live, State::deleted, State::former}, next().getText(), State::carved);
  facts.proof = named<Proof>({Proof::last, Proof::unsure}, next().getText(), Proof::old);
  facts.size = maybe_size(next());
  valid_size = size_of(next());
  facts.placement = named<Placement>(
      {Placement::exact, Placement::inferred, Placement::content, Placement::guessed},
      next().getText(), Placement::none);
  pieces = pieces_of(next());
  facts.stepped = size_of(next());
  facts.rivalled = size_of(next());
  facts.sampled = next().getUInt();
  facts.blank = next().getUInt();
  const std::string_view head = next().getText();
  facts.head = head == "fits"      ? HeadMatch::fits
               : head == "differs" ? HeadMatch::differs
                                   : HeadMatch::unknown;
  name = next().getString();
  rating = next().getString();
  score = next().getInt();
  intact_bytes = size_of(next());
  facts.has_place = !next().isNull();
  facts.entangled = next().getInt() != 0;
  scattered = next().getInt() != 0;
  volume = id_of<VolumeId>(next());
  const bool open = next().getInt() != 0;
  keeps_chain = !next().isNull() && open && facts.placement == Placement::exact;
  const auto& codec = next();
  storage = storage_of(codec, next());
  facts.decodable = storage.codec != Codec::none;
  facts.encoding = named<Encoding>({Encoding::plain, Encoding::compressed}, next().getText(),
                                   Encoding::encrypted);
  const VolumeRecord* record = volumes.find(volume);
  facts.cluster = record != nullptr ? record->volume.cluster_size : 0;
  space = record != nullptr ? record->space : SpaceId::source;
  // Most streams have nothing of the rest.
  if (const auto& checked = next(); !checked.isNull()) {
    facts.check = content::level_named(checked.getText());
    facts.sound_to = size_of(next());
    facts.format = content::known_format(next().getText());
    facts.check_why = next().getString();
  } else {
    column += 3;
  }
  if (facts.placement == Placement::content) {
    const std::string joined = next().getString();
    facts.joined = joined == "joined-by-size"        ? Facts::Joined::by_size
                   : joined == "joined-by-order"     ? Facts::Joined::by_order
                   : joined == "joined-by-kind"      ? Facts::Joined::by_kind
                   : joined == "joined-by-kind-only" ? Facts::Joined::by_kind_only
                                                     : Facts::Joined::no;
    facts.end_unsure = next().getInt() != 0;
  }
  facts.kept_inline = is_inline(pieces);
}

}  // namespace undershelf
