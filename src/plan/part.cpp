#include "plan/part.h"

#include <algorithm>

#include <fmt/core.h>

namespace nuvrat::plan {
namespace {

auto same_as(const Consent& consent) {
  return [&consent](const Consent& c) {
    return c.code == consent.code && c.partition == consent.partition && c.text == consent.text;
  };
}

template <typename Value>
void move_all(std::vector<Value>& from, std::vector<Value>& to) {
  std::move(from.begin(), from.end(), std::back_inserter(to));
}

}  // namespace

void PlanPart::consent(ConsentCode code, PartitionId partition, std::string text,
                       std::string detail) {
  consents.push_back(
      {.code = code, .partition = partition, .text = std::move(text), .detail = std::move(detail)});
}

void PlanPart::obstacle(ObstacleCode code, std::string text, std::string remedy,
                        std::uint64_t missing, unsigned partition) {
  obstacles.push_back({.code = code,
                       .finding = {},
                       .text = std::move(text),
                       .remedy = std::move(remedy),
                       .missing_sectors = missing,
                       .partition = partition,
                       .goals = {}});
}

void PlanPart::append(PlanPart next) {
  move_all(next.steps, steps);
  if (next.after) after = std::move(next.after);
  for (ExpectedChange& change : next.changes) {
    using Kind = ExpectedChange::Kind;
    // The last label counts, and the last beginning.
    if (change.kind == Kind::relabelled || change.kind == Kind::begins)
      std::erase_if(changes, [&change](const ExpectedChange& c) {
        return c.kind == change.kind && c.partition == change.partition;
      });
    changes.push_back(std::move(change));
  }
  for (Consent& c : next.consents) {
    if (std::none_of(consents.begin(), consents.end(), same_as(c)))
      consents.push_back(std::move(c));
  }

  move_all(next.obstacles, obstacles);
  move_all(next.added, added);
  if (next.boot) boot = next.boot;
}

std::vector<Obstacle> finding_obstacles(const disk::DiskState& state) {
  std::vector<Obstacle> out;
  for (const Finding& f : state.findings) {
    if (f.severity != Severity::error) continue;
    Obstacle obstacle;
    obstacle.code = ObstacleCode::damaged;
    obstacle.finding = f.code;
    obstacle.text = f.text;
    if (const std::string where = f.place.text(); !where.empty())
      obstacle.text += " (" + where + ")";
    obstacle.remedy =
        f.code == Rule::fat_not_clean
            ? "Start the volume once under the system that owns it and close it there"
        : f.repairable ? "Put this right first: 'nuvrat check --repair' mends it, with nothing lost"
                       : "Put this right first: a rewrite of a damaged structure makes it worse";
    out.push_back(std::move(obstacle));
  }
  return out;
}

std::string volume_words(unsigned number) {
  return number == 0 ? "the volume" : fmt::format("partition {}", number);
}

}  // namespace nuvrat::plan
