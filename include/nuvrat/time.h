#pragma once
// Times of files: UTC, in 100 ns since 1601-01-01, the unit that NTFS uses. FAT holds local times
// without a zone; a Zone says which.

#include <cstdint>
#include <string>
#include <string_view>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// 100 ns since 1601-01-01T00:00:00Z; 0 means "not recorded".
using Ticks = std::int64_t;
inline constexpr Ticks ticks_per_second = 10'000'000;
/// From 1601-01-01 to 1970-01-01, where the system's own clock begins.
inline constexpr std::int64_t seconds_to_1970 = 11'644'473'600;

/// "2031-03-04T05:06:07.0000000Z", digits of the fraction as needed; "" for 0.
[[nodiscard]] std::string format_time(Ticks ticks);
/// The way back; throws Error (words).
[[nodiscard]] Ticks parse_time(std::string_view text);
/// Now, by the system's clock.
[[nodiscard]] Ticks now();

/// Fields of a local time as FAT holds them.
struct LocalTime {
  int year = 1980;         ///< 1980 to 2107
  int month = 1, day = 1;  ///< from 1
  int hour = 0, minute = 0, second = 0;
  int centiseconds = 0;  ///< 0 to 99
};

/// A time zone by its IANA name.
class Zone {
 public:
  /// UTC.
  Zone() = default;
  /// Throws Error (words) when the machine doesn't know the name.
  static Zone named(std::string_view name);
  /// The machine's own: TZ, or what the system is set to; UTC where nothing is set. Throws Error
  /// (words) for a zone that isn't known here: a wrong one would change every time on FAT.
  static Zone machine();

  [[nodiscard]] std::string name() const;
  /// UTC of a local time. A time that the clock showed twice is taken as the first of the two; one
  /// that it skipped moves on by the length of the gap. 0 when the fields aren't a date.
  [[nodiscard]] Ticks to_utc(const LocalTime& local) const;
  [[nodiscard]] LocalTime to_local(Ticks utc) const;

 private:
  const void* zone_ = nullptr;  // a zone of the machine's database, which lives for ever; null: UTC
};

}  // namespace nuvrat
