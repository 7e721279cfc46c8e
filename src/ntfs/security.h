#pragma once
// $Secure: the two security descriptors that a new volume has, and the indexes that find them.

#include <map>
#include <vector>

#include "ntfs/index.h"

namespace nuvrat::ntfs {

inline constexpr std::uint32_t security_of_system = 0x100;
inline constexpr std::uint32_t security_of_files = 0x101;

struct SecurityStreams {
  Bytes sds;                   ///< $SDS with its mirror
  std::vector<IndexItem> sdh;  ///< by hash
  std::vector<IndexItem> sii;  ///< by id
};
[[nodiscard]] SecurityStreams make_security();

/// $Quota's $Q: the default, no limit for any user.
[[nodiscard]] std::vector<IndexItem> default_quota(std::int64_t changed);

/// The descriptors of a $SDS, by their ids; what is damaged in it is left out.
[[nodiscard]] std::map<std::uint32_t, Bytes> read_descriptors(ByteView sds);

}  // namespace nuvrat::ntfs
