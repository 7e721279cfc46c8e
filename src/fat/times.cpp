#include "fat/times.h"

namespace nuvrat::fat {

Stamp stamp_of(const Zone& zone, Ticks ticks) {
  if (ticks == 0) return {};
  LocalTime t = zone.to_local(ticks);
  if (t.year < 1980) t = {1980, 1, 1, 0, 0, 0, 0};
  if (t.year > 2107) t = {2107, 12, 31, 23, 59, 59, 99};
  Stamp out;
  out.date = static_cast<std::uint16_t>((t.year - 1980) << 9 | t.month << 5 | t.day);
  out.time = static_cast<std::uint16_t>(t.hour << 11 | t.minute << 5 | t.second / 2);
  out.tenths = static_cast<std::uint8_t>(t.second % 2 * 100 + t.centiseconds);
  return out;
}

Ticks ticks_of(const Zone& zone, const Stamp& stamp) {
  if (stamp.date == 0) return 0;
  LocalTime local;
  local.year = 1980 + (stamp.date >> 9);
  local.month = stamp.date >> 5 & 15;
  local.day = stamp.date & 31;
  local.hour = stamp.time >> 11;
  local.minute = stamp.time >> 5 & 63;
  local.second = (stamp.time & 31) * 2 + (stamp.tenths < 200 ? stamp.tenths / 100 : 0);
  local.centiseconds = stamp.tenths < 200 ? stamp.tenths % 100 : 0;
  return zone.to_utc(local);
}

}  // namespace nuvrat::fat
