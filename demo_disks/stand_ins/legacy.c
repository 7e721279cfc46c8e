// Two programs for legacy firmware, in real mode. BOOT_SECTOR: what NTFS's boot area holds behind
// its first sector; it loads \bootmgr. Otherwise: a stand-in for that, which says on the serial
// line from where it was started and whether the boot store's default entry is a system on the
// disk.
#include "volume.h"

static u8 drive;

struct __attribute__((packed)) packet {
  u8 size, zero;
  u16 count, offset, segment;
  u32 lba, lba_high;
};

static u16 data_segment(void) {
  u16 out;
  __asm__("mov %%ds, %0" : "=r"(out));
  return out;
}
static int read_to(u32 lba, u32 count, u16 segment, u16 offset) {
  static struct packet p;
  u8 failed;
  p.size = 16;
  p.zero = 0;
  p.count = (u16)count;
  p.offset = offset;
  p.segment = segment;
  p.lba = lba;
  p.lba_high = 0;
  u32 a = 0x4200, d = drive;
  struct packet* at = &p;
  __asm__ volatile("int $0x13; setc %0"
                   : "=q"(failed), "+a"(a), "+d"(d), "+S"(at)
                   :
                   : "cc", "memory");
  return failed;
}
static int read_sectors(u32 lba, u32 count, void* to) {
  return read_to(lba, count, data_segment(), (u16)(u32)to);
}
static u32 disk_sector_bytes(void) {
  return 512;
}

static struct volume volume;

#ifdef BOOT_SECTOR

enum { load_segment = 0x2000 };

void start(u32 dl, u32 hidden) {
  static struct runs runs;
  const u8* data;
  u32 i, at = 0;
  drive = (u8)dl;
  if (!open_volume(&volume, hidden) || !find_file(&volume, "BOOTMGR") ||
      (data = attribute(&volume, 0x80, 0)) == 0 || data[8] == 0 ||
      !decode_runs(data + at16(data + 32), data + at32(data + 4), &runs)) {
    say("STAND-IN: BOOTMGR is missing.\r\n");
    return;
  }
  for (i = 0; i < runs.n; ++i) {
    u32 n = runs.r[i].count * volume.sectors_per_cluster, s;
    for (s = 0; s < n; ++s, ++at) {
      if (read_to(volume.start + runs.r[i].lcn * volume.sectors_per_cluster + s, 1,
                  (u16)(load_segment + at * 32), 0) != 0)
        return;
    }
  }
  __asm__ volatile("ljmpl *%0" : : "m"(*(const u8(*)[6]) "\0\0\0\0\0\x20"), "d"(dl), "b"(hidden));
}

#else

static u8 hive[32768];

void start(u32 dl, u32 hidden) {
  static u8 mbr[512];
  static struct store_entry entry;
  u32 i, start_sector = 0, number = 0;
  drive = (u8)dl;
  read_sectors(0, 1, mbr);
  say("STAND-IN: legacy firmware started \\bootmgr of the partition at sector ");
  say_number(hidden);
  say(" of the disk ");
  say_hex(at32(mbr + 440), 8);
  say(".\r\n");
  if (!open_volume(&volume, hidden) || !find_file(&volume, "\\Boot\\BCD") ||
      read_found(&volume, hive, sizeof hive) == 0 || !read_store(hive, &entry)) {
    say("STAND-IN: there is no store with a default entry.\r\n");
    return;
  }
  say("STAND-IN: the store starts '");
  say(entry.description);
  say("'.\r\n");
  // Offset in bytes: its middle 32 bits, by 512.
  start_sector = at32(entry.device + 32) >> 9 | at32(entry.device + 36) << 23;
  if (at32(entry.device + 52) == 1 && at32(entry.device + 56) == at32(mbr + 440)) {
    for (i = 0; i < 4; ++i) {
      if (at32(mbr + 446 + 16 * i + 8) == start_sector && mbr[446 + 16 * i + 4] != 0)
        number = i + 1;
    }
  }
  if (number == 0) {
    say("STAND-IN: its device isn't a partition of this disk.\r\n");
    return;
  }
  say("STAND-IN: its device is partition ");
  say_number(number);
  say(", at sector ");
  say_number(start_sector);
  say(".\r\n");
  say_loader(&volume, start_sector, &entry);
}

#endif
