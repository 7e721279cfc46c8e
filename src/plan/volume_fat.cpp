// pN=fat32, pN=fat16, pN.cluster=SIZE: a volume becomes FAT, or another FAT.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "base/start_code.h"
#include "fat/boot.h"
#include "fat/names.h"
#include "fat/search.h"
#include "ntfs/snapshots.h"
#include "plan/fat_losses.h"
#include "plan/planned_disk.h"
#include "plan/volume.h"
#include "steps/kinds.h"
#include "volume/kinds.h"

namespace nuvrat::plan {
namespace {

constexpr std::uint32_t max_cluster_bytes = 65536;
constexpr std::size_t max_places = 8;  // that are tried, of one size of clusters

class FatPlanner {
 public:
  FatPlanner(const PlanInput& input, unsigned number, const FatWish& wish)
      : in_(input),
        device_(input.device),
        options_(input.options),
        state_(input.state),
        wish_(wish),
        number_(number),
        name_(volume_words(number)) {}

  PlanPart plan() {
    plan_volume();
    return std::move(out_);
  }

 private:
  void plan_volume() {
    const SurveyedPartition* s = state_.find(number_);
    if (!can_be_read(*s)) return;
    ToFat work = described(*s);
    if (is_already(*s, work.change)) return;
    if (has_errors(s->findings) || has_errors(state_.table.findings)) return;  // said already
    Look look{device_, work};
    FatLosses losses(s->partition, name_, options_);
    losses.check_files(look.volume->reader());
    work.rename = in_.safe_names;
    if (!work.rename) losses.check_names(look.volume->tree(), is_fat(work.change.from));
    out_.append(losses.take());
    if (!out_.in_reach()) return;
    std::unique_ptr<fat::Plan> plan;
    try {
      plan = search(look, work);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::refused) throw;
      return obstacle(ObstacleCode::folder_entries,
                      fmt::format("{}: {}: {}", name_,
                                  e.place().path.empty() ? "the root folder"
                                                         : "'" + printable(e.place().path) + "'",
                                  e.message()),
                      "Divide it into several folders under the system that owns the volume");
    }
    // Start code of others would not come along.
    const bool wasteful =
        plan && is_fat(work.change.from) && work.start_code.empty() && is_wasteful(*plan);
    if (wasteful || (!plan && is_fat(work.change.from))) {
      const std::uint64_t lost = plan ? lost_bytes(plan->geometry()) : 0;
      const std::uint64_t least = plan ? free_bytes(*plan) + lost / 2 : 0;
      plan.reset();
      look.volume.reset();  // the way there looks at the volume for itself
      if (by_way_of_ntfs(lost, least)) return;
      look = Look{device_, work};
      if (wasteful) plan = search(look, work);
    }
    if (!plan) return no_geometry(look, work);
    if (way_) add_way(*way_);
    work.take(plan->geometry());
    work.next_free = plan->first_free();
    std::uint64_t bad = 0;
    for (const fat::ClusterRange& r : plan->bad_clusters()) bad += r.count;
    work.free_after =
        static_cast<std::uint32_t>(plan->geometry().clusters - plan->clusters_in_use() - bad);
    fill_numbers(*plan, work.change);
    losses.agree(*s, *plan, work, way_.has_value());
    out_.append(losses.take());
    if (work.change.from == VolumeKind::ntfs)
      out_.append(tell_snapshots(Window(device_, work.change.place), s->partition.id));
    out_.steps.push_back(Step(state_.table.layout, {std::move(work)}));
  }

  using ToFat = steps::ToFat;

  // The volume as it will be when the conversion's turn comes.
  struct Look {
    Look(const Device& device, const ToFat& work)
        : volume(std::make_unique<steps::VolumeAsFat>(device, work.change, work.files)) {}
    std::unique_ptr<Overlay> overlay;  // what a step before it writes
    std::unique_ptr<steps::VolumeAsFat> volume;
  };

  void obstacle(ObstacleCode code, std::string text, std::string remedy,
                std::uint64_t missing = 0) {
    out_.obstacle(code, std::move(text), std::move(remedy), missing, number_);
  }
  void consent(ConsentCode code, std::string text, std::string detail) {
    out_.consent(code, state_.find(number_)->partition.id, std::move(text), std::move(detail));
  }

  bool can_be_read(const SurveyedPartition& s) {
    const VolumeKind from = s.signature.kind;
    if (s.volume && format_of(from)) return true;
    obstacle(ObstacleCode::not_readable,
             fmt::format("{} holds {}, which Nuvrat does not turn into FAT", name_,
                         s.signature.description),
             "NTFS and FAT volumes can become FAT");
    return false;
  }

  [[nodiscard]] ToFat described(const SurveyedPartition& s) const {
    ToFat work;
    VolumeChange& change = work.change;
    change.place = s.partition.range();
    change.front = wish_.front;
    change.serial = s.volume->serial_number & 0xFFFFFFFF;
    if (change.serial == 0) change.serial = in_.random.next() & 0xFFFFFFFF;
    change.made = now();
    change.zone = options_.zone.name();
    change.codepage = options_.codepage;
    change.from = s.volume->kind;
    change.to = wish_.kind.value_or(s.volume->kind);
    work.sectors = wish_.sectors;
    work.files = wish_.files;
    if (change.from == change.to && change.front == 0) work.start_code = start_code_of(s);
    const bool has_copy =
        volume::row_of(s.volume->kind)->behind > 0 && s.volume->sectors < s.partition.sectors;
    if (has_copy) work.old_copy = wish_.front + s.volume->sectors;
    change.anew = true;
    change.number = number_;
    work.label = fat::label_for(to_utf16(s.volume->label), CodePage(options_.codepage));
    return work;
  }

  // The first sectors of a FAT volume, where the boot sector has code that Nuvrat didn't write.
  [[nodiscard]] Bytes start_code_of(const SurveyedPartition& s) const {
    constexpr std::uint64_t kept = 16;  // what the settle writes
    const Bytes boot = device_.read(s.partition.start);
    const std::size_t code_at = fat::start_code_at(s.volume->kind);
    const ByteView there = ByteView(boot).subspan(code_at, 510 - code_at);
    const ByteView ours = base::volume_start_code();
    const bool of_others = !all_zero(there) && !std::equal(ours.begin(), ours.end(), there.begin());
    if (!of_others || device_.sector_size() != 512) return {};
    return device_.read(s.partition.start, std::min(kept, fat::reserved_sectors_of(boot)));
  }

  bool is_already(const SurveyedPartition& s, const VolumeChange& change) {
    if (!is_fat(change.to)) {
      obstacle(ObstacleCode::not_fat,
               fmt::format("{} is {}: the size of clusters can be chosen on FAT only", name_,
                           title_of(change.to)),
               fmt::format("Say p{}=fat32 as well, or leave the size of clusters out", number_));
      return true;
    }
    if (change.from != change.to || wish_.sectors != 0 || wish_.front != 0 ||
        !wish_.files.empty() ||
        (wish_.cluster_bytes != 0 && wish_.cluster_bytes != s.volume->cluster_bytes))
      return false;
    obstacle(ObstacleCode::already,
             fmt::format("{} is {} with clusters of {} already", name_, title_of(change.to),
                         format_bytes(s.volume->cluster_bytes)),
             "Nothing needs to be done");
    return true;
  }

  // Sizes of clusters, those first that leave most where it is.
  [[nodiscard]] std::vector<std::uint32_t> cluster_sizes(std::uint32_t now) const {
    const std::uint32_t sector = device_.sector_size();
    if (wish_.cluster_bytes != 0)
      return wish_.cluster_bytes >= sector ? std::vector{wish_.cluster_bytes}
                                           : std::vector<std::uint32_t>{};
    std::vector<std::uint32_t> out;
    for (std::uint32_t bytes = std::min(now, max_cluster_bytes); bytes >= sector; bytes /= 2)
      out.push_back(bytes);
    for (std::uint32_t bytes = now * 2; bytes <= max_cluster_bytes; bytes *= 2)
      out.push_back(bytes);
    return out;
  }

  [[nodiscard]] fat::LayoutWish wish_for(Look& look, const ToFat& work,
                                         std::uint32_t cluster) const {
    const VolumeInfo& info = look.volume->reader().info();
    const std::uint32_t sector = device_.sector_size();
    fat::LayoutWish out;
    out.kind = work.change.to;
    out.sector_bytes = sector;
    out.sectors = work.sectors_of_volume();
    out.cluster_sectors = cluster / sector;
    out.grid = wish_.front + info.first_cluster;
    out.grid_step = info.cluster_bytes / sector;
    out.min_reserved = fat::least_reserved(work.change.to);
    out.free = &look.volume->free();
    if (work.change.to != VolumeKind::fat32)
      out.root_entries = fat::root_entries_of(look.volume->tree(), look.volume->target(work));
    return out;
  }

  // The first size for which there is a place for the FATs and room for the rest. Where it is
  // cheaper that what lies where the FATs go moves first, or where there is no other way, it does.
  std::unique_ptr<fat::Plan> search(Look& look, const ToFat& described) {
    const std::uint32_t now = look.volume->reader().info().cluster_bytes;
    for (const std::uint32_t cluster : cluster_sizes(now)) {
      fat::LayoutWish wish = wish_for(look, described, cluster);
      const auto direct = fat::place_fats(wish, max_places);
      if (described.change.from == VolumeKind::ntfs) {
        allow_way(look, wish);
        const auto places = fat::place_fats(wish, 1);
        if (!places.empty() && places[0].in_the_way > 0 &&
            try_way(described.change, places[0].geometry, look)) {
          if (auto plan = plan_for(look, described, places[0].geometry)) return plan;
          look = Look{device_, described};
          way_.reset();
        }
      }
      for (const fat::LayoutChoice& place : direct) {
        if (auto plan = plan_for(look, described, place.geometry)) return plan;
      }
    }
    return nullptr;
  }

  // None where there is too little room; how little is kept.
  std::unique_ptr<fat::Plan> plan_for(Look& look, const ToFat& described, const fat::Geometry& g) {
    ToFat work = described;
    work.take(g);
    auto plan = std::make_unique<fat::Plan>(look.volume->plan(work));
    if (plan->fits()) return plan;
    const std::uint64_t missing =
        plan->needed_clusters() - std::min(plan->needed_clusters(), plan->free_clusters());
    if (!short_of_ || missing < short_of_->missing)
      short_of_ = {plan->needed_clusters(), plan->free_clusters(), missing, g.cluster_bytes()};
    return nullptr;
  }

  [[nodiscard]] static std::uint64_t free_bytes(const fat::Plan& plan) {
    return (plan.free_clusters() - plan.needed_clusters()) * plan.geometry().cluster_bytes();
  }
  // So much of what is free would be lost in front of the FATs that another way is worth its moves.
  [[nodiscard]] static bool is_wasteful(const fat::Plan& plan) {
    constexpr std::uint64_t least = 1u << 20;
    constexpr std::uint64_t part = 8;
    const std::uint64_t lost = lost_bytes(plan.geometry());
    return lost >= least && lost * part >= free_bytes(plan) + lost;
  }

  // Where new FATs don't fall on free sectors of the old FAT, or far behind its own: as NTFS,
  // whatever is there can move. True when that is planned, with its steps, and leaves at least so
  // many bytes free. `lost`: without it.
  bool by_way_of_ntfs(std::uint64_t lost, std::uint64_t least_free) {
    PlanPart there = plan_volume_ntfs(in_, number_);
    if (!there.in_reach() || there.steps.empty()) return false;
    PlannedDisk planned(device_, state_);
    planned.add(there.steps);
    const Device& as_ntfs = planned.device(options_);
    FatWish wish = wish_;
    wish.kind = wish.kind.value_or(state_.find(number_)->volume->kind);
    PlanPart back = FatPlanner(in_.on(as_ntfs, planned.state()), number_, wish).plan();
    if (!back.in_reach()) return false;
    const auto& to = std::get<ToFat>(back.steps.back().work().kind);
    if (std::uint64_t{to.free_after} * to.change.cluster_bytes < least_free) return false;
    consent(ConsentCode::by_way_of_ntfs, "becomes NTFS on the way, where everything can move",
            lost == 0 ? std::string("the new FATs must lie where the old volume has files")
                      : format_bytes(lost) +
                            " of what is free would be lost in front of the new "
                            "FATs");
    // What is lost on the way, and what is lost at its end, is said by the end.
    std::erase_if(back.consents, [](const Consent& c) {
      return c.code == ConsentCode::permissions || c.code == ConsentCode::everyone ||
             c.code == ConsentCode::limits;
    });
    out_.append({.steps = std::move(there.steps)});
    out_.append(std::move(back));
    return true;
  }

  void allow_way(Look& look, fat::LayoutWish& wish) const {
    wish.make_way = true;
    VolumeReader& reader = look.volume->reader();
    for (const SectorRange& r : reader.bad()) wish.fixed.add({wish_.front + r.first, r.count});
    const std::uint64_t spc = reader.info().cluster_bytes / device_.sector_size();
    const std::uint64_t boot = div_up<std::uint64_t>(8192, reader.info().cluster_bytes) * spc;
    wish.fixed.add({wish_.front, boot});
  }

  // Way made for these FATs, on an overlay that is looked at from then on.
  bool try_way(const VolumeChange& conversion, const fat::Geometry& g, Look& look) {
    steps::EditNtfs way;
    way.change = conversion;
    way.change.to = VolumeKind::ntfs;
    way.change.anew = false;
    way.change.front = 0;
    // As the volume counts that is there.
    const auto counted = [this](std::uint64_t first, std::uint64_t end) {
      first = std::max(first, wish_.front) - wish_.front;
      end = std::max(end, wish_.front) - wish_.front;
      return first < end ? std::vector<SectorRange>{{first, end - first}}
                         : std::vector<SectorRange>{};
    };
    way.vacate = counted(g.reserved_sectors, g.data_start());
    const Window window(device_, conversion.place);
    // Not into the front, if there is room elsewhere: it would have to be copied once more.
    for (const bool spare_front : {true, false}) {
      way.avoid.clear();
      if (spare_front) way.avoid = counted(0, g.data_start());
      const auto tried = way.edit(window);
      if (const auto* trouble = std::get_if<ntfs::EditTrouble>(&tried)) {
        trouble_ = *trouble;
        continue;
      }
      way.ends_snapshots = ntfs::has_snapshots(window);
      way.take(std::get<ntfs::Edit>(tried), device_.sector_size());
      look.volume.reset();
      look.overlay = std::make_unique<Overlay>(device_);
      const Step step(state_.table.layout, {way});
      const auto rewrite = make_rewrite(step, *look.overlay);
      (void)Engine::inspect(*rewrite, *look.overlay, OwnedBy(step));
      look.volume = std::make_unique<steps::VolumeAsFat>(*look.overlay, conversion, wish_.files);
      way_ = std::move(way);
      return true;
    }
    return false;
  }

  void add_way(const steps::EditNtfs& way) {
    consent(ConsentCode::made_way,
            plural(way.change.moved_clusters, "cluster moves out of the way of the FATs first",
                   "clusters move out of the way of the FATs first"),
            fmt::format("As a rewrite of the NTFS volume: {} with all that leads there",
                        format_bytes(way.change.needed_clusters * way.change.cluster_bytes)));
    out_.steps.push_back(Step(state_.table.layout, {way}));
  }

  void no_geometry(Look& look, const ToFat& work) {
    if (short_of_) {
      const auto& s = *short_of_;
      return obstacle(
          ObstacleCode::volume_room,
          fmt::format("{}: {} needs {} clusters of {} ({}) for folders and for contents that "
                      "can't stay where they are, {} are free: {} missing",
                      name_, title_of(work.change.to), s.needed, format_bytes(s.cluster),
                      format_bytes(s.needed * s.cluster), s.free,
                      plural(s.missing, "cluster is", "clusters are")),
          fmt::format("Take files of {} bytes ({}) in all off the volume", s.missing * s.cluster,
                      format_bytes(s.missing * s.cluster)),
          s.missing * s.cluster / device_.sector_size());
    }
    if (const fat::LayoutWish wish =
            wish_for(look, work, look.volume->reader().info().cluster_bytes);
        wish.root_entries > 65535 - 15)
      return obstacle(ObstacleCode::folder_entries,
                      fmt::format("{}: the root folder would have {} entries, and {} keeps 65,520",
                                  name_, format_count(wish.root_entries), title_of(work.change.to)),
                      "Move some of it into folders, or say fat32");
    bool any = false, any_but_fixed = false;
    for (const std::uint32_t cluster : cluster_sizes(look.volume->reader().info().cluster_bytes)) {
      fat::LayoutWish wish = wish_for(look, work, cluster);
      allow_way(look, wish);
      any_but_fixed = any_but_fixed || !fat::place_fats(wish, 1).empty();
      wish.fixed = {};
      any = any || !fat::place_fats(wish, 1).empty();
    }
    const std::uint64_t bytes = work.sectors_of_volume() * device_.sector_size();
    if (!any) {
      return obstacle(
          ObstacleCode::cluster_count,
          fmt::format("{} has {}: {} {} is not possible on it", name_, format_bytes(bytes),
                      title_of(work.change.to),
                      wish_.cluster_bytes == 0
                          ? std::string("with any size of clusters")
                          : "with clusters of " + format_bytes(wish_.cluster_bytes)),
          "FAT16 has 4,085 to 65,524 clusters, FAT32 65,525 to 268,435,444, and a cluster has at "
          "most 64 KiB");
    }
    std::string why;
    std::uint64_t missing = 0;
    const std::uint64_t cluster = look.volume->reader().info().cluster_bytes;
    if (!any_but_fixed) {
      why = ", or bad: between bad clusters there is no place for them";
    } else if (trouble_) {
      why = ", and can't be made free: " + trouble_->text(cluster);
      missing = trouble_->needed - std::min(trouble_->needed, trouble_->free);
    }
    obstacle(ObstacleCode::front_in_use,
             fmt::format("{}: the sectors where FATs can lie, at the volume's front, are in use{}",
                         name_, why),
             "Take files off the volume until there is more room",
             missing * cluster / device_.sector_size());
  }

  void fill_numbers(const fat::Plan& plan, VolumeChange& change) const {
    const fat::Geometry& g = plan.geometry();
    change.cluster_bytes = g.cluster_bytes();
    const std::uint64_t fats = g.data_start() - g.reserved_sectors;
    change.needed_clusters =
        plan.needed_clusters() + div_up<std::uint64_t>(fats, g.cluster_sectors);
    change.free_clusters = plan.free_clusters() + div_up<std::uint64_t>(fats, g.cluster_sectors);
    change.moved_clusters = plan.copied_clusters();
    if (way_)
      change.moved_clusters +=
          way_->change.moved_clusters * way_->change.cluster_bytes / g.cluster_bytes();
    change.writes = plan.needed_clusters() * g.cluster_sectors + fats + 18;
  }

  struct ShortOf {
    std::uint64_t needed = 0, free = 0, missing = 0;
    std::uint64_t cluster = 0;
  };

  const PlanInput in_;
  const Device& device_;
  const ReadOptions& options_;
  const disk::DiskState& state_;
  FatWish wish_;
  PlanPart out_;
  unsigned number_;
  std::string name_;
  std::optional<ShortOf> short_of_;
  std::optional<steps::EditNtfs> way_;
  std::optional<ntfs::EditTrouble> trouble_;  // of the last way that was tried
};

}  // namespace

PlanPart plan_volume_fat(const PlanInput& input, unsigned number, const FatWish& wish) {
  return FatPlanner(input, number, wish).plan();
}

}  // namespace nuvrat::plan
