#include "boot/identity.h"

#include <algorithm>

#include <boost/endian/buffers.hpp>

#include "base/record.h"

namespace nuvrat::boot {
namespace {

namespace be = boost::endian;

constexpr std::uint32_t type_partition = 6;
constexpr std::uint32_t element_length = 0x48;
constexpr std::uint32_t style_gpt = 0, style_mbr = 1;

struct DeviceElement {
  std::array<std::uint8_t, 16> options;
  be::little_uint32_buf_t type, flags, length, zero;
  std::array<std::uint8_t, 16> partition;
  be::little_uint32_buf_t zero2, style;
  std::array<std::uint8_t, 16> disk;
  std::array<std::uint8_t, 16> zero3;
};
static_assert(sizeof(DeviceElement) == 88);

constexpr std::string_view gpt_letter = "DMIO:ID:";

Guid guid_at(ByteView bytes, std::size_t at) {
  return Guid(std::span<const std::uint8_t, 16>(bytes.data() + at, 16));
}

}  // namespace

PartitionName name_of(const Layout& layout, const Partition& p) {
  PartitionName out;
  out.gpt = layout.kind == TableKind::gpt;
  if (out.gpt) {
    out.partition = p.unique_id;
    out.disk = layout.disk_guid;
  } else {
    out.signature = layout.disk_signature;
    out.offset = p.start * layout.sector_size;
  }
  return out;
}

const Partition* named_by(const Layout& layout, const PartitionName& name) {
  for (const Partition& p : layout.partitions) {
    if (p.role == Role::extended || name.gpt != (layout.kind == TableKind::gpt)) continue;
    const PartitionName here = name_of(layout, p);
    const bool same = name.gpt ? name.partition == here.partition
                               : name.signature == here.signature && name.offset == here.offset;
    if (same) return &p;
  }
  return nullptr;
}

Bytes device_element(const PartitionName& name) {
  DeviceElement e{};
  e.type = type_partition;
  e.length = element_length;
  e.style = name.gpt ? style_gpt : style_mbr;
  if (name.gpt) {
    e.partition = name.partition.on_disk();
    e.disk = name.disk.on_disk();
  } else {
    Bytes offset(8), signature(4);
    be::little_uint64_buf_t o;
    o = name.offset;
    base::store(o, offset);
    be::little_uint32_buf_t s;
    s = name.signature;
    base::store(s, signature);
    std::copy(offset.begin(), offset.end(), e.partition.begin());
    std::copy(signature.begin(), signature.end(), e.disk.begin());
  }
  const ByteView bytes = base::bytes_of(e);
  return {bytes.begin(), bytes.end()};
}

std::optional<PartitionName> read_device_element(ByteView element) {
  if (element.size() != sizeof(DeviceElement)) return std::nullopt;
  const auto e = base::load<DeviceElement>(element);
  if (e.type.value() != type_partition || e.length.value() != element_length) return std::nullopt;
  PartitionName out;
  out.gpt = e.style.value() == style_gpt;
  if (out.gpt) {
    out.partition = Guid(e.partition);
    out.disk = Guid(e.disk);
  } else if (e.style.value() == style_mbr) {
    out.offset = base::load<be::little_uint64_buf_t>(e.partition).value();
    out.signature = base::load<be::little_uint32_buf_t>(e.disk).value();
  } else {
    return std::nullopt;
  }
  // All that isn't said must be zeros: else it is something that isn't known here.
  Bytes same = device_element(out);
  auto flags = base::load<DeviceElement>(same);
  flags.flags = e.flags.value();
  base::store(flags, same);
  return std::equal(same.begin(), same.end(), element.begin()) ? std::optional(out) : std::nullopt;
}

std::vector<NestedName> nested_names(ByteView element) {
  // After the options: the same block as that of a plain element, at any place.
  constexpr std::size_t block_at = offsetof(DeviceElement, type);
  constexpr std::size_t block_bytes = sizeof(DeviceElement) - block_at;
  std::vector<NestedName> out;
  Bytes alone(sizeof(DeviceElement));
  for (std::size_t at = 0; at + block_bytes <= element.size();) {
    std::copy_n(element.begin() + static_cast<std::ptrdiff_t>(at), block_bytes,
                alone.begin() + static_cast<std::ptrdiff_t>(block_at));
    const auto name = read_device_element(alone);
    if (name) out.push_back({at, *name});
    at += name ? block_bytes : 4;
  }
  return out;
}

Bytes renamed_inside(const Bytes& element, const std::vector<NestedName>& names) {
  constexpr std::size_t block_at = offsetof(DeviceElement, type);
  constexpr std::size_t flags_at = offsetof(DeviceElement, flags) - block_at;
  Bytes out = element;
  for (const NestedName& n : names) {
    const Bytes block = device_element(n.name);
    const auto to = out.begin() + static_cast<std::ptrdiff_t>(n.at);
    std::copy(block.begin() + block_at, block.end(), to);
    std::copy_n(element.begin() + static_cast<std::ptrdiff_t>(n.at + flags_at), 4, to + flags_at);
  }
  return out;
}

Bytes letter_value(const PartitionName& name) {
  Bytes out;
  if (name.gpt) {
    out.assign(gpt_letter.begin(), gpt_letter.end());
    out.insert(out.end(), name.partition.on_disk().begin(), name.partition.on_disk().end());
    return out;
  }
  out.resize(12);
  be::little_uint32_buf_t signature;
  signature = name.signature;
  base::store(signature, out);
  be::little_uint64_buf_t offset;
  offset = name.offset;
  base::store(offset, out, 4);
  return out;
}

std::optional<PartitionName> read_letter_value(ByteView value) {
  PartitionName out;
  if (value.size() == 12) {
    out.signature = base::load<be::little_uint32_buf_t>(value).value();
    out.offset = base::load<be::little_uint64_buf_t>(value, 4).value();
    return out;
  }
  if (value.size() != gpt_letter.size() + 16 ||
      !std::equal(gpt_letter.begin(), gpt_letter.end(), value.begin()))
    return std::nullopt;
  out.gpt = true;
  out.partition = guid_at(value, gpt_letter.size());
  return out;
}

}  // namespace nuvrat::boot
