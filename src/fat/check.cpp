#include "fat/check.h"

#include <algorithm>
#include <set>
#include <unordered_set>

#include <fmt/format.h>

#include <nuvrat/error.h>

#include "base/finding_log.h"
#include "base/record.h"
#include "fat/names.h"

namespace nuvrat {
namespace {

constexpr std::uint64_t piece_bytes = 1u << 20;

class FatCheck {
 public:
  FatCheck(const Device& device, const ReadOptions& options)
      : device_(device),
        page_(options.codepage),
        zone_(options.zone),
        boot_(device.read(0)),
        g_(geometry()),
        ratio_(g_.sector_bytes / device.sector_size()),
        map_(device, g_, g_.active_fat) {
    facts_.geometry = g_;
  }

  void run() {
    check_boot();
    check_fat_head();
    check_copies();
    walk();
    check_claims();
    check_unowned();
    check_info();
  }

  Findings take() { return log_.take(); }
  FatFacts& facts() { return facts_; }

 private:
  struct Node {
    std::uint32_t parent;
    std::u16string name;
  };
  struct Folder {
    std::uint32_t node;
    std::uint32_t cluster;  // 0: the fixed root
    std::uint32_t parent_cluster;
  };
  struct Claim {
    std::uint32_t first, count, node;
  };
  // One entry of a folder, with where it stands.
  struct Entry {
    DirEntry raw;
    std::uint32_t index;
    std::uint64_t sector;
    std::uint32_t offset;
  };

  FatGeometry geometry() const {
    std::string fault;
    const auto g = parse_fat_boot(boot_, fault);
    if (!g) {
      throw Error(ErrorCode::damaged, "the FAT boot sector makes no sense: " + fault,
                  {{}, 0, {}, {}});
    }
    if (g->sector_bytes % device_.sector_size() != 0 ||
        g->total_sectors * (g->sector_bytes / device_.sector_size()) > device_.sectors()) {
      throw Error(ErrorCode::damaged, "the volume doesn't fit its place", {{}, 0, {}, {}});
    }
    return *g;
  }

  void add(const char* code, Severity severity, std::optional<std::uint64_t> sector,
           std::string path, std::string text, bool repairable = false) {
    if (sector) *sector *= ratio_;
    log_.add(code, severity, {{}, sector, {}, std::move(path)}, std::move(text), repairable);
  }
  void error(const char* code, std::uint32_t node, std::string text, bool repairable = false) {
    add(code, Severity::error, {}, path(node), std::move(text), repairable);
  }

  [[nodiscard]] std::string path(std::uint32_t node) const {
    std::vector<std::uint32_t> up;
    for (; node != 0; node = nodes_[node].parent) up.push_back(node);
    std::string out;
    for (auto it = up.rbegin(); it != up.rend(); ++it)
      out += (out.empty() ? "" : "/") + to_utf8(nodes_[*it].name);
    return out;
  }

  void check_boot() {
    const auto boot = load<FatBoot>(boot_);
    const auto ext = load<Fat32Boot>(boot_, 36);
    const std::uint64_t clusters = g_.clusters;
    if (g_.kind == VolumeKind::fat32 && clusters < 65525)
      add("fat.cluster-count", Severity::note, 0, "",
          fmt::format("FAT32 with {} clusters: some systems take it for FAT16", clusters));
    if (boot.BPB_TotSec16.value() != 0 && boot.BPB_TotSec32.value() != 0 &&
        boot.BPB_TotSec16.value() != boot.BPB_TotSec32.value())
      add("fat.boot-fields", Severity::warning, 0, "", "two fields say different sizes");
    if (g_.fats < 2)
      add("fat.one-copy", Severity::note, 0, "", "the volume has one FAT, without a copy");
    if (g_.dirty_flag)
      add("fat.not-clean", Severity::error, 0, "",
          "the volume was not closed properly; start it once under the system that owns it, or "
          "check it there");
    if (g_.kind != VolumeKind::fat32) return;
    if (ext.BPB_FSVer.value() != 0)
      add("fat.boot-fields", Severity::warning, 0, "",
          fmt::format("the volume is of version {:04X}", ext.BPB_FSVer.value()));
    if (boot.BPB_RootEntCnt.value() != 0 || boot.BPB_TotSec16.value() != 0)
      add("fat.boot-fields", Severity::warning, 0, "",
          "fields that FAT32 leaves zero hold something else");
    if (g_.backup_boot == 0) {
      add("fat.boot-copy", Severity::note, 0, "", "the volume has no second boot sector");
    } else if (device_.read(std::uint64_t{g_.backup_boot} * ratio_, ratio_) !=
               device_.read(0, ratio_)) {
      facts_.boot_copy_differs = true;
      add("fat.boot-copy", Severity::warning, g_.backup_boot, "",
          "the second boot sector is not the same as the first", true);
    }
  }

  void check_fat_head() {
    const Bytes first = device_.read(g_.fat_start(g_.active_fat) * ratio_);
    if (first[0] != boot_[21])
      add("fat.media", Severity::warning, g_.fat_start(g_.active_fat), "",
          fmt::format("the FAT begins with {:02X}, the boot sector's media byte is {:02X}",
                      first[0], boot_[21]));
    if (!map_.clean() && !g_.dirty_flag)
      add("fat.not-clean", Severity::error, g_.fat_start(g_.active_fat), "",
          "the FAT says that the volume was not closed properly, or that errors were seen; start "
          "it once under the system that owns it, or check it there");
  }

  void check_copies() {
    if (!g_.mirrored) return;
    const std::uint64_t sectors = std::uint64_t{g_.fat_sectors} * ratio_;
    const std::uint64_t piece = piece_bytes / device_.sector_size();
    Bytes one(piece_bytes);
    Bytes other(piece_bytes);
    for (std::uint32_t copy = 0; copy < g_.fats; ++copy) {
      if (copy == g_.active_fat) continue;
      const std::uint64_t a = g_.fat_start(g_.active_fat) * ratio_;
      const std::uint64_t b = g_.fat_start(copy) * ratio_;
      std::uint64_t at = 0;
      std::optional<std::uint64_t> differs;
      while (at < sectors && !differs) {
        const std::uint64_t data = std::min(std::max(device_.next_data(a + at), a + at) - a,
                                            std::max(device_.next_data(b + at), b + at) - b);
        if (data > at) {  // both are a hole up to there
          at = std::min(data, sectors);
          continue;
        }
        const std::uint64_t count = std::min(piece, sectors - at);
        const std::size_t bytes = count * device_.sector_size();
        device_.read(a + at, ByteSpan(one).first(bytes));
        device_.read(b + at, ByteSpan(other).first(bytes));
        const auto end = one.begin() + static_cast<std::ptrdiff_t>(bytes);
        const auto hit = std::mismatch(one.begin(), end, other.begin());
        if (hit.first != end)
          differs =
              at + static_cast<std::uint64_t>(hit.first - one.begin()) / device_.sector_size();
        at += count;
      }
      if (!differs) continue;
      facts_.differing_copies.push_back(copy);
      differs_at_ = (b + *differs) / ratio_;
    }
  }

  // The folder's bytes, its chain claimed and judged.
  std::vector<Entry> read_folder(const Folder& folder) {
    std::vector<SectorRange> places;  // in the volume's sectors
    if (folder.cluster == 0) {
      places.push_back({g_.root_start(), g_.root_sectors});
    } else {
      const FatMap::Chain chain = map_.chain(folder.cluster);
      judge_chain(folder.node, chain);
      for (const ClusterRange& r : claim(folder.node, chain.ranges)) {
        places.push_back({g_.cluster_start(r.first), std::uint64_t{r.count} * g_.cluster_sectors});
      }
    }
    std::vector<Entry> out;
    std::uint32_t index = 0;
    for (const SectorRange& place : places) {
      for (std::uint64_t s = 0; s < place.count; ++s) {
        const Bytes sector = device_.read((place.first + s) * ratio_, ratio_);
        for (std::size_t at = 0; at < sector.size(); at += sizeof(DirEntry), ++index) {
          if (index >= 65536) {
            error("fat.folder-too-long", folder.node, "the folder has more than 65,536 entries");
            return out;
          }
          out.push_back(
              {load<DirEntry>(sector, at), index, place.first + s, static_cast<std::uint32_t>(at)});
          if (out.back().raw.DIR_Name[0] == 0) {
            out.pop_back();
            return out;
          }
        }
      }
    }
    return out;
  }

  void judge_chain(std::uint32_t node, const FatMap::Chain& chain) {
    if (chain.fault.empty()) return;
    facts_.chains_sound = false;
    const bool circle = chain.fault.find("circle") != std::string::npos;
    const bool free = chain.fault.find("free") != std::string::npos;
    const bool bad = chain.fault.find("bad") != std::string::npos;
    error(circle ? "fat.chain-loop"
          : free ? "fat.chain-free"
          : bad  ? "fat.chain-bad"
                 : "fat.chain-outside",
          node, "its chain is broken: " + chain.fault);
  }

  // Keeps the ranges for the search for shared clusters; those of a loop only once.
  std::vector<ClusterRange> claim(std::uint32_t node, const std::vector<ClusterRange>& ranges) {
    std::vector<ClusterRange> out;
    std::uint64_t total = 0;
    for (const ClusterRange& r : ranges) {
      total += r.count;
      if (total > g_.clusters) break;
      claims_.push_back({r.first, r.count, node});
      out.push_back(r);
    }
    return out;
  }

  void walk() {
    nodes_.push_back({0, u""});
    const std::uint32_t root = g_.kind == VolumeKind::fat32 ? g_.root_cluster : 0;
    std::vector<Folder> open{{0, root, 0}};
    std::unordered_set<std::uint32_t> seen{root};
    while (!open.empty()) {
      const Folder folder = open.back();
      open.pop_back();
      check_folder(folder, open, seen);
    }
  }

  void check_folder(const Folder& folder, std::vector<Folder>& open,
                    std::unordered_set<std::uint32_t>& seen) {
    const std::vector<Entry> entries = read_folder(folder);
    std::set<std::u16string> names;
    std::size_t i = 0;
    if (folder.node != 0) i = check_dots(folder, entries);
    LongName long_name;
    bool labelled = false;
    for (; i < entries.size(); ++i) {
      const Entry& e = entries[i];
      const std::uint8_t first = e.raw.DIR_Name[0];
      if (first == 0xE5) {
        if (long_name.pending()) orphan(folder.node, e);
        long_name.clear();
        continue;
      }
      if ((e.raw.DIR_Attr & 0x3F) == fat_attr_long) {
        Bytes raw(32);
        store(e.raw, raw);
        const auto piece = load<LongEntry>(raw);
        if (long_name.pending() && (first & 0x40) != 0) orphan(folder.node, e);
        if (piece.LDIR_FstClusLO.value() != 0 || piece.LDIR_Type != 0)
          add("fat.long-name-form", Severity::warning, e.sector, path(folder.node),
              fmt::format("entry {} of a long name has a type or a cluster", e.index));
        long_name.add(piece);
        continue;
      }
      if ((e.raw.DIR_Attr & fat_attr_label) != 0) {
        if (long_name.pending()) orphan(folder.node, e);
        long_name.clear();
        if (folder.node != 0 || labelled)
          add("fat.label", Severity::warning, e.sector, path(folder.node),
              fmt::format("entry {} is a volume label too many, or not in the root folder",
                          e.index));
        labelled = true;
        continue;
      }
      const bool had_long = long_name.pending();
      std::u16string name = long_name.take(e.raw.DIR_Name);
      if (had_long && name.empty()) orphan(folder.node, e);
      check_entry(folder, e, std::move(name), names, open, seen);
    }
    if (long_name.pending())
      add("fat.long-name-orphan", Severity::note, {}, path(folder.node),
          "entries of a long name at the folder's end belong to no file; they are ignored");
  }

  void orphan(std::uint32_t folder, const Entry& e) {
    add("fat.long-name-orphan", Severity::note, e.sector, path(folder),
        fmt::format("entries of a long name before entry {} belong to no file; they are ignored",
                    e.index));
  }

  // "." and ".." come first and lead to the folder itself and to the one above, 0 for the root.
  std::size_t check_dots(const Folder& folder, const std::vector<Entry>& entries) {
    const auto is = [&entries](std::size_t i, std::string_view name) {
      if (i >= entries.size()) return false;
      const auto& raw = entries[i].raw.DIR_Name;
      for (std::size_t k = 0; k < raw.size(); ++k) {
        if (raw[k] != static_cast<std::uint8_t>(k < name.size() ? name[k] : ' ')) return false;
      }
      return true;
    };
    const bool one = is(0, ".");
    const bool two = is(1, "..");
    if (!one || !two) {
      add("fat.dots", Severity::warning, {}, path(folder.node),
          "the folder doesn't begin with '.' and '..'");
      return (one ? 1u : 0u);
    }
    if (entries[0].raw.cluster() != folder.cluster ||
        entries[1].raw.cluster() != folder.parent_cluster)
      add("fat.dots", Severity::warning, entries[0].sector, path(folder.node),
          fmt::format("'.' leads to cluster {} and '..' to {}, which should be {} and {}",
                      entries[0].raw.cluster(), entries[1].raw.cluster(), folder.cluster,
                      folder.parent_cluster));
    return 2;
  }

  void check_entry(const Folder& folder, const Entry& e, std::u16string long_name,
                   std::set<std::u16string>& names, std::vector<Folder>& open,
                   std::unordered_set<std::uint32_t>& seen) {
    const std::u16string alias = short_name_text(e.raw, page_, false);
    const bool has_long = !long_name.empty();
    const auto node = static_cast<std::uint32_t>(nodes_.size());
    nodes_.push_back(
        {folder.node, has_long ? std::move(long_name) : short_name_text(e.raw, page_, true)});
    check_names(e, node, alias, names);
    if ((e.raw.DIR_Attr & 0xC0) != 0)
      add("fat.attributes", Severity::warning, e.sector, path(node),
          fmt::format("the attributes are {:02X}", e.raw.DIR_Attr));
    check_times(e, node);
    const bool directory = (e.raw.DIR_Attr & fat_attr_directory) != 0;
    const std::uint32_t cluster = e.raw.cluster();
    if (!directory) {
      check_file(e, node, cluster);
      return;
    }
    if (e.raw.DIR_FileSize.value() != 0)
      add("fat.folder-size", Severity::warning, e.sector, path(node),
          fmt::format("the folder says that it has {} bytes; it must say 0",
                      e.raw.DIR_FileSize.value()));
    if (!g_.valid_cluster(cluster)) {
      error("fat.folder-cluster", node,
            fmt::format("the folder would begin at cluster {}", cluster));
    } else if (!seen.insert(cluster).second) {
      error("fat.folder-twice", node,
            fmt::format("another folder begins at cluster {} as well", cluster));
    } else {
      const bool below_root = folder.node == 0;
      open.push_back({node, cluster, below_root ? 0 : folder.cluster});
    }
  }

  void check_names(const Entry& e, std::uint32_t node, const std::u16string& alias,
                   std::set<std::u16string>& names) {
    const std::u16string& name = nodes_[node].name;
    const auto illegal = [](std::u16string_view text) {
      return std::any_of(text.begin(), text.end(), [](char16_t c) {
        return c < 0x20 || std::u16string_view(u"\"*/:<>?\\|").find(c) != std::u16string_view::npos;
      });
    };
    if (name.empty() || name.find_first_of(std::u16string_view(u"/\0", 2)) != name.npos) {
      error("fat.name-illegal", node,
            "the name is empty or holds a character that no name may hold");
    } else if (illegal(name) || illegal(alias) || e.raw.DIR_Name[0] == ' ' || name.size() > 255) {
      add("fat.name-odd", Severity::warning, e.sector, path(node),
          "the name holds a character that FAT names don't");
    }
    const bool twice = !names.insert(lower(name)).second;
    const bool alias_twice = lower(alias) != lower(name) && !names.insert(lower(alias)).second;
    if (twice || alias_twice)
      error("fat.name-twice", node,
            fmt::format("'{}' stands in its folder twice", to_utf8(twice ? name : alias)));
  }

  static std::u16string lower(std::u16string_view text) { return fold_case(text); }

  void check_times(const Entry& e, std::uint32_t node) {
    const auto wrong = [](std::uint16_t date, std::uint16_t time) {
      const unsigned month = date >> 5 & 15;
      const unsigned day = date & 31;
      const bool date_wrong = date != 0 && (month < 1 || month > 12 || day < 1);
      return date_wrong || (time >> 11) > 23 || (time >> 5 & 63) > 59 || (time & 31) > 29;
    };
    if (wrong(e.raw.DIR_WrtDate.value(), e.raw.DIR_WrtTime.value()) ||
        wrong(e.raw.DIR_CrtDate.value(), e.raw.DIR_CrtTime.value()) ||
        wrong(e.raw.DIR_LstAccDate.value(), 0))
      add("fat.time", Severity::note, e.sector, path(node), "a date or time is none");
  }

  void check_file(const Entry& e, std::uint32_t node, std::uint32_t cluster) {
    const std::uint64_t size = e.raw.DIR_FileSize.value();
    if (cluster == 0) {
      if (size > 0) {
        size_finding(e, node, {}, 0, "fat.chain-short");
      }
      return;
    }
    const FatMap::Chain chain = map_.chain(cluster);
    judge_chain(node, chain);
    claim(node, chain.ranges);
    if (!chain.fault.empty()) return;
    const std::uint64_t needed = div_up<std::uint64_t>(size, g_.cluster_bytes());
    if (chain.clusters < needed) {
      size_finding(e, node, chain.ranges, chain.clusters, "fat.chain-short");
    } else if (chain.clusters > needed) {
      size_finding(e, node, chain.ranges, chain.clusters, "fat.chain-long");
    }
  }

  void size_finding(const Entry& e, std::uint32_t node, const std::vector<ClusterRange>& chain,
                    std::uint64_t clusters, const char* code) {
    const bool is_short = std::string_view(code) == "fat.chain-short";
    const std::uint64_t size = e.raw.DIR_FileSize.value();
    facts_.sizes.push_back({e.sector, e.offset, size, chain, clusters, path(node)});
    add(code, is_short ? Severity::error : Severity::warning, e.sector, path(node),
        is_short ? fmt::format("the file has {} bytes, its chain only {} clusters of {}", size,
                               clusters, g_.cluster_bytes())
                 : fmt::format("the file has {} bytes, but a chain of {} clusters", size, clusters),
        true);
  }

  void check_claims() {
    std::sort(claims_.begin(), claims_.end(), [](const Claim& a, const Claim& b) {
      return a.first != b.first ? a.first < b.first : a.node < b.node;
    });
    const Claim* widest = nullptr;
    for (const Claim& c : claims_) {
      if (widest != nullptr && c.first - widest->first < widest->count) {
        facts_.chains_sound = false;
        const std::string other = path(widest->node);
        error("fat.chain-shared", c.node,
              fmt::format("cluster {} belongs to it and to '{}'", c.first,
                          other.empty() ? "the root folder" : other));
      }
      if (widest == nullptr || c.first + c.count > widest->first + widest->count) widest = &c;
    }
    if (!facts_.differing_copies.empty()) {
      // Right is the copy that the files' chains agree with; without that a person must decide.
      add("fat.copies-differ", facts_.chains_sound ? Severity::warning : Severity::error,
          differs_at_, "",
          facts_.chains_sound
              ? "the FATs differ; every chain is sound in the first one, so that is the right one"
              : "the FATs differ, and the chains of the first one are not sound",
          facts_.chains_sound);
    }
  }

  // Clusters in use that no folder and no file has.
  void check_unowned() {
    std::vector<ClusterRange> lost;
    auto claim = claims_.begin();
    std::uint64_t covered = 0;  // claims reach up to here
    map_.each_used([&](ClusterRange used) {
      std::uint32_t at = used.first;
      const std::uint32_t end = used.first + used.count;
      while (at < end) {
        while (claim != claims_.end() && claim->first <= at) {
          covered = std::max<std::uint64_t>(covered, std::uint64_t{claim->first} + claim->count);
          ++claim;
        }
        if (covered > at) {
          at = static_cast<std::uint32_t>(std::min<std::uint64_t>(covered, end));
          continue;
        }
        const std::uint32_t stop =
            claim == claims_.end() ? end : std::min(end, std::max(claim->first, at + 1));
        if (!lost.empty() && lost.back().first + lost.back().count == at) {
          lost.back().count += stop - at;
        } else {
          lost.push_back({at, stop - at});
        }
        at = stop;
      }
    });
    for (const ClusterRange& bad : map_.bad()) {
      std::erase_if(lost, [&bad](const ClusterRange& r) {
        return r.first >= bad.first && r.first + r.count <= bad.first + bad.count;
      });
    }
    gather_chains(lost);
    std::uint64_t clusters = 0;
    for (const ClusterRange& r : lost) clusters += r.count;
    if (clusters == 0) return;
    add("fat.unowned", Severity::warning, g_.cluster_start(lost.front().first), "",
        fmt::format("{} clusters in {} belong to no file ({} bytes), from cluster {} on", clusters,
                    facts_.unowned.size() == 1 ? "one chain"
                                               : fmt::format("{} chains", facts_.unowned.size()),
                    clusters * g_.cluster_bytes(), lost.front().first),
        true);
  }

  // Chains begin at clusters that no other lost cluster leads to.
  void gather_chains(const std::vector<ClusterRange>& lost) {
    std::unordered_set<std::uint32_t> led_to;
    std::vector<std::uint32_t> heads;
    for (const ClusterRange& r : lost) {
      for (const ClusterRange& part : map_.runs_in(r)) {
        heads.push_back(part.first);
        led_to.insert(map_.next_after(part));
      }
    }
    for (const std::uint32_t head : heads) {
      if (led_to.count(head) > 0) continue;
      const FatMap::Chain chain = map_.chain(head);
      facts_.unowned.push_back({head, chain.ranges, chain.fault.empty()});
    }
  }

  void check_info() {
    facts_.free_clusters = map_.free_clusters();
    facts_.first_free = map_.first_free();
    if (g_.kind != VolumeKind::fat32 || g_.fs_info == 0) return;
    const auto info = load<FsInfo>(device_.read(std::uint64_t{g_.fs_info} * ratio_, ratio_));
    if (info.FSI_LeadSig.value() != 0x41615252 || info.FSI_StrucSig.value() != 0x61417272 ||
        info.FSI_TrailSig.value() != 0xAA550000) {
      facts_.info_wrong = true;
      add("fat.fs-info", Severity::warning, g_.fs_info, "", "FSInfo doesn't bear its signatures",
          true);
      return;
    }
    const std::uint32_t count = info.FSI_Free_Count.value();
    if (count != 0xFFFFFFFF && count != map_.free_clusters()) {
      facts_.info_wrong = true;
      add("fat.fs-info", Severity::warning, g_.fs_info, "",
          fmt::format("FSInfo says {} free clusters, the FAT has {}", count, map_.free_clusters()),
          true);
    }
    const std::uint32_t next = info.FSI_Nxt_Free.value();
    if (next != 0xFFFFFFFF && !g_.valid_cluster(next)) {
      facts_.info_wrong = true;
      add("fat.fs-info", Severity::warning, g_.fs_info, "",
          fmt::format("FSInfo says that free clusters are found from {} on", next), true);
    }
  }

  const Device& device_;
  CodePage page_;
  Zone zone_;
  Bytes boot_;
  FatGeometry g_;
  std::uint32_t ratio_;
  FatMap map_;
  FindingLog log_;
  FatFacts facts_;
  std::vector<Node> nodes_;
  std::vector<Claim> claims_;
  std::uint64_t differs_at_ = 0;
};

}  // namespace

Findings check_fat(const Device& device, const ReadOptions& options, FatFacts* facts) {
  FatCheck check(device, options);
  check.run();
  if (facts != nullptr) *facts = std::move(check.facts());
  return check.take();
}

}  // namespace nuvrat
