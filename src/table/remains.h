#pragma once
// What an old table left on a disk whose new one counts already.

#include <nuvrat/table.h>

namespace nuvrat::table {

/// EBRs of an old chain in the gaps: those that name a partition that is still there, or nothing
/// but the next link. Anything less certain is left alone.
[[nodiscard]] SectorSet old_ebrs(const Device& device, const TableReading& table);

/// Copies of a GPT on a disk with an MBR: where a header is left, it and its customary array, as
/// far as they have no owner.
[[nodiscard]] SectorSet old_gpt(const Device& device, const TableReading& table);

}  // namespace nuvrat::table
