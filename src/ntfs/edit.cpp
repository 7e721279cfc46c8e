#include "ntfs/edit.h"

#include <utility>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "ntfs/edit_layout.h"

namespace nuvrat::ntfs {
namespace {

// The cheapest way first.
std::vector<EditWay> ways_of(const EditVolume& volume) {
  if (volume.front > 0)
    return {{.whole_mft = true, .whole_bitmap = true},
            {.whole_mft = true, .whole_bitmap = true, .list = true}};
  return {{},
          {.whole_bitmap = true},
          {.whole_mft = true},
          {.whole_mft = true, .whole_bitmap = true},
          {.whole_bitmap = true, .list = true},
          {.whole_mft = true, .whole_bitmap = true, .list = true}};
}

// Clusters that nobody owns, before or after.
tree::FreeRuns room_of(const EditVolume& volume, const EditScan& scan) {
  SectorSet closed = scan.owned;
  closed.add(volume.vacate);
  closed.add(volume.avoid);
  closed.add({0, volume.boot_clusters});
  // The old one's boot area counts until the switch.
  closed.add({volume.front, volume.boot_clusters});
  return {closed.gaps({0, volume.clusters}), 0, 1, 0, volume.clusters};
}

}  // namespace

std::string EditTrouble::text(std::uint64_t cluster_bytes) const {
  switch (kind) {
    case Kind::fixed:
      return fmt::format("cluster {} is bad, or of the boot area, and stays where it is", cluster);
    case Kind::room:
      return fmt::format("what has to move takes {} clusters of {}, {} are free",
                         format_count(needed), format_bytes(cluster_bytes), format_count(free));
    case Kind::pieces:
      return fmt::format(
          "the {} that would be free lie in pieces too small for what must be in one, the "
          "beginning of $MFT, or in few, as the system's files must",
          plural(free, "cluster", "clusters"));
    case Kind::records:
      return fmt::format("a file in many pieces needs {} of $MFT, and {} free",
                         plural(needed, "record more", "records more"),
                         free == 1 ? "1 is" : std::to_string(free) + " are");
    case Kind::new_records:
      return fmt::format("new files and folders need a free record of $MFT each, and {}",
                         free == 0   ? "none is free"
                         : free == 1 ? "1 is free"
                                     : std::to_string(free) + " are free");
  }
  return "";
}

Edit::Edit(std::unique_ptr<const EditParts> parts) : parts_(std::move(parts)) {}
Edit::Edit(Edit&&) noexcept = default;
Edit& Edit::operator=(Edit&&) noexcept = default;
Edit::~Edit() = default;

const Geometry& Edit::geometry() const {
  return parts_->volume.geometry();
}
std::uint64_t Edit::mft_lcn() const {
  return parts_->layout.mft_lcn;
}
std::uint64_t Edit::mirror_lcn() const {
  return parts_->layout.mirror.lcn;
}
std::uint64_t Edit::clusters() const {
  return parts_->volume.clusters;
}
std::uint64_t Edit::written_clusters() const {
  const EditVolume& v = parts_->volume;
  return parts_->layout.used + (v.front > 0 ? v.boot_clusters : 0);
}
std::uint64_t Edit::free_clusters() const {
  return parts_->layout.free;
}
std::uint64_t Edit::moved_clusters() const {
  return parts_->layout.moved;
}
std::uint64_t Edit::rebuilt_files() const {
  return parts_->layout.lists.size();
}

void Edit::write(const EditOutput& out) const {
  write_edit(*parts_, out);
}

std::variant<Edit, EditTrouble> lay_out(const Device& device, EditRequest request) {
  using Kind = EditTrouble::Kind;
  auto parts = std::make_unique<EditParts>(EditVolume(device, std::move(request)));
  parts->streams = find_system_streams(parts->volume);
  parts->puts = find_put_records(parts->volume, parts->streams);
  parts->scan = scan(parts->volume, parts->puts);
  if (parts->puts.too_few)
    return EditTrouble{.kind = Kind::new_records, .free = parts->puts.bits.size()};
  if (parts->scan.fixed) return EditTrouble{.kind = Kind::fixed, .cluster = *parts->scan.fixed};
  const tree::FreeRuns room = room_of(parts->volume, parts->scan);
  std::optional<EditTrouble> first;
  for (const EditWay& way : ways_of(parts->volume)) {
    auto tried = Layouter(*parts, room).lay_out(way);
    if (auto* layout = std::get_if<EditLayout>(&tried)) {
      parts->layout = std::move(*layout);
      return Edit(std::move(parts));
    }
    if (!first) first = std::get<EditTrouble>(tried);
  }
  return *first;
}

}  // namespace nuvrat::ntfs
