// Whether ratings keep their promise: on all sample volumes, by what is known to be true of them
// (docs/rating.md).
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "rating/odds.h"
#include "support.h"

namespace undershelf::test {
namespace {

struct Judged {
  std::string what;
  std::string rating;
  double chance;  // as the score tells it
  bool same;      // it comes back byte for byte
};

// All lost files that have content, as a deep scan rates them.
std::vector<Judged> judged_files(const std::string& name) {
  const TempFolder folder;
  write_file(folder.path("card.img"), sample(name));
  const std::string shelf = folder.path("shelf");
  EXPECT_LE(undershelf({"scan", folder.path("card.img"), "--shelf", shelf, "--depth", "deep"}).code,
            1);
  // The first letter of a name may be lost.
  const auto known_by = [](const std::string& path) {
    return path.substr(std::min(path.size(), path.rfind('/') + 2));
  };
  std::map<std::string, std::set<std::string>> hashes;  // by name
  std::set<std::string> all;
  std::vector<Json> known = truth(name);
  for (size_t i = 0; i < known.size(); ++i) {  // some are disks of other samples
    if (!known[i].contains("sample")) continue;
    std::ranges::copy(truth(known[i]["sample"]), std::back_inserter(known));
  }
  for (const Json& one : known) {
    if (!one.contains("sha256")) continue;
    hashes[known_by(one["path"])].insert(one["sha256"]);
    all.insert(one["sha256"]);
    for (const Json& former : one["former_names"]) {
      hashes[known_by(former)].insert(one["sha256"]);
    }
  }
  std::vector<Judged> judged;
  for (const Json& row : rows_of(shelf, {"--kind", "file"})) {
    const bool counts = row["state"] != "live" && row["stream"].is_null() && row["link"] == false;
    if (!counts || row["size"].is_null() || row["size"] == 0) continue;
    // What has no name may be any file that was there.
    const bool carved = row["state"] == "carved";
    const std::set<std::string>& meant = carved ? all : hashes[known_by(row["path"])];
    const bool same = !row["sha256"].is_null() && meant.contains(row["sha256"]);
    judged.push_back({name + ": " + row["path"].get<std::string>(), row["rating"],
                      row["score"].get<double>() / 100, same});
  }
  return judged;
}

TEST(Ratings, KeepTheirPromiseOnTheSamples) {
  if (UNDERSHELF_SANITIZED) GTEST_SKIP() << "it counts what scans find, all of which others run";
  std::vector<Judged> all;
  for (const auto& file : std::filesystem::directory_iterator(UNDERSHELF_SAMPLES)) {
    const std::string name = file.path().filename().string();
    // What is told of that one is not what lies on the images in its files.
    if (!name.ends_with(".truth.jsonl") || name.starts_with("fat32-images")) continue;
    std::ranges::move(judged_files(name.substr(0, name.find('.'))), std::back_inserter(all));
  }
  const auto count = static_cast<double>(all.size());
  std::map<std::string, double> files, same;
  double squares = 0;
  double pairs = 0;
  double ordered = 0;
  for (const Judged& one : all) {
    ++files[one.rating];
    same[one.rating] += one.same;
    squares += std::pow(one.chance - one.same, 2);
    const bool promised = one.rating == "whole" || one.rating == "likely";
    if (promised && !one.same) std::cout << "promised, and wrong: " << one.what << '\n';
    if (!one.same) continue;
    for (const Judged& other : all) {
      if (other.same) continue;
      ++pairs;
      ordered += one.chance > other.chance ? 1 : one.chance == other.chance ? 0.5 : 0;
    }
  }
  for (const auto& [rating, n] : files) {
    std::cout << rating << ": " << same[rating] << " of " << n << '\n';
  }
  std::cout << "Brier score " << squares / count << ", area " << ordered / pairs << '\n';
  ASSERT_GT(all.size(), 1000U);
  EXPECT_GE(same["whole"], 0.995 * files["whole"]);
  EXPECT_GE(same["likely"], 0.9 * files["likely"]);
  EXPECT_EQ(same["gone"], 0);
  EXPECT_GE(same["whole"] + same["likely"],
            0.95 * (same["whole"] + same["likely"] + same["partial"]));
  EXPECT_LE(squares, 0.03 * count);
  EXPECT_GE(ordered, 0.98 * pairs);
}

TEST(Ratings, OfWhatBreaksOffPromiseNothing) {
  Facts facts;
  facts.state = State::deleted;
  facts.size = 100'000;
  facts.placement = Placement::exact;
  facts.head = HeadMatch::fits;
  facts.sampled = 7;
  facts.check = content::Level::broken;
  facts.lost[static_cast<size_t>(Loss::Cause::unsound)] = 60'000;
  const Verdict verdict = rate(facts, format_by_name("a.png"));
  EXPECT_EQ(verdict.rating, Rating::partial);
  EXPECT_LE(verdict.score, 1);
  EXPECT_EQ(verdict.intact_bytes, 40'000U);
}

// Whatever else is known of a file.
TEST(Odds, FallWithWhatSpeaksAgainstAFile) {
  Facts sound;
  sound.state = State::deleted;
  sound.size = sound.sound_to = 100'000;
  sound.cluster = 4096;
  sound.placement = Placement::exact;
  sound.check = content::Level::consistent;
  sound.format = "jpeg";
  sound.sampled = 7;
  const auto chance = [](const Facts& facts) {
    return odds_of(facts, format_by_name("a.jpg")).chance;
  };
  EXPECT_GE(chance(sound), kLikely);
  const auto lost = [](Facts& facts, Loss::Cause cause) {
    facts.lost[static_cast<size_t>(cause)] = 4096;
  };
  using Change = void (*)(Facts&);
  const std::pair<const char*, Change> worse[] = {
      {"guessed", [](Facts& f) { f.placement = Placement::guessed; }},
      {"stepped", [](Facts& f) { f.placement = Placement::inferred, f.stepped = 2; }},
      {"entangled", [](Facts& f) { f.entangled = true; }},
      {"blank", [](Facts& f) { f.blank = 7; }},
      {"an old record", [](Facts& f) { f.proof = Proof::old; }},
      {"broken", [](Facts& f) { f.check = content::Level::broken; }},
  };
  for (const auto& [what, change] : worse) {
    Facts facts = sound;
    change(facts);
    EXPECT_LT(chance(facts), chance(sound)) << what;
    facts.check = content::Level::verified;
    EXPECT_GE(chance(facts), kWhole) << what << ", but every checksum holds";
  }
  for (const Loss::Cause cause : {Loss::Cause::younger, Loss::Cause::in_use, Loss::Cause::blank}) {
    Facts facts = sound;
    lost(facts, cause);
    EXPECT_LT(chance(facts), chance(sound)) << to_text(cause);
  }
}

}  // namespace
}  // namespace undershelf::test
