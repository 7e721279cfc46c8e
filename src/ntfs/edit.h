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
//
// What is asked for is an EditRequest. What the volume holds is read (edit_scan.cpp), then which
// records new files need (edit_files.cpp); a Layouter finds a place for everything
// (edit_layout.cpp, edit_records.cpp); the Edit writes it (edit_write.cpp). Each is a value made
// from the ones before it: edit_parts.h.

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/time.h>

#include "ntfs/boot.h"
#include "ntfs/runs.h"
#include "tree/put_file.h"

namespace nuvrat::ntfs {

/// What is to become of a volume that is sound and closed. Clusters are counted as it does then.
struct EditRequest {
  std::vector<Run> vacate{};  ///< nothing lies there afterwards
  std::vector<Run> avoid{};   ///< nothing new is put there, either
  /// As many clusters: what lies beyond makes way, or $Bitmap and the list of bad clusters become
  /// longer. Not together with `front`.
  std::optional<std::uint64_t> clusters{};
  /// It begins so many clusters earlier, which are free, or avoided. $Boot lies in them, so they
  /// are boot_clusters() at least.
  std::uint64_t front = 0;
  std::optional<std::u16string> label{};  ///< "" for none; at most 32 UTF-16 units
  /// Each a new file, or new contents of one that is there, which keeps its names, times and
  /// permissions. Folders that aren't there are made; what is new has the permissions of the
  /// folder above it.
  std::vector<tree::PutFile> files{};
  Ticks made = 0;  ///< the times of what is new, where a file says none
};

/// Clusters of $Boot.
[[nodiscard]] std::uint64_t boot_clusters(const Geometry& geometry);

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
  std::uint64_t cluster = 0;  ///< fixed
  std::uint64_t needed = 0;   ///< room: clusters; records
  std::uint64_t free = 0;     ///< the same

  /// As a part of a sentence.
  [[nodiscard]] std::string text(std::uint64_t cluster_bytes) const;
};

struct EditOutput {
  /// Takes whole sectors, counted from the volume's first one.
  std::function<void(std::uint64_t sector, ByteView data)> write;
  /// Told what the sectors that follow are for.
  std::function<void(std::string_view what)> announce;
};

struct EditParts;

/// An edit that is laid out: everything has its place.
class Edit {
 public:
  explicit Edit(std::unique_ptr<const EditParts> parts);
  Edit(Edit&&) noexcept;
  Edit& operator=(Edit&&) noexcept;
  ~Edit();

  /// Of the volume as it is.
  [[nodiscard]] const Geometry& geometry() const;
  [[nodiscard]] std::uint64_t mft_lcn() const;
  [[nodiscard]] std::uint64_t mirror_lcn() const;
  /// Of the volume afterwards.
  [[nodiscard]] std::uint64_t clusters() const;
  /// Clusters written: moved contents, all shadows, a new boot area.
  [[nodiscard]] std::uint64_t written_clusters() const;
  [[nodiscard]] std::uint64_t free_clusters() const;
  [[nodiscard]] std::uint64_t moved_clusters() const;
  /// Files whose records had no room for their new runlists.
  [[nodiscard]] std::uint64_t rebuilt_files() const;

  /// Writes all shadows and moved contents, nothing twice. Of a volume that begins earlier all but
  /// its first sector.
  void write(const EditOutput& out) const;

 private:
  std::unique_ptr<const EditParts> parts_;
};

/// Finds a place for everything, or says what stands in the way. `device` must outlive the edit.
/// Throws Error: damaged; refused where a file's path leads over something else, or the file is
/// packed, encrypted or a link.
[[nodiscard]] std::variant<Edit, EditTrouble> lay_out(const Device& device, EditRequest request);

}  // namespace nuvrat::ntfs
