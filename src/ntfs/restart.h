#pragma once
// The two restart pages at the beginning of $LogFile: whether all that is logged is on the disk.

#include <optional>
#include <string>

#include "ntfs/volume.h"

namespace nuvrat::ntfs {

struct LogState {
  enum class Kind {
    closed,  ///< emptied, or no client uses it
    open,
    none  ///< nothing that a log begins with
  };
  Kind kind = Kind::none;
  std::optional<std::uint64_t> torn;  ///< a restart page that was not written whole: its number
  unsigned major = 1;                 ///< of the form of the log

  /// Why it doesn't count as closed, and what to do; none where it does.
  [[nodiscard]] std::optional<std::string> trouble() const;
};

/// Of the pages that are whole the newer one counts. `log` is the unnamed $DATA of $LogFile.
[[nodiscard]] LogState read_log(const Volume& volume, const AttributeView& log);

}  // namespace nuvrat::ntfs
