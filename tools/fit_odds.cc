// Fits the odds of src/rating/odds.h to lost files whose fate is known.
//
//     fit_odds < JUDGED > src/rating/odds_table.inc
//
// JUDGED has a JSON object a line: `shelf` (path), `id` (entry), `same` (whether it came back byte
// for byte), `judge` (whether it is of a volume that is not for the fit, but for counting what
// came of files with such odds) and `file` (a word for the file, which several shelves may tell
// of). bench/calibration.py writes it.
#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <iostream>
#include <map>
#include <nlohmann/json.hpp>
#include <optional>
#include <vector>

#include "rating/odds.h"
#include "rating/stream_row.h"
#include "shelf/losses.h"
#include "shelf/shelf.h"
#include "shelf/volume_table.h"

namespace undershelf {
namespace {

constexpr double kRidge = 0.1;    // holds weights of what all files or none have
constexpr int kRounds = 60;       // Newton's method settles in some ten
constexpr uint32_t kFewest = 60;  // files a step of the odds stands on

constexpr uint32_t kFewestSeen = 10;  // files with a clue that teach what it means

// Which way a clue can speak. What few files seem to say against that is chance.
enum class Speaks : int8_t { against = -1, either = 0, in_favour = 1 };
Speaks direction(Clue clue) {
  switch (clue) {
    case Clue::former:
    case Clue::empty:
    case Clue::not_vouched:
    case Clue::text:
    case Clue::not_checked:
      return Speaks::either;
    case Clue::kept_inline:
    case Clue::head_fits:
    case Clue::verified:
    case Clue::consistent_noticing:
    case Clue::consistent:
      return Speaks::in_favour;
    default:
      return Speaks::against;
  }
}

struct Sample {
  Clues clues;
  bool same;
  std::string file;
  double log_odds = 0;
};

struct Model {
  double intercept;
  Eigen::VectorXd weights;
  std::vector<bool> seen;  // by clue
  double log_odds(const Clues& clues) const {
    return intercept + Eigen::Map<const Eigen::VectorXd>(clues.data(), kClues).dot(weights);
  }
};

// Nothing for what the odds say nothing of: bytes that are lost for certain.
std::optional<Clues> clues_of_entry(const Shelf& shelf, int64_t id) {
  SQLite::Statement row(shelf.db(),
                        std::string(StreamRow::kSelect) + " AND e.id=? AND s.name IS NULL");
  row.bind(1, id);
  if (!row.executeStep()) return std::nullopt;
  Columns columns(row);
  StreamRow stream(columns, VolumeTable(shelf));
  for (const Loss& loss : load_losses(shelf.db(), stream.id)) {
    stream.facts.lost[static_cast<size_t>(loss.cause)] += loss.length;
  }
  if (!is_a_matter_of_odds(stream.facts)) return std::nullopt;
  return clues_of(stream.facts, format_by_name(stream.name));
}

// The weights, the first of them for what is true of all; those of columns that are not `used` are
// 0.
Eigen::VectorXd regress(const Eigen::MatrixXd& x, const Eigen::VectorXd& y,
                        const std::vector<bool>& used) {
  Eigen::VectorXd ridge = Eigen::VectorXd::Constant(x.cols(), kRidge);
  ridge(0) = 0;
  for (Eigen::Index i = 0; i < x.cols(); ++i) {
    if (!used[static_cast<size_t>(i)]) ridge(i) = 1e9;
  }
  Eigen::VectorXd beta = Eigen::VectorXd::Zero(x.cols());
  for (int round = 0; round < kRounds; ++round) {
    const Eigen::VectorXd p = (1 / (1 + (-(x * beta).array()).exp())).matrix();
    const Eigen::VectorXd weight = (p.array() * (1 - p.array())).max(1e-9).matrix();
    Eigen::MatrixXd hessian = x.transpose() * weight.asDiagonal() * x;
    hessian.diagonal() += ridge;
    const Eigen::VectorXd gradient = x.transpose() * (y - p) - ridge.cwiseProduct(beta);
    beta += hessian.ldlt().solve(gradient);
  }
  return beta;
}

Model fit(const std::vector<Sample>& samples) {
  const auto n = static_cast<Eigen::Index>(samples.size());
  Eigen::MatrixXd x(n, kClues + 1);
  Eigen::VectorXd y(n);
  for (Eigen::Index i = 0; i < n; ++i) {
    const Sample& sample = samples[static_cast<size_t>(i)];
    x(i, 0) = 1;
    x.row(i).tail(kClues) = Eigen::Map<const Eigen::RowVectorXd>(sample.clues.data(), kClues);
    y(i) = sample.same ? 1 : 0;
  }
  std::vector<bool> used(kClues + 1, true);
  for (size_t i = 0; i < kClues; ++i) {
    used[i + 1] = (x.col(static_cast<Eigen::Index>(i) + 1).array() > 0).count() >= kFewestSeen;
  }
  const std::vector<bool> seen(used.begin() + 1, used.end());
  while (true) {
    const Eigen::VectorXd beta = regress(x, y, used);
    bool settled = true;
    for (size_t i = 0; i < kClues; ++i) {
      const auto way = static_cast<double>(direction(static_cast<Clue>(i)));
      if (!used[i + 1] || beta(static_cast<Eigen::Index>(i) + 1) * way >= 0) continue;
      used[i + 1] = settled = false;
    }
    if (settled) return {beta(0), beta.tail(kClues), seen};
  }
}

struct Block {
  double from;  // log odds
  uint32_t files, same;
  // Of few files that all came back not all will (Jeffreys' estimate).
  double chance() const { return (same + 0.5) / (files + 1.0); }
};

// Pools neighbours until chances rise with the log odds and each stands on enough files.
std::vector<Block> isotonic(std::vector<Sample>& samples) {
  std::ranges::sort(samples, {}, &Sample::log_odds);
  std::vector<Block> blocks;
  const auto pool = [&] {
    while (blocks.size() > 1 && (blocks.back().files < kFewest ||
                                 blocks.back().chance() <= blocks[blocks.size() - 2].chance())) {
      const Block last = blocks.back();
      blocks.pop_back();
      blocks.back().files += last.files;
      blocks.back().same += last.same;
    }
  };
  double last = 0;
  for (const Sample& sample : samples) {
    if (blocks.empty() || (blocks.back().files >= kFewest && sample.log_odds != last)) {
      pool();
      blocks.push_back({sample.log_odds, 0, 0});
    }
    last = sample.log_odds;
    ++blocks.back().files;
    blocks.back().same += sample.same ? 1 : 0;
  }
  pool();
  return blocks;
}

void print(const Model& model, const std::vector<Block>& blocks, const std::vector<Sample>& judged,
           size_t fitted) {
  fmt::print(
      "// Written by tools/fit_odds.cc from {} looks at lost files, and counted on {} at others.\n",
      fitted, judged.size());
  fmt::print("constexpr double kIntercept = {:.4f};\n", model.intercept);
  fmt::print("constexpr double kWeights[kClues] = {{\n");
  for (Eigen::Index i = 0; i < model.weights.size(); ++i)
    fmt::print("    {:.4f},\n", model.weights(i));
  fmt::print("}};\n// Whether enough files had a clue to tell what it means.\n");
  fmt::print("constexpr bool kSeen[kClues] = {{\n");
  for (const bool seen : model.seen) fmt::print("    {},\n", seen);
  fmt::print("}};\nconstexpr Step kSteps[] = {{\n");
  for (size_t i = 0; i < blocks.size(); ++i) {
    std::map<std::string, bool> files;  // whether it came back
    for (const Sample& sample : judged) {
      const bool here = (i == 0 || sample.log_odds >= blocks[i].from) &&
                        (i + 1 == blocks.size() || sample.log_odds < blocks[i + 1].from);
      if (here) files[sample.file] = sample.same;
    }
    const auto same = std::ranges::count_if(files, &std::pair<const std::string, bool>::second);
    fmt::print("    {{{:.4f}, {{{:.5f}, {}, {}}}}},\n", blocks[i].from - 1e-4, blocks[i].chance(),
               files.size(), same);
  }
  fmt::print("}};\n");
}

void run() {
  std::map<std::string, Shelf> shelves;
  std::vector<Sample> samples;
  std::vector<Sample> judged;
  for (std::string line; std::getline(std::cin, line);) {
    const nlohmann::json row = nlohmann::json::parse(line);
    const std::string path = row["shelf"];
    auto shelf = shelves.find(path);
    if (shelf == shelves.end()) {
      shelves.clear();  // they come one after the other
      shelf = shelves.emplace(path, Shelf::open_to_read(path)).first;
    }
    if (const auto clues = clues_of_entry(shelf->second, row["id"])) {
      (row["judge"] ? judged : samples).push_back({*clues, row["same"], row["file"]});
    }
  }
  const Model model = fit(samples);
  for (std::vector<Sample>* all : {&samples, &judged}) {
    for (Sample& sample : *all) sample.log_odds = model.log_odds(sample.clues);
  }
  const size_t fitted = samples.size();
  print(model, isotonic(samples), judged, fitted);
}

}  // namespace
}  // namespace undershelf

int main() {
  try {
    undershelf::run();
  } catch (const std::exception& e) {
    std::cerr << "fit_odds: " << e.what() << '\n';
    return 1;
  }
}
