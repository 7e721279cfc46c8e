#pragma once
// All of Nuvrat: rewrites on-disk structures in place and loses nothing.

#include <nuvrat/assessment.h>
#include <nuvrat/bytes.h>
#include <nuvrat/checksum.h>
#include <nuvrat/device.h>
#include <nuvrat/error.h>
#include <nuvrat/fat_writer.h>
#include <nuvrat/file_tree.h>
#include <nuvrat/finding.h>
#include <nuvrat/goal.h>
#include <nuvrat/guid.h>
#include <nuvrat/job.h>
#include <nuvrat/layout.h>
#include <nuvrat/manifest.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/progress.h>
#include <nuvrat/random.h>
#include <nuvrat/report.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/sectors.h>
#include <nuvrat/survey.h>
#include <nuvrat/table.h>
#include <nuvrat/text.h>
#include <nuvrat/time.h>
#include <nuvrat/volume.h>
#include <nuvrat/volume_kind.h>
