// pN=ntfs: a FAT volume becomes NTFS, every file where it is.

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "fat/read.h"
#include "ntfs/build.h"
#include "ntfs/names.h"
#include "ntfs/plan.h"
#include "plan/make_way.h"
#include "plan/volume.h"

namespace nuvrat::plan {
namespace {

class NtfsPlanner {
 public:
  NtfsPlanner(const PlanInput& input, unsigned number)
      : device_(input.device),
        options_(input.options),
        random_(input.random),
        state_(input.state),
        name_(volume_words(number)),
        number_(number) {}

  PlanPart plan() {
    plan_volume();
    return std::move(out_);
  }

 private:
  void plan_volume() {
    const SurveyedPartition* s = state_.find(number_);
    const Partition& p = s->partition;
    if (s->signature.kind == VolumeKind::ntfs) {
      return obstacle(ObstacleCode::already, name_ + " is NTFS already",
                      "Nothing needs to be done");
    }
    if (!is_fat(s->signature.kind) || !s->volume) {
      return obstacle(ObstacleCode::not_fat,
                      fmt::format("{} holds {}, which Nuvrat does not turn into NTFS", name_,
                                  s->signature.description),
                      "FAT12, FAT16 and FAT32 volumes can become NTFS");
    }
    if (number_ != 0 && class_of(p.type) == TypeClass::efi_system) {
      return obstacle(ObstacleCode::efi_system,
                      fmt::format("{} is the EFI system partition: firmware reads only FAT", name_),
                      "Leave it as it is");
    }
    if (has_errors(s->findings) || has_errors(state_.table.findings)) return;  // said already
    VolumeChange change;
    change.place = p.range();
    change.serial = s->volume->serial_number | random_.next() << 32;
    change.made = now();
    change.zone = options_.zone.name();
    change.codepage = options_.codepage;
    change.from = s->volume->kind;
    change.to = VolumeKind::ntfs;
    change.anew = true;
    change.number = number_;
    Planned planned(device_, change);
    check_names(planned.volume->tree());
    if (planned.plan().in_pieces()) make_room(change, planned);
    const ntfs::Plan& ntfs = planned.plan();
    check_room(ntfs);
    if (!out_.obstacles.empty()) return;
    add_consents(*s, ntfs);
    change.cluster_bytes = ntfs.cluster_bytes();
    change.needed_clusters = ntfs.needed_clusters();
    change.free_clusters = ntfs.free_clusters();
    change.moved_clusters = ntfs.moves().size() + planned.way_made / ntfs.format().cluster_sectors;
    change.log_bytes = ntfs.log_bytes();
    change.writes = ntfs.needed_clusters() * ntfs.format().cluster_sectors +
                    steps::FatToNtfs::boot_area / ntfs.format().sector_bytes + 1 +
                    (steps::FatToNtfs::old_copy(device_, s->partition.range()) ? 1 : 0);
    out_.steps.push_back(Step(state_.table.layout, {steps::FatToNtfs{std::move(change)}}));
  }

  void obstacle(ObstacleCode code, std::string text, std::string remedy,
                std::uint64_t missing = 0) {
    out_.obstacle(code, std::move(text), std::move(remedy), missing, number_);
  }

  // The volume as it will be when the conversion's turn comes, and the plan for it.
  struct Planned {
    Planned(const Device& device, const VolumeChange& change) : change_(change) { look_at(device); }
    void look_at(const Device& device) {
      volume.reset();
      volume = std::make_unique<steps::FatAsNtfs>(device, change_);
    }
    [[nodiscard]] const ntfs::Plan& plan() const { return volume->plan(); }
    std::unique_ptr<Overlay> overlay;  // what steps before it write
    std::unique_ptr<steps::FatAsNtfs> volume;
    std::uint64_t way_made = 0;  // sectors of contents that such steps move

   private:
    const VolumeChange& change_;
  };

  // Room enough, in pieces too small: contents of files move, as a rewrite of the FAT volume.
  void make_room(const VolumeChange& conversion, Planned& planned) {
    planned.overlay = std::make_unique<Overlay>(device_);
    Overlay& overlay = *planned.overlay;
    std::vector<steps::FatMakeWay> made_way;
    std::uint64_t moved = 0;
    for (int round = 0; round < 3 && planned.plan().in_pieces(); ++round) {
      const ntfs::Plan& plan = planned.plan();
      const ntfs::Format& format = plan.format();
      const SectorRange within{plan.boot_clusters() * format.cluster_sectors,
                               (plan.clusters() - plan.boot_clusters()) * format.cluster_sectors};
      const auto made = make_way(overlay, conversion,
                                 plan.whole_clusters() * format.cluster_sectors, within, made_way);
      if (!made) return;
      moved += *made;
      planned.look_at(overlay);
    }
    if (!planned.plan().fits()) return;
    for (steps::FatMakeWay& work : made_way) {
      for (const steps::SectorMove& m : work.change.moves) planned.way_made += m.from.count;
      out_.steps.push_back(Step(state_.table.layout, {std::move(work)}));
    }
    consent(ConsentCode::made_way,
            plural(moved, "cluster moves to free room first", "clusters move to free room first"),
            "As a rewrite of the FAT volume: NTFS keeps some things in one piece");
  }

  // Names that FAT holds apart are apart on NTFS, too: its table folds fewer letters.
  void check_names(const FileTree& tree) {
    const ntfs::UpCase upcase;
    std::set<std::u16string> reserved;
    for (const auto& name : ntfs::reserved_root_names()) reserved.insert(upcase.fold(name));
    std::size_t told = 0;
    for (const FileTree::Id id : tree.children(FileTree::root)) {
      if (!reserved.contains(upcase.fold(tree.name(id))) &&
          !reserved.contains(upcase.fold(tree.short_name(id))))
        continue;
      obstacle(ObstacleCode::name_reserved,
               fmt::format("{}: '{}' is a name that NTFS keeps for itself", name_,
                           printable(tree.path(id))),
               "Rename it under the system that owns the volume");
      if (++told == 5) break;
    }
  }

  void check_room(const ntfs::Plan& plan) {
    const std::uint64_t cluster = plan.cluster_bytes();
    if (plan.in_pieces()) {
      const std::uint64_t whole = plan.whole_clusters() * cluster;
      return obstacle(
          ObstacleCode::room_in_pieces,
          fmt::format("{}: {} are free, but not {} in one piece, which NTFS needs, and what lies "
                      "between the pieces can't be moved",
                      name_, format_bytes(plan.free_clusters() * cluster), format_bytes(whole)),
          fmt::format("Delete or move away files until {} are free in one piece",
                      format_bytes(whole)),
          whole / device_.sector_size());
    }
    if (plan.fits()) return;
    const std::uint64_t missing = plan.needed_clusters() - plan.free_clusters();
    obstacle(
        ObstacleCode::volume_room,
        fmt::format("{}: the structures of NTFS need {} clusters of {} bytes ({}), {} are free "
                    "({}): {} missing",
                    name_, plan.needed_clusters(), cluster,
                    format_bytes(plan.needed_clusters() * cluster), plan.free_clusters(),
                    format_bytes(plan.free_clusters() * cluster),
                    plural(missing, "cluster is", "clusters are")),
        fmt::format("Take files of {} bytes ({}) in all off the volume; the log is counted at "
                    "its smallest, {}",
                    missing * cluster, format_bytes(missing * cluster),
                    format_bytes(plan.log_bytes())),
        missing * cluster / device_.sector_size());
  }

  void consent(ConsentCode code, std::string text, std::string detail) {
    out_.consent(code, state_.find(number_)->partition.id, std::move(text), std::move(detail));
  }

  void add_consents(const SurveyedPartition& s, const ntfs::Plan& plan) {
    consent(ConsentCode::readers, "only systems that know NTFS can read it",
            "Many cameras, televisions, consoles and firmwares don't");
    if (s.partition.active) {
      consent(ConsentCode::boot_code, "nothing boots from it until a system puts its loader there",
              "It is active. The loader in its boot sector is not carried over");
    }
    consent(ConsentCode::everyone, "everyone may read and write its files, as on FAT",
            "Until its system is told otherwise");
    add_name_consent(plan);
    out_.append(tell_broken_names(s));
    if (plan.cluster_bytes() < 4096 && plan.cluster_bytes() < s.volume->cluster_bytes) {
      consent(
          ConsentCode::clusters,
          fmt::format("its clusters become {} instead of {}", format_bytes(plan.cluster_bytes()),
                      format_bytes(s.volume->cluster_bytes)),
          fmt::format("FAT's data area begins at sector {}. New files may lie in more pieces",
                      s.volume->first_cluster));
    }
    if (const Finding* f = find_code(s.findings, Rule::fat_unowned)) {
      consent(ConsentCode::unowned, "clusters that belong to no file become free space",
              f->text + ". To keep them as files first: nuvrat check --repair --unowned keep");
    }
    if (find_code(s.findings, Rule::fat_chain_long) != nullptr) {
      consent(ConsentCode::surplus, "clusters after the end of files become free space",
              "Some files have more than they need. To keep them as files first: nuvrat check "
              "--repair --unowned keep");
    }
    if (!plan.moves().empty()) {
      consent(ConsentCode::moved,
              plural(plan.moves().size(), "cluster of a file is copied to a free one",
                     "clusters of files are copied to free ones"),
              "NTFS keeps its boot sectors where they are now");
    }
  }

  void add_name_consent(const ntfs::Plan& plan) {
    const FileTree& tree = plan.tree();
    std::uint64_t count = 0;
    FileTree::Id first = 0;
    for (FileTree::Id id = 1; id < tree.size(); ++id) {
      if (ntfs::win32_allows(tree.name(id))) continue;
      if (count++ == 0) first = id;
    }
    if (count == 0) return;
    consent(
        ConsentCode::names,
        plural(count, "name may not open in some programs", "names may not open in some programs"),
        fmt::format("Such as '{}'. A character, an ending or a device's name in them is "
                    "forbidden in the Win32 name space; they go into the POSIX one, without a "
                    "short name",
                    printable(to_utf8(tree.name(first)))));
  }

  const Device& device_;
  const ReadOptions& options_;
  Random& random_;
  const disk::DiskState& state_;
  PlanPart out_;
  std::string name_;
  unsigned number_;
};

}  // namespace

PlanPart plan_volume_ntfs(const PlanInput& input, unsigned number) {
  return NtfsPlanner(input, number).plan();
}

}  // namespace nuvrat::plan
