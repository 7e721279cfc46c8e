#pragma once
// Registry hives in the making, written by itself: what libhivex reads in tests, it didn't write.

#include <map>
#include <string>
#include <vector>

#include <nuvrat/bytes.h>

namespace orrelune {

struct HiveKey {
  struct Value {
    std::uint32_t type = 3;
    nuvrat::Bytes bytes;
  };
  std::string name;  ///< ASCII
  std::map<std::string, Value> values;
  std::vector<HiveKey> keys;

  /// The key below it, made where it isn't there.
  HiveKey& operator[](const std::string& child);
};

/// `sequence`: how often it was written; `clean`: closed.
[[nodiscard]] nuvrat::Bytes make_hive(const HiveKey& root, std::uint32_t sequence = 7,
                                      bool clean = true);
/// UTF-16 with a zero at its end.
[[nodiscard]] HiveKey::Value hive_text(const std::string& ascii);
[[nodiscard]] HiveKey::Value hive_number(std::uint32_t value);
/// Texts one behind the other, and an empty one.
[[nodiscard]] HiveKey::Value hive_texts(const std::vector<std::string>& ascii);

}  // namespace orrelune
