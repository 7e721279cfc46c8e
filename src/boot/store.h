#pragma once
// The boot store: which systems there are to start, and from where.

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/systems.h>

#include "boot/hive.h"
#include "boot/identity.h"

namespace nuvrat::boot {

/// What a partition that was called so is called now; none: it isn't one of this disk, or is gone.
using NewName = std::function<std::optional<PartitionName>(const PartitionName&)>;

struct StoreChange {
  NewName new_name;
  /// Which way the store is for afterwards; none: as before.
  std::optional<BootWay> way;
  /// With a way: where boot files and store are then.
  PartitionName boot_files;
  /// With a way: the system that is started unless the store names one of this disk already.
  PartitionName system;
};

struct ChangedStore {
  Bytes file;
  std::size_t named = 0;  ///< elements that name another partition now
  /// Elements that name a device in a form that isn't known here: object and element.
  std::vector<std::string> odd;
  std::size_t left = 0;  ///< elements that name partitions that aren't on this disk
};
/// Throws Error (damaged).
[[nodiscard]] ChangedStore change_store(ByteView file, const StoreChange& change);
/// A store out of the system's template.
[[nodiscard]] ChangedStore new_store(ByteView tmpl, const StoreChange& change);

/// What a store says.
struct StoreView {
  std::string description;              ///< of the entry that is started, UTF-8
  std::optional<PartitionName> device;  ///< where that entry's system is
  std::string loader;                   ///< its path
  std::size_t systems = 0;              ///< entries
};
[[nodiscard]] StoreView read_store(ByteView file);

/// Drive letters. `taken` of a hive of a system (HKLM\SYSTEM).
struct HiveLetter {
  char letter = 0;
  std::optional<PartitionName> partition;  ///< none: something else has it
};
[[nodiscard]] std::vector<HiveLetter> read_letters(const Hive& system);
struct ChangedLetters {
  Bytes file;  ///< empty: nothing changes
  std::size_t followed = 0;
};
/// Letters follow partitions that are called otherwise now, and those in `wanted` are set.
[[nodiscard]] ChangedLetters change_letters(
    ByteView file, const NewName& new_name,
    const std::vector<std::pair<char, PartitionName>>& wanted);

}  // namespace nuvrat::boot
