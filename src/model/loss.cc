#include "model/loss.h"

#include <algorithm>
#include <array>

namespace undershelf {
namespace {

struct Words {
  std::string_view stored, why;
  bool zero_filled;
};

// By Loss::Cause.
constexpr std::array<Words, kLossCauses> kWords = {{
    {"not-known", "unknown", true},
    {"behind-source", "unknown", true},
    {"unreadable", "unreadable", true},
    {"unread", "unread", true},
    {"overwritten", "overwritten", true},
    {"disputed", "contested", false},
    {"in-use", "contested", false},
    {"younger", "contested", false},
    {"blank", "blank", false},
    {"other-content", "contested", false},
    {"scattered", "contested", false},
    {"unsound", "undecodable", false},
    {"unproven", "contested", false},
    {"undecodable", "undecodable", true},
    {"as-stored", "undecodable", false},
}};

const Words& words_of(Loss::Cause cause) { return kWords[static_cast<size_t>(cause)]; }

}  // namespace

void append_loss(Losses& losses, const Loss& loss) {
  if (loss.length == 0) return;
  if (!losses.empty() && losses.back().cause == loss.cause && losses.back().end() == loss.offset) {
    losses.back().length += loss.length;
  } else {
    losses.push_back(loss);
  }
}

Losses settled(const Losses& losses, uint64_t size) {
  struct Edge {
    uint64_t at;
    Loss::Cause cause;
    int step;
  };
  std::vector<Edge> edges;
  edges.reserve(losses.size() * 2);
  for (const Loss& loss : losses) {
    if (loss.length == 0 || loss.offset >= size) continue;
    edges.push_back({loss.offset, loss.cause, 1});
    edges.push_back({loss.offset + std::min(loss.length, size - loss.offset), loss.cause, -1});
  }
  std::ranges::sort(edges, {}, &Edge::at);
  std::array<int, kLossCauses> open{};
  Losses kept;
  uint64_t last = 0;
  for (const Edge& edge : edges) {
    const auto* first = std::ranges::find_if(open, [](int count) { return count > 0; });
    if (first != open.end() && edge.at > last) {
      append_loss(kept, {last, edge.at - last, static_cast<Loss::Cause>(first - open.begin())});
    }
    last = edge.at;
    open[static_cast<size_t>(edge.cause)] += edge.step;
  }
  return kept;
}

uint64_t total_length(const Losses& losses) {
  uint64_t total = 0;
  for (const Loss& loss : losses) total += loss.length;
  return total;
}

bool is_zero_filled(Loss::Cause cause) { return words_of(cause).zero_filled; }
std::string_view why_of(Loss::Cause cause) { return words_of(cause).why; }
std::string_view to_text(Loss::Cause cause) { return words_of(cause).stored; }

std::optional<Loss::Cause> cause_named(std::string_view word) {
  const auto* found = std::ranges::find(kWords, word, &Words::stored);
  if (found == kWords.end()) return std::nullopt;
  return static_cast<Loss::Cause>(found - kWords.begin());
}

}  // namespace undershelf
