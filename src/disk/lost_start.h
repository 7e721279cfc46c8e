#pragma once
// Volumes whose first sector is lost, and that a second boot sector can bring back.

#include <optional>
#include <string>

#include <nuvrat/survey.h>

#include "volume/boot_copies.h"

namespace nuvrat::disk {

/// What is said of such a volume; false, and nothing, where it has no second boot sector with which
/// it can be opened. `trouble`: why it can't be with the first one; empty: that is none. `deep`: it
/// is checked as it would be, and what the check finds is said, too.
bool note_lost_start(const Device& volume, const ReadOptions& options, bool deep,
                     const std::string& trouble, SurveyedPartition& out);

/// The disk is one volume without a table, though its first sector may be lost.
[[nodiscard]] bool is_bare_volume(const Device& device, const TableReading& table);

/// Why the files of what seems to be no volume are not recorded; empty: it has no second boot
/// sector either.
[[nodiscard]] std::string lost_start_words(const Device& volume, const ReadOptions& options);

/// Of what can't be opened with its first sector: what its second boot sector says; empty: it has
/// none.
[[nodiscard]] std::string second_boot_words(const Device& volume, const ReadOptions& options);

/// The one to look at the volume with: the only one there is, or the only one with which it is
/// sound; none.
[[nodiscard]] std::optional<volume::BootCopy> boot_copy_to_read_with(const Device& volume,
                                                                     const ReadOptions& options);
/// The one that can be put back: the only one with which the volume is sound; none.
[[nodiscard]] std::optional<volume::BootCopy> good_boot_copy(const Device& volume,
                                                             const ReadOptions& options);

}  // namespace nuvrat::disk
