// Contents of files move on a FAT volume, so that what its conversion writes in one piece finds
// room.

#include "fat/make_way.h"

#include <algorithm>

#include "plan/make_way.h"

namespace nuvrat::plan {
namespace {

constexpr std::size_t max_switches = 64;  // each is a rewrite of its own

steps::FatMakeWay work_of(const fat::Move& move, const VolumeChange& conversion) {
  steps::FatChange out;
  out.title = "clusters moved";
  out.volume = conversion;
  out.volume.to = out.volume.from;
  out.volume.anew = false;
  for (const auto& [from, to] : move.contents) out.moves.push_back({from, to});
  out.before = move.before;
  out.change = move.change;
  out.after = move.behind;
  out.volume.writes = move.before.size() + 1 + move.behind.size();
  for (const steps::SectorMove& m : out.moves) out.volume.writes += m.from.count;
  return {std::move(out)};
}

void play(const steps::FatChange& change, Device& device) {
  for (const steps::SectorMove& m : change.moves)
    device.write(m.to, device.read(m.from.first, m.from.count));
  for (const SectorWrite& w : change.before) device.write(w.lba, w.data);
  device.write(change.change.lba, change.change.data);
  for (const SectorWrite& w : change.after) device.write(w.lba, w.data);
}

}  // namespace

std::optional<std::uint64_t> make_way(Device& ahead, const VolumeChange& conversion,
                                      std::uint64_t wanted, SectorRange within,
                                      std::vector<steps::FatMakeWay>& out) {
  const auto room =
      fat::make_way(ahead, conversion.place, steps::options_of(conversion),
                    {.sectors = wanted,
                     .within = within,
                     .max_switches = max_switches - std::min(max_switches, out.size())});
  if (!room || room->moves.empty()) return std::nullopt;
  for (const fat::Move& move : room->moves) {
    out.push_back(work_of(move, conversion));
    play(out.back().change, ahead);
  }
  return room->clusters;
}

}  // namespace nuvrat::plan
