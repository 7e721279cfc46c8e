#include "job/left_behind.h"

#include <algorithm>
#include <array>
#include <filesystem>
#include <fstream>
#include <map>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>
#include <nuvrat/volume.h>

#include "base/volume_traits.h"
#include "base/whole_file.h"
#include "json/left_behind.h"
#include "tree/comparer.h"

namespace nuvrat::job {
namespace {

// Hashes of the named streams of the volume that begins there, by path; none by places.
std::map<std::string, Digest> recorded_streams(const tree::Recording& recorded,
                                               std::uint64_t start) {
  std::map<std::string, Digest> out;
  const auto nodes = recorded.nodes_at(start);
  if (nodes == nullptr) return out;
  std::map<FileTree::Id, std::u16string> folders;
  tree::RecordedNode node;
  while (nodes->next(node)) {
    const auto above = folders.find(node.parent);
    const std::u16string path = (above == folders.end() ? u"" : above->second) + node.name;
    if (node.info.directory) folders[node.id] = path + u"/";
    if (node.name.find(u':') != node.name.npos && !node.placed && node.unreadable.empty())
      out[to_utf8(path)] = node.digest;
  }
  return out;
}

class Keeper {
 public:
  Keeper(const std::filesystem::path& folder, Progress& progress)
      : folder_(folder), progress_(progress), list_(folder / "list.jsonl") {
    list_.out() << json::left_behind_head();
  }

  // `again`: the same volume, read a second time.
  void volume(VolumeReader& reader, VolumeReader& again, unsigned number,
              const std::map<std::string, Digest>& recorded) {
    const FileTree& tree = reader.tree();
    // A folder that one of both didn't see would be left out without a word.
    if (const FileTree::Id id = tree::first_difference(tree, again.tree()); id != FileTree::none)
      throw differs(tree.path(id));
    for (FileTree::Id id = FileTree::root; id < tree.size(); ++id) {
      if (progress_.cancelled())
        throw Error(ErrorCode::cancelled, "stopped while the files were being read");
      json::LeftBehindItem item;
      item.partition = number;
      item.path = tree.path(id);
      if (tree.is_stream(id)) {
        const auto known = recorded.find(tree.path(id));
        stream(reader, id, item);
        require_same(known != recorded.end() ? known->second : digest_of(again, id), item);
        continue;
      }
      if (const FileTree::Id first = tree.link(id); first != FileTree::none) {
        item.what = "second-name";
        item.name = tree.path(first);
        add(item);
        continue;
      }
      const FileExtras extras = reader.extras(id);
      const FileExtras second = again.extras(id);
      if (extras.object_id != second.object_id || extras.permissions != second.permissions)
        throw differs(item.path);
      object_id(extras.object_id, item);
      permissions(extras.permissions, item);
    }
  }

  std::uint64_t finish() {
    list_.finish();
    return count_;
  }

 private:
  static Error differs(const std::string& path) {
    return {
        ErrorCode::device_read,
        "what is to be kept in the case was read twice, and differs",
        {.path = path},
        "Nothing was written. Don't trust this device, its cable or its adapter with a rewrite"};
  }
  static Digest digest_of(VolumeReader& reader, FileTree::Id id) {
    Sha256 sha;
    if (reader.tree().bytes(id) > 0)
      reader.read_contents(id, [&sha](ByteView bytes) { sha.add(bytes); });
    return sha.finish();
  }
  void require_same(const Digest& wanted, const json::LeftBehindItem& item) const {
    if (item.digest != wanted) throw differs(item.path);
    require_kept(item);
  }
  // Read back from the case.
  void require_kept(const json::LeftBehindItem& item) const {
    std::ifstream in(folder_ / item.file, std::ios::binary);
    Sha256 sha;
    std::array<char, 65536> piece;
    while (in.read(piece.data(), piece.size()), in.gcount() > 0)
      sha.add({reinterpret_cast<const std::uint8_t*>(piece.data()),
               static_cast<std::size_t>(in.gcount())});
    if (sha.finish() == item.digest) return;
    throw Error(ErrorCode::file, "the case doesn't hold what was written into it",
                {.path = (folder_ / item.file).string()},
                "Nothing was written to the disk. Name a case folder on a medium that works");
  }

  void add(const json::LeftBehindItem& item) {
    ++count_;
    list_.out() << json::left_behind_line(item);
  }

  [[nodiscard]] std::string next_file() { return fmt::format("{:06}", ++files_); }

  // A node "file:stream", "file:$REPARSE_POINT" or "file:$EA".
  void stream(VolumeReader& reader, FileTree::Id id, json::LeftBehindItem& item) {
    const std::size_t colon = item.path.rfind(':');
    item.name = item.path.substr(colon + 1);
    item.path.resize(colon);
    item.what = item.name == "$REPARSE_POINT" ? "reparse-point"
                : item.name == "$EA"          ? "extended-attributes"
                                              : "stream";
    if (item.what != "stream") item.name.clear();
    item.bytes = reader.tree().bytes(id);
    item.file = next_file();
    base::WholeFile file(folder_ / item.file);
    Sha256 sha;
    if (item.bytes > 0) {
      reader.read_contents(id, [&](ByteView bytes) {
        sha.add(bytes);
        file.out().write(reinterpret_cast<const char*>(bytes.data()),
                         static_cast<std::streamsize>(bytes.size()));
      });
    }
    file.finish();
    item.digest = sha.finish();
    add(item);
  }

  // Many files have the same ones.
  void permissions(const Bytes& bytes, json::LeftBehindItem& item) {
    if (bytes.empty()) return;
    item.what = "permissions";
    item.bytes = bytes.size();
    item.digest = Sha256::of(bytes);
    std::string& file = descriptors_[item.digest.hex()];
    if (file.empty()) {
      file = next_file();
      base::write_whole_file(folder_ / file,
                             {reinterpret_cast<const char*>(bytes.data()), bytes.size()});
    }
    item.file = file;
    require_kept(item);
    add(item);
  }

  void object_id(const Bytes& bytes, json::LeftBehindItem item) {
    if (bytes.empty()) return;
    item.what = "object-id";
    for (const std::uint8_t b : bytes) item.name += fmt::format("{:02x}", b);
    add(item);
  }

  std::filesystem::path folder_;
  Progress& progress_;
  base::WholeFile list_;
  std::map<std::string, std::string> descriptors_;  // files, by hash
  std::uint64_t files_ = 0;
  std::uint64_t count_ = 0;
};

bool had_extras(const tree::Recording& recorded, std::uint64_t start) {
  const auto& volumes = recorded.volumes();
  return std::any_of(volumes.begin(), volumes.end(), [start](const tree::RecordedVolume& v) {
    return v.start == start && base::traits_of(v.info.kind).keeps_extras;
  });
}

}  // namespace

std::uint64_t keep_left_behind(const Run& run, const tree::Recording& recorded) {
  const auto& [device, assessment, options, folder, progress] = run;
  std::optional<Keeper> keeper;
  for (const Step& step : assessment.steps) {
    const VolumeChange* change = step.volume();
    if (change == nullptr || base::traits_of(change->to).keeps_extras ||
        !base::traits_of(change->from).keeps_extras)
      continue;
    // A volume that is NTFS only on the way has nothing that FAT can't hold. The recording says
    // so, not one more read, which may be wrong.
    if (!had_extras(recorded, change->place.first)) continue;
    const Window window(device, change->place);
    const auto reader = open_volume(window, options.read);
    if (reader == nullptr || reader->info().kind != change->from)
      throw Error(ErrorCode::device_read,
                  fmt::format("the volume was {} when it was recorded, and isn't read as {} now",
                              title_of(change->from), title_of(change->from)),
                  {.subject = device.identity().path, .sector = change->place.first},
                  "Nothing was written. Check memory, cable and adapter, then begin anew");
    progress.stage("keeping", 0);
    if (!keeper) {
      const auto path = folder.file("left-behind");
      std::filesystem::create_directory(path);
      std::filesystem::permissions(path, std::filesystem::perms::owner_all);
      base::sync_folder(path.parent_path());
      keeper.emplace(path, progress);
    }
    const auto again = open_volume(window, options.read);
    if (again == nullptr)
      throw Error(ErrorCode::device_read, "the volume can't be opened a second time",
                  {.subject = device.identity().path, .sector = change->place.first});
    keeper->volume(*reader, *again, change->number,
                   recorded_streams(recorded, change->place.first));
  }
  return keeper ? keeper->finish() : 0;
}

std::uint64_t count_left_behind(const std::filesystem::path& folder) {
  std::ifstream list(folder / "left-behind" / "list.jsonl");
  std::uint64_t lines = 0;
  for (std::string line; std::getline(list, line);) ++lines;
  return lines == 0 ? 0 : lines - 1;  // the first one names the form
}

}  // namespace nuvrat::job
