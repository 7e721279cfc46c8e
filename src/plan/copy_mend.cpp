// check --repair for structures that there are two of: boot sectors, the first records of NTFS. The
// one that is lost is written from the other.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "disk/lost_start.h"
#include "ntfs/boot.h"
#include "ntfs/mirror.h"
#include "plan/repair.h"
#include "plan/volume.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

// `info`: of the volume once it is done.
steps::CopyMend mend_of(const Partition& p, const VolumeInfo& info, const ReadOptions& options) {
  steps::CopyMend out;
  out.change.place = p.range();
  out.change.number = p.number;
  out.change.serial = info.serial_number;
  out.change.cluster_bytes = info.cluster_bytes;
  out.change.made = now();
  out.change.zone = options.zone.name();
  out.change.codepage = options.codepage;
  out.change.from = out.change.to = info.kind;
  return out;
}

// `sectors`: counted from the disk's first one; the last of them is the switch.
PlanPart mend(const PlanInput& in, steps::CopyMend work, std::string title,
              std::vector<SectorWrite> sectors) {
  PlanPart out;
  if (sectors.empty()) return out;
  work.change.writes = sectors.size();
  work.title =
      std::move(title) + (work.change.number == 0 ? "" : " on " + part_name(work.change.number));
  work.last = std::move(sectors.back());
  sectors.pop_back();
  work.before = std::move(sectors);
  out.steps.push_back(Step(in.before, {std::move(work)}));
  return out;
}

// The survey has checked the volume with its second boot sector: it gets that as its first one.
PlanPart put_back_first(const PlanInput& in, const SurveyedPartition& s) {
  PlanPart out;
  const Partition& p = s.partition;
  const auto copy = disk::likely_boot_copy(Window(in.device, p.range()), in.options);
  if (!copy) return out;
  steps::CopyMend work = mend_of(p, copy->info, in.options);
  work.change.from = VolumeKind::unknown;
  ExpectedChange change;
  change.kind = ExpectedChange::Kind::opened;
  change.partition = p.id;
  change.text = name_of(copy->info.kind);
  out.changes.push_back(std::move(change));
  const bool sure = find_code(s.findings, Rule::volume_boot_lost)->severity == Severity::error;
  out.consent(
      ConsentCode::boot_sector, p.id,
      fmt::format("becomes {} again, with {}{}", title_of(copy->info.kind),
                  plural(s.totals.files, "file", "files"),
                  sure ? "" : "; a sector of another kind is overwritten"),
      fmt::format("{} in all. Sector {} gets what sector {} holds{}", format_bytes(s.totals.bytes),
                  p.start, p.start + copy->at,
                  sure ? ""
                       : ". It holds data that Nuvrat doesn't know: a system whose volume that is "
                         "would not find it any more"));
  out.append(mend(in, std::move(work),
                  fmt::format("first boot sector of {} put back", title_of(copy->info.kind)),
                  {{p.start, copy->sector}}));
  return out;
}

// NTFS's is the last sector of the partition. FAT's is mended with the rest of its structures.
PlanPart put_back_second(const PlanInput& in, const SurveyedPartition& s) {
  PlanPart out;
  const Device& device = in.device;
  const Partition& p = s.partition;
  const std::uint64_t lba = p.range().last();
  if (length_of(s) < p.sectors && !all_zero(device.read(lba)))
    out.consent(ConsentCode::slack_data, p.id,
                fmt::format("data in sector {}, after its volume's end, is overwritten", lba),
                "The second boot sector belongs there");
  out.append(mend(in, mend_of(p, *s.volume, in.options), "second boot sector of NTFS put back",
                  {{lba, ntfs::merged_boot_copy(device.read(p.start), device.read(lba))}}));
  return out;
}

PlanPart mend_records(const PlanInput& in, const SurveyedPartition& s, bool records, bool copies) {
  PlanPart out;
  const Partition& p = s.partition;
  const Window window(in.device, p.range());
  const ntfs::Volume volume(window);
  const auto add = [&](const char* title, std::vector<SectorWrite> sectors) {
    for (SectorWrite& w : sectors) w.lba += p.start;
    out.append(mend(in, mend_of(p, *s.volume, in.options), title, std::move(sectors)));
  };
  if (records) add("first records of $MFT from their copies", ntfs::mended_records(volume));
  if (copies) add("copies in $MFTMirr of the first records", ntfs::mended_copies(volume));
  return out;
}

}  // namespace

PlanPart plan_copy_mend(const PlanInput& in, const SurveyedPartition& s) {
  PlanPart out;
  if (s.partition.range().end() > in.device.sectors()) return out;
  const auto is_mended = [&s](Rule code) {
    const Finding* f = find_code(s.findings, code);
    return f != nullptr && f->repairable;
  };
  if (is_mended(Rule::volume_boot_lost)) return put_back_first(in, s);
  const auto format = s.volume ? format_of(s.volume->kind) : std::nullopt;
  if (!format || s.beyond_mending()) return out;
  switch (*format) {
    case VolumeFormat::fat:
      return out;
    case VolumeFormat::ntfs:
      break;
  }
  out = mend_records(in, s, is_mended(Rule::ntfs_first_records), is_mended(Rule::ntfs_mirror));
  if (is_mended(Rule::ntfs_boot_copy)) out.append(put_back_second(in, s));
  return out;
}

}  // namespace nuvrat::plan
