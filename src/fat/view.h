#pragma once
// A volume as it is seen with one copy of its FAT: its folders, and where files are.

#include <optional>
#include <set>
#include <string>
#include <vector>

#include <nuvrat/volume.h>

#include "base/finding_log.h"
#include "fat/copies.h"
#include "fat/directory.h"
#include "fat/fat_map.h"

namespace nuvrat::fat {

class View {
 public:
  /// Reads that copy, and the root folder. The device must outlive it. Throws Error (device_read).
  View(const Device& device, const ReadOptions& options, const Geometry& geometry,
       std::uint32_t copy);
  View(const View&) = delete;
  View& operator=(const View&) = delete;

  /// Reads every folder, once. What breaks a rule is left out, and named.
  void walk();

  [[nodiscard]] const Map& map() const { return map_; }
  [[nodiscard]] std::string label() const;
  [[nodiscard]] const Findings& findings() const { return log_.kept(); }
  [[nodiscard]] FileTree& tree() { return tree_; }
  [[nodiscard]] std::vector<LeftOut>& left_out() { return left_out_; }
  [[nodiscard]] const Agreement& agreement() const { return agreement_; }
  void note(Rule code, Severity severity, std::optional<std::uint64_t> sector, std::string text,
            bool repairable = false) {
    add_finding(code, severity, {sector, {}, FileTree::root}, std::move(text), repairable);
  }
  [[nodiscard]] SectorRange sectors_of(ClusterRange r) const {
    return {geometry_.cluster_start(r.first) * ratio_,
            std::uint64_t{r.count} * geometry_.cluster_sectors * ratio_};
  }

 private:
  struct Folder {
    FileTree::Id id;
    std::uint32_t cluster;  // 0: the fixed root
    std::size_t path_units;
    Agreement::Entry entry;  // that names it
  };
  struct Spot {
    std::optional<std::uint64_t> sector;  // of the device
    std::optional<std::uint64_t> record;  // an entry of its folder
    FileTree::Id node;
  };
  void add_finding(Rule code, Severity severity, const Spot& at, std::string text,
                   bool repairable = false);
  void leave_out(LeftOut what) {  // one more than the reader names, so that it says so
    if (left_out_.size() <= VolumeReader::max_left_out) left_out_.push_back(std::move(what));
  }
  [[nodiscard]] Folder root() const;
  void read_entries(const Folder& folder, std::uint64_t lba, ByteSpan out);
  Bytes read_folder(const Folder& folder);
  Bytes contents_of(const Folder& folder);
  void add_items(const Folder& folder, const DirectoryContents& contents, std::vector<Folder>& open,
                 std::set<std::uint32_t>& seen);
  void add_item(const Folder& folder, const DirectoryItem& item, std::vector<Folder>& open,
                std::set<std::uint32_t>& seen);
  void add_extents(FileTree::Id id, Agreement::Entry entry, const DirectoryItem& item);

  const Device& device_;
  CodePage page_;
  Zone zone_;
  bool short_names_;
  Geometry geometry_;
  std::uint32_t ratio_;
  Map map_;
  base::Budget chains_;
  Agreement agreement_;
  std::optional<Bytes> root_bytes_;  // read once: the walk begins with it
  FileTree tree_;
  base::FindingLog log_;
  std::vector<LeftOut> left_out_;
  SectorSet folder_sectors_;  // of the folders read so far
};

}  // namespace nuvrat::fat
