#include <algorithm>
#include <tuple>
#include <utility>

#include <fmt/core.h>

#include <nuvrat/layout.h>

namespace nuvrat {

const char* name_of(TableKind kind) {
  switch (kind) {
    case TableKind::none:
      return "none";
    case TableKind::mbr:
      return "mbr";
    case TableKind::gpt:
      return "gpt";
  }
  return "none";
}

const char* name_of(Role role) {
  switch (role) {
    case Role::primary:
      return "primary";
    case Role::extended:
      return "extended";
    case Role::logical:
      return "logical";
    case Role::gpt:
      return "gpt";
  }
  return "primary";
}

bool Partition::operator==(const Partition& other) const {
  const auto said = [](const Partition& p) {
    return std::tie(p.number, p.role, p.start, p.sectors, p.type, p.name, p.unique_id, p.attributes,
                    p.active, p.table_sector);
  };
  return said(*this) == said(other);
}

const Partition* Layout::find(unsigned number) const {
  const auto it = std::find_if(partitions.begin(), partitions.end(),
                               [number](const Partition& p) { return p.number == number; });
  return it == partitions.end() ? nullptr : &*it;
}

Partition* Layout::find(unsigned number) {
  return const_cast<Partition*>(std::as_const(*this).find(number));
}

const Partition* Layout::find(PartitionId id) const {
  const auto it = std::find_if(partitions.begin(), partitions.end(),
                               [id](const Partition& p) { return p.id == id; });
  return id == PartitionId::none || it == partitions.end() ? nullptr : &*it;
}

const Partition* Layout::at(std::uint64_t start) const {
  const auto it = std::find_if(partitions.begin(), partitions.end(), [start](const Partition& p) {
    return p.start == start && p.role != Role::extended;
  });
  return it == partitions.end() ? nullptr : &*it;
}

const Partition* Layout::extended() const {
  const auto it = std::find_if(partitions.begin(), partitions.end(),
                               [](const Partition& p) { return p.role == Role::extended; });
  return it == partitions.end() ? nullptr : &*it;
}

std::vector<Partition> Layout::data_partitions() const {
  std::vector<Partition> out;
  std::copy_if(partitions.begin(), partitions.end(), std::back_inserter(out),
               [](const Partition& p) { return p.role != Role::extended; });
  return out;
}

void Layout::sort() {
  std::stable_sort(partitions.begin(), partitions.end(),
                   [](const Partition& a, const Partition& b) {
                     return std::tuple(a.start, a.role != Role::extended, a.number) <
                            std::tuple(b.start, b.role != Role::extended, b.number);
                   });
}

void Layout::give_ids() {
  std::uint32_t last = 0;
  for (Partition& p : partitions)
    p.id = p.role == Role::extended ? PartitionId::none : PartitionId{++last};
}

std::string Layout::id_text() const {
  if (kind == TableKind::mbr) return fmt::format("{:08X}", disk_signature);
  if (kind == TableKind::gpt) return disk_guid.text();
  return "";
}

SectorRange Layout::usable() const {
  const std::uint64_t first = std::max(first_usable, gpt_first_usable(sector_size));
  const std::uint64_t end = std::min(last_usable + 1, gpt_usable_end(disk_sectors, sector_size));
  return {first, end > first ? end - first : 0};
}

std::uint64_t gpt_array_sectors(std::uint32_t sector_size) {
  return 16384 / sector_size;
}
std::uint64_t gpt_first_usable(std::uint32_t sector_size) {
  return 2 + gpt_array_sectors(sector_size);
}

std::uint64_t gpt_usable_end(std::uint64_t disk_sectors, std::uint32_t sector_size) {
  const std::uint64_t backup = gpt_array_sectors(sector_size) + 1;
  return disk_sectors - std::min(disk_sectors, backup);
}

std::string part_name(unsigned number) {
  return number == 0 ? "volume" : fmt::format("p{}", number);
}

}  // namespace nuvrat
