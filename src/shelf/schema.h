// The tables of the shelf. docs/shelf.md explains each column; a change of either changes both,
// and kShelfVersion.
#pragma once

#include <array>

namespace undershelf {

constexpr int kShelfApplicationId = 0x55534C46;  // PRAGMA application_id: "USLF"
constexpr int kShelfVersion = 12;                // PRAGMA user_version

constexpr const char* kSchema = R"sql(
CREATE TABLE source(
  path TEXT NOT NULL, skip INTEGER NOT NULL, size INTEGER NOT NULL,
  sector_size INTEGER NOT NULL, time_zone TEXT NOT NULL, code_page TEXT NOT NULL,
  serial TEXT NOT NULL);
CREATE TABLE source_blocks(offset INTEGER NOT NULL, length INTEGER NOT NULL, sha256 TEXT NOT NULL);
CREATE TABLE scans(
  id INTEGER PRIMARY KEY, depth TEXT NOT NULL, checked TEXT NOT NULL, state TEXT NOT NULL,
  started TEXT NOT NULL, ended TEXT, gaps INTEGER NOT NULL);
CREATE TABLE volumes(
  id INTEGER PRIMARY KEY AUTOINCREMENT, file_system TEXT NOT NULL, standing TEXT NOT NULL, label TEXT NOT NULL,
  serial TEXT NOT NULL, offset INTEGER NOT NULL, length INTEGER NOT NULL,
  sector_size INTEGER NOT NULL, cluster_size INTEGER NOT NULL, heap_offset INTEGER NOT NULL,
  cluster_count INTEGER NOT NULL, confidence INTEGER NOT NULL, used INTEGER, inside INTEGER,
  space INTEGER NOT NULL, by_sweep INTEGER NOT NULL, notes TEXT NOT NULL, structures BLOB NOT NULL);
CREATE TABLE entries(
  id INTEGER PRIMARY KEY AUTOINCREMENT, volume INTEGER, by_sweep INTEGER NOT NULL, key INTEGER NOT NULL, parent INTEGER,
  parent_key INTEGER, orphan INTEGER NOT NULL, kind TEXT NOT NULL, state TEXT NOT NULL,
  marked_deleted INTEGER NOT NULL, proof TEXT NOT NULL, system INTEGER NOT NULL,
  hidden INTEGER NOT NULL DEFAULT 0, name TEXT NOT NULL, raw_name BLOB,
  name_exact INTEGER NOT NULL, type TEXT, created INTEGER, modified INTEGER, accessed INTEGER,
  deleted INTEGER, trashed INTEGER NOT NULL DEFAULT 0, original_path TEXT, link_target TEXT,
  finder_info BLOB, merged_into INTEGER);
CREATE TABLE names(
  id INTEGER PRIMARY KEY, entry INTEGER NOT NULL, parent INTEGER, parent_key INTEGER,
  kind TEXT NOT NULL, name TEXT NOT NULL, raw_name BLOB, name_exact INTEGER NOT NULL);
CREATE TABLE streams(
  id INTEGER PRIMARY KEY, entry INTEGER NOT NULL, name TEXT, size INTEGER,
  valid_size INTEGER, encoding TEXT NOT NULL, codec TEXT, unit INTEGER,
  placement TEXT NOT NULL,
  open INTEGER NOT NULL, scattered INTEGER NOT NULL, first INTEGER, first_step INTEGER, hint BLOB, pieces BLOB NOT NULL, inline_data BLOB,
  stepped INTEGER, rivalled INTEGER, entangled INTEGER, sampled INTEGER, blank INTEGER, head TEXT,
  rating TEXT, score INTEGER, intact_bytes INTEGER,
  checked TEXT, format TEXT, type TEXT, sound_to INTEGER, why TEXT, sha256 TEXT, says TEXT);
CREATE TABLE losses(
  stream INTEGER NOT NULL, offset INTEGER NOT NULL, length INTEGER NOT NULL, cause TEXT NOT NULL);
CREATE TABLE structures(entry INTEGER NOT NULL, pieces BLOB NOT NULL);
CREATE TABLE evidence(entry INTEGER NOT NULL, fact TEXT NOT NULL, amount INTEGER NOT NULL);
CREATE TABLE damage(
  volume INTEGER, offset INTEGER NOT NULL, length INTEGER NOT NULL, what TEXT NOT NULL);
CREATE TABLE sweep(
  begin INTEGER NOT NULL, length INTEGER NOT NULL, systems TEXT NOT NULL,
  position INTEGER NOT NULL, unreadable INTEGER NOT NULL, left_out INTEGER NOT NULL);
CREATE TABLE swept(begin INTEGER NOT NULL, length INTEGER NOT NULL);
CREATE TABLE traces(system TEXT NOT NULL, count INTEGER NOT NULL, packed BLOB NOT NULL);
CREATE TABLE folder_paths(entry INTEGER PRIMARY KEY, path TEXT NOT NULL, exact INTEGER NOT NULL);
CREATE INDEX names_by_entry ON names(entry);
)sql";

// Names that stand for its tables, in SQL.
constexpr const char* kTableNames =
    "'source','source_blocks','scans','volumes','entries','names','streams','losses','structures',"
    "'evidence','damage','sweep','swept','traces','folder_paths'";

// Tables besides `entries` whose rows belong to the entry of that number in `entry`.
inline constexpr std::array kTablesOfEntries = {"streams", "names", "structures", "evidence"};

// Made once rows are loaded; harmless to make again.
constexpr const char* kIndexes = R"sql(
CREATE UNIQUE INDEX IF NOT EXISTS entries_by_key ON entries(volume, key);
CREATE INDEX IF NOT EXISTS entries_by_parent ON entries(parent);
CREATE INDEX IF NOT EXISTS streams_by_entry ON streams(entry);
CREATE INDEX IF NOT EXISTS losses_by_stream ON losses(stream);
CREATE INDEX IF NOT EXISTS evidence_by_entry ON evidence(entry);
)sql";

}  // namespace undershelf
