#pragma once
// On-disk records: structs of Boost.Endian buffers, copied in and out of bytes with the bounds
// checked. No pointer into disk bytes is ever cast.

#include <cstring>
#include <type_traits>

#include <nuvrat/bytes.h>
#include <nuvrat/error.h>

namespace nuvrat::base {

template <typename Record>
Record load(ByteView bytes, std::size_t offset = 0) {
  static_assert(std::is_trivially_copyable_v<Record>);
  if (offset > bytes.size() || sizeof(Record) > bytes.size() - offset) {
    throw Error(ErrorCode::damaged, "a structure is cut off by the end of what holds it");
  }
  Record record;
  std::memcpy(&record, bytes.data() + offset, sizeof record);
  return record;
}

template <typename Record>
void store(const Record& record, ByteSpan bytes, std::size_t offset = 0) {
  static_assert(std::is_trivially_copyable_v<Record>);
  if (offset > bytes.size() || sizeof(Record) > bytes.size() - offset) {
    throw Error(ErrorCode::damaged, "a structure does not fit into what is to hold it");
  }
  std::memcpy(bytes.data() + offset, &record, sizeof record);
}

template <typename Record>
ByteView bytes_of(const Record& record) {
  static_assert(std::is_trivially_copyable_v<Record>);
  return {reinterpret_cast<const std::uint8_t*>(&record), sizeof record};
}

}  // namespace nuvrat::base
