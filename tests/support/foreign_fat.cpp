#include "foreign_fat.h"

#include <algorithm>

#include "disk_bytes.h"

namespace foreign {

using namespace nuvrat;
using disk_bytes::noise;
using disk_bytes::put;

namespace {

struct Entry {
  std::string short_name;      // eleven bytes
  std::u16string long_name{};  // empty: none
  std::uint8_t bits = 0x20;
  std::uint32_t cluster = 0, size = 0;
};

class FatMaker {
 public:
  explicit FatMaker(const FatShape& shape)
      : shape_(shape),
        cluster_(shape.cluster_sectors * shape.sector_bytes),
        fat_(shape.clusters + 2),
        fat_sectors_(
            static_cast<std::uint32_t>(
                (std::uint64_t{shape.clusters + 2} * shape.width / 8 + shape.sector_bytes) /
                shape.sector_bytes) +
            shape.surplus),
        root_sectors_((shape.root_entries * 32 + shape.sector_bytes - 1) / shape.sector_bytes),
        data_(shape.reserved + shape.fats * fat_sectors_ + root_sectors_) {}

  [[nodiscard]] std::uint64_t sectors() const {
    return data_ + std::uint64_t{shape_.clusters} * shape_.cluster_sectors + shape_.tail;
  }

  FatVolume make(std::uint64_t start, std::uint64_t disk_sectors) {
    FatVolume out;
    out.disk = std::make_unique<MemoryDevice>(disk_sectors, shape_.sector_bytes);
    disk_ = out.disk.get();
    start_ = start;
    fat_[0] = 0x0FFFFF00u | shape_.media;
    fat_[1] = end_of_chain;
    add_files(out.files);
    write_fats();
    write_boot();
    Bytes mbr(shape_.sector_bytes);
    put(mbr, 440, 0x0DDBA115, 4);
    disk_bytes::put_entry(mbr, 0, shape_.width == 32 ? 0x0C : 0x0E, start, sectors());
    disk_->write(0, mbr);
    return out;
  }

 private:
  static constexpr std::uint32_t end_of_chain = 0x0FFFFFF8;  // the least of them

  // A chain of these clusters, in this order.
  std::uint32_t chain(const std::vector<std::uint32_t>& clusters) {
    for (std::size_t i = 0; i < clusters.size(); ++i)
      fat_[clusters[i]] = i + 1 == clusters.size() ? end_of_chain : clusters[i + 1];
    return clusters.empty() ? 0 : clusters[0];
  }
  void write_chain(const std::vector<std::uint32_t>& clusters, Bytes bytes) {
    bytes.resize(clusters.size() * std::size_t{cluster_});
    for (std::size_t i = 0; i < clusters.size(); ++i) {
      disk_->write(start_ + data_ + std::uint64_t{clusters[i] - 2} * shape_.cluster_sectors,
                   ByteView(bytes).subspan(i * cluster_, cluster_));
    }
  }

  static void add(Bytes& folder, const Entry& e) {
    unsigned sum = 0;
    for (const char c : e.short_name)
      sum = (((sum & 1) << 7) + (sum >> 1) + static_cast<std::uint8_t>(c)) & 0xFF;
    const std::size_t pieces = (e.long_name.size() + 12) / 13;
    for (std::size_t piece = pieces; piece > 0; --piece) {
      Bytes l(32);
      put(l, 0, piece | (piece == pieces ? 0x40 : 0), 1);
      put(l, 11, 0x0F, 1);
      put(l, 13, sum, 1);
      constexpr std::size_t places[13] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
      for (std::size_t i = 0; i < 13; ++i) {
        const std::size_t at = (piece - 1) * 13 + i;
        const std::uint64_t unit = at < e.long_name.size()    ? e.long_name[at]
                                   : at == e.long_name.size() ? 0
                                                              : 0xFFFF;
        put(l, places[i], unit, 2);
      }
      folder.insert(folder.end(), l.begin(), l.end());
    }
    Bytes s(32);
    std::copy(e.short_name.begin(), e.short_name.end(), s.begin());
    put(s, 11, e.bits, 1);
    put(s, 20, e.cluster >> 16, 2);
    put(s, 22, 0x6A52, 2);  // 13:18:36
    put(s, 24, 0x56A3, 2);  // 2023-05-03
    put(s, 26, e.cluster, 2);
    put(s, 28, e.size, 4);
    folder.insert(folder.end(), s.begin(), s.end());
  }
  static void add_dots(Bytes& folder, std::uint32_t own, std::uint32_t above) {
    add(folder, {".          ", {}, 0x10, own, 0});
    add(folder, {"..         ", {}, 0x10, above, 0});
  }

  void add_files(std::map<std::string, Bytes>& files) {
    // Far into the volume, and back again.
    const std::uint32_t far = shape_.clusters - 40;
    const std::vector<std::uint32_t> of_gauges = {20, 18}, of_often = {30};
    const std::vector<std::uint32_t> of_tides = {far + 3, far + 1, 40, 41, far + 20};
    const std::vector<std::uint32_t> of_sound = {50, 51, 52};
    chain(of_gauges);
    chain(of_often);
    Bytes root, gauges, often;
    if (shape_.label_in_root) add(root, {"Pegel Nord ", {}, 0x08});
    add(root, {"GAUGES     ", {}, 0x10, 20, 0});
    // What was deleted, its long name too.
    Bytes gone;
    add(gone, {"OLDNOT~1TXT", u"old notes.txt", 0x20, 60, 99});
    for (std::size_t i = 0; i < gone.size(); i += 32) gone[i] = 0xE5;
    root.insert(root.end(), gone.begin(), gone.end());
    const Bytes tides = noise(4 * std::size_t{cluster_} + 7, 1);
    add(root, {"TIDESO~1CSV", u"tides of a year.csv", 0x20, chain(of_tides),
               static_cast<std::uint32_t>(tides.size())});
    write_chain(of_tides, tides);
    files["tides of a year.csv"] = tides;
    const Bytes sound = noise(3 * std::size_t{cluster_}, 2);  // up to the last byte of the last
    add(root, {"SOUND   RAW", {}, 0x21, chain(of_sound), static_cast<std::uint32_t>(sound.size())});
    write_chain(of_sound, sound);
    files["SOUND.RAW"] = sound;
    add(root, {"EMPTY      ", {}, 0x02});
    files["EMPTY"] = {};
    add_dots(gauges, 20, 0);
    add(gauges, {"FTER~1     ", u"Öfter", 0x10, 30, 0});
    for (std::size_t i = 0; gauges.size() < cluster_ + 64 && i < 40; ++i) {
      const std::string number = std::to_string(100 + i);
      add(gauges, {"GAUGE" + number + "DAT", {}, 0x20});
      files["GAUGES/GAUGE" + number + ".DAT"] = {};
    }
    add_dots(often, 30, 20);
    add(often, {"NORD    TXT", u"nørd.txt", 0x20, chain({31}), 5});
    write_chain({31}, {'e', 'b', 'b', 'e', '\n'});
    files["GAUGES/Öfter/nørd.txt"] = {'e', 'b', 'b', 'e', '\n'};
    // After the end of a folder nothing counts.
    often.resize(often.size() + 32);
    add(often, {"NEVER   BIN", {}, 0x20, 70, 10});
    write_chain(of_gauges, gauges);
    write_chain(of_often, often);
    if (shape_.width == 32) {
      chain({shape_.root_cluster, 90});
      write_chain({shape_.root_cluster, 90}, root);
    } else {
      root.resize(std::size_t{root_sectors_} * shape_.sector_bytes);
      disk_->write(start_ + data_ - root_sectors_, root);
    }
    fat_[shape_.clusters - 1] = 0x0FFFFFF7;  // a bad one
  }

  void write_fats() {
    Bytes bytes(std::size_t{fat_sectors_} * shape_.sector_bytes);
    for (std::size_t i = 0; i < fat_.size(); ++i) {
      if (shape_.width == 12) {
        const std::size_t at = i * 3 / 2;
        const std::uint64_t was = disk_bytes::little(bytes, at, 2);
        const std::uint32_t value = fat_[i] & 0xFFF;
        put(bytes, at, i % 2 == 0 ? (was & 0xF000) | value : (was & 0x000F) | value << 4, 2);
      } else {
        const bool free = fat_[i] == 0;
        put(bytes, i * shape_.width / 8,
            shape_.width == 16 ? fat_[i] & 0xFFFF : fat_[i] | (free ? 0 : shape_.high_bits),
            shape_.width / 8);
      }
    }
    for (std::uint32_t f = 0; f < shape_.fats; ++f) {
      const std::uint64_t at = start_ + shape_.reserved + std::uint64_t{f} * fat_sectors_;
      if (shape_.active == 0 || f + 1 == shape_.active)
        disk_->write(at, bytes);
      else
        disk_->write(at, ByteView(bytes).first(shape_.sector_bytes));  // as it once began
    }
  }

  void write_boot() {
    Bytes b(shape_.sector_bytes);
    const bool wide = shape_.width == 32;
    const std::string head = wide ? "\xEB\x58\x90RECORDER" : "\xEB\x3C\x90RECORDER";
    std::copy(head.begin(), head.end(), b.begin());
    put(b, 11, shape_.sector_bytes, 2);
    put(b, 13, shape_.cluster_sectors, 1);
    put(b, 14, shape_.reserved, 2);
    put(b, 16, shape_.fats, 1);
    put(b, 17, shape_.root_entries, 2);
    const bool small = !wide && sectors() < 65536;
    if (small) put(b, 19, sectors(), 2);
    put(b, 21, shape_.media, 1);
    if (!wide) put(b, 22, fat_sectors_, 2);
    put(b, 24, 63, 2);
    put(b, 26, 255, 2);
    put(b, 28, start_ + shape_.hidden_off, 4);
    if (!small) put(b, 32, sectors(), 4);
    if (wide) {
      put(b, 36, fat_sectors_, 4);
      if (shape_.active > 0) put(b, 40, 0x80 | (shape_.active - 1), 2);
      put(b, 44, shape_.root_cluster, 4);
      put(b, 48, shape_.fs_info == 0 ? 0xFFFF : shape_.fs_info, 2);
      put(b, 50, shape_.boot_copy, 2);
    }
    const std::size_t tail = wide ? 64 : 36;
    put(b, tail, 0x80, 1);
    put(b, tail + 2, 0x29, 1);
    put(b, tail + 3, 0x5EA5CA1E, 4);
    const std::string words = std::string(shape_.label_in_root ? "Pegel Nord " : "NO NAME    ") +
                              (wide                 ? "FAT32   "
                               : shape_.width == 16 ? "FAT16   "
                                                    : "FAT12   ");
    std::copy(words.begin(), words.end(), b.begin() + static_cast<std::ptrdiff_t>(tail + 7));
    put(b, 510, 0xAA55, 2);
    disk_->write(start_, b);
    if (!wide) return;
    if (shape_.fs_info != 0) {
      Bytes info(shape_.sector_bytes);
      put(info, 0, 0x41615252, 4);
      put(info, 484, 0x61417272, 4);
      put(info, 488, 0xFFFFFFFF, 4);
      put(info, 492, 0xFFFFFFFF, 4);
      put(info, 508, 0xAA550000, 4);
      disk_->write(start_ + shape_.fs_info, info);
      if (shape_.boot_copy != 0) disk_->write(start_ + shape_.boot_copy + 1, info);
    }
    if (shape_.boot_copy != 0) disk_->write(start_ + shape_.boot_copy, b);
  }

  FatShape shape_;
  std::uint32_t cluster_;
  std::vector<std::uint32_t> fat_;
  std::uint32_t fat_sectors_, root_sectors_;
  std::uint64_t data_;
  std::uint64_t start_ = 0;
  MemoryDevice* disk_ = nullptr;
};

std::vector<FatShape> make_shapes() {
  std::vector<FatShape> out;
  const auto add = [&out](const char* name, const auto& change) {
    FatShape s;
    s.name = name;
    change(s);
    out.push_back(s);
  };
  const auto narrow = [](FatShape& s, unsigned width, std::uint32_t clusters) {
    s.width = width;
    s.clusters = clusters;
    s.reserved = 1;
    s.root_entries = 512;
  };
  add("FAT32 as usual", [](FatShape&) {});
  add("FAT32, many reserved sectors, clusters of 4 KiB", [](FatShape& s) {
    s.reserved = 6302;
    s.cluster_sectors = 8;
  });
  add("FAT32, one FAT, neither FSInfo nor a second boot sector", [](FatShape& s) {
    s.fats = 1;
    s.fs_info = s.boot_copy = 0;
    s.reserved = 1;
  });
  add("FAT32, the second FAT in use, the root elsewhere", [](FatShape& s) {
    s.active = 2;
    s.root_cluster = 1234;
  });
  add("FAT32, three FATs with room at their ends", [](FatShape& s) {
    s.fats = 3;
    s.surplus = 17;
  });
  add("FAT32, sectors of 4096", [](FatShape& s) {
    s.sector_bytes = 4096;
    s.reserved = 8;
  });
  add("FAT32, bits of entries that are nobody's, no label in the root", [](FatShape& s) {
    s.high_bits = 0xA0000000;
    s.label_in_root = false;
  });
  add("FAT32, sectors after the last cluster, hidden sectors wrong", [](FatShape& s) {
    s.tail = 5;
    s.cluster_sectors = 8;
    s.hidden_off = 63;
  });
  add("FAT16 as usual", [&](FatShape& s) { narrow(s, 16, 20000); });
  add("FAT16, one FAT, a root that ends inside a sector, media F0", [&](FatShape& s) {
    narrow(s, 16, 30000);
    s.fats = 1;
    s.root_entries = 100;
    s.media = 0xF0;
    s.cluster_sectors = 4;
  });
  add("FAT16, clusters of 64 KiB, FATs too long", [&](FatShape& s) {
    narrow(s, 16, 5000);
    s.cluster_sectors = 128;
    s.surplus = 9;
  });
  add("FAT16, sectors of 4096, reserved ones", [&](FatShape& s) {
    narrow(s, 16, 9000);
    s.sector_bytes = 4096;
    s.reserved = 4;
  });
  add("FAT12", [&](FatShape& s) {
    narrow(s, 12, 3000);
    s.cluster_sectors = 8;
  });
  add("FAT12, one cluster less than FAT16", [&](FatShape& s) { narrow(s, 12, 4084); });
  return out;
}

}  // namespace

const std::vector<FatShape>& fat_shapes() {
  static const std::vector<FatShape> shapes = make_shapes();
  return shapes;
}

FatVolume fat(const FatShape& shape, std::uint64_t start, std::uint64_t disk_sectors) {
  return FatMaker(shape).make(start, disk_sectors);
}

}  // namespace foreign
