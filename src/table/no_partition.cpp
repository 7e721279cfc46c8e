#include "table/no_partition.h"

#include <fmt/core.h>

namespace nuvrat::table {
namespace {

// "p1, p2 and p5"
std::string names_of(const std::vector<Partition>& partitions, bool logical_only) {
  std::vector<std::string> names;
  for (const Partition& p : partitions) {
    if (!logical_only || p.role == Role::logical) names.push_back(part_name(p.number));
  }
  std::string out;
  for (std::size_t i = 0; i < names.size(); ++i)
    out += (i == 0 ? "" : i + 1 == names.size() ? " and " : ", ") + names[i];
  return out;
}

}  // namespace

Error no_partition(const Layout& layout, unsigned number) {
  const Partition* p = layout.find(number);
  const bool extended = p != nullptr && p->role == Role::extended;
  const std::string names = names_of(layout.data_partitions(), extended);
  if (extended)
    return {ErrorCode::words,
            fmt::format("p{} is the extended partition, which holds only other partitions", number),
            {},
            names.empty() ? "It is empty" : "Name one of those in it: " + names};
  return {ErrorCode::words,
          fmt::format("there is no partition p{}", number),
          {},
          names.empty() ? "The disk has no partitions" : "The disk has " + names};
}

}  // namespace nuvrat::table
