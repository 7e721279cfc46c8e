#pragma once
// All of a plan, stage by stage, and the figures of it.

#include "plan/boot.h"

namespace nuvrat::plan {

/// Each stage is planned from the disk as the ones before leave it. `asked`: what was asked for;
/// `way` may say more. `input`: the disk as it is.
[[nodiscard]] PlanPart plan_stages(const PlanInput& input, const goals::Asked& asked,
                                   const Way& way);

/// The disk as it is: table, tag, contents, findings; nothing planned.
[[nodiscard]] Assessment start_assessment(const Survey& survey);
/// The same with a plan, or with what is in its way.
[[nodiscard]] Assessment with(Assessment before, PlanPart part);

/// Bytes a second that this machine showed just now.
struct Pace {
  double read = 0;  ///< from this device; 0: nothing could be read
  double hash = 0;  ///< on one core
};
/// Reads a sample from where files are, 32 MiB at most, and hashes some of it.
[[nodiscard]] Pace measure_pace(const Device& device, const Survey& survey);

/// The same with what is overwritten that nobody owns, with sectors to read and write, and the
/// expected time.
[[nodiscard]] Assessment with_figures(const Assessment& before, PlanPart part, const Device& device,
                                      const Survey& survey, const Pace& pace);
struct Times {
  double by_contents = 0, by_places = 0;  ///< in seconds
};
/// The expected time, of either proof; `volume_sectors`: written in volumes.
[[nodiscard]] Times expected_times(const Device& device, const Survey& survey, const Pace& pace,
                                   std::uint64_t volume_sectors, const Assessment& assessment);

}  // namespace nuvrat::plan
