#include "placing/found_place.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <string>

#include "checking/store.h"
#include "model/entry.h"

namespace undershelf {

void keep_found_place(SQLite::Database& db, const FoundPlace& place,
                      const checking::Examined& found) {
  SQLite::Statement update(
      db,
      "UPDATE streams SET pieces=?, placement=?, stepped=?, open=0, entangled=0, scattered=0, "
      "sampled=NULL, blank=NULL WHERE id=?");
  const std::string packed = pack(place.pieces);
  update.bindNoCopy(1, packed.data(), static_cast<int>(packed.size()));
  update.bindNoCopy(2, to_text(Placement::content).data());
  update.bind(3, static_cast<int64_t>(place.gaps));
  update.bind(4, number_of(place.stream));
  update.exec();
  checking::ExaminedStore(db).put(place.stream, found, place.size);
  SQLite::Statement evidence(db, "INSERT INTO evidence VALUES(?, ?, ?)");
  evidence.bind(1, number_of(place.entry));
  evidence.bindNoCopy(2, place.fact);
  evidence.bind(3, static_cast<int64_t>(place.amount));
  evidence.exec();
}

}  // namespace undershelf
