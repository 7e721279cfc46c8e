#pragma once
// A record changed in place: everything that isn't meant stays byte for byte.

#include <functional>
#include <optional>

#include <nuvrat/bytes.h>

#include "ntfs/boot.h"
#include "ntfs/records.h"
#include "ntfs/runs.h"

namespace nuvrat::ntfs {

/// One attribute, or a part of one, as it is in a record.
struct RawAttribute {
  std::size_t at = 0;  ///< where it begins
  AttributeHeader head{};
  std::u16string name;
  std::uint64_t vcn = 0;  ///< non-resident: of its first run
  Runs runs;
  std::uint64_t size = 0;  ///< non-resident and the first part: in bytes
};

/// Every attribute of a record whose update sequence is resolved. Throws Error (damaged).
void each_raw_attribute(ByteView record, const Geometry& geometry,
                        const std::function<void(const RawAttribute&)>& visit);

/// The record with other runlists; none where it would be too long. `change` gives the new runs of
/// an attribute, or none for it to stay.
[[nodiscard]] std::optional<Bytes> with_runs(
    ByteView record, const Geometry& geometry,
    const std::function<std::optional<Runs>(const RawAttribute&)>& change);

}  // namespace nuvrat::ntfs
