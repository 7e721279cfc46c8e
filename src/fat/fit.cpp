#include "fat/fit.h"

#include <algorithm>
#include <optional>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "device/given.h"

namespace nuvrat::fat {
namespace {

constexpr std::uint64_t searched_at_once = 1u << 20;  // bytes
constexpr std::uint64_t farthest_fat = 65535;         // sectors: the field has 16 bits
constexpr std::uint64_t max_slack = 4096;  // sectors that a FAT may be longer than need be

// In the volume's own sectors.
class Search {
 public:
  Search(const Device& volume, const Geometry& geometry)
      : volume_(volume), g_(geometry), ratio_(geometry.sector_bytes / volume.sector_size()) {}

  [[nodiscard]] std::optional<Bytes> sector(std::uint64_t at) const {
    if (at >= g_.total_sectors) return std::nullopt;
    return device::read_if_given(volume_, at * ratio_, ratio_);
  }

  [[nodiscard]] bool is_head(ByteView sector) const { return begins_a_fat(sector, g_.kind); }

  /// The first sector of a range for which `is_it` says so.
  template <typename IsIt>
  [[nodiscard]] std::optional<std::uint64_t> first(std::uint64_t from, std::uint64_t end,
                                                   IsIt is_it) const {
    const std::uint64_t most = searched_at_once / g_.sector_bytes;
    end = std::min(end, g_.total_sectors);
    for (std::uint64_t at = from; at < end;) {
      const std::uint64_t count = std::min(most, end - at);
      const auto piece = device::read_if_given(volume_, at * ratio_, count * ratio_);
      for (std::uint64_t i = 0; piece && i < count; ++i) {
        if (is_it(at + i, ByteView(*piece).subspan(i * g_.sector_bytes, g_.sector_bytes)))
          return at + i;
      }
      at += count;
    }
    return std::nullopt;
  }

 private:
  const Device& volume_;
  const Geometry& g_;
  std::uint64_t ratio_;
};

// How long one FAT of such a volume can be.
std::uint64_t longest_fat(const Geometry& g) {
  return div_up((g.total_sectors / g.cluster_sectors + 2) * 4, std::uint64_t{g.sector_bytes}) +
         max_slack;
}

// The first FAT isn't where it should be, nor is any other.
std::string elsewhere(const Search& search, const Geometry& g) {
  if (g.fats < 2) return "";
  const auto there = search.first(1, farthest_fat, [&](std::uint64_t at, ByteView sector) {
    // The end of a chain within a FAT looks like a head, but for the media byte.
    if (at == g.reserved_sectors || sector[0] != g.media || !search.is_head(sector)) return false;
    const auto copy = search.sector(at + g.fat_sectors);
    return copy && std::equal(copy->begin(), copy->end(), sector.begin());
  });
  return there ? fmt::format("a FAT begins at sector {}, not at {}", *there, g.reserved_sectors)
               : "";
}

}  // namespace

std::string misfit_of(const Device& volume, const Geometry& g) {
  const Search search(volume, g);
  std::uint32_t missing = g.fats;  // the first that isn't there
  std::optional<Bytes> first;
  for (std::uint32_t copy = 0; copy < g.fats; ++copy) {
    const auto sector = search.sector(g.fat_start(copy));
    if (!sector) continue;  // what the device doesn't give says nothing
    if (!search.is_head(*sector)) {
      missing = std::min(missing, copy);
    } else if (!first) {
      first = sector;
    }
  }
  if (!first) return missing < g.fats ? elsewhere(search, g) : "";
  const auto is_copy = [&first](ByteView sector) {
    return std::equal(first->begin(), first->end(), sector.begin());
  };
  if (missing == g.fats) {
    // One more would lie where the root folder is, or on a cluster 2 that is in use.
    const bool in_use =
        g.kind != VolumeKind::fat32 || load<be::little_uint32_buf_t>(*first, 8).value() != 0;
    const auto next = in_use ? search.sector(g.root_start()) : std::nullopt;
    return next && is_copy(*next)
               ? fmt::format("a FAT begins at sector {}, after the last one", g.root_start())
               : "";
  }
  if (missing >= 2)
    return fmt::format("there are {} FATs, and no other at sector {}", missing,
                       g.fat_start(missing));
  if (missing == 0) return "";  // the second confirms the place of the first
  const auto there =
      search.first(g.fat_start(0) + 1, g.fat_start(0) + longest_fat(g),
                   [&](std::uint64_t /*at*/, ByteView sector) { return is_copy(sector); });
  return there
             ? fmt::format("the second FAT begins at sector {}, not at {}", *there, g.fat_start(1))
             : "";
}

Geometry fitting_geometry_of(const Device& volume, ByteView sector0) {
  Geometry out = geometry_of(volume, sector0);
  if (const std::string why = misfit_of(volume, out); !why.empty())
    throw Error(ErrorCode::damaged, "the volume isn't as its FAT boot sector says: " + why,
                {.sector = 0});
  return out;
}

bool contradicts(const Geometry& g, ByteView boot) {
  std::string fault;
  const auto other = parse_boot(boot, fault);
  return other &&
         (other->sector_bytes != g.sector_bytes || other->cluster_sectors != g.cluster_sectors ||
          other->reserved_sectors != g.reserved_sectors || other->fats != g.fats ||
          other->fat_sectors != g.fat_sectors || other->root_entries != g.root_entries ||
          other->total_sectors != g.total_sectors || other->root_cluster != g.root_cluster ||
          other->mirrored != g.mirrored || other->active_fat != g.active_fat ||
          other->backup_boot != g.backup_boot);
}

}  // namespace nuvrat::fat
