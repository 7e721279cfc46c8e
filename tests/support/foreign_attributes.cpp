#include "foreign_attributes.h"

#include "disk_bytes.h"

namespace foreign {

using disk_bytes::put;

namespace {

// Numbers of the runs take as many bytes as they must.
unsigned width_of(std::int64_t value) {
  unsigned width = 1;
  while (width < 8 && (value < -(std::int64_t{1} << (8 * width - 1)) ||
                       value >= std::int64_t{1} << (8 * width - 1)))
    ++width;
  return width;
}

}  // namespace

void append(Bytes& out, std::uint64_t value, unsigned width) {
  out.resize(out.size() + width);
  put(out, out.size() - width, value, width);
}
void append(Bytes& out, const Bytes& more) {
  out.insert(out.end(), more.begin(), more.end());
}
void align(Bytes& out) {
  out.resize((out.size() + 7) / 8 * 8);
}
Bytes units_of(const std::u16string& text) {
  Bytes out;
  for (const char16_t c : text) append(out, c, 2);
  return out;
}

Bytes resident(const Title& title, const Bytes& value) {
  Bytes out(24);
  put(out, 0, title.type, 4);
  put(out, 9, title.name.size(), 1);
  put(out, 10, 24, 2);
  append(out, units_of(title.name));
  align(out);
  put(out, 16, value.size(), 4);
  put(out, 20, out.size(), 2);
  put(out, 22, title.type == 0x30 ? 1 : 0, 1);
  append(out, value);
  align(out);
  put(out, 4, out.size(), 4);
  return out;
}

Bytes non_resident(const Title& title, const Extents& extents, std::uint64_t cluster,
                   const Lengths& lengths) {
  std::uint64_t clusters = 0;
  for (const Extent& e : extents) clusters += e.count;
  Bytes out(64);
  put(out, 0, title.type, 4);
  put(out, 8, 1, 1);
  put(out, 9, title.name.size(), 1);
  put(out, 10, 64, 2);
  put(out, 16, lengths.first_vcn, 8);
  put(out, 24, lengths.first_vcn + clusters - 1, 8);
  put(out, 40, (lengths.first_vcn + clusters) * cluster, 8);
  put(out, 48, lengths.size, 8);
  put(out, 56, lengths.written, 8);
  append(out, units_of(title.name));
  align(out);
  put(out, 32, out.size(), 2);
  std::int64_t before = 0;
  for (const Extent& e : extents) {
    const auto step = static_cast<std::int64_t>(e.lcn) - before;
    before = static_cast<std::int64_t>(e.lcn);
    const unsigned of_count = width_of(static_cast<std::int64_t>(e.count));
    const unsigned of_step = width_of(step);
    append(out, of_count | of_step << 4, 1);
    append(out, e.count, of_count);
    append(out, static_cast<std::uint64_t>(step), of_step);
  }
  append(out, 0, 1);
  align(out);
  put(out, 4, out.size(), 4);
  return out;
}

Bytes information(std::uint32_t bits, bool short_form, std::uint32_t security_id) {
  Bytes out;
  for (int i = 0; i < 4; ++i) append(out, long_ago + static_cast<std::uint64_t>(i) * 10000000, 8);
  append(out, bits, 4);
  out.resize(short_form ? 48 : 72);
  if (!short_form) put(out, 52, security_id, 4);
  return resident({0x10}, out);
}

Bytes name_value(std::uint64_t parent, const std::u16string& name, std::uint8_t space,
                 std::uint64_t allocated, std::uint64_t size, std::uint32_t bits) {
  Bytes out;
  append(out, parent, 8);
  for (int i = 0; i < 4; ++i) append(out, long_ago, 8);
  append(out, allocated, 8);
  append(out, size, 8);
  append(out, bits, 4);
  append(out, 0, 4);
  append(out, name.size(), 1);
  append(out, space, 1);
  append(out, units_of(name));
  return out;
}

Bytes descriptor(std::uint32_t mask) {
  const Bytes everyone = {1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0};
  const Bytes owners = {1, 2, 0, 0, 0, 0, 0, 5, 0x20, 0, 0, 0, 0x20, 2, 0, 0};
  Bytes out = {1, 0, 4, 0x80};
  append(out, 20, 4);
  append(out, 36, 4);
  append(out, 0, 4);
  append(out, 52, 4);
  append(out, owners);
  append(out, owners);
  append(out, 2, 2);
  append(out, 8 + 8 + everyone.size(), 2);
  append(out, 1, 4);
  append(out, 0x00000300, 2);
  append(out, 8 + everyone.size(), 2);
  append(out, mask, 4);
  append(out, everyone);
  return out;
}

Bytes sparse(const Title& title, std::uint64_t hole, const Extent& run, std::uint64_t cluster) {
  const std::uint64_t size = (hole + run.count) * cluster;
  Bytes out = non_resident(title, {{0, hole}, run}, cluster, {size, size});
  const std::size_t runs = disk_bytes::little(out, 32, 2);
  const std::size_t name = disk_bytes::little(out, 10, 2);
  Bytes with(out.begin(), out.begin() + 64);
  append(with, run.count * cluster, 8);
  with.insert(with.end(), out.begin() + static_cast<std::ptrdiff_t>(name),
              out.begin() + static_cast<std::ptrdiff_t>(runs));
  put(with, 10, 72, 2);
  put(with, 12, 0x8000, 2);
  put(with, 32, with.size(), 2);
  put(with, 34, 4, 1);
  // The hole's run has no place.
  const unsigned width = out[runs] & 0x0F;
  append(with, width, 1);
  const auto length = out.begin() + static_cast<std::ptrdiff_t>(runs + 1);
  with.insert(with.end(), length, length + width);
  const auto rest = length + width + (out[runs] >> 4);
  with.insert(with.end(), rest, out.end());
  align(with);
  put(with, 4, with.size(), 4);
  return with;
}

Bytes attribute_definitions() {
  struct Row {
    const char16_t* name;
    std::uint32_t type, flags;
    std::uint64_t least, most;
  };
  constexpr std::uint64_t any = ~std::uint64_t{0};
  const Row rows[] = {{u"$STANDARD_INFORMATION", 0x10, 0x40, 0x30, 0x48},
                      {u"$ATTRIBUTE_LIST", 0x20, 0x80, 0, any},
                      {u"$FILE_NAME", 0x30, 0x42, 0x44, 0x242},
                      {u"$OBJECT_ID", 0x40, 0x40, 0, 0x100},
                      {u"$SECURITY_DESCRIPTOR", 0x50, 0x80, 0, any},
                      {u"$VOLUME_NAME", 0x60, 0x40, 2, 0x100},
                      {u"$VOLUME_INFORMATION", 0x70, 0x40, 0xC, 0xC},
                      {u"$DATA", 0x80, 0, 0, any},
                      {u"$INDEX_ROOT", 0x90, 0x40, 0, any},
                      {u"$INDEX_ALLOCATION", 0xA0, 0x80, 0, any},
                      {u"$BITMAP", 0xB0, 0x80, 0, any},
                      {u"$REPARSE_POINT", 0xC0, 0x80, 0, 0x4000},
                      {u"$EA_INFORMATION", 0xD0, 0x40, 8, 8},
                      {u"$EA", 0xE0, 0, 0, 0x10000},
                      {u"$LOGGED_UTILITY_STREAM", 0x100, 0x80, 0, 0x10000}};
  Bytes out;
  for (const Row& row : rows) {
    Bytes bytes = units_of(row.name);
    bytes.resize(128);
    append(bytes, row.type, 4);
    append(bytes, 0, 4);
    append(bytes, row.type == 0x30 ? 1 : 0, 4);
    append(bytes, row.flags, 4);
    append(bytes, row.least, 8);
    append(bytes, row.most, 8);
    append(out, bytes);
  }
  out.resize(out.size() + 160);
  return out;
}

}  // namespace foreign
