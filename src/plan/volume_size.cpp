// pN.size, pN.label: an NTFS volume changed by shadows, a FAT laid out anew.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "fat/names.h"
#include "ntfs/snapshots.h"
#include "plan/fat_label.h"
#include "plan/volume.h"
#include "steps/kinds.h"
#include "volume/kinds.h"

namespace nuvrat::plan {

bool is_editable(const SurveyedPartition& s) {
  return s.volume && format_of(s.signature.kind);
}

VolumeChange change_in_place(const SurveyedPartition& s, const ReadOptions& options) {
  VolumeChange out;
  out.place = s.partition.range();
  out.serial = s.volume->serial_number;
  out.made = now();
  out.zone = options.zone.name();
  out.codepage = options.codepage;
  out.from = out.to = s.signature.kind;
  out.number = s.partition.number;
  out.cluster_bytes = s.volume->cluster_bytes;
  return out;
}

PlanPart tell_snapshots(const Device& volume, PartitionId partition) {
  PlanPart out;
  if (ntfs::has_snapshots(volume))
    out.consent(ConsentCode::restore_points, partition, "its restore points are lost",
                "They are older states that its system keeps");
  return out;
}

PlanPart lay_out_edit(const PlanInput& in, const SurveyedPartition& s, const std::string& doing,
                      steps::EditNtfs& work) {
  PlanPart out;
  const unsigned number = s.partition.number;
  const Window window(in.device, s.partition.range());
  const auto tried = work.edit(window);
  const std::uint64_t cluster = s.volume->cluster_bytes;
  if (const auto* trouble = std::get_if<ntfs::EditTrouble>(&tried)) {
    const std::uint64_t missing = trouble->needed - std::min(trouble->needed, trouble->free);
    out.obstacle(ObstacleCode::volume_room,
                 fmt::format("{}: {}: {}", volume_words(number), doing, trouble->text(cluster)),
                 "Take files off the volume until there is more room",
                 missing * cluster / in.device.sector_size(), number);
    return out;
  }
  work.ends_snapshots = work.change.front == 0 && ntfs::has_snapshots(window);
  out.append(tell_snapshots(window, s.partition.id));
  const auto& edit = std::get<ntfs::Edit>(tried);
  work.take(edit, in.device.sector_size());
  if (edit.moved_clusters() > 0) {
    out.consent(
        ConsentCode::moved, s.partition.id,
        plural(edit.moved_clusters(), "cluster of files is copied to a free one",
               "clusters of files are copied to free ones"),
        fmt::format("{}, in front of the new end", format_bytes(edit.moved_clusters() * cluster)));
  }
  return out;
}

std::uint64_t max_sectors(const SurveyedPartition& s, std::uint32_t sector_bytes) {
  constexpr std::uint64_t max_32_bits = 0xFFFFFFFF;
  const volume::VolumeRow& row = *volume::row_of(s.volume->kind);
  return max_32_bits * (row.counts_clusters ? s.volume->cluster_bytes / sector_bytes : 1) +
         row.behind;
}

std::uint64_t length_of(const SurveyedPartition& s) {
  if (!s.volume) return s.partition.sectors;
  return s.volume->sectors + volume::row_of(s.volume->kind)->behind;
}

PlanPart require_countable(const PlanInput& in, const SurveyedPartition& s, std::uint64_t sectors) {
  PlanPart out;
  const std::uint64_t most = max_sectors(s, in.device.sector_size());
  if (sectors <= most) return out;
  out.obstacle(ObstacleCode::volume_size,
               fmt::format("{} is {}, which has {} at most{}", volume_words(s.partition.number),
                           title_of(s.signature.kind), format_bytes(most * in.device.sector_size()),
                           volume::row_of(s.signature.kind)->counts_clusters
                               ? " in clusters of " + format_bytes(s.volume->cluster_bytes)
                               : std::string()),
               "Ask for less", sectors - most, s.partition.number);
  return out;
}

namespace {

// The edit laid out, and its step.
PlanPart edited(const PlanInput& in, const SurveyedPartition& s, const std::string& doing,
                steps::EditNtfs work) {
  PlanPart out = lay_out_edit(in, s, doing, work);
  if (out.in_reach()) out.steps.push_back(Step(in.state.table.layout, {std::move(work)}));
  return out;
}

}  // namespace

PlanPart plan_volume_size(const PlanInput& in, unsigned number, std::uint64_t sectors) {
  PlanPart out;
  const SurveyedPartition* s = in.state.find(number);
  if (!is_editable(*s)) {
    out.obstacle(ObstacleCode::size_contents,
                 fmt::format("{} holds {}, whose size Nuvrat can't change", volume_words(number),
                             s->signature.description.empty() ? "unknown contents"
                                                              : s->signature.description),
                 "NTFS and FAT volumes can be made longer and shorter", 0, number);
    return out;
  }
  if (has_errors(s->findings) || has_errors(in.state.table.findings)) return out;  // said already
  out.append(require_countable(in, *s, sectors));
  if (!out.in_reach()) return out;
  switch (*format_of(s->signature.kind)) {
    case VolumeFormat::fat:
      return plan_volume_fat(in, number, {.sectors = sectors});
    case VolumeFormat::ntfs: {
      steps::EditNtfs work;
      work.change = change_in_place(*s, in.options);
      work.sectors = sectors;
      work.old_copy = s->volume->sectors;
      return edited(
          in, *s,
          fmt::format("it can't be made {} {}", format_bytes(sectors * in.device.sector_size()),
                      sectors > length_of(*s) ? "long" : "short"),
          std::move(work));
    }
  }
  return out;
}

namespace {

// As FAT spells it, where that differs in capitals alone.
std::string in_capitals(const std::string& label, const CodePage& page) {
  const std::string spelt = fat::label_for(to_utf16(label), page);
  return fold_case(to_utf16(spelt)) == fold_case(to_utf16(label)) ? spelt : label;
}

}  // namespace

PlanPart plan_volume_label(const PlanInput& in, unsigned number, const std::string& label) {
  PlanPart out;
  const SurveyedPartition* s = in.state.find(number);
  if (!is_editable(*s)) {
    out.obstacle(ObstacleCode::label_contents,
                 fmt::format("{} holds {}, whose label Nuvrat can't change", volume_words(number),
                             s->signature.description),
                 "NTFS and FAT volumes can have another label", 0, number);
    return out;
  }
  if (has_errors(s->findings) || has_errors(in.state.table.findings)) return out;  // said already
  std::string spelt = label;
  if (s->volume->label == label) {
    out.obstacle(
        ObstacleCode::already,
        fmt::format("{} has the label '{}' already", volume_words(number), printable(label)),
        "Nothing needs to be done", 0, number);
    return out;
  }
  switch (*format_of(s->signature.kind)) {
    case VolumeFormat::fat: {
      const VolumeChange change = change_in_place(*s, in.options);
      spelt = in_capitals(label, CodePage(change.codepage));
      out = plan_fat_label(in, change, spelt);
      if (out.in_reach() && spelt != label)
        out.consent(ConsentCode::label, s->partition.id,
                    fmt::format("its label becomes '{}', in capitals", printable(spelt)),
                    "FAT has no small letters in labels");
      break;
    }
    case VolumeFormat::ntfs: {
      steps::EditNtfs work;
      work.change = change_in_place(*s, in.options);
      work.relabels = true;
      work.label = label;
      out = edited(in, *s, "it can't be given another label", std::move(work));
      break;
    }
  }
  if (out.steps.empty()) return out;
  ExpectedChange change;
  change.kind = ExpectedChange::Kind::relabelled;
  change.partition = s->partition.id;
  change.text = spelt;
  out.changes.push_back(std::move(change));
  return out;
}

std::uint64_t min_sectors(const PlanInput& in, unsigned number, std::uint64_t most) {
  const SurveyedPartition* s = in.state.find(number);
  if (!is_editable(*s)) return most;
  const std::uint64_t sector = in.device.sector_size();
  const auto works = [&](std::uint64_t sectors) {
    const PlanPart trial = plan_volume_size(in, number, sectors);
    return trial.in_reach() && !trial.steps.empty();
  };
  // What is in use, and more and more above it; then between the last two.
  const std::uint64_t used =
      (s->volume->bytes - std::min(s->volume->bytes, s->volume->free_bytes)) / sector;
  std::uint64_t fails = std::max<std::uint64_t>(used, 1);
  std::uint64_t more = std::max<std::uint64_t>(16384 / sector, used / 64);
  std::uint64_t least = fails + more;
  while (least < most && !works(least)) {
    fails = least;
    more *= 2;
    least += more;
  }
  if (least >= most) least = most;
  const std::uint64_t exact = std::max<std::uint64_t>(16384 / sector, most / 1000);
  while (least - fails > exact) {
    const std::uint64_t middle = fails + (least - fails) / 2;
    (works(middle) ? least : fails) = middle;
  }
  return least;
}

}  // namespace nuvrat::plan
