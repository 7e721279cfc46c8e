#pragma once
// Where everything of a new NTFS volume goes, decided before a byte of it is written.
//
// Files stay where they are. What NTFS adds goes into the free runs: first what is read before any
// runlist is known, in one piece, then the rest, the largest runs first. Which records need
// extensions depends on where things land, and how many records there are depends on that; so the
// plan is made again until both agree.

#include <map>
#include <vector>

#include <nuvrat/file_tree.h>
#include <nuvrat/sectors.h>

#include "ntfs/attribute.h"
#include "ntfs/index.h"
#include "ntfs/security.h"
#include "ntfs/upcase.h"
#include "tree/free_runs.h"

namespace nuvrat::ntfs {

struct Format {
  std::uint32_t sector_bytes = 512;
  std::uint64_t sectors = 0;  ///< of the partition, the one for the second boot sector included
  std::uint32_t cluster_sectors = 8;
  std::uint64_t serial = 0;
  std::uint64_t hidden_sectors = 0;
  std::u16string label;
  Ticks made = 0;                ///< the time that the system files bear
  std::vector<SectorRange> bad;  ///< sectors that nothing may use
  SectorSet free;                ///< sectors that may be written before the switch
  /// Those of them that share no physical sector with anything else: taken where they suffice.
  SectorSet apart;
};

/// Files of the system that lie in clusters.
enum class Stream { mft, mft_bitmap, mirror, log, attr_def, bitmap, upcase, security };
inline constexpr std::size_t stream_count = 8;

class Plan {
 public:
  /// The tree must outlive the plan.
  Plan(const FileTree& tree, const Format& format);

  [[nodiscard]] bool fits() const { return missing_ == 0 && !in_pieces(); }
  [[nodiscard]] std::uint64_t needed_clusters() const { return needed_; }
  [[nodiscard]] std::uint64_t free_clusters() const { return free_; }
  /// There is room, but in pieces too small: for the first records of $MFT or its mirror, which lie
  /// in one; for records, none of which lies in two runs; for $LogFile, $Bitmap and $UpCase, which
  /// may lie in no more than their records can name.
  [[nodiscard]] bool in_pieces() const {
    return needed_ <= free_ && (missing_ > 0 || split_start_ || !in_many_.empty());
  }
  /// What must lie in one piece: the first records of $MFT, in bytes.
  [[nodiscard]] std::uint64_t start_bytes() const { return start_bytes_; }
  /// A free run of so many clusters is room for all that can't lie in pieces.
  [[nodiscard]] std::uint64_t whole_clusters() const;
  [[nodiscard]] std::uint64_t cluster_bytes() const { return cluster_bytes_; }
  [[nodiscard]] std::uint64_t clusters() const { return clusters_; }
  [[nodiscard]] std::uint64_t log_bytes() const { return log_bytes_; }
  [[nodiscard]] std::uint64_t records() const { return records_; }

  struct Move {
    std::uint64_t from, to;  ///< clusters
  };
  [[nodiscard]] const std::vector<Move>& moves() const { return moves_; }

  /// What a record is made for: a node of the tree, or a record of the system after them.
  using Entity = std::uint32_t;
  [[nodiscard]] Entity system(std::uint32_t record) const {
    return static_cast<Entity>(tree_.size()) + record;
  }
  [[nodiscard]] bool is_system(Entity e) const { return e >= tree_.size(); }
  [[nodiscard]] std::uint64_t record_of_node(FileTree::Id id) const;
  [[nodiscard]] std::uint64_t reference_of(Entity e) const;
  [[nodiscard]] std::uint64_t first_node_record() const { return first_node_; }

  /// A file that needs extension records.
  struct Extended {
    Runs list;
    std::uint64_t first_extension = 0;
    std::size_t extensions = 0;
  };
  struct Folder {
    std::size_t blocks = 0;
    Runs runs;
  };
  [[nodiscard]] const std::map<Entity, Extended>& extended() const { return extended_; }
  [[nodiscard]] const std::map<FileTree::Id, Folder>& folders() const { return folders_; }
  [[nodiscard]] const Runs& runs(Stream s) const { return runs_[static_cast<std::size_t>(s)]; }
  [[nodiscard]] std::uint64_t size(Stream s) const { return sizes_[static_cast<std::size_t>(s)]; }

  [[nodiscard]] const FileTree& tree() const { return tree_; }
  [[nodiscard]] const Format& format() const { return format_; }
  [[nodiscard]] const RecordPacker& packer() const { return packer_; }
  [[nodiscard]] const SecurityStreams& security() const { return security_; }
  [[nodiscard]] const UpCase& upcase() const { return upcase_; }
  [[nodiscard]] std::uint64_t boot_clusters() const;
  [[nodiscard]] std::uint64_t index_unit() const;
  [[nodiscard]] std::vector<Run> bad_runs() const;

  /// Runs of a file's contents, without what its chain has after its end.
  [[nodiscard]] Runs contents_of(FileTree::Id id) const;
  /// Every cluster that the finished volume uses, in order, joined.
  [[nodiscard]] Runs used() const;

 private:
  // The order in which large pieces are handed out, after the first records and the mirror.
  enum class Order {
    whole_mft,     // all of $MFT in one, then what must lie in few
    few_first,     // what must lie in few, then the rest of $MFT
    records_first  // the rest of $MFT, no record of which lies in two runs
  };
  [[nodiscard]] std::size_t index_blocks(FileTree::Id id) const;
  void plan_folders();
  void plan_moves();
  void lay_out(std::uint64_t log_bytes, tree::FreeRuns& room);
  bool attempt(tree::FreeRuns& room, Order order, std::uint64_t& mft_extensions,
               std::uint64_t& other_extensions);
  void place_start(Order order, std::uint64_t mft_extensions, tree::FreeRuns& room);
  std::size_t make_extended(Entity e, std::uint64_t first_extension, tree::FreeRuns& room);
  void place(Stream s, std::uint64_t bytes, tree::FreeRuns& room);
  void place_in_few(Stream s, std::uint64_t bytes, tree::FreeRuns& room);
  void set(Stream s, std::uint64_t bytes, Runs runs);

  const FileTree& tree_;
  Format format_;
  std::uint64_t cluster_bytes_;
  std::uint64_t clusters_;
  RecordPacker packer_;
  UpCase upcase_;
  SecurityStreams security_;
  std::uint64_t log_bytes_ = 0;
  std::uint64_t first_node_ = 64;
  std::uint64_t records_ = 0;
  std::uint64_t needed_ = 0;
  std::uint64_t free_ = 0;
  std::uint64_t missing_ = 0;  // of those needed, in pieces that would do
  bool split_start_ = false;
  std::vector<Stream> in_many_;  // whose records can't name so many pieces
  std::uint64_t start_bytes_ = 0;
  Runs taken_;
  std::vector<Move> moves_;
  std::map<Entity, Extended> extended_;
  std::map<FileTree::Id, Folder> folders_;
  Runs runs_[stream_count];
  std::uint64_t sizes_[stream_count] = {};
};

/// What every record of a file begins with: STANDARD_INFORMATION and its names.
[[nodiscard]] std::vector<Attribute> head_attributes_of(const Plan& plan, Plan::Entity entity);
/// Attributes of a record, sorted by type and name.
[[nodiscard]] std::vector<Attribute> attributes_of(const Plan& plan, Plan::Entity entity);
[[nodiscard]] RecordHead head_of(const Plan& plan, Plan::Entity entity);

/// One name in a folder: the entity and which of its names.
struct NameOf {
  Plan::Entity entity = 0;
  bool short_one = false;
};
/// The names in a folder, in the order of its index.
[[nodiscard]] std::vector<NameOf> sorted_names(const Plan& plan, Plan::Entity folder);
/// Bytes of the index entry for a name.
[[nodiscard]] std::uint32_t name_entry_bytes(const Plan& plan, NameOf name);
[[nodiscard]] std::vector<IndexItem> folder_items(const Plan& plan, Plan::Entity folder);

/// Names that only the system may use in the root folder.
[[nodiscard]] const std::vector<std::u16string>& reserved_root_names();

}  // namespace nuvrat::ntfs
