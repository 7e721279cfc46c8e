#pragma once
// How a kind of step names its data: once, for writing and reading.
//
// Each kind has `template <typename Self, typename Fields> static void fields(Self& self, Fields&
// f)`, which says f("key", self.member) for every member. What a visitor must take:

#include <vector>

#include <nuvrat/step.h>

#include "tree/put_file.h"

namespace nuvrat::steps {

/// Contents that a step copies to free sectors.
struct SectorMove {
  SectorRange from;
  std::uint64_t to = 0;
};

// std::uint64_t, std::uint32_t, bool, Ticks, std::string, Bytes, VolumeKind, SectorRange,
// SectorWrite, SectorMove, PutFile, vectors of the last four and of std::uint64_t, another kind of
// step that may be there (std::optional), and VolumeChange by these fields.
template <typename Self, typename Fields>
void fields_of(Self& v, Fields& f) {
  f("place", v.place);
  f("front", v.front);
  f("serial", v.serial);
  f("made", v.made);
  f("zone", v.zone);
  f("codepage", v.codepage);
  f("from", v.from);
  f("to", v.to);
  f("anew", v.anew);
  f("number", v.number);
  f("cluster_bytes", v.cluster_bytes);
  f("needed_clusters", v.needed_clusters);
  f("free_clusters", v.free_clusters);
  f("moved_clusters", v.moved_clusters);
  f("log_bytes", v.log_bytes);
  f("writes", v.writes);
}

}  // namespace nuvrat::steps
