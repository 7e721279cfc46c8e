#include <algorithm>
#include <filesystem>
#include <utility>

#include <fcntl.h>
#include <fmt/core.h>
#include <sys/stat.h>
#include <unistd.h>

#include <nuvrat/error.h>
#include <nuvrat/files.h>
#include <nuvrat/output.h>
#include <nuvrat/survey.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "base/descriptor.h"
#include "base/whole_file.h"
#include "disk/cut_window.h"
#include "disk/lost_start.h"
#include "table/no_partition.h"
#include "tree/places.h"
#include "tree/readable.h"
#include "volume/paths.h"

namespace nuvrat {
using namespace disk;
namespace {

namespace fs = std::filesystem;

FileTree::Id node_at(const FileTree& tree, std::string_view path) {
  std::string clean(path);
  std::replace(clean.begin(), clean.end(), '\\', '/');
  FileTree::Id at = FileTree::root;
  for (const std::string& part : base::path_parts(clean)) {
    if (part.empty() || part == ".") continue;
    const FileTree::Id next =
        tree.is_directory(at) ? volume::child_alike(tree, at, part) : FileTree::none;
    if (next == FileTree::none)
      throw Error(
          ErrorCode::words,
          tree.is_directory(at)
              ? fmt::format("there is no '{}' in {}", printable(part),
                            at == FileTree::root ? std::string("the volume's root")
                                                 : "the folder '" + printable(tree.path(at)) + "'")
              : fmt::format("'{}' is a file, not a folder", printable(tree.path(at))),
          {.path = std::string(path)}, "See 'nuvrat files' for the names");
    at = next;
  }
  return at;
}

FileEntry entry_of(const FileTree& tree, FileTree::Id id) {
  const FileTree::Info info = tree.info(id);
  return {tree.path(id),   info.directory, tree.is_stream(id), info.size,
          info.attributes, info.created,   info.modified,      info.accessed};
}

// What a folder of this machine can hold under that name.
bool can_be_a_name(const std::string& name) {
  return !name.empty() && name != "." && name != ".." && name.size() <= 255 &&
         name.find('/') == name.npos && name.find('\0') == name.npos;
}

timespec time_of(Ticks ticks) {
  timespec out{};
  if (ticks == 0) {
    out.tv_nsec = UTIME_OMIT;
    return out;
  }
  Ticks seconds = ticks / ticks_per_second - seconds_to_1970;
  Ticks rest = ticks % ticks_per_second;
  if (rest < 0) {
    rest += ticks_per_second;
    --seconds;
  }
  out.tv_sec = seconds;
  out.tv_nsec = static_cast<long>(rest * 100);
  return out;
}

void set_times(const fs::path& path, const FileTree::Info& info) {
  const timespec times[2] = {time_of(info.accessed), time_of(info.modified)};
  (void)::utimensat(AT_FDCWD, path.c_str(), times, AT_SYMLINK_NOFOLLOW);
}

class Fetcher {
 public:
  Fetcher(VolumeReader& reader, const FetchOptions& options, Progress& progress)
      : reader_(reader), tree_(reader.tree()), options_(options), progress_(progress) {}

  void fetch(FileTree::Id top, const fs::path& folder) {
    // A folder's times are set once everything is in it.
    std::vector<std::pair<FileTree::Id, fs::path>> folders;
    std::vector<std::pair<FileTree::Id, fs::path>> open{{top, folder}};
    while (!open.empty()) {
      const auto [id, above] = open.back();
      open.pop_back();
      fs::path path = above;
      if (id != FileTree::root) {
        const std::string name = to_utf8(tree_.name(id));
        if (!can_be_a_name(name)) {
          problem(id, "its name can't be a file's name here");
          continue;
        }
        path /= name;
      }
      if (!tree_.is_directory(id)) {
        file(id, path);
        continue;
      }
      if (id != FileTree::root && !make_folder(id, path)) continue;
      folders.emplace_back(id, path);
      const auto children = tree_.sorted_children(id);
      for (auto it = children.rbegin(); it != children.rend(); ++it) open.emplace_back(*it, path);
    }
    for (auto it = folders.rbegin(); it != folders.rend(); ++it) {
      if (it->first != FileTree::root) set_times(it->second, tree_.info(it->first));
    }
  }

  FetchResult result;

 private:
  void problem(FileTree::Id id, std::string text, bool exists = false) {
    result.problems.push_back({tree_.path(id), std::move(text), exists});
  }

  bool make_folder(FileTree::Id id, const fs::path& path) {
    std::error_code error;
    const fs::file_status there = fs::symlink_status(path, error);
    if (fs::exists(there) && !fs::is_directory(there)) {
      problem(id, "something else has its name there");
      return false;
    }
    if (fs::exists(there)) return true;
    if (!fs::create_directory(path, error)) {
      problem(id, "the folder can't be made: " + error.message());
      return false;
    }
    ++result.folders;
    return true;
  }

  void file(FileTree::Id id, const fs::path& path) {
    std::error_code error;
    const fs::file_status there = fs::symlink_status(path, error);
    if (fs::exists(there) && !options_.overwrite)
      return problem(id, "there is a file of its name already", true);
    if (fs::exists(there) && !fs::is_regular_file(there))
      return problem(id, "something else has its name there");
    try {
      // Never over a disk's image.
      if (fs::exists(there)) check_output(path, {true, {reader_.device().identity().path}});
      copy(id, path);
    } catch (const Error& e) {
      const bool of_the_file = e.code() == ErrorCode::device_read ||
                               e.code() == ErrorCode::damaged || e.code() == ErrorCode::refused;
      if (!of_the_file) throw;
      problem(id, e.message());
    }
  }

  // Whether it's the name that the folder doesn't take: then the other files are still to be had.
  static bool takes_files(const fs::path& folder) {
    try {
      const base::WholeFile probe(folder / "n", base::mode_for_others, base::Sync::by_caller);
      return true;
    } catch (const Error&) {
      return false;
    }
  }

  std::unique_ptr<base::WholeFile> new_file(const fs::path& path) {
    try {
      return std::make_unique<base::WholeFile>(path, base::mode_for_others, base::Sync::by_caller);
    } catch (const Error& e) {
      if (!takes_files(path.parent_path())) throw;
      throw Error(ErrorCode::refused, e.message());
    }
  }

  void copy(FileTree::Id id, const fs::path& path) {
    const auto out = new_file(path);
    Sha256 sha;
    std::uint64_t bytes = 0;
    std::uint64_t unwritten = 0;  // zeros that nothing was written for yet: holes stay holes
    const bool hashed = options_.recorded != nullptr && !recorded_by_length(id);
    const tree::Readable read = tree::read_readable(reader_, id, [&](ByteView piece) {
      if (progress_.cancelled())
        throw Error(ErrorCode::cancelled, "stopped while files were being copied");
      if (hashed) sha.add(piece);
      if (all_zero(piece)) {
        unwritten += piece.size();
      } else {
        out->zeros(std::exchange(unwritten, 0));
        out->out().write(reinterpret_cast<const char*>(piece.data()),
                         static_cast<std::streamsize>(piece.size()));
      }
      bytes += piece.size();
      progress_.advance(piece.size());
    });
    out->zeros(unwritten);
    if (read.missing.empty()) {
      out->finish();
      set_times(path, tree_.info(id));
      ++result.files;
      result.bytes += bytes;
      return hold_against_record(id, hashed ? sha.finish() : recorded_form(id));
    }
    const std::uint64_t size = tree_.bytes(id);
    std::uint64_t lost = 0;
    for (const ByteRange& r : read.missing)  // the file needn't fill its last sector
      lost += std::min(r.length, size - std::min(size, r.offset));
    const std::string why = read.reason.empty() ? "" : ": " + read.reason;
    if (lost >= size) throw Error(ErrorCode::damaged, "nothing of it can be read" + why);
    const std::string words = words_of(read.missing, lost) + why;
    // The file that is there may be all of it.
    if (fs::exists(fs::symlink_status(path)))
      throw Error(ErrorCode::damaged, words + "; the file that is there was left");
    out->finish();
    set_times(path, tree_.info(id));
    ++result.partial;
    result.bytes += bytes;
    const bool ends_early = bytes < size;
    const bool zeros = !ends_early || read.missing.size() > 1;
    problem(id, words + (zeros ? "; in the copy they are zeros" : "") +
                    (ends_early ? "; the copy ends early" : ""));
  }

  // "4,096 bytes from 8,192 on can't be read".
  static std::string words_of(const std::vector<ByteRange>& missing, std::uint64_t bytes) {
    constexpr std::size_t most = 4;
    std::string out = plural(bytes, "byte", "bytes") + " from ";
    for (std::size_t i = 0; i < std::min(missing.size(), most); ++i)
      out += (i == 0 ? "" : ", ") + format_count(missing[i].offset);
    return out + (missing.size() > most ? ", …" : "") + " on can't be read";
  }

  // A manifest has another hash of a file with long holes than of its bytes.
  [[nodiscard]] bool recorded_by_length(FileTree::Id id) const {
    return tree_.stored(id) == Stored::extents &&
           tree::has_long_holes(tree_, id, reader_.device().sector_size());
  }
  [[nodiscard]] Digest recorded_form(FileTree::Id id) const {
    if (options_.recorded == nullptr) return {};
    QuietProgress quiet;
    return tree::hash_files(reader_.device(), tree_, {id}, quiet).front().digest;
  }

  void hold_against_record(FileTree::Id id, const Digest& digest) {
    if (options_.recorded == nullptr) return;
    const ManifestVolume& v = *options_.recorded;
    const FileTree::Id then = v.tree.find(tree_.path(id));
    if (then == FileTree::none || v.tree.is_directory(then))
      return problem(id, "copied, but it isn't in the manifest");
    if (v.is_placed(then)) return problem(id, "copied, but the manifest has no hash of it");
    if (v.digests[then] == digest) {
      ++result.checked;
    } else {
      problem(id, fmt::format("copied, but not as recorded: SHA-256 {} then, {} now",
                              v.digests[then].hex().substr(0, 16), digest.hex().substr(0, 16)));
    }
  }

  VolumeReader& reader_;
  const FileTree& tree_;
  const FetchOptions& options_;
  Progress& progress_;
};

// Named streams are beside their file.
std::vector<FileTree::Id> streams_of(const FileTree& tree, FileTree::Id file) {
  std::vector<FileTree::Id> out;
  if (tree.is_directory(file) || tree.is_stream(file)) return out;
  const std::u16string prefix = std::u16string(tree.name(file)) + u':';
  for (const FileTree::Id id : tree.sorted_children(tree.parent(file))) {
    if (tree.is_stream(id) && tree.name(id).starts_with(prefix)) out.push_back(id);
  }
  return out;
}

std::uint64_t bytes_below(const FileTree& tree, FileTree::Id top) {
  std::uint64_t out = 0;
  std::vector<FileTree::Id> open{top};
  while (!open.empty()) {
    const FileTree::Id id = open.back();
    open.pop_back();
    out += tree.is_directory(id) ? 0 : tree.bytes(id);
    if (!tree.is_directory(id)) continue;
    const auto children = tree.children(id);
    open.insert(open.end(), children.begin(), children.end());
  }
  return out;
}

}  // namespace

Findings OpenedVolume::findings() const {
  Findings out = reader_->findings();
  for (Finding& f : out) {
    f.place.subject = part_name(number_);
    if (f.place.sector) *f.place.sector += start_;
  }
  return out;
}

OpenedVolume::OpenedVolume(const Device& device, unsigned number, const ReadOptions& options)
    : number_(number) {
  SectorRange place{0, device.sectors()};
  if (number != 0) {
    const TableReading table = read_table(device);
    const Partition* p = table.layout.find(number);
    if (p == nullptr || p->role == Role::extended) throw table::no_partition(table.layout, number);
    place = p->range();
  }
  start_ = place.first;
  window_ = window_onto(device, place);
  std::optional<Error> damage;
  try {
    reader_ = open_volume(*window_, options);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
    damage = e;
  }
  if (reader_ != nullptr) return;
  if (auto copy = likely_boot_copy(*window_, options)) {
    opened_with_ = start_ + copy->at;
    with_copy_ = volume::with_first(*window_, std::move(copy->sector));
    reader_ = open_volume(*with_copy_, options);
    if (reader_ != nullptr) return;
  }
  if (damage) throw Error(*damage);
  const std::string what = recognise_volume(*window_).description;
  throw Error(ErrorCode::words,
              number == 0 ? fmt::format("the disk is not a volume that Nuvrat reads: {}", what)
                          : fmt::format("p{} holds no files that Nuvrat reads: {}", number, what),
              {}, number == 0 ? "Name a partition: p1, p2 …" : "Nuvrat reads FAT and NTFS");
}

std::vector<FileEntry> list_files(VolumeReader& reader, std::string_view path) {
  const FileTree& tree = reader.tree();
  const FileTree::Id top = node_at(tree, path);
  std::vector<FileEntry> out;
  if (!tree.is_directory(top)) {
    out.push_back(entry_of(tree, top));
    for (const FileTree::Id id : streams_of(tree, top)) out.push_back(entry_of(tree, id));
    return out;
  }
  for (const FileTree::Id id : tree.sorted_children(top)) out.push_back(entry_of(tree, id));
  return out;
}

FetchResult fetch_files(VolumeReader& reader, const std::vector<std::string>& paths,
                        const std::string& to, const FetchOptions& options, Progress& progress) {
  const fs::path folder(to);
  const FileTree& tree = reader.tree();
  std::vector<FileTree::Id> tops;
  std::uint64_t bytes = 0;
  for (const std::string& path : paths) {
    const FileTree::Id id = node_at(tree, path);
    if (std::find(tops.begin(), tops.end(), id) != tops.end()) continue;
    tops.push_back(id);
    for (const FileTree::Id stream : streams_of(tree, id)) tops.push_back(stream);
    bytes += bytes_below(tree, id);
  }
  std::error_code error;
  fs::create_directories(folder, error);
  if (!fs::is_directory(folder))
    throw Error(ErrorCode::refused, "the folder can't be made, or is none",
                {.path = folder.string()}, "Name another one");
  progress.stage("copying", bytes);
  Fetcher fetcher(reader, options, progress);
  for (const FileTree::Id id : tops) fetcher.fetch(id, folder);
  for (const LeftOut& l : reader.left_out()) {
    const bool asked = std::any_of(tops.begin(), tops.end(), [&](FileTree::Id top) {
      return top == FileTree::root || (l.path + "/").starts_with(tree.path(top) + "/");
    });
    if (asked) fetcher.result.problems.push_back({l.path, "not to be read: " + l.reason});
  }
  const base::Descriptor there = base::open_file(folder, O_RDONLY | O_DIRECTORY);
  if (!there.valid() || ::syncfs(there.get()) != 0)
    throw Error(ErrorCode::file, "what was copied may not be on the medium yet",
                {.path = folder.string()}, "Copy it again");
  return std::move(fetcher.result);
}

}  // namespace nuvrat
