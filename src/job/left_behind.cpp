#include "job/left_behind.h"

#include <fstream>
#include <map>

#include <fmt/core.h>

#include <nuvrat/volume.h>

#include "base/whole_file.h"
#include "json/left_behind.h"

namespace nuvrat::job {
namespace {

class Keeper {
 public:
  Keeper(const std::filesystem::path& folder, Progress& progress)
      : folder_(folder), progress_(progress), list_(folder / "list.jsonl") {
    list_.out() << json::left_behind_head();
  }

  void volume(VolumeReader& reader, unsigned number) {
    const FileTree& tree = reader.tree();
    for (FileTree::Id id = FileTree::root; id < tree.size(); ++id) {
      if (progress_.cancelled())
        throw Error(ErrorCode::cancelled, "stopped while the files were being read");
      json::LeftBehindItem item;
      item.partition = number;
      item.path = tree.path(id);
      if (tree.is_stream(id)) {
        stream(reader, id, item);
        continue;
      }
      if (const FileTree::Id first = tree.link(id); first != FileTree::none) {
        item.what = "second-name";
        item.name = tree.path(first);
        add(item);
        continue;
      }
      const FileExtras extras = reader.extras(id);
      object_id(extras.object_id, item);
      permissions(extras.permissions, item);
    }
  }

  std::uint64_t finish() {
    list_.finish();
    return count_;
  }

 private:
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

}  // namespace

std::uint64_t keep_left_behind(const Device& device, const Assessment& assessment,
                               const ReadOptions& options, const Case& folder, Progress& progress) {
  std::optional<Keeper> keeper;
  for (const Step& step : assessment.steps) {
    const VolumeChange* change = step.volume();
    if (change == nullptr || !is_fat(change->to) || change->from != VolumeKind::ntfs) continue;
    const Window window(device, change->place);
    const auto reader = open_volume(window, options);
    // A volume that is NTFS only on the way has nothing that FAT can't hold.
    if (reader == nullptr || reader->info().kind != VolumeKind::ntfs) continue;
    progress.stage("keeping", 0);
    if (!keeper) {
      const auto path = folder.file("left-behind");
      std::filesystem::create_directory(path);
      std::filesystem::permissions(path, std::filesystem::perms::owner_all);
      base::sync_folder(path.parent_path());
      keeper.emplace(path, progress);
    }
    keeper->volume(*reader, change->number);
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
