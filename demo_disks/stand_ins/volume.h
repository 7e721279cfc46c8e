// What both stand-ins need of a disk: files of an NTFS volume by their paths, and what a boot store
// says. Plain C without a library; everything lies in the first 64 KiB of a segment.
#ifndef VOLUME_H
#define VOLUME_H

typedef unsigned char u8;
typedef unsigned short u16;
typedef unsigned int u32;
typedef unsigned long long u64;

// Sectors of the disk, in units of its own; whoever includes this has it. 0: done.
static int read_sectors(u32 lba, u32 count, void* to);
static u32 disk_sector_bytes(void);

static u32 at16(const u8* p) {
  return p[0] | (u32)p[1] << 8;
}
static u32 at32(const u8* p) {
  return at16(p) | at16(p + 2) << 16;
}
static void copy(void* to, const void* from, u32 n) {
  u8* t = to;
  const u8* f = from;
  while (n-- > 0) *t++ = *f++;
}
static int equal(const void* a, const void* b, u32 n) {
  const u8 *x = a, *y = b;
  while (n-- > 0) {
    if (*x++ != *y++) return 0;
  }
  return 1;
}
static u32 upper(u32 c) {
  return c >= 'a' && c <= 'z' ? c - 32 : c;
}

enum { max_runs = 64, record_max = 4096, no_record = 0xFFFFFFFF };

struct run {
  u32 lcn, count;  // lcn no_record: a hole
};
struct runs {
  struct run r[max_runs];
  u32 n;
};

struct volume {
  u32 start, sectors_per_cluster, record_bytes, records, mft_lcn;
  struct runs mft;
  u8 record[record_max];
};

static int decode_runs(const u8* p, const u8* end, struct runs* out) {
  u32 lcn = 0;
  for (out->n = 0; p < end && *p != 0; ++out->n) {
    u32 lengths = *p & 15, offsets = *p >> 4, count = 0, delta = 0, i;
    if (out->n == max_runs || p + 1 + lengths + offsets > end) return 0;
    for (i = 0; i < lengths && i < 4; ++i) count |= (u32)p[1 + i] << 8 * i;
    for (i = 0; i < offsets && i < 4; ++i) delta |= (u32)p[1 + lengths + i] << 8 * i;
    if (offsets > 0 && offsets < 4 && (p[lengths + offsets] & 0x80) != 0)
      delta |= 0xFFFFFFFFu << 8 * offsets;
    lcn += delta;
    out->r[out->n].lcn = offsets == 0 ? no_record : lcn;
    out->r[out->n].count = count;
    p += 1 + lengths + offsets;
  }
  return 1;
}

// Whole sectors of an attribute, from a sector of it on.
static int read_runs(const struct volume* v, const struct runs* runs, u32 sector, u32 count,
                     u8* to) {
  u32 i, first = 0;
  for (i = 0; i < runs->n && count > 0; ++i) {
    u32 here = runs->r[i].count * v->sectors_per_cluster;
    while (count > 0 && sector >= first && sector < first + here) {
      u32 n = first + here - sector, most = 32768 / disk_sector_bytes();
      if (n > count) n = count;
      if (n > most) n = most;
      if (runs->r[i].lcn == no_record ||
          read_sectors(v->start + runs->r[i].lcn * v->sectors_per_cluster + sector - first, n,
                       to) != 0)
        return 0;
      to += n * disk_sector_bytes();
      sector += n;
      count -= n;
    }
    first += here;
  }
  return count == 0;
}

static int fix_record(u8* r, u32 bytes) {
  u32 i, usa = at16(r + 4), count = at16(r + 6);
  if (!equal(r, "FILE", 4) || usa + 2 * count > bytes || (count - 1) * 512 != bytes) return 0;
  for (i = 1; i < count; ++i) {
    u8* end = r + i * 512 - 2;
    if (!equal(end, r + usa, 2)) return 0;
    copy(end, r + usa + 2 * i, 2);
  }
  return 1;
}

static int read_record(struct volume* v, u32 number) {
  u32 size = disk_sector_bytes();
  static u8 unit[record_max];
  u32 per = v->record_bytes < size ? size / v->record_bytes : 1;
  u32 n = v->record_bytes < size ? 1 : v->record_bytes / size;
  if (!read_runs(v, &v->mft, v->record_bytes < size ? number / per : number * n, n, unit)) return 0;
  copy(v->record, unit + number % per * v->record_bytes, v->record_bytes);
  return fix_record(v->record, v->record_bytes);
}

// The first attribute of a type that has no name; null: none.
static const u8* attribute(const struct volume* v, u32 type, const u8* after) {
  const u8* p = after == 0 ? v->record + at16(v->record + 20) : after + at32(after + 4);
  while (p + 16 < v->record + v->record_bytes && at32(p) != 0xFFFFFFFF) {
    if (at32(p + 4) < 16) return 0;
    if (at32(p) == type && p[9] == 0) return p;
    p += at32(p + 4);
  }
  return 0;
}

static int open_volume(struct volume* v, u32 start) {
  static u8 boot[record_max];
  u32 size = disk_sector_bytes();
  const u8* data;
  v->start = start;
  if (read_sectors(start, 1, boot) != 0 || !equal(boot + 3, "NTFS    ", 8)) return 0;
  v->sectors_per_cluster = boot[13] * (at16(boot + 11) / size);
  v->mft_lcn = at32(boot + 0x30);
  v->record_bytes = (boot[0x40] & 0x80) != 0 ? 1u << (256 - boot[0x40])
                                             : boot[0x40] * v->sectors_per_cluster * size;
  if (v->record_bytes > record_max || v->record_bytes < 512) return 0;
  v->mft.n = 1;
  v->mft.r[0].lcn = v->mft_lcn;
  v->mft.r[0].count = 16;
  if (!read_record(v, 0) || (data = attribute(v, 0x80, 0)) == 0 || data[8] == 0) return 0;
  v->records = at32(data + 48) / v->record_bytes;
  return decode_runs(data + at16(data + 32), data + at32(data + 4), &v->mft);
}

// A name in a folder, by looking at every record.
static u32 find_in(struct volume* v, u32 folder, const char* name, u32 length) {
  u32 n;
  for (n = 5; n < v->records; ++n) {
    const u8* f = 0;
    if (!read_record(v, n) || (v->record[22] & 1) == 0) continue;
    while ((f = attribute(v, 0x30, f)) != 0) {
      const u8* key = f + at16(f + 20);
      u32 i = 0;
      if (at32(key) != folder || key[64] != length) continue;
      while (i < length && upper(at16(key + 66 + 2 * i)) == upper((u8)name[i])) ++i;
      if (i == length) return n;
    }
  }
  return no_record;
}

// "\Boot\BCD": its record is in v->record then. 0: it isn't there.
static int find_file(struct volume* v, const char* path) {
  u32 at = 5;
  while (*path != 0) {
    u32 n = 0;
    while (*path == '\\') ++path;
    while (path[n] != 0 && path[n] != '\\') ++n;
    at = find_in(v, at, path, n);
    if (at == no_record) return 0;
    path += n;
  }
  return read_record(v, at);
}

// The contents of the file that was found, whole sectors of it; its bytes, or 0.
static u32 read_found(struct volume* v, u8* to, u32 most) {
  static struct runs runs;
  const u8* data = attribute(v, 0x80, 0);
  u32 size = disk_sector_bytes(), bytes;
  if (data == 0) return 0;
  if (data[8] == 0) {
    copy(to, data + at16(data + 20), at32(data + 16));
    return at32(data + 16);
  }
  bytes = at32(data + 48);
  if ((bytes + size - 1) / size * size > most ||
      !decode_runs(data + at16(data + 32), data + at32(data + 4), &runs) ||
      !read_runs(v, &runs, 0, (bytes + size - 1) / size, to))
    return 0;
  return bytes;
}

// A hive in memory, by the offsets of its cells. 0: none.
static u32 hive_child(const u8* hive, u32 key, const char* name) {
  const u8* nk = hive + 4096 + key + 4;
  u32 list = at32(nk + 28), count, i, length = 0;
  const u8* l;
  while (name[length] != 0) ++length;
  if (key == 0 || at32(nk + 20) == 0) return 0;
  l = hive + 4096 + list + 4;
  count = at16(l + 2);
  for (i = 0; i < count; ++i) {
    u32 child = at32(l + 4 + i * (l[1] == 'i' ? 4 : 8)), j = 0;
    const u8* c = hive + 4096 + child + 4;
    if (at16(c + 72) != length) continue;
    while (j < length && upper(c[76 + j]) == upper((u8)name[j])) ++j;
    if (j == length) return child;
  }
  return 0;
}
// The value "Element" of a key; its bytes.
static const u8* hive_element(const u8* hive, u32 key, u32* bytes) {
  const u8* nk = hive + 4096 + key + 4;
  const u8* vk;
  if (key == 0 || at32(nk + 36) == 0) return 0;
  vk = hive + 4096 + at32(hive + 4096 + at32(nk + 40) + 4) + 4;
  *bytes = at32(vk + 4);
  if ((*bytes & 0x80000000u) != 0) {
    *bytes &= 0x7FFFFFFF;
    return vk + 8;
  }
  return hive + 4096 + at32(vk + 8) + 4;
}

struct store_entry {
  const u8* device;  // 88 bytes, or null
  char description[64];
  char loader[64];
};
static void narrow(char* to, u32 most, const u8* text, u32 bytes) {
  u32 i;
  for (i = 0; i + 1 < most && 2 * i + 1 < bytes && text[2 * i] != 0; ++i) to[i] = (char)text[2 * i];
  to[i] = 0;
}
// What is started unless somebody chooses.
static int read_store(const u8* hive, struct store_entry* out) {
  u32 objects, key, bytes = 0;
  const u8* value;
  char name[64];
  if (!equal(hive, "regf", 4)) return 0;
  objects = hive_child(hive, at32(hive + 36), "Objects");
  key = hive_child(hive, objects, "{9dea862c-5cdd-4e70-acc1-f32b344d4795}");
  key = hive_child(hive, hive_child(hive, key, "Elements"), "23000003");
  if ((value = hive_element(hive, key, &bytes)) == 0) return 0;
  narrow(name, sizeof name, value, bytes);
  key = hive_child(hive, hive_child(hive, objects, name), "Elements");
  value = hive_element(hive, hive_child(hive, key, "21000001"), &bytes);
  out->device = value != 0 && bytes == 88 ? value : 0;
  out->description[0] = out->loader[0] = 0;
  if ((value = hive_element(hive, hive_child(hive, key, "12000004"), &bytes)) != 0)
    narrow(out->description, sizeof out->description, value, bytes);
  if ((value = hive_element(hive, hive_child(hive, key, "12000002"), &bytes)) != 0)
    narrow(out->loader, sizeof out->loader, value, bytes);
  return out->device != 0;
}

// The serial line, byte by byte: what the judge of a test reads.
static void out8(u16 port, u8 value) {
  __asm__ volatile("outb %0, %1" : : "a"(value), "Nd"(port));
}
static u8 in8(u16 port) {
  u8 value;
  __asm__ volatile("inb %1, %0" : "=a"(value) : "Nd"(port));
  return value;
}
static void say(const char* text) {
  for (; *text != 0; ++text) {
    u32 patience = 100000;
    while ((in8(0x3FD) & 0x20) == 0 && --patience > 0) continue;
    out8(0x3F8, (u8)*text);
  }
}
static void say_hex(u32 value, u32 digits) {
  char text[9];
  u32 i;
  for (i = 0; i < digits; ++i) text[digits - 1 - i] = "0123456789ABCDEF"[value >> 4 * i & 15];
  text[digits] = 0;
  say(text);
}
static void say_number(u32 value) {
  char text[11];
  u32 i = 10;
  text[10] = 0;
  do {
    text[--i] = (char)('0' + value % 10);
    value /= 10;
  } while (value > 0);
  say(text + i);
}

// Whether the system's loader is where the store says, as the firmware reads the disk.
static void say_loader(struct volume* v, u32 start, const struct store_entry* entry) {
  if (!open_volume(v, start)) {
    say("STAND-IN: there is no system volume.\r\n");
    return;
  }
  say(find_file(v, entry->loader) ? "STAND-IN: confirmed, its loader is there: "
                                  : "STAND-IN: its loader isn't there: ");
  say(entry->loader);
  say(".\r\n");
}

#endif
