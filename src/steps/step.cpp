// What is asked of a step, whatever its kind.

#include <nuvrat/error.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/step.h>
#include <nuvrat/table.h>
#include <nuvrat/volume.h>

#include "steps/after.h"
#include "steps/kinds.h"

namespace nuvrat {

Step::Step(Layout target, steps::Work work)
    : target_(std::move(target)), work_(std::make_shared<const steps::Work>(std::move(work))) {}

std::string Step::code() const {
  return std::visit([](const auto& kind) { return std::string(kind.code); }, work_->kind);
}
std::string Step::name() const {
  return std::visit([](const auto& kind) { return kind.name(); }, work_->kind);
}
std::string Step::touches() const {
  return std::visit([](const auto& kind) { return kind.touches(); }, work_->kind);
}

const VolumeChange* Step::volume() const {
  return std::visit(
      [](const auto& kind) -> const VolumeChange* {
        if constexpr (requires { kind.volume(); }) {
          return kind.volume();
        } else {
          return nullptr;
        }
      },
      work_->kind);
}

std::unique_ptr<Rewrite> make_rewrite(const Step& step, const Device& device) {
  return std::visit([&](const auto& kind) { return kind.make(step, device); }, step.work().kind);
}

namespace {

// What can't be read owns all of its place.
std::unique_ptr<VolumeReader> open_if_sound(const Device& volume, const VolumeChange& change) {
  try {
    return open_volume(volume, steps::options_of(change));
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged) throw;
    return nullptr;
  }
}

}  // namespace

PartitionId Step::partition() const {
  const VolumeChange* change = volume();
  const Partition* p = change == nullptr ? nullptr : target_.at(change->new_place().first);
  return p == nullptr ? PartitionId::none : p->id;
}

SectorSet owned_sectors(const Device& device) {
  return read_table(device).all_owned();
}

SectorSet OwnedBy::operator()(const Device& device) const {
  if (step_.volume() == nullptr) return owned_sectors(device);
  SectorRange place = step_.volume()->place;
  if (step_.volume()->front > 0) {  // once the table says so
    const SectorRange now = step_.volume()->new_place();
    for (const Partition& p : read_table(device).layout.data_partitions())
      place = p.start == now.first ? now : place;
  }
  SectorSet out;
  const bool is_new = step_.volume()->anew && step_.volume()->from == VolumeKind::unknown;
  if (is_new) return owned_sectors(device);
  if (place.first > 0) {  // beside a table
    out = owned_sectors(device);
    out.remove(place);
  }
  const Window window(device, place);
  const auto reader = open_if_sound(window, *step_.volume());
  if (reader == nullptr) {
    out.add(place);
    return out;
  }
  for (const SectorRange& r : reader->owned()) out.add({place.first + r.first, r.count});
  return out;
}

disk::DiskState after(const Step& step, disk::DiskState state) {
  const VolumeChange* change = step.volume();
  state.set_layout(step.target());
  if (change != nullptr) state.set_kind(step.partition(), change->to);
  return state;
}

namespace {

template <typename Kind>
void look_for(const Device& device, const TableReading& table, std::optional<UnfinishedStep>& out) {
  if constexpr (requires { Kind::seen_on(device, table); }) {
    if (!out) out = Kind::seen_on(device, table);
  }
}

template <typename... Kinds>
std::optional<UnfinishedStep> look_for_any(const Device& device, const std::variant<Kinds...>*) {
  const TableReading table = read_table(device);
  std::optional<UnfinishedStep> out;
  (look_for<Kinds>(device, table, out), ...);
  return out;
}

}  // namespace

std::optional<UnfinishedStep> find_unfinished(const Device& device) {
  const decltype(steps::Work::kind)* const all = nullptr;
  return look_for_any(device, all);
}

}  // namespace nuvrat
