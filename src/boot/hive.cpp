#include "boot/hive.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <set>

#include <boost/endian/buffers.hpp>
#include <fmt/core.h>
#include <hivex.h>
#include <sys/mman.h>
#include <unistd.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "base/descriptor.h"
#include "base/record.h"

namespace nuvrat::boot {
namespace {

constexpr std::size_t head_bytes = 4096;
constexpr std::size_t max_keys = 4u << 20;
constexpr std::size_t max_value_bytes = 64u << 20;
constexpr std::string_view mark = "regf";

std::uint32_t number_at(ByteView bytes, std::size_t at) {
  return base::load<boost::endian::little_uint32_buf_t>(bytes, at).value();
}

// XOR of the 127 words in front of it; 0 and all ones stand for their neighbours.
std::uint32_t head_checksum(ByteView head) {
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at < 508; at += 4) sum ^= number_at(head, at);
  if (sum == 0) return 1;
  return sum == 0xFFFFFFFF ? 0xFFFFFFFE : sum;
}

bool is_hive(ByteView file) {
  return file.size() >= head_bytes && std::equal(mark.begin(), mark.end(), file.begin());
}

}  // namespace

HiveValue HiveValue::of_text(std::u16string_view units) {
  HiveValue out{HiveValue::text, {}};
  for (const char16_t c : units) {
    out.bytes.push_back(static_cast<std::uint8_t>(c));
    out.bytes.push_back(static_cast<std::uint8_t>(c >> 8));
  }
  out.bytes.insert(out.bytes.end(), {0, 0});
  return out;
}

std::u16string HiveValue::as_text() const {
  std::u16string out;
  for (std::size_t i = 0; i + 1 < bytes.size(); i += 2)
    out.push_back(static_cast<char16_t>(bytes[i] | bytes[i + 1] << 8));
  while (!out.empty() && out.back() == 0) out.pop_back();
  return out;
}

std::optional<std::string> hive_fault(ByteView file, const std::vector<Bytes>& logs) {
  if (!is_hive(file)) return "it is not a registry hive";
  const std::uint32_t first = number_at(file, 4);
  if (first != number_at(file, 8)) return "it was not closed clean";
  if (head_checksum(file) != number_at(file, 508)) return "its header doesn't match its checksum";
  if (number_at(file, 40) > file.size() - head_bytes) return "it is longer than its file";
  for (const Bytes& log : logs) {
    const bool some = log.size() >= 512 && std::equal(mark.begin(), mark.end(), log.begin());
    // Sequence numbers go round: newer is less than half of them ahead.
    if (some && number_at(log, 8) != first && number_at(log, 8) - first < 0x80000000)
      return "a log beside it holds newer changes";
  }
  return std::nullopt;
}

struct Hive::State {
  State() : file(::memfd_create("hive", MFD_CLOEXEC)) {}
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    if (handle != nullptr) ::hivex_close(handle);
  }
  [[nodiscard]] std::string path() const { return fmt::format("/proc/self/fd/{}", file.get()); }

  base::Descriptor file;
  hive_h* handle = nullptr;
};

void Hive::fail(const std::string& text) const {
  throw Error(ErrorCode::damaged, what_ + ": " + text);
}

Hive::Hive(ByteView file, const std::string& what)
    : state_(std::make_unique<State>()), what_(what) {
  if (const auto fault = hive_fault(file, {})) fail(*fault);
  while (!file.empty()) {
    const ssize_t n = ::write(state_->file.get(), file.data(), file.size());
    if (n <= 0) throw Error(ErrorCode::file, "there is no memory for a copy of " + what_);
    file = file.subspan(static_cast<std::size_t>(n));
  }
  state_->handle = ::hivex_open(state_->path().c_str(), HIVEX_OPEN_WRITE);
  if (state_->handle == nullptr || root() == 0) fail("its cells make no sense");
}

Hive::~Hive() = default;

Hive::Key Hive::root() const {
  return ::hivex_root(state_->handle);
}

Hive::Key Hive::child(Key key, const std::string& name) const {
  if (key == 0) return 0;
  // The library's own look-up writes to the standard error of a program that meets a damaged hive.
  for (const Key k : children(key)) {
    if (base::ascii_lower(this->name(k)) == base::ascii_lower(name)) return k;
  }
  return 0;
}

Hive::Key Hive::find(Key from, std::string_view path) const {
  for (const std::string& part : base::path_parts(path)) from = child(from, part);
  return from;
}

std::vector<Hive::Key> Hive::children(Key key) const {
  const std::unique_ptr<hive_node_h, decltype(&std::free)> all(
      ::hivex_node_children(state_->handle, key), &std::free);
  if (all == nullptr) fail("a key's list of keys makes no sense");
  std::vector<Key> out;
  for (const hive_node_h* k = all.get(); *k != 0; ++k) out.push_back(*k);
  return out;
}

std::string Hive::name(Key key) const {
  const std::unique_ptr<char, decltype(&std::free)> text(::hivex_node_name(state_->handle, key),
                                                         &std::free);
  if (text == nullptr) fail("a key has no name");
  return text.get();
}

std::map<std::string, HiveValue> Hive::values(Key key) const {
  const std::unique_ptr<hive_value_h, decltype(&std::free)> all(
      ::hivex_node_values(state_->handle, key), &std::free);
  if (all == nullptr) fail("a key's list of values makes no sense");
  std::map<std::string, HiveValue> out;
  for (const hive_value_h* v = all.get(); *v != 0; ++v) {
    const std::unique_ptr<char, decltype(&std::free)> called(::hivex_value_key(state_->handle, *v),
                                                             &std::free);
    std::uint32_t type = 0;  // any number may be there
    std::size_t length = 0;
    const std::unique_ptr<char, decltype(&std::free)> bytes(
        ::hivex_value_value(state_->handle, *v, reinterpret_cast<hive_type*>(&type), &length),
        &std::free);
    if (called == nullptr || (bytes == nullptr && length > 0) || length > max_value_bytes)
      fail("a value makes no sense");
    HiveValue& value = out[called.get()];
    value.type = type;
    const auto* begin = reinterpret_cast<const std::uint8_t*>(bytes.get());
    value.bytes.assign(begin, begin + length);
  }
  return out;
}

std::optional<HiveValue> Hive::value(Key key, const std::string& name) const {
  if (key == 0) return std::nullopt;
  auto all = values(key);
  const auto it = all.find(name);
  return it == all.end() ? std::nullopt : std::optional(std::move(it->second));
}

Hive::Key Hive::make(Key parent, const std::string& name) {
  if (const Key there = child(parent, name); there != 0) return there;
  const Key made = ::hivex_node_add_child(state_->handle, parent, name.c_str());
  if (made == 0) fail("it takes no new key");
  return made;
}

namespace {

// What the library takes; both must outlive it.
hive_set_value entry_of(std::string& name, HiveValue& value) {
  hive_set_value out{
      name.data(), {}, value.bytes.size(), reinterpret_cast<char*>(value.bytes.data())};
  std::memcpy(&out.t, &value.type, sizeof out.t);
  return out;
}

}  // namespace

void Hive::set(Key key, const std::string& name, const HiveValue& value) {
  std::string called = name;
  HiveValue copy = value;
  const hive_set_value one = entry_of(called, copy);
  if (::hivex_node_set_value(state_->handle, key, &one, 0) != 0) fail("it takes no new value");
}

void Hive::remove(Key key, const std::string& name) {
  auto all = values(key);
  all.erase(name);
  std::vector<hive_set_value> left;
  std::vector<std::string> names;
  names.reserve(all.size());
  left.reserve(all.size());
  for (auto& [called, value] : all) left.push_back(entry_of(names.emplace_back(called), value));
  if (::hivex_node_set_values(state_->handle, key, left.size(), left.data(), 0) != 0)
    fail("it gives no value up");
}

HiveDump Hive::dump() const {
  HiveDump out;
  std::vector<std::pair<Key, std::string>> open{{root(), ""}};
  std::set<Key> seen;
  while (!open.empty()) {
    const auto [key, path] = open.back();
    open.pop_back();
    if (!seen.insert(key).second) fail("its keys go round in a circle");
    if (seen.size() > max_keys) fail("it has too many keys");
    out[path + std::string(2, '\0')] = {};
    for (auto& [called, value] : values(key)) {
      std::string at = path;
      at += '\0';
      out[at + called] = std::move(value);
    }
    for (const Key k : children(key)) {
      std::string at = path;
      at += '\0';
      open.emplace_back(k, at + name(k));
    }
  }
  return out;
}

Bytes Hive::file() {
  const HiveDump wanted = dump();
  const base::Descriptor out(::memfd_create("hive", MFD_CLOEXEC));
  const std::string path = fmt::format("/proc/self/fd/{}", out.get());
  if (::hivex_commit(state_->handle, path.c_str(), 0) != 0)
    throw Error(ErrorCode::file, "there is no memory for a new " + what_);
  const off_t size = ::lseek(out.get(), 0, SEEK_END);
  Bytes bytes(static_cast<std::size_t>(std::max<off_t>(size, 0)));
  if (::pread(out.get(), bytes.data(), bytes.size(), 0) != size)
    throw Error(ErrorCode::file, "the new " + what_ + " can't be read back");
  if (Hive(bytes, what_).dump() != wanted)
    throw Error(ErrorCode::guard, "the new " + what_ + " doesn't hold what was put into it");
  return bytes;
}

}  // namespace nuvrat::boot
