#pragma once
// A job under way: what all that it does needs.

#include <nuvrat/job.h>

#include "job/case.h"

namespace nuvrat::job {

/// References to what outlives it.
struct Run {
  Device& device;
  const Assessment& assessment;
  const JobOptions& options;
  Case& folder;
  Progress& progress;

  /// The same, told of elsewhere.
  [[nodiscard]] Run told(Progress& elsewhere) const {
    return {device, assessment, options, folder, elsewhere};
  }
};

}  // namespace nuvrat::job
