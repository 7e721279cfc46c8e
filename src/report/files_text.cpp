// The machine's disks, and files of a volume, for a terminal.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/columns.h>
#include <nuvrat/report.h>
#include <nuvrat/text.h>

#include "report/lines.h"
#include "report/style.h"
#include "report/words.h"

namespace nuvrat {
using namespace report;
namespace {

std::string model_words(const MachineDisk& d) {
  std::string out = printable(d.model);
  if (!d.serial.empty()) out += (out.empty() ? "serial " : ", serial ") + printable(d.serial);
  if (!d.image.empty()) out += (out.empty() ? "" : ", ") + ("of " + printable(d.image));
  return out;
}

std::string state_words(const MachineDisk& d) {
  std::string out;
  const auto add = [&out](const std::string& text) { out += (out.empty() ? "" : "; ") + text; };
  if (d.table)
    add(table_words(*d.table) + (d.tag.empty() ? "" : ", tag " + d.tag));
  else if (d.bytes > 0)
    add("not read: " + printable(d.fault));
  if (d.bytes > 0 && d.sector_size != 512) add(fmt::format("sectors of {} bytes", d.sector_size));
  if (d.read_only) add("read-only");
  for (const std::string& use : d.uses) add(printable(use));
  return out;
}

std::string attribute_letters(std::uint32_t attributes) {
  std::string out;
  for (const auto& [bit, letter] : {std::pair{attr_read_only, 'r'}, std::pair{attr_hidden, 'h'},
                                    std::pair{attr_system, 's'}, std::pair{attr_archive, 'a'}})
    out += (attributes & bit) != 0 ? letter : '-';
  return out;
}

std::string volume_words(OpenedVolume& volume) {
  const std::string disk = printable(volume.reader().device().identity().path);
  return volume.number() == 0 ? disk : disk + " " + part_name(volume.number());
}

std::string opened_words(OpenedVolume& volume) {
  std::string out;
  if (volume.opened_with())
    out += fmt::format("; the first boot sector is lost: read with the second one, sector {}",
                       *volume.opened_with());
  if (const Finding* f = find_code(volume.reader().findings(), Rule::fat_copies_differ))
    out += "; " + f->text;
  return out;
}

}  // namespace

std::string machine_text(const std::vector<MachineDisk>& disks, const TextStyle& style) {
  std::string out = disks.empty()
                        ? std::string("this machine shows no disks\n")
                        : "this machine shows " + plural(disks.size(), "disk", "disks") + "\n\n";
  std::size_t path = 8;
  for (const MachineDisk& d : disks) path = std::max(path, display_width(d.path));
  const std::string indent(path + 4, ' ');
  for (const MachineDisk& d : disks) {
    out += wrap(fmt::format("{:<{}}  {:>9}  {:<7}  {}", d.path, path,
                            d.bytes == 0 ? std::string("no medium") : format_bytes(d.bytes), d.bus,
                            model_words(d)),
                style, "  ", indent);
    if (const std::string state = state_words(d); !state.empty())
      out += wrap(state, style, indent, indent);
  }
  if (!disks.empty()) out += "\n  Next: nuvrat survey DISK, for one of them\n";
  return out;
}

std::string files_text(OpenedVolume& volume, const std::string& path,
                       const std::vector<FileEntry>& files, const TextStyle& style) {
  const std::string shown = path.substr(std::min(path.find_first_not_of('/'), path.size()));
  std::uint64_t count = 0, folders = 0, bytes = 0;
  for (const FileEntry& e : files) {
    folders += e.directory ? 1 : 0;
    count += e.directory || e.stream ? 0 : 1;
    bytes += e.bytes;
  }
  const std::size_t unread = volume.reader().left_out().size();
  std::string out = verdict(
      volume_words(volume) + (shown.empty() ? "" : "/" + shown), Tone::plain,
      plural(count, "file", "files") + " (" + format_bytes(bytes) + "), " +
          plural(folders, "folder", "folders"),
      (unread == 0 ? ""
                   : fmt::format("; {} of this volume could not be read: 'nuvrat check' names them",
                                 plural(unread, "place", "places"))) +
          opened_words(volume),
      style);
  if (files.empty()) return out;
  const bool wide = style.width >= 60;
  out +=
      wide ? fmt::format("\n  {:>15}  {:<19}  {}  {}\n", "bytes", "modified (UTC)", "attr", "name")
           : "\n";
  for (const FileEntry& e : files) {
    std::string name = printable(e.path.substr(e.path.rfind('/') + 1));
    if (e.directory) name += "/";
    std::string time = format_time(e.modified).substr(0, 19);
    std::replace(time.begin(), time.end(), 'T', ' ');
    const std::string size = e.directory ? std::string() : format_count(e.bytes);
    out += wide ? fmt::format("  {:>15}  {:<19}  {}  {}\n", size, time,
                              attribute_letters(e.attributes), name)
                : fmt::format("  {:>13}  {}\n", size, name);
  }
  return out;
}

namespace {

// Files that were there before: one thing to decide, however many they are.
std::string existing_words(const std::vector<std::string>& paths, const TextStyle& style) {
  if (paths.empty()) return "";
  constexpr std::size_t named = 3;
  std::string names;
  for (std::size_t i = 0; i < std::min(named, paths.size()); ++i)
    names += (i == 0 ? "" : ", ") + paths[i];
  if (paths.size() > named)
    names += fmt::format(" and {} more", format_count(paths.size() - named));
  const bool one = paths.size() == 1;
  const std::string kept =
      one ? " is there already, and stays: " : " are there already, and stay: ";
  return wrap(toned(Tone::bad, plural(paths.size(), "file", "files")) + kept + names, style, "  ",
              "    ") +
         wrap(std::string("what to do: Another folder, or --overwrite, which replaces ") +
                  (one ? "it" : "them"),
              style, "  ", "    ");
}

}  // namespace

std::string fetch_text(OpenedVolume& volume, const FetchResult& r, const std::string& folder,
                       bool checked, const TextStyle& style) {
  std::string key = "copied " + plural(r.files, "file", "files");
  if (r.partial > 0) key += fmt::format(", {} in part", format_count(r.partial));
  key += " (" + format_bytes(r.bytes) + ")";
  const std::string rest =
      (r.folders == 0 ? "" : " and " + plural(r.folders, "folder", "folders")) + " to " + folder +
      (!checked ? ""
       : r.checked == r.files && r.files > 0 && r.partial == 0
           ? ", each as recorded"
           : fmt::format(", {} of them as recorded", format_count(r.checked)));
  std::string out = verdict(volume_words(volume), r.problems.empty() ? Tone::good : Tone::plain,
                            key, rest + opened_words(volume), style);
  constexpr std::size_t max_shown = 40;
  std::vector<std::string> there;
  std::size_t others = 0;
  for (const FetchProblem& p : r.problems) {
    if (p.exists)
      there.push_back(printable(p.path));
    else if (++others <= max_shown)
      out +=
          wrap(toned(Tone::bad, printable(p.path)) + ": " + printable(p.text), style, "  ", "    ");
  }
  if (others > max_shown) out += fmt::format("  … and {} more\n", format_count(others - max_shown));
  return out + existing_words(there, style);
}

}  // namespace nuvrat
