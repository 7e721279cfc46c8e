#include "ntfs/volume_info.h"

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/fixup.h"

namespace nuvrat::ntfs {
namespace {

// The log is closed when it is empty, or its restart area says that no client uses it.
bool log_is_closed(const Volume& volume) {
  const auto all = volume.attributes(record_log);
  const AttributeView* data = find_attribute(all, at_data);
  if (data == nullptr || data->resident || data->size < 8192) return false;
  bool any_closed = false;
  for (const std::uint64_t at : {std::uint64_t{0}, std::uint64_t{4096}}) {
    Bytes page(4096);
    volume.read(*data, at, page);
    const auto mark = load<be::little_uint32_buf_t>(page).value();
    if (mark == 0xFFFFFFFF) {
      any_closed |= at == 0;
      continue;
    }
    if (mark != 0x52545352 || !unprotect(page)) continue;  // "RSTR"
    const std::size_t area = load<be::little_uint16_buf_t>(page, 0x18).value();
    if (area + 16 > page.size()) continue;
    const auto client = load<be::little_uint16_buf_t>(page, area + 12).value();
    const auto flags = load<be::little_uint16_buf_t>(page, area + 14).value();
    if (client != 0xFFFF && (flags & 2) == 0) return false;
    any_closed = true;
  }
  return any_closed;
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
    log.add("ntfs.unreadable", Severity::error, std::move(place),
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
                {{}, {}, record_volume_info, {}});
  const bool dirty = (about->value[10] & 1) != 0;
  // Neither is needed to read files: what can't be told is said.
  const auto closed = told(log, record_log, "whether the volume was closed properly isn't known",
                           [&] { return log_is_closed(volume); });
  info.clean = !dirty && closed.value_or(false);
  if (dirty || (closed && !*closed)) {
    log.add("ntfs.not-clean", Severity::error,
            Place{{}, {}, dirty ? record_volume_info : record_log, {}},
            dirty ? "the volume is marked as not closed properly; start it once under the "
                    "system that owns it"
                  : "the log holds work that is not done yet; start the volume once under "
                    "the system that owns it, and close it there");
  }
  info.free_bytes = told(log, record_bitmap, "what is free isn't known", [&] {
                      return free_bytes(volume);
                    }).value_or(0);
  return info;
}

}  // namespace nuvrat::ntfs
