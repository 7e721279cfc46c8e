#pragma once
// Which of a volume's FATs is the right one, where they differ: the one that its folders agree
// with.

#include <algorithm>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "fat/fat_map.h"

namespace nuvrat::fat {

/// Where a chain that an entry names isn't as the entry says, with one copy of the FAT. The map
/// must outlive it.
class Agreement {
 public:
  /// An entry: the first cluster of its folder, 0 for the root, and its number there.
  struct Entry {
    std::uint32_t folder = 0;
    std::uint32_t index = 0;
    [[nodiscard]] std::uint64_t key() const { return std::uint64_t{folder} << 32 | index; }
  };
  /// The root folder itself has no entry.
  static constexpr Entry root{0xFFFFFFFF, 0};

  explicit Agreement(const Map& map) : map_(map), owners_(map.runs(), nobody) {}

  /// `needed`: how many clusters a file's size asks for.
  void follow(Entry entry, const Map::Chain& chain, std::uint64_t needed = 0);
  /// A folder was read; what its first entry, ".", leads to. Only the root has none.
  void begun(bool is_root, std::uint32_t folder, std::optional<std::uint32_t> leads_to) {
    if (is_root) {
      other_as_root_ = leads_to.has_value();
      return;
    }
    ++folders_;
    begun_well_ += leads_to && (*leads_to & 0xFFFF) == (folder & 0xFFFF) ? 1 : 0;
  }
  /// Why what was read can't be all of the volume, or isn't where the boot sector says.
  enum class Doubt { none, root_lost, other_as_root, folders_astray };
  [[nodiscard]] Doubt doubt() const;
  /// Of the finding; null where there is no doubt.
  [[nodiscard]] std::optional<Rule> doubt_code() const;
  /// The same for people.
  [[nodiscard]] std::string doubt_words() const;
  /// Clusters in use that no entry leads to.
  [[nodiscard]] std::uint64_t unowned() const {
    const std::uint64_t used = map_.used_clusters();
    return used - std::min(used, followed_);
  }

  /// Every chain is of one entry, ends well, and is as long as its size asks for.
  [[nodiscard]] bool whole() const { return wrong_.empty(); }
  /// And every cluster in use is of one: otherwise a folder may end too early, with nothing wrong
  /// in what is left of it.
  [[nodiscard]] bool complete() const { return whole() && unowned() == 0; }
  /// Nothing is wrong, and more of what is in use is of entries.
  [[nodiscard]] bool is_better_than(const Agreement& other) const {
    return whole() && doubt() == Doubt::none && named_ > 0 && unowned() <= followed_ &&
           (!other.whole() || other.doubt() != Doubt::none || unowned() < other.unowned());
  }

  enum class Right { first, second, unknown };
  /// Right is the copy in which nothing is wrong that isn't wrong in the other one, too, and which
  /// shows as many entries or more; the first, where both are like that. Unknown where each has
  /// something of its own.
  [[nodiscard]] static Right right_of(const Agreement& first, const Agreement& second);

 private:
  static constexpr std::uint64_t nobody = ~std::uint64_t{0};

  const Map& map_;
  std::vector<std::uint64_t> owners_;  // by run of the map: whose chain it is in
  std::vector<std::uint64_t> wrong_;
  std::uint64_t followed_ = 0;  // clusters
  std::uint64_t entries_ = 0;
  std::uint64_t named_ = 0;  // entries but the root
  std::uint64_t folders_ = 0, begun_well_ = 0;
  bool other_as_root_ = false;
};

/// What of one FAT may be written over another one: the entries of which the rest of the volume
/// says that they are right. What nothing decides stays as it is in both.
class CopyMerge {
 public:
  /// `media`: the boot sector's media byte. `owned`: clusters of files and folders, by the right
  /// FAT. `complete`: these are all that are in use there.
  CopyMerge(const Geometry& geometry, std::uint8_t media, std::vector<ClusterRange> owned,
            bool complete);
  struct Counts {
    std::uint64_t decided = 0;  ///< entries that differ, and are taken from the right FAT
    std::uint64_t left = 0;     ///< that differ, and stay
  };
  /// Bytes of both FATs from byte `at` on: whole entries, of FAT12 all of them. `other` becomes
  /// what it is to be.
  Counts merge(std::uint64_t at, ByteView right, ByteSpan other) const;

 private:
  [[nodiscard]] bool decides(std::uint32_t cluster, std::uint32_t right, std::uint32_t other) const;
  [[nodiscard]] bool is_owned(std::uint32_t cluster) const;

  const Geometry& geometry_;
  std::uint8_t media_;
  std::vector<ClusterRange> owned_;
  bool complete_;
};

/// What a second boot sector is to hold: of one that isn't a boot sector all of the first, else
/// what the rest of the volume decides (where things lie, its version). Serial number, label and
/// code stay: nothing says which of two is right.
[[nodiscard]] Bytes merged_boot_copy(ByteView first, ByteView second);
/// The first with what the second says better: the version of FAT32, of which there is but one, and
/// the media byte where it is that of the FAT.
[[nodiscard]] Bytes merged_boot(ByteView first, ByteView second,
                                std::optional<std::uint8_t> fat_media);

/// "the second one", "number 3"
[[nodiscard]] std::string ordinal_fat(std::uint32_t copy);

}  // namespace nuvrat::fat
