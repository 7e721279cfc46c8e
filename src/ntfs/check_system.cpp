// The rules of the system's own files.

#include <algorithm>
#include <bit>
#include <map>

#include <fmt/core.h>

#include "base/record.h"
#include "ntfs/check_state.h"
#include "ntfs/fixup.h"
#include "ntfs/mirror.h"
#include "ntfs/restart.h"

namespace nuvrat::ntfs {
namespace {

// True when the volume says itself that it is not clean.
bool check_volume_record(CheckState& state) {
  const auto all = state.system_file(record_volume_info);
  const AttributeView* info = find_attribute(all, at_volume_information);
  if (info == nullptr || info->value.size() < 12) {
    state.error(Rule::ntfs_volume_record, record_volume_info, "$Volume says nothing of the volume");
    return false;
  }
  const unsigned major = info->value[8];
  const unsigned minor = info->value[9];
  if (major != 3 || minor > 1)
    state.finding(Rule::ntfs_volume_record, Severity::warning, record_volume_info,
                  fmt::format("the volume is of version {}.{}", major, minor));
  const bool dirty = (info->value[10] & 1) != 0;
  if (dirty)
    state.error(Rule::ntfs_not_clean, record_volume_info,
                "the volume is marked as not closed properly; start it once under the system that "
                "owns it");
  return dirty;
}

void check_log(CheckState& state, bool said) {
  const auto all = state.system_file(record_log);
  const AttributeView* data = find_attribute(all, at_data);
  if (data == nullptr || data->resident || data->size < 192u << 10) {
    state.error(Rule::ntfs_log, record_log, "$LogFile is smaller than any system takes");
    return;
  }
  const LogState log = read_log(state.volume, *data);
  const bool open = log.kind == LogState::Kind::open && !log.torn;
  if (const auto trouble = log.trouble(); trouble && !(open && said))
    state.error(open ? Rule::ntfs_not_clean : Rule::ntfs_log, record_log, *trouble);
}

void check_definitions(CheckState& state) {
  const auto all = state.system_file(record_attr_def);
  const AttributeView* data = find_attribute(all, at_data);
  const std::uint32_t wanted[] = {0x10, 0x20, 0x30, 0x40, 0x50, 0x60, 0x70, 0x80,
                                  0x90, 0xA0, 0xB0, 0xC0, 0xD0, 0xE0, 0x100};
  if (data == nullptr || data->bytes() < std::size(wanted) * 160) {
    state.error(Rule::ntfs_attr_def, record_attr_def, "$AttrDef doesn't hold the standard rows");
    return;
  }
  const Bytes rows = state.volume.read_all(*data, 1u << 20);
  for (std::size_t i = 0; i < std::size(wanted); ++i) {
    const auto type = load<be::little_uint32_buf_t>(rows, i * 160 + 128).value();
    if (type != wanted[i] || rows[i * 160] != '$')
      state.error(Rule::ntfs_attr_def, record_attr_def,
                  fmt::format("row {} of $AttrDef is of type {:X}, not {:X}", i, type, wanted[i]));
  }
}

void check_upcase(CheckState& state) {
  const auto all = state.system_file(record_upcase);
  const AttributeView* data = find_attribute(all, at_data);
  if (data == nullptr || data->bytes() != 131072) {
    state.error(Rule::ntfs_upcase, record_upcase, "$UpCase doesn't hold 65,536 units");
    return;
  }
  const UpCase table(state.volume.read_all(*data, 131072));
  for (unsigned c = 0; c < 65536; ++c) {
    const char16_t upper = table(static_cast<char16_t>(c));
    const bool ascii_wrong = c < 0x80 && upper != (c >= 'a' && c <= 'z' ? c - 32 : c);
    const bool into_ascii = c >= 0x80 && upper < 0x80;
    if (ascii_wrong || into_ascii)
      state.error(Rule::ntfs_upcase, record_upcase,
                  fmt::format("$UpCase maps {:04X} to {:04X}", c, static_cast<unsigned>(upper)));
  }
}

void check_boot_file(CheckState& state) {
  const auto all = state.system_file(record_boot);
  const AttributeView* data = find_attribute(all, at_data);
  if (data == nullptr || data->resident || data->size != 8192 || data->runs.empty() ||
      data->runs.front().lcn != 0)
    state.error(Rule::ntfs_boot_file, record_boot, "$Boot is not the volume's first 8,192 bytes");
}

void check_bad(CheckState& state) {
  const auto all = state.system_file(record_bad);
  const AttributeView* data = find_attribute(all, at_data, u"$Bad");
  const Geometry& g = state.volume.geometry();
  if (data == nullptr || data->resident || data->size != g.clusters() * g.cluster_bytes())
    state.error(Rule::ntfs_bad_clusters, record_bad,
                "$BadClus has no stream $Bad as large as the volume");
}

std::uint32_t rotated_sum(ByteView bytes) {
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i + 3 < bytes.size(); i += 4) {
    const std::uint32_t word = bytes[i] | static_cast<std::uint32_t>(bytes[i + 1]) << 8 |
                               static_cast<std::uint32_t>(bytes[i + 2]) << 16 |
                               static_cast<std::uint32_t>(bytes[i + 3]) << 24;
    sum = (sum << 3 | sum >> 29) + word;
  }
  return sum;
}

// Ids in the stream, with where each is and its hash.
std::map<std::uint32_t, SecurityEntry> checked_descriptors(CheckState& state,
                                                           const AttributeView& data) {
  std::map<std::uint32_t, SecurityEntry> out;
  constexpr std::uint64_t mirror = 0x40000;
  const Bytes all = state.volume.read_all(data, 256u << 20);
  for (std::uint64_t at = 0; at + sizeof(SecurityEntry) <= all.size();) {
    if (at % (2 * mirror) >= mirror) {
      at = (at / (2 * mirror) + 1) * 2 * mirror;
      continue;
    }
    const auto e = load<SecurityEntry>(all, at);
    const std::uint64_t length = e.length.value();
    if (length == 0) {  // the rest of this block is empty
      at = (at / mirror + 2) * mirror;
      continue;
    }
    if (e.offset.value() != at || length < sizeof e || length > all.size() - at) {
      state.error(Rule::ntfs_security_stream, record_secure,
                  fmt::format("the descriptor at byte {} of $SDS makes no sense", at));
      return out;
    }
    const ByteView bytes = ByteView(all).subspan(at, length);
    if (rotated_sum(bytes.subspan(sizeof e)) != e.hash.value())
      state.error(Rule::ntfs_security_stream, record_secure,
                  fmt::format("the descriptor {:X} has another hash than it says", e.id.value()));
    if (at + mirror + length > all.size() ||
        !std::equal(bytes.begin(), bytes.end(),
                    all.begin() + static_cast<std::ptrdiff_t>(at + mirror)))
      state.error(Rule::ntfs_security_stream, record_secure,
                  fmt::format("the mirror of descriptor {:X} differs", e.id.value()));
    out[e.id.value()] = e;
    at = (at + length + 15) / 16 * 16;
  }
  return out;
}

// Entries of a small or large view index, in no order.
std::vector<Bytes> view_entries(CheckState& state, const std::vector<AttributeView>& all,
                                std::u16string_view name) {
  std::vector<Bytes> out;
  const auto take = [&out](ByteView node, std::size_t header_at) {
    const auto header = load<IndexHeader>(node, header_at);
    const std::uint64_t end =
        std::min<std::uint64_t>(node.size(), header_at + std::uint64_t{header.used.value()});
    std::uint64_t at = header_at + std::uint64_t{header.first_entry.value()};
    while (at + sizeof(IndexEntry) <= end) {
      const auto entry = load<IndexEntry>(node, at);
      const std::size_t length = entry.length.value();
      if (length < sizeof entry || length > end - at || (entry.flags.value() & entry_last) != 0)
        return;
      const ByteView bytes = node.subspan(at, length);
      out.emplace_back(bytes.begin(), bytes.end());
      at += length;
    }
  };
  const AttributeView* root = find_attribute(all, at_index_root, name);
  if (root != nullptr && root->value.size() >= 32) take(root->value, sizeof(IndexRoot));
  const AttributeView* blocks = find_attribute(all, at_index_allocation, name);
  const AttributeView* bits = find_attribute(all, at_bitmap, name);
  if (blocks == nullptr || bits == nullptr) return out;
  const Bytes used = state.volume.read_all(*bits, 1u << 20);
  const std::uint64_t size = state.volume.geometry().index_bytes;
  const RunMap map(blocks->runs);
  Bytes block(size);
  for (std::uint64_t i = 0; i < blocks->size / size && i / 8 < used.size(); ++i) {
    if ((used[i / 8] >> i % 8 & 1) == 0) continue;
    state.volume.read(map, i * size, block);
    if (unprotect(block)) take(block, offsetof(IndexBlock, header));
  }
  return out;
}

}  // namespace

void check_system_files(CheckState& state) {
  check_mirror(state.volume, state.system_file(record_mirror), state.log);
  check_log(state, check_volume_record(state));
  check_definitions(state);
  check_upcase(state);
  check_boot_file(state);
  check_bad(state);
}

void check_security(CheckState& state) {
  const auto all = state.system_file(record_secure);
  const AttributeView* data = find_attribute(all, at_data, u"$SDS");
  if (data == nullptr) {
    state.error(Rule::ntfs_security_stream, record_secure, "$Secure has no $SDS");
    return;
  }
  const auto descriptors = checked_descriptors(state, *data);
  std::map<std::uint32_t, bool> found;
  for (const Bytes& e : view_entries(state, all, u"$SII")) {
    const auto data_at = load<be::little_uint16_buf_t>(e).value();
    if (data_at + sizeof(SecurityEntry) > e.size()) continue;
    const auto entry = load<SecurityEntry>(e, data_at);
    const auto it = descriptors.find(entry.id.value());
    const bool right = it != descriptors.end() &&
                       it->second.offset.value() == entry.offset.value() &&
                       it->second.hash.value() == entry.hash.value();
    if (!right)
      state.error(Rule::ntfs_security_index, record_secure,
                  fmt::format("$SII leads wrongly for descriptor {:X}", entry.id.value()));
    found[entry.id.value()] = true;
  }
  std::size_t by_hash = 0;
  for (const Bytes& e : view_entries(state, all, u"$SDH")) {
    const auto data_at = load<be::little_uint16_buf_t>(e).value();
    if (data_at + sizeof(SecurityEntry) > e.size()) continue;
    const auto entry = load<SecurityEntry>(e, data_at);
    const auto it = descriptors.find(entry.id.value());
    if (it == descriptors.end() || it->second.hash.value() != entry.hash.value())
      state.error(Rule::ntfs_security_index, record_secure,
                  fmt::format("$SDH leads wrongly for descriptor {:X}", entry.id.value()));
    ++by_hash;
  }
  if (by_hash != descriptors.size() || found.size() != descriptors.size())
    state.error(Rule::ntfs_security_index, record_secure,
                fmt::format("{} descriptors, {} by id, {} by hash", descriptors.size(),
                            found.size(), by_hash));
  for (const auto& [record, id] : state.security_ids) {
    if (id != 0 && found.count(id) == 0)
      state.error(Rule::ntfs_security_id, record,
                  fmt::format("the security id {:X} is not in $SII", id));
    if (id == 0 && record >= first_user_record)
      state.finding(Rule::ntfs_security_id, Severity::note, record, "the file has no security id");
  }
}

}  // namespace nuvrat::ntfs
