// Room: how long partitions become, which go, and which are made in gaps.

#include "plan/room.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "plan/table.h"
#include "plan/volume.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

constexpr std::uint64_t mbr_sectors = std::uint64_t{1} << 32;  // that its numbers reach

// Where partitions can end.
struct Limit {
  std::uint64_t end = 0;
  std::string by;  // what is there, as a sentence
};

class Sizes {
 public:
  Sizes(const PlanInput& in, const goals::Asked& asked)
      : in_(in),
        asked_(asked),
        layout_(in.state.table.layout),
        sector_(in.device.sector_size()),
        kind_(layout_.kind) {
    if (const auto* table = asked.find<TableGoal>()) kind_ = table->kind;
  }

  Lengths resolve() {
    std::map<PartitionId, std::uint64_t> lengths;
    for (const SizeGoal& goal : asked_.every<SizeGoal>()) {
      const SurveyedPartition& s = *in_.state.find(goal.partition);
      if (const auto length = wanted(s, goal)) lengths[s.partition.id] = *length;
    }
    return {std::move(lengths), std::move(out_)};
  }

 private:
  std::optional<std::uint64_t> wanted(const SurveyedPartition& s, const SizeGoal& wish) {
    const Partition& p = s.partition;
    const std::string name = volume_words(p.number);
    const std::string goal = p.number == 0 ? "volume.size" : fmt::format("p{}.size", p.number);
    // Without a table only the volume becomes another; the disk stays what it is.
    const std::uint64_t now = p.number == 0 ? length_of(s) : p.sectors;
    if (!s.volume) {  // says why
      out_.append(plan_volume_size(in_, p.number, p.sectors));
      return std::nullopt;
    }
    const std::uint64_t sectors = div_up(wish.bytes, std::uint64_t{sector_});
    std::uint64_t length = sectors;
    switch (wish.kind) {
      case SizeGoal::Kind::exactly:
        break;
      case SizeGoal::Kind::more:
        length = now + sectors;
        break;
      case SizeGoal::Kind::less:
        length = now - std::min(now, sectors);
        break;
      case SizeGoal::Kind::max:
        return std::max(p.sectors, std::min(greatest(p), max_sectors(s, sector_)));
      case SizeGoal::Kind::min:
        return min_sectors(in_, p.number, p.sectors);
    }
    if (length == now && length_of(s) == now) {
      out_.obstacle(ObstacleCode::already,
                    fmt::format("{} is {} long already", name, format_bytes(length * sector_)),
                    "Nothing needs to be done", 0, p.number);
      return std::nullopt;
    }
    if (length == 0) {
      out_.obstacle(ObstacleCode::size_zero,
                    fmt::format("{} has {}, and all of it would be taken away", name,
                                format_bytes(now * sector_)),
                    "Ask for " + goal + "=min" +
                        (p.number == 0 ? "" : fmt::format(", or p{}=gone", p.number)),
                    0, p.number);
      return std::nullopt;
    }
    // An EBR in the way may find another place: the table's planner knows.
    const Limit limit = limit_of(p, disk_end(), false);
    if (length <= limit.end - p.start) return length;
    add_too_long(p, now, length, limit);
    return std::nullopt;
  }

  void add_too_long(const Partition& p, std::uint64_t now, std::uint64_t length,
                    const Limit& limit) {
    const std::uint64_t missing = length - (limit.end - p.start);
    const std::uint64_t most = greatest(p);
    out_.obstacle(
        ObstacleCode::size_room,
        fmt::format("{} can't be {} long: {}; {} missing", volume_words(p.number),
                    format_bytes(length * sector_), limit.by,
                    plural(missing, "sector is", "sectors are")),
        most > now ? fmt::format("There is room for {}; delete or shorten what comes after it to "
                                 "make more",
                                 format_bytes(most * sector_))
        : p.number == 0 ? "Continue on a disk, or an image, that is longer"
                        : "Make room after it first: delete or shorten what is there",
        missing, p.number);
  }

  // As far as there is room, up to a whole MiB; an MBR keeps the end free for a GPT one day.
  [[nodiscard]] std::uint64_t greatest(const Partition& p) const {
    if (p.number == 0) return p.sectors;
    const std::uint64_t mib = (1u << 20) / sector_;
    const std::uint64_t end =
        limit_of(p, std::min(disk_end(), gpt_usable_end(layout_.disk_sectors, sector_)), true).end;
    return std::max(p.sectors, std::max(end / mib * mib, p.start) - p.start);
  }

  [[nodiscard]] std::uint64_t disk_end() const {
    if (kind_ == TableKind::mbr) return layout_.disk_sectors;
    if (layout_.kind == TableKind::gpt) return layout_.usable().end();
    return gpt_usable_end(layout_.disk_sectors, sector_);
  }

  [[nodiscard]] Limit limit_of(const Partition& p, std::uint64_t disk_end, bool ebrs) const {
    Limit out{std::max(disk_end, p.range().end()),
              kind_ == TableKind::gpt ? "the backup GPT follows it" : "the disk ends there"};
    const auto at = [&out](std::uint64_t sector, std::string by) {
      if (sector < out.end) out = {sector, std::move(by)};
    };
    if (kind_ == TableKind::mbr) {
      at(p.start + mbr_sectors - 1, "an MBR's lengths have 32 bits");
      at(std::max(mbr_sectors, p.range().end()), "an MBR's numbers have 32 bits");
    }
    for (const Partition& q : layout_.data_partitions()) {
      if (q.start < p.range().end() || asked_.is_gone(q.number)) continue;
      at(q.start, fmt::format("partition {} begins at sector {}", q.number, q.start));
      if (!ebrs || kind_ != TableKind::mbr || !q.table_sector || *q.table_sector < p.range().end())
        continue;
      at(*q.table_sector,
         fmt::format("the EBR of partition {} is at sector {}", q.number, *q.table_sector));
    }
    return out;
  }

  const PlanInput& in_;
  const goals::Asked& asked_;
  PlanPart out_;
  const Layout& layout_;
  std::uint32_t sector_;
  TableKind kind_;
};

PartitionType type_for(TableKind table, VolumeKind kind) {
  if (table == TableKind::gpt) return gpt_type_for(0x07, VolumeKind::ntfs).guid;
  switch (kind) {
    case VolumeKind::fat32:
      return std::uint8_t{0x0C};
    case VolumeKind::fat16:
      return std::uint8_t{0x0E};
    case VolumeKind::ntfs:
    case VolumeKind::exfat:
      return std::uint8_t{0x07};
    case VolumeKind::fat12:
      return std::uint8_t{0x01};
    case VolumeKind::swap:
      return std::uint8_t{0x82};
    case VolumeKind::linux_data:
      return std::uint8_t{0x83};
    case VolumeKind::unknown:
    case VolumeKind::other:
      break;
  }
  return std::uint8_t{0xDA};
}

class NewPartitions {
 public:
  NewPartitions(const PlanInput& in, const goals::Asked& asked, const NewEfi* efi)
      : in_(in), asked_(asked), efi_(efi), sector_(in.device.sector_size()) {}

  PlanPart plan() {
    place_all();
    if (out_.in_reach()) plan_the_table();
    if (out_.in_reach()) note_added();
    return std::move(out_);
  }

 private:
  struct Wanted {
    VolumeKind kind = VolumeKind::unknown;
    std::uint64_t bytes = 0;  // 0: all of the gap
    bool efi_system = false;  // with files
  };

  void place_all() {
    const std::vector<SectorRange> gaps = gaps_of(in_.state.table);
    if (efi_ != nullptr && !place_efi(gaps)) return;
    for (const GapGoal& goal : asked_.every<GapGoal>()) {
      const unsigned number = goal.gap;
      if (number <= gaps.size()) {
        place(number, {goal.kind, goal.bytes}, gaps[number - 1]);
        continue;
      }
      out_.obstacle(
          ObstacleCode::no_gap,
          gaps.empty()
              ? fmt::format("there is no gap g{}: the disk has no room outside partitions "
                            "once the other goals are done",
                            number)
              : fmt::format("there is no gap g{}: once the other goals are done the disk "
                            "has g1{}",
                            number, gaps.size() == 1 ? "" : fmt::format(" to g{}", gaps.size())),
          "See 'nuvrat survey' for the gaps; shorten or delete a partition to get one");
    }
  }

  void note_added() {
    for (const Partition& p : made_) {
      const Wanted& wish = wish_at_[p.start];
      out_.added.push_back(
          {.partition = p.id,
           .kind = "free",
           .kind_after = wish.kind == VolumeKind::unknown ? "nothing known" : name_of(wish.kind),
           .fate = Contents::Fate::added});
      ExpectedChange change;
      change.kind = ExpectedChange::Kind::added;
      change.partition = p.id;
      out_.changes.push_back(std::move(change));
    }
  }

  void place(unsigned number, const Wanted& wish, const SectorRange& gap) {
    const std::uint64_t length =
        wish.bytes == 0 ? whole(gap) : div_up(wish.bytes, std::uint64_t{sector_});
    if (length > gap.count) {
      return out_.obstacle(
          ObstacleCode::gap_room,
          fmt::format("g{} has {} from sector {}: {} missing for {}", number,
                      format_bytes(gap.count * sector_), gap.first,
                      plural(length - gap.count, "sector is", "sectors are"),
                      format_bytes(wish.bytes)),
          fmt::format("Leave the size out to take all of it: g{}={}", number, name_of(wish.kind)),
          length - gap.count);
    }
    Partition p;
    p.id = next_id();
    p.start = gap.first;
    p.sectors = length;
    p.type = type_for(in_.state.table.layout.kind, wish.kind);
    if (wish.efi_system) {
      p.type = efi_system_guid();
      p.name = "EFI system";
      p.unique_id = efi_->id;
    }
    if (in_.state.table.layout.kind == TableKind::gpt) p.role = Role::gpt;
    made_.push_back(p);
    wish_at_[p.start] = wish;
    gap_at_[p.start] = gap;
  }

  // Of no partition that there is, was, or is to be.
  [[nodiscard]] PartitionId next_id() const {
    std::uint32_t last = 0;
    const auto skip = [&last](const std::vector<Partition>& partitions) {
      for (const Partition& p : partitions) last = std::max(last, static_cast<std::uint32_t>(p.id));
    };
    skip(in_.before.partitions);
    skip(in_.state.table.layout.partitions);
    skip(made_);
    return PartitionId{last + 1};
  }

  // The smallest gap that has all of it; else the largest that will do.
  bool place_efi(const std::vector<SectorRange>& gaps) {
    const NewEfi& wish = *efi_;
    const std::uint64_t wanted = div_up(wish.bytes, std::uint64_t{sector_});
    const std::uint64_t least = div_up(wish.least, std::uint64_t{sector_});
    unsigned best = 0;
    const auto count = [&gaps](unsigned number) { return gaps[number - 1].count; };
    for (unsigned i = 1; i <= gaps.size(); ++i) {
      if (asked_.find<GapGoal>(i) != nullptr || count(i) < least) continue;
      const bool better =
          best == 0 || (count(best) < wanted ? count(i) > count(best)
                                             : count(i) >= wanted && count(i) < count(best));
      if (better) best = i;
    }
    if (best == 0) {
      const std::uint64_t most =
          gaps.empty()
              ? 0
              : std::max_element(gaps.begin(), gaps.end(), [](const auto& a, const auto& b) {
                  return a.count < b.count;
                })->count;
      out_.obstacle(
          ObstacleCode::esp_room,
          fmt::format("there is no room for an EFI system partition of {}: the largest gap has {}",
                      format_bytes(wish.least), format_bytes(most * sector_)),
          "Make room: delete or shorten a partition, or ask for less, as in esp=100MiB",
          least - std::min(least, most));
      return false;
    }
    place(best, {VolumeKind::fat32, std::min(wanted, whole(gaps[best - 1])) * sector_, true},
          gaps[best - 1]);
    return true;
  }

  // Up to a whole MiB.
  [[nodiscard]] std::uint64_t whole(const SectorRange& gap) const {
    const std::uint64_t mib = (1u << 20) / sector_;
    const std::uint64_t end = gap.end() / mib * mib;
    return end > gap.first ? end - gap.first : gap.count;
  }

  // The volumes first, into free sectors; then the table that names them.
  void plan_the_table() {
    PlanPart trial = table_with(made_);
    const bool apart = trial.in_reach() && has_far_ebr(*trial.after);
    if ((!trial.in_reach() || apart) && in_.state.table.layout.kind == TableKind::mbr) {
      // A logical needs a sector in front of it, which a gap from a whole MiB on may not have.
      std::vector<Partition> later = made_;
      const std::uint64_t mib = (1u << 20) / sector_;
      for (Partition& p : later) {
        const SectorRange gap = gap_at_[p.start];
        const bool shifts = p.sectors > mib && !front_is_free(p.start);
        if (!shifts) continue;
        if (p.start + mib + p.sectors > gap.end()) {
          if (apart && wish_at_[p.start].bytes != 0) continue;  // so much was asked for
          p.sectors -= mib;
        }
        wish_at_[p.start + mib] = wish_at_[p.start];
        p.start += mib;
      }
      PlanPart again = table_with(later);
      if (again.in_reach()) {
        trial = std::move(again);
        made_ = std::move(later);
      }
    }
    if (!trial.in_reach()) {
      for (Obstacle& o : trial.obstacles) {
        // Goals that the table's planner names are beside the gap's.
        if (!o.goals.empty()) o.remedy = "Delete a partition, or make others logical";
      }
      return out_.append({.obstacles = std::move(trial.obstacles)});
    }
    for (const Partition& p : made_) {
      add_volume(p, wish_at_[p.start]);
      if (!out_.in_reach()) return;
    }
    out_.append(std::move(trial));
  }

  // The EBR of a new one is in front of others, not of itself.
  [[nodiscard]] bool has_far_ebr(const Layout& after) const {
    return std::any_of(made_.begin(), made_.end(), [&after](const Partition& made) {
      const std::vector<Partition> all = after.data_partitions();
      const Partition* p = after.find(made.id);
      return p != nullptr && p->table_sector &&
             std::any_of(all.begin(), all.end(), [p](const Partition& q) {
               return q.start > *p->table_sector && q.start < p->start;
             });
    });
  }

  [[nodiscard]] bool front_is_free(std::uint64_t start) const {
    return !in_.state.table.owned.first_overlap({start - 1, 1}) &&
           std::none_of(in_.state.volumes.begin(), in_.state.volumes.end(), [&](const auto& s) {
             return s.partition.role != Role::extended && s.partition.range().contains(start - 1);
           });
  }

  [[nodiscard]] PlanPart table_with(const std::vector<Partition>& made) const {
    return plan_table(in_, {.made = made});
  }

  // Nothing is written there, so what is left of an old volume counts: one that is whole comes
  // back, another one would be found damaged.
  void take_what_is_there(const Partition& p) {
    const Window place(in_.device, p.range());
    std::string old = "an old volume", fault;
    try {
      const VolumeKind kind = recognise_volume(place).kind;
      if (kind == VolumeKind::unknown) return;
      old += fmt::format(" ({})", title_of(kind));
      for (const Finding& f : check_volume(place, in_.options)) {
        if (f.severity == Severity::error && fault.empty()) fault = f.text;
      }
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
      fault = e.message();
    }
    if (fault.empty()) {
      return out_.consent(
          ConsentCode::old_volume, p.id, fmt::format("has {} again, which was there before", old),
          fmt::format("The new partition begins at sector {}, as the old one did", p.start));
    }
    out_.obstacle(ObstacleCode::old_volume,
                  fmt::format("the new partition from sector {} would begin with what is left of "
                              "{}: {}",
                              p.start, old, fault),
                  "Make a volume there, such as g1=fat32, or give it the place and the length "
                  "that the old one had");
  }

  void add_volume(const Partition& p, const Wanted& wish) {
    if (wish.kind == VolumeKind::unknown) return take_what_is_there(p);
    steps::NewVolume work;
    work.change.place = p.range();
    work.change.serial =
        wish.kind == VolumeKind::ntfs ? in_.random.next() : in_.random.next() & 0xFFFFFFFF;
    work.change.made = now();
    work.change.zone = in_.options.zone.name();
    work.change.codepage = in_.options.codepage;
    work.change.to = wish.kind;
    work.change.anew = true;
    if (wish.efi_system) work.files = efi_->files;
    if (!work.choose(sector_)) {
      return out_.obstacle(
          ObstacleCode::volume_size,
          fmt::format("{} of {} is not possible with any size of clusters", title_of(wish.kind),
                      format_bytes(p.sectors * sector_)),
          "FAT16 goes from about 5 MiB to 4 GiB, FAT32 from about 34 MiB to 2 TiB, NTFS "
          "from about 3 MiB on; give another size or another file system");
    }
    out_.steps.push_back(Step(in_.state.table.layout, {std::move(work)}));
  }

  const PlanInput& in_;
  const goals::Asked& asked_;
  const NewEfi* efi_;
  PlanPart out_;
  std::uint32_t sector_;
  std::vector<Partition> made_;
  std::map<std::uint64_t, Wanted> wish_at_;
  std::map<std::uint64_t, SectorRange> gap_at_;
};

}  // namespace

Lengths resolve_sizes(const PlanInput& input, const goals::Asked& asked) {
  return Sizes(input, asked).resolve();
}

PlanPart plan_new_partitions(const PlanInput& input, const goals::Asked& asked, const NewEfi* efi) {
  return NewPartitions(input, asked, efi).plan();
}

}  // namespace nuvrat::plan
