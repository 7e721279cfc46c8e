// What others keep on the disk where no table and no volume says so: layers with an account of
// their own, and data in gaps.

#include "plan/bystanders.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>

#include "plan/volume.h"
#include "volume/kinds.h"

namespace nuvrat::plan {
namespace {

// Sectors that hold anything but zeros, or can't be read: what they hold isn't known.
struct Looked {
  std::uint64_t used = 0, unreadable = 0, at = 0;

  // At both ends of a long range, and at places between.
  void look(const Device& device, SectorRange range) {
    constexpr std::uint64_t each_end = 4096, places = 64, each_place = 128;
    const std::uint64_t end = std::min(range.end(), device.sectors());
    const std::uint64_t middle = std::min(end, range.first + each_end);
    const std::uint64_t last = std::max(middle, end - std::min(end, each_end));
    look_from_to(device, range.first, middle);
    const std::uint64_t apart = std::max((last - middle) / places, each_place);
    for (std::uint64_t lba = middle; lba < last; lba += apart)
      look_from_to(device, lba, std::min(last, lba + each_place));
    look_from_to(device, last, end);
  }
  void look_from_to(const Device& device, std::uint64_t first, std::uint64_t end) {
    constexpr std::uint64_t piece = 128;
    for (std::uint64_t lba = first; lba < end; lba += piece) {
      const std::uint64_t count = std::min(piece, end - lba);
      if (take(device, lba, count)) continue;
      for (std::uint64_t i = 0; i < count; ++i) {
        if (!take(device, lba + i, 1)) ++at, ++used, ++unreadable;
      }
    }
  }
  // False: the device doesn't give all of them.
  bool take(const Device& device, std::uint64_t lba, std::uint64_t count) {
    try {
      const Bytes bytes = device.read(lba, count);
      const std::size_t size = device.sector_size();
      for (std::size_t i = 0; i < count; ++i)
        used += all_zero(ByteView(bytes).subspan(i * size, size)) ? 0 : 1;
    } catch (const Error& e) {
      if (e.code() != ErrorCode::device_read) throw;
      return false;
    }
    at += count;
    return true;
  }
  [[nodiscard]] std::string text() const {
    return fmt::format("{} of {} looked at hold data{}", format_count(used),
                       plural(at, "sector", "sectors"), unreadable_words());
  }
  [[nodiscard]] std::string unreadable_words() const {
    return unreadable == 0 ? "" : fmt::format(" ({} can't be read)", format_count(unreadable));
  }
};

class Overwritten {
 public:
  Overwritten(const Device& device, const Survey& survey, const SectorSet& written,
              const Assessment& planned)
      : device_(device), survey_(survey), written_(written), planned_(planned) {
    tables_ = survey.table.owned;
    tables_.add(survey.table.copies);
    tables_.add({0, 1});
    for (const Partition& p : planned.before.data_partitions()) parts_.add(p.range());
  }

  PlanPart tell() {
    members();
    if (!out_.in_reach()) return std::move(out_);
    between_partitions();
    taken_by_partitions();
    after_volumes();
    return std::move(out_);
  }

 private:
  // A partition that is a member of a RAID may be named in another table. What is in it is the
  // RAID's.
  void members() {
    for (const SurveyedPartition& s : survey_.partitions) {
      const SectorRange place = s.partition.range();
      if (find_code(s.findings, Rule::volume_raid_member) == nullptr || !is_written(place))
        continue;
      out_.obstacle(ObstacleCode::raid_member,
                    fmt::format("{} is a member of a RAID, whose other members would no longer be "
                                "the same",
                                volume_words(s.partition.number)),
                    "Take it out of the RAID with the system that manages it", 0,
                    s.partition.number);
    }
  }

  [[nodiscard]] bool is_written(const SectorRange& place) const {
    return written_.first_overlap(place) || changes_volume(place, false);
  }
  [[nodiscard]] bool beyond(const SectorRange& place) const {
    return place.end() > device_.sectors() || place.count == 0;
  }
  // `length`: also where it ends, or all of it.
  [[nodiscard]] bool changes_volume(const SectorRange& place, bool length) const {
    return std::any_of(planned_.steps.begin(), planned_.steps.end(), [&](const Step& step) {
      const VolumeChange* volume = step.volume();
      if (volume == nullptr || !volume->place.overlaps(place)) return false;
      return !length || volume->anew || is_resized(volume->number);
    });
  }
  [[nodiscard]] bool is_resized(unsigned number) const {
    return std::any_of(planned_.goals.begin(), planned_.goals.end(), [&](const Goal& g) {
      const bool length = g.stage() == GoalStage::sizes || g.stage() == GoalStage::fronts;
      return length && g.partition() == number;
    });
  }

  void between_partitions() {
    SectorSet outside = written_;
    outside.remove(tables_);
    outside.remove(parts_);
    for (const Partition& p : planned_.after.data_partitions()) outside.remove(p.range());
    const std::vector<SectorRange> parts = parts_.ranges();
    SectorSet front, between, end;
    for (const SectorRange& range : outside) {
      if (!parts.empty() && range.last() < parts.front().first) {
        front.add(range);
      } else if (!parts.empty() && range.first >= parts.back().end()) {
        end.add(range);
      } else {
        between.add(range);
      }
    }
    tell_outside(front, ConsentCode::loader_code, "boot loader code, most likely, is overwritten");
    tell_outside(end, ConsentCode::data_at_end, "data after the last partition is overwritten");
    tell_outside(between, ConsentCode::gap_data, "data outside partitions is overwritten");
  }

  void tell_outside(const SectorSet& sectors, ConsentCode code, const char* what) {
    Looked all;
    std::string where;
    for (const SectorRange& range : sectors) {
      const std::uint64_t before = all.used;
      all.look(device_, range);
      if (all.used > before) where += (where.empty() ? "" : ", ") + range.text();
    }
    if (all.used == 0) return;
    out_.consent(code, PartitionId::none,
                 fmt::format("{} ({})", what, plural(all.used, "sector", "sectors")),
                 fmt::format("Sectors {}{}", where, all.unreadable_words()));
  }

  // Gaps that become part of a partition.
  void taken_by_partitions() {
    for (const Partition& p : planned_.after.data_partitions()) {
      SectorSet taken{p.range()};
      taken.remove(parts_);
      taken.remove(tables_);
      const SurveyedPartition* was = survey_of(p.id);
      for (const SectorRange& range : taken) {
        Looked looked;
        looked.look(device_, range);
        if (looked.used == 0) continue;
        const std::string data = looked.text() + " that no partition owns" + volume_at(range);
        if (was == nullptr) {
          const bool written = changes_volume(p.range(), false);
          out_.consent(ConsentCode::gap_data, p.id,
                       written ? "data in its gap becomes free room, or is overwritten"
                               : "a system may take data in its gap for a volume",
                       fmt::format("From sector {}: {}", p.start, data));
          continue;
        }
        const bool in_front = range.first < was->partition.start;
        out_.consent(ConsentCode::gap_data, p.id,
                     fmt::format("data {} it becomes its volume's free room",
                                 in_front ? "in front of" : "after"),
                     data);
      }
    }
  }

  // Where a volume begins that no partition names.
  [[nodiscard]] std::string volume_at(SectorRange range) const {
    const Window window(device_,
                        {range.first, std::min(range.count, device_.sectors() - range.first)});
    const VolumeSignature there = recognise_volume(window);
    if (there.kind != VolumeKind::unknown)
      return fmt::format("; a volume begins there ({}), as after a partition was deleted",
                         there.description);
    const std::string trace = volume::trace_of_volume(window);
    return trace.empty() ? "" : fmt::format("; a volume may begin there ({})", trace);
  }

  // Null: a new partition.
  [[nodiscard]] const SurveyedPartition* survey_of(PartitionId id) const {
    const auto it = std::find_if(survey_.partitions.begin(), survey_.partitions.end(),
                                 [id](const SurveyedPartition& s) { return s.partition.id == id; });
    return id == PartitionId::none || it == survey_.partitions.end() ? nullptr : &*it;
  }

  // A volume shorter than its partition, which another one fills.
  void after_volumes() {
    for (const SurveyedPartition& s : survey_.partitions) {
      const SectorRange place = s.partition.range();
      if (!s.volume || beyond(place) || length_of(s) >= place.count) continue;
      if (!changes_volume(place, true)) continue;
      const SectorRange rest{place.first + length_of(s), place.count - length_of(s)};
      Looked looked;
      looked.look(device_, rest);
      if (looked.used == 0) continue;
      out_.consent(ConsentCode::slack_data, s.partition.id,
                   "data after its volume's end becomes free room, or is overwritten",
                   looked.text() + " there that the volume doesn't own");
    }
  }

  const Device& device_;
  const Survey& survey_;
  const SectorSet& written_;
  const Assessment& planned_;
  PlanPart out_;
  SectorSet tables_, parts_;
};

}  // namespace

PlanPart require_nobody_elses(const disk::DiskState& state) {
  PlanPart out;
  for (const SurveyedPartition& s : state.volumes) {
    if (class_of(s.partition.type) != TypeClass::managed) continue;
    out.obstacle(ObstacleCode::managed,
                 fmt::format("partition {} ({}) is managed by a layer that keeps a database of its "
                             "own about where everything on this disk is",
                             s.partition.number, describe(s.partition.type)),
                 "Turn the disk back into a basic one with the system that manages it", 0,
                 s.partition.number);
  }
  if (find_code(state.findings, Rule::disk_raid_member) != nullptr)
    out.obstacle(ObstacleCode::raid_member,
                 "the disk as a whole is a member of a RAID: the other members would no longer be "
                 "the same, and a table's second copy may be written where the RAID keeps its own",
                 "Take the disk out of the RAID with the system that manages it; if it is in none "
                 "any more, have that system remove what is left of it");
  return out;
}

PlanPart tell_overwritten(const Device& device, const Survey& survey, const SectorSet& written,
                          const Assessment& planned) {
  return Overwritten(device, survey, written, planned).tell();
}

}  // namespace nuvrat::plan
