#include "ntfs/boot.h"

#include <algorithm>

#include <fmt/core.h>

#include "base/record.h"
#include "ntfs/records.h"

namespace nuvrat::ntfs {
namespace {

bool power_of_two(std::uint64_t n) {
  return n != 0 && (n & (n - 1)) == 0;
}

// A size in clusters, or as a negative power of two in bytes; 0: nonsense.
std::uint64_t coded_size(std::int8_t code, std::uint64_t cluster_bytes) {
  if (code > 0) return static_cast<std::uint64_t>(code) * cluster_bytes;
  return code < -31 || code == 0 ? 0 : std::uint64_t{1} << -code;
}

}  // namespace

std::optional<Geometry> parse_boot(ByteView sector, std::string& fault) {
  const auto boot = load<Boot>(sector);
  Geometry g;
  g.sector_bytes = boot.bytes_per_sector.value();
  const unsigned code = boot.sectors_per_cluster;
  const unsigned shift = 256 - code;
  g.cluster_sectors = code <= 0x80 ? code : shift < 32 ? 1u << shift : 0;
  g.total_sectors = boot.total_sectors.value();
  g.mft_lcn = boot.mft_lcn.value();
  g.mirror_lcn = boot.mirror_lcn.value();
  g.serial = boot.serial.value();
  g.hidden_sectors = boot.hidden_sectors.value();
  fault.clear();
  if (std::string_view(boot.oem_id.data(), 8) != "NTFS    " || sector[510] != 0x55 ||
      sector[511] != 0xAA) {
    fault = "it does not name NTFS, or does not end in 55 AA";
  } else if (!power_of_two(g.sector_bytes) || g.sector_bytes < 512 || g.sector_bytes > 4096) {
    fault = fmt::format("it says {} bytes a sector", g.sector_bytes);
  } else if (!power_of_two(g.cluster_sectors) || g.cluster_bytes() > (2u << 20)) {
    fault = fmt::format("it says {:02X} sectors a cluster", code);
  } else if (g.clusters() == 0 || g.total_sectors >> 55 != 0) {
    fault = fmt::format("it says {} sectors in all", g.total_sectors);
  } else if (g.mft_lcn >= g.clusters() || g.mirror_lcn >= g.clusters() || g.mft_lcn == 0) {
    fault = fmt::format("$MFT at cluster {} and $MFTMirr at {}, of {} clusters", g.mft_lcn,
                        g.mirror_lcn, g.clusters());
  } else {
    const std::uint64_t record = coded_size(boot.clusters_per_record, g.cluster_bytes());
    const std::uint64_t index = coded_size(boot.clusters_per_index_block, g.cluster_bytes());
    if (!power_of_two(record) || record < 512 || record > 65536 || !power_of_two(index) ||
        index < 512 || index > 65536) {
      fault = fmt::format("it says records of {} bytes and index blocks of {}", record, index);
    }
    g.record_bytes = static_cast<std::uint32_t>(record);
    g.index_bytes = static_cast<std::uint32_t>(index);
  }
  if (!fault.empty()) return std::nullopt;
  return g;
}

Bytes merged_boot_copy(ByteView first, ByteView second) {
  constexpr std::size_t from = 11, serial = 72;
  std::string fault;
  Bytes out(first.begin(), first.end());
  if (!parse_boot(second, fault)) return out;
  out.assign(second.begin(), second.end());
  std::copy_n(first.begin() + from, serial - from, out.begin() + from);
  return out;
}

bool is_ntfs_boot(ByteView sector) {
  constexpr std::string_view mark = "NTFS    ";
  return sector.size() >= 3 + mark.size() &&
         std::equal(mark.begin(), mark.end(), sector.begin() + 3,
                    [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

}  // namespace nuvrat::ntfs
