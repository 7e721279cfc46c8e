#include <cstdlib>
#include <filesystem>
#include <system_error>

#include <date/date.h>
#include <date/tz.h>
#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/time.h>

namespace nuvrat {
namespace {

using TickDuration = std::chrono::duration<Ticks, std::ratio<1, ticks_per_second>>;

date::sys_time<TickDuration> to_system(Ticks ticks) {
  return date::sys_time<TickDuration>(TickDuration(ticks - seconds_to_1970 * ticks_per_second));
}

Ticks from_system(date::sys_time<TickDuration> time) {
  return time.time_since_epoch().count() + seconds_to_1970 * ticks_per_second;
}

}  // namespace

std::string format_time(Ticks ticks) {
  if (ticks == 0) return "";
  const auto time = to_system(ticks);
  const auto day = date::floor<date::days>(time);
  const date::year_month_day ymd(day);
  const date::hh_mm_ss<TickDuration> clock(time - day);
  // Three for each of a million files: digit by digit, which takes a quarter of the time.
  std::string out;
  const auto put = [&out](std::int64_t number, std::size_t digits) {
    out.resize(out.size() + digits, '0');
    for (auto at = out.rbegin(); digits > 0; --digits, ++at, number /= 10)
      *at = static_cast<char>('0' + number % 10);
  };
  const int year = static_cast<int>(ymd.year());
  if (year < 0 || year > 9999) {
    out = fmt::format("{:04}", year);
  } else {
    put(year, 4);
  }
  for (const auto& [mark, number] :
       {std::pair{'-', static_cast<std::int64_t>(static_cast<unsigned>(ymd.month()))},
        std::pair{'-', static_cast<std::int64_t>(static_cast<unsigned>(ymd.day()))},
        std::pair{'T', std::int64_t{clock.hours().count()}},
        std::pair{':', std::int64_t{clock.minutes().count()}},
        std::pair{':', std::int64_t{clock.seconds().count()}}}) {
    out += mark;
    put(number, 2);
  }
  if (const auto fraction = clock.subseconds().count(); fraction != 0) {
    out += '.';
    put(fraction, 7);
    out.erase(out.find_last_not_of('0') + 1);
  }
  return out + 'Z';
}

Ticks parse_time(std::string_view text) {
  if (text.empty()) return 0;
  const auto fail = [text]() -> Error {
    return {ErrorCode::words, fmt::format("'{}' is not a time in UTC", text)};
  };
  // "2031-03-04T05:06:07.0000000Z": digits and marks at fixed places, up to seven of a fraction.
  constexpr std::string_view form = "0000-00-00T00:00:00";
  if (text.size() < form.size() + 1 || text.size() > form.size() + 9 || text.back() != 'Z')
    throw fail();
  const auto digit = [](char c) { return c >= '0' && c <= '9'; };
  for (std::size_t i = 0; i < form.size(); ++i) {
    if (form[i] == '0' ? !digit(text[i]) : text[i] != form[i]) throw fail();
  }
  const auto number = [text](std::size_t at, std::size_t count) {
    int out = 0;
    for (std::size_t i = at; i < at + count; ++i) out = out * 10 + (text[i] - '0');
    return out;
  };
  const date::year_month_day ymd(date::year(number(0, 4)),
                                 date::month(static_cast<unsigned>(number(5, 2))),
                                 date::day(static_cast<unsigned>(number(8, 2))));
  if (!ymd.ok() || number(11, 2) > 23 || number(14, 2) > 59 || number(17, 2) > 59) throw fail();
  Ticks fraction = 0;
  if (const std::string_view rest = text.substr(form.size(), text.size() - form.size() - 1);
      !rest.empty()) {
    if (rest[0] != '.' || rest.size() == 1) throw fail();
    for (std::size_t i = 1; i < 8; ++i) {
      if (i < rest.size() && !digit(rest[i])) throw fail();
      fraction = fraction * 10 + (i < rest.size() ? rest[i] - '0' : 0);
    }
  }
  const auto seconds = date::sys_days(ymd) + std::chrono::hours(number(11, 2)) +
                       std::chrono::minutes(number(14, 2)) + std::chrono::seconds(number(17, 2));
  return from_system(
      date::sys_time<TickDuration>(seconds.time_since_epoch() + TickDuration(fraction)));
}

Ticks now() {
  return from_system(date::floor<TickDuration>(std::chrono::system_clock::now()));
}

Zone Zone::named(std::string_view name) {
  Zone zone;
  if (name == "UTC") return zone;
  try {
    zone.zone_ = date::locate_zone(std::string(name));
  } catch (const std::exception&) {
    throw Error(ErrorCode::words, fmt::format("time zone '{}' is not known on this machine", name),
                {}, "Give an IANA name such as Europe/Lisbon, or UTC");
  }
  return zone;
}

Zone Zone::machine() {
  if (const char* set = std::getenv("TZ"); set != nullptr && *set != '\0') {
    std::string_view name = set;
    if (name.front() == ':') name.remove_prefix(1);
    constexpr std::string_view folder = "/usr/share/zoneinfo/";
    if (name.substr(0, folder.size()) == folder) name.remove_prefix(folder.size());
    if (name == "UTC0" || name == "GMT0" || name == "Etc/UTC") name = "UTC";
    return named(name);
  }
  Zone zone;
  std::error_code error;
  if (!std::filesystem::exists("/etc/localtime", error)) return zone;  // no zone set is UTC
  try {
    zone.zone_ = date::current_zone();
  } catch (const std::exception&) {
    throw Error(ErrorCode::words, "the machine's time zone is none that is known here", {},
                "Say --timezone with an IANA name such as Europe/Lisbon, or UTC");
  }
  if (zone.name() == "Etc/UTC") zone.zone_ = nullptr;
  return zone;
}

std::string Zone::name() const {
  return zone_ == nullptr ? "UTC" : static_cast<const date::time_zone*>(zone_)->name();
}

Ticks Zone::to_utc(const LocalTime& local) const {
  const date::year_month_day ymd(date::year(local.year),
                                 date::month(static_cast<unsigned>(local.month)),
                                 date::day(static_cast<unsigned>(local.day)));
  if (!ymd.ok() || local.hour > 23 || local.minute > 59 || local.second > 59) return 0;
  const auto seconds = date::local_days(ymd) + std::chrono::hours(local.hour) +
                       std::chrono::minutes(local.minute) + std::chrono::seconds(local.second);
  const TickDuration rest(local.centiseconds * (ticks_per_second / 100));
  if (zone_ == nullptr) {
    return from_system(date::sys_time<TickDuration>(seconds.time_since_epoch() + rest));
  }
  const auto* zone = static_cast<const date::time_zone*>(zone_);
  const date::local_info info = zone->get_info(seconds);
  const auto offset = info.first.offset;  // unique, the first of two, or the one before the gap
  return from_system(date::sys_time<TickDuration>(seconds.time_since_epoch() - offset + rest));
}

LocalTime Zone::to_local(Ticks utc) const {
  auto time = to_system(utc);
  if (zone_ != nullptr) {
    const auto* zone = static_cast<const date::time_zone*>(zone_);
    time += zone->get_info(date::floor<std::chrono::seconds>(time)).offset;
  }
  const auto day = date::floor<date::days>(time);
  const date::year_month_day ymd(day);
  const date::hh_mm_ss<TickDuration> clock(time - day);
  LocalTime local;
  local.year = static_cast<int>(ymd.year());
  local.month = static_cast<int>(static_cast<unsigned>(ymd.month()));
  local.day = static_cast<int>(static_cast<unsigned>(ymd.day()));
  local.hour = static_cast<int>(clock.hours().count());
  local.minute = static_cast<int>(clock.minutes().count());
  local.second = static_cast<int>(clock.seconds().count());
  local.centiseconds = static_cast<int>(clock.subseconds().count() / (ticks_per_second / 100));
  return local;
}

}  // namespace nuvrat
