// Contents of files move on a FAT volume, so that what its conversion writes in one piece finds
// room.

#include "fat/make_way.h"

#include <algorithm>

#include "assess/plan.h"
#include "assess/rewrites.h"

namespace nuvrat {
namespace {

constexpr std::size_t most_switches = 64;  // each is a rewrite of its own

Step step_of(const FatMove& move, const Step& conversion) {
  Step out;
  out.kind = "fat-make-way";
  out.title = "clusters moved";
  out.target = conversion.target;
  out.volume = conversion.volume;
  out.volume.to = out.volume.from;
  for (const auto& [from, to] : move.contents) out.moves.push_back({from, to});
  out.before = move.before;
  out.lba = move.change.lba;
  out.sector = move.change.data;
  out.behind = move.behind;
  for (const SectorMove& m : out.moves) out.volume.writes += m.from.count;
  out.volume.writes += move.before.size() + 1 + move.behind.size();
  return out;
}

void play(const Step& step, Device& device) {
  for (const SectorMove& m : step.moves)
    device.write(m.to, device.read(m.from.first, m.from.count));
  for (const SectorWrite& w : step.before) device.write(w.lba, w.data);
  device.write(step.lba, step.sector);
  for (const SectorWrite& w : step.behind) device.write(w.lba, w.data);
}

}  // namespace

std::optional<std::uint64_t> make_way(Device& ahead, const Step& conversion, std::uint64_t wanted,
                                      SectorRange within, std::vector<Step>& steps) {
  const auto room =
      make_way_in_fat(ahead, conversion.volume.place, options_of(conversion.volume), wanted, within,
                      most_switches - std::min(most_switches, steps.size()));
  if (!room || room->moves.empty()) return std::nullopt;
  for (const FatMove& move : room->moves) {
    steps.push_back(step_of(move, conversion));
    play(steps.back(), ahead);
  }
  return room->clusters;
}

}  // namespace nuvrat
