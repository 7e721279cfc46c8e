#include "plan/planned_disk.h"

#include <nuvrat/rewrite.h>

#include "steps/after.h"

namespace nuvrat::plan {

void PlannedDisk::add(const std::vector<Step>& steps) {
  for (const Step& step : steps) {
    state_ = after(step, std::move(state_));
    waiting_.push_back(step);
  }
}

const Device& PlannedDisk::device(const ReadOptions& options) {
  if (waiting_.empty()) return overlay_ == nullptr ? device_ : *overlay_;
  if (overlay_ == nullptr) overlay_ = std::make_unique<Overlay>(device_);
  for (const Step& step : waiting_) {
    const auto rewrite = make_rewrite(step, *overlay_);
    (void)Engine::inspect(*rewrite, *overlay_, OwnedBy(step));
  }
  for (SurveyedPartition& s : state_.volumes) {
    if (s.partition.role == Role::extended) continue;
    for (const Step& step : waiting_) {
      if (step.volume() == nullptr || step.volume()->new_place().first != s.partition.start)
        continue;
      const Window window(*overlay_, s.partition.range());
      s.signature = recognise_volume(window);
      const auto reader = open_volume(window, options);
      s.volume.reset();
      if (reader != nullptr) s.volume = reader->info();
      break;
    }
  }
  waiting_.clear();
  return *overlay_;
}

}  // namespace nuvrat::plan
