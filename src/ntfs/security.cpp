#include "ntfs/security.h"

#include <algorithm>
#include <bit>

#include "base/record.h"

namespace nuvrat::ntfs {
namespace {

template <typename Value>
void put(Bytes& out, Value value) {
  for (std::size_t i = 0; i < sizeof value; ++i)
    out.push_back(static_cast<std::uint8_t>(static_cast<std::uint64_t>(value) >> 8 * i));
}

// An identifier of an account: authority, then its parts.
Bytes account(std::uint8_t authority, std::initializer_list<std::uint32_t> parts) {
  Bytes out{1, static_cast<std::uint8_t>(parts.size()), 0, 0, 0, 0, 0, authority};
  out.reserve(out.size() + 4 * parts.size());
  for (const std::uint32_t part : parts) put(out, part);
  return out;
}

struct Grant {
  Bytes who;
  std::uint32_t mask;
  std::uint8_t flags;  // 3: what is made inside a folder inherits it
};

// Self-relative: header, the list of grants, owner, group.
Bytes descriptor(const std::vector<Grant>& grants) {
  const Bytes administrators = account(5, {32, 544});
  Bytes list;
  for (const Grant& g : grants) {
    list.push_back(0);  // access allowed
    list.push_back(g.flags);
    put(list, static_cast<std::uint16_t>(8 + g.who.size()));
    put(list, g.mask);
    list.insert(list.end(), g.who.begin(), g.who.end());
  }
  constexpr std::uint32_t list_at = 20;
  const auto owner_at = static_cast<std::uint32_t>(list_at + 8 + list.size());
  Bytes out;
  out.reserve(owner_at + 2 * administrators.size());
  out = {1, 0};
  put(out, std::uint16_t{0x8004});  // self-relative, with a list
  put(out, owner_at);
  put(out, static_cast<std::uint32_t>(owner_at + administrators.size()));
  put(out, std::uint32_t{0});
  put(out, list_at);
  put(out, std::uint16_t{2});
  put(out, static_cast<std::uint16_t>(8 + list.size()));
  put(out, static_cast<std::uint32_t>(grants.size()));
  out.insert(out.end(), list.begin(), list.end());
  for (int i = 0; i < 2; ++i) out.insert(out.end(), administrators.begin(), administrators.end());
  return out;
}

std::uint32_t hash_of(ByteView bytes) {
  std::uint32_t hash = 0;
  for (std::size_t at = 0; at + 4 <= bytes.size(); at += 4)
    hash = load<be::little_uint32_buf_t>(bytes, at).value() + std::rotl(hash, 3);
  return hash;
}

Bytes joined(std::initializer_list<ByteView> parts) {
  Bytes out;
  for (const ByteView part : parts) out.insert(out.end(), part.begin(), part.end());
  return out;
}

// Where the data of a view index's entry lie, in its first eight bytes.
std::uint64_t view_head(std::size_t key, std::size_t data) {
  return (sizeof(IndexEntry) + key) | data << 16;
}

}  // namespace

SecurityStreams make_security() {
  constexpr std::uint32_t read = 0x00120089;
  constexpr std::uint32_t everything = 0x001F01FF;
  const std::vector<std::pair<std::uint32_t, Bytes>> all = {
      {security_of_system,
       descriptor({{account(5, {18}), read, 0}, {account(5, {32, 544}), read, 0}})},
      {security_of_files, descriptor({{account(1, {0}), everything, 3}})},
  };
  SecurityStreams out;
  Bytes block;
  std::vector<SecurityEntry> heads;
  for (const auto& [id, bytes] : all) {
    block.resize((block.size() + 15) / 16 * 16);
    SecurityEntry head{};
    head.hash = hash_of(bytes);
    head.id = id;
    head.offset = block.size();
    head.length = static_cast<std::uint32_t>(sizeof head + bytes.size());
    const ByteView view = base::bytes_of(head);
    block.insert(block.end(), view.begin(), view.end());
    block.insert(block.end(), bytes.begin(), bytes.end());
    heads.push_back(head);
  }
  out.sds.resize(security_mirror);
  std::copy(block.begin(), block.end(), out.sds.begin());
  out.sds.insert(out.sds.end(), block.begin(), block.end());

  for (const SecurityEntry& head : heads) {
    const ByteView view = base::bytes_of(head);
    const Bytes mark = {'I', 0, 'I', 0};
    out.sdh.push_back({view_head(8, sizeof head), 8, joined({view.first(8), view, mark})});
    out.sii.push_back({view_head(4, sizeof head), 4, joined({view.subspan(4, 4), view})});
  }
  std::sort(out.sdh.begin(), out.sdh.end(), [](const IndexItem& a, const IndexItem& b) {
    return load<be::little_uint32_buf_t>(a.body).value() <
           load<be::little_uint32_buf_t>(b.body).value();
  });
  return out;
}

std::vector<IndexItem> default_quota(std::int64_t changed) {
  IndexItem item;
  item.key_length = 4;
  item.body.reserve(64);
  put(item.body, std::uint32_t{1});  // the owner id of the default
  Bytes data;
  data.reserve(64);
  put(data, std::uint32_t{2});  // version
  put(data, std::uint32_t{1});  // these are the default limits
  put(data, std::uint64_t{0});
  put(data, changed);
  put(data, ~std::uint64_t{0});  // no warning
  put(data, ~std::uint64_t{0});  // no limit
  put(data, std::uint64_t{0});
  item.head = view_head(4, data.size());
  item.body.insert(item.body.end(), data.begin(), data.end());
  return {item};
}

std::map<std::uint32_t, Bytes> read_descriptors(ByteView sds) {
  std::map<std::uint32_t, Bytes> out;
  // Every second block is the mirror of the one before.
  for (std::size_t block = 0; block < sds.size(); block += 2 * security_mirror) {
    const ByteView here =
        sds.subspan(block, std::min<std::size_t>(security_mirror, sds.size() - block));
    for (std::size_t at = 0; at + sizeof(SecurityEntry) <= here.size();) {
      const auto entry = load<SecurityEntry>(here, at);
      const std::size_t length = entry.length.value();
      if (length < sizeof(SecurityEntry) || length > here.size() - at) break;
      const ByteView bytes =
          here.subspan(at + sizeof(SecurityEntry), length - sizeof(SecurityEntry));
      out[entry.id.value()].assign(bytes.begin(), bytes.end());
      at += (length + 15) / 16 * 16;
    }
  }
  return out;
}

}  // namespace nuvrat::ntfs
