// What FAT can't hold: what blocks the conversion, what the owner agrees to, and what the
// comparison is then to find.

#include "plan/fat_losses.h"

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "base/volume_traits.h"
#include "fat/names.h"
#include "fat/times.h"
#include "plan/volume.h"

namespace nuvrat::plan {
namespace {

constexpr std::uint64_t max_file_bytes = 0xFFFFFFFF;
constexpr std::size_t max_told = 5;
constexpr std::size_t max_listed = 50;

// "2 named streams and 12 extended attributes", and how many files have them.
struct StreamCount {
  std::uint64_t named = 0, attributes = 0, reparse = 0, bytes = 0;
  std::set<std::string> owners{};  // by path: to look one up takes its whole folder

  void add(const FileTree& tree, FileTree::Id id) {
    const std::u16string_view name = tree.name(id);
    const std::size_t colon = name.rfind(u':');
    const std::u16string_view stream = colon == name.npos ? name : name.substr(colon);
    ++(stream == u":$EA" ? attributes : stream == u":$REPARSE_POINT" ? reparse : named);
    bytes += tree.bytes(id);
    std::string owner = tree.path(id);
    owner.resize(owner.rfind(':'));
    owners.insert(std::move(owner));
  }
  [[nodiscard]] std::string words() const {
    std::string out;
    const auto say = [&out](std::uint64_t count, const char* one, const char* many) {
      if (count > 0) out += (out.empty() ? "" : ", ") + plural(count, one, many);
    };
    say(named, "named stream", "named streams");
    say(attributes, "extended attribute", "extended attributes");
    say(reparse, "reparse point", "reparse points");
    return out;
  }
};

}  // namespace

void FatLosses::obstacle(ObstacleCode code, std::string text, std::string remedy) {
  out_.obstacle(code, std::move(text), std::move(remedy), 0, number_);
}

void FatLosses::consent(ConsentCode code, std::string text, std::string detail) {
  out_.consent(code, id_, std::move(text), std::move(detail));
}

// A reparse point that stands for a name leads elsewhere. Any other is read by a layer of the
// system (packed files, files whose contents lie in a cloud), without which there are no
// contents.
void FatLosses::check_reparse_point(VolumeReader& reader, FileTree::Id id) {
  constexpr std::uint32_t stands_for_a_name = 0x20000000;
  Bytes data;
  reader.read_contents(id, [&data](ByteView bytes) {
    if (data.size() < 4) data.insert(data.end(), bytes.begin(), bytes.end());
  });
  std::uint32_t tag = 0;
  for (std::size_t i = std::min<std::size_t>(4, data.size()); i > 0; --i)
    tag = tag << 8 | data[i - 1];
  if ((tag & stands_for_a_name) != 0 || told_reparse_++ >= max_told) return;
  std::string path = reader.tree().path(id);
  path.resize(path.rfind(':'));
  obstacle(ObstacleCode::reparse,
           fmt::format("{}: '{}' is kept by a layer above the file system (reparse tag {:08X}): on "
                       "FAT its contents could not be read",
                       name_, printable(path), tag),
           "Have its system unpack or fetch it, or take it off the volume");
}

// What no FAT can hold, whatever is agreed to.
void FatLosses::check_files(VolumeReader& reader) {
  const FileTree& tree = reader.tree();
  std::uint64_t large = 0, large_bytes = 0, told = 0;
  std::string names;
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (tree.is_stream(id) && tree.name(id).ends_with(u":$REPARSE_POINT"))
      check_reparse_point(reader, id);
    if (tree.is_directory(id) || tree.is_stream(id)) continue;
    if ((tree.info(id).attributes & 0x4000) != 0 && told++ < max_told) {
      obstacle(ObstacleCode::encrypted,
               fmt::format("{}: '{}' is encrypted; on FAT it could not be read", name_,
                           printable(tree.path(id))),
               "Decrypt it under the system that owns it, or take it off the volume");
    }
    if (tree.bytes(id) <= max_file_bytes) continue;
    if (large++ < max_listed) names += (names.empty() ? "" : ", ") + printable(tree.path(id));
    large_bytes += tree.bytes(id);
  }
  if (large == 0) return;
  obstacle(ObstacleCode::file_size,
           fmt::format("{}: {} of 4 GiB or more, {} in all, and FAT keeps only smaller files: "
                       "{}{}",
                       name_, plural(large, "file is", "files are"), format_bytes(large_bytes),
                       names, large > max_listed ? ", …" : ""),
           "Take them off the volume, or split them");
}

void FatLosses::check_names(const FileTree& tree, bool from_fat) {
  std::uint64_t told = 0;
  // A dot or a blank at the end is odd on FAT, and another FAT can have it, too.
  const auto allows = [from_fat](std::u16string_view name) {
    while (from_fat && !name.empty() && (name.back() == u'.' || name.back() == u' '))
      name.remove_suffix(1);
    return fat::allows_name(name);
  };
  const auto say = [&](FileTree::Id id, const std::string& what) {
    if (told++ >= max_told) return;
    obstacle(ObstacleCode::name, fmt::format("{}: '{}' {}", name_, printable(tree.path(id)), what),
             "Rename it under the system that owns the volume, or add names=safe");
  };
  for (FileTree::Id folder = 0; folder < tree.size(); ++folder) {
    if (!tree.is_directory(folder)) continue;
    std::set<std::u16string> seen;
    for (const FileTree::Id id : tree.children(folder)) {
      if (tree.is_stream(id)) continue;
      if (!allows(tree.name(id))) {
        say(id, "has a character or an ending that FAT can't spell");
      } else if (!seen.insert(fold_case(tree.name(id))).second) {
        say(id, "and another name in its folder are the same to FAT");
      }
    }
  }
  if (told > max_told)
    obstacle(ObstacleCode::name, fmt::format("{}: {} more such names", name_, told - max_told),
             "Rename them under the system that owns the volume, or add names=safe");
}

std::uint64_t lost_bytes(const fat::Geometry& g) {
  constexpr std::uint64_t usual_bytes = 64u << 10;
  const std::uint64_t reserved = std::uint64_t{g.reserved_sectors} * g.sector_bytes;
  return reserved - std::min(reserved, usual_bytes);
}

void FatLosses::agree(const SurveyedPartition& s, const fat::Plan& plan, const steps::ToFat& work,
                      bool way_made) {
  const fat::Geometry& g = plan.geometry();
  const FileTree& tree = plan.tree();
  const bool from_ntfs = work.change.from == VolumeKind::ntfs;
  out_.append(tell_broken_names(s));
  const std::uint64_t copied = plan.copied_clusters();
  consent(ConsentCode::geometry,
          fmt::format("becomes {} in clusters of {}; {}", title_of(g.kind),
                      format_bytes(g.cluster_bytes()),
                      copied != 0 ? plural(copied, "cluster is copied", "clusters are copied")
                      : way_made  ? std::string("nothing more moves")
                                  : std::string("no file moves")),
          fmt::format("{} clusters; FATs of {} sectors from sector {}, data from sector {}",
                      format_count(g.clusters), g.fat_sectors, g.reserved_sectors, g.data_start()));
  if (const std::uint64_t lost = lost_bytes(g); lost > 0)
    consent(ConsentCode::room,
            fmt::format("{} in front of its FATs stay unused", format_bytes(lost)),
            work.sectors != 0 || work.change.front != 0
                ? ""
                : fmt::format("{} will be free, {} are now",
                              format_bytes(std::uint64_t{work.free_after} * g.cluster_bytes()),
                              format_bytes(s.volume->free_bytes)));
  if (s.partition.active && work.start_code.empty())
    consent(ConsentCode::boot_code, "nothing boots from it until a system puts its loader there",
            "It is active. The loader in its boot sector is not carried over");
  if (from_ntfs) {
    consent(ConsentCode::limits, "no file on it can reach 4 GiB",
            "Damage that a power failure does during writing is not mended by itself");
    consent(ConsentCode::permissions,
            "everyone may read and write its files; permissions go to the case",
            "Ids by which shortcuts find files are kept there, too (left-behind)");
  }
  if (work.rename) add_name_consent(s, plan);
  if (const auto& ids = plan.unkept_short_names(); !ids.empty())
    consent(
        ConsentCode::short_names,
        plural(ids.size(), "short name (8.3) is lost", "short names (8.3) are lost"),
        fmt::format("FAT can't keep them, such as '{}' of '{}'. Programs that know files by these "
                    "won't find them",
                    printable(to_utf8(tree.short_name(ids.front()))),
                    printable(tree.path(ids.front()))));
  add_label_consent(s, work);
  add_stream_consents(s, tree);
  add_time_consents(s, tree);
}

void FatLosses::add_label_consent(const SurveyedPartition& s, const steps::ToFat& work) {
  const std::string now = s.volume->label;
  if (work.label == now) return;
  consent(ConsentCode::label,
          fmt::format("its label '{}' becomes '{}'", printable(now), work.label),
          "FAT can't spell the old one");
  ExpectedChange change;
  change.kind = ExpectedChange::Kind::relabelled;
  change.partition = s.partition.id;
  change.text = work.label;
  out_.changes.push_back(change);
}

void FatLosses::add_name_consent(const SurveyedPartition& s, const fat::Plan& plan) {
  const auto& names = plan.target().names;
  if (names.empty()) return;
  for (const auto& [id, name] : names) {
    ExpectedChange change;
    change.kind = ExpectedChange::Kind::renamed;
    change.partition = s.partition.id;
    change.path = plan.tree().path(id);
    change.text = to_utf8(name);
    out_.changes.push_back(change);
  }
  const auto& [id, name] = *names.begin();
  consent(ConsentCode::names,
          plural(names.size(), "name that FAT can't spell becomes another",
                 "names that FAT can't spell become others"),
          fmt::format("Such as '{}', which becomes '{}'", printable(plan.tree().path(id)),
                      printable(to_utf8(name))));
}

void FatLosses::add_stream_consents(const SurveyedPartition& s, const FileTree& tree) {
  StreamCount streams;
  std::uint64_t links = 0, link_bytes = 0;
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (tree.is_stream(id)) {
      streams.add(tree, id);
      ExpectedChange change;
      change.kind = ExpectedChange::Kind::gone;
      change.partition = s.partition.id;
      change.path = tree.path(id);
      out_.changes.push_back(change);
    } else if (tree.link(id) != FileTree::none) {
      ++links;
      link_bytes += tree.bytes(id);
    }
  }
  if (!streams.words().empty())
    consent(
        ConsentCode::streams,
        fmt::format("{} in {} go to the case", streams.words(),
                    plural(streams.owners.size(), "file", "files")),
        fmt::format("{} in all, which FAT can't hold (left-behind)", format_bytes(streams.bytes)));
  if (links > 0)
    consent(ConsentCode::links, fmt::format("{} ({})",
                                            plural(links, "second name of a file becomes a copy",
                                                   "second names of files become copies"),
                                            format_bytes(link_bytes)));
}

void FatLosses::add_time_consents(const SurveyedPartition& s, const FileTree& tree) {
  const Zone& zone = options_.zone;
  std::uint64_t outside = 0;
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (tree.is_stream(id)) continue;
    const FileTree::Info info = tree.info(id);
    // What FAT then says, where that is further away than FAT is exact.
    const auto told = [&](Ticks t, Ticks exact, bool to_day, bool to_second) -> Ticks {
      if (t == 0) return 0;
      fat::Stamp stamp = fat::stamp_of(zone, t);
      if (to_second) stamp.tenths = 0;
      if (to_day) stamp.time = 0;
      const Ticks back = fat::ticks_of(zone, stamp);
      return back > t - exact && back < t + exact ? 0 : back;
    };
    ExpectedChange change;
    change.kind = ExpectedChange::Kind::retimed;
    change.modified = told(info.modified, 2 * ticks_per_second, false, true);
    change.created = told(info.created, ticks_per_second / 100, false, false);
    change.accessed = told(info.accessed, 86400 * ticks_per_second, true, true);
    if (change.modified == 0 && change.created == 0 && change.accessed == 0) continue;
    ++outside;
    change.partition = s.partition.id;
    change.path = tree.path(id);
    out_.changes.push_back(change);
  }
  if (outside > 0)
    consent(ConsentCode::times,
            fmt::format("times of {} become the nearest that FAT has",
                        plural(outside, "file or folder", "files and folders")),
            "They lie outside 1980 to 2107, or in the hour that comes twice when clocks are put "
            "back");
  if (base::traits_of(s.signature.kind).fine_times)
    consent(ConsentCode::time_steps, "times become coarser, and local time",
            fmt::format("FAT keeps times of change to 2 seconds, of making to a hundredth and of "
                        "access to a day, in local time ({})",
                        zone.name()));
}

PlanPart tell_broken_names(const SurveyedPartition& volume) {
  PlanPart out;
  constexpr std::uint64_t most = 5;
  std::uint64_t count = 0;
  std::string names;
  for (const Finding& f : volume.findings) {
    if (f.code != Rule::fat_long_name_broken) continue;
    if (count++ < most) names += (names.empty() ? "" : "; ") + f.text;
  }
  if (count == 0) return out;
  out.consent(
      ConsentCode::long_names, volume.partition.id,
      plural(count, "damaged long name is lost for good", "damaged long names are lost for good"),
      names + (count > most ? "; …" : ""));
  return out;
}

}  // namespace nuvrat::plan
