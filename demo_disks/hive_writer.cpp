#include "hive_writer.h"

#include <algorithm>

#include "disk_bytes.h"

namespace orrelune {
namespace {

using nuvrat::Bytes;

constexpr std::uint32_t none = 0xFFFFFFFF;
constexpr std::size_t head_bytes = 4096;

// As disk_bytes::put, but the bytes grow with it.
void put(Bytes& out, std::size_t at, std::uint64_t value, unsigned width) {
  if (out.size() < at + width) out.resize(at + width);
  disk_bytes::put(out, at, value, width);
}

void put_text(Bytes& out, std::size_t at, const std::string& text) {
  if (out.size() < at + text.size()) out.resize(at + text.size());
  std::copy(text.begin(), text.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}

std::string upper(std::string text) {
  for (char& c : text) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c;
  return text;
}

class Bin {
 public:
  Bin() : bytes_(32) {}

  // Offsets count from the bin.
  std::uint32_t add(const Bytes& cell) {
    const std::size_t at = bytes_.size();
    const std::size_t size = (cell.size() + 4 + 7) / 8 * 8;
    put(bytes_, at, 0 - size, 4);
    bytes_.resize(at + size);
    std::copy(cell.begin(), cell.end(), bytes_.begin() + static_cast<std::ptrdiff_t>(at + 4));
    return static_cast<std::uint32_t>(at);
  }
  void set(std::uint32_t cell, std::size_t at, std::uint32_t value) {
    put(bytes_, cell + 4 + at, value, 4);
  }
  Bytes finish() {
    const std::size_t end = bytes_.size();
    const std::size_t size = (end + 8 + 4095) / 4096 * 4096;
    bytes_.resize(size);
    put(bytes_, end, size - end, 4);  // a free cell
    put_text(bytes_, 0, "hbin");
    put(bytes_, 4, 0, 4);
    put(bytes_, 8, size, 4);
    return bytes_;
  }

 private:
  Bytes bytes_;
};

class Writer {
 public:
  Bytes write(const HiveKey& root, std::uint32_t sequence, bool clean) {
    Bytes security;  // everybody may read, as far as this goes
    put_text(security, 0, "sk");
    put(security, 16, 20, 4);
    put(security, 20, 0x80000001, 4);
    put(security, 12, 1, 4);
    security.resize(40);
    security_ = bin_.add(security);
    bin_.set(security_, 4, security_);
    bin_.set(security_, 8, security_);
    const std::uint32_t top = key(root, none, true);
    const Bytes bin = bin_.finish();
    Bytes out(head_bytes + bin.size());
    put_text(out, 0, "regf");
    put(out, 4, sequence, 4);
    put(out, 8, clean ? sequence : sequence - 1, 4);
    put(out, 20, 1, 4);
    put(out, 24, 5, 4);
    put(out, 32, 1, 4);
    put(out, 36, top, 4);
    put(out, 40, bin.size(), 4);
    put(out, 44, 1, 4);
    std::uint32_t sum = 0;
    for (std::size_t at = 0; at < 508; at += 4)
      sum ^= static_cast<std::uint32_t>(out[at]) | static_cast<std::uint32_t>(out[at + 1]) << 8 |
             static_cast<std::uint32_t>(out[at + 2]) << 16 |
             static_cast<std::uint32_t>(out[at + 3]) << 24;
    put(out, 508, sum, 4);
    std::copy(bin.begin(), bin.end(), out.begin() + head_bytes);
    return out;
  }

 private:
  std::uint32_t key(const HiveKey& k, std::uint32_t parent, bool root) {
    Bytes cell;
    put_text(cell, 0, "nk");
    put(cell, 2, root ? 0x2C : 0x20, 2);
    put(cell, 16, parent, 4);
    put(cell, 20, k.keys.size(), 4);
    put(cell, 28, none, 4);
    put(cell, 32, none, 4);
    put(cell, 36, k.values.size(), 4);
    put(cell, 40, none, 4);
    put(cell, 44, security_, 4);
    put(cell, 48, none, 4);
    put(cell, 72, k.name.size(), 2);
    put(cell, 74, 0, 2);
    put_text(cell, 76, k.name);
    const std::uint32_t at = bin_.add(cell);
    if (!k.values.empty()) bin_.set(at, 40, values(k));
    if (!k.keys.empty()) bin_.set(at, 28, keys(k, at));
    return at;
  }

  std::uint32_t values(const HiveKey& k) {
    Bytes list;
    for (const auto& [name, value] : k.values) {
      Bytes cell;
      put_text(cell, 0, "vk");
      put(cell, 2, name.size(), 2);
      put(cell, 12, value.type, 4);
      put(cell, 16, name.empty() ? 0 : 1, 2);
      put_text(cell, 20, name);
      if (value.bytes.size() <= 4) {
        put(cell, 4, 0x80000000 | value.bytes.size(), 4);
        std::copy(value.bytes.begin(), value.bytes.end(), cell.begin() + 8);
      } else {
        put(cell, 4, value.bytes.size(), 4);
        put(cell, 8, bin_.add(value.bytes), 4);
      }
      put(list, list.size(), bin_.add(cell), 4);
    }
    return bin_.add(list);
  }

  std::uint32_t keys(const HiveKey& k, std::uint32_t parent) {
    std::vector<const HiveKey*> sorted;
    for (const HiveKey& child : k.keys) sorted.push_back(&child);
    std::sort(sorted.begin(), sorted.end(),
              [](const HiveKey* a, const HiveKey* b) { return upper(a->name) < upper(b->name); });
    Bytes list;
    put_text(list, 0, "lh");
    put(list, 2, sorted.size(), 2);
    for (const HiveKey* child : sorted) {
      const std::uint32_t at = key(*child, parent, false);
      std::uint32_t hash = 0;
      for (const char c : upper(child->name)) hash = hash * 37 + static_cast<std::uint8_t>(c);
      put(list, list.size(), at, 4);
      put(list, list.size(), hash, 4);
    }
    return bin_.add(list);
  }

  Bin bin_;
  std::uint32_t security_ = 0;
};

void add_text(Bytes& out, const std::string& ascii) {
  for (const char c : ascii) {
    out.push_back(static_cast<std::uint8_t>(c));
    out.push_back(0);
  }
  out.insert(out.end(), {0, 0});
}

}  // namespace

HiveKey& HiveKey::operator[](const std::string& child) {
  for (HiveKey& k : keys) {
    if (k.name == child) return k;
  }
  keys.push_back({child, {}, {}});
  return keys.back();
}

Bytes make_hive(const HiveKey& root, std::uint32_t sequence, bool clean) {
  return Writer().write(root, sequence, clean);
}

HiveKey::Value hive_text(const std::string& ascii) {
  HiveKey::Value out{1, {}};
  add_text(out.bytes, ascii);
  return out;
}

HiveKey::Value hive_number(std::uint32_t value) {
  HiveKey::Value out{4, {}};
  put(out.bytes, 0, value, 4);
  return out;
}

HiveKey::Value hive_texts(const std::vector<std::string>& ascii) {
  HiveKey::Value out{7, {}};
  for (const std::string& text : ascii) add_text(out.bytes, text);
  out.bytes.insert(out.bytes.end(), {0, 0});
  return out;
}

}  // namespace orrelune
