#include "boot/systems.h"

#include <algorithm>
#include <set>

#include <boost/endian/buffers.hpp>
#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "base/record.h"
#include "base/volume_traits.h"
#include "boot/store.h"
#include "volume/kinds.h"
#include "volume/paths.h"

namespace nuvrat::boot {
namespace {

constexpr std::uint64_t max_program_bytes = 64u << 20;

char upper(std::uint8_t c) {
  return static_cast<char>(c >= 'a' && c <= 'z' ? c - 32 : c);
}

class Finder {
 public:
  Finder(const Device& device, const TableReading& table, const ReadOptions& options, Systems& out)
      : device_(device), table_(table), layout_(table.layout), options_(options), out_(out) {}

  void look_at(const Partition& p) {
    const Window window(device_, p.range());
    const bool firmware_looks = p.active || class_of(p.type) == TypeClass::efi_system;
    if (!base::traits_of(recognise_volume(window).kind).carries_system && !firmware_looks) return;
    const auto paths = volume::open_paths(window, options_);
    if (paths == nullptr) return;
    find_system(p, *paths);
    looked_into_.insert(p.number);
    const bool efi = class_of(p.type) == TypeClass::efi_system;
    const bool legacy_code = p.active && layout_.kind == TableKind::mbr && loads_manager(window);
    if (const auto f = paths->find(paths::manager_legacy); f && !f->directory)
      find_boot_files(p, *paths, BootWay::legacy, legacy_code, paths::store_legacy);
    const std::string uefi = std::string(paths::folder_uefi) + "/" + paths::manager_uefi;
    if (paths->find(uefi)) find_boot_files(p, *paths, BootWay::uefi, efi, paths::store_uefi);
  }

  // Once all are looked at: a store may name a system on a later one.
  void follow_to_systems() {
    for (std::size_t i = 0; i < out_.boot_files.size(); ++i)
      out_.boot_files[i].missing = missing(out_.boot_files[i], stores_[i]);
  }

 private:
  // The first link of the chain that isn't there: table, boot sector, store, program, system.
  [[nodiscard]] std::string missing(const BootFiles& b, const StoreView& store) const {
    const bool uefi = b.way == BootWay::uefi;
    const char* firmware = firmware_words(b.way);
    if ((layout_.kind == TableKind::gpt) != uefi)
      return fmt::format("{} boots the system from {} only", firmware, uefi ? "a GPT" : "an MBR");
    const Partition* p = layout_.find(b.partition);
    if (!uefi && !table_.boot_code) return "the MBR has no boot code";
    if (!uefi && !volume::hidden_sectors_fit(volume::hidden_sectors_of(device_.read(p->start)), *p))
      return "its boot sector has another start than the partition";
    if (!b.store) return "there is no boot store beside them";
    if (!b.fault.empty()) return "the boot store can't be read: " + b.fault;
    if (!store.device) return "the boot store names its system in a form that isn't known here";
    if (b.system == 0) return "the boot store names no partition of this disk";
    // Older systems have loaders of other names, which legacy firmware starts.
    if (base::ascii_lower(store.loader).ends_with(".efi") != uefi)
      return fmt::format("the boot store names '{}', which is not a program for {}",
                         printable(store.loader), firmware);
    if (looked_into_.count(b.system) == 0)
      return fmt::format("p{}, which the boot store names, was not looked into", b.system);
    const bool has_loader =
        std::any_of(out_.systems.begin(), out_.systems.end(), [&](const SystemVolume& v) {
          return v.number == b.system && (uefi ? v.uefi_loader : v.legacy_loader);
        });
    return has_loader ? "" : fmt::format("p{} has no loader for {}", b.system, firmware);
  }

  void find_system(const Partition& p, volume::PathReader& paths) {
    SystemVolume s;
    s.legacy_loader = paths.find(paths::loader_legacy).has_value();
    s.uefi_loader = paths.find(paths::loader_uefi).has_value();
    if (!s.legacy_loader && !s.uefi_loader) return;
    s.number = p.number;
    s.partition = p.id;
    const char* const loader = s.uefi_loader ? paths::loader_uefi : paths::loader_legacy;
    try {
      s.machine = machine_of(paths.read(loader, max_program_bytes));
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::refused) throw;
    }
    s.letters = letters_of(paths);
    out_.systems.push_back(s);
  }

  // Nothing depends on them: where the hive can't be read, none are known.
  [[nodiscard]] std::vector<DriveLetter> letters_of(volume::PathReader& paths) const {
    std::vector<DriveLetter> out;
    try {
      if (!paths.find(paths::hive)) return out;
      const HiveFile hive = read_hive(paths, paths::hive, max_hive_bytes);
      if (hive_fault(hive.file, hive.logs)) return out;
      for (const HiveLetter& l : read_letters(Hive(hive.file, "the system's hive"))) {
        const Partition* p = l.partition ? named_by(layout_, *l.partition) : nullptr;
        if (p != nullptr) out.push_back({l.letter, p->id});
      }
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::refused) throw;
      out.clear();
    }
    return out;
  }

  void find_boot_files(const Partition& p, volume::PathReader& paths, BootWay way, bool in_force,
                       const char* store) {
    BootFiles b;
    b.number = p.number;
    b.partition = p.id;
    b.way = way;
    b.in_force = in_force;
    b.store = paths.find(store).has_value();
    StoreView view;
    if (b.store) {
      try {
        const HiveFile hive = read_hive(paths, store, max_store_bytes);
        if (const auto fault = hive_fault(hive.file, hive.logs)) {
          b.fault = *fault;
        } else {
          view = read_store(hive.file);
          b.description = view.description;
          const Partition* named = view.device ? named_by(layout_, *view.device) : nullptr;
          b.system = named == nullptr ? 0 : named->number;
        }
      } catch (const Error& e) {
        b.fault = e.message();
      }
    }
    out_.boot_files.push_back(std::move(b));
    stores_.push_back(std::move(view));
  }

  const Device& device_;
  const TableReading& table_;
  const Layout& layout_;
  const ReadOptions& options_;
  Systems& out_;
  std::vector<StoreView> stores_;  // beside each of out_.boot_files
  std::set<unsigned> looked_into_;
};

}  // namespace

std::string paths::removable(Machine machine) {
  switch (machine) {
    case Machine::x86:
      return "EFI/BOOT/BOOTIA32.EFI";
    case Machine::x86_64:
      return "EFI/BOOT/BOOTX64.EFI";
    case Machine::arm64:
      return "EFI/BOOT/BOOTAA64.EFI";
    default:
      return "";
  }
}

Machine machine_of(ByteView program) {
  constexpr std::size_t header_place = 0x3C;
  if (program.size() < 64 || program[0] != 'M' || program[1] != 'Z') return Machine::unknown;
  const std::uint32_t at =
      base::load<boost::endian::little_uint32_buf_t>(program, header_place).value();
  if (at > program.size() || program.size() - at < 6 || program[at] != 'P' ||
      program[at + 1] != 'E')
    return Machine::unknown;
  switch (base::load<boost::endian::little_uint16_buf_t>(program, at + 4).value()) {
    case 0x014C:
      return Machine::x86;
    case 0x8664:
      return Machine::x86_64;
    case 0xAA64:
      return Machine::arm64;
    default:
      return Machine::unknown;
  }
}

bool loads_manager(const Device& volume) {
  constexpr std::uint64_t looked_at = 8192;  // NTFS: all of $Boot; FAT32: its reserved sectors
  constexpr std::string_view name = "BOOTMGR";
  const Bytes code = volume.read(0, std::min(looked_at / volume.sector_size(), volume.sectors()));
  for (const std::size_t width : {std::size_t{1}, std::size_t{2}}) {
    for (std::size_t at = 0; at + name.size() * width <= code.size(); ++at) {
      std::size_t same = 0;
      while (same < name.size() && upper(code[at + same * width]) == name[same] &&
             (width == 1 || code[at + same * width + 1] == 0))
        ++same;
      if (same == name.size()) return true;
    }
  }
  return false;
}

HiveFile read_hive(volume::PathReader& paths, const std::string& path, std::uint64_t most) {
  HiveFile out{paths.read(path, most), {}};
  for (const char* ending : {".LOG1", ".LOG2"}) {
    if (const auto log = paths.find(path + ending); log && !log->directory)
      out.logs.push_back(paths.read(path + ending, most));
  }
  return out;
}

Systems find_systems(const Device& device, const TableReading& table,
                     const std::vector<Partition>& partitions, const ReadOptions& options) {
  Systems out;
  Finder finder(device, table, options, out);
  for (const Partition& p : partitions) {
    try {
      finder.look_at(p);
    } catch (const Error& e) {
      const bool passed = e.code() == ErrorCode::damaged || e.code() == ErrorCode::device_read ||
                          e.code() == ErrorCode::refused;
      if (!passed) throw;
    }
  }
  finder.follow_to_systems();
  return out;
}

}  // namespace nuvrat::boot

namespace nuvrat {

const char* name_of(BootWay way) {
  return way == BootWay::uefi ? "uefi" : "legacy";
}

const char* firmware_words(BootWay way) {
  return way == BootWay::uefi ? "UEFI" : "legacy firmware";
}

const char* name_of(Machine machine) {
  switch (machine) {
    case Machine::x86:
      return "x86";
    case Machine::x86_64:
      return "x86-64";
    case Machine::arm64:
      return "arm64";
    default:
      return "unknown";
  }
}

std::optional<BootWay> Systems::boots_by() const {
  for (const BootFiles& b : boot_files) {
    if (b.in_force && b.missing.empty()) return b.way;
  }
  return std::nullopt;
}

}  // namespace nuvrat
