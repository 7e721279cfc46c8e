#include "fat/copies.h"

#include <algorithm>
#include <utility>

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

std::optional<Rule> Agreement::doubt_code() const {
  switch (doubt()) {
    case Doubt::root_lost:
      return Rule::fat_root_lost;
    case Doubt::other_as_root:
    case Doubt::folders_astray:
      return Rule::fat_folders_astray;
    case Doubt::none:
      break;
  }
  return std::nullopt;
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

namespace {

std::uint32_t ones_of(VolumeKind kind) {
  return kind == VolumeKind::fat12 ? 0xFFF : kind == VolumeKind::fat16 ? 0xFFFF : 0x0FFFFFFF;
}

// An entry of a FAT, or of a part of one that begins with a whole entry.
struct EntryView {
  VolumeKind kind;

  [[nodiscard]] std::size_t count(std::size_t bytes) const {
    return kind == VolumeKind::fat12 ? bytes * 2 / 3 : bytes / width();
  }
  [[nodiscard]] std::size_t width() const { return kind == VolumeKind::fat16 ? 2 : 4; }
  [[nodiscard]] std::uint32_t get(ByteView bytes, std::size_t i) const {
    if (kind == VolumeKind::fat12) {
      const std::uint32_t pair = bytes[i + i / 2] | std::uint32_t{bytes[i + i / 2 + 1]} << 8;
      return (i & 1) != 0 ? pair >> 4 : pair & 0xFFF;
    }
    std::uint32_t out = 0;
    for (std::size_t k = width(); k > 0; --k) out = out << 8 | bytes[i * width() + k - 1];
    return out & ones_of(kind);
  }
  // One entry of `from`, with the upper four bits of FAT32, which mean nothing.
  void copy(ByteView from, std::size_t i, ByteSpan to) const {
    if (kind == VolumeKind::fat12) {
      const std::size_t at = i + i / 2;
      const std::uint8_t low = (i & 1) != 0 ? 0xF0 : 0xFF, high = (i & 1) != 0 ? 0xFF : 0x0F;
      to[at] = static_cast<std::uint8_t>((to[at] & ~low) | (from[at] & low));
      to[at + 1] = static_cast<std::uint8_t>((to[at + 1] & ~high) | (from[at + 1] & high));
      return;
    }
    const auto begin = from.begin() + static_cast<std::ptrdiff_t>(i * width());
    std::copy_n(begin, width(), to.begin() + static_cast<std::ptrdiff_t>(i * width()));
  }
};

}  // namespace

CopyMerge::CopyMerge(const Geometry& geometry, std::uint8_t media, std::vector<ClusterRange> owned,
                     bool complete)
    : geometry_(geometry), media_(media), owned_(std::move(owned)), complete_(complete) {
  std::sort(owned_.begin(), owned_.end(),
            [](const ClusterRange& a, const ClusterRange& b) { return a.first < b.first; });
}

bool CopyMerge::is_owned(std::uint32_t cluster) const {
  const auto after =
      std::upper_bound(owned_.begin(), owned_.end(), cluster,
                       [](std::uint32_t c, const ClusterRange& r) { return c < r.first; });
  if (after == owned_.begin()) return false;
  const ClusterRange& r = *std::prev(after);
  return cluster - r.first < r.count;
}

bool CopyMerge::decides(std::uint32_t cluster, std::uint32_t right, std::uint32_t other) const {
  const std::uint32_t ones = ones_of(geometry_.kind);
  if (cluster == 0) return right == ((ones & ~0xFFu) | media_);
  if (cluster == 1) {
    // Ones but for two flags that say whether the volume is in order, of which each has its word.
    const std::uint32_t flags = geometry_.kind == VolumeKind::fat32   ? 0x0C000000
                                : geometry_.kind == VolumeKind::fat16 ? 0xC000
                                                                      : 0;
    const auto is_one = [&](std::uint32_t entry) { return (entry | flags | 7) == ones; };
    return is_one(right) && !is_one(other);
  }
  if (is_owned(cluster)) return true;
  const bool other_is_bad = other == (ones & ~8u);
  return complete_ && !other_is_bad;
}

CopyMerge::Counts CopyMerge::merge(std::uint64_t at, ByteView right, ByteSpan other) const {
  Counts out;
  const EntryView view{geometry_.kind};
  const auto first =
      static_cast<std::uint32_t>(geometry_.kind == VolumeKind::fat12 ? 0 : at / view.width());
  const std::uint64_t end = std::uint64_t{geometry_.last_cluster()} + 1;
  const std::size_t count =
      std::min<std::uint64_t>(view.count(right.size()), end > first ? end - first : 0);
  for (std::size_t i = 0; i < count; ++i) {
    const std::uint32_t is = view.get(right, i), was = view.get(other, i);
    if (is == was) continue;
    const std::uint32_t cluster = first + static_cast<std::uint32_t>(i);
    const bool take = decides(cluster, is, was);
    if (!take && cluster == 0 && decides(cluster, was, is)) continue;  // the other way round
    ++(take ? out.decided : out.left);
    if (take) view.copy(right, i, other);
  }
  // Bytes behind the last entry, and bits without a meaning, are copied with the entries.
  if (out.decided > 0 && out.left == 0) std::copy(right.begin(), right.end(), other.begin());
  return out;
}

Bytes merged_boot_copy(ByteView first, ByteView second) {
  std::string fault;
  Bytes out(first.begin(), first.end());
  if (!parse_boot(second, fault)) return out;
  out.assign(second.begin(), second.end());
  const auto take = [&](std::size_t from, std::size_t to) {
    std::copy(first.begin() + static_cast<std::ptrdiff_t>(from),
              first.begin() + static_cast<std::ptrdiff_t>(to),
              out.begin() + static_cast<std::ptrdiff_t>(from));
  };
  take(11, 21);  // sectors, clusters, FATs
  take(22, 24);
  take(32, 42);  // length, flags of the FATs
  take(44, 52);  // root, FSInfo, this very copy
  for (const std::size_t version : {std::size_t{42}, std::size_t{43}}) {
    if (first[version] == 0) out[version] = 0;  // there is no other
  }
  return out;
}

Bytes merged_boot(ByteView first, ByteView second, std::optional<std::uint8_t> fat_media) {
  std::string fault;
  Bytes out(first.begin(), first.end());
  if (!parse_boot(second, fault)) return out;
  constexpr std::size_t media = 21, version = 42;
  if (fat_media && second[media] == *fat_media) out[media] = *fat_media;
  if (second[version] == 0 && second[version + 1] == 0) out[version] = out[version + 1] = 0;
  return out;
}

std::string ordinal_fat(std::uint32_t copy) {
  return copy == 1 ? "the second one" : fmt::format("number {}", copy + 1);
}

}  // namespace nuvrat::fat
