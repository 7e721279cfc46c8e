#include "station_hives.h"

#include <algorithm>
#include <array>

#include <fmt/core.h>

namespace orrelune {
namespace {

using namespace nuvrat;

constexpr std::uint64_t other_disk_offset = 1u << 20;
constexpr const char* default_loader = "{5b0f1e2a-7c11-4e0d-9d6e-0c1a7e5d0a01}";
constexpr const char* other_loader = "{5b0f1e2a-7c11-4e0d-9d6e-0c1a7e5d0a02}";
constexpr const char* second_loader = "{5b0f1e2a-7c11-4e0d-9d6e-0c1a7e5d0a06}";
constexpr const char* resume = "{5b0f1e2a-7c11-4e0d-9d6e-0c1a7e5d0a03}";
constexpr const char* memory_test = "{b2721d73-1db4-4c62-bf78-c548a880142d}";
constexpr const char* manager = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";

void put_number(Bytes& out, std::size_t at, std::uint64_t value, unsigned bytes) {
  for (unsigned i = 0; i < bytes; ++i) out[at + i] = static_cast<std::uint8_t>(value >> 8 * i);
}

HiveKey& object(HiveKey& store, const char* name, std::uint32_t type) {
  HiveKey& out = store["Objects"][name];
  out["Description"].values["Type"] = hive_number(type);
  return out;
}

void element(HiveKey& of, const char* name, HiveKey::Value value) {
  of["Elements"][name].values["Element"] = std::move(value);
}

}  // namespace

Bytes mbr_device(std::uint32_t signature, std::uint64_t offset) {
  Bytes out(88);
  put_number(out, 16, 6, 4);
  put_number(out, 24, 0x48, 4);
  put_number(out, 32, offset, 8);
  put_number(out, 52, 1, 4);
  put_number(out, 56, signature, 4);
  return out;
}

Bytes memory_disk(std::uint32_t signature, std::uint64_t offset) {
  Bytes out(16, 0x3C);  // the object with its options
  const Bytes name = mbr_device(signature, offset);
  Bytes head(20);
  put_number(head, 8, 20 + 72 + 40, 4);
  out.insert(out.end(), head.begin(), head.end());
  out.insert(out.end(), name.begin() + 16, name.end());
  Bytes path(40);
  std::copy_n("\\R\0e\0p\0a\0i\0r\0", 12, path.begin());
  out.insert(out.end(), path.begin(), path.end());
  return out;
}

HiveKey boot_store(std::uint64_t boot_offset, std::uint64_t system_offset,
                   std::uint64_t second_offset, std::uint64_t repair_offset) {
  HiveKey out{"root", {}, {}};
  const HiveKey::Value boot{3, mbr_device(system_disk_signature, boot_offset)};
  const HiveKey::Value system{3, mbr_device(system_disk_signature, system_offset)};
  HiveKey& boss = object(out, manager, 0x10100002);
  element(boss, "11000001", boot);
  element(boss, "12000004", hive_text("Start manager"));
  element(boss, "23000003", hive_text(default_loader));
  element(boss, "24000001", hive_texts({default_loader, other_loader}));
  element(boss, "25000004", {3, {30, 0, 0, 0, 0, 0, 0, 0}});
  HiveKey& loader = object(out, default_loader, 0x10200003);
  element(loader, "11000001", system);
  element(loader, "12000002", hive_text("\\Windows\\system32\\winload.exe"));
  element(loader, "12000004", hive_text("Orrelune tide station"));
  element(loader, "21000001", system);
  element(loader, "22000002", hive_text("\\Windows"));
  HiveKey& other = object(out, other_loader, 0x10200003);
  element(other, "11000001", {3, mbr_device(other_disk_signature, other_disk_offset)});
  element(other, "12000002", hive_text("\\Windows\\system32\\winload.exe"));
  element(other, "12000004", hive_text("The archive's system, on another disk"));
  if (second_offset != 0) {
    HiveKey& second = object(out, second_loader, 0x10200003);
    const HiveKey::Value device{3, mbr_device(system_disk_signature, second_offset)};
    element(second, "11000001", device);
    element(second, "12000002", hive_text("\\Windows\\system32\\winload.exe"));
    element(second, "12000004", hive_text("Orrelune archive"));
    element(second, "21000001", device);
    element(second, "22000002", hive_text("\\Windows"));
  }
  HiveKey& sleep = object(out, resume, 0x10200004);
  element(sleep, "11000001", system);
  element(sleep, "12000002", hive_text("\\Windows\\system32\\winresume.exe"));
  HiveKey& test = object(out, memory_test, 0x10200005);
  element(test, "11000001", boot);
  element(test, "12000002", hive_text("\\boot\\memtest.exe"));
  if (repair_offset != 0)
    element(object(out, "{5b0f1e2a-7c11-4e0d-9d6e-0c1a7e5d0a07}", 0x30000000), "31000003",
            {3, memory_disk(system_disk_signature, repair_offset)});
  // Of a form that isn't known here: left as it is.
  Bytes odd(60, 0x11);
  element(object(out, "{5b0f1e2a-7c11-4e0d-9d6e-0c1a7e5d0a05}", 0x20200004), "31000003", {3, odd});
  return out;
}

HiveKey system_hive(const std::vector<std::uint64_t>& offsets) {
  const auto place = [](std::uint32_t signature, std::uint64_t offset) {
    Bytes out(12);
    put_number(out, 0, signature, 4);
    put_number(out, 4, offset, 8);
    return HiveKey::Value{3, out};
  };
  HiveKey out{"root", {}, {}};
  HiveKey& mounted = out["MountedDevices"];
  constexpr std::array letters{"S", "C", "R", "T"};
  for (std::size_t i = 0; i < std::min(offsets.size(), letters.size()); ++i) {
    const HiveKey::Value value = place(system_disk_signature, offsets[i]);
    if (i > 0) mounted.values[fmt::format("\\DosDevices\\{}:", letters[i])] = value;
    mounted.values[fmt::format("\\??\\Volume{{7f6d2c10-0000-0000-0000-{:012x}}}", i + 1)] = value;
  }
  mounted.values["\\DosDevices\\E:"] = place(other_disk_signature, other_disk_offset);
  mounted.values["\\DosDevices\\F:"] = {3, hive_text("\\??\\a reader for cards").bytes};
  out["Select"].values["Current"] = hive_number(1);
  for (int i = 0; i < 40; ++i)
    out["ControlSet001"]["Services"][fmt::format("gauge {}", i)].values["Start"] =
        hive_number(static_cast<std::uint32_t>(i % 4));
  return out;
}

HiveKey store_template() {
  HiveKey out{"root", {}, {}};
  object(out, manager, 0x10100002);
  HiveKey& loader = object(out, "{5b0f1e2a-7c11-4e0d-9d6e-0c1a7e5d0a04}", 0x10200003);
  element(loader, "12000002", hive_text("\\Windows\\system32\\winload.exe"));
  element(loader, "12000004", hive_text("Orrelune station, anew"));
  element(loader, "22000002", hive_text("\\Windows"));
  return out;
}

}  // namespace orrelune
