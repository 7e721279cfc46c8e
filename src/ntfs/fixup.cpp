#include "ntfs/fixup.h"

#include "base/record.h"
#include "ntfs/records.h"

namespace nuvrat::ntfs {

void protect(ByteSpan record, std::uint16_t number) {
  const auto header = load<MultiSectorHeader>(record);
  const std::size_t array = header.usa_offset.value();
  be::little_uint16_buf_t value;
  value = number;
  store(value, record, array);
  for (std::size_t i = 0; i < record.size() / stride; ++i) {
    const std::size_t place = (i + 1) * stride - 2;
    store(load<be::little_uint16_buf_t>(record, place), record, array + 2 + 2 * i);
    store(value, record, place);
  }
}

bool unprotect(ByteSpan record) {
  if (record.size() < sizeof(MultiSectorHeader)) return false;
  const auto header = load<MultiSectorHeader>(record);
  const std::size_t array = header.usa_offset.value();
  const std::size_t count = header.usa_count.value();
  const std::size_t places = record.size() / stride;
  if (count != places + 1 || array % 2 != 0 || array < sizeof(MultiSectorHeader) ||
      array + 2 * count > stride - 2 || places == 0)
    return false;
  const auto number = load<be::little_uint16_buf_t>(record, array).value();
  for (std::size_t i = 0; i < places; ++i) {
    if (load<be::little_uint16_buf_t>(record, (i + 1) * stride - 2).value() != number) return false;
  }
  for (std::size_t i = 0; i < places; ++i) {
    store(load<be::little_uint16_buf_t>(record, array + 2 + 2 * i), record, (i + 1) * stride - 2);
  }
  return true;
}

}  // namespace nuvrat::ntfs
