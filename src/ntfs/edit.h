#pragma once
// The one way to change a live NTFS volume: by shadows.
//
// Nothing of the volume is overwritten. Clusters that have to move, and those whose contents
// change, are written to free ones; the runlists of their records then name the new places. The
// records lie in $MFT, so their clusters change, too, and get shadows; record 0 names these; and
// the boot sector names record 0. With its write the volume is the new one, at once.
//
// So an edit is a map of clusters from old places to new ones, and a few clusters with other
// contents on the way: records, $Bitmap, $MFT's bitmap, the mirror. What stays of $MFT stays where
// it is, and its runlist mixes old clusters and new ones; where that runlist would not fit into its
// record, all of $MFT is written anew, in as few pieces as there are.
//
// A volume that begins earlier is the same edit: every cluster has a number that is larger by a
// constant, so all of $MFT is written anew, and no contents move. Everything here counts clusters
// as the new volume does; only what is read from the old one is counted as that does.

#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/sectors.h>

#include "ntfs/attribute.h"
#include "ntfs/cluster_map.h"
#include "ntfs/index.h"
#include "ntfs/raw_record.h"
#include "ntfs/upcase.h"
#include "ntfs/volume.h"
#include "tree/free_runs.h"
#include "tree/put_file.h"

namespace nuvrat::ntfs {

/// Why an edit can't be done.
struct EditTrouble {
  enum class Kind {
    fixed,        ///< a cluster in the way that can't move: of $Boot, or a bad one
    room,         ///< clusters are missing
    pieces,       ///< there is room, but in pieces too small
    records,      ///< a file needs a record more, and none is free
    new_records,  ///< new files and folders need records, and too few are free
  };
  Kind kind = Kind::room;
  std::uint64_t cluster = 0;           ///< fixed
  std::uint64_t needed = 0, free = 0;  ///< room: clusters; records

  /// As a part of a sentence.
  [[nodiscard]] std::string text(std::uint64_t cluster_bytes) const;
};

struct EditOutput {
  /// Takes whole sectors, counted from the volume's first one.
  std::function<void(std::uint64_t sector, ByteView data)> write;
  /// Told what the sectors that follow are for.
  std::function<void(std::string_view what)> announce;
};

class Edit {
 public:
  /// The volume must be sound, and closed. `device` must outlive the edit. Throws Error (damaged).
  explicit Edit(const Device& device);

  /// Nothing lies in these clusters afterwards.
  void vacate(Run clusters);
  /// Nothing new is put there, either.
  void avoid(Run clusters);
  /// The volume has this many clusters afterwards: what lies beyond makes way, or $Bitmap and the
  /// list of bad clusters become longer.
  void resize(std::uint64_t clusters);
  /// The volume begins this many clusters earlier, which are free, or avoided. $Boot lies in them,
  /// so they are boot_clusters() at least. Before all others: clusters are counted from there.
  void extend_front(std::uint64_t clusters);
  /// The volume's label; "" for none. At most 32 UTF-16 units.
  void relabel(std::u16string label);

  /// A file with these contents: a new one, or new contents of one that is there, which keeps its
  /// names, times and permissions. Folders that aren't there are made; what is new has the
  /// permissions of the folder above it, and `made` as its times. lay_out() throws Error (refused)
  /// where the path leads over something else, or the file is packed, encrypted or a link.
  void put(tree::PutFile file, Ticks made);

  /// Finds a place for everything. What stands in the way, or none.
  [[nodiscard]] std::optional<EditTrouble> lay_out();

  [[nodiscard]] const Geometry& geometry() const { return volume_.geometry(); }
  [[nodiscard]] std::uint64_t boot_clusters() const { return boot_clusters_; }
  [[nodiscard]] std::uint64_t mft_lcn() const { return mft_lcn_; }
  [[nodiscard]] std::uint64_t mirror_lcn() const { return mirror_lcn_; }
  /// Of the volume afterwards.
  [[nodiscard]] std::uint64_t clusters() const { return clusters_; }
  /// Clusters written: moved contents, all shadows, a new boot area.
  [[nodiscard]] std::uint64_t written_clusters() const {
    return room_->used() + (front_ > 0 ? boot_clusters_ : 0);
  }
  [[nodiscard]] std::uint64_t free_clusters() const { return room_->capacity(); }
  [[nodiscard]] std::uint64_t moved_clusters() const { return moved_; }
  /// Files whose records had no room for their new runlists.
  [[nodiscard]] std::uint64_t rebuilt_files() const { return lists_.size(); }

  /// Writes all shadows and moved contents, nothing twice. Of a volume that begins earlier all but
  /// its first sector.
  void write(const EditOutput& out) const;

 private:
  // A part of $MFT that is never in two runs: a record, or a cluster of several.
  struct Units {
    std::uint64_t clusters = 1;  // in one
    std::uint64_t records = 1;
    std::uint64_t count = 0;  // all
  };
  // Attributes whose contents change with every edit, and the records that hold parts of them.
  struct SystemStream {
    Runs runs;
    std::uint64_t size = 0;
    std::set<std::uint64_t> records;
    bool resident = false;
  };

  // Neighbouring clusters of an attribute that are written elsewhere, by their place in it.
  struct Shadow {
    std::uint64_t vcn = 0;
    std::uint64_t count = 0;
    Runs to;
  };
  using Shadows = std::vector<Shadow>;
  using MaybeTrouble = std::optional<EditTrouble>;

  [[nodiscard]] bool resized() const { return clusters_ != geometry().clusters(); }
  // What the old volume ends with, as the new one counts.
  [[nodiscard]] std::uint64_t old_end() const { return front_ + geometry().clusters(); }
  [[nodiscard]] Runs counted_anew(Runs runs) const;
  [[nodiscard]] Runs as_before(Runs runs) const;
  template <typename Visit>
  void each_owner(Visit visit);
  void scan();
  void scan_record(std::uint64_t number, ByteView record);
  [[nodiscard]] SystemStream* system_stream_of(std::uint64_t base, const RawAttribute& attribute);

  // A record whose file gets new contents, or whose folder a new index, or that is new.
  struct Put {
    bool is_new = false;
    bool folder = false;
    bool changed = false;          // of a folder: not only on the way
    RecordHead head;               // of a new one
    std::vector<Attribute> first;  // of a new one: what comes before its contents
    std::uint32_t security = 0;    // its number in $Secure
    std::size_t file = 0;          // of a file: which one
    // Of a file that gets another size: the folder whose index says so, too.
    std::optional<std::uint64_t> sized_in{};
    std::vector<IndexItem> names{};  // of a folder, in the order of its index
    // Where its contents lie, as laid out.
    Runs runs{};
    Bytes blocks{};  // of a folder
    Bytes root{};
  };
  void find_system_streams();
  void find_files();
  Put& open_folder(std::uint64_t number);
  [[nodiscard]] const IndexItem* find_name(const Put& folder, std::u16string_view name) const;
  std::uint64_t add_new(std::uint64_t parent, std::u16string_view name, bool folder,
                        std::uint32_t attributes, std::uint64_t size, Ticks made);
  void replace_contents(std::uint64_t number, std::uint64_t parent, std::size_t file);
  void set_size(Bytes& key, std::uint64_t size) const;
  [[nodiscard]] bool is_put(std::uint64_t base, std::uint32_t type, std::u16string_view name) const;
  void place_files();
  void shape_folder(std::uint64_t number, Put& folder);
  void put_contents(const Put& put, std::vector<Attribute>& attributes) const;

  // How an edit is tried: each way costs more than the one before.
  struct Way {
    bool whole_mft = false;     // all of $MFT anew, rather than a mixture
    bool whole_bitmap = false;  // the same of $Bitmap
    bool list = false;          // $MFT may have an attribute list
  };
  MaybeTrouble attempt(const Way& way);
  void move_contents();
  void move_runs(const Runs& from, const Runs& to);
  MaybeTrouble make_room_in_records();
  MaybeTrouble rebuild(std::uint64_t base, std::uint64_t first_free, std::uint64_t end_free);
  /// Where records may be taken.
  struct FreeRecords {
    std::uint64_t first, end;
  };
  MaybeTrouble pack_with_room(const RecordHead& head, const std::vector<Attribute>& attributes,
                              FreeRecords free, std::vector<std::uint64_t>& references, Runs& list,
                              PackedFile& packed);
  [[nodiscard]] Bytes unused_record(std::uint64_t reference) const;
  MaybeTrouble place_start(bool whole);
  MaybeTrouble place_new_bitmap();
  void place_mft(bool whole);
  MaybeTrouble place_mirror();
  void place_mft_bitmap(bool beginning);
  void place_bitmap(bool whole);
  void add_shadow(const Runs& runs, Shadow shadow, Shadows& to);
  void note_move(const ClusterMove& move);
  [[nodiscard]] Runs runs_after(std::uint64_t base, const Runs& runs) const;
  [[nodiscard]] std::optional<Bytes> patched(std::uint64_t number, ByteView record) const;
  [[nodiscard]] bool all_fit() const;
  [[nodiscard]] Bytes sound_record(std::uint64_t number) const;
  [[nodiscard]] std::optional<std::uint64_t> take_record(std::uint64_t from, std::uint64_t end);
  [[nodiscard]] std::vector<Attribute> moved_attributes(std::uint64_t base, ByteView record) const;
  void change_attributes(std::uint64_t base, std::vector<Attribute>& attributes) const;
  [[nodiscard]] EditTrouble no_pieces() const;

  [[nodiscard]] Bytes final_record(std::uint64_t number, ByteView raw) const;
  void write_boot_area(const EditOutput& out) const;
  void write_contents(const EditOutput& out) const;
  void write_mft(const EditOutput& out) const;
  void write_mirror(const EditOutput& out) const;
  void write_bitmap(const EditOutput& out) const;
  void write_new_bitmap(const EditOutput& out) const;
  void read_old_bits(const RunMap& bitmap, std::uint64_t first, ByteSpan out) const;
  void write_mft_bitmap(const EditOutput& out) const;
  void put(const EditOutput& out, const Runs& to, ByteView data) const;

  const Device& device_;
  Volume volume_;
  std::uint64_t cluster_bytes_, record_bytes_, boot_clusters_;
  RecordPacker packer_;
  Units units_;
  SectorSet vacate_, avoid_;  // clusters
  std::uint64_t clusters_;
  std::uint64_t front_ = 0;  // clusters
  Geometry widest_;          // as large as the volume is, before or after
  std::optional<std::u16string> label_;
  std::vector<std::pair<tree::PutFile, Ticks>> files_;

  // What the scan found.
  SectorSet owned_;  // clusters
  Runs in_the_way_;
  std::map<std::uint64_t, Runs> early_in_the_way_;  // of records that can't grow, in their order
  std::set<std::uint64_t> owners_;                  // records with runs in the way
  std::optional<std::uint64_t> fixed_;
  std::multimap<std::uint64_t, std::uint64_t> extensions_;  // by base record
  SystemStream mft_, mft_bitmap_, mirror_, bitmap_;
  Runs boot_;         // of $Boot, in either volume by its own count
  Bytes record_use_;  // $MFT's bitmap

  // Which records the files need, by number.
  std::map<std::uint64_t, Put> puts_;
  std::map<std::uint64_t, bool> put_bits_;  // of $MFT's bitmap
  std::optional<UpCase> upcase_;
  std::optional<EditTrouble> no_records_;

  // The layout.
  std::optional<tree::FreeRuns> room_;
  ClusterMap map_;
  std::vector<ClusterMove> contents_;
  Shadows of_mft_, of_bitmap_, of_mft_bitmap_;
  Run new_mirror_;
  Runs new_bitmap_;                            // of another length
  std::set<std::uint64_t> changed_;            // records with other runs
  std::map<std::uint64_t, Bytes> made_;        // records made anew, without update sequence
  std::map<std::uint64_t, bool> record_bits_;  // of $MFT's bitmap, that change
  std::vector<std::pair<Runs, Bytes>> lists_;  // contents of attribute lists
  SectorSet taken_, given_;                    // clusters that become used, free
  std::uint64_t mft_lcn_ = 0, mirror_lcn_ = 0, moved_ = 0;
};

}  // namespace nuvrat::ntfs
