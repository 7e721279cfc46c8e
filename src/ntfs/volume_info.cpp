#include "ntfs/volume_info.h"

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "ntfs/restart.h"

namespace nuvrat::ntfs {
namespace {

LogState log_state(const Volume& volume) {
  const auto all = volume.attributes(record_log);
  const AttributeView* data = find_attribute(all, at_data);
  return data == nullptr ? LogState{} : read_log(volume, *data);
}

std::uint64_t free_bytes(const Volume& volume) {
  const auto all = volume.attributes(record_bitmap);
  const AttributeView* data = find_attribute(all, at_data);
  if (data == nullptr) throw Error(ErrorCode::damaged, "$Bitmap has no contents");
  std::uint64_t used = 0;
  std::uint64_t left = volume.geometry().clusters();
  const std::uint64_t clusters = left;
  volume.stream_own(*data, [&](ByteView bytes) {
    for (const std::uint8_t byte : bytes) {
      const unsigned bits = left >= 8 ? 8 : static_cast<unsigned>(left);
      used += static_cast<unsigned>(__builtin_popcount(byte & ((1u << bits) - 1)));
      left -= bits;
    }
  });
  return (clusters - used - left) * volume.geometry().cluster_bytes();
}

template <typename Call>
auto told(base::FindingLog& log, std::uint64_t record, const char* otherwise, const Call& call)
    -> std::optional<decltype(call())> {
  try {
    return call();
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
    Place place = e.place();
    place.record = record;
    log.add(Rule::ntfs_unreadable, Severity::error, std::move(place),
            std::string(otherwise) + ": " + e.message());
    return std::nullopt;
  }
}

}  // namespace

VolumeInfo read_info(const Volume& volume, base::FindingLog& log) {
  VolumeInfo info;
  const Geometry& g = volume.geometry();
  const std::uint64_t ratio = g.sector_bytes / volume.device().sector_size();
  info.kind = VolumeKind::ntfs;
  info.serial_number = g.serial;
  info.serial = fmt::format("{:04X}-{:04X}", g.serial >> 16 & 0xFFFF, g.serial & 0xFFFF);
  info.sectors = g.total_sectors * ratio;
  info.bytes = info.sectors * volume.device().sector_size();
  info.cluster_bytes = static_cast<std::uint32_t>(g.cluster_bytes());
  info.hidden_sectors = g.hidden_sectors;
  const auto said = volume.attributes(record_volume_info);
  if (const AttributeView* name = find_attribute(said, at_volume_name))
    info.label = to_utf8(utf16_from(name->value));
  const AttributeView* about = find_attribute(said, at_volume_information);
  if (about == nullptr || about->value.size() < 12)
    throw Error(ErrorCode::damaged, "the volume's own record says nothing of the volume",
                {.record = record_volume_info});
  const bool dirty = (about->value[10] & 1) != 0;
  // Neither is needed to read files: what can't be told is said.
  const auto state = told(log, record_log, "whether the volume was closed properly isn't known",
                          [&] { return log_state(volume); });
  const auto trouble = state ? state->trouble() : std::nullopt;
  info.clean = !dirty && state && !trouble;
  if (dirty || trouble) {
    log.add(Rule::ntfs_not_clean, Severity::error,
            Place{.record = dirty ? record_volume_info : record_log},
            dirty ? "the volume is marked as not closed properly; start it once under the "
                    "system that owns it"
                  : *trouble);
  }
  info.free_bytes = told(log, record_bitmap, "what is free isn't known", [&] {
                      return free_bytes(volume);
                    }).value_or(0);
  return info;
}

}  // namespace nuvrat::ntfs
