#include "fat/read.h"

#include <utility>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/function_ref.h>

#include "device/given.h"
#include "fat/fit.h"
#include "fat/view.h"

namespace nuvrat::fat {
namespace {

class FatReader final : public VolumeReader {
 public:
  FatReader(const Device& device, const ReadOptions& options)
      : device_(device),
        options_(options),
        geometry_(fitting_geometry_of(device, device.read(0))),
        ratio_(geometry_.sector_bytes / device.sector_size()) {
    view_ = view_with(geometry_.active_fat);
    fill_info();
    require_right_boot();
    const SectorSet& replaced = view_->map().replaced();
    if (!replaced.empty())
      view_->note(Rule::fat_unreadable, Severity::error, replaced.ranges().front().first,
                  unreadable_fat_words(replaced.count()));
  }

  [[nodiscard]] const VolumeInfo& info() const override { return info_; }
  [[nodiscard]] const Findings& findings() const override { return view_->findings(); }
  [[nodiscard]] const Device& device() const override { return device_; }

  [[nodiscard]] const FileTree& tree() override {
    if (!std::exchange(walked_, true)) walk();
    return view_->tree();
  }

  [[nodiscard]] FileTree take_tree() override {
    (void)tree();
    return std::exchange(view_->tree(), FileTree());
  }

  [[nodiscard]] SectorSet bad() const override {
    SectorSet out;
    for (const ClusterRange& r : view_->map().bad()) out.add(view_->sectors_of(r));
    return out;
  }

  void read_contents(FileTree::Id /*id*/, ByteSink /*sink*/) override {
    throw Error(ErrorCode::words, "on FAT all contents are in extents");
  }

  [[nodiscard]] SectorSet owned() override {
    SectorSet out{{0, geometry_.data_start() * ratio_}};
    view_->map().each_used([&](ClusterRange r) { out.add(view_->sectors_of(r)); });
    return out;
  }

 private:
  [[nodiscard]] std::unique_ptr<View> view_with(std::uint32_t copy) const {
    return std::make_unique<View>(device_, options_, geometry_, copy);
  }

  void fill_info() {
    const Map& map = view_->map();
    info_.kind = geometry_.kind;
    info_.serial = fmt::format("{:04X}-{:04X}", geometry_.serial >> 16, geometry_.serial & 0xFFFF);
    info_.serial_number = geometry_.serial;
    info_.first_cluster = geometry_.data_start() * ratio_;
    info_.sectors = geometry_.total_sectors * ratio_;
    info_.bytes = info_.sectors * device_.sector_size();
    info_.cluster_bytes = geometry_.cluster_bytes();
    info_.free_bytes = std::uint64_t{map.free_clusters()} * geometry_.cluster_bytes();
    info_.hidden_sectors = geometry_.hidden_sectors;
    info_.clean = map.clean() && !geometry_.dirty_flag;
    if (!info_.clean) {
      view_->note(Rule::fat_not_clean, Severity::error, 0,
                  "the volume was not closed properly, or errors were noted on it; start it once "
                  "under the system that owns it, or check it there");
    }
    info_.label = view_->label();
  }

  void walk() {
    view_->walk();
    if (!view_->agreement().complete() && geometry_.mirrored) find_better_copy();
    if (const auto doubt = view_->agreement().doubt_code()) {
      const std::string why = view_->agreement().doubt_words();
      view_->note(*doubt, Severity::error, geometry_.root_start() * ratio_, why);
      view_->left_out().push_back({{}, {}, why});
    }
    for (LeftOut& l : std::exchange(view_->left_out(), {})) leave_out(std::move(l));
  }

  // Where the second boot sector says that things lie elsewhere, and the volume agrees with that
  // one, the first is as good as lost: with it nothing may be written, and little can be read.
  void require_right_boot() {
    if (geometry_.backup_boot == 0) return;
    const auto copy =
        device::read_if_given(device_, std::uint64_t{geometry_.backup_boot} * ratio_, ratio_);
    if (!copy || !contradicts(geometry_, *copy)) return;
    (void)tree();
    if (view_->agreement().complete()) return;
    std::string fault;
    const Geometry other = *parse_boot(*copy, fault);
    const bool fits = other.sector_bytes == geometry_.sector_bytes &&
                      other.total_sectors * ratio_ <= device_.sectors() &&
                      misfit_of(device_, other).empty();
    if (!fits) return;
    bool better = false;
    const bool read = device::is_given([&] {
      View with_other(device_, options_, other, other.active_fat);
      with_other.walk();
      better = with_other.agreement().is_better_than(view_->agreement());
    });
    if (!read || !better) return;
    throw Error(ErrorCode::damaged,
                "the FAT boot sector contradicts the second one, and the volume is as that one "
                "says",
                {.sector = 0});
  }

  // Its own system reads the first one; the folders say which one is right.
  void find_better_copy() {
    for (std::uint32_t copy = 1; copy < geometry_.fats; ++copy) {  // there are at most four
      auto other = view_with(copy);
      if (other->map().same_as(view_->map())) continue;
      other->walk();
      if (Agreement::right_of(view_->agreement(), other->agreement()) != Agreement::Right::second)
        continue;
      const bool open = view_->map().left_open();
      view_ = std::move(other);
      fill_info();
      info_.clean = info_.clean && !open;
      view_->note(Rule::fat_copies_differ, Severity::error, geometry_.fat_start(0) * ratio_,
                  fmt::format("the first FAT isn't as the folders say: the volume is read with {}",
                              ordinal_fat(copy)),
                  true);
      return;
    }
  }

  const Device& device_;
  ReadOptions options_;
  Geometry geometry_;
  std::uint32_t ratio_;
  std::unique_ptr<View> view_;
  VolumeInfo info_;
  bool walked_ = false;
};

}  // namespace

bool is_fat_boot(ByteView sector0) {
  std::string fault;
  return parse_boot(sector0, fault).has_value();
}

std::unique_ptr<VolumeReader> open_reader(const Device& device, const ReadOptions& options) {
  return std::make_unique<FatReader>(device, options);
}

}  // namespace nuvrat::fat
