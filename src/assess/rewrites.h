#pragma once
// The rewrites that make_rewrite chooses from.

#include <nuvrat/assessment.h>
#include <nuvrat/table.h>

namespace nuvrat {

[[nodiscard]] std::unique_ptr<Rewrite> make_gpt_aside(const Step& step);
[[nodiscard]] std::unique_ptr<Rewrite> make_gpt_home(const Step& step);
[[nodiscard]] std::unique_ptr<Rewrite> make_gpt_mend(const Step& step);
[[nodiscard]] std::unique_ptr<Rewrite> make_one_sector(const Step& step);

[[nodiscard]] std::unique_ptr<Rewrite> make_fat_to_ntfs(const Step& step, Device& device);

[[nodiscard]] std::unique_ptr<Rewrite> make_fat_change(const Step& step, Device& device);

/// How a step's volume is to be read.
[[nodiscard]] ReadOptions options_of(const VolumeChange& change);

/// Bytes 0 to 439 of LBA 0 as it was.
void keep_boot_code(ByteView sector0, ByteSpan out);
/// Zeros over the ranges, in pieces.
void wipe_sectors(SectorSink& sink, const std::vector<SectorRange>& ranges,
                  std::uint32_t sector_size, std::string_view what);
/// The entries of a GPT; both parts of its backup.
void write_entries(SectorSink& sink, const GptBytes& gpt,
                   std::string_view what = "entries of the GPT");
void write_backup(SectorSink& sink, const GptBytes& gpt);

}  // namespace nuvrat
