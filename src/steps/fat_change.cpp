#include "steps/fat_change.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/rewrite.h>

#include "fat/boot.h"

namespace nuvrat::steps {
namespace {

class FatSectors final : public Rewrite {
 public:
  FatSectors(const Step& step, const FatChange& work, const Device& device)
      : step_(step), work_(work), device_(device) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    sink.purpose("clusters of files, moved");
    constexpr std::uint64_t piece = 2048;
    for (const SectorMove& m : work_.moves) {
      for (std::uint64_t at = 0; at < m.from.count; at += piece) {
        const std::uint64_t count = std::min(piece, m.from.count - at);
        sink.write(m.to + at, device_.read(m.from.first + at, count));
      }
    }
    sink.purpose(purpose());
    for (const SectorWrite& w : work_.before) sink.write(w.lba, w.data);
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return work_.change; }
  [[nodiscard]] std::string switch_purpose() const override { return purpose(); }
  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    const SectorRange place = work_.volume.place;
    const Window window(device_, place);
    const fat::Geometry g = fat::geometry_of(window, window.read(0));
    const std::uint64_t ratio = g.sector_bytes / device_.sector_size();
    const auto sectors = [&](std::uint64_t first, std::uint64_t count) {
      SectorSet set;
      set.add({place.first + first * ratio, count * ratio});
      return set;
    };
    Exemptions out;
    out.push_back({sectors(g.fat_start(0), std::uint64_t{g.fats} * g.fat_sectors),
                   "entries of the FAT: nothing leads to a new chain yet, or to an old one any "
                   "more, and the copies follow the one that counts"});
    if (g.fs_info != 0)
      out.push_back({sectors(g.fs_info, 1), "FSInfo is a hint, which no system relies on"});
    if (g.backup_boot != 0)
      out.push_back(
          {sectors(g.backup_boot, 1), "the second boot sector is a copy: the first one counts"});
    Exemption entries{{}, "a file's entry: its size, or that it has no cluster, and nothing else"};
    for (const SectorWrite& w : phase == Phase::prepare ? work_.before : work_.after) {
      if (changes_only_sizes(device_.read(w.lba), w.data)) entries.sectors.add({w.lba, 1});
    }
    out.push_back(std::move(entries));
    Exemption labels{{}, "the label in the boot sector repeats the one in the root folder"};
    for (const SectorWrite& w : work_.after) {
      if (w.lba == place.first && changes_only_the_label(device_.read(w.lba), w.data, g))
        labels.sectors.add({w.lba, 1});
    }
    out.push_back(std::move(labels));
    if (phase == Phase::prepare && begun()) {
      Exemption again{{}, "prepared before, and cut off: only the new chain's entries claim it"};
      for (const SectorMove& m : work_.moves) again.sectors.add({m.to, m.from.count});
      for (const SectorWrite& w : work_.before) {
        if (device_.read(w.lba) == w.data) again.sectors.add({w.lba, 1});
      }
      out.push_back(std::move(again));
    }
    return out;
  }
  void settle(SectorSink& sink) override {
    sink.purpose(purpose());
    for (const SectorWrite& w : work_.after) sink.write(w.lba, w.data);
  }

 private:
  // Prepared before, and cut off: the new chain's entries claim the clusters that it is copied to,
  // and nothing else does.
  [[nodiscard]] bool begun() const {
    return std::any_of(work_.before.begin(), work_.before.end(),
                       [this](const SectorWrite& w) { return device_.read(w.lba) == w.data; });
  }
  // Of 32-byte entries only the fields for size and first cluster.
  static bool changes_only_sizes(ByteView now, ByteView then) {
    for (std::size_t i = 0; i < now.size(); ++i) {
      const std::size_t in_entry = i % 32;
      const bool field = in_entry == 20 || in_entry == 21 || in_entry >= 26;
      if (now[i] != then[i] && !field) return false;
    }
    return true;
  }
  static bool changes_only_the_label(Bytes now, const Bytes& then, const fat::Geometry& g) {
    fat::Geometry labelled;
    std::string fault;
    if (const auto other = fat::parse_boot(then, fault)) labelled = *other;
    labelled.kind = g.kind;
    fat::set_label(now, labelled);
    return now == then;
  }
  [[nodiscard]] std::string purpose() const { return "FAT volume: " + work_.title; }

  Step step_;  // owns the work
  const FatChange& work_;
  const Device& device_;
};

}  // namespace

std::string FatChange::name() const {
  return title + (volume.number == 0 ? "" : fmt::format(" on p{}", volume.number));
}

std::unique_ptr<Rewrite> make_fat_change(const Step& step, const FatChange& change,
                                         const Device& device) {
  return std::make_unique<FatSectors>(step, change, device);
}

}  // namespace nuvrat::steps
