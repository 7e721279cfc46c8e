#include "ntfs/fit.h"

#include <optional>

#include <nuvrat/error.h>

#include "base/record.h"
#include "device/given.h"
#include "ntfs/records.h"

namespace nuvrat::ntfs {
namespace {

std::optional<Geometry> second_boot(const Volume& volume) {
  const Device& device = volume.device();
  const auto sector = device::read_if_given(device, device.sectors() - 1);
  if (!sector || !is_ntfs_boot(*sector)) return std::nullopt;
  std::string fault;
  return parse_boot(*sector, fault);
}

bool root_has_blocks_of(const Volume& volume, std::uint32_t bytes) {
  const auto all = volume.attributes_if_readable(record_root);
  const AttributeView* root = find_attribute(all, at_index_root, u"$I30");
  return root != nullptr && root->value.size() >= sizeof(IndexRoot) &&
         base::load<IndexRoot>(root->value).block_size.value() == bytes;
}

bool mirror_begins_at(const Volume& volume, std::uint64_t lcn) {
  const auto all = volume.attributes_if_readable(record_mirror);
  const AttributeView* data = find_attribute(all, at_data);
  return data != nullptr && !data->runs.empty() && data->runs.front().lcn == lcn;
}

}  // namespace

void require_right_boot(const Volume& volume) {
  const Geometry& first = volume.geometry();
  const auto second = second_boot(volume);
  if (!second || second->mft_lcn != first.mft_lcn) return;
  const bool blocks =
      second->index_bytes != first.index_bytes && root_has_blocks_of(volume, second->index_bytes);
  const bool mirror =
      second->mirror_lcn != first.mirror_lcn && mirror_begins_at(volume, second->mirror_lcn);
  if (!blocks && !mirror) return;
  throw Error(ErrorCode::damaged,
              "the NTFS boot sector contradicts the second one, and the volume is as that one says",
              {.sector = 0});
}

}  // namespace nuvrat::ntfs
