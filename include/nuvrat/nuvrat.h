#pragma once
// All of Nuvrat: rewrites on-disk structures in place and loses nothing. Four headers are apart:
// stop.h (stops work by a std::stop_token), columns.h (widths on a terminal), and, for tests,
// fat_writer.h (makes FAT volumes) and fault.h (devices that fail).

#include <nuvrat/assessment.h>
#include <nuvrat/bytes.h>
#include <nuvrat/case_record.h>
#include <nuvrat/checksum.h>
#include <nuvrat/codes.h>
#include <nuvrat/device.h>
#include <nuvrat/error.h>
#include <nuvrat/events.h>
#include <nuvrat/expected_change.h>
#include <nuvrat/file_tree.h>
#include <nuvrat/files.h>
#include <nuvrat/finding.h>
#include <nuvrat/function_ref.h>
#include <nuvrat/goal.h>
#include <nuvrat/guid.h>
#include <nuvrat/job.h>
#include <nuvrat/journal.h>
#include <nuvrat/layout.h>
#include <nuvrat/machine.h>
#include <nuvrat/manifest.h>
#include <nuvrat/open.h>
#include <nuvrat/output.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/progress.h>
#include <nuvrat/random.h>
#include <nuvrat/report.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/sectors.h>
#include <nuvrat/step.h>
#include <nuvrat/survey.h>
#include <nuvrat/systems.h>
#include <nuvrat/table.h>
#include <nuvrat/text.h>
#include <nuvrat/time.h>
#include <nuvrat/version.h>
#include <nuvrat/volume.h>
#include <nuvrat/volume_kind.h>
