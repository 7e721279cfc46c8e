// pN=ntfs: a FAT volume becomes NTFS, every file where it is.

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "assess/plan.h"
#include "assess/rewrites.h"
#include "fat/read.h"
#include "ntfs/build.h"
#include "ntfs/names.h"
#include "ntfs/plan.h"

namespace nuvrat {
namespace {

constexpr std::uint64_t boot_area = 8192;
constexpr std::uint32_t most_cluster_bytes = 65536;

// NTFS counts clusters from the volume's first sector, FAT from its data area: what divides both
// the data area's start and FAT's clusters can be a cluster of both.
std::uint32_t common_cluster_sectors(const VolumeInfo& info, std::uint32_t sector_bytes) {
  std::uint64_t out = most_cluster_bytes / sector_bytes;
  const std::uint64_t fat = info.cluster_bytes / sector_bytes;
  while (out > 1 && (fat % out != 0 || info.first_cluster % out != 0)) out /= 2;
  return static_cast<std::uint32_t>(out);
}

struct Opened {
  Opened(Device& device, const VolumeChange& change)
      : window(device, change.place), reader(open_fat(window, options_of(change))) {}
  Window window;
  std::unique_ptr<VolumeReader> reader;
};

// What doesn't share a physical sector with anything else.
SectorSet in_whole_physical(const SectorSet& sectors, const PhysicalSector& physical) {
  SectorSet out;
  const std::uint64_t n = physical.sectors;
  for (const SectorRange& r : sectors.ranges()) {
    const std::uint64_t first = r.first + (n + physical.first - r.first % n) % n;
    const std::uint64_t end = r.end() - (r.end() + n - physical.first) % n;
    if (first < end) out.add({first, end - first});
  }
  return out;
}

NtfsFormat format_for(VolumeReader& reader, const VolumeChange& change) {
  const VolumeInfo& info = reader.info();
  NtfsFormat out;
  out.sector_bytes = reader.device().sector_size();
  out.sectors = change.place.count;
  out.cluster_sectors = common_cluster_sectors(info, out.sector_bytes);
  out.serial = change.serial;
  out.hidden_sectors = change.place.first;
  out.label = cut(to_utf16(info.label), 32);
  out.made = change.made;
  out.bad = reader.bad().ranges();
  out.free = reader.owned().gaps({0, change.place.count});
  out.apart = in_whole_physical(out.free, reader.device().physical());
  return out;
}

class FatToNtfs final : public Rewrite {
 public:
  FatToNtfs(const Step& step, Device& device)
      : step_(step), change_(step.volume), device_(device) {}

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    const NtfsPlan& plan = this->plan();
    write_ntfs(
        plan,
        [this](std::uint64_t sector, std::uint64_t count) {
          return device_.read(change_.place.first + sector, count);
        },
        [&](std::uint64_t sector, ByteView data) {
          sink.write(change_.place.first + sector, data);
        },
        [&sink](std::string_view what) { sink.purpose(what); });
  }

  [[nodiscard]] SectorWrite switch_sector() const override {
    // Once the switch is done the sector itself is the only one that knows.
    Bytes now = device_.read(change_.place.first);
    if (is_ntfs(now)) return {change_.place.first, std::move(now)};
    return {change_.place.first, ntfs_boot_sector(plan())};
  }

  [[nodiscard]] std::string switch_purpose() const override { return "NTFS boot sector"; }

  // What FAT had in the boot area, and the last sector, which may have been a file's: it was
  // copied.
  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    if (phase != Phase::settle) return {};
    return {{{tidied()}, "the rest of $Boot holds what FAT had there: nobody reads it"},
            {{{change_.place.last(), 1}},
             "the second boot sector is a copy, and what a file had there was copied"}};
  }

  void settle(SectorSink& sink) override {
    wipe_sectors(sink, {tidied()}, device_.sector_size(),
                 "NTFS boot area, wiped of what FAT had there");
    sink.purpose("NTFS second boot sector");
    sink.write(change_.place.last(), switch_sector().data);
  }

 private:
  static bool is_ntfs(ByteView sector) {
    constexpr std::string_view mark = "NTFS    ";
    return std::equal(mark.begin(), mark.end(), sector.begin() + 3,
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
  }

  [[nodiscard]] SectorRange tidied() const {
    return {change_.place.first + 1, boot_area / device_.sector_size() - 1};
  }

  const NtfsPlan& plan() const {
    if (!plan_) {
      opened_ = std::make_unique<Opened>(device_, change_);
      plan_ = std::make_unique<NtfsPlan>(opened_->reader->tree(),
                                         format_for(*opened_->reader, change_));
      if (!plan_->fits())
        throw Error(ErrorCode::guard, "the volume has less room than when it was assessed");
    }
    return *plan_;
  }

  Step step_;
  VolumeChange change_;
  Device& device_;
  mutable std::unique_ptr<Opened> opened_;
  mutable std::unique_ptr<NtfsPlan> plan_;
};

class NtfsPlanner {
 public:
  NtfsPlanner(Device& device, const ReadOptions& options, Random& random, Survey& survey,
              Assessment& out)
      : device_(device), options_(options), random_(random), survey_(survey), out_(out) {}

  void plan(unsigned number, Wishes& wishes) {
    auto s =
        std::find_if(survey_.partitions.begin(), survey_.partitions.end(),
                     [number](const SurveyedPartition& p) { return p.partition.number == number; });
    const Partition& p = s->partition;
    name_ = number == 0 ? "the volume" : fmt::format("partition {}", number);
    number_ = number;
    if (s->signature.kind == VolumeKind::ntfs) {
      return obstacle("already", name_ + " is NTFS already", "Nothing needs to be done");
    }
    if (!is_fat(s->signature.kind) || !s->volume) {
      return obstacle("not-fat",
                      fmt::format("{} holds {}, which Nuvrat does not turn into NTFS", name_,
                                  s->signature.description),
                      "FAT12, FAT16 and FAT32 volumes can become NTFS");
    }
    if (number != 0 && class_of(p.type) == TypeClass::efi_system) {
      return obstacle("efi-system",
                      fmt::format("{} is the EFI system partition: firmware reads only FAT", name_),
                      "Leave it as it is");
    }
    if (has_errors(s->findings) || has_errors(survey_.table.findings)) return;  // said already
    Step step;
    step.kind = "fat-to-ntfs";
    step.target = survey_.table.layout;
    step.volume.place = p.range();
    step.volume.serial = s->volume->serial_number | random_.next() << 32;
    step.volume.made = now();
    step.volume.zone = options_.zone.name();
    step.volume.codepage = options_.codepage;
    step.volume.from = s->volume->kind;
    step.volume.to = VolumeKind::ntfs;
    step.volume.number = number;
    Planned planned(device_, step.volume);
    check_names(planned.opened->reader->tree());
    if (planned.ntfs->in_pieces()) make_room(step, planned);
    const NtfsPlan& ntfs = *planned.ntfs;
    check_room(ntfs);
    if (!out_.obstacles.empty()) return;
    add_consents(*s, ntfs);
    step.volume.cluster_bytes = ntfs.cluster_bytes();
    step.volume.needed_clusters = ntfs.needed_clusters();
    step.volume.free_clusters = ntfs.free_clusters();
    step.volume.moved_clusters = ntfs.moves().size();
    for (const Step& before : out_.steps) {  // way was made
      if (before.volume.place != step.volume.place) continue;
      for (const SectorMove& m : before.moves)
        step.volume.moved_clusters += m.from.count / ntfs.format().cluster_sectors;
    }
    step.volume.log_bytes = ntfs.log_bytes();
    step.volume.writes = ntfs.needed_clusters() * ntfs.format().cluster_sectors +
                         boot_area / ntfs.format().sector_bytes + 1;
    out_.steps.push_back(std::move(step));
    s->signature = {VolumeKind::ntfs, "NTFS"};
    s->volume->kind = VolumeKind::ntfs;
    if (number != 0 && wishes.types.count(number) == 0) {
      const PartitionType type = matching_type(p, VolumeKind::ntfs);
      if (type != p.type) {
        wishes.types.emplace(number, type);
        consent("type",
                fmt::format("the type of {} becomes {} ({}) instead of {} ({})", name_,
                            type_text(type), describe(type), type_text(p.type), describe(p.type)));
      }
    }
  }

 private:
  void obstacle(std::string code, std::string text, std::string remedy, std::uint64_t missing = 0) {
    add_obstacle(out_, std::move(code), std::move(text), std::move(remedy), missing, number_);
  }

  // The volume as it will be when the conversion's turn comes, and the plan for it.
  struct Planned {
    Planned(Device& device, const VolumeChange& change) : change_(change) { plan(device); }
    void plan(Device& device) {
      ntfs.reset();
      opened = std::make_unique<Opened>(device, change_);
      ntfs =
          std::make_unique<NtfsPlan>(opened->reader->tree(), format_for(*opened->reader, change_));
    }
    std::unique_ptr<Overlay> overlay;  // what steps before it write
    std::unique_ptr<Opened> opened;
    std::unique_ptr<NtfsPlan> ntfs;

   private:
    const VolumeChange& change_;
  };

  // Room enough, in pieces too small: contents of files move, as a rewrite of the FAT volume.
  void make_room(const Step& conversion, Planned& planned) {
    planned.overlay = std::make_unique<Overlay>(device_);
    Overlay& overlay = *planned.overlay;
    std::vector<Step> steps;
    std::uint64_t moved = 0;
    for (int round = 0; round < 3 && planned.ntfs->in_pieces(); ++round) {
      const NtfsFormat& format = planned.ntfs->format();
      const SectorRange within{
          planned.ntfs->boot_clusters() * format.cluster_sectors,
          (planned.ntfs->clusters() - planned.ntfs->boot_clusters()) * format.cluster_sectors};
      const auto made =
          make_way(overlay, conversion, planned.ntfs->whole_clusters() * format.cluster_sectors,
                   within, steps);
      if (!made) return;
      moved += *made;
      planned.plan(overlay);
    }
    if (!planned.ntfs->fits()) return;
    for (Step& step : steps) out_.steps.push_back(std::move(step));
    consent("made-way",
            fmt::format("{}: {} of files {} copied to free ones first, as a rewrite of the FAT "
                        "volume, so that what NTFS holds in one piece finds room",
                        name_, plural(moved, "cluster", "clusters"), moved == 1 ? "is" : "are"));
  }

  // NTFS folds names by its own table: two that FAT holds apart may be one there.
  void check_names(const FileTree& tree) {
    const UpCase upcase;
    const auto& reserved = reserved_root_names();
    std::size_t told = 0;
    for (FileTree::Id folder = 0; folder < tree.size() && told < 5; ++folder) {
      if (!tree.is_directory(folder)) continue;
      std::set<std::u16string> seen;
      for (const FileTree::Id id : tree.children(folder)) {
        const std::u16string name = upcase.fold(tree.name(id));
        const std::u16string alias = upcase.fold(tree.short_name(id));
        const bool taken = folder == FileTree::root &&
                           std::any_of(reserved.begin(), reserved.end(), [&](const auto& r) {
                             return upcase.fold(r) == name || upcase.fold(r) == alias;
                           });
        bool twice = !seen.insert(name).second;
        if (!alias.empty() && alias != name) twice |= !seen.insert(alias).second;
        if (!taken && !twice) continue;
        obstacle(taken ? "name-reserved" : "name-twice",
                 fmt::format("{}: '{}' {}", name_, printable(tree.path(id)),
                             taken ? "is a name that NTFS keeps for itself"
                                   : "and another name in its folder are the same to NTFS"),
                 "Rename one of them under the system that owns the volume");
        if (++told == 5) break;
      }
    }
  }

  void check_room(const NtfsPlan& plan) {
    const std::uint64_t cluster = plan.cluster_bytes();
    if (plan.in_pieces()) {
      const std::uint64_t whole = plan.whole_clusters() * cluster;
      return obstacle(
          "room-in-pieces",
          fmt::format("{}: {} are free, but in pieces so small that what NTFS holds in one piece "
                      "({}) finds no room, and what lies between them can't be moved",
                      name_, format_bytes(plan.free_clusters() * cluster), format_bytes(whole)),
          fmt::format("Delete or move away files until {} are free in one piece",
                      format_bytes(whole)),
          whole / device_.sector_size());
    }
    if (plan.fits()) return;
    const std::uint64_t missing = plan.needed_clusters() - plan.free_clusters();
    obstacle(
        "volume-room",
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

  void consent(std::string code, std::string text) {
    out_.consents.push_back({std::move(code), std::move(text)});
  }

  void add_consents(const SurveyedPartition& s, const NtfsPlan& plan) {
    consent("readers", fmt::format("{} can then only be read by systems that know NTFS: many "
                                   "cameras, televisions, consoles and firmwares don't",
                                   name_));
    if (s.partition.active) {
      consent("boot-code", fmt::format("{} is active: the loader in its boot sector is not carried "
                                       "over, and nothing starts from it before a system puts its "
                                       "own there",
                                       name_));
    }
    consent("permissions", fmt::format("every file on {} may be read and written by everyone, as "
                                       "on FAT, until its system is told otherwise",
                                       name_));
    add_name_consent(plan);
    if (plan.cluster_bytes() < 4096 && plan.cluster_bytes() < s.volume->cluster_bytes) {
      consent("clusters",
              fmt::format("clusters become {} bytes instead of {}, because FAT's data area begins "
                          "at sector {}: what is written later may end up in more pieces",
                          plan.cluster_bytes(), s.volume->cluster_bytes, s.volume->first_cluster));
    }
    if (const Finding* f = find_code(s.findings, "fat.unowned")) {
      consent("unowned", fmt::format("{}: {}; they become free space. To keep them as files first: "
                                     "nuvrat check --repair --unowned keep",
                                     name_, f->text));
    }
    if (find_code(s.findings, "fat.chain-long") != nullptr) {
      consent("surplus", fmt::format("{}: clusters behind the end of files that have more of them "
                                     "than they need become free space",
                                     name_));
    }
    if (!plan.moves().empty()) {
      consent(
          "moved",
          plan.moves().size() == 1
              ? std::string("1 cluster of a file, where NTFS keeps a boot sector, is copied to a "
                            "free one")
              : fmt::format("{} clusters of files, where NTFS keeps its boot sectors, are copied "
                            "to free ones",
                            plan.moves().size()));
    }
  }

  void add_name_consent(const NtfsPlan& plan) {
    const FileTree& tree = plan.tree();
    std::uint64_t count = 0;
    FileTree::Id first = 0;
    for (FileTree::Id id = 1; id < tree.size(); ++id) {
      if (win32_allows(tree.name(id))) continue;
      if (count++ == 0) first = id;
    }
    if (count == 0) return;
    consent("names", fmt::format("{}: {} such as '{}' {} a character, an ending or a device's name "
                                 "that the Win32 name space forbids; {} into the POSIX one, "
                                 "without a short name, and programs may not be able to open {}",
                                 name_, plural(count, "name", "names"),
                                 printable(to_utf8(tree.name(first))), count == 1 ? "has" : "have",
                                 count == 1 ? "it goes" : "they go", count == 1 ? "it" : "them"));
  }

  Device& device_;
  const ReadOptions& options_;
  Random& random_;
  Survey& survey_;
  Assessment& out_;
  std::string name_;
  unsigned number_ = 0;
};

}  // namespace

ReadOptions options_of(const VolumeChange& change) {
  ReadOptions out;
  out.zone = change.zone == "UTC" ? Zone() : Zone::named(change.zone);
  out.codepage = change.codepage;
  return out;
}

std::unique_ptr<Rewrite> make_fat_to_ntfs(const Step& step, Device& device) {
  return std::make_unique<FatToNtfs>(step, device);
}

void plan_volumes(Device& device, const ReadOptions& options, Random& random, Survey& survey,
                  Wishes& wishes, Assessment& out) {
  add_finding_obstacles(survey, out);
  NtfsPlanner planner(device, options, random, survey, out);
  for (const auto& [number, kind] : wishes.volumes) planner.plan(number, wishes);
}

}  // namespace nuvrat
