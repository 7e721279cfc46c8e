#pragma once
// How a system names a partition: in its boot store, and where it keeps drive letters.

#include <optional>
#include <vector>

#include <nuvrat/layout.h>

namespace nuvrat::boot {

struct PartitionName {
  bool gpt = false;
  Guid partition, disk;         ///< GPT
  std::uint32_t signature = 0;  ///< MBR: of the disk
  std::uint64_t offset = 0;     ///< MBR: in bytes
  bool operator==(const PartitionName&) const = default;
};

[[nodiscard]] PartitionName name_of(const Layout& layout, const Partition& p);
/// Which partition of this layout is called that, or null: it's another disk's, or none.
[[nodiscard]] const Partition* named_by(const Layout& layout, const PartitionName& name);

/// The element of a boot store that names a partition: 88 bytes.
[[nodiscard]] Bytes device_element(const PartitionName& name);
/// None for whatever doesn't look exactly like that.
[[nodiscard]] std::optional<PartitionName> read_device_element(ByteView element);

/// The names of partitions inside of a longer element, such as that of a disk in memory which is
/// read from a file: where each block begins, and whom it names.
struct NestedName {
  std::size_t at = 0;
  PartitionName name;
};
[[nodiscard]] std::vector<NestedName> nested_names(ByteView element);
/// The element with other names in those blocks; flags and length stay.
[[nodiscard]] Bytes renamed_inside(const Bytes& element, const std::vector<NestedName>& names);

/// What is at a drive letter. GPT: only the partition's GUID.
[[nodiscard]] Bytes letter_value(const PartitionName& name);
[[nodiscard]] std::optional<PartitionName> read_letter_value(ByteView value);

}  // namespace nuvrat::boot
