// Folders, entry by entry, and the chains of what they name.

#include <algorithm>
#include <set>
#include <utility>

#include <fmt/core.h>

#include "base/record.h"
#include "fat/check_state.h"
#include "fat/names.h"

namespace nuvrat::fat {
namespace {

class FolderWalk {
 public:
  explicit FolderWalk(CheckState& state) : s_(state) {}

  void run() {
    const std::uint32_t root = s_.g.kind == VolumeKind::fat32 ? s_.g.root_cluster : 0;
    std::vector<Folder> open{{0, root, 0, 0, Agreement::root}};
    std::set<std::uint32_t> seen{root};
    while (!open.empty()) {
      const Folder folder = open.back();
      open.pop_back();
      check_folder(folder, open, seen);
    }
  }

 private:
  struct Folder {
    std::uint32_t node;
    std::uint32_t cluster;  // 0: the fixed root
    std::uint32_t parent_cluster;
    std::size_t path_units;
    Agreement::Entry entry;  // that names it
  };
  // One entry of a folder, with where it is.
  struct Entry {
    DirEntry raw;
    std::uint32_t index;
    std::uint64_t sector;
    std::uint32_t offset;
  };

  // The folder's bytes, its chain claimed and judged.
  std::vector<Entry> read_folder(const Folder& folder) {
    std::vector<SectorRange> places;  // in the volume's sectors
    index_ = 0;
    if (folder.cluster == 0) {
      places.push_back({s_.g.root_start(), s_.g.root_sectors});
    } else {
      const Map::Chain chain = s_.map.chain(folder.cluster, s_.chains);
      s_.agreement.follow(folder.entry, chain);
      judge_chain(folder.node, chain);
      for (const ClusterRange& r : claim(folder.node, chain.ranges)) {
        places.push_back(
            {s_.g.cluster_start(r.first), std::uint64_t{r.count} * s_.g.cluster_sectors});
      }
    }
    std::vector<Entry> out;
    for (const SectorRange& place : places) {
      if (!read_entries(folder, place, out)) break;
    }
    return out;
  }

  // False where the folder ends: at its mark, where another folder begins to own the clusters, or
  // after as many entries as a folder may have.
  bool read_entries(const Folder& folder, SectorRange place, std::vector<Entry>& out) {
    if (index_ >= max_entries) return too_long(folder);
    if (folder_sectors_.first_overlap(place)) {
      s_.error(Rule::fat_folder_twice, folder.node,
               "its clusters are another folder's, or come again");
      return false;
    }
    folder_sectors_.add(place);
    const std::size_t entries = s_.g.sector_bytes / sizeof(DirEntry);
    const std::uint64_t wanted = div_up<std::uint64_t>(max_entries - index_, entries);
    const std::uint64_t count = std::min<std::uint64_t>(place.count, wanted);
    const Bytes bytes = s_.device.read(place.first * s_.ratio, count * s_.ratio);
    for (std::size_t at = 0; at < bytes.size(); at += sizeof(DirEntry), ++index_) {
      const auto raw = load<DirEntry>(bytes, at);
      if (raw.DIR_Name[0] == 0) {
        look_behind_end(folder, ByteView(bytes).subspan(at));
        return false;
      }
      out.push_back({raw, index_, place.first + at / s_.g.sector_bytes,
                     static_cast<std::uint32_t>(at % s_.g.sector_bytes)});
    }
    return count == place.count || too_long(folder);
  }

  // Systems stop at the mark; others show what is behind it.
  void look_behind_end(const Folder& folder, ByteView rest) {
    std::size_t entries = 0;
    for (std::size_t at = 0; at < rest.size(); at += sizeof(DirEntry)) {
      const auto raw = load<DirEntry>(rest, at);
      const bool is_entry = raw.DIR_Name[0] > 0x20 && raw.DIR_Name[0] != entry_deleted &&
                            (raw.DIR_Attr & 0xC0) == 0 && raw.DIR_Attr != 0;
      entries += is_entry ? 1 : 0;
    }
    if (entries == 0) return;
    s_.add(Rule::fat_behind_end, Severity::note, {{}, folder.node},
           fmt::format("behind the folder's end mark {}: no system shows {}, and a conversion "
                       "leaves {} out",
                       entries == 1 ? "is one entry" : fmt::format("are {} entries", entries),
                       entries == 1 ? "it" : "them", entries == 1 ? "it" : "them"));
  }

  bool too_long(const Folder& folder) {
    s_.error(Rule::fat_folder_too_long, folder.node, "the folder has more than 65,536 entries");
    return false;
  }

  void judge_chain(std::uint32_t node, const Map::Chain& chain) {
    if (chain.sound()) return;
    s_.facts.chains_sound = false;
    s_.error(code_of(chain.fault), node, "its chain is broken: " + chain.text);
  }

  static Rule code_of(Map::Fault fault) {
    switch (fault) {
      case Map::Fault::circle:
        return Rule::fat_chain_loop;
      case Map::Fault::free:
        return Rule::fat_chain_free;
      case Map::Fault::bad:
        return Rule::fat_chain_bad;
      case Map::Fault::shared:
        return Rule::fat_chain_shared;
      default:
        return Rule::fat_chain_outside;
    }
  }

  // Keeps the ranges for the search for shared clusters; those of a loop only once.
  std::vector<ClusterRange> claim(std::uint32_t node, const std::vector<ClusterRange>& ranges) {
    std::vector<ClusterRange> out;
    std::uint64_t total = 0;
    for (const ClusterRange& r : ranges) {
      total += r.count;
      if (total > s_.g.clusters) break;
      s_.claims.push_back({r.first, r.count, node});
      out.push_back(r);
    }
    return out;
  }

  void check_folder(const Folder& folder, std::vector<Folder>& open,
                    std::set<std::uint32_t>& seen) {
    const std::vector<Entry> entries = read_folder(folder);
    s_.agreement.begun(
        folder.node == 0, folder.cluster,
        is_named(entries, 0, ".") ? std::optional(entries[0].raw.cluster()) : std::nullopt);
    std::set<std::u16string> names;
    std::size_t i = 0;
    if (folder.node != 0) i = check_dots(folder, entries);
    LongName long_name;
    bool pieces = false;  // of a long name, in front of this entry
    bool labelled = false;
    for (; i < entries.size(); ++i) {
      const Entry& e = entries[i];
      const std::uint8_t first = e.raw.DIR_Name[0];
      if (first == entry_deleted) {
        if (long_name.pending()) orphan(folder.node, e);
        long_name.clear();
        pieces = false;
        continue;
      }
      if ((e.raw.DIR_Attr & 0x3F) == attr_long) {
        Bytes raw(32);
        store(e.raw, raw);
        const auto piece = load<LongEntry>(raw);
        if (long_name.pending() && (first & 0x40) != 0) orphan(folder.node, e);
        if (piece.LDIR_FstClusLO.value() != 0 || piece.LDIR_Type != 0)
          s_.add(Rule::fat_long_name_form, Severity::warning, {e.sector, folder.node},
                 fmt::format("entry {} of a long name has a type or a cluster", e.index));
        if (ends_inside(piece))
          s_.add(Rule::fat_long_name_form, Severity::warning, {e.sector, folder.node},
                 fmt::format("entry {} of a long name goes on after its end: systems show the name "
                             "up to there",
                             e.index));
        long_name.add(piece);
        pieces = true;
        continue;
      }
      if ((e.raw.DIR_Attr & attr_label) != 0) {
        if (long_name.pending()) orphan(folder.node, e);
        long_name.clear();
        pieces = false;
        if (folder.node != 0 || labelled)
          s_.add(Rule::fat_label, Severity::warning, {e.sector, folder.node},
                 fmt::format("entry {} is a volume label too many, or not in the root folder",
                             e.index));
        labelled = true;
        continue;
      }
      std::u16string name = long_name.take(e.raw.DIR_Name);
      if (std::exchange(pieces, false) && name.empty()) {
        const std::u16string alias = short_name_text(e.raw, s_.page, true);
        s_.add(Rule::fat_long_name_broken, Severity::warning, {e.sector, folder.node},
               fmt::format("the long name of '{}' is damaged (a piece is missing, or isn't of it): "
                           "systems show the short one",
                           to_utf8(alias)));
      }
      check_entry(folder, e, name, {names, open, seen});
    }
    if (long_name.pending())
      s_.add(Rule::fat_long_name_orphan, Severity::note, {{}, folder.node},
             "entries of a long name at the folder's end belong to no file; they are ignored");
  }

  // A zero ends the name; after it there is nothing but padding.
  static bool ends_inside(const LongEntry& piece) {
    bool ended = false, more = false;
    const auto look = [&](const auto& units) {
      for (const auto& unit : units) {
        more |= ended && unit.value() != 0xFFFF;
        ended |= unit.value() == 0;
      }
    };
    look(piece.LDIR_Name1);
    look(piece.LDIR_Name2);
    look(piece.LDIR_Name3);
    return more;
  }

  void orphan(std::uint32_t folder, const Entry& e) {
    s_.add(Rule::fat_long_name_orphan, Severity::note, {e.sector, folder},
           fmt::format("entries of a long name before entry {} belong to no file; they are ignored",
                       e.index));
  }

  // "." and ".." come first and lead to the folder itself and to the one above, 0 for the root.
  static bool is_named(const std::vector<Entry>& entries, std::size_t i, std::string_view name) {
    if (i >= entries.size()) return false;
    const auto& raw = entries[i].raw.DIR_Name;
    for (std::size_t k = 0; k < raw.size(); ++k) {
      if (raw[k] != static_cast<std::uint8_t>(k < name.size() ? name[k] : ' ')) return false;
    }
    return true;
  }

  // How many entries of the two there are.
  std::size_t check_dots(const Folder& folder, const std::vector<Entry>& entries) {
    const bool one = is_named(entries, 0, ".");
    const bool two = is_named(entries, 1, "..");
    if (!one || !two) {
      s_.add(Rule::fat_dots, Severity::warning, {{}, folder.node},
             "the folder doesn't begin with '.' and '..'");
      return (one ? 1u : 0u);
    }
    if (entries[0].raw.cluster() != folder.cluster ||
        entries[1].raw.cluster() != folder.parent_cluster)
      s_.add(Rule::fat_dots, Severity::warning, {entries[0].sector, folder.node},
             fmt::format("'.' leads to cluster {} and '..' to {}, which should be {} and {}",
                         entries[0].raw.cluster(), entries[1].raw.cluster(), folder.cluster,
                         folder.parent_cluster));
    return 2;
  }

  // What entries add to while folders are walked.
  struct Walk {
    std::set<std::u16string>& names;  // in lower case, of this folder
    std::vector<Folder>& open;
    std::set<std::uint32_t>& seen;  // where folders begin
  };
  void check_entry(const Folder& folder, const Entry& e, const std::u16string& long_name,
                   const Walk& walk) {
    const std::u16string alias = short_name_text(e.raw, s_.page, false);
    const bool has_long = !long_name.empty();
    const bool directory = (e.raw.DIR_Attr & attr_directory) != 0;
    FileTree::Info info;
    info.directory = directory;
    const FileTree::Id node = s_.tree.add(
        folder.node, has_long ? long_name : short_name_text(e.raw, s_.page, true), {}, info);
    check_names(e, node, alias, walk.names);
    if ((e.raw.DIR_Attr & 0xC0) != 0)
      s_.add(Rule::fat_attributes, Severity::warning, {e.sector, node},
             fmt::format("the attributes are {:02X}", e.raw.DIR_Attr));
    check_times(e, node);
    const std::uint32_t cluster = e.raw.cluster();
    if (!directory) {
      check_file(folder, e, node, cluster);
      return;
    }
    if (e.raw.DIR_FileSize.value() != 0)
      s_.add(Rule::fat_folder_size, Severity::warning, {e.sector, node},
             fmt::format("the folder says that it has {} bytes; it must say 0",
                         e.raw.DIR_FileSize.value()));
    if (!s_.g.valid_cluster(cluster)) {
      s_.error(Rule::fat_folder_cluster, node,
               fmt::format("the folder would begin at cluster {}", cluster));
    } else if (!walk.seen.insert(cluster).second) {
      s_.error(Rule::fat_folder_twice, node,
               fmt::format("another folder begins at cluster {} as well", cluster));
    } else if (const std::size_t units = folder.path_units + 1 + s_.tree.name(node).size();
               units > FileTree::max_path_units) {
      s_.error(Rule::fat_path_too_long, folder.node,
               "folders inside it are too deep for any system");
    } else {
      const bool below_root = folder.node == 0;
      walk.open.push_back(
          {node, cluster, below_root ? 0 : folder.cluster, units, {folder.cluster, e.index}});
    }
  }

  void check_names(const Entry& e, std::uint32_t node, const std::u16string& alias,
                   std::set<std::u16string>& names) {
    const std::u16string_view name = s_.tree.name(node);
    const auto illegal = [](std::u16string_view text) {
      return std::any_of(text.begin(), text.end(), [](char16_t c) {
        return c < 0x20 || std::u16string_view(u"\"*/:<>?\\|").find(c) != std::u16string_view::npos;
      });
    };
    if (name.empty() || name.find_first_of(std::u16string_view(u"/\0", 2)) != name.npos) {
      s_.error(Rule::fat_name_illegal, node,
               "the name is empty or holds a character that no name may hold");
    } else if (std::any_of(e.raw.DIR_Name.begin(), e.raw.DIR_Name.end(),
                           [](std::uint8_t b) { return b >= 'a' && b <= 'z'; })) {
      s_.add(Rule::fat_name_odd, Severity::warning, {e.sector, node},
             "the short name holds small letters, by which some systems don't find it");
    } else if (illegal(name) || illegal(alias) || e.raw.DIR_Name[0] == ' ' || name.size() > 255) {
      s_.add(Rule::fat_name_odd, Severity::warning, {e.sector, node},
             "the name holds a character that FAT names don't");
    }
    const bool twice = !names.insert(lower(name)).second;
    const bool alias_twice = lower(alias) != lower(name) && !names.insert(lower(alias)).second;
    if (twice || alias_twice)
      s_.error(Rule::fat_name_twice, node,
               fmt::format("'{}' is in its folder twice", to_utf8(twice ? name : alias)));
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
      s_.add(Rule::fat_time, Severity::note, {e.sector, node}, "a date or time is none");
  }

  void check_file(const Folder& folder, const Entry& e, std::uint32_t node, std::uint32_t cluster) {
    const std::uint64_t size = e.raw.DIR_FileSize.value();
    ++s_.facts.totals.files;
    s_.facts.totals.bytes += size;
    const std::uint64_t needed = div_up<std::uint64_t>(size, s_.g.cluster_bytes());
    if (cluster == 0) {
      s_.agreement.follow({folder.cluster, e.index}, {}, needed);
      if (size > 0) {
        size_finding(e, node, {}, 0, Rule::fat_chain_short);
      }
      return;
    }
    const Map::Chain chain = s_.map.chain(cluster, s_.chains);
    s_.agreement.follow({folder.cluster, e.index}, chain, needed);
    judge_chain(node, chain);
    claim(node, chain.ranges);
    if (!chain.sound()) return;
    if (chain.clusters < needed) {
      size_finding(e, node, chain.ranges, chain.clusters, Rule::fat_chain_short);
    } else if (chain.clusters > needed) {
      size_finding(e, node, chain.ranges, chain.clusters, Rule::fat_chain_long);
    }
  }

  void size_finding(const Entry& e, std::uint32_t node, const std::vector<ClusterRange>& chain,
                    std::uint64_t clusters, Rule code) {
    const bool is_short = code == Rule::fat_chain_short;
    const std::uint64_t size = e.raw.DIR_FileSize.value();
    s_.facts.sizes.push_back({e.sector, e.offset, size, chain, clusters, s_.tree.path(node)});
    s_.add(code, is_short ? Severity::error : Severity::warning, {e.sector, node},
           is_short
               ? fmt::format("the file has {} bytes, its chain only {} clusters of {}", size,
                             clusters, s_.g.cluster_bytes())
               : fmt::format("the file has {} bytes, but a chain of {} clusters", size, clusters),
           true);
  }

  static constexpr std::uint32_t max_entries = 65536;
  CheckState& s_;
  SectorSet folder_sectors_;  // of the folders read so far
  std::uint32_t index_ = 0;   // of the entry being read
};

}  // namespace

void check_folders(CheckState& state) {
  FolderWalk(state).run();
}

}  // namespace nuvrat::fat
