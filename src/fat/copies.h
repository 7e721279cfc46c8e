#pragma once
// Which of a volume's FATs is the right one, where they differ: the one that its folders agree
// with.

#include <cstdint>
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
  /// Every chain is of one entry, ends well, and is as long as its size asks for.
  [[nodiscard]] bool whole() const { return wrong_.empty(); }
  /// And every cluster in use is of one: otherwise a folder may end too early, with nothing wrong
  /// in what is left of it.
  [[nodiscard]] bool complete() const { return whole() && followed_ >= map_.used_clusters(); }

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
};

/// "the second one", "number 3"
[[nodiscard]] std::string ordinal_fat(std::uint32_t copy);

}  // namespace nuvrat::fat
