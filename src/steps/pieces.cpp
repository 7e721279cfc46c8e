#include "steps/pieces.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

namespace nuvrat::steps {

void keep_boot_code(ByteView sector0, ByteSpan out) {
  constexpr std::size_t code_bytes = 440;
  std::copy_n(sector0.begin(), std::min(code_bytes, sector0.size()), out.begin());
}

void wipe_sectors(SectorSink& sink, const std::vector<SectorRange>& ranges,
                  std::uint32_t sector_size, std::string_view what) {
  sink.purpose(what);
  constexpr std::uint64_t piece = 256;
  for (const SectorRange& range : ranges) {
    for (std::uint64_t at = 0; at < range.count; at += piece) {
      const std::uint64_t count = std::min(piece, range.count - at);
      sink.write(range.first + at, Bytes(count * sector_size));
    }
  }
}

void write_entries(SectorSink& sink, const GptBytes& gpt, std::string_view what) {
  sink.purpose(what);
  sink.write(gpt.array.lba, gpt.array.data);
}

void write_backup(SectorSink& sink, const GptBytes& gpt) {
  sink.purpose("backup of the GPT");
  sink.write(gpt.backup_array.lba, gpt.backup_array.data);
  sink.write(gpt.backup_header.lba, gpt.backup_header.data);
}

std::string remains_words(const std::vector<SectorRange>& remains) {
  return fmt::format("The change is in effect; {} of the old table {} still to be wiped.",
                     plural(remains.size(), "remain", "remains"),
                     remains.size() == 1 ? "is" : "are");
}

Exemption backup_exemption(const GptBytes& gpt, std::uint32_t sector_size) {
  return {{{gpt.backup_array.lba, gpt_array_sectors(sector_size)}, {gpt.backup_header.lba, 1}},
          "the backup of the GPT is a copy: the primary counts"};
}

}  // namespace nuvrat::steps
