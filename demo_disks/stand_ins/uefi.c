// A stand-in for a system's boot program on UEFI machines: says on the serial line from which file
// and partition it was started, reads the boot store beside it, and says whether the default
// entry's device is a system volume as the firmware sees the disk.
#include <efi.h>
#include <efilib.h>

static EFI_BLOCK_IO* disk;

#include "volume.h"

static u32 disk_sector_bytes(void) {
  return disk->Media->BlockSize;
}
static int read_sectors(u32 lba, u32 count, void* to) {
  static u8 block[65536];
  u32 bytes = count * disk_sector_bytes();
  if (bytes > sizeof block) return 1;
  if (disk->ReadBlocks(disk, disk->Media->MediaId, lba, bytes, block) != EFI_SUCCESS) return 1;
  copy(to, block, bytes);
  return 0;
}

static void say_wide(const CHAR16* text) {
  char one[2] = {0, 0};
  for (; *text != 0; ++text) {
    one[0] = (char)*text;
    say(one);
  }
}

// The part of a device path that names a partition; null: none.
static HARDDRIVE_DEVICE_PATH* partition_of(EFI_HANDLE handle) {
  EFI_DEVICE_PATH* path = DevicePathFromHandle(handle);
  for (; path != NULL && !IsDevicePathEnd(path); path = NextDevicePathNode(path)) {
    if (DevicePathType(path) == MEDIA_DEVICE_PATH && DevicePathSubType(path) == MEDIA_HARDDRIVE_DP)
      return (HARDDRIVE_DEVICE_PATH*)path;
  }
  return NULL;
}

static u8 hive[65536];
static struct volume volume;

static void look_at_store(EFI_HANDLE device) {
  EFI_FILE_HANDLE root = LibOpenRoot(device), file = NULL;
  UINTN bytes = sizeof hive, count = 0, i;
  struct store_entry entry;
  EFI_HANDLE* handles = NULL;
  if (root == NULL ||
      root->Open(root, &file, L"\\EFI\\Microsoft\\Boot\\BCD", EFI_FILE_MODE_READ, 0) !=
          EFI_SUCCESS ||
      file->Read(file, &bytes, hive) != EFI_SUCCESS || !read_store(hive, &entry)) {
    say("STAND-IN: there is no store with a default entry.\r\n");
    return;
  }
  say("STAND-IN: the store starts '");
  say(entry.description);
  say("'.\r\n");
  LibLocateHandle(ByProtocol, &BlockIoProtocol, NULL, &count, &handles);
  for (i = 0; i < count; ++i) {
    HARDDRIVE_DEVICE_PATH* p = partition_of(handles[i]);
    if (p == NULL || p->SignatureType != SIGNATURE_TYPE_GUID || at32(entry.device + 52) != 0 ||
        !equal(p->Signature, entry.device + 32, 16))
      continue;
    say("STAND-IN: its device is partition ");
    say_number(p->PartitionNumber);
    say(", at sector ");
    say_number((u32)p->PartitionStart);
    say(".\r\n");
    if (BS->HandleProtocol(handles[i], &BlockIoProtocol, (void**)&disk) != EFI_SUCCESS) return;
    say_loader(&volume, 0, &entry);
    return;
  }
  say("STAND-IN: its device isn't a partition that the firmware knows.\r\n");
}

EFI_STATUS efi_main(EFI_HANDLE image, EFI_SYSTEM_TABLE* table) {
  EFI_LOADED_IMAGE* loaded = NULL;
  HARDDRIVE_DEVICE_PATH* from;
  InitializeLib(image, table);
  if (BS->HandleProtocol(image, &LoadedImageProtocol, (void**)&loaded) != EFI_SUCCESS)
    return EFI_LOAD_ERROR;
  from = partition_of(loaded->DeviceHandle);
  say("STAND-IN: UEFI firmware started ");
  say_wide(((FILEPATH_DEVICE_PATH*)loaded->FilePath)->PathName);
  say(" of partition ");
  say_number(from == NULL ? 0 : from->PartitionNumber);
  say(".\r\n");
  look_at_store(loaded->DeviceHandle);
  RT->ResetSystem(EfiResetShutdown, EFI_SUCCESS, 0, NULL);
  return EFI_SUCCESS;
}
