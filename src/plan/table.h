#pragma once
// Tables in two halves: the layout that is wanted, and the steps from the one that there is to it.

#include <map>
#include <optional>
#include <vector>

#include "plan/part.h"

namespace nuvrat::plan {

/// What a table is to say of a partition that is in it.
struct PartitionWish {
  bool gone = false;
  std::optional<Role> role{};
  std::optional<bool> active{};
  std::optional<std::string> name{};
  std::optional<PartitionType> type{};
  std::optional<std::uint64_t> sectors{};  ///< another length
  std::optional<std::uint64_t> start{};    ///< it begins there, and ends where it did
  bool operator==(const PartitionWish&) const = default;
};

/// What a table is to become. A value.
struct TableWish {
  std::optional<TableKind> kind{};
  std::map<PartitionId, PartitionWish> partitions{};
  std::vector<Partition> made{};  ///< new ones, with the number 0
  bool start_code = false;        ///< LBA 0 needs code

  [[nodiscard]] bool empty() const { return *this == TableWish{}; }
  /// Nothing but another kind of table.
  [[nodiscard]] bool only_kind() const;
  [[nodiscard]] bool is_gone(PartitionId id) const;
  /// Those that are wished.
  [[nodiscard]] std::map<PartitionId, Role> roles() const;
  bool operator==(const TableWish&) const = default;
};

/// The table that is wished for.
[[nodiscard]] PlanPart plan_table(const PlanInput& input, const TableWish& wish);
/// An MBR becomes a GPT.
[[nodiscard]] PlanPart plan_table_gpt(const PlanInput& input, const TableWish& wish);
/// A GPT becomes an MBR, or an MBR gets other roles or another active partition.
[[nodiscard]] PlanPart plan_table_mbr(const PlanInput& input, const TableWish& wish);
/// The same roles with a container and a chain made anew, whatever is wrong with the old.
[[nodiscard]] PlanPart plan_chain_repair(const PlanInput& input);
/// Names, types and the legacy-bootable attribute inside a GPT.
[[nodiscard]] PlanPart plan_gpt_change(const PlanInput& input, const TableWish& wish);
/// Obstacles for partitions that are where a GPT of 128 entries has its sectors, or beyond them.
[[nodiscard]] PlanPart require_room_for_gpt(const Layout& target);

/// A layout that is wanted, and what is written besides what it says.
struct TableTarget {
  Layout layout{};
  bool new_chain = false;   ///< EBRs are made anew whether or not a role changes
  bool start_code = false;  ///< LBA 0 needs code
};
/// The steps from the table as it is to the target, and the layout that they end in: an MBR may
/// have its EBRs in better places. Boot sectors of volumes follow. An obstacle where there is no
/// room for what is written on the way.
[[nodiscard]] PlanPart table_steps(const PlanInput& input, const TableTarget& target);
[[nodiscard]] PlanPart mbr_steps(const PlanInput& input, const TableTarget& target);
[[nodiscard]] PlanPart gpt_change_steps(const PlanInput& input, const Layout& target);

/// A step that lets a volume's boot sector say where the volume begins; none where it does.
[[nodiscard]] std::optional<Step> set_hidden_sectors(const Device& device, const Layout& layout,
                                                     const SurveyedPartition& volume);
/// The same for volumes that begin elsewhere, by their table, than they did, and for the one that
/// legacy firmware boots.
[[nodiscard]] std::vector<Step> follow_hidden_sectors(const PlanInput& input, const Layout& after);

/// Leaves out what is to be gone, and sets the lengths.
void apply_room(const TableWish& wish, std::vector<Partition>& partitions);
/// Sets active, names and types as wished; one active at most.
void apply_small_wishes(const TableWish& wish, Layout& layout);

/// A new MBR gets code that starts the active partition: there is no code, and the disk had a GPT,
/// or needs it.
[[nodiscard]] bool gets_start_code(const TableReading& before, bool needed);

}  // namespace nuvrat::plan
