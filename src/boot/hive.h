#pragma once
// A registry hive, through libhivex, on a copy in memory.

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/bytes.h>

namespace nuvrat::boot {

/// A value's type as the registry numbers it, and its bytes.
struct HiveValue {
  std::uint32_t type = 0;
  Bytes bytes;
  bool operator==(const HiveValue&) const = default;

  static constexpr std::uint32_t text = 1, binary = 3, number = 4, texts = 7;
  [[nodiscard]] static HiveValue of_text(std::u16string_view units);
  [[nodiscard]] std::u16string as_text() const;
};

/// Every value by its path: the keys from the root on and the value's own name, each after a
/// character 0. Keys without values have an empty name after two of them.
using HiveDump = std::map<std::string, HiveValue>;

class Hive {
 public:
  using Key = std::uint64_t;  ///< 0: none

  /// `what`: what it is called in errors. Throws Error: "not-clean" hives are refused, what is no
  /// hive or damaged is damaged.
  Hive(ByteView file, const std::string& what);
  Hive(const Hive&) = delete;
  Hive& operator=(const Hive&) = delete;
  ~Hive();

  [[nodiscard]] Key root() const;
  [[nodiscard]] Key child(Key key, const std::string& name) const;
  /// The key at "Objects/{…}/Elements"; none where one of them isn't there.
  [[nodiscard]] Key find(Key from, std::string_view path) const;
  [[nodiscard]] std::vector<Key> children(Key key) const;
  [[nodiscard]] std::string name(Key key) const;
  [[nodiscard]] std::map<std::string, HiveValue> values(Key key) const;
  [[nodiscard]] std::optional<HiveValue> value(Key key, const std::string& name) const;

  /// The key, made where it isn't there.
  Key make(Key parent, const std::string& name);
  void set(Key key, const std::string& name, const HiveValue& value);
  void remove(Key key, const std::string& name);

  [[nodiscard]] HiveDump dump() const;
  /// The hive as a file, read back and compared with what was set. Throws Error (guard).
  [[nodiscard]] Bytes file();

 private:
  struct State;
  void fail(const std::string& text) const;
  std::unique_ptr<State> state_;
  std::string what_;
};

/// Why a hive can't be changed, or none: it was not closed clean, or a log beside it is newer.
/// `logs`: contents of the files beside it whose names end in .LOG1 and .LOG2.
[[nodiscard]] std::optional<std::string> hive_fault(ByteView file, const std::vector<Bytes>& logs);

}  // namespace nuvrat::boot
