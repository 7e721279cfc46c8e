// What a reader finds before it can find anything else: it takes records 0 to 3 from the boot
// sector's place, and learns from the first where $MFT lies.

#include <algorithm>

#include <fmt/core.h>

#include "base/record.h"
#include "ntfs/check_state.h"
#include "ntfs/fixup.h"

namespace nuvrat::ntfs {
namespace {

using RecordState = Volume::RecordState;

constexpr std::uint64_t read_blindly = 4;
constexpr std::uint64_t customary_start = 16;

// Straight from the disk, as a stranger reads it.
void check_blind_records(CheckState& state) {
  const Volume& volume = state.volume;
  const Geometry& g = volume.geometry();
  const std::uint64_t size = volume.device().sector_size();
  const std::uint64_t bytes = read_blindly * g.record_bytes;
  const std::uint64_t first = g.mft_lcn * volume.cluster_sectors();
  if (div_up(bytes, size) > volume.device().sectors() - first) return;  // said by the reader
  for (std::uint64_t i = 0; i < read_blindly; ++i) {
    if (volume.stand_ins().contains(i)) continue;  // said by itself
    const std::uint64_t at = i * g.record_bytes;
    const Bytes straight =
        volume.device().read(first + at / size, div_up(at % size + g.record_bytes, size));
    const auto begin = straight.begin() + static_cast<std::ptrdiff_t>(at % size);
    Bytes there(begin, begin + g.record_bytes);
    Bytes own;
    const bool known = volume.read_record(i, own) == RecordState::sound;
    if (!known || (unprotect(there) && there == own)) continue;
    state.error(Rule::ntfs_mft_start, i,
                "the record isn't where readers look for it before they know where $MFT is: right "
                "after the ones before it",
                g.mft_lcn);
    return;
  }
}

// Runs of $MFT, in its own bytes.
void check_mft_runs(CheckState& state, const Runs& runs) {
  const Geometry& g = state.volume.geometry();
  const std::uint64_t start = runs.empty() ? 0 : runs.front().count * g.cluster_bytes();
  if (start < std::min(customary_start, state.volume.records()) * g.record_bytes)
    state.finding(Rule::ntfs_mft_start, Severity::warning, record_mft,
                  fmt::format("only the first {} of $MFT are in one piece; {} should be",
                              format_bytes(start), format_bytes(customary_start * g.record_bytes)),
                  g.mft_lcn);
  std::uint64_t at = 0;
  for (std::size_t i = 0; i + 1 < runs.size(); ++i) {
    at += runs[i].count * g.cluster_bytes();
    if (at % g.record_bytes == 0) continue;
    state.finding(Rule::ntfs_mft_split, Severity::warning, at / g.record_bytes,
                  "the record is in two runs of $MFT: some readers take it for torn");
  }
}

// A part of $MFT's runlist is in a record that the parts before it lead to.
void check_mft_list(CheckState& state, const AttributeView& list) {
  const Geometry& g = state.volume.geometry();
  const Bytes entries = state.volume.read_all(list, 8u << 20);
  for (std::size_t at = 0; at + sizeof(AttributeListEntry) <= entries.size();) {
    const auto e = load<AttributeListEntry>(entries, at);
    if (e.length.value() < sizeof e) return;  // said by the rule of lists
    at += e.length.value();
    const std::uint64_t record = record_of(e.reference.value());
    if (e.type.value() != at_data || e.name_length != 0 || record == record_mft) continue;
    if ((record + 1) * g.record_bytes <= e.lowest_vcn.value() * g.cluster_bytes()) continue;
    state.error(Rule::ntfs_mft_extension, record,
                fmt::format("it says where $MFT goes on from cluster {}, and is itself after that",
                            e.lowest_vcn.value()));
  }
}

}  // namespace

void check_start(CheckState& state) {
  check_blind_records(state);
  const auto mft = state.system_file(record_mft);
  if (const AttributeView* data = find_attribute(mft, at_data)) check_mft_runs(state, data->runs);
  if (const AttributeView* list = find_attribute(mft, at_attribute_list))
    check_mft_list(state, *list);
  for (std::uint64_t number = 1; number < first_user_record; ++number) {
    if (!is_read_early(number)) continue;
    const auto all = state.system_file(number);
    if (find_attribute(all, at_attribute_list) != nullptr)
      state.finding(Rule::ntfs_system_list, Severity::warning, number,
                    "the record goes on in others, and is read before those can be found");
  }
}

}  // namespace nuvrat::ntfs
