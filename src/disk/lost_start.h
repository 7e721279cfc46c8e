#pragma once
// Volumes whose first sector is lost, and that a second boot sector can bring back.

#include <optional>
#include <string>

#include <nuvrat/survey.h>

#include "volume/boot_copies.h"

namespace nuvrat::disk {

struct LostStart {
  Findings findings;  ///< the first says what is lost; places are the volume's
  VolumeTotals totals;
};
/// What is said of a volume that can't be opened; none where it has no second boot sector with
/// which it can be. `trouble`: why it can't be with the first one; empty: that is none. `deep`: it
/// is checked as it would be; only then, and where one copy alone makes it sound, it can be mended.
/// `start`: the volume's first sector on the disk, for the words.
[[nodiscard]] std::optional<LostStart> look_without_start(const Device& volume,
                                                          const ReadOptions& options, bool deep,
                                                          const std::string& trouble,
                                                          std::uint64_t start);

/// The disk is one volume without a table, though its first sector may be lost.
[[nodiscard]] bool is_bare_volume(const Device& device, const TableReading& table);

/// Why the files of what seems to be no volume are not recorded; empty: it has no second boot
/// sector either.
[[nodiscard]] std::string lost_start_words(const Device& volume, const ReadOptions& options);

/// Of what can't be opened with its first sector: what its second boot sector says; empty: it has
/// none.
[[nodiscard]] std::string second_boot_words(const Device& volume, const ReadOptions& options);

/// The second boot sector to read with: the only one there is, or the only one with which the
/// volume is sound; none.
[[nodiscard]] std::optional<volume::BootCopy> likely_boot_copy(const Device& volume,
                                                               const ReadOptions& options);

}  // namespace nuvrat::disk
