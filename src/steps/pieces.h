#pragma once
// What several kinds of step write alike.

#include <vector>

#include <nuvrat/rewrite.h>
#include <nuvrat/table.h>

namespace nuvrat::steps {

/// Bytes 0 to 439 of LBA 0 as it was.
void keep_boot_code(ByteView sector0, ByteSpan out);
/// Zeros over the ranges, in pieces.
void wipe_sectors(SectorSink& sink, const std::vector<SectorRange>& ranges,
                  std::uint32_t sector_size, std::string_view what);
/// The entries of a GPT; both parts of its backup.
void write_entries(SectorSink& sink, const GptBytes& gpt,
                   std::string_view what = "entries of the GPT");
void write_backup(SectorSink& sink, const GptBytes& gpt);
/// "The change is in effect; 3 remains of the old table are still to be wiped."
[[nodiscard]] std::string remains_words(const std::vector<SectorRange>& remains);
/// Where the backup is, as an exemption from the guard.
[[nodiscard]] Exemption backup_exemption(const GptBytes& gpt, std::uint32_t sector_size);

}  // namespace nuvrat::steps
