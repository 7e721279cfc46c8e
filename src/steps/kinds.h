#pragma once
// Every kind of step, in one list. A new one is a file of its own and a line here; what it must
// have the compiler says, in step.cpp and in the json room:
//   code, fields, name, touches, make;
// and, where it applies: volume (the volume that it rewrites), seen_on (its sign on a disk on which
// it was cut off after its switch).

#include <variant>

#include "steps/copy_mend.h"
#include "steps/fat_change.h"
#include "steps/fat_to_ntfs.h"
#include "steps/gpt_aside.h"
#include "steps/gpt_home.h"
#include "steps/gpt_mend.h"
#include "steps/new_volume.h"
#include "steps/ntfs_edit.h"
#include "steps/one_sector.h"
#include "steps/table_gpt.h"
#include "steps/table_mbr.h"
#include "steps/to_fat.h"
#include "steps/to_front.h"

namespace nuvrat::steps {

struct Work {
  std::variant<TableGpt, TableMbr, GptAside, GptHome, GptMend, CopyMend, BootSector, EbrType,
               FatToNtfs, FatMend, FatMakeWay, ToFat, EditNtfs, NewVolume, ToFront>
      kind;
};

}  // namespace nuvrat::steps
