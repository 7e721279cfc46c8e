// A volume's boot sector holds where the volume begins: it follows when a table's change makes it
// wrong.

#include <algorithm>

#include "plan/plan.h"
#include "steps/kinds.h"

namespace nuvrat {
namespace {

constexpr std::size_t hidden_at = 28;  // on FAT and NTFS alike, 32 bits

std::uint64_t hidden_sectors(ByteView boot) {
  std::uint64_t out = 0;
  for (std::size_t i = 4; i > 0; --i) out = out << 8 | boot[hidden_at + i - 1];
  return out;
}

// Counted from the disk's first sector; of a logical, by old systems, from its EBR.
bool is_right(std::uint64_t hidden, const Partition& p) {
  return hidden == p.start ||
         (p.role == Role::logical && p.table_sector && hidden == p.start - *p.table_sector);
}

// Where an identical second boot sector stands: FAT32 says where, of NTFS it is the last one.
std::vector<std::uint64_t> second_copies(const Device& device, const Partition& p, VolumeKind kind,
                                         const Bytes& boot) {
  std::vector<std::uint64_t> places;
  if (kind == VolumeKind::fat32) places = {static_cast<std::uint64_t>(boot[50] | boot[51] << 8)};
  if (kind == VolumeKind::ntfs) {
    places = {p.sectors - 1};
    std::uint64_t total = 0;
    for (std::size_t i = 8; i > 0; --i) total = total << 8 | boot[40 + i - 1];
    if (total < p.sectors - 1) places.push_back(total);
  }
  std::vector<std::uint64_t> out;
  for (const std::uint64_t at : places) {
    if (at > 0 && at < p.sectors && device.read(p.start + at) == boot) out.push_back(p.start + at);
  }
  return out;
}

}  // namespace

void follow_hidden_sectors(const PlanInput& in, const Layout& after, Assessment& out) {
  for (const SurveyedPartition& s : in.state.volumes) {
    const Partition& p = s.partition;
    const bool has_field = is_fat(s.signature.kind) || s.signature.kind == VolumeKind::ntfs;
    const auto now = std::find_if(
        after.partitions.begin(), after.partitions.end(),
        [&p](const Partition& t) { return t.start == p.start && t.role != Role::extended; });
    // A volume that a step before this one makes anew is made with the right one.
    const bool made = std::any_of(out.steps.begin(), out.steps.end(), [&p](const Step& step) {
      return step.volume() != nullptr && step.volume()->place == p.range();
    });
    if (!has_field || made || now == after.partitions.end() || p.start > 0xFFFFFFFF) continue;
    steps::BootSector work{p.start, in.device.read(p.start), {}};
    const std::uint64_t hidden = hidden_sectors(work.sector);
    // Wrong before is not this change's affair, unless legacy start will go by it now.
    const bool ours = is_right(hidden, p) || (now->role != p.role && now->role != Role::gpt);
    if (is_right(hidden, *now) || !ours) continue;
    work.copies = second_copies(in.device, p, s.signature.kind, work.sector);
    for (unsigned i = 0; i < 4; ++i)
      work.sector[hidden_at + i] = static_cast<std::uint8_t>(p.start >> 8 * i);
    out.steps.push_back(Step(after, {std::move(work)}));
  }
}

}  // namespace nuvrat
