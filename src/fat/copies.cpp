#include "fat/copies.h"

#include <algorithm>

#include <fmt/core.h>

namespace nuvrat::fat {

void Agreement::follow(Entry entry, const Map::Chain& chain, std::uint64_t needed) {
  // A longer one may be true: its file was being written, and the entry is of before.
  if (!chain.sound() || chain.clusters < needed) wrong_.push_back(entry.key());
  ++entries_;
  named_ += entry.key() == root.key() ? 0 : 1;
  followed_ += chain.clusters;
  for (const ClusterRange& r : chain.ranges) {
    // Chains that meet go on together, to the end of a run.
    std::uint64_t& owner = owners_[map_.run_with(r.first)];
    if (owner != nobody) {
      wrong_.push_back(owner);
      wrong_.push_back(entry.key());
    }
    owner = entry.key();
  }
}

Agreement::Doubt Agreement::doubt() const {
  if (other_as_root_) return Doubt::other_as_root;
  if (unowned() == 0) return Doubt::none;
  if (named_ == 0) return Doubt::root_lost;
  return folders_ > 0 && begun_well_ == 0 ? Doubt::folders_astray : Doubt::none;
}

const char* Agreement::doubt_code() const {
  switch (doubt()) {
    case Doubt::root_lost:
      return "fat.root-lost";
    case Doubt::other_as_root:
    case Doubt::folders_astray:
      return "fat.folders-astray";
    case Doubt::none:
      break;
  }
  return nullptr;
}

std::string Agreement::doubt_words() const {
  const std::string lost = fmt::format("{} clusters in use belong to no file", unowned());
  switch (doubt()) {
    case Doubt::root_lost:
      return "the root folder shows nothing, and " + lost +
             ": it is lost, or isn't where the boot sector says";
    case Doubt::other_as_root:
      return "the root folder begins with '.', as only others do: the boot sector leads to another";
    case Doubt::folders_astray:
      return "no folder begins as a folder does, and " + lost +
             ": they aren't where the boot sector says";
    case Doubt::none:
      break;
  }
  return "";
}

Agreement::Right Agreement::right_of(const Agreement& first, const Agreement& second) {
  const auto sorted = [](std::vector<std::uint64_t> wrong) {
    std::sort(wrong.begin(), wrong.end());
    wrong.erase(std::unique(wrong.begin(), wrong.end()), wrong.end());
    return wrong;
  };
  const std::vector<std::uint64_t> one = sorted(first.wrong_);
  const std::vector<std::uint64_t> other = sorted(second.wrong_);
  const auto holds = [](const auto& larger, const auto& smaller) {
    return std::includes(larger.begin(), larger.end(), smaller.begin(), smaller.end());
  };
  if (holds(other, one) && first.entries_ >= second.entries_) return Right::first;
  if (holds(one, other) && second.entries_ >= first.entries_) return Right::second;
  return Right::unknown;
}

std::string ordinal_fat(std::uint32_t copy) {
  return copy == 1 ? "the second one" : fmt::format("number {}", copy + 1);
}

}  // namespace nuvrat::fat
