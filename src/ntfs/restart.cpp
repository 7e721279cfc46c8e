#include "ntfs/restart.h"

#include <fmt/core.h>

#include "base/record.h"
#include "ntfs/fixup.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t page_bytes = 4096;
constexpr std::uint32_t mark_restart = 0x52545352;  // "RSTR"
constexpr std::uint32_t mark_checked = 0x444B4843;  // "CHKD"
constexpr std::uint32_t mark_empty = 0xFFFFFFFF;
constexpr std::uint16_t no_client = 0xFFFF;
constexpr std::uint16_t closed_clean = 2;

struct RestartPage {
  MultiSectorHeader multi;
  be::little_uint64_buf_t checked;
  be::little_uint32_buf_t system_page_bytes, log_page_bytes;
  be::little_uint16_buf_t area;  // where the restart area begins
  be::little_uint16_buf_t minor, major;
};
static_assert(offsetof(RestartPage, major) == 0x1C);

struct RestartArea {
  be::little_uint64_buf_t lsn;
  be::little_uint16_buf_t clients, first_free, first_used, flags;
};
static_assert(sizeof(RestartArea) == 16);

}  // namespace

std::optional<std::string> LogState::trouble() const {
  const std::string remedy =
      "start the volume once under the system that owns it, and close it there";
  if (torn)
    return fmt::format("restart page {} of the log was not written whole; {}", *torn, remedy);
  switch (kind) {
    case Kind::closed:
      return std::nullopt;
    case Kind::open:
      return fmt::format("the log holds work that is not done yet; {}{}", remedy,
                         major >= 2 ? ". A log of this form also stays open while a system sleeps: "
                                      "its memory may be on another disk"
                                    : "");
    case Kind::none:
      break;
  }
  return "$LogFile begins with nothing that a log has";
}

LogState read_log(const Volume& volume, const AttributeView& log) {
  LogState out;
  if (log.resident || log.size < 2 * page_bytes) return out;
  std::optional<std::uint64_t> newest;
  for (const std::uint64_t number : {0u, 1u}) {
    Bytes page(page_bytes);
    volume.read(log, number * page_bytes, page);
    const auto mark = load<be::little_uint32_buf_t>(page).value();
    if (mark == mark_empty && number == 0) out.kind = LogState::Kind::closed;
    if (mark != mark_restart && mark != mark_checked) continue;
    const auto head = load<RestartPage>(page);
    if (!unprotect(page) || head.area.value() > page.size() - sizeof(RestartArea)) {
      if (!out.torn) out.torn = number;
      continue;
    }
    const auto area = load<RestartArea>(page, head.area.value());
    if (newest && *newest > area.lsn.value()) continue;
    const bool open =
        area.first_used.value() != no_client && (area.flags.value() & closed_clean) == 0;
    // Of two that are as new, one that is open counts.
    const bool equal = newest && *newest == area.lsn.value();
    if (!equal || open) out.kind = open ? LogState::Kind::open : LogState::Kind::closed;
    newest = area.lsn.value();
    out.major = head.major.value();
  }
  return out;
}

}  // namespace nuvrat::ntfs
